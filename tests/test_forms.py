"""Whatever can be a step can be typed: forms, tools in the hand, and the one table of findings."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tinsnip.formats import write_mesh
from tinsnip.job.step import ACTIONS
from tinsnip.regions import Region
from tinsnip.survey import Kind, examine
from tinsnip.treat import Patch, Reduce, StraightSnip, Sweep

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QCheckBox, QComboBox, QDoubleSpinBox

    from tinsnip.app.view.hand import Drag, Pointer, Tool
    from tinsnip.app.widgets.form import Form


class Forms(WindowTest):
    def test_every_action_goes_through_its_form_unharmed(self) -> None:
        given = {"open": {"path": "a.stl"}, "rename": {"to": "cover"}}
        given["rename-datum"] = {"datum": "D1", "to": "bore"}
        for name, kind in ACTIONS.items():
            action = kind(**given.get(name, {}))
            form = Form(action)
            self.assertEqual(form.action(), action, name)
            for field, info in kind.model_fields.items():
                self.assertEqual(form.field(field).toolTip(), info.description or "", name)
        # what was not touched stays as exact as it was, and what is no number stays what it is
        region = Region(runs=((3, 9),), mesh="x", anchors=((0.1, 0.2, 0.3, 0.0, 0.0, 1.0, 2.0),))
        for action in (
            StraightSnip(normal=(0.123456789012, -1 / 3, 1e-9), offset=12.3456789012345, close=True),
            Patch(flow=1 / 3, holes=region),
            Reduce(percent=33.333333333, max_deviation_mm=1.23456789e-3, hold=region, even=True),
            Sweep(chunks="keep", under_mm=2 / 3, shells=Region()),
        ):
            self.assertEqual(Form(action).action(), action)

    def test_what_is_typed_is_what_it_gives(self) -> None:
        form = Form(StraightSnip(offset=1.25))
        told: list[int] = []
        form.changed.connect(lambda: told.append(1))
        form.field("offset").findChild(QDoubleSpinBox).setValue(-7.5)
        form.field("close").findChild(QCheckBox).setChecked(True)
        form.field("waste").findChild(QComboBox).setCurrentIndex(1)
        form.field("normal").findChildren(QDoubleSpinBox)[0].setValue(0.5)
        self.assertEqual(form.action(), StraightSnip(normal=(0.5, 0, 1), offset=-7.5, waste="above", close=True))
        self.assertEqual(len(told), 4)
        # a number that may be left out has a tick; its limits are those of the field
        form = Form(Reduce(triangles=500))
        row = form.field("triangles")
        self.assertEqual(row.findChild(QDoubleSpinBox).minimum(), 4)
        row.findChild(QCheckBox).setChecked(False)
        form.field("percent").findChild(QCheckBox).setChecked(True)
        form.field("percent").findChild(QDoubleSpinBox).setValue(25)
        self.assertEqual(form.action(), Reduce(percent=25))
        self.assertEqual(form.field("percent").findChild(QDoubleSpinBox).maximum(), 100)
        for bad in ("percent",):
            form.field(bad).findChild(QDoubleSpinBox).setValue(0)
            with self.assertRaises(ValueError) as refused:
                form.action()
            self.assertIn("Percent", str(refused.exception))
            self.assertNotIn("\n", str(refused.exception))


class InTheHand(WindowTest):
    """Who a press is meant for, with a tool that writes everything down."""

    def setUp(self) -> None:
        super().setUp()
        path = Path(self.folder.name) / "ball.stl"
        write_mesh(specimens.sphere(30.0, 20).mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.told: list[str] = []
        told = self.told

        class Scribe(Tool):
            """Takes presses of the left button on the left half of the view."""

            name = "Scribe"
            cursor = Qt.CursorShape.CrossCursor

            def taken(self) -> None:
                told.append("taken")

            def put_away(self) -> None:
                told.append("put away")

            def hint(self) -> str:
                return "Write"

            def cursor_at(self, x: float, y: float) -> object:
                return Qt.CursorShape.PointingHandCursor if x < self.view.width() / 2 else None

            def press(self, at: Pointer) -> Drag | None:
                mine = at.x < self.view.width() / 2 and at.button == Qt.MouseButton.LeftButton
                return self._write(at) if mine else None

            def _write(self, at: Pointer) -> Drag:
                told.append("begin")
                try:
                    while at.is_down:
                        at = yield
                        told.append("move" if at.is_down else "end")
                except GeneratorExit:
                    told.append("taken back")
                    raise

        self.scribe, self.hand = Scribe(self.view), self.view.hand
        self.camera = self.view.camera

    def swipe(self, x: int, button: object = None) -> None:
        self.drag((x, 300), (x + 30, 310), button or Qt.MouseButton.LeftButton)

    def test_the_tool_is_asked_before_the_view_moves(self) -> None:
        turn = self.camera.turn
        self.hand.take(self.scribe)
        self.swipe(120)
        self.assertEqual((self.told[:2], self.told[-1]), (["taken", "begin"], "end"))
        self.assertEqual(self.camera.turn, turn)
        right = self.view.width() - 200
        self.swipe(right)  # not meant for it
        self.assertNotEqual(self.camera.turn, turn)
        middle = self.camera.middle.copy()
        self.swipe(120, Qt.MouseButton.RightButton)
        self.assertGreater(np.abs(self.camera.middle - middle).max(), 0)
        # what is always there comes first: the dial, and the divider
        count = len(self.told)
        centre = self.window.dial.centre()
        self.click(self.view, centre.x(), centre.y() - 30)
        self.assertEqual((self.camera.turn, self.camera.lift), (180.0, 0.0))
        self.key(Qt.Key.Key_W)
        self.wait_for(lambda: self.view.scene.raw is not None and self.view.scene.raw.is_ready)
        self.window.wipe.set_share(0.25)
        at = round(0.25 * self.view.width())
        self.drag((at, 300), (at - 40, 300), Qt.MouseButton.LeftButton)
        self.assertAlmostEqual(self.window.wipe.share * self.view.width(), at - 40, delta=2)
        self.assertEqual(len(self.told), count)
        # with the space bar held the view moves whatever is in hand
        self.view.setFocus()
        QTest.keyPress(self.view, Qt.Key.Key_Space)
        turn = self.camera.turn
        self.swipe(180)
        QTest.keyRelease(self.view, Qt.Key.Key_Space)
        self.assertNotEqual(self.camera.turn, turn)
        self.assertEqual(len(self.told), count)

    def test_what_is_put_away_is_taken_back(self) -> None:
        self.hand.set_rest(self.scribe)
        other = type(self.scribe)(self.view)
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=QPoint(100, 300))
        self.assertTrue(self.hand.is_dragging)
        self.hand.take(other)
        self.assertFalse(self.hand.is_dragging)
        self.assertEqual(self.told, ["taken", "begin", "taken back", "taken"])
        self.assertEqual(self.hand.hint(), "Write")
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=QPoint(100, 300))
        self.hand.put_away()
        self.assertIs(self.hand.rest, self.scribe)
        self.assertIsNone(self.hand.tool)
        self.hand.set_rest(None)
        self.assertEqual(self.told[4:], ["put away", "put away"])
        self.assertEqual(self.hand.hint(), "")
        for x, shape in ((100, Qt.CursorShape.ArrowCursor),):
            QTest.mouseMove(self.view, QPoint(x, 300))
            self.application.processEvents()
            self.assertEqual(self.view.cursor().shape(), shape)

    def test_one_table_says_what_findings_are(self) -> None:
        rng = np.random.default_rng(4)
        found = examine(specimens.damage(specimens.torus(60.0, 60), rng, hole_radius=0.1).mesh)
        every = [*found.strays, *found.openings, *found.knots]
        self.assertGreaterEqual({f.kind for f in every}, {Kind.CRUMB, Kind.HOLE, Kind.TANGLE})
        for finding in every:
            facts = finding.kind.facts
            self.assertEqual(self.session.is_ticked(finding), facts.can_tick and facts.ticked_at_first)
            self.session.tick([finding], True)
            self.assertEqual(self.session.is_ticked(finding), facts.can_tick)
            self.session.tick([finding], False)
            self.assertFalse(self.session.is_ticked(finding))
            self.assertIn(facts.drawn, ("ring", "points", "cloud"))


if __name__ == "__main__":
    unittest.main()
