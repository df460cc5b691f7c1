"""Strokes: what a brush moves costs what lies under it, is seen at once, and comes to the same as its step."""

import threading
import unittest
from pathlib import Path
from typing import ClassVar
from unittest import mock

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import seeds
from tinsnip.errors import Cancelled
from tinsnip.job.step import moved_action
from tinsnip.mesh import MEASURED, SHIFTED, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.progress import Progress
from tinsnip.space.tree import build_tree, closest_points
from tinsnip.survey import examine
from tinsnip.treat import TREATMENTS, BrushStroke, Context
from tinsnip.treat.stroke import Stroke
from tinsnip.treat.working import Working

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest

    from tinsnip.app.view.hand import Drag, Pointer, Tool
    from tinsnip.formats import write_mesh


class Dent(Stroke):
    """A brush that the product does not know: pushes the surface along its normals."""

    name: ClassVar[str] = "dent"
    title: ClassVar[str] = "Dent"
    by_mm: float = 0.1

    def touch(self, working: Working, place: np.ndarray) -> np.ndarray:
        near = working.within(place, self.radius_mm)
        far = np.linalg.norm(working.vertices[near] - place, axis=1) / self.radius_mm
        step = self.by_mm * (1 - far**2)[:, None] ** 2 * working.normals_at(near)
        working.move(near, working.vertices[near] + step)
        return near


def damaged(seed: int) -> Mesh:
    """A ball with holes, doubled and turned triangles, far off or tiny, and another that touches it."""
    rng = np.random.default_rng(seed)
    ball = specimens.sphere(20.0, 14).mesh
    faces = ball.faces[rng.random(len(ball.faces)) > 0.1]
    faces = np.concatenate([faces, faces[:5], faces[5:9, ::-1], faces[9:12, [0, 0, 1]]])
    vertices = np.concatenate([ball.vertices, ball.vertices * 0.97])
    faces = np.concatenate([faces, ball.faces[:300] + len(ball.vertices)])
    scale, away = rng.choice([1e-3, 1.0, 1e3]), rng.choice([0.0, 1e5])
    return Mesh(vertices * scale + away, faces)


class UnderTheBrush(unittest.TestCase):
    def test_what_it_is_asked_is_what_all_of_the_mesh_tells(self) -> None:
        for seed in seeds(24):
            with self.subTest(seed=seed):
                mesh, rng = damaged(seed), np.random.default_rng(seed)
                working, size = Working(mesh), mesh.diagonal
                examine(mesh)
                for _ in range(4):
                    place = working.vertices[rng.integers(len(working.vertices))]
                    radius = size * rng.uniform(0.05, 0.3)
                    near = working.within(place, radius)
                    self.assertEqual(near.tolist(), self.spread(working, place, radius))
                    touched = np.flatnonzero(np.isin(mesh.faces, near).any(axis=1))
                    self.assertEqual(working.triangles_at(near).tolist(), touched.tolist())
                    whole = vertex_normals(working.vertices, mesh.faces)
                    np.testing.assert_array_equal(working.normals_at(near), whole[near])
                    moved = working.vertices[near] + rng.normal(size=(len(near), 3)) * 0.02 * size
                    np.testing.assert_array_equal(working.move(near, moved), touched)
                asked = rng.normal(size=(200, 3)) * size + mesh.box.mean(axis=0)
                fresh, state = build_tree(working.vertices.copy(), mesh.faces), Progress().state
                for one, other in zip(
                    closest_points(working.tree, asked, state), closest_points(fresh, asked, state), strict=True
                ):
                    if one.dtype.kind == "f":  # of triangles equally near either is right
                        np.testing.assert_array_equal(one, other)
                after = working.finished()
                others = (after.vertices != mesh.vertices).any(axis=1)
                self.assertTrue((mesh.vertices == damaged(seed).vertices).all())
                shifted = others[mesh.faces].any(axis=1)
                np.testing.assert_array_equal(after.provenance, np.where(shifted, SHIFTED, MEASURED))
                # what was handed on is what would be found anew
                anew = examine(Mesh(after.vertices, after.faces, after.provenance)).counts()
                self.assertEqual(repr(examine(after).counts()), repr(anew))

    def spread(self, working: Working, place: np.ndarray, radius: float) -> list[int]:
        """From the closest triangle along edges within the ball, one after another."""
        faces = working.before.faces
        best = closest_points(working.tree, place[None], Progress().state)[1][0]
        inside = np.linalg.norm(working.vertices - place, axis=1) <= radius
        found, todo = set(), [v for v in faces[best].tolist() if inside[v]]
        while todo:
            v = todo.pop()
            if v in found:
                continue
            found.add(v)
            todo += [w for w in faces[(faces == v).any(axis=1)].ravel().tolist() if inside[w]]
        return sorted(found)

    def test_a_stroke_goes_along_when_the_part_stands_otherwise(self) -> None:
        stroke = BrushStroke(places=((1.0, 2.0, 3.0), (2.0, 2.0, 3.0)))
        turned = np.array([[0, -1.0, 0, 5.0], [1.0, 0, 0, 0], [0, 0, 1.0, 0], [0, 0, 0, 1.0]])
        moved = moved_action(stroke, [turned])  # it is mirrored nowhere: that list stays empty
        self.assertEqual(moved.places, ((3.0, 1.0, 3.0), (3.0, 2.0, 3.0)))
        self.assertEqual((moved.mirrored, moved.pressures), ((), ()))

    def test_nothing_to_touch_is_said(self) -> None:
        ball = specimens.sphere(20.0, 14).mesh
        for mesh, places in ((ball, ()), (ball, ((900.0, 0.0, 0.0),)), (Mesh(np.zeros((0, 3)), []), ((0.0,) * 3,))):
            outcome = Dent(radius_mm=2.0, places=places).apply(mesh, Context())
            self.assertIs(outcome.mesh, mesh)
            self.assertIn("nothing moved", outcome.text)


class Dents(Tool if SCREEN else object):
    """The brush in the hand."""

    name = "Dent"

    def press(self, at: "Pointer") -> "Drag | None":
        return self._stroke(at) if self.is_on_part(at) else None

    def _stroke(self, at: "Pointer") -> "Drag":
        stroking = self.view.stroking
        if not stroking.begin(Dent(radius_mm=3.0, by_mm=0.4)):
            return
        try:
            while at.is_down:
                place = stroking.hit(*self.view.camera.ray_from_outside(at.x, at.y))
                if place is not None:
                    stroking.touch(place)
                at = yield
        except GeneratorExit:
            stroking.cancel()
            raise
        stroking.end()


class ByHand(WindowTest):
    def setUp(self) -> None:
        super().setUp()
        patch = mock.patch.dict(TREATMENTS, {Dent.name: Dent})
        patch.start()
        self.addCleanup(patch.stop)

    def test_a_stroke_is_seen_at_once_and_is_one_step(self) -> None:
        path = Path(self.folder.name) / "ball.ply"
        write_mesh(specimens.sphere(40.0, 125).mesh, path)  # with a light stand-in, as all that is dense
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.view.stroking.prepare()
        self.settle()
        mesh, surface = self.session.mesh, self.view.scene.now
        self.view.hand.take(Dents(self.view))
        for look in (0, 2):  # tin, and what tells triangles one by one
            self.view.set_look(look)
            self.settle()
            before, log = self.pixels(), len(self.session.job.log)
            here = self.session.mesh
            x, y = self.view.width() // 2, self.view.height() // 2
            QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
            for step in range(1, 9):
                QTest.mouseMove(self.view, QPoint(x + 9 * step, y + 4 * step))
                self.application.processEvents()
            self.assertIs(self.session.mesh, here)  # nothing is done before the button is let go
            self.settle()
            during = self.pixels()
            self.assertFalse(np.array_equal(before, during))
            self.view.redraw()
            self.settle()
            self.assert_same(during, self.pixels())  # what was drawn in part is as all of it drawn
            QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=QPoint(x + 72, y + 32))
            self.settle()
            self.assertEqual(len(self.session.job.log), log + 1)
            self.assertIs(self.view.scene.now, surface)  # nothing was brought over anew
            after, stroke = self.session.mesh, self.session.job.log[-1].action
            self.assertGreater(len(stroke.places), 5)
            np.testing.assert_array_equal(stroke.apply(here, Context()).mesh.vertices, after.vertices)
            shown = self.pixels()
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
            np.testing.assert_array_equal(self.session.mesh.vertices, here.vertices)
            self.assert_same(before, self.pixels())
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
            np.testing.assert_array_equal(self.session.mesh.vertices, after.vertices)
            self.assert_same(shown, self.pixels())
        self.assertFalse(np.array_equal(mesh.vertices, self.session.mesh.vertices))

    def test_escape_puts_the_surface_back(self) -> None:
        path = Path(self.folder.name) / "ball.ply"
        write_mesh(specimens.sphere(40.0, 40).mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.view.stroking.prepare()
        self.settle()
        self.view.hand.take(Dents(self.view))
        before, mesh = self.pixels(), self.session.mesh
        x, y = self.view.width() // 2, self.view.height() // 2
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
        QTest.mouseMove(self.view, QPoint(x + 20, y))
        self.settle()
        self.assertFalse(np.array_equal(before, self.pixels()))
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(self.view.stroking.is_under_way)
        self.assertIs(self.session.mesh, mesh)
        self.assert_same(before, self.pixels())
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=QPoint(x + 20, y))
        self.settle()
        self.assertEqual(len(self.session.job.log), 1)

    def assert_same(self, one: np.ndarray, other: np.ndarray) -> None:
        """The same picture, but for the last bit of a level: a renderer rounds by where it begins."""
        self.assertLessEqual(int(np.abs(one.astype(int) - other).max()), 1)

    def test_a_stroke_that_cannot_become_a_step_is_put_back(self) -> None:
        path = Path(self.folder.name) / "ball.ply"
        write_mesh(specimens.sphere(40.0, 40).mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        stroking, tasks = self.view.stroking, self.session.tasks
        stroking.prepare()
        self.settle()
        before, mesh = self.pixels(), self.session.mesh

        def draw() -> None:
            self.assertTrue(stroking.begin(Dent(radius_mm=4.0, by_mm=0.5)))
            stroking.touch(
                stroking.hit(*self.view.camera.ray_from_outside(self.view.width() / 2, self.view.height() / 2))
            )
            self.assertTrue(stroking.is_under_way)

        draw()  # something else has begun meanwhile
        gate = threading.Event()
        tasks.foreground("Waiting", lambda progress: gate.wait(20), lambda result: None)
        stroking.end()
        gate.set()
        self.settle()
        self.assert_same(before, self.pixels())
        draw()  # it is stopped by its Cancel
        with mock.patch.object(Dent, "accounted", side_effect=Cancelled):
            stroking.end()
            self.settle()
        self.assertIs(self.session.mesh, mesh)
        self.assert_same(before, self.pixels())
        draw()
        stroking.end()
        self.settle()
        self.assertIsNot(self.session.mesh, mesh)
        self.assertEqual(len(self.session.job.log), 2)

    def pixels(self) -> np.ndarray:
        """What the view shows of the part, without what lies over it."""
        image = self.view.grabFramebuffer()
        return np.frombuffer(image.bits(), dtype=np.uint8).reshape(image.height(), -1).copy()


if __name__ == "__main__":
    unittest.main()
