"""How thick walls are: on shells of known wall, on coarse and open meshes, and in the window."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.random_scans import moved
from tests.test_shapes import put, sheet, together
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.survey import Kind
from tinsnip.survey.walls import find_thin_walls, thin_places, walls_of

if SCREEN:
    from PySide6.QtCore import Qt


def hollow_ball(size: float, wall: float, n: int = 40) -> Mesh:
    ball = specimens.sphere(size, n).mesh
    return together(ball, Mesh(ball.vertices * (1 - 2 * wall / size), ball.faces[:, ::-1]))


def crate() -> Mesh:
    """A box of twelve triangles, 100 by 60 by 7."""
    corners = np.array([[x, y, z] for x in (0, 100) for y in (0, 60) for z in (0, 7)], dtype=float)
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return Mesh(corners, np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))]))


class Measured(unittest.TestCase):
    def test_shells_of_known_wall(self) -> None:
        rng = np.random.default_rng(0)
        for size in (0.5, 100.0, 3000.0):
            for share in (0.01, 0.05, 0.2):
                with self.subTest(size=size, share=share):
                    wall = share * size
                    mesh = moved(rng, hollow_ball(size, wall, 60 if share < 0.05 else 40), size)
                    walls = walls_of(mesh)
                    self.assertLess(np.quantile(np.abs(walls - wall), 0.99), (0.02 if share < 0.2 else 0.1) * wall)

    def test_coarse_open_and_empty_ones(self) -> None:
        box = crate()
        self.assertGreater(walls_of(box).min(), 0)
        flat = walls_of(sheet(10.0, 8))
        self.assertTrue(np.isinf(flat).all())
        none = walls_of(Mesh(np.zeros((0, 3)), np.zeros((0, 3))))
        self.assertEqual(len(none), 0)
        self.assertEqual(find_thin_walls(Mesh(np.zeros((0, 3)), np.zeros((0, 3))), 1.0), [])

    def test_thin_places_are_found_each_for_itself(self) -> None:
        thick, thin = hollow_ball(100.0, 8.0), put(hollow_ball(60.0, 1.5), (200.0, 0, 0))
        mesh = together(thick, thin, put(hollow_ball(20.0, 0.5), (0, 200.0, 0)))
        number, count = thin_places(mesh, 3.0)
        found = find_thin_walls(mesh, 3.0)
        self.assertEqual((count, len(found)), (4, 4))  # two balls, each with a skin outside and one within
        self.assertEqual([f.id for f in found], ["W1", "W2", "W3", "W4"])
        self.assertTrue(all(f.kind is Kind.WALL for f in found))
        self.assertGreater(found[0].size, found[2].size)
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        self.assertTrue((number[np.linalg.norm(middles, axis=1) < 60] == -1).all())
        self.assertTrue((number[np.linalg.norm(middles - [200.0, 0, 0], axis=1) < 40] >= 0).all())
        self.assertRegex(found[0].text, r"^wall of 1\.[45]\d* mm$")
        self.assertEqual(find_thin_walls(mesh, 0.1), [])


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_the_look_its_legend_and_the_findings(self) -> None:
        path = Path(self.folder.name) / "balls.ply"
        write_mesh(together(hollow_ball(100.0, 8.0), put(hollow_ball(60.0, 1.5), (120.0, 0, 0))), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_8)
        plain, legend = self.picture(), self.view.paints.wall
        self.key(Qt.Key.Key_A)
        self.assertTrue(legend.isVisible())
        self.wait_for(lambda: self.session.examination.least_wall is not None)
        self.settle()
        self.type_number(legend.field, "3")
        self.settle()
        self.assertEqual([f.id for f in self.session.findings("Solid") if f.kind is Kind.WALL], ["W1", "W2"])
        self.assertIn("2 places thinner", legend.note.text())
        painted = self.picture()
        self.assertGreater((np.abs(painted.astype(int) - plain) > 20).any(axis=-1).mean(), 0.02)
        self.click(legend.select)
        self.settle()
        marked = self.session.selected.triangles
        middles = self.session.mesh.vertices[self.session.mesh.faces].mean(axis=1)
        self.assertTrue(np.array_equal(marked, middles[:, 0] > 70))
        # thicker than asked: nothing is left to select; and away from the look there are no such findings
        self.type_number(legend.field, "1")
        self.settle()
        self.assertIn("Nothing is thinner", legend.note.text())
        self.assertFalse(legend.select.isEnabled())
        self.key(Qt.Key.Key_T)
        self.settle()
        self.assertIsNone(self.session.examination.least_wall)
        self.assertFalse(legend.isVisible())
