"""Long random jobs: what was measured stays, what is carried stays with its triangle, every step comes back."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tests.seeds import share
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import Job, fit_to_format
from tinsnip.job.keeping import Keeper
from tinsnip.mesh import MADE, MEASURED, Attribute, Domain, Mesh
from tinsnip.progress import Progress
from tinsnip.space.tree import closest_points
from tinsnip.treat import (
    Context,
    Mend,
    Orient,
    Patch,
    Plinth,
    Reduce,
    Scale,
    Smooth,
    StraightSnip,
    Sweep,
    Treatment,
    Turn,
    TurnInsideOut,
    Weld,
)


def marked(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """A mesh on which every vertex has its own colour, every triangle its number, every corner both."""
    shade = rng.choice(256**3, len(mesh.vertices), replace=False)
    shade = np.stack([shade >> 16, shade >> 8 & 255, shade & 255], 1).astype(np.uint8)
    corners = np.arange(3 * len(mesh.faces), dtype=float).reshape(-1, 1)
    mesh = mesh.with_attribute("colour", Attribute(Domain.VERTEX, shade))
    mesh = mesh.with_attribute("number", Attribute(Domain.TRIANGLE, np.arange(len(mesh.faces))))
    return mesh.with_attribute("corner", Attribute(Domain.CORNER, corners))


def some_treatment(mesh: Mesh, rng: np.random.Generator) -> Treatment:
    """A treatment with parameters in the range that a technician would use on the mesh."""
    middle, span = mesh.box.mean(axis=0), mesh.diagonal
    normal = rng.normal(size=3)
    normal /= np.linalg.norm(normal)
    offset = float(normal @ middle + rng.uniform(-0.2, 0.2) * span)
    choices = (
        lambda: Weld(),
        lambda: Mend(),
        lambda: Orient(),
        lambda: Sweep(chunks=str(rng.choice(["ask", "keep", "sweep"])), voids=bool(rng.integers(2))),
        lambda: StraightSnip(normal=tuple(normal), offset=offset, close=bool(rng.integers(2))),
        lambda: Patch(flow=float(rng.uniform(0, 1)), under_mm=float(rng.uniform(0.05, 1)) * span),
        lambda: Plinth(depth_mm=float(rng.uniform(0.01, 0.1)) * span),
        lambda: Smooth(iterations=int(rng.integers(1, 12))),
        lambda: Reduce(percent=float(rng.uniform(40, 95)), hold_rims=bool(rng.integers(2))),
        lambda: Turn(axis=tuple(normal), degrees=float(rng.uniform(-180, 180))),
        lambda: Scale(factor=float(10 ** rng.uniform(-1, 1))),
        lambda: TurnInsideOut(),
    )
    return choices[rng.integers(len(choices))]()


class RandomJobs(unittest.TestCase):
    def job(self, seed: int, budget: int | None = None) -> tuple[Job, np.random.Generator]:
        rng = np.random.default_rng(seed)
        make = (specimens.sphere, specimens.torus, specimens.bored_box)[seed % 3]
        specimen = make(10.0 ** rng.uniform(-0.5, 3.5), 40 + 12 * (seed % 4))
        raw = marked(specimens.damage(specimen, rng, hole_radius=0.08).mesh, rng)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        job = Job(Keeper(budget, Path(folder.name) / "steps.snipjob"))
        job.open(Scan(Path("scan.ply"), raw, "ply", "mm", ""))
        return job, rng

    def treat(self, job: Job, treatment: Treatment) -> bool:
        try:
            job.apply(treatment, Context(raw=job.piece.raw))
        except BadInput as refusal:
            self.assertNotIn("\n", str(refusal))
            return False
        return True

    def carried_rightly(self, job: Job, treatment: Treatment) -> None:
        """Every triangle that is called measured is one of the raw scan, with all that belongs to it."""
        raw, mesh = job.piece.raw, job.piece.mesh
        back = np.linalg.inv(job.piece.frame)
        own = np.flatnonzero(mesh.provenance == MEASURED)
        number = mesh.attributes["number"].values[own]
        there = mesh.vertices[mesh.faces[own]] @ back[:3, :3].T + back[:3, 3]
        whole = raw.vertices[raw.faces[number]]
        slack = 1e-7 * raw.diagonal
        points = np.concatenate([there.reshape(-1, 3), there.mean(axis=1)])
        on = closest_points(raw.tree, np.ascontiguousarray(points), Progress().state)[0]
        self.assertLess(on.max(initial=0.0), slack, treatment)
        # and in the box of the very triangle it says it was; but for caps, which take a neighbour's place when mended
        beyond = np.maximum(whole.min(axis=1, keepdims=True) - there, there - whole.max(axis=1, keepdims=True))
        self.assertGreater((beyond.max(axis=(1, 2)) < slack).mean() if len(own) else 1.0, 0.998, treatment)
        # a corner that is a corner of the raw triangle has the colour that the scan has there
        near = np.linalg.norm(there[:, :, None] - whole[:, None], axis=3)
        which = near.argmin(axis=2)
        same = near.min(axis=2) < slack
        colour = mesh.colour[mesh.faces[own]]
        expected = raw.colour[np.take_along_axis(raw.faces[number], which, axis=1)]
        agree = (colour == expected).all(axis=2)
        self.assertGreater(agree[same].mean() if same.any() else 1.0, 0.999)
        # attributes are as long as what they belong to
        self.assertEqual(len(mesh.attributes["corner"].values), 3 * len(mesh.faces))
        self.assertEqual(len(mesh.provenance), len(mesh.faces))

    def test_what_is_called_measured_was_measured(self) -> None:
        done, taken = 0, share(range(12), self.id(), 3)
        for seed in taken:
            job, rng = self.job(seed)
            for treatment in (Weld(), Mend(), Orient()):
                self.treat(job, treatment)
            for _ in range(9):
                with self.subTest(seed=seed, steps=[s.action.name for s in job.log]):
                    treatment = some_treatment(job.piece.mesh, rng)
                    made_before = int((job.piece.mesh.provenance == MADE).sum())
                    if not self.treat(job, treatment):
                        continue
                    done += 1
                    mesh = job.piece.mesh
                    self.carried_rightly(job, treatment)
                    if treatment.name == "smooth":
                        self.assertLessEqual(int((mesh.provenance == MEASURED).sum()), len(mesh.faces))
                    if treatment.name in ("patch", "plinth"):
                        self.assertGreaterEqual(int((mesh.provenance == MADE).sum()), made_before)
                if len(job.piece.mesh.faces) < 50:
                    break
        self.assertGreater(done, 4 * len(taken))

    def test_every_step_comes_back_to_the_bit_whatever_the_memory(self) -> None:
        for seed, budget in ((20, 0), (21, 200_000), (22, 10**12)):
            job, rng = self.job(seed, budget)
            states = [None, (job.piece.mesh.vertices.tobytes(), job.piece.mesh.faces.tobytes())]
            for _ in range(60):
                act = rng.integers(4)
                if act == 0:
                    cursor = int(rng.integers(1, len(states)))
                    job.fetch(cursor)
                    self.assertTrue(job.is_at_hand(cursor))
                    job.go_to(cursor)
                elif act == 1 and job.cursor > 1:
                    job.undo()
                else:
                    at = job.cursor
                    if self.treat(job, some_treatment(job.piece.mesh, rng)) and job.cursor == at + 1:
                        states[at + 1 :] = [(job.piece.mesh.vertices.tobytes(), job.piece.mesh.faces.tobytes())]
                job.spill()
                self.assertEqual(len(states), len(job.log) + 1)
                mesh = job.piece.mesh
                self.assertEqual((mesh.vertices.tobytes(), mesh.faces.tobytes()), states[job.cursor])
                if len(mesh.faces) < 50:
                    job.go_to(1)
            # and out of the scanner's frame and back into it
            placed = job.piece.in_scanner_frame()
            frame = job.piece.frame
            again = placed.vertices @ frame[:3, :3].T + frame[:3, 3]
            self.assertLess(np.abs(again - job.piece.mesh.vertices).max(), 1e-9 * job.piece.mesh.diagonal + 1e-12)
            job.keeper.close()

    def test_treatments_that_cannot_find_more_to_do_change_nothing(self) -> None:
        for seed in share(range(6), self.id(), 2):
            job, _ = self.job(seed)
            for treatment in (Weld(), Mend(), Orient(), Sweep(), Patch(), Mend()):
                if not self.treat(job, treatment):
                    continue
                mesh = job.piece.mesh
                self.assertFalse(self.changes(job, treatment), treatment.name)
                self.assertIs(job.piece.mesh, mesh)

    def changes(self, job: Job, treatment: Treatment) -> bool:
        before = len(job.log)
        self.treat(job, treatment)
        return len(job.log) != before

    def test_a_file_of_single_precision_keeps_shape_and_solid(self) -> None:
        rng = np.random.default_rng(5)
        for make in (specimens.sphere, specimens.torus, specimens.bored_box):
            for far in (0.0, 3e4, 8e5):
                solid = make(40.0, 60).mesh
                mesh = solid.moved(solid.vertices + far * rng.normal(size=3))
                fitted = fit_to_format(mesh, "ply")
                self.assertEqual(specimens.closed_faults(fitted.vertices, fitted.faces), "")
                off, _ = cKDTree(mesh.vertices).query(fitted.vertices)
                self.assertLess(off.max(), 2e-7 * (np.abs(mesh.vertices).max() + 40))


if __name__ == "__main__":
    unittest.main()
