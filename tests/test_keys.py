"""The one rule of fields, focus, Enter, Tab, Esc and undo, over every tray and every control."""

import unittest
from itertools import pairwise

import numpy as np

from tests.hands import SCREEN, WindowTest
from tests.seeds import share
from tinsnip.demo import demo_file

if SCREEN:
    from PySide6.QtCore import QPoint, QPointF, Qt
    from PySide6.QtGui import QImage, QWheelEvent
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import (
        QAbstractButton,
        QApplication,
        QComboBox,
        QListView,
        QSlider,
        QToolButton,
        QWidget,
    )

    from tinsnip.app.stations.registry import STATIONS
    from tinsnip.app.widgets.curveplot import CurvePlot
    from tinsnip.app.widgets.fields import NumberField
    from tinsnip.treat import Turn

    KINDS = (QAbstractButton, NumberField, QComboBox, QSlider, QListView, CurvePlot)
    Z = Qt.KeyboardModifier.ControlModifier


class Keys(WindowTest):
    """On the smallest demo scan, by keys alone."""

    def setUp(self) -> None:
        super().setUp()
        self.open(demo_file("pump-cover", 20_000))
        self.key(Qt.Key.Key_Escape)  # the first look

    def stands(self) -> tuple:
        job = self.session.job
        return len(job.log), job.cursor, job.active, len(self.session.mesh.faces)

    def looks(self, widget: "QWidget") -> np.ndarray:
        image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
        rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
        return rows[:, : 3 * image.width()].astype(int)

    def controls(self, tray: "QWidget") -> list:
        """What can be used in a tray now."""
        found = [w for w in tray.findChildren(QWidget) if isinstance(w, KINDS) and w.isVisible() and w.isEnabled()]
        return [
            w for w in found if not isinstance(w.parentWidget(), KINDS) and w.focusPolicy() & Qt.FocusPolicy.TabFocus
        ]

    def tab_round(self, back: bool = False) -> list:
        """Everything that Tab comes to, in order, once round."""
        seen: list = []
        for _ in range(160):
            QTest.keyClick(QApplication.focusWidget() or self.window, Qt.Key.Key_Backtab if back else Qt.Key.Key_Tab)
            self.application.processEvents()
            focus = QApplication.focusWidget()
            if focus is None or (seen and focus is seen[0]):
                break
            seen.append(focus)
        return seen

    def test_tab_reaches_every_control_of_every_tray_and_shows_where_it_is(self) -> None:
        for i, station in share(enumerate(STATIONS, 1), self.id(), 3):
            self.view.setFocus()
            self.key(getattr(Qt.Key, f"Key_{i}"))
            if station.name == "Reduce":
                self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
            tray = self.window.tray(station.name)
            before, there = self.stands(), self.tab_round()
            with self.subTest(station=station.name):
                self.assertEqual(self.stands(), before)
                back = self.tab_round(back=True)
                self.assertEqual({id(w) for w in there}, {id(w) for w in back})
                wanted = self.controls(tray)
                self.assertTrue(wanted)
                self.assertEqual([w.accessibleName() or w for w in wanted if w not in there], [])
                rows = [row for row in self.window.ticket.rows if row not in there]
                self.assertEqual(rows, [])
                if self.session.findings():
                    self.assertIn(self.window.ticket.list, there)
                for control in wanted:
                    self.view.setFocus()
                    self.application.processEvents()
                    plain = self.looks(control)
                    control.setFocus(Qt.FocusReason.TabFocusReason)
                    self.application.processEvents()
                    differs = np.abs(self.looks(control) - plain).max() if control.hasFocus() else 0
                    self.assertGreater(differs, 40, f"no sign of the focus on {control.accessibleName() or control}")
                # downwards, as they stand
                own = [w for w in there if w in wanted and w is not tray.copper]  # which stands below what is scrolled
                heights = [w.mapTo(tray, QPoint(0, w.height() // 2)).y() for w in own]
                self.assertTrue(all(b > a - 24 for a, b in pairwise(heights)), heights)

    def test_a_typed_number_is_taken_first_and_enter_again_does_what_it_belongs_to(self) -> None:
        for i, station in share(enumerate(STATIONS, 1), self.id(), 3):
            self.view.setFocus()
            self.key(getattr(Qt.Key, f"Key_{i}"))
            tray = self.window.tray(station.name)
            if station.name == "Reduce":
                self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
            for field in (w for w in self.controls(tray) if isinstance(w, NumberField)):
                for enter in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                    with self.subTest(field=field.accessibleName(), enter=enter):
                        self.typed_number_in(field, enter)
                self.wait_for(lambda: self.session.tasks.idle)
                self.key(Qt.Key.Key_Escape)

    def typed_number_in(self, field: "NumberField", enter: "Qt.Key") -> None:
        before, value = self.stands(), field.value()
        other = round(0.5 * (value + (field.maximum() if field.maximum() < 1e3 else value + 8)), field.decimals())
        field.setFocus()
        field.selectAll()
        text = f"{other:.{field.decimals()}f}".replace(".", ",")
        QTest.keyClicks(field, text)
        self.assertEqual(field.value(), value)
        QTest.keyClick(field, Qt.Key.Key_Escape)  # as it was, and the next key is not for it
        self.assertEqual((field.value(), field.is_being_typed, field.hasFocus()), (value, False, False))
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "7")
        QTest.keyClick(field, Qt.Key.Key_Z, Z)  # the typing, not the step
        self.assertEqual((field.value(), field.is_being_typed), (value, False))
        field.selectAll()
        QTest.keyClicks(field, "nx[]]lfdwu" + text)  # letters are nobody's
        self.assertEqual(self.stands(), before)
        QTest.keyClick(field, enter)
        self.settle()
        self.assertAlmostEqual(field.value(), other, delta=0.6 * 10.0 ** -field.decimals() + 0.02 * abs(other))
        self.assertEqual(self.stands(), before, "Enter took the value and did something besides")
        field.setValue(value)
        self.settle()

    def test_enter_does_what_the_focus_says_and_else_the_copper_button(self) -> None:
        # in Surface a field of the smoothing does not mend
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        tray.choose("Smooth")
        tray.passes.setFocus()
        QTest.keyClicks(tray.passes, "3")
        self.key(Qt.Key.Key_Enter)
        self.key(Qt.Key.Key_Enter)
        self.assertEqual([s.action.name for s in self.session.job.log[1:]], ["smooth"])
        self.assertTrue(tray.passes.hasFocus(), "the focus is kept while it is being done")
        self.key(Qt.Key.Key_Z, Z)  # nothing is being typed: the step
        self.assertEqual(self.session.job.cursor, 1)
        # a tick box by Tab; by a click the focus stays with nobody, and Enter is the copper button's
        self.view.setFocus()
        self.key(Qt.Key.Key_3)
        trim = self.window.tray("Trim")
        self.reveal(trim.close_box)
        trim.close_box.setFocus(Qt.FocusReason.TabFocusReason)
        self.key(Qt.Key.Key_Return)
        self.assertTrue(trim.close_box.isChecked())
        self.assertEqual(self.session.job.cursor, 1)
        # a number that is typed is taken by a click elsewhere, and by Tab
        trim.offset.setFocus()
        trim.offset.selectAll()
        QTest.keyClicks(trim.offset, "20")
        self.click(trim.swap_button)
        self.assertEqual((trim.offset.value(), trim.plan.offset, trim.plan.flipped), (20.0, 20.0, True))
        self.assertFalse(trim.offset.hasFocus())
        trim.offset.setFocus()
        trim.offset.selectAll()
        QTest.keyClicks(trim.offset, "1e1")
        self.key(Qt.Key.Key_Tab)
        self.assertEqual(trim.plan.offset, 10.0)
        self.assertTrue(trim.plan.flipped, "Tab swaps nothing")
        # folded: Enter says so and cuts nothing
        self.view.setFocus()
        self.key(Qt.Key.Key_BracketRight)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.job.cursor, 1)
        self.assertIn("folded", self.window.notice.text())
        self.key(Qt.Key.Key_BracketRight)
        # a ticket row and a finding
        self.window.ticket.rows[3].setFocus()
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.station, "Strays")
        strays = self.window.tray("Strays")
        self.click(next(b for b in strays.findChildren(QAbstractButton) if "none" in b.text().lower()))
        self.key(Qt.Key.Key_Return)
        self.assertIn("tick a stray", self.window.notice.text())
        self.click(next(b for b in strays.findChildren(QAbstractButton) if "all" in b.text().lower()))
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.job.log[-1].action.name, "sweep")
        self.key(Qt.Key.Key_Z, Z)
        self.window.ticket.list.setFocus(Qt.FocusReason.TabFocusReason)
        before, place = self.stands(), self.view.camera.middle.copy()
        self.key(Qt.Key.Key_Down)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.stands(), before)
        self.assertFalse(np.array_equal(self.view.camera.middle, place))

    def test_esc_leaves_a_field_and_the_next_digit_opens_a_station(self) -> None:
        self.key(Qt.Key.Key_3)
        trim = self.window.tray("Trim")
        for typed in ("17", ""):
            value = trim.offset.value()
            trim.offset.setFocus()
            trim.offset.selectAll()
            QTest.keyClicks(trim.offset, typed)
            self.key(Qt.Key.Key_Escape)
            self.assertFalse(trim.offset.hasFocus(), typed)
            self.assertEqual(trim.offset.value(), value)
            self.assertEqual(trim.plan is not None, bool(typed))  # typing is left first, the preview next
            self.key(Qt.Key.Key_5)
            self.assertEqual((self.session.station, trim.offset.value()), ("Holes", value))
            self.key(Qt.Key.Key_3)
        undoing = (self.window.menus.undo, self.window.menus.redo)
        buttons = [b for b in self.window.findChildren(QToolButton) if b.defaultAction() in undoing]
        self.assertEqual([b.focusPolicy() for b in buttons], [Qt.FocusPolicy.NoFocus] * 2)

    def test_esc_leaves_one_clean_state_and_stays(self) -> None:
        faces = len(self.session.mesh.faces)
        self.key(Qt.Key.Key_3)
        trim = self.window.tray("Trim")
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.session.station, trim.plan, self.view.scene.waste), ("Trim", None, None))
        self.assertEqual((trim.goes.text(), trim.copper.text()), ("–", "Place the plane"))
        self.key(Qt.Key.Key_Return)  # sets one up, and cuts only when asked again
        self.assertIsNotNone(trim.plan)
        self.assertEqual(len(self.session.mesh.faces), faces)
        self.key(Qt.Key.Key_Return)
        self.assertLess(len(self.session.mesh.faces), faces)
        self.assertIsNone(trim.plan, "a plane that has cut does not stand ready for another cut")
        once = len(self.session.mesh.faces)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(len(self.session.mesh.faces), once)
        self.key(Qt.Key.Key_Z, Z)
        self.assertEqual(trim.copper.text(), "Cut the bed away")
        self.key(Qt.Key.Key_6)
        self.key(Qt.Key.Key_Return)
        for number, name in ((5, "Holes"), (8, "Solid")):
            self.key(getattr(Qt.Key, f"Key_{number}"))
            tray, before = self.window.tray(name), self.stands()
            self.wait_for(lambda: self.session.preview is not None)
            self.assertNotIn(tray.made.text(), ("–", "…"))
            said = tray.copper.text()
            self.key(Qt.Key.Key_Escape)
            self.assertEqual((self.session.preview, tray.made.text(), self.session.station), (None, "–", name))
            self.assertTrue(tray.copper.text().startswith("Preview"))
            self.key(Qt.Key.Key_Return)
            self.wait_for(lambda: self.session.preview is not None)
            self.assertEqual((self.stands(), tray.copper.text()), (before, said))
        self.reduce_is_left_and_undone()

    def reduce_is_left_and_undone(self) -> None:
        self.key(Qt.Key.Key_7)
        tray, whole = self.window.tray("Reduce"), len(self.session.mesh.faces)
        self.wait_for(lambda: tray.levels.study is not None)
        self.assertIsNone(self.session.stand_in, "nothing was asked for")
        self.assertEqual((tray.wanted, tray.deviation.text()), (whole, "0"))
        self.click(tray.plot.viewport(), tray.plot.width() * 0.5, tray.plot.height() * 0.5)
        self.wait_for(tray.copper.isEnabled)
        self.assertIsNotNone(self.session.stand_in)
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((self.session.stand_in, self.session.preview, tray.wanted), (None, None, whole))
        self.assertFalse(tray.copper.isEnabled())
        self.assertEqual(tray.deviation.text(), "0")
        # a deviation that is chosen is kept to at once
        tray.stop.setFocus()
        QTest.keyClick(tray.stop, Qt.Key.Key_Down)
        QTest.keyClick(tray.stop, Qt.Key.Key_Down)
        limit = tray.fields["deviation"].value()
        self.assertGreater(limit, 0)
        seen: list[str] = []
        self.wait_for(lambda: seen.append(tray.deviation.text()) or tray.copper.isEnabled())
        figures = [float(text.strip("~… ")) for text in seen if text[:1].isdigit() or text[:1] == "~"]
        self.assertTrue(all(f <= limit * 1.0001 for f in figures), (limit, figures))
        self.assertLessEqual(self.session.stand_in.measured.max, limit)
        self.view.setFocus()
        self.key(Qt.Key.Key_Return)
        self.assertLess(len(self.session.mesh.faces), whole)
        for modifier, key in ((Z, Qt.Key.Key_Z), (Z | Qt.KeyboardModifier.ShiftModifier, Qt.Key.Key_Z)):
            self.key(key, modifier)
            self.wait_for(lambda: tray.levels.study is not None and tray.levels.study.mesh is self.session.mesh)
            self.assertIsNone(self.session.stand_in)
            self.assertEqual(tray.wanted, len(self.session.mesh.faces))

    def test_the_wheel_scrolls_and_changes_no_field(self) -> None:
        for i, station in enumerate(STATIONS, 1):
            self.key(getattr(Qt.Key, f"Key_{i}"))
            for control in self.controls(self.window.tray(station.name)):
                for focused in (False, True):
                    control.setFocus() if focused else self.view.setFocus()
                    before = self.holds(control)
                    at = QPointF(control.rect().center())
                    for steps in (-3, 3):
                        event = QWheelEvent(
                            at, QPointF(control.mapToGlobal(at.toPoint())), QPoint(), QPoint(0, 120 * steps),
                            Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase,
                            False,
                        )  # fmt: skip
                        QApplication.sendEvent(control, event)
                    self.assertEqual(self.holds(control), before, control.accessibleName())

    @staticmethod
    def holds(control: "QWidget") -> object:
        for name in ("value", "currentIndex", "isChecked"):
            if hasattr(control, name):
                return getattr(control, name)()
        return None

    def test_undo_says_when_it_comes_to_another_piece_and_lines_name_theirs(self) -> None:
        self.key(Qt.Key.Key_D, Z)
        first, second = (piece.id for piece in self.session.job.pieces)
        self.assertFalse(self.session.job.is_visible(first), "a variant hides its original")
        self.session.apply(Turn(degrees=10))
        self.settle()
        self.session.set_active(first)
        self.settle()
        self.session.apply(Turn(degrees=20))
        self.settle()
        self.session.set_active(second)
        self.settle()
        self.key(Qt.Key.Key_Z, Z)
        self.assertEqual(self.session.job.active, first)
        self.assertIn(f"now on {self.session.job.piece.name}", self.window.notice.text())
        lines = [self.window.log_list.item(i).text() for i in range(self.window.log_list.count())]
        self.assertIn("variant", lines[2])
        self.assertNotIn("variant", lines[3])
        states = {row.station.name: row.state for row in self.window.ticket.rows}
        self.assertNotIn("made", states["Trim"])

    def test_what_goes_with_the_focus_hands_it_to_nothing_that_enter_would_press(self) -> None:
        self.key(Qt.Key.Key_6)
        self.key(Qt.Key.Key_Return)
        self.key(Qt.Key.Key_5)
        rows = self.window.ticket.list
        first = rows.visualRect(rows.model().index(0, 0))
        self.click(rows.viewport(), first.left() + 90, first.center().y())
        self.assertTrue(rows.hasFocus())
        self.key(Qt.Key.Key_Return)  # a row that was clicked: the copper button's
        self.assertEqual(self.session.job.log[-1].action.name, "patch")
        self.key(Qt.Key.Key_4)
        self.key(Qt.Key.Key_Return)
        self.assertFalse(rows.isVisible())
        self.assertIs(QApplication.focusWidget(), self.view)
        self.key(Qt.Key.Key_8)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.job.log[-1].action.name, "plinth")


class Pieces(WindowTest):
    """Names, and what is typed into them."""

    def test_renaming_by_keys_and_removing(self) -> None:
        self.open(demo_file("pump-cover", 20_000))
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_D, Z)
        pieces = self.window.tray("Intake").pieces
        row = pieces.visualItemRect(pieces.currentItem())
        self.assertGreaterEqual(row.height(), pieces.fontMetrics().height() + 8)
        for end, name in ((Qt.Key.Key_Escape, None), (Qt.Key.Key_Enter, "1 lid for f, x and n")):
            was, station, look = self.session.job.piece.name, self.session.station, self.view.look
            pieces.setFocus()
            self.key(Qt.Key.Key_F2)
            editor = QApplication.focusWidget()
            self.assertGreaterEqual(editor.height(), editor.fontMetrics().height())
            QTest.keyClick(editor, Qt.Key.Key_A, Z)
            QTest.keyClicks(editor, "1 lid for f, x and n")
            QTest.keyClick(editor, end)
            self.settle()
            self.assertEqual(self.session.job.piece.name, name or was)
            self.assertEqual((self.session.station, self.view.look), (station, look))
        pieces.setFocus()
        self.key(Qt.Key.Key_Delete)
        self.assertEqual(len(self.session.job.pieces), 1)
        self.assertIn("now on", self.window.notice.text())
        self.key(Qt.Key.Key_Z, Z)
        self.assertEqual(len(self.session.job.pieces), 2)


if __name__ == "__main__":
    unittest.main()
