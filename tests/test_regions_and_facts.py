"""Regions are found again, facts are worked out once, and what hangs on corners stays where it belongs."""

import gc
import json
import tempfile
import threading
import time
import tracemalloc
import unittest
import weakref
from pathlib import Path

import numpy as np
from click.testing import CliRunner

from tests import specimens
from tinsnip.cli import cli
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import Job, fit_to_format, routine_of, save_job
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.boundary import boundary_loops
from tinsnip.mesh.remembered import is_known, remembered
from tinsnip.regions import Region, holes_in, region_of_holes, region_of_shells, shells_in
from tinsnip.survey import examine
from tinsnip.survey.deviation import telling_points
from tinsnip.treat import Context, Mend, Orient, Patch, Reduce, StraightSnip, Sweep, Turn, Weld
from tinsnip.treat.stand.moves import rotation


def shuffled(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """The same surface under other numbers."""
    order, triangles = rng.permutation(len(mesh.vertices)), rng.permutation(len(mesh.faces))
    number = np.argsort(order)
    return Mesh(mesh.vertices[order], number[mesh.faces[triangles]])


class Regions(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(2)
        damaged = specimens.damage(specimens.torus(80.0, 90), rng, hole_radius=0.1, pinches=0, flips=0, doubles=0)
        self.mesh = Orient().apply(Mend().apply(damaged.mesh, Context()).mesh, Context()).mesh
        self.rng = rng

    def test_an_area_is_found_on_its_own_mesh_and_on_another(self) -> None:
        mesh = self.mesh
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        near = np.linalg.norm(middles - middles[100], axis=1) < 12
        region = Region.of(mesh, near)
        again = Region.model_validate_json(region.model_dump_json())
        self.assertEqual(again, region)
        self.assertTrue(np.array_equal(again.resolve(mesh), near))
        for turn in (np.eye(3), rotation(np.array([1.0, 2.0, 0.5]), 67.0)):
            matrix = np.eye(4)
            matrix[:3, :3], matrix[:3, 3] = turn, [500.0, -20.0, 3.0]
            other = shuffled(mesh.moved(mesh.vertices @ turn.T + matrix[:3, 3]), self.rng)
            back = (other.vertices - matrix[:3, 3]) @ turn
            away = np.linalg.norm(back[other.faces].mean(axis=1) - middles[100], axis=1)
            found = region.moved(matrix).resolve(other)
            self.assertTrue(found[away < 11.5].all())
            self.assertFalse(found[away > 16].any())
        with self.assertRaises(BadInput) as refused:
            region.resolve(specimens.sphere(5.0, 10).mesh)
        self.assertIn("not on the part any more", str(refused.exception))

    def test_holes_and_shells_are_found_by_place_whatever_their_numbers(self) -> None:
        found = examine(self.mesh)
        holes = [f for f in found.openings if f.kind.value == "hole"]
        self.assertGreater(len(holes), 3)
        other = shuffled(self.mesh, self.rng)
        for mesh in (self.mesh, other):
            chosen = holes_in(mesh, region_of_holes(self.mesh, [f.key for f in holes[1::2]]))
            centres = {
                tuple(np.round(mesh.vertices[mesh.faces.ravel()[mesh.loops.loop(i)]].mean(axis=0), 6))
                for i in np.flatnonzero(chosen)
            }
            expected = {tuple(np.round(f.outline.mean(axis=0), 6)) for f in holes[1::2]}
            self.assertEqual(centres, expected)
            strays = found.strays[::3]
            chosen = shells_in(mesh, region_of_shells(self.mesh, [f.key for f in strays]))
            self.assertEqual(sorted(mesh.shells.triangles[chosen]), sorted(f.count for f in strays))
        self.assertFalse(holes_in(self.mesh, Region()).any())

    def test_steps_that_name_places_are_left_out_of_a_routine(self) -> None:
        job = Job()
        job.open(Scan(Path("ring.ply"), self.mesh, "ply", "mm", ""))
        found = examine(self.mesh)
        job.apply(Sweep(chunks="keep"))
        keys = [f.key for f in examine(job.piece.mesh).openings if f.kind.value == "hole"][:2]
        job.apply(Patch(holes=region_of_holes(job.piece.mesh, keys)))
        job.apply(Patch(under_mm=found.mesh.diagonal))
        job.apply(Turn(degrees=90))
        routine, left = routine_of(job, "again")
        self.assertEqual([s.treatment for s in routine.steps], ["sweep", "patch", "turn"])
        self.assertEqual(routine.steps[1].fields, {"under_mm": found.mesh.diagonal})
        self.assertEqual(len(left), 1)
        self.assertIn("step 3", left[0])
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "work.snipjob"
            save_job(job, path, {}).close()
            told = CliRunner().invoke(cli, ["routines", str(path)])
            self.assertEqual(told.exit_code, 0, told.output)
            self.assertEqual([s["name"] for s in json.loads(told.stdout)["steps"]], ["sweep", "patch", "turn"])
            self.assertIn("names places", told.stderr)
        with self.assertRaises(BadInput):
            job.go_to(1)
            routine_of(job, "none")


class Facts(unittest.TestCase):
    def test_a_fact_is_worked_out_once_and_holds_nothing_back(self) -> None:
        count = 0
        gate = threading.Event()

        @remembered
        def slow(mesh: Mesh) -> int:
            nonlocal count
            count += 1
            gate.wait(5)
            return len(mesh.faces)

        mesh = specimens.sphere(5.0, 10).mesh
        self.assertFalse(is_known(mesh, slow))
        answers: list[int] = []
        threads = [threading.Thread(target=lambda: answers.append(slow(mesh))) for _ in range(6)]
        for thread in threads:
            thread.start()
        time.sleep(0.1)
        gate.set()
        for thread in threads:
            thread.join()
        self.assertEqual((count, answers), (1, [len(mesh.faces)] * 6))
        self.assertTrue(is_known(mesh, slow))
        # another mesh's fact is not waited for, as one lock for all would have it
        other, begun = specimens.sphere(5.0, 12).mesh, time.perf_counter()
        gate.clear()
        waiting = threading.Thread(target=slow, args=(other,))
        waiting.start()
        self.assertIsNotNone(mesh.twins)
        self.assertLess(time.perf_counter() - begun, 4)
        gate.set()
        waiting.join()
        examine(other)
        gone = weakref.ref(other)
        collects = gc.isenabled()  # a window that was opened before has it collect in its own time
        gc.disable()
        try:
            del other, waiting
            self.assertIsNone(gone())
        finally:
            if collects:
                gc.enable()

    def test_each_edge_is_asked_about_once(self) -> None:
        ring = specimens.torus(30.0, 40).mesh
        points = telling_points(ring, np.arange(len(ring.faces)))
        edges = 3 * len(ring.faces) // 2
        self.assertEqual(len(points), len(ring.vertices) + edges + len(ring.faces))
        self.assertEqual(len(np.unique(points, axis=0)), len(points))
        some = np.arange(0, len(ring.faces), 3)
        pairs = np.sort(np.concatenate([ring.faces[some][:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
        expected = len(np.unique(ring.faces[some])) + len(np.unique(pairs, axis=0)) + len(some)
        self.assertEqual(len(telling_points(ring, some)), expected)

    def test_boundaries_take_memory_by_their_edges(self) -> None:
        ring = specimens.torus(30.0, 400).mesh
        mesh = Mesh(ring.vertices, np.delete(ring.faces, [5, 90000, 150000], axis=0))
        _ = mesh.twins
        boundary_loops(mesh.faces, mesh.twins, len(mesh.vertices))
        tracemalloc.start()
        loops = boundary_loops(mesh.faces, mesh.twins, len(mesh.vertices))
        _, peak = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        self.assertEqual(len(loops), 3)
        self.assertLess(peak, 12 * len(mesh.faces))

    def test_rounding_never_costs_a_shell(self) -> None:
        """What single precision ties into a knot is undone without sweeping what was there on purpose."""
        outer, ball = specimens.torus(60.0, 80).mesh, specimens.sphere(4.0, 40).mesh
        inner = specimens.sphere(5.0, 12).mesh  # within the tube
        reach = np.linalg.norm(outer.vertices[:, :2], axis=1)
        centre = np.array([0.5 * (reach.min() + reach.max()), 0.0, 0.0])
        vertices = np.concatenate([outer.vertices, inner.vertices + centre, ball.vertices + np.array([0, 0, 40.0])])
        first, second = len(outer.vertices), len(outer.vertices) + len(inner.vertices)
        faces = np.concatenate([outer.faces, inner.faces[:, ::-1] + first, ball.faces + second])
        knotted = 0
        for far in (3e4, 1.5e6, 4e6):
            mesh = Mesh(vertices + far * np.array([0.8, -0.5, 0.3]), faces)
            self.assertEqual(len(mesh.shells), 3)
            rounded = mesh.moved(mesh.vertices.astype(np.float32).astype(np.float64))
            knotted += examine(Weld().apply(rounded, Context()).mesh).tangles.total > 0
            fitted = fit_to_format(mesh, "stl")
            roles = examine(fitted).roles
            self.assertEqual(int(roles.void.sum()), 1, far)
            self.assertEqual(int(roles.crumb.sum() + roles.chunk.sum()), 1, far)
            self.assertEqual(fitted.edges.open, 0)
        self.assertGreater(knotted, 0)


class Corners(unittest.TestCase):
    def sheet(self, n: int = 24) -> Mesh:
        """A flat sheet of two charts, whose coordinates are those of the plane, the second's ten further on."""
        u, v = (a.ravel() for a in np.meshgrid(np.arange(n + 1.0), np.arange(n + 1.0)))
        corner = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).ravel()
        one = np.column_stack([corner, corner + 1, corner + n + 2])
        faces = np.concatenate([one, np.column_stack([corner, corner + n + 2, corner + n + 1])])
        vertices = np.column_stack([u, v, np.zeros(len(u))])
        return self.painted(Mesh(vertices, faces))

    @staticmethod
    def painted(mesh: Mesh) -> Mesh:
        second = mesh.vertices[mesh.faces][:, :, 0].mean(axis=1) > 12
        uv = mesh.vertices[mesh.faces][:, :, :2] + 100.0 * second[:, None, None]
        material = Attribute(Domain.TRIANGLE, second.astype(np.int32), ("one", "two"))
        mesh = mesh.with_attribute("material", material)
        return mesh.with_attribute("texture", Attribute(Domain.CORNER, uv.reshape(-1, 2), {}))

    def fits(self, mesh: Mesh, within: float) -> None:
        """Each corner's coordinates are those of its place, in the chart that its triangle's material names."""
        uv = mesh.attributes["texture"].values.reshape(-1, 3, 2)
        second = mesh.attributes["material"].values > 0
        off = np.abs(uv - 100.0 * second[:, None, None] - mesh.vertices[mesh.faces][:, :, :2]).max(axis=(1, 2))
        self.assertLess(np.quantile(off, 0.98), within)
        self.assertLess((off > 20).mean(), 0.004)  # of another chart

    def test_mended_caps_keep_their_texture(self) -> None:
        sheet = self.sheet()
        # a vertex put onto an edge gives a cap, as careless weldings do
        vertices, faces = list(map(tuple, sheet.vertices)), sheet.faces.tolist()
        rng = np.random.default_rng(0)
        for f in rng.choice(len(faces) // 2, 40, replace=False):
            a, b, c = faces[f]
            share = rng.uniform(0.2, 0.8)
            vertices.append(tuple((1 - share) * np.array(vertices[a]) + share * np.array(vertices[c])))
            m = len(vertices) - 1
            faces[f] = [a, b, m]
            faces += [[m, b, c], [a, m, c]]  # and the cap between
        mesh = self.painted(Mesh(np.array(vertices), np.array(faces)))
        self.assertGreater(examine(mesh).tangles.degenerate, 20)
        mended = Mend().apply(mesh, Context()).mesh
        self.assertEqual(examine(mended).tangles.degenerate, 0)
        self.assertGreaterEqual(len(mended.faces), len(mesh.faces) - 80)
        self.fits(mended, 1e-6)

    def test_reduced_triangles_keep_to_their_chart(self) -> None:
        sheet = self.sheet(60)
        bent = sheet.vertices.copy()
        bent[:, 2] = 0.4 * np.sin(bent[:, 0]) * np.cos(0.7 * bent[:, 1])
        mesh = sheet.moved(bent)
        for percent in (50, 15):
            less = Reduce(percent=percent).apply(mesh, Context()).mesh
            self.fits(less, 1.5)  # vertices move by less than the length of an edge
        cut = StraightSnip(normal=(1, 0.3, 0), offset=20.3).apply(less, Context()).mesh
        self.fits(cut, 2.5)


if __name__ == "__main__":
    unittest.main()
