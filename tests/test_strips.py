"""Strips across holes and between edges, notches closed and teeth cut: on analytic shapes, and by hand."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.exact_count import counted_exactly
from tests.hands import SCREEN, WindowTest
from tests.seeds import in_turn, share
from tests.test_patches import bends, holed
from tests.test_shapes import put, sheet, together, tube
from tinsnip.demo import demo_scan
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.job.step import moved_action, names_places
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.picking import first_hit
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat import CloseWindow, Context, Mend, Orient, Patch, StraightSnip, Stretch, Strip, Sweep

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication


def sound(mesh: Mesh) -> tuple[int, int, int, int]:
    """Tangled and flipped edges, crossings and folds."""
    return (mesh.edges.tangled, mesh.edges.flipped, *counted_exactly(mesh.vertices, mesh.faces))


class Laid(unittest.TestCase):
    def test_it_divides_a_hole_and_follows_the_surface(self) -> None:
        for seed in share(range(6), self.id()):
            rng = np.random.default_rng(seed)
            size = (2.0, 200.0, 2000.0)[seed % 3]
            mesh = holed(rng, specimens.sphere(size, 60).mesh, np.array([0, 0, size / 2]), 0.2 * size)
            ring = mesh.vertices[mesh.faces.ravel()[mesh.loops.loop(0)]]
            west, east = ring[np.argmin(ring[:, 0])], ring[np.argmax(ring[:, 0])]
            outcome = Strip(start=tuple(west), end=tuple(east)).apply(mesh, Context())
            result = outcome.mesh
            with self.subTest(seed=seed, said=outcome.text):
                self.assertEqual(sound(result), (0, 0, 0, 0))
                self.assertEqual((len(result.loops), len(result.shells)), (2, 1))
                new = result.vertices[len(mesh.vertices) :]
                self.assertLess(np.abs(np.linalg.norm(new, axis=1) - size / 2).max(), 0.006 * size)
                made = result.provenance == MADE
                self.assertEqual(made.sum(), outcome.account.made_triangles)
                self.assertTrue((result.faces[: len(mesh.faces)] == mesh.faces).all())
                self.assertLess(np.percentile(bends(result, made, ~made), 90), 15)
                # the two holes that are left close like any other
                self.assertTrue(classify_boundaries(result).is_hole.all())
                whole = Patch().apply(result, Context()).mesh
                self.assertEqual(specimens.closed_faults(whole.vertices, whole.faces), "")

    def test_it_bridges_two_edges(self) -> None:
        lower = tube(30.0, 40.0, 60, 12)
        both = together(lower, put(lower, (0, 0, 60.0)))
        outcome = Strip(start=(30, 0, 40), end=(30, 0, 60), width_mm=15).apply(both, Context())
        result = outcome.mesh
        self.assertEqual(sound(result), (0, 0, 0, 0))
        self.assertEqual((len(result.shells), len(result.loops)), (1, 3))
        new = result.vertices[len(both.vertices) :]
        self.assertLess(np.abs(np.hypot(new[:, 0], new[:, 1]) - 30).max(), 0.2)
        self.assertIn("bridges two edges", outcome.text)
        # a second one makes a hole of what lies between them
        again = Strip(start=(-30, 0, 40), end=(-30, 0, 60), width_mm=15).apply(result, Context()).mesh
        self.assertEqual((sound(again), len(again.loops)), ((0, 0, 0, 0), 4))

    def test_the_places_it_names_go_along_with_the_part(self) -> None:
        strip, turn = Strip(start=(1, 2, 3), end=(4, 5, 6)), np.eye(4)
        turn[:3] = [[0, -1, 0, 10], [1, 0, 0, 20], [0, 0, 1, 30]]
        moved = moved_action(strip, [turn])
        self.assertEqual((moved.start, moved.end), ((8, 21, 33), (5, 24, 36)))
        self.assertTrue(all(names_places(kind()) for kind in (Strip, Stretch, CloseWindow)))
        self.assertFalse(names_places(StraightSnip()))

    def test_where_there_is_no_room_it_says_so(self) -> None:
        flat = sheet(100.0, 12)
        corner = flat.vertices[0]
        for bad in (flat, specimens.sphere(20.0, 8).mesh, keep_triangles(flat, np.arange(1))):
            with self.assertRaises(BadInput):
                Strip(start=tuple(corner), end=tuple(corner)).apply(bad, Context())
        with self.assertRaises(BadInput):
            Stretch(start=tuple(corner), end=tuple(corner)).apply(flat, Context())


class Stretched(unittest.TestCase):
    def setUp(self) -> None:
        flat = sheet(100.0, 41, 0.4)
        middles = flat.vertices[flat.faces].mean(axis=1)
        self.notched = keep_triangles(flat, ~((np.abs(middles[:, 0]) < 10) & (middles[:, 1] > 30)))
        toothed = (middles[:, 1] < 30) | (np.abs(middles[:, 0]) < 10)
        self.toothed = keep_triangles(flat, toothed)
        self.flat = flat

    def corners(self, x: float, y: float) -> tuple[float, float, float]:
        return x, y, 0.4 * (5000 - x * x - y * y) / 100

    def test_a_notch_is_closed_in_the_shape_of_the_surface(self) -> None:
        for flow in (0.0, 1.0):
            stretch = Stretch(start=self.corners(-10, 50), end=self.corners(10, 50), flow=flow)
            outcome = stretch.apply(self.notched, Context())
            result = outcome.mesh
            self.assertEqual(sound(result), (0, 0, 0, 0))
            self.assertEqual(len(result.loops), 1)
            self.assertAlmostEqual(result.areas.sum() / self.flat.areas.sum(), 1.0, delta=0.01)
            new = result.vertices[len(self.notched.vertices) :]
            off = np.abs(new[:, 2] - 0.4 * (5000 - new[:, 0] ** 2 - new[:, 1] ** 2) / 100)
            self.assertLess(off[len(new) // 4 :].max(), 1.0)

    def test_a_tooth_is_cut_and_nothing_else(self) -> None:
        stretch = Stretch(start=self.corners(-10, 30), end=self.corners(10, 30), how="cut")
        outcome = stretch.apply(self.toothed, Context())
        self.assertEqual(sound(outcome.mesh), (0, 0, 0, 0))
        left = specimens.triangle_set(outcome.mesh.vertices, outcome.mesh.faces)
        middles = self.toothed.vertices[self.toothed.faces].mean(axis=1)
        stays = specimens.triangle_set(self.toothed.vertices, self.toothed.faces[middles[:, 1] < 30])
        self.assertEqual(left, stays)
        with self.assertRaises(BadInput):  # half of the part is no tooth
            Stretch(start=self.corners(-50, 0), end=self.corners(50, 0), how="cut").apply(self.flat, Context())


def perforated(count: int, holes: list[tuple[int, int]], wide: int = 4, thick: int = 2) -> Mesh:
    """A plate of cubes with square openings through it; each cube's sides are two triangles."""
    full = np.zeros((count + 2, count + 2, thick + 2), dtype=bool)
    full[1:-1, 1:-1, 1:-1] = True
    for i, j in holes:
        full[1 + i : 1 + i + wide, 1 + j : 1 + j + wide] = False
    corners, quads = {}, []
    for axis in range(3):
        for way in (1, -1):
            for cell in np.argwhere(full & ~np.roll(full, -way, axis=axis)):
                low = cell + (np.arange(3) == axis) * (way > 0)
                u, w = np.eye(3, dtype=int)[(axis + 1) % 3], np.eye(3, dtype=int)[(axis + 2) % 3]
                ring = [tuple(low + d) for d in (0 * u, u, u + w, w)][::way]
                quads.append([corners.setdefault(c, len(corners)) for c in ring])
    faces = np.array([[(a, b, c), (a, c, d)] for a, b, c, d in quads]).reshape(-1, 3)
    return Mesh(np.array(list(corners), dtype=float), faces)


def handles(mesh: Mesh) -> float:
    """Handles of a closed mesh, by counting all its edges."""
    ends = np.sort(np.concatenate([mesh.faces[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    return len(mesh.shells) - (len(np.unique(mesh.faces)) - len(np.unique(ends, axis=0)) + len(mesh.faces)) / 2


def capped_handles(mesh: Mesh) -> float:
    """Handles of a mesh whose open edges count as closed by one face each, by counting all its edges."""
    return handles(mesh) - len(mesh.loops) / 2


class Windows(unittest.TestCase):
    def test_each_takes_exactly_one_handle(self) -> None:
        places = [(4, 4), (14, 5), (5, 15), (15, 16)]
        mesh = perforated(24, places)
        whole = perforated(24, [])
        for number, (i, j) in enumerate(places):
            self.assertEqual(handles(mesh), len(places) - number)
            outcome = CloseWindow(at=(i + 1.0, j + 3.0, 2.0)).apply(mesh, Context())
            mesh = outcome.mesh
            self.assertEqual(handles(mesh), len(places) - number - 1, outcome.text)
            self.assertEqual((specimens.closed_faults(mesh.vertices, mesh.faces), sound(mesh)), ("", (0, 0, 0, 0)))
        self.assertAlmostEqual(mesh.volume / whole.volume, 1.0, delta=0.005)
        with self.assertRaises(BadInput):
            CloseWindow(at=(5.0, 5.0, 1.0)).apply(mesh, Context())

    def test_round_ones_in_round_things(self) -> None:
        for make, at in ((specimens.torus, (36.0, 0, 0)), (specimens.bored_box, (44.0, 0, 0))):
            for scale in (0.01, 1.0, 10.0):
                solid = make(200.0, 60).mesh
                mesh = Mesh(solid.vertices * scale, solid.faces)
                outcome = CloseWindow(at=tuple(scale * np.array(at))).apply(mesh, Context())
                result = outcome.mesh
                with self.subTest(make=make.__name__, scale=scale, said=outcome.text):
                    self.assertEqual((handles(mesh), handles(result)), (1, 0))
                    self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                    self.assertEqual(sound(result), (0, 0, 0, 0))
                    self.assertGreater(result.volume, mesh.volume)

    @in_turn(2)
    def test_the_ring_of_a_lantern_whose_walls_run_on(self) -> None:
        mesh = demo_scan("gauge-lantern-upper", 150_000)
        for treatment in (Mend(), Orient(), Sweep(chunks="sweep")):
            mesh = treatment.apply(mesh, Context()).mesh
        under = mesh.vertices[:, 2].max() - 6.0
        place = mesh.vertices[np.argmin(np.linalg.norm(mesh.vertices - [0, 0, under], axis=1))]
        outcome = CloseWindow(at=tuple(place.tolist())).apply(mesh, Context())
        kept = len(mesh.faces) - int(outcome.text.split(":")[1].split(" tri")[0].replace("\u202f", ""))
        self.assertEqual(len(outcome.mesh.faces), kept + outcome.account.made_triangles)
        self.assertEqual(capped_handles(mesh) - capped_handles(outcome.mesh), 1, outcome.text)
        self.assertEqual((outcome.mesh.edges.tangled, outcome.mesh.edges.flipped), (0, 0))
        self.assertLess(outcome.account.gone_share, 0.05)
        # it is filled, not severed: a sight through its middle meets the part now
        middle = np.array([0.0, -100.0, under - 5.0])
        hits = [first_hit(m.vertices, m.faces, middle, np.array([0, 1.0, 0])) for m in (mesh, outcome.mesh)]
        self.assertEqual([hit is None for hit in hits], [True, False])

    def test_what_has_no_window_says_so(self) -> None:
        for bad in (specimens.sphere(20.0, 8).mesh, sheet(10.0, 5), Mesh(np.zeros((0, 3)), np.zeros((0, 3)))):
            with self.assertRaises(BadInput):
                CloseWindow(at=(0, 0, 0)).apply(bad, Context())


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_a_strip_and_a_notch_between_two_clicks(self) -> None:
        rng = np.random.default_rng(0)
        mesh = holed(rng, specimens.sphere(200.0, 60).mesh, np.array([0, 0, 100.0]), 40.0)
        path = Path(self.folder.name) / "holed.ply"
        write_mesh(mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_5)
        self.view.framing.look_from(0.0, 89.0)
        self.view.framing.fit()
        self.settle()
        tray = self.window.tray("Holes")
        button = tray.part_row.buttons["Strip"]
        tray.scroll.ensureWidgetVisible(button)
        self.settle()
        self.click(button)
        ring = mesh.vertices[mesh.faces.ravel()[mesh.loops.loop(0)]]
        places = self.view.camera.project(ring[ring[:, 0].argsort()[[0, -1]]] * [1.05, 1, 1])[:, :2]
        self.click(self.view, *places[0])
        # what the second click would lay is seen before it, and goes where the pointer goes
        middle = tuple(round(float(v)) for v in self.view.camera.project(np.array([[0.0, 0, 95.0]]))[0, :2])
        open_there = self.picture()[middle[1], middle[0]]
        QTest.mouseMove(self.view, QPoint(*(round(float(v)) for v in places[1])))
        self.wait_for(lambda: self.session.preview is not None)
        self.assertEqual(self.session.preview.treatment.name, "strip")
        self.assertIs(self.session.mesh, self.session.preview.before)
        self.settle()
        self.assertGreater(np.abs(self.picture()[middle[1], middle[0]] - open_there).max(), 40)
        QTest.mouseMove(self.view, QPoint(3, 3))
        self.wait_for(lambda: self.session.preview is None)
        seen = self.session.job.cursor
        self.assertEqual(seen, 1)
        self.click(self.view, *places[1])
        self.wait_for(lambda: len(self.session.job.log) == 2)
        self.assertEqual(self.session.job.log[-1].action.name, "strip")
        self.settle()
        self.assertEqual([f.id for f in self.session.findings()], ["H1", "H2"])

    def test_a_window_by_one_click(self) -> None:
        path = Path(self.folder.name) / "bored.ply"
        write_mesh(specimens.bored_box(200.0, 80).mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_5)
        self.view.framing.look_from(0.0, 60.0)
        self.view.framing.fit()
        self.settle()
        tray = self.window.tray("Holes")
        button = tray.part_row.buttons["Window"]
        tray.scroll.ensureWidgetVisible(button)
        self.settle()
        self.click(button)
        # its wall, and right through it
        for turn, point in ((0.0, (0, 44.0, 20.0)), (90.0, (0, 0, 0))):
            self.view.framing.look_from(0.0, 60.0 if turn == 0 else 89.0)
            self.settle()
            x, y, _ = self.view.camera.project(np.array(point, dtype=float))[0]
            self.click(self.view, x, y)
            self.wait_for(lambda: self.session.job.cursor == 2)
            self.settle()
            self.assertEqual(handles(self.session.mesh), 0)
            if turn == 0:
                self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
                self.settle()
                self.assertEqual(handles(self.session.mesh), 1)
                QTest.qWait(QApplication.doubleClickInterval() + 50)
        self.assertEqual(self.session.job.log[-1].action.name, "close-window")
        self.assertEqual(handles(self.session.mesh), 0)
        self.assertEqual(self.window.state_button.text(), "Ready")


if __name__ == "__main__":
    unittest.main()
