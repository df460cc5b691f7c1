"""Whole shells, damaged at random in every way that can be mended, come back as what they were."""

import unittest
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from scipy.optimize import linprog
from scipy.spatial import ConvexHull, HalfspaceIntersection

from tests import specimens
from tests.exact_count import counted_exactly
from tests.hands import SCREEN, WindowTest
from tests.seeds import seeds
from tests.test_seams import in_patches
from tests.test_shapes import put, together
from tests.test_strays import rotation
from tests.test_untangle import folded_over
from tinsnip.formats import Scan, write_mesh
from tinsnip.job import load_routine
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.survey import examine
from tinsnip.survey.crossings import crossings_of
from tinsnip.survey.seams import open_edges_of
from tinsnip.survey.spikes import spikes_of
from tinsnip.treat import Context, Mend, MendCrossings, Merge, Orient, PullIn, Sweep, Weld, WeldSeams

if SCREEN:
    from PySide6.QtCore import QRect, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication, QWidget

PLACES = ((2.0, 0.0), (200.0, 0.0), (2000.0, 0.0), (200.0, 10_000.0))
"""Sizes in millimetres, and how far off the origin."""
SORTS = ("folds", "merged", "cracks", "flips", "doubles", "fins", "hanging", "nested")


@dataclass
class Hurt:
    """A damaged mesh, and what is to come back.

    Attributes
    ----------
    mesh, whole : Mesh
        As damaged, and as it was.
    lost : ndarray of bool
        Triangles of the whole within two rows of what was folded or merged, where it need not come back.
    shifted : ndarray of bool
        Those along seams that were drawn apart or whose edges were halved.
    moved : float
        By how much seams were drawn apart, mm.
    solids : list of Mesh
        The convex solids that cross, if any do.
    done : list of str
    """

    mesh: Mesh
    whole: Mesh
    lost: np.ndarray
    shifted: np.ndarray
    moved: float = 0.0
    solids: list[Mesh] = field(default_factory=list)
    done: list[str] = field(default_factory=list)


def as_held(mesh: Mesh) -> Mesh:
    return Mesh(mesh.vertices.astype(np.float32).astype(float), mesh.faces)


def convex(rng: np.random.Generator, size: float, count: int) -> Mesh:
    """A convex solid of triangles, its corners all over a ball."""
    points = rng.normal(size=(count, 3))
    points *= size / 2 / np.linalg.norm(points, axis=1)[:, None]
    faces = ConvexHull(points).simplices
    a, b, c = (points[faces[:, k]] for k in range(3))
    inward = np.einsum("ij,ij->i", np.cross(b - a, c - a), a) < 0
    faces[inward] = faces[inward][:, ::-1]
    return Mesh(points, faces)


def union_volume(solids: list[Mesh]) -> float:
    """The volume of the union of convex solids, by inclusion and exclusion of what they have in common."""
    total, middle, size = 0.0, solids[0].vertices.mean(axis=0), solids[0].diagonal
    for chosen in range(1, 1 << len(solids)):
        some = [s for i, s in enumerate(solids) if chosen >> i & 1]
        planes = np.concatenate([ConvexHull((s.vertices - middle) / size).equations for s in some])
        rows = np.column_stack([planes[:, :3], np.ones(len(planes))])
        deepest = linprog([0, 0, 0, -1], A_ub=rows, b_ub=-planes[:, 3], bounds=[(None, None)] * 3 + [(0, None)])
        if deepest.status == 0 and deepest.x[3] > 1e-9:
            corners = HalfspaceIntersection(planes, deepest.x[:3]).intersections
            total -= (-1) ** len(some) * ConvexHull(corners).volume * size**3
    return total


def hurt(seed: int) -> Hurt:
    """A shape of a size at a place, with one to four sorts of damage; or solids that cross, with what loses nothing."""
    rng = np.random.default_rng(seed)
    size, off = PLACES[seed % len(PLACES)]
    make = (specimens.sphere, specimens.torus, specimens.bored_box)[seed // len(PLACES) % 3]
    centre = off * np.array([1.0, 0.3, -0.2])
    specimen, turn = make(size, 4 * int(rng.integers(8, 15))), rotation(rng)
    middle = turn @ specimen.inside + centre
    solids: list[Mesh] = []
    sorts = [str(s) for s in rng.choice(SORTS, int(rng.integers(1, 5)), replace=False)]
    if rng.random() < 0.25:
        solids = [convex(rng, size, 300) for _ in range(rng.integers(2, 4))]
        solids = [as_held(put(s, tuple(centre + size * rng.uniform(-0.25, 0.25, 3)))) for s in solids]
        whole = together(*solids)
        sorts = [s for s in sorts if s not in ("folds", "merged", "nested")]
    else:
        whole = as_held(Mesh(specimen.mesh.vertices @ turn.T + centre, specimen.mesh.faces))
    mesh, moved = whole, 0.0
    near = np.zeros(len(whole.vertices), dtype=bool)
    if "folds" in sorts:
        mesh, bent = folded_over(rng, mesh, int(rng.integers(1, 4)), 2.0)
        near[mesh.faces[bent]] = True
        near[mesh.faces[crossings_of(mesh).together]] = True
    if "merged" in sorts:  # two vertices as one, with an edge between them that goes
        edge = mesh.faces[rng.integers(len(mesh.faces))][:2]
        faces = np.where(mesh.faces == edge[1], edge[0], mesh.faces)
        near[mesh.faces[(mesh.faces == edge[1]).any(axis=1)]] = True
        mesh = Mesh(mesh.vertices, faces)
    for _ in range(2 if near.any() else 0):
        near[mesh.faces[near[mesh.faces].any(axis=1)]] = True
    lost, shifted = near[whole.faces].any(axis=1), np.zeros(len(whole.faces), dtype=bool)
    if "cracks" in sorts:
        moved = size * float(rng.choice([0.0, 1e-5, 2e-4]))
        halved = float(rng.choice([0.0, 0.4]))
        mesh = as_held(in_patches(rng, mesh, int(rng.integers(2, 30)), moved, halved))
        if moved or halved:
            on_seam = np.zeros(len(mesh.vertices), dtype=bool)
            on_seam[open_edges_of(mesh).vertices] = True
            shifted = on_seam[mesh.faces[: len(lost)]].any(axis=1)
        moved += float(np.spacing(np.float32(np.abs(mesh.vertices).max()))) * (moved > 0 or halved > 0)
    vertices, faces, normals = mesh.vertices, mesh.faces.copy(), vertex_normals(whole.vertices, whole.faces)
    extra, shells = [], []
    if "flips" in sorts:
        some = rng.choice(len(faces), len(faces) // 50 + 1, replace=False)
        faces[some] = faces[some][:, ::-1]
    if "doubles" in sorts:
        some = rng.choice(len(faces), 5)
        extra.append(faces[some][:, :: rng.choice([1, -1])])
    if "fins" in sorts:
        within = np.flatnonzero((Mesh(vertices, faces).twins >= 0).reshape(-1, 3).all(axis=1))
        some = faces[rng.choice(within, 4, replace=False)]
        a, b, c = (vertices[some[:, k]] for k in range(3))
        apex = (a + b) / 2 + np.linalg.norm(b - a, axis=1)[:, None] * rng.normal(0, 0.5, (4, 3)) + (b + a - 2 * c) / 4
        extra.append(np.column_stack([some[:, 0], some[:, 1], len(vertices) + np.arange(4)]))
        vertices = np.concatenate([vertices, apex])
    if "hanging" in sorts and "cracks" not in sorts:  # a crumb that hangs by one vertex
        at = int(rng.choice(np.flatnonzero(~near)))
        away = convex(rng, 0.01 * size, 40).vertices + 0.01 * size * normals[at]
        crumb = np.concatenate([away, np.zeros((1, 3))]) + vertices[at]
        ends = ConvexHull(crumb - vertices[at]).simplices
        number = len(vertices) + np.arange(len(crumb))
        number[-1] = at
        extra.append(number[ends])
        vertices = np.concatenate([vertices, crumb])
    if "nested" in sorts:
        ball = specimens.sphere(2.0, 8).mesh
        for depth, share in enumerate((0.8, 0.6, 0.4, 0.2)[: rng.integers(1, 5)]):
            shells.append(put(Mesh(ball.vertices * share * specimen.room, ball.faces), tuple(middle), depth % 2 == 0))
    mesh = together(Mesh(vertices, np.concatenate([faces, *extra])), *shells)
    order = rng.permutation(len(mesh.faces))
    return Hurt(as_held(Mesh(mesh.vertices, mesh.faces[order])), whole, lost, shifted, moved, solids, sorts)


def mended(mesh: Mesh) -> tuple[Mesh, list[str]]:
    """A mesh put through the station's treatments, and what each said."""
    said = []
    for treatment in (Weld(), WeldSeams(), Mend(), Orient(), MendCrossings(), Sweep()):
        outcome = treatment.apply(mesh, Context())
        mesh = outcome.mesh
        said.append(outcome.text)
    return mesh, said


class BroughtBack(unittest.TestCase):
    def test_two_hundred_shells(self) -> None:
        exact = 0
        taken = list(seeds(200, self.id()))
        for seed in taken:
            case = hurt(seed)
            result, said = mended(case.mesh)
            with self.subTest(seed=seed, done=case.done, united=len(case.solids), said=said):
                self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                self.assertEqual(crossings_of(result).total, 0)
                self.assertEqual(len(result.shells), 1)
                damaged = specimens.triangle_set(case.mesh.vertices, case.mesh.faces)
                there = specimens.triangle_set(result.vertices, result.faces)
                if case.solids:
                    slack = 1e-6 + 4 * case.moved * case.whole.area / result.volume
                    self.assertAlmostEqual(result.volume / union_volume(case.solids), 1.0, delta=slack)
                    continue
                kept = specimens.triangle_set(case.whole.vertices, case.whole.faces[~(case.lost | case.shifted)])
                self.assertEqual(len((kept & damaged) - there), 0)
                if not case.lost.any():
                    for name in ("area", "volume"):
                        ratio = getattr(result, name) / getattr(case.whole, name)
                        slack = 1e-9 + 4 * case.moved * case.whole.area / case.whole.volume
                        self.assertAlmostEqual(ratio, 1.0, delta=slack)
                    if not case.shifted.any():
                        self.assertTrue(there == specimens.triangle_set(case.whole.vertices, case.whole.faces))
                        exact += 1
        if len(taken) == 200:
            self.assertGreater(exact, 40)


class PulledIn(unittest.TestCase):
    def test_spikes_are_what_stands_far_off_its_neighbours(self) -> None:
        for seed in range(12):
            rng = np.random.default_rng(seed)
            size = PLACES[seed % len(PLACES)][0]
            whole = (specimens.sphere, specimens.torus, specimens.bored_box)[seed % 3](size, 48).mesh
            edge = np.linalg.norm(whole.vertices[whole.faces[:, 0]] - whole.vertices[whole.faces[:, 1]], axis=1).mean()
            self.assertEqual(len(spikes_of(whole).vertices), 0)
            some = rng.choice(len(whole.vertices), 20, replace=False)
            places = whole.vertices.copy()
            places[some] += vertex_normals(whole.vertices, whole.faces)[some] * edge * rng.uniform(1, 9, (20, 1))
            mesh = Mesh(places, whole.faces)
            # the slower way: for each vertex its neighbours, one by one
            beside: dict[int, set[int]] = {}
            for a, b, c in mesh.faces.tolist():
                for one, two, three in ((a, b, c), (b, c, a), (c, a, b)):
                    beside.setdefault(one, set()).update((two, three))
            far = set()
            for v, ring in beside.items():
                around = places[sorted(ring)]
                middle = around.mean(axis=0)
                if np.linalg.norm(places[v] - middle) > 2.5 * np.linalg.norm(around - middle, axis=1).mean():
                    far.add(v)
            found = set(spikes_of(mesh).vertices.tolist())
            with self.subTest(seed=seed):
                self.assertLessEqual(found, far)
                self.assertGreater(len(found), 0.8 * len(far))
                outcome = PullIn().apply(mesh, Context())
                self.assertEqual(len(spikes_of(outcome.mesh).vertices), 0)
                same = (outcome.mesh.vertices == places).all(axis=1)
                self.assertEqual(int((~same).sum()), outcome.account.figures["spikes"])
                self.assertLessEqual(found, set(np.flatnonzero(~same).tolist()))

    def test_a_vertex_thrown_through_the_part_comes_back_and_a_tip_stays(self) -> None:
        """As `print-solid` has it: what crosses is no tip of the part."""
        ball = specimens.sphere(40.0, 20).mesh
        top, left = (int(np.argmax(ball.vertices[:, axis])) for axis in (2, 0))
        for name, to, crosses in (("tip", [0.0, 0.0, 60.0], False), ("thrown", [0.0, 0.0, -60.0], True)):
            places = ball.vertices.copy()
            places[top] = to
            mesh = Mesh(places, ball.faces)
            with self.subTest(name):
                self.assertEqual(spikes_of(mesh).vertices.tolist(), [top])
                outcome = PullIn(only_crossing=True).apply(mesh, Context())
                same = (outcome.mesh.vertices == places).all(axis=1)
                self.assertEqual(np.flatnonzero(~same).tolist(), [top] if crosses else [])
        # with a tip beside it, only the one that crosses goes back; and the routine says so
        places = places.copy()
        places[left] = [60.0, 0.0, 0.0]
        scan = Scan(Path("thrown.ply"), Mesh(places, ball.faces), "ply", "mm", "", ())
        run = load_routine("print-solid").run(scan)
        step = next(s for s in run.steps if s.name == "spikes")
        self.assertIn("Pulled in 1 spike", step.text)
        self.assertAlmostEqual(float(run.mesh.vertices[:, 0].max()), 60.0)
        self.assertTrue(examine(run.mesh).readiness.proven)


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    """A scan in patches, with strays, flips, folds and spikes, made a solid with mouse and keys alone."""

    def damaged(self) -> Path:
        rng = np.random.default_rng(3)
        torus = specimens.torus(200.0, 120).mesh
        bent, _ = folded_over(rng, torus, 3, 2.5)
        parts = in_patches(rng, bent, 12, 0.004, 0.2)
        height = parts.vertices[:, 2].copy()
        height[open_edges_of(parts).vertices] = 0
        far = np.argmax(height)
        vertices, faces = parts.vertices.copy(), parts.faces.copy()
        vertices[far] += [0, 0, 40]
        faces[50:60] = faces[50:60][:, ::-1]
        dust = [put(specimens.sphere(2.0 * r, 8).mesh, (0.0, 6.0 * i, 60.0)) for i, r in enumerate((0.5, 1.0, 2.0))]
        path = Path(self.folder.name) / "scan.ply"
        write_mesh(together(Mesh(vertices, faces), *dust), path)
        return path

    def row(self, name: str) -> "tuple[QWidget, QRect]":
        """A row of the list, by what it is called."""
        rows = self.window.ticket.list
        number = next(i for i, f in enumerate(self.session.findings()) if f.id == name)
        index = rows.model().index(number, 0)
        rows.scrollTo(index)
        return rows.viewport(), rows.visualRect(index)

    def test_from_patches_to_ready(self) -> None:
        self.open(self.damaged())
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_4)
        self.settle()
        strays = self.window.tray("Strays")
        self.wait_for(lambda: strays.welded_shells.text() == "4")  # said before it is done
        plain = self.picture()
        self.click(strays.copper)
        self.settle()
        self.assertEqual([f.id for f in self.session.findings()], ["S1", "S2", "S3"])
        # the largest is kept by its tick, and the view marks those that go
        widget, box = self.row("S1")
        self.click(widget, box.left() + 14, box.center().y())
        self.settle()
        self.assertFalse((self.picture() == plain).all())
        self.assertIn("2 strays", strays.copper.text())
        self.click(strays.copper)
        self.settle()
        self.assertEqual(len(self.session.mesh.shells), 2)
        self.assertFalse(self.session.is_ticked(self.session.findings()[0]))  # as it was left
        QTest.qWait(QApplication.doubleClickInterval() + 50)
        widget, box = self.row("S1")
        self.click(widget, box.left() + 14, box.center().y())
        self.click(strays.copper)
        self.settle()
        self.assertEqual(len(self.session.mesh.shells), 1)
        self.key(Qt.Key.Key_6)
        self.settle()
        names = {f.id[0] for f in self.session.findings()}
        self.assertEqual(names, {"T", "X", "K"})
        surface = self.window.tray("Surface")
        self.click(surface.spike_button)
        self.settle()
        self.key(Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.findings(), [])
        self.assertEqual(self.window.state_button.text(), "Ready")
        mesh = self.session.mesh
        self.assertEqual(counted_exactly(mesh.vertices, mesh.faces), (0, 0))
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")

    def test_a_step_that_lets_the_surface_cross_says_so(self) -> None:
        ball = specimens.sphere(20.0, 24).mesh
        paths = [Path(self.folder.name) / f"{name}.ply" for name in ("one", "other")]
        for off, path in zip((0.0, 7.0), paths, strict=True):
            write_mesh(put(ball, (off, 0, 0)), path)
        self.session.opening.files(paths)
        self.settle()
        said: list[str] = []
        self.session.message.connect(lambda text, loud: said.append(text))
        for piece in self.session.job.pieces:
            self.session.set_active(piece.id)
            self.settle()
            self.assertEqual(self.session.examination.crossings.total, 0)
        self.session.do(Merge(), [piece.id for piece in self.session.job.pieces])
        self.settle()
        self.assertGreater(self.session.examination.crossings.total, 0)
        self.assertTrue(any(t.startswith("Merge") and "cross now" in t for t in said), said)


if __name__ == "__main__":
    unittest.main()
