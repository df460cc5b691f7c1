"""How a surface bends and what stands out of it: against what is known of shapes, and as it is looked at."""

import threading
import time
import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from scipy.spatial import cKDTree

from tests import specimens
from tests.hands import WindowTest
from tinsnip.app.view.looks import CURVATURE, DENSITY, RELIEF, STRIPES
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.progress import DONE, polled_here
from tinsnip.survey.curvature import curvature_of, relief_of
from tinsnip.survey.walls import walls_of


def torus_bends(points: np.ndarray, large: float, small: float) -> tuple[np.ndarray, np.ndarray]:
    """Both main bendings of a torus about z (do Carmo, Differential geometry of curves and surfaces, 3-3)."""
    out = (np.hypot(points[:, 0], points[:, 1]) - large) / small
    return np.full(len(points), 1 / small), out / (large + small * out)


class Bending(unittest.TestCase):
    def test_spheres_tubes_and_rings_bend_as_they_do(self) -> None:
        for size, at in ((1.0, 0.0), (1e-2, 500.0), (1e3, -1e5)):
            ball = specimens.sphere(40.0 * size, 40).mesh
            bends = curvature_of(ball.moved(ball.vertices + at))
            for one in bends:
                off = np.abs(one * (20.0 * size) - 1.0)
                self.assertLess(np.median(off), 0.01)
                self.assertLess(off.max(), 0.1)
            inside_out = curvature_of(Mesh(ball.vertices, ball.faces[:, ::-1]))
            np.testing.assert_allclose(inside_out.largest, -1 / (20.0 * size), rtol=0.1)

    def test_a_ring_round_about(self) -> None:
        whole = specimens.torus(40.0, 100)
        points = whole.mesh.vertices
        round_z = np.hypot(points[:, 0], points[:, 1])
        large, small = 0.5 * (round_z.max() + round_z.min()), 0.5 * (round_z.max() - round_z.min())
        one, other = torus_bends(points, large, small)
        for noise, most in ((0.0, 0.03), (0.002, 0.25)):
            rough = points + noise * np.random.default_rng(0).normal(size=points.shape)
            bends = curvature_of(whole.mesh.moved(rough))
            np.testing.assert_allclose(bends.mean, 0.5 * (one + other), atol=most / small)
            np.testing.assert_allclose(bends.largest, one, atol=2 * most / small)

    def test_relief_is_told_and_the_form_is_not(self) -> None:
        """Letters of 0.1 mm on a ball of 20 mm, by how far each vertex lies off the ball."""
        ball = specimens.sphere(40.0, 60).mesh
        way = vertex_normals(ball.vertices, ball.faces).astype(float)
        centres = ball.vertices[::900]
        near = cKDTree(centres).query(ball.vertices)[0]
        height = np.where(near < 1.2, 0.1, 0.0)
        told = relief_of(ball.moved(ball.vertices + height[:, None] * way))
        self.assertLess(np.abs(relief_of(ball)).max(), 0.03)
        self.assertLess(np.abs(told[near > 8.0]).max(), 0.03)
        self.assertGreater(np.median(told[near < 0.5]), 0.035)
        self.assertLess(np.median(relief_of(ball.moved(ball.vertices - height[:, None] * way))[near < 0.5]), -0.035)

    def test_any_mesh(self) -> None:
        soup = Mesh(np.array([[0, 0, 0], [1, 0, 0], [1, 0, 0], [2, 0, 0.0]]), [[0, 1, 2], [0, 1, 3], [0, 1, 1]])
        for mesh in (soup, Mesh(np.zeros((0, 3)), np.zeros((0, 3), dtype=int)), specimens.sphere(1.0, 3).mesh):
            for values in (*curvature_of(mesh), relief_of(mesh)):
                self.assertTrue(np.isfinite(values).all())
                self.assertEqual(values.shape, (len(mesh.vertices),))


class InTheWindow(WindowTest):
    def spread(self) -> float:
        """How much the middle of the view differs in brightness."""
        height, width, _ = self.picture().shape
        middle = self.picture()[height // 3 : 2 * height // 3, width // 3 : 2 * width // 3].astype(float)
        return float(middle.mean(axis=2).std())

    def test_painted_read_and_changed(self) -> None:
        ball = specimens.sphere(40.0, 50).mesh
        way = vertex_normals(ball.vertices, ball.faces).astype(float)
        height = 0.15 * np.sign(np.cos(1.6 * ball.vertices).prod(axis=1))  # the same from each side
        self.put_up(ball.moved(ball.vertices + height[:, None] * way))
        view, paints, middle = self.view, self.view.paints, (self.view.width() // 2, self.view.height() // 2)
        plain = self.spread()
        self.key(Qt.Key.Key_J)
        self.settle()
        self.assertEqual((view.look, paints.stripes.isVisible()), (STRIPES, True))
        self.assertGreater(self.spread(), 2 * plain)
        before = self.picture()
        paints.stripes.field.setValue(40)
        self.settle()
        self.assertGreater((np.abs(self.picture() - before).max(axis=2) > 60).mean(), 0.02)
        # lamps that stand with the part turn with it: what is seen from the side is another picture
        for still in (False, True):
            paints.stripes.still.setChecked(still)
            view.framing.look_from(0, 0)
            self.settle()
            front = self.picture()
            view.framing.look_from(90, 0)
            self.settle()
            self.assertEqual((np.abs(self.picture() - front).max(axis=2) > 60).mean() > 0.1, still)
        self.click(view, *middle)
        self.wait_for(lambda: len(self.window.pins.pins) == 1)
        self.assertIn("° from upright", self.window.pins.pins[0].text)
        self.key(Qt.Key.Key_B)
        self.wait_for(lambda: view.scene.now.values_of == CURVATURE)
        self.assertTrue(paints.curvature.isVisible() and not paints.stripes.isVisible())
        paints.curvature.kind.setCurrentIndex(paints.curvature.kind.findData("mean"))
        paints.curvature.field.setValue(5.0)
        self.assertAlmostEqual(view.scene.limit, 0.2, places=6)
        self.settle()
        self.click(view, *middle)
        self.wait_for(lambda: len(self.window.pins.pins) == 1 and self.window.pins.pins[0].look == CURVATURE)
        self.assertRegex(self.window.pins.pins[0].text, r"^(flat|R [\d.e+]+ mm, (round|hollow))$")
        self.key(Qt.Key.Key_B, Qt.KeyboardModifier.ShiftModifier)
        self.wait_for(lambda: view.scene.now.values_of == RELIEF)
        self.settle()
        self.assertTrue(paints.relief.isVisible())
        self.assertGreater(self.spread(), 2 * plain)
        self.click(view, *middle)
        self.wait_for(lambda: len(self.window.pins.pins) == 1 and self.window.pins.pins[0].look == RELIEF)
        self.assertTrue(0.01 < abs(float(self.window.pins.pins[0].text.split()[0])) < 0.3)


class WorkedOut(WindowTest):
    """Looks that take a while say so; changed quickly, the last one stands."""

    def test_progress_failure_and_quick_changes(self) -> None:
        self.put_up(specimens.bored_box(60.0, 40).mesh)
        wall, scene, going_on = self.view.paints.wall, self.view.scene, threading.Event()

        def slowly(mesh: Mesh) -> np.ndarray:
            polled_here()[DONE:] = 43, 100
            going_on.wait(20)
            return walls_of(mesh)

        with mock.patch("tinsnip.app.view.paints.walls_of", slowly):
            QTest.keyClick(self.view, Qt.Key.Key_A)
            end = time.monotonic() + 20
            while "%" not in wall.note.text() and time.monotonic() < end:
                self.application.processEvents()
            self.assertEqual(wall.note.text(), "Being worked out, 43 %")
            going_on.set()
            self.settle()
        self.assertIn("thinner", wall.note.text())
        self.key(Qt.Key.Key_T)
        with mock.patch("tinsnip.app.view.paints.curvature_of", side_effect=BadInput("nothing bends here")):
            self.key(Qt.Key.Key_B)
        self.assertIn("could not be worked out: nothing bends here", self.view.paints.curvature.note.text())
        for key in "AYBAYTAYAYB":
            QTest.keyClick(self.view, getattr(Qt.Key, f"Key_{key}"))
            self.application.processEvents()
        self.settle()
        self.assertEqual((self.view.look, scene.now.values_of), (CURVATURE, CURVATURE))
        self.assertIn("read a radius", self.view.paints.curvature.note.text())
        self.key(Qt.Key.Key_Y)
        self.assertEqual(scene.now.values_of, DENSITY)
        self.assertFalse(self.view.paints.density.note.isVisible())


class Light(WindowTest):
    """What shading by depth, the ground and the lights add to the picture, and that each goes as it came."""

    shades = True
    size = 1100, 720

    def put_down(self, above: float) -> None:
        """A block with a groove across its top, so far above the bed."""
        size = 40.0
        line = np.array([(-1, 0), (-1, 1), (-0.2, 1), (-0.2, 0.5), (0.2, 0.5), (0.2, 1), (1, 1), (1, 0)]) * size / 2
        n = len(line)
        points = np.concatenate([np.insert(line, 1, y, axis=1) for y in (-size / 2, size / 2)]) + np.array(
            [0, 0, above]
        )
        around = np.arange(n)
        follow = (around + 1) % n
        sides = np.concatenate(
            [np.stack([around, around + n, follow], 1), np.stack([follow, around + n, follow + n], 1)]
        )
        caps = np.array([(0, 1, 2), (0, 2, 3), (0, 3, 4), (0, 4, 7), (4, 5, 7), (5, 6, 7)])
        mesh = Mesh(points, np.concatenate([sides, caps, caps[:, ::-1] + n]))
        self.put_up(mesh if mesh.volume > 0 else Mesh(points, mesh.faces[:, ::-1]))
        self.view.framing.look_from(25.0, 50.0)
        self.settle()

    def test_depth_ground_and_lights(self) -> None:
        self.put_down(0.0)
        shift, control = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier
        self.key(Qt.Key.Key_9)  # a tray without a preview
        with_all = self.picture()
        self.key(Qt.Key.Key_I)
        plain = self.picture()
        self.key(Qt.Key.Key_I, shift)
        bare = self.picture()
        ground = bare[5, 5]
        part = (np.abs(bare - ground).max(axis=2) > 30).mean()
        # the shadow only darkens, and only beside the part
        darker = bare.sum(axis=2) - plain.sum(axis=2)
        self.assertGreaterEqual(darker.min(), -2)
        self.assertGreater((darker > 12).mean(), 0.02)
        self.assertTrue((np.abs(bare - ground).max(axis=2) < 8)[darker > 12].mean() > 0.98)
        # depth shades the part alone: its edges and the groove, and little else
        shaded = np.abs(with_all - plain).max(axis=2) > 4
        self.assertGreater(shaded.mean(), 0.01 * part)
        self.assertLess(shaded.mean(), 0.5 * part)
        self.assertLess(np.abs(with_all - plain)[np.abs(plain - bare).max(axis=2) > 6].max(), 1)
        # the middle of the groove's floor, seen from above, lies deep between its walls
        column, row, _ = self.view.camera.project(np.array([[3.2, 0.0, 10.0]]))[0].astype(int)
        self.assertLess(with_all[row, column].sum(), plain[row, column].sum())
        self.view.framing.look_from(25.0, -30.0)
        self.settle()
        from_below = self.picture()
        self.key(Qt.Key.Key_I, shift)
        np.testing.assert_array_equal(self.picture(), from_below)
        self.view.framing.look_from(25.0, 50.0)
        self.settle()
        np.testing.assert_array_equal(self.picture(), plain)
        middle = (self.view.width() // 2, self.view.height() // 2)
        QTest.mousePress(self.view, Qt.MouseButton.RightButton, control, QPoint(*middle))
        QTest.mouseMove(self.view, QPoint(middle[0] - 150, middle[1] + 60))
        QTest.mouseRelease(self.view, Qt.MouseButton.RightButton, control, QPoint(middle[0] - 150, middle[1] + 60))
        self.settle()
        turned = self.picture()
        self.assertGreater((np.abs(turned - plain).max(axis=2) > 10).mean(), 0.4 * part)
        self.key(Qt.Key.Key_L, control)
        np.testing.assert_array_equal(self.picture(), plain)
        self.assertEqual((self.window.settings.shades_depth, self.window.settings.has_ground), (False, True))

    def test_what_hangs_in_the_air_has_no_ground(self) -> None:
        self.put_down(5.0)
        before = self.picture()
        self.key(Qt.Key.Key_I, Qt.KeyboardModifier.ShiftModifier)
        np.testing.assert_array_equal(self.picture(), before)


if __name__ == "__main__":
    unittest.main()
