"""Whole jobs as a technician does them, by the mouse and by keys alone, counted in clicks and keys."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_bed import scene
from tests.test_seams import in_patches
from tinsnip.demo import demo_file
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.words import counted

if SCREEN:
    from PySide6.QtCore import QPoint, QPointF, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication, QPushButton, QToolButton

    ALT, CTRL = Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ControlModifier

MOST = {
    "bed scan": (10, 11),
    "figure with backdrop": (4, 13),
    "unwelded patches": (2, 3),
    "hollow with drain": (7, 19),
    "measured part": (5, 25),
    "changed early step": (5, 9),
}
"""Clicks by mouse, with what has to be typed, and keys without one; what they took when this was written."""


@unittest.skipUnless(SCREEN, "needs a screen; ./tinsnip test starts one")
class WholeJobs(WindowTest):
    """From the scan on screen to what was wanted of it."""

    def begin(self, scan: Mesh | Path) -> None:
        if isinstance(scan, Mesh):
            path = Path(self.folder.name) / "scan.ply"
            write_mesh(scan, path)
            scan = path
        self.open(scan)
        self.done = 0

    def put_card_away(self, by_keys: bool) -> None:
        """The card of the first look: a click on a station puts it away, else Esc."""
        if by_keys:
            self.tap(Qt.Key.Key_Escape)

    def tap(self, key: "Qt.Key", modifier: object = None) -> None:
        self.done += 1
        self.key(key, modifier)

    def letters(self, text: str) -> None:
        """Type into what has the focus."""
        self.done += len(text)
        QTest.keyClicks(QApplication.focusWidget(), text)
        self.settle()

    def alt(self, button: "QPushButton") -> None:
        """Press a tray's button by its underlined letter."""
        self.tap(getattr(Qt.Key, f"Key_{button.text()[button.text().index('&') + 1].upper()}"), ALT)

    def hit(self, widget: object, x: float | None = None, y: float | None = None) -> None:
        self.done += 1
        self.click(widget, x, y)

    def station(self, name: str) -> None:
        """Click a station on the ticket."""
        self.hit(next(row for row in self.window.ticket.rows if row.station.name == name))

    def tab_to(self, field: object) -> None:
        """Go to a field by the Tab key."""
        while QApplication.focusWidget() is not field:
            self.assertLess(self.done, 60, f"Tab does not come there: {QApplication.focusWidget()}")
            self.tap(Qt.Key.Key_Tab)

    def point_at(self, x: float, y: float) -> None:
        """Bring the pointer there by keys, and click."""
        pointer = self.window.key_pointer
        while True:
            at = pointer.place or QPointF(self.view.width() // 2, self.view.height() // 2)
            far = x - at.x(), y - at.y()
            if max(map(abs, far)) <= 13:
                break
            self.assertLess(self.done, 80, f"the pointer does not move: {QApplication.focusWidget()}")
            if abs(far[0]) > abs(far[1]):
                self.tap(Qt.Key.Key_Right if far[0] > 0 else Qt.Key.Key_Left, CTRL)
            else:
                self.tap(Qt.Key.Key_Down if far[1] > 0 else Qt.Key.Key_Up, CTRL)
        self.tap(Qt.Key.Key_Space, CTRL)

    def on_screen(self, place: np.ndarray) -> tuple[float, float]:
        x, y, _ = self.view.camera.project(place)[0]
        return float(x), float(y)

    def reached(self, job: str, by_keys: bool) -> None:
        self.assertLessEqual(self.done, MOST[job][by_keys], job)
        print(f"    {job}: {counted(self.done, 'key' if by_keys else 'click')}")

    def bed_scan(self, by_keys: bool) -> None:
        self.begin(demo_file("pump-cover", 40_000))
        self.put_card_away(by_keys)
        for number, name in ((3, "Trim"), (4, "Strays"), (6, "Surface"), (5, "Holes"), (8, "Solid")):
            if by_keys:
                self.tap(getattr(Qt.Key, f"Key_{number}"))
                self.tap(Qt.Key.Key_Return)
            else:
                self.station(name)
                self.hit(self.window.tray(name).copper)
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.reached("bed scan", by_keys)

    def unwelded_patches(self, by_keys: bool) -> None:
        cut = in_patches(np.random.default_rng(1), specimens.torus(200.0, 80).mesh, 30, 0.004, 0.3)
        self.begin(cut)
        self.put_card_away(by_keys)
        if by_keys:
            self.tap(Qt.Key.Key_4)
            self.tap(Qt.Key.Key_Return)
        else:
            self.station("Strays")
            self.hit(self.window.tray("Strays").copper)
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.reached("unwelded patches", by_keys)

    def figure_with_backdrop(self, by_keys: bool) -> None:
        figure = scene(3, True)[0]
        self.begin(figure)
        self.put_card_away(by_keys)
        tray = self.window.tray("Trim")
        if by_keys:
            self.tap(Qt.Key.Key_F, CTRL)
            self.letters("backdrop")
            self.tap(Qt.Key.Key_Return)
        else:
            self.station("Trim")
            self.hit(tray.select_row.buttons["Select the backdrop"])
        self.assertGreater(self.session.selected.count, 0)
        self.answer_question("Delete")  # it is much, and so it is asked
        self.done += 1
        if by_keys:
            self.tap(Qt.Key.Key_Delete)
        else:
            self.hit(
                next(b for b in self.window.selection_bar.findChildren(QPushButton) if b.text().startswith("Delete"))
            )
        self.assertLess(len(self.session.mesh.faces), 0.99 * len(figure.faces))
        self.reached("figure with backdrop", by_keys)

    def hollow_with_drain(self, by_keys: bool) -> None:
        self.begin(specimens.sphere(100.0, 40).mesh)
        self.put_card_away(by_keys)
        tray = self.window.tray("Solid")
        field = tray.offered["hollow"][0].field("wall_mm").spin
        if by_keys:
            self.tap(Qt.Key.Key_8)
            self.alt(tray.part_row.buttons["Hollow"])
            self.tab_to(field)
            self.letters("3")
            self.tap(Qt.Key.Key_Return)
            self.tap(Qt.Key.Key_Return)
            self.alt(tray.part_row.buttons["Drain"])
            self.view.setFocus()
            self.tap(Qt.Key.Key_Space, CTRL)
        else:
            self.station("Solid")
            self.hit(tray.part_row.buttons["Hollow"])
            self.type_number(field, "3")
            self.done += 2
            self.hit(tray.copper)
            self.hit(tray.part_row.buttons["Drain"])
            self.hit(self.view, self.view.width() // 2, self.view.height() // 2)
        self.assertEqual([s.action.name for s in self.session.job.log[1:]], ["hollow", "drain"])
        self.assertEqual(self.session.job.log[1].action.wall_mm, 3.0)
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.reached("hollow with drain", by_keys)

    def measured_part(self, by_keys: bool) -> None:
        self.begin(specimens.bored_box(70.0, 48).mesh)
        self.tap(Qt.Key.Key_Escape)
        at = [self.on_screen(np.array(p)) for p in ((-28.0, -20.0, 10.5), (28.0, 25.0, 10.5))]
        if by_keys:
            self.tap(Qt.Key.Key_M)
            self.alt(self.window.measuring.buttons[0])
            for place in at:
                self.point_at(*place)
        else:
            self.hit(next(b for b in self.window.findChildren(QToolButton) if b.text() == "Measure"))
            self.hit(self.window.measuring.buttons[0])
            for place in at:
                self.hit(self.view, *place)
        self.wait_for(lambda: len(self.view.readings.all) == 1)
        self.assertAlmostEqual(self.view.readings.all[0].values["straight_mm"] / np.hypot(56, 45), 1.0, delta=0.3)
        self.reached("measured part", by_keys)
        self.view.readings.clear()

    def changed_early_step(self, by_keys: bool) -> None:
        self.begin(demo_file("pump-cover", 40_000))
        self.key(Qt.Key.Key_Escape)
        for number in (3, 4, 6, 5):
            self.key(getattr(Qt.Key, f"Key_{number}"))
            self.key(Qt.Key.Key_Return)
        rows, job = self.window.log_list, self.session.job
        was, steps, self.done = job.log[1].action, len(job.log), 0
        if by_keys:
            self.tap(Qt.Key.Key_G, CTRL)
            self.tap(Qt.Key.Key_Home)
            self.tap(Qt.Key.Key_Down)
            self.tap(Qt.Key.Key_Return)
        else:
            place = rows.visualItemRect(rows.item(1))
            rows.scrollToItem(rows.item(1))
            place = rows.visualItemRect(rows.item(1))
            self.done += 1
            QTest.mouseClick(
                rows.viewport(),
                Qt.MouseButton.LeftButton,
                pos=QPoint(rows.viewport().width() - 8, place.center().y()),
            )
            self.settle()
        editor = self.window.editor
        self.assertIs(self.window.stack.currentWidget(), editor)
        row = editor.form.field("above_mm")
        field, tick = row.spin, row.tick
        if by_keys:
            self.tab_to(tick)
            self.tap(Qt.Key.Key_Space)
            self.tab_to(field)
            self.letters("2")
            self.tap(Qt.Key.Key_Return)
            self.tap(Qt.Key.Key_Return)
        else:
            self.hit(tick, 8, 8)
            self.type_number(field, "2")
            self.done += 2
            self.hit(editor.copper)
        self.assertEqual((job.log[1].action.above_mm, len(job.log)), (2.0, steps))
        self.assertNotEqual(was, job.log[1].action)
        self.reached("changed early step", by_keys)

    def test_bed_scan_by_mouse(self) -> None:
        self.bed_scan(False)

    def test_bed_scan_by_keys(self) -> None:
        self.bed_scan(True)

    def test_unwelded_patches_by_mouse(self) -> None:
        self.unwelded_patches(False)

    def test_unwelded_patches_by_keys(self) -> None:
        self.unwelded_patches(True)

    def test_figure_with_backdrop_by_mouse(self) -> None:
        self.figure_with_backdrop(False)

    def test_figure_with_backdrop_by_keys(self) -> None:
        self.figure_with_backdrop(True)

    def test_hollow_with_drain_by_mouse(self) -> None:
        self.hollow_with_drain(False)

    def test_hollow_with_drain_by_keys(self) -> None:
        self.hollow_with_drain(True)

    def test_measured_part_by_mouse(self) -> None:
        self.measured_part(False)

    def test_measured_part_by_keys(self) -> None:
        self.measured_part(True)

    def test_changed_early_step_by_mouse(self) -> None:
        self.changed_early_step(False)

    def test_changed_early_step_by_keys(self) -> None:
        self.changed_early_step(True)


if __name__ == "__main__":
    unittest.main()
