"""Selecting without harm: what is taken, what is never taken, and what is said before it goes."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.regions import Region
from tinsnip.regions.grow import brushed, flat_round, grown, places_of, shrunk, whole_shell
from tinsnip.treat import Context, Delete, Extract, Smooth

if SCREEN:
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QAbstractButton

    CONTROL = Qt.KeyboardModifier.ControlModifier


def two_shells() -> Mesh:
    """A bored box, and a thin wall of a ball close to it."""
    box, ball = specimens.bored_box(40.0, 40).mesh, specimens.sphere(6.0, 16).mesh
    place = np.array([0.0, 0.0, box.box[1, 2] + 3.2])
    return Mesh(
        np.concatenate([box.vertices, ball.vertices + place]),
        np.concatenate([box.faces, ball.faces + len(box.vertices)]),
    )


class Found(unittest.TestCase):
    """Against a second, slower way: by hand over all triangles."""

    def setUp(self) -> None:
        self.mesh = two_shells()
        corners = self.mesh.vertices[self.mesh.faces]
        vectors = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self.facing = vectors / np.linalg.norm(vectors, axis=1)[:, None]
        self.middles = corners.mean(axis=1)
        on_top = (self.facing[:, 2] > 0.999) & (self.mesh.shells.label == self.mesh.shells.label[0])
        self.top = np.flatnonzero(on_top & (self.middles[:, 2] > self.mesh.shells.box[0][1, 2] - 1e-6))

    def test_a_flat_is_all_of_it_and_nothing_else(self) -> None:
        self.assertEqual(set(flat_round(self.mesh, int(self.top[0]), 12.0).tolist()), set(self.top.tolist()))

    def test_a_brush_climbs_no_side_and_jumps_to_no_shell(self) -> None:
        seed = int(self.top[np.argmax(self.middles[self.top, 0])])
        point = self.middles[seed]
        found = brushed(self.mesh, seed, point, 8.0, 40.0)
        corners = self.mesh.vertices[self.mesh.faces[self.top]]
        near = np.minimum(
            np.linalg.norm(corners - point, axis=2).min(axis=1), np.linalg.norm(self.middles[self.top] - point, axis=1)
        )
        self.assertEqual(set(found.tolist()), set(self.top[near <= 8.0].tolist()))
        around = brushed(self.mesh, seed, point, 8.0, 180.0)  # with no limit it goes round the edge, not to the ball
        self.assertGreater(len(around), len(found))
        self.assertEqual(set(self.mesh.shells.label[around].tolist()), {self.mesh.shells.label[seed]})

    def test_shells_rows_and_places(self) -> None:
        shell = whole_shell(self.mesh, len(self.mesh.faces) - 1)
        self.assertTrue((shell >= len(specimens.bored_box(40.0, 40).mesh.faces)).all())
        chosen = np.zeros(len(self.mesh.faces), dtype=bool)
        chosen[brushed(self.mesh, int(self.top[0]), self.middles[self.top[0]], 4.0)] = True
        more = grown(self.mesh, chosen, 2)
        slow = chosen
        for _ in range(2):
            ends = set(self.mesh.faces[slow].ravel().tolist())
            slow = np.array([bool(ends & set(f)) for f in self.mesh.faces.tolist()])
        self.assertTrue((more == slow).all())
        self.assertTrue((shrunk(self.mesh, more, 2) & ~more).sum() == 0)
        self.assertTrue((~shrunk(self.mesh, ~more, 1) == grown(self.mesh, more, 1)).all())
        chosen[shell] = True
        self.assertEqual(len(set(places_of(self.mesh, chosen).tolist())), 2)


class Taken(unittest.TestCase):
    def test_what_is_deleted_goes_and_all_else_stays_to_the_bit(self) -> None:
        mesh = two_shells()
        rng = np.random.default_rng(0)
        for seed in range(12):
            chosen = np.zeros(len(mesh.faces), dtype=bool)
            first = int(rng.integers(len(mesh.faces)))
            chosen[brushed(mesh, first, mesh.vertices[mesh.faces[first]].mean(axis=0), 3.0 + seed)] = True
            outcome = Delete(triangles=Region.of(mesh, chosen)).apply(mesh, Context())
            parts = Extract(triangles=Region.of(mesh, chosen)).apply([mesh], Context()).parts
            wanted, gone = mesh.vertices[mesh.faces[~chosen]], mesh.vertices[mesh.faces[chosen]]
            for left in (outcome.mesh, parts[0].mesh):
                self.assertEqual(left.vertices[left.faces].tobytes(), wanted.tobytes())
            self.assertEqual(parts[1].mesh.vertices[parts[1].mesh.faces].tobytes(), gone.tobytes())

    def test_what_comes_loose_goes_with_it_and_what_was_small_before_stays(self) -> None:
        mesh = two_shells()
        label, ball = mesh.shells.label, mesh.shells.label[-1]
        own = np.flatnonzero(label == label[0])
        cap = np.zeros(len(mesh.faces), dtype=bool)
        middle = mesh.vertices[mesh.faces[own[0]]].mean(axis=0)
        near, far = (brushed(mesh, int(own[0]), middle, r, 180.0) for r in (3.0, 12.0))
        cap[far] = True
        cap[near] = False  # a moat: what lies within comes loose
        outcome = Delete(triangles=Region.of(mesh, cap), loose=len(near) + 1).apply(mesh, Context())
        self.assertEqual(outcome.account.figures["loose"], len(near))
        self.assertEqual(int((label == ball).sum()), int(outcome.mesh.shells.triangles.min()))

    def test_nothing_and_everything(self) -> None:
        mesh = two_shells()
        self.assertIs(Delete().apply(mesh, Context()).mesh, mesh)
        every = Region.of(mesh, np.ones(len(mesh.faces), dtype=bool))
        with self.assertRaisesRegex(BadInput, "nothing would be left"):
            Delete(triangles=every).apply(mesh, Context())
        for region in (every, Region()):
            with self.assertRaises(BadInput):
                Extract(triangles=region).apply([mesh], Context())


class InTheWindow(WindowTest):
    """By the tools of the Trim tray, the bar, and keys."""

    def setUp(self) -> None:
        super().setUp()
        path = Path(self.folder.name) / "two.ply"
        write_mesh(two_shells(), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.view.framing.look_from(0.0, 90.0)
        self.view.framing.fit()
        self.key(Qt.Key.Key_3)
        self.key(Qt.Key.Key_Escape)
        self.bar, self.selected = self.window.selection_bar, self.session.selected

    def take(self, name: str) -> None:
        tray = self.window.tray("Trim")
        button = next(b for b in tray.findChildren(QAbstractButton) if b.accessibleName() == name)
        tray.scroll.ensureWidgetVisible(button)
        self.click(button)

    def at(self, point: np.ndarray) -> tuple[float, float]:
        x, y = self.view.camera.project(point)[0, :2]
        return float(x), float(y)

    def rest(self) -> None:
        QTest.qWait(250)
        self.settle()

    def test_brushed_told_grown_taken_back_and_deleted(self) -> None:
        mesh, box = self.session.mesh, self.session.mesh.box
        self.assertFalse(self.bar.isVisible())
        self.take("Brush a selection")
        inside = 0.5 * (box[0] + box[1])
        low, high = (np.array([f * box[1, 0], 0.75 * box[1, 1], box[1, 2]]) for f in (-0.6, 0.6))
        self.drag(self.at(low), self.at(high), Qt.MouseButton.LeftButton)
        self.rest()
        chosen = self.selected.triangles
        self.assertGreater(self.selected.count, 20)
        # only what is seen from there: nothing of the sides, the far side, or the other shell
        corners = mesh.vertices[mesh.faces[chosen]]
        self.assertTrue((np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 2] > 0).all())
        self.assertTrue((corners[:, :, 2] > inside[2]).all())
        self.assertEqual(len(set(mesh.shells.label[chosen].tolist())), 1)
        self.assertTrue(self.bar.isVisible())
        self.assertIn("in 1 place", self.bar.text.text())
        x, y = (round(c) for c in self.at(0.5 * (low + high)))
        around = self.picture()[y - 3 : y + 3, x - 3 : x + 3].reshape(-1, 3)
        self.assertTrue((around[:, 1] > around[:, 2] + 40).all())  # chartreuse, triangle by triangle
        first = self.selected.count
        self.click(self.bar.buttons["Grow"])
        self.rest()
        self.assertGreater(self.selected.count, first)
        self.click(self.bar.buttons["Previous"])
        self.assertTrue((self.selected.triangles == chosen).all())
        self.assertEqual(len(self.session.job.log), 1)
        # a stroke that is left with Esc had not been
        start = self.at(low)
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=self.view.rect().center() * 0 + self.point(start))
        QTest.mouseMove(self.view, self.point((start[0], start[1] + 60)))
        QTest.keyClick(self.view, Qt.Key.Key_Escape)
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=self.point(start))
        self.settle()
        self.assertTrue((self.selected.triangles == chosen).all())
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(self.session.job.log[-1].action.name, "delete")
        self.assertEqual(len(self.session.mesh.faces), len(mesh.faces) - first)
        self.assertEqual(self.selected.count, 0)
        self.assertFalse(self.bar.isVisible())
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertIs(self.session.mesh, mesh)

    @staticmethod
    def point(at: tuple[float, float]) -> object:
        from PySide6.QtCore import QPoint

        return QPoint(round(at[0]), round(at[1]))

    def test_what_is_forgotten_out_of_view_is_announced(self) -> None:
        mesh = self.session.mesh
        self.take("Select a shell")
        ball = mesh.vertices[mesh.faces[-1]].mean(axis=0)
        top = mesh.vertices[np.argmax(mesh.vertices[:, 2])]
        # what the click would take is lit before it, and nothing of it is selected
        x, y = (round(v) for v in self.at(top))
        dull = self.picture()[y - 4 : y + 4, x - 4 : x + 4].mean(axis=(0, 1))
        QTest.mouseMove(self.view, self.point((x, y)))
        self.wait_for(lambda: self.selected.lit is not None)
        self.assertTrue((self.selected.lit == (mesh.shells.label == mesh.shells.label[-1])).all())
        self.assertEqual(self.selected.count, 0)
        self.settle()
        bright = self.picture()[y - 4 : y + 4, x - 4 : x + 4].mean(axis=(0, 1))
        self.assertGreater((bright - dull)[1] - (bright - dull)[2], 15)  # towards chartreuse
        QTest.mouseMove(self.view, self.point((3, 3)))
        self.wait_for(lambda: self.selected.lit is None)
        self.click(self.view, x, y)
        self.rest()
        self.assertEqual(self.selected.count, int((mesh.shells.label == mesh.shells.label[-1]).sum()))
        self.key(Qt.Key.Key_Escape)
        corner = np.array([*self.session.mesh.box[1, :2], ball[2]])
        for _ in range(14):
            self.wheel(*self.at(corner), 1)
        self.assertEqual(self.bar.out_of_view(), 1)
        self.assertIn("1 out of view", self.bar.text.text())
        self.answer_question("Keep")
        self.key(Qt.Key.Key_Delete)
        self.assertIs(self.session.mesh, mesh)
        self.come_back()
        self.answer_question("Delete")
        self.key(Qt.Key.Key_Delete)
        self.settle()
        self.assertEqual(len(self.session.mesh.shells), 1)

    def test_much_is_asked_about_with_what_it_costs(self) -> None:
        """Over a tenth of the part goes only when asked; steps that could be redone are told of."""
        mesh = self.session.mesh
        self.key(Qt.Key.Key_6)
        self.session.apply(Smooth(iterations=1))
        self.settle()
        self.key(Qt.Key.Key_Z, CONTROL)
        self.take("Select a flat")
        box = specimens.bored_box(40.0, 40).mesh.box
        self.click(self.view, *self.at(np.array([0.8 * box[1, 0], 0.8 * box[1, 1], box[1, 2]])))
        self.rest()
        self.click(self.bar.buttons["Invert"])
        self.rest()
        self.assertGreater(self.selected.count, 0.5 * len(mesh.faces))
        asked = self.answer_question("Keep")
        self.key(Qt.Key.Key_Delete)
        self.settle()
        self.assertRegex(asked[0], r"% of the part.*\?.*1 step that could be redone now no longer can be then")
        self.assertIs(self.session.mesh, mesh)
        self.assertTrue(self.session.job.can_redo)
        said: list[str] = []
        self.session.message.connect(lambda text, _: said.append(text))
        self.come_back()
        self.answer_question("Delete")
        self.key(Qt.Key.Key_Delete)
        self.settle()
        self.assertEqual(self.session.job.log[-1].action.name, "delete")
        self.assertTrue(any("1 undone step is gone from the log" in text for text in said), said)

    def test_a_flat_becomes_a_piece_and_every_treatment_clears_the_selection(self) -> None:
        mesh = self.session.mesh
        self.take("Select a flat")
        box = specimens.bored_box(40.0, 40).mesh.box
        self.click(self.view, *self.at(np.array([0.8 * box[1, 0], 0.8 * box[1, 1], box[1, 2]])))
        self.rest()
        count = self.selected.count
        self.assertGreater(count, 50)
        self.click(self.bar.buttons["Piece"])
        self.assertEqual(sorted(len(p.mesh.faces) for p in self.session.job.pieces), [count, len(mesh.faces) - count])
        self.assertEqual(self.selected.count, 0)
        self.key(Qt.Key.Key_Z, CONTROL)
        self.click(self.view, *self.at(np.array([0.8 * box[1, 0], 0.8 * box[1, 1], box[1, 2]])))
        self.rest()
        self.assertGreater(self.selected.count, 50)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Smooth")
        self.click(tray.copper)
        self.assertEqual(self.selected.count, 0)


if __name__ == "__main__":
    unittest.main()
