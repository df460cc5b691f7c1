"""Hands for the real window: a base for tests that drive it by mouse, wheel and keys, and look at the screen."""

import os
import shutil
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

SCREEN = bool(os.environ.get("DISPLAY"))

if SCREEN:
    from PySide6.QtCore import QEventLoop, QPoint, QPointF, Qt, QTimer
    from PySide6.QtGui import QImage, QWheelEvent
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import (
        QApplication,
        QFileDialog,
        QLineEdit,
        QMessageBox,
    )

    from tinsnip.app.frame.window import Window
    from tinsnip.app.main import make_application
    from tinsnip.app.state.settings import Settings
    from tinsnip.app.stations.levels import Levels
    from tinsnip.app.view.scene import Scene
    from tinsnip.app.widgets.panels import Folded
    from tinsnip.formats import write_mesh
    from tinsnip.job import unfinished_folder
    from tinsnip.mesh import Mesh
    from tinsnip.space.tree import first_hits


@unittest.skipUnless(SCREEN, "needs a screen; ./tinsnip test starts one")
class WindowTest(unittest.TestCase):
    """Helpers: one window a test, and hands that only click, turn the wheel and type.

    Attributes
    ----------
    makes_ready : bool
        Whether the programs for all looks are made while the window stands idle; else when they are wanted.
    measures_bounds : bool
        Whether the levels of a reduction are measured one after another while the window stands idle.
    shades : bool
        Whether pictures are shaded by depth, which takes a tenth of the time of these tests.
    size : tuple of int
        Of the window, pixels: half of the time of these tests is drawing them in software.
    """

    makes_ready = measures_bounds = shades = False
    size = 980, 640

    def setUp(self) -> None:
        idle = [] if self.makes_ready else [mock.patch.object(Scene, "make_ready", return_value=False)]
        idle += [] if self.measures_bounds else [mock.patch.object(Levels, "ask_bound")]
        for patch in idle:
            patch.start()
            self.addCleanup(patch.stop)
        self.application = make_application()
        shutil.rmtree(unfinished_folder(), ignore_errors=True)  # what an earlier test left over is not this one's
        Settings(shades_depth=self.shades).save()  # nor what it remembered
        self.window = Window()
        self.window.resize(*self.size)
        self.window.show()
        self.window.activateWindow()
        QTest.qWaitForWindowActive(self.window, 5000)
        self.session = self.window.session
        self.view = self.window.viewport
        self.folder = tempfile.TemporaryDirectory()
        self._wake = QTimer(singleShot=True)

    def tearDown(self) -> None:
        self.session.tasks.stop_all()  # a test that failed meanwhile would be asked about it, and nobody answers
        self.wait_idle()
        self.close_window()
        self.window.deleteLater()
        self.application.processEvents()
        self.folder.cleanup()

    def close_window(self) -> None:
        """Close the window, and let what is unsaved or still being done go."""
        answering = QTimer(interval=50)  # and no longer: the next window may ask the same

        def answer() -> None:
            box = QApplication.activeModalWidget()
            for button in box.buttons() if isinstance(box, QMessageBox) else ():
                if button.text().replace("&", "") in ("Do not save", "Stop it and quit", "Cancel it and quit"):
                    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
                    return

        answering.timeout.connect(answer)
        answering.start()
        self.window.close()
        answering.stop()
        self.wait_idle()

    def put_up(self, *meshes: "Mesh") -> object:
        """Open meshes as pieces, and go on to Solid; returns its tray."""
        for number, mesh in enumerate(meshes):
            path = Path(self.folder.name) / f"part{number}.ply"
            write_mesh(mesh, path)
            if number == 0:
                self.open(path)
            else:
                self.session.opening.files([path], add=True)
                self.settle()
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_8)
        return self.window.tray("Solid")

    def settle(self, seconds: float = 180.0) -> None:
        """Let the window work until nothing is going on, nothing is about to begin, and the picture is whole."""
        end = time.monotonic() + seconds
        soon = [timer for timer in self.window.findChildren(QTimer) if timer.isSingleShot() and timer.interval() < 1000]
        calm = 0
        while calm < 6:
            self.application.processEvents()
            time.sleep(0.004)  # what the screen's server has to say of the pointer comes a moment later
            busy = not (self.session.tasks.idle and self.view.is_settled) or any(timer.isActive() for timer in soon)
            if busy:  # sleep until something happens, or for a moment
                self._wake.start(10)
                self.application.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            calm = 0 if busy else calm + 1
            self.assertLess(time.monotonic(), end, f"still busy: {self.session.tasks.title}")

    def wait_idle(self) -> None:
        end = time.monotonic() + 30
        while not self.session.tasks.idle and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.005)

    def key(self, key: "Qt.Key", modifier: "Qt.KeyboardModifier | None" = None) -> None:
        focus = QApplication.focusWidget() or self.window
        QTest.keyClick(focus, key, modifier or Qt.KeyboardModifier.NoModifier)
        if modifier == Qt.KeyboardModifier.AltModifier:  # a button pressed by its letter stays down for a moment
            QTest.qWait(150)
        self.settle()

    def reveal(self, widget: object) -> None:
        """Unfold what a control of a tray is folded into, by a click."""
        for folded in self.window.stack.currentWidget().findChildren(Folded):
            if folded.isAncestorOf(widget) and not folded.isVisible():
                self.click(folded.line)

    def click(self, widget: object, x: float | None = None, y: float | None = None) -> None:
        if not widget.isVisible():
            self.reveal(widget)
        place = QPoint(int(x), int(y)) if x is not None else widget.rect().center()
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=place)
        self.settle()

    def drag(self, start: tuple[float, float], end: tuple[float, float], button: "Qt.MouseButton") -> None:
        a, b = QPoint(*map(int, start)), QPoint(*map(int, end))
        QTest.mousePress(self.view, button, pos=a)
        for t in np.linspace(0.1, 1.0, 10):
            middle = QPointF(a) + t * (QPointF(b) - QPointF(a))
            QTest.mouseMove(self.view, middle.toPoint())
            self.application.processEvents()
        QTest.mouseRelease(self.view, button, pos=b)
        self.settle()

    def wheel(self, x: float, y: float, steps: int) -> None:
        at = QPointF(x, y)
        event = QWheelEvent(
            at,
            QPointF(self.view.mapToGlobal(at.toPoint())),
            QPoint(),
            QPoint(0, 120 * steps),
            Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(self.view, event)
        self.settle()

    def type_number(self, field: object, text: str) -> None:
        """Click into a field, type over what is there, leave with the Tab key's friend Enter in the line edit."""
        line = field.findChild(QLineEdit)
        QTest.mouseClick(line, Qt.MouseButton.LeftButton)
        QTest.keyClick(line, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(line, text)
        self.view.setFocus()
        self.settle()

    def answer_dialog(self, path: Path) -> None:
        """Paste a path into the file dialog that is about to open, and accept it."""

        def answer() -> None:
            dialog = QApplication.activeModalWidget()
            if not isinstance(dialog, QFileDialog):
                QTimer.singleShot(100, answer)
                return
            accept(dialog, dialog.findChild(QLineEdit))

        def accept(dialog: QFileDialog, line: QLineEdit, tries: int = 60) -> None:
            # pasted whole, and again while the folder is still being listed: letter by letter the dialog
            # selects every folder on the way where it is slower than the hand
            if tries == 0:
                dialog.reject()  # rather a failed test than one that waits for good
                return
            QTimer.singleShot(500, dialog, lambda: accept(dialog, line, tries - 1))
            line.setFocus()
            QApplication.clipboard().setText(str(path))
            QTest.keyClick(line, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
            QTest.keyClick(line, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
            QTest.keyClick(line, Qt.Key.Key_Return)

        QTimer.singleShot(200, answer)

    def answer_question(self, text: str) -> list[str]:
        """Press the button of that text on the question that is about to come up; what it asks is put in the list."""
        asked: list[str] = []

        def answer(tries: int = 200) -> None:
            box = QApplication.activeModalWidget()
            buttons = box.buttons() if isinstance(box, QMessageBox) else []
            named = [b for b in buttons if b.text().replace("&", "") == text]
            if named:
                asked.append(f"{box.text()} {box.informativeText()}")
                QTest.mouseClick(named[0], Qt.MouseButton.LeftButton)
            elif tries:
                QTimer.singleShot(50, lambda: answer(tries - 1))

        QTimer.singleShot(100, answer)
        return asked

    def open(self, path: Path) -> None:
        self.answer_dialog(path)
        if self.window.saving.unsaved:
            self.answer_question("Do not save")
        self.key(Qt.Key.Key_O, Qt.KeyboardModifier.ControlModifier)
        self.come_back()
        self.assertIsNotNone(self.session.mesh, f"nothing opened; the window says: {self.window.notice.text()!r}")

    def come_back(self) -> None:
        """Without a window manager nobody hands the focus back after a dialog."""
        self.window.activateWindow()
        QTest.qWaitForWindowActive(self.window, 5000)
        self.settle()

    def wait_for(self, condition: object, seconds: float = 120) -> None:
        end = time.monotonic() + seconds
        while not condition():
            self._wake.start(10)
            self.application.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            self.assertLess(time.monotonic(), end)
        self.settle()

    def picture(self) -> np.ndarray:
        """The view's pixels, shape (height, width, 3)."""
        image = self.view.grabFramebuffer().convertToFormat(QImage.Format.Format_RGB888)
        rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
        return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).astype(int)

    def spot_on_part(self) -> tuple[int, int]:
        """A pixel with the part all round it."""
        step = 16
        places = [
            [self.view.camera.ray_from_outside(x, y) for x in range(0, self.view.width(), step)]
            for y in range(0, self.view.height(), step)
        ]
        starts, ways = np.array(places)[:, :, 0], np.array(places)[:, :, 1]
        along, _ = first_hits(
            self.session.mesh.tree, starts.reshape(-1, 3), ways.reshape(-1, 3), np.zeros(4, dtype=np.int64)
        )
        hit = np.isfinite(along).reshape(starts.shape[:2])
        core = hit[1:-1, 1:-1] & hit[2:, 1:-1] & hit[:-2, 1:-1] & hit[1:-1, 2:] & hit[1:-1, :-2]
        row, column = np.argwhere(core)[len(np.argwhere(core)) // 3] + 1
        return int(column * step), int(row * step)

    def covered(self) -> float:
        """Share of the view that is not background."""
        picture = self.picture()
        return float((np.abs(picture - [73, 79, 83]).sum(axis=2) > 12).mean())
