"""Knots are made anew only where they are: closed, free of crossings, of the right volume, all else to the bit."""

import functools
import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.exact_count import counted_exactly
from tests.hands import SCREEN, WindowTest
from tests.knots import KINDS, tied
from tests.seeds import in_turn, seeds
from tinsnip.demo.library import demo_truth
from tinsnip.formats import Scan, write_mesh
from tinsnip.job.routine import built_in_routines
from tinsnip.mesh import MADE, SHIFTED, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import Region
from tinsnip.space.winding import winding_numbers
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat import Context, Mend, Orient, RecastPlaces
from tinsnip.treat.kit.skins.replacing import places_of

if SCREEN:
    from PySide6.QtCore import Qt

SHAPES = ("torus", "sphere", "box", "pump-cover", "fountain-spout", "gauge-lantern-upper")


@functools.cache
def shape(name: str) -> Mesh:
    """An analytic or a demo part, sound and closed."""
    made = {"torus": specimens.torus, "sphere": specimens.sphere, "box": specimens.bored_box}
    if name in made:
        return made[name](100.0, {"torus": 170, "sphere": 60, "box": 300}[name]).mesh
    mesh = demo_truth(name, {"pump-cover": 1.4, "fountain-spout": 1.2, "gauge-lantern-upper": 0.9}[name])
    mesh = Orient().apply(Mend().apply(mesh, Context()).mesh, Context()).mesh
    return keep_triangles(mesh, mesh.shells.label == int(np.argmax(mesh.shells.triangles)))


def eight(rise: float, size: float = 50.0, across: float = 5.0, along: int = 600) -> Mesh:
    """A tube along a figure of eight; with little rise it runs through itself in the middle."""
    s = 2 * np.pi * np.arange(along) / along
    line = np.column_stack([size * np.sin(s), size * np.sin(s) * np.cos(s), rise * np.cos(s)])
    way = np.roll(line, -1, axis=0) - np.roll(line, 1, axis=0)
    side = np.cross(way, [0, 0, 1.0])
    side /= np.linalg.norm(side, axis=1)[:, None]
    up = np.cross(way, side)
    up /= np.linalg.norm(up, axis=1)[:, None]
    turn = 2 * np.pi * np.arange(60) / 60
    points = line[:, None] + across * (np.cos(turn)[:, None] * side[:, None] + np.sin(turn)[:, None] * up[:, None])
    mesh = specimens.welded(points.reshape(-1, 3), specimens.grid_faces(along, 60, True, True))
    return mesh if mesh.volume > 0 else Mesh(mesh.vertices, mesh.faces[:, ::-1].copy())


class Places(unittest.TestCase):
    @in_turn(0)
    def test_knots_are_made_anew_and_nothing_else(self) -> None:
        tried = left = 0
        for seed in seeds(200, self.id(), 20):
            rng = np.random.default_rng(seed)
            name, kind = SHAPES[seed % 6], KINDS[seed // 6 % len(KINDS)]
            sound = shape(name)
            mesh = tied(sound, kind, seed, float(rng.uniform(3.0, 7.0)))
            wrong = places_of(mesh) >= 0
            if not wrong.any():
                continue
            tried += 1
            outcome = RecastPlaces(most_percent=8.0).apply(mesh, Context())
            with self.subTest(seed=seed, name=name, kind=kind, said=outcome.text):
                result, figures = outcome.mesh, outcome.account.figures
                self.assertEqual(figures["places"], figures["recast"] + figures["left"])
                if figures["left"]:
                    left += 1
                    if figures["recast"] == 0:
                        self.assertIs(result, mesh)
                    continue
                self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                fresh = np.flatnonzero(result.provenance != 0)
                near = self.near(result, fresh)
                self.assertEqual(counted_exactly(near.vertices, near.faces), (0, 0))
                # what stayed did so to the bit, and it is all but what the step says it made anew
                kept = keep_triangles(result, result.provenance == 0)
                before = specimens.triangle_set(mesh.vertices, mesh.faces)
                self.assertLessEqual(specimens.triangle_set(kept.vertices, kept.faces), before)
                self.assertAlmostEqual(float(mesh.areas.sum() - kept.areas.sum()), figures["anew_mm2"], places=5)
                self.assertLessEqual(figures["anew_mm2"], 0.08 * mesh.areas.sum())
                self.assertEqual(set(np.unique(result.provenance[fresh])) - {SHIFTED, MADE}, set())
                # a knot is no part of the shape: its volume hardly changes
                if kind in ("welded", "fin", "sheet"):
                    self.assertAlmostEqual(result.volume / sound.volume, 1.0, delta=0.01)
        self.assertLessEqual(left, 0.05 * tried + 1)

    def near(self, mesh: Mesh, chosen: np.ndarray) -> Mesh:
        """The triangles in the box of some, and round it."""
        points = mesh.vertices[mesh.faces]
        low, high = points[chosen].min(axis=(0, 1)), points[chosen].max(axis=(0, 1))
        return keep_triangles(mesh, ((points.max(axis=1) >= low) & (points.min(axis=1) <= high)).all(axis=1))

    def test_a_tube_that_runs_through_itself_becomes_what_it_encloses(self) -> None:
        """Four rings round one place; its volume is that of all points inside, counted on a grid of them."""
        for rise in (0.0, 3.0):
            mesh = eight(rise)
            outcome = RecastPlaces(most_percent=12.0).apply(mesh, Context())
            with self.subTest(rise=rise, said=outcome.text):
                result = outcome.mesh
                self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                self.assertEqual(crossings_of(result).total, 0)
                self.assertEqual(outcome.account.figures["left"], 0)
                width = 0.4
                axes = [np.arange(-9.0, 9.0, width) + 0.13] * 3
                grid = np.stack(np.meshgrid(*axes, indexing="ij"), -1).reshape(-1, 3)
                twice = (winding_numbers(mesh.vertices, mesh.faces, grid) > 1.5).sum() * width**3
                self.assertGreater(twice, 100.0)
                self.assertAlmostEqual(mesh.volume - result.volume, twice, delta=0.1 * twice)

    def test_open_scans_and_a_place_that_was_meant(self) -> None:
        """The rim of an open part stays; of two knots only the one that was pointed at goes."""
        whole = specimens.sphere(100.0, 60).mesh
        sheet = keep_triangles(whole, whole.vertices[whole.faces][:, :, 2].min(axis=1) > -10.0)
        made = (tied(tied(sheet, "hairball", seed, 4.0), "welded", seed + 1, 4.0) for seed in range(20))
        mesh = next(knotted for knotted in made if places_of(knotted).max() == 1)
        place, count, meant = places_of(mesh), 2, 1
        at = int(np.flatnonzero(place == meant)[0])
        outcome = RecastPlaces(places=Region.of(mesh, np.array([at])), most_percent=5.0).apply(mesh, Context())
        self.assertEqual((outcome.account.figures["places"], outcome.account.figures["left"]), (1, 0), outcome.text)
        self.assertEqual(outcome.mesh.edges.open, sheet.edges.open)
        rest = places_of(outcome.mesh)
        self.assertEqual(rest.max() + 1, count - 1)
        gone = specimens.triangle_set(mesh.vertices, mesh.faces) - specimens.triangle_set(
            outcome.mesh.vertices, outcome.mesh.faces
        )
        other = specimens.triangle_set(mesh.vertices, mesh.faces[(place >= 0) & (place != meant)])
        self.assertFalse(other & gone)
        again = RecastPlaces(most_percent=5.0).apply(outcome.mesh, Context()).mesh
        self.assertEqual((crossings_of(again).total, again.edges.open), (0, sheet.edges.open))

    def test_what_is_too_much_or_no_knot_stays_as_it_is(self) -> None:
        mesh = eight(0.0)
        outcome = RecastPlaces().apply(mesh, Context())
        self.assertIs(outcome.mesh, mesh)
        self.assertRegex(outcome.text, r"^No place could be recast; 1 place left, where .* more than 1 % would go$")
        for sound in (shape("torus"), Mesh(np.zeros((0, 3)), np.zeros((0, 3), dtype=np.int32))):
            outcome = RecastPlaces().apply(sound, Context())
            self.assertIs(outcome.mesh, sound)
            self.assertEqual(outcome.text, "Nothing is knotted")
        for seed in range(6):  # the knot is nearly all there is
            whole = tied(specimens.sphere(1.0, 6).mesh, KINDS[seed], seed, 3.0)
            outcome = RecastPlaces(most_percent=100.0).apply(whole, Context())
            left = outcome.account.figures["left"]
            self.assertTrue(left or specimens.closed_faults(outcome.mesh.vertices, outcome.mesh.faces) == "")

    def test_far_off_and_of_another_size(self) -> None:
        for scale, offset in ((0.01, 0.0), (10.0, 1e4)):
            sound = shape("torus")
            mesh = tied(sound, "hairball", 2, 4.0)
            moved = Mesh((scale * mesh.vertices + offset).astype(np.float32).astype(float), mesh.faces)
            outcome = RecastPlaces(most_percent=5.0).apply(moved, Context())
            with self.subTest(scale=scale, offset=offset, said=outcome.text):
                self.assertEqual(outcome.account.figures["left"], 0)
                held = outcome.mesh.moved(outcome.mesh.vertices.astype(np.float32).astype(float))
                self.assertEqual((crossings_of(held).total, held.edges.open, held.edges.tangled), (0, 0, 0))

    @in_turn(1)
    def test_print_solid_ends_ready_where_untangling_cannot(self) -> None:
        mesh = eight(0.0, 400.0, 2.5, 3200)
        scan = Scan(Path("eight.stl"), mesh, "stl", "mm", "told")
        for enabled, crosses in (("false", True), ("true", False)):
            run = built_in_routines()["print-solid"].with_settings([f"places.enabled={enabled}"]).run(scan)
            self.assertEqual(crossings_of(run.mesh).total > 0, crosses, [s.text for s in run.steps])
        same = specimens.triangle_set(mesh.vertices, mesh.faces) & specimens.triangle_set(
            run.mesh.vertices, run.mesh.faces
        )
        self.assertGreater(len(same), 0.98 * len(mesh.faces))
        self.assertEqual([c.name for c in run.checks() if c.passed is False], [])


@unittest.skipUnless(SCREEN, "needs a screen")
class ByHand(WindowTest):
    def test_a_click_on_a_crossing_and_a_button(self) -> None:
        path = Path(self.folder.name) / "eight.ply"
        write_mesh(eight(0.0, 400.0, 2.5, 3200), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_6)
        part = self.window.tray("Surface").knots
        self.assertTrue(part.button.isVisible())
        self.assertEqual(part.button.text().replace("&", ""), "Show a recast of 1 place")
        self.session.fly_to.emit(self.session.findings()[0])
        self.settle()
        self.assertEqual(part.button.text().replace("&", ""), "Recast X1")
        self.assertRegex(part.told.text(), r"^Shown over the part: .* of the surface anew, off it by .* mm\.$")
        self.assertEqual(len(self.session.job.log), 1)
        self.click(part.button)
        self.settle()
        self.assertEqual([s.action.name for s in self.session.job.log[1:]], ["recast-places"])
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.assertFalse(part.button.isVisible())


if __name__ == "__main__":
    unittest.main()
