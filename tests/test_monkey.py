"""A monkey at the window: seeded, 3000 actions by mouse, keys and buttons, on four scans, pieces and a job file."""

import random
import sys
import time
import traceback
import unittest
import warnings
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import one_of
from tests.test_job_file import bits
from tinsnip.demo import demo_file
from tinsnip.formats import write_mesh
from tinsnip.job import plan_of, replay
from tinsnip.warmup import warm_up

if SCREEN:
    from PySide6.QtCore import QPoint, Qt, QTimer, QtMsgType, qInstallMessageHandler
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QAbstractButton, QApplication, QDialog, QMessageBox

    from tinsnip.app.widgets.fields import NumberField

ACTIONS, LOTS, SEED = 150, 20, 20
LONGEST_STALL = 2.0
_BUSY = 5
"""Times as long by the clock, where other work goes on beside the tests."""
KEYS = [*"123456789ZYXFDPTCRWNSL", "Return", "Enter", "Escape", "Tab", "Backtab", "Space", "Up", "Down", "Left"]
KEYS += ["Delete", *"MOAUJBQGKI"]


class Monkey(WindowTest):
    """What it does is the same each time but for how far the work behind it has come."""

    shades = True

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        warm_up()  # what compiles in this very process makes the window wait, as it does in none where work is done

    def setUp(self) -> None:
        super().setUp()
        self.random = random.Random(SEED)
        self.faults: list[str] = []
        self.latest = ""
        self.place = Path(self.folder.name)
        self.job_file = self.place / "monkey.snipjob"
        rng = np.random.default_rng(SEED)
        self.scans = [demo_file("pump-cover", 20_000), demo_file("fountain-spout", 20_000)]
        for name, shape in (("ring.ply", specimens.torus(70.0, 60)), ("ball.stl", specimens.sphere(30.0, 30))):
            write_mesh(specimens.damage(shape, rng, hole_radius=0.1).mesh, self.place / name)
            self.scans.append(self.place / name)

    def watch(self) -> None:
        """Note tracebacks, warnings and stalls."""
        self.kept = sys.excepthook, qInstallMessageHandler(self.told)
        sys.excepthook = lambda *error: self.faults.append("".join(traceback.format_exception(*error)))
        self.last = time.perf_counter(), time.thread_time()
        self.pulse, self.poker = QTimer(interval=20), QTimer(interval=120)
        self.pulse.timeout.connect(self.beat)
        self.poker.timeout.connect(self.answer)
        self.pulse.start()
        self.poker.start()

    def unwatch(self) -> None:
        self.pulse.stop()
        self.poker.stop()
        sys.excepthook = self.kept[0]
        qInstallMessageHandler(self.kept[1])

    def told(self, kind: "QtMsgType", context: object, text: str) -> None:
        if kind in (QtMsgType.QtWarningMsg, QtMsgType.QtCriticalMsg, QtMsgType.QtFatalMsg):
            self.faults.append(f"Qt says: {text}")

    def beat(self) -> None:
        now = time.perf_counter(), time.thread_time()
        clock, own = (b - a for a, b in zip(self.last, now, strict=True))
        if own > LONGEST_STALL or clock > _BUSY * LONGEST_STALL:  # beside other work it waits for its turn
            self.faults.append(f"the window stood still for {clock:.1f} s, {own:.1f} of them busy, after {self.latest}")
        self.last = now

    def answer(self) -> None:
        """Whatever asks is answered by chance."""
        modal = QApplication.activeModalWidget()
        if isinstance(modal, QMessageBox):
            self.random.choice(modal.buttons()).click()
        elif isinstance(modal, QDialog):
            modal.reject()
        popup = QApplication.activePopupWidget()
        if popup is not None:
            popup.close()

    # ---- what it does

    def press_key(self) -> None:
        name = self.random.choice(KEYS)
        modifier = self.random.choice(["No"] * 4 + ["Control", "Alt"])
        focus = QApplication.focusWidget() or self.window
        QTest.keyClick(focus, getattr(Qt.Key, f"Key_{name}"), getattr(Qt.KeyboardModifier, f"{modifier}Modifier"))

    def type_number(self, *_: object) -> None:
        fields = [f for f in self.window.findChildren(NumberField) if f.isVisible() and f.isEnabled()]
        if fields:
            field = self.random.choice(fields)
            field.setFocus()
            field.selectAll()
            QTest.keyClicks(field, f"{10 ** self.random.uniform(-1, 2):.2f}")
            if self.random.random() < 0.5:
                QTest.keyClick(field, Qt.Key.Key_Return)

    def click_somewhere(self) -> None:
        window = self.window
        places = [self.view, self.view, window.ticket.list.viewport(), window.log_list.viewport(), window.stack]
        target = self.random.choice(places)
        at = QPoint(self.random.randrange(max(1, target.width())), self.random.randrange(max(1, target.height())))
        QTest.mouseClick(target, Qt.MouseButton.LeftButton, pos=at)

    def press_button(self) -> None:
        buttons = [b for b in self.window.findChildren(QAbstractButton) if b.isVisible() and b.isEnabled()]
        buttons = [b for b in buttons if "demo" not in b.text().lower() and "folder" not in b.text().lower()]
        if buttons:
            QTest.mouseClick(self.random.choice(buttons), Qt.MouseButton.LeftButton)

    def drag(self, *_: object) -> None:
        a, b = (
            QPoint(self.random.randrange(self.view.width()), self.random.randrange(self.view.height()))
            for _ in range(2)
        )
        button = self.random.choice([Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton])
        QTest.mousePress(self.view, button, pos=a)
        for k in range(4):
            QTest.mouseMove(self.view, a + (b - a) * k / 4)
            self.application.processEvents()
        if self.random.random() < 0.2:
            QTest.keyClick(self.view, Qt.Key.Key_Escape)
        QTest.mouseRelease(self.view, button, pos=b)

    def work_on_the_job(self) -> None:
        job, window = self.session.job, self.window
        log = len(job.log)
        acts = [
            lambda: window.saving.save(self.job_file),
            lambda: window.opening.open([self.job_file]) if self.job_file.exists() else None,
            lambda: window.opening.open([self.random.choice(self.scans)]),
            lambda: window.opening.add([self.random.choice(self.scans)]) if 0 < len(job.pieces) < 4 else None,
            lambda: window.editing.begin(self.random.randrange(log)) if log else None,
            lambda: window.editing.set_enabled(self.random.randrange(log), self.random.random() < 0.5) if log else None,
            lambda: window.editing.move(self.random.randrange(log), self.random.choice([-1, 1])) if log else None,
            lambda: self.session.history.go_to(self.random.randrange(log + 1)),
            lambda: window.run_routine("print-solid", self.random.random() < 0.5) if job.piece is not None else None,
            lambda: self.session.copy_as_variant() if len(job.pieces) < 4 else None,
            lambda: self.session.set_active(self.random.choice(list(job.present) or [0])),
            lambda: window.resize(self.random.randrange(1000, 1380), self.random.randrange(690, 880)),
        ]
        self.random.choice(acts)()

    def test_hundreds_of_actions(self) -> None:
        self.session.opening.files(self.scans[:2])
        self.settle()
        acts = [self.press_key] * 4 + [self.click_somewhere] * 3 + [self.press_button] * 3
        acts += [self.drag] * 2 + [self.work_on_the_job] * 2 + [self.type_number]
        lots = set(one_of(range(LOTS)))
        self.watch()
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                for number in range(LOTS * ACTIONS):
                    lot, first = divmod(number, ACTIONS)
                    if lot not in lots:
                        continue
                    if first == 0:
                        self.random.seed(SEED + lot)
                    act = self.random.choice(acts)
                    self.latest = f"{act.__name__}, number {number}"
                    act()
                    if not self.window.isVisible():  # it was closed; whoever goes on has opened it again
                        self.window.show()
                    for _ in range(self.random.randrange(8)):
                        self.application.processEvents()
                        time.sleep(0.002)
                    if self.random.random() < 0.06:
                        self.calm(10)
                self.calm(90)
        finally:
            self.unwatch()
        self.assertEqual(self.faults, [])
        self.assertTrue(self.session.tasks.idle)
        job = self.session.job
        again = replay(job.start, plan_of(job), job.next_id, None, anew=True)
        self.assertIsNone(again.stopped, again.reason)
        there: dict = {}
        stands = job.cursor if self.session.looking_back is None else len(job.log)
        for step in again.steps[:stands]:
            for change in step.changes:
                if change.after is None:
                    there.pop(change.id, None)
                else:
                    there[change.id] = change.after
        self.session.history.go_to(stands)
        self.calm(30)
        self.assertEqual(set(there), set(job.present))
        for number, piece in there.items():
            self.assertEqual(bits(piece.mesh), bits(job.present[number].mesh))

    def calm(self, seconds: float) -> None:
        """Let the window come to rest, whatever still asks."""
        end = time.monotonic() + seconds
        rest = 0
        while rest < 10 and time.monotonic() < end:
            self.application.processEvents()
            time.sleep(0.004)
            asked = QApplication.activeModalWidget() is not None
            rest = 0 if asked or not self.session.tasks.idle else rest + 1


if __name__ == "__main__":
    unittest.main()
