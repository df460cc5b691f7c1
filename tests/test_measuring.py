"""Measuring: readings against what is known of shapes, and by clicks, kept in the job."""

import unittest
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_shapes import sheet
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions.grow import flat_round
from tinsnip.regions.roundsurface import round_at
from tinsnip.space.solids import box_solid
from tinsnip.survey.measuring import (
    Reading,
    angle_reading,
    circle_reading,
    diameter_reading,
    distance_reading,
    section_of,
    section_reading,
    whole_of,
)
from tinsnip.survey.overhang import overhang_of
from tinsnip.survey.walls import walls_of
from tinsnip.treat import Context, Scale

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest


def nearest(mesh: Mesh, place: tuple[float, ...]) -> tuple[int, np.ndarray]:
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    triangle = int(np.argmin(np.linalg.norm(middles - np.array(place), axis=1)))
    return triangle, middles[triangle]


def put(mesh: Mesh, seed: int, size: float, far: float) -> tuple[Mesh, np.ndarray]:
    """A mesh turned, scaled and moved far off; and the turn."""
    turn = Rotation.random(random_state=seed).as_matrix()
    return Mesh(size * mesh.vertices @ turn.T + far, mesh.faces), turn


class Readings(unittest.TestCase):
    def test_distances(self) -> None:
        ball = specimens.sphere(40.0, 60).mesh
        for seed, (size, far) in enumerate(((1.0, 0.0), (0.01, 300.0), (50.0, -1e4))):
            mesh, turn = put(ball, seed, size, far)
            ends = [nearest(mesh, size * turn @ np.array(p) + far) for p in ((20.0, 0, 0), (0, 20.0, 0))]
            found = distance_reading(mesh, *ends)
            self.assertAlmostEqual(
                found.values["straight_mm"], np.linalg.norm(ends[0][1] - ends[1][1]), delta=1e-9 * size
            )
            wanted = size * 20 * np.arccos(np.clip(np.dot(*[(e[1] - far) / size / 20 for e in ends]), -1, 1))
            self.assertAlmostEqual(found.values["along_mm"] / wanted, 1.0, delta=2e-3)
            self.assertEqual(Reading.model_validate(found.model_dump(mode="json")), found)
        apart = Mesh(*box_solid(np.ones(3)))
        two = Mesh(np.concatenate([apart.vertices, apart.vertices + 5]), np.concatenate([apart.faces, apart.faces + 8]))
        found = distance_reading(two, nearest(two, (0, 0, 0.5)), nearest(two, (5, 5, 5.5)))
        self.assertNotIn("along_mm", found.values)

    def test_angles_and_parallel_flats(self) -> None:
        block = specimens.bored_box(70.0, 48).mesh
        rng = np.random.default_rng(0)
        rough = Mesh(block.vertices + rng.normal(0, 0.01, block.vertices.shape), block.faces)
        for mesh, within in ((block, 1e-6), (rough, 0.05)):
            top, side, other = (nearest(mesh, p) for p in ((0, 30.0, 10.5), (35.0, 30, 0), (-35.0, 30, 0)))
            flats = [flat_round(mesh, t) for t, _ in (top, side, other)]
            found = angle_reading((mesh, flats[0]), (mesh, flats[1]), (top[1], side[1]))
            self.assertAlmostEqual(found.values["inside_deg"], 90.0, delta=within)
            found = angle_reading((mesh, flats[1]), (mesh, flats[2]), (side[1], other[1]))
            self.assertAlmostEqual(found.values["apart_mm"], 70.0, delta=max(within, 1e-3))
        coarse = Mesh(*box_solid(np.array([30.0, 20.0, 10.0])))  # two triangles a side
        for one, other, inside in ((0, 4, 90.0), (0, 2, 0.0)):
            flats = [flat_round(coarse, t) for t in (one, other)]
            found = angle_reading(*((coarse, own) for own in flats), (coarse.vertices[0], coarse.vertices[1]))
            self.assertAlmostEqual(found.values["inside_deg"], inside, delta=1e-9)

    def test_diameters(self) -> None:
        block = specimens.bored_box(70.0, 96).mesh
        rng = np.random.default_rng(0)
        for seed, (noise, size, far) in enumerate(((0.0, 1.0, 0.0), (0.02, 1.0, 100.0), (0.0, 0.02, 50.0))):
            rough = Mesh(
                block.vertices + rng.normal(0, noise, block.vertices.shape) if noise else block.vertices, block.faces
            )
            mesh, turn = put(rough, seed, size, far)
            triangle, place = nearest(mesh, size * turn @ np.array([15.4, 0, 0.0]) + far)
            chosen = round_at(mesh, triangle, place)
            found = diameter_reading(mesh, chosen, place)
            self.assertAlmostEqual(found.values["diameter_mm"] / (size * 2 * 0.22 * 70), 1.0, delta=1e-4 + noise / 100)
            # all of the bore, and nothing of the flats
            middles = (mesh.vertices[mesh.faces].mean(axis=1) - far) @ turn / size
            bore = np.hypot(middles[:, 0], middles[:, 1]) < 15.5
            self.assertGreater((chosen & bore).sum() / bore.sum(), 0.95)
            self.assertLess((chosen & ~bore).sum() / bore.sum(), 0.02)
        with self.assertRaisesRegex(BadInput, "flat there"):
            flat = sheet(10.0, 20)
            round_at(flat, *nearest(flat, (0, 0, 0)))
        ball = specimens.sphere(40.0, 40).mesh
        cap = keep_triangles(ball, ball.vertices[ball.faces][..., 2].min(axis=1) > 10)
        ring = cap.vertices[cap.faces.ravel()[cap.loops.loop(0)]]
        found = circle_reading(ring)
        by_hand = 2 * np.hypot(ring[:, 0], ring[:, 1]).mean()
        self.assertAlmostEqual(found.values["diameter_mm"], by_hand, delta=0.02 * by_hand)
        with self.assertRaisesRegex(BadInput, "on a line"):
            circle_reading(np.outer(np.arange(5.0), [1, 2, 3]))

    def test_sections(self) -> None:
        block = specimens.bored_box(70.0, 96)
        tall, bore = 21.0, 0.22 * 70
        for normal, offset, length, area, loops in (
            ((0, 0, 1.0), 1.234, None, block.volume / tall, 2),
            ((1.0, 0, 0), 30.0, 2 * (70 + tall), 70 * tall, 1),
            ((1.0, 0, 0), 0.5, None, tall * 2 * (35 - np.sqrt(bore**2 - 0.25)), 2),
        ):
            found = section_of(block.mesh, np.array(normal), offset)
            self.assertFalse(found.is_open)
            self.assertEqual(found.loops, loops)
            self.assertAlmostEqual(found.area / area, 1.0, delta=2e-3 if loops == 2 else 1e-6)
            if length is not None:
                self.assertAlmostEqual(found.length, length, delta=1e-4)
        ball = specimens.sphere(40.0, 60).mesh
        # all slices together are the volume, whichever way they lie: a second way to both
        normal = np.array([0.48, 0.6, 0.64])
        levels = np.linspace(-20, 20, 401)[:-1] + 0.05
        self.assertAlmostEqual(
            sum(section_of(ball, normal, z).area for z in levels) * 0.1 / ball.volume, 1.0, delta=1e-4
        )
        through = section_of(ball, np.array([0, 0, 1.0]), float(ball.vertices[100, 2]))  # right through a vertex
        self.assertFalse(through.is_open)
        cup = keep_triangles(ball, ball.vertices[ball.faces][..., 0].mean(axis=1) < 5)
        self.assertTrue(section_of(cup, np.array([0, 0, 1.0]), 1.0).is_open)
        self.assertIn("no area", section_reading(cup, np.array([0, 0, 1.0]), 1.0).text)
        with self.assertRaisesRegex(BadInput, "misses"):
            section_reading(ball, np.array([0, 0, 1.0]), 100.0)

    def test_the_whole(self) -> None:
        ball = specimens.sphere(40.0, 40).mesh
        whole = whole_of(ball, 7.85)
        self.assertAlmostEqual(whole.mass, ball.volume * 7.85e-3, delta=1e-9)
        cup = keep_triangles(ball, np.arange(10, len(ball.faces)))
        self.assertEqual((whole_of(cup, 1.0).volume, whole_of(cup, 1.0).mass), (None, None))

    def test_overhang_by_hand(self) -> None:
        block = specimens.bored_box(70.0, 48).mesh
        found = overhang_of(block, 45.0)
        self.assertEqual(found.area, 0.0)  # it stands on all that faces down
        self.assertGreater(found.on_bed, 3000)
        turned = Mesh(block.vertices @ Rotation.from_euler("x", 30, degrees=True).as_matrix().T, block.faces)
        for limit, wants in ((55.0, True), (65.0, False)):  # the underside leans by 60 degrees from the upright
            found = overhang_of(turned, limit)
            self.assertEqual(found.area > 3000, wants)
            self.assertLessEqual(found.footprint, found.area)

    def test_scaling_says_what_walls_become(self) -> None:
        ball = specimens.sphere(40.0, 20).mesh
        shell = Mesh(
            np.concatenate([ball.vertices, 0.9 * ball.vertices]),
            np.concatenate([ball.faces, ball.faces[:, ::-1] + len(ball.vertices)]),
        )
        self.assertIn("every wall of 1 mm becomes 2.5 mm", Scale(factor=2.5).apply(shell, Context()).text)
        walls_of(shell)
        text = Scale(factor=2.5).apply(shell, Context()).text
        self.assertRegex(text, r"its thinnest wall of (1\.9\d*|2(\.0\d*)?) mm becomes (4\.[89]\d*|5(\.0\d*)?) mm")


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_readings_are_taken_listed_kept_and_outlive_the_job_file(self) -> None:
        path = Path(self.folder.name) / "block.ply"
        block = specimens.bored_box(70.0, 96).mesh
        write_mesh(Mesh(4 * block.vertices, block.faces), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_M)
        part, readings = self.window.measuring, self.view.readings
        self.assertIn("280", part.size.text())
        self.type_number(part.density, "2.7")
        self.assertEqual(part.mass.text(), f"{4**3 * block.volume * 2.7e-3:.5g} g")
        self.view.framing.look_from(20.0, 55.0)
        self.settle()

        def at(place: tuple[float, ...]) -> tuple[float, float]:
            x, y, _ = self.view.camera.project(4 * np.array([place]))[0]
            return float(x), float(y)

        top, far, front, wall = (-28, -20, 10.5), (28, 25, 10.5), (5.0, -35, 2.0), (0.0, 15.4, 3.0)
        self.click(part.buttons[0])
        self.click(self.view, 12, self.view.height() - 12)  # beside the part: that is said, and nothing is taken
        self.assertIn("nothing of the part is there", self.window.status.said.text())
        self.assertEqual(readings.all, [])
        for button, places in ((0, (top, far)), (1, (top, front)), (2, (wall,))):
            self.click(part.buttons[button])
            for place in places:
                self.click(self.view, *at(place))
            self.settle()
        self.assertEqual([r.kind for r in readings.all], ["distance", "angle", "diameter"])
        distance, angle, bore = (r.values for r in readings.all)
        wanted = 4 * np.linalg.norm(np.subtract(top, far))
        self.assertAlmostEqual(distance["straight_mm"] / wanted, 1.0, delta=0.02)
        self.assertGreater(distance["along_mm"], distance["straight_mm"])  # round the bore, not over it
        self.assertAlmostEqual(angle["inside_deg"], 90.0, delta=0.01)
        self.assertAlmostEqual(bore["diameter_mm"], 4 * 30.8, delta=0.05)
        self.view.setFocus()
        self.key(Qt.Key.Key_Escape)
        self.click(part.section)
        self.assertEqual(len(readings.all), 3)  # there is no section yet, and that is said
        self.key(Qt.Key.Key_Q)
        self.click(part.section)
        self.settle()
        self.assertEqual(readings.all[-1].kind, "section")
        # kept in the job, and shown again
        kept = self.window.shown.values()["measured"]
        readings.clear()
        readings.show_again(kept)
        self.assertEqual([r.kind for r in readings.now()], ["distance", "angle", "diameter", "section"])
        readings.show_again([{"kind": "nonsense"}, 5, kept[0]])
        self.assertEqual(len(readings.all), 1)
        # on another part they are still listed, but no more of this one
        self.session.apply(Scale(factor=2.0))
        self.settle()
        self.assertEqual((len(readings.all), readings.now()), (1, []))
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual(len(readings.now()), 1)
        self.click(part.clear)
        self.assertEqual(readings.all, [])
        self.assertFalse(part.clear.isVisible())
        # a step that is opened takes its place, and nothing is left in hand
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        self.click(part.buttons[0])
        self.assertTrue(self.window.menus.measure.isChecked())
        self.window.editing.begin(1)
        self.settle()
        self.assertIs(self.window.stack.currentWidget(), self.window.editor)
        self.assertEqual((self.view.hand.tool, self.window.menus.measure.isChecked()), (None, False))

    def test_all_pieces_that_are_shown_are_met_by_clicks(self) -> None:
        block = Mesh(*box_solid(np.array([40.0, 30.0, 20.0])))
        turn = Rotation.from_rotvec([0.0, 0.0, 0.4]).as_matrix()
        self.put_up(block, Mesh(block.vertices @ turn.T + [70.0, 0.0, 0.0], block.faces))
        tray, view, session = self.window.tray("Solid"), self.view, self.session
        view.framing.look_from(0.0, 40.0)
        view.framing.fit()
        self.settle()

        def at(place: tuple[float, ...]) -> tuple[float, float]:
            x, y, _ = view.camera.project(np.array([place]))[0]
            return float(x), float(y)

        # the name of what a click would go on with is seen before, and the view stays as it is
        one, other = (piece.id for piece in session.job.pieces)
        scale, middle = view.camera.scale, view.camera.middle.copy()
        for there, here in ((one, (0.0, 0.0, 10.0)), (other, (70.0, 0.0, 10.0))):
            QTest.mouseMove(view, QPoint(*map(int, at(here))))
            self.wait_for(lambda there=there: self.window.choosing.under == there)
            self.click(view, *at(here))
            self.assertEqual(session.job.active, there)
            self.assertIsNone(self.window.choosing.under)
            self.click(view, *at(here))
            self.assertEqual(session.job.active, there)
        self.assertEqual(scale, view.camera.scale)
        np.testing.assert_array_equal(middle, view.camera.middle)
        # distances and angles from piece to piece, a section of both
        self.key(Qt.Key.Key_M)
        tray = self.window.measuring
        front = turn @ np.array([0.0, -15.0, 3.0]) + [70.0, 0.0, 0.0]
        for button, places in ((0, ((0, 0, 10.0), (70.0, 0, 10.0))), (1, ((3.0, -15.0, 3.0), tuple(front)))):
            self.click(tray.buttons[button])
            for place in places:
                self.click(view, *at(place))
            self.settle()
        distance, angle = view.readings.all
        self.assertAlmostEqual(distance.values["straight_mm"], 70.0, delta=1.0)  # a pixel either way
        self.assertIn("from piece to piece", distance.text)
        self.assertAlmostEqual(angle.values["facings_deg"], np.degrees(0.4), delta=1e-6)
        view.setFocus()
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_Q)
        self.click(tray.section)
        self.settle()
        self.assertEqual([r.kind for r in view.readings.now()], ["distance", "angle", "section", "section"])
        # what was read from a piece that is out of view is not drawn
        session.set_visible(one, False)
        self.settle()
        self.assertEqual([r.kind for r in view.readings.now()], ["section"])
        session.set_visible(one, True)
        self.settle()
        self.assertEqual(len(view.readings.now()), 4)


if __name__ == "__main__":
    unittest.main()
