"""Every way to lose work: each asks first, or waits, or says why not; and writing a file by the name that was read."""

import threading
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_job_file import state
from tinsnip.app.widgets.filedialog import bare_name
from tinsnip.formats import FORMATS, read_scan, write_mesh
from tinsnip.job import Writing
from tinsnip.progress import Progress
from tinsnip.treat import Mend, Orient, Patch, Sweep, Turn

if SCREEN:
    from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
    from PySide6.QtGui import QDragEnterEvent, QDropEvent
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit, QMessageBox, QToolButton

    from tinsnip.app.state.saving import LeftOver

    CONTROL = Qt.KeyboardModifier.ControlModifier


class Losing(WindowTest):
    """A ring with one step that is not saved."""

    def setUp(self) -> None:
        super().setUp()
        self.path, self.other = (Path(self.folder.name) / name for name in ("ring.ply", "ball.stl"))
        write_mesh(specimens.torus(70.0, 60).mesh, self.path)
        write_mesh(specimens.sphere(20.0, 12).mesh, self.other)
        self.open(self.path)
        self.key(Qt.Key.Key_Escape)
        self.session.apply(Turn(degrees=10))
        self.settle()

    def drop(self, paths: list[Path]) -> bool:
        """Hang files over the window and let them go; whether they would be taken."""
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
        left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        over = QDragEnterEvent(QPoint(500, 400), Qt.DropAction.CopyAction, data, left, none)
        QApplication.sendEvent(self.window, over)
        shown = self.window.dropping.frame.isVisible()
        self.assertEqual(shown, over.isAccepted())
        if shown:
            let = QDropEvent(QPointF(500, 400), Qt.DropAction.CopyAction, data, left, none)
            QApplication.sendEvent(self.window, let)
        self.assertFalse(self.window.dropping.frame.isVisible())
        return shown

    def ways(self) -> dict[str, Callable[[], object]]:
        """Everything by which the job would be gone."""
        window = self.window
        left = LeftOver(Path("gone.snipjob"), "gone", 0.0, 2, None)
        self.application.processEvents()
        recent = [a for a in window.menus.recent.actions() if a.text() == str(self.other)]
        self.assertTrue(recent)

        def by_dialog() -> None:
            self.answer_dialog(self.other)
            QTest.keyClick(window, Qt.Key.Key_O, CONTROL)

        def by_drop() -> None:
            self.drop([self.other])
            self.answer_question("Open as a new job")

        return {
            "the dialog": by_dialog,
            "a recent one": recent[0].trigger,
            "a demo": lambda: window.opening.open_demo("pump-cover"),
            "a drop": by_drop,
            "a job left over": lambda: window.left_overs.open_asked.emit(left),
            "closing": window.close,
            "Ctrl+Q": lambda: QTest.keyClick(window, Qt.Key.Key_Q, CONTROL),
        }

    def test_every_way_asks_and_staying_changes_nothing(self) -> None:
        self.window.settings.note_opened(self.other)
        self.window.cards.find_recent()
        self.settle()
        before, asked = state(self.session.job), []

        def stay() -> None:
            box = QApplication.activeModalWidget()
            buttons = {b.text().replace("&", ""): b for b in box.buttons()} if isinstance(box, QMessageBox) else {}
            if "Cancel" in buttons:
                asked.append(box.text())
                QTest.mouseClick(buttons["Cancel"], Qt.MouseButton.LeftButton)

        timer = QTimer(interval=50)
        timer.timeout.connect(stay)
        timer.start()
        for name, act in self.ways().items():
            with self.subTest(way=name):
                asked.clear()
                act()
                self.wait_for(lambda: bool(asked))
                self.assertIn("not saved", asked[0])
                self.assertTrue(self.window.isVisible())
                self.assertEqual(state(self.session.job), before)
                self.come_back()
        timer.stop()

    def test_drops_are_looked_at_and_asked_about(self) -> None:
        text = Path(self.folder.name) / "notes.txt"
        text.write_text("nothing to open")
        self.assertFalse(self.drop([text]))
        self.assertFalse(self.drop([self.other, text]))
        self.answer_question("Add as a piece")
        self.assertTrue(self.drop([self.other]))
        self.wait_for(lambda: len(self.session.job.pieces) == 2)
        self.answer_question("Leave it")
        self.drop([self.other])
        self.settle()
        self.assertEqual(len(self.session.job.pieces), 2)

    def held(self) -> tuple[threading.Event, Callable]:
        gate = threading.Event()

        def work(progress: object) -> str:
            while not gate.wait(0.02):
                progress.check()
            return "done"

        return gate, work

    def test_what_is_asked_for_meanwhile_follows_or_is_said(self) -> None:
        gate, work = self.held()
        self.session.tasks.foreground("The work", work, lambda result: None)
        cursor, mesh = self.session.job.cursor, self.session.mesh
        for key, modifier in ((Qt.Key.Key_Z, CONTROL), (Qt.Key.Key_Return, None)):
            self.session.set_station("Surface")
            self.window.notice.setText("")
            QTest.keyClick(self.window, key, modifier or Qt.KeyboardModifier.NoModifier)
            self.application.processEvents()
            self.assertIn("still going on", self.window.notice.text())
            self.assertEqual((self.session.job.cursor, self.session.mesh), (cursor, mesh))
        self.window.opening.open([self.other])
        self.assertIn(f"opening {self.other.name} follows", self.window.notice.text())
        self.answer_question("Do not save")
        gate.set()
        self.wait_for(lambda: self.session.mesh is not mesh)
        self.assertEqual(self.session.job.piece.name, self.other.name)

    def test_quitting_while_a_file_is_written(self) -> None:
        out, begun, gate = Path(self.folder.name) / "out.stl", threading.Event(), threading.Event()

        def slowly(writing: Writing, progress: Progress, shells: int) -> object:
            begun.set()
            while not gate.wait(0.02):
                progress.check()
            return real(writing, progress, shells)

        import tinsnip.app.state.exporting as module

        real = module.write_pieces
        with mock.patch.object(module, "write_pieces", slowly):
            self.session.exporting.write(Writing(out))
            self.wait_thread(begun)
            self.answer_question("Go on working")
            self.window.close()
            self.assertTrue(self.window.isVisible())
            self.answer_question("Finish it, then quit")
            self.window.close()
            self.assertTrue(self.window.isVisible())
            self.assertFalse(out.exists())
            self.answer_question("Do not save")  # what is not saved is asked about once it is written
            gate.set()
            self.wait_for(lambda: not self.window.isVisible())
            self.assertEqual(len(read_scan(out).mesh.faces), len(self.session.mesh.faces))
            out.unlink()
            gate.clear()
            begun.clear()
            self.window.show()
            self.session.exporting.write(Writing(out))
            self.wait_thread(begun)
            self.answer_question("Cancel it and quit")
            self.window.close()
            self.wait_for(lambda: not self.window.isVisible())
        names = {p.name for p in Path(self.folder.name).iterdir()}
        self.assertEqual(names, {"ring.ply", "ball.stl"}, "a part of a file is left")

    def wait_thread(self, event: threading.Event) -> None:
        end = time.monotonic() + 20
        while not event.is_set() and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.005)


class Exporting(WindowTest):
    """By the dialog, as a hand does it."""

    def setUp(self) -> None:
        super().setUp()
        self.path = Path(self.folder.name) / "ring.ply"
        damaged = specimens.damage(specimens.torus(70.0, 60), np.random.default_rng(3), hole_radius=0.12)
        write_mesh(damaged.mesh, self.path)
        self.open(self.path)
        self.key(Qt.Key.Key_Escape)

    def export(self, act: Callable[[QFileDialog, QLineEdit], None]) -> None:
        """Open the dialog and do something in it."""
        done = []

        def answer(tries: int = 100) -> None:
            dialog = QApplication.activeModalWidget()
            if isinstance(dialog, QFileDialog):
                act(dialog, dialog.findChild(QLineEdit))
                done.append(1)
                if dialog.isVisible() and QApplication.activeModalWidget() is dialog:
                    QTimer.singleShot(600, dialog.reject)
            elif tries:
                QTimer.singleShot(50, lambda: answer(tries - 1))

        QTimer.singleShot(100, answer)
        self.key(Qt.Key.Key_E, CONTROL)
        self.come_back()
        self.assertTrue(done)

    def test_names_kinds_and_replacing(self) -> None:
        proposed: list[tuple[str, str]] = []

        def look(dialog: QFileDialog, line: QLineEdit) -> None:
            proposed.append((dialog.directory().absolutePath(), line.text()))
            line.setText("lid.v2")  # an ending that is none; then another kind, then a kind by its ending
            stl, obj = (next(f for f in dialog.nameFilters() if ending in f) for ending in ("*.stl", "*.obj"))
            dialog.filterSelected.emit(stl)
            dialog.selectNameFilter(obj)
            dialog.filterSelected.emit(obj)
            proposed.append(("", line.text()))
            line.setText("lid.3mf")
            proposed.append(("", dialog.selectedNameFilter()))
            dialog.reject()

        self.export(look)
        self.assertEqual(proposed[0], (self.folder.name, "ring.stl"))  # not ready, so it does not say solid
        self.assertEqual(proposed[1][1], "lid.v2.obj")
        self.assertIn("*.3mf", proposed[2][1])

        there = Path(self.folder.name) / "lid.stl"
        there.write_bytes(b"mine")

        def over(dialog: QFileDialog, line: QLineEdit) -> None:
            line.setText("lid")  # what will be written is lid.stl, and that is there
            self.answer_question("Choose another")
            QTest.keyClick(line, Qt.Key.Key_Return)
            self.assertTrue(dialog.isVisible())

        self.export(over)
        self.assertEqual(there.read_bytes(), b"mine")

        def replace(dialog: QFileDialog, line: QLineEdit) -> None:
            line.setText("lid")
            self.answer_question("Replace")
            QTest.keyClick(line, Qt.Key.Key_Return)

        self.export(replace)
        self.assertEqual(len(read_scan(there).mesh.faces), len(self.session.mesh.faces))

        # ready it says so; the piece and its folder are told, and one click opens the folder
        for treatment in (Mend(), Orient(), Sweep(chunks="sweep"), Patch()):
            self.session.apply(treatment)
            self.settle()
        self.assertTrue(self.session.examination.readiness.ready)
        self.session.rename(self.session.job.active, 'con: "lid" / 7?')
        self.settle()
        self.session.copy_as_variant()
        self.settle()
        self.session.set_station("Release")

        def write(dialog: QFileDialog, line: QLineEdit) -> None:
            proposed.append((dialog.windowTitle(), line.text()))
            QTest.keyClick(line, Qt.Key.Key_Return)

        self.export(write)
        title, name = proposed[-1]
        self.assertIn("variant 2", title)
        self.assertTrue(name.endswith("-solid.stl"), name)
        self.assertFalse(set(name) & set('<>:"/\\|?*'), name)
        self.assertTrue((Path(self.folder.name) / name).exists())
        tray = self.window.tray("Release")
        opened: list[str] = []
        with mock.patch("PySide6.QtGui.QDesktopServices.openUrl", lambda url: opened.append(url.toLocalFile())):
            self.click(tray.folder_button)
        self.assertEqual(opened, [self.folder.name])

    def test_proposed_names_fit_every_disk(self) -> None:
        for name in ('a<b>:"c"', "con", "COM3.stl", " .hidden. ", "ä" * 300, "x/../y.obj", "tab\there", "v1.2.ply"):
            bare = bare_name(name)
            self.assertFalse(set(bare) & set('<>:"/\\|?*\t'), bare)
            self.assertLessEqual(len(bare.encode()), 160)
            self.assertTrue(bare.strip(" .") == bare and bare)
            self.assertNotIn(bare.partition(".")[0].lower(), {"con", "com3"})
            self.assertNotIn(Path(bare).suffix.lower(), {f.suffix for f in FORMATS.values()})

    def test_a_demo_is_not_written_into_the_cache(self) -> None:
        hidden = Path(self.folder.name) / ".cache" / "tinsnip"
        hidden.mkdir(parents=True)
        write_mesh(specimens.sphere(20.0, 12).mesh, hidden / "demo.stl")
        self.window.opening.open([hidden / "demo.stl"])
        self.settle()
        seen: list[str] = []
        self.export(lambda dialog, line: (seen.append(dialog.directory().absolutePath()), dialog.reject()))
        self.assertTrue(seen and ".cache" not in seen[0], seen)


class Kept(WindowTest):
    """What the window remembers of itself."""

    def test_place_and_folds(self) -> None:
        self.window.resize(1100, 760)
        self.settle()
        self.key(Qt.Key.Key_BracketLeft)
        self.window.close()
        from tinsnip.app.frame.window import Window

        again = Window()
        again.show()
        self.application.processEvents()
        try:
            self.assertEqual((again.width(), again.height()), (1100, 760))
            self.assertFalse(again.ticket.isVisible())
            self.assertTrue(again.tray_column.isVisible())
            switches = [b for b in again.findChildren(QToolButton) if b.isVisible() and b.text() == "Now"]
            self.assertTrue(switches)
        finally:
            again.settings.place, again.settings.ticket_folded = "", False
            again.settings.save()
            again.close()


if __name__ == "__main__":
    unittest.main()
