"""Work beside the window: one thing in front, newest wins behind, cancel, errors, and nothing heavy on its thread."""

import threading
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import numpy as np
import platformdirs

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.treat import Context, Mend, Reduce, Sweep

if SCREEN:
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest

    from tinsnip.app.state.tasks import Tasks
    from tinsnip.words import grouped

CONTROL, SHIFT = (Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier) if SCREEN else (None, None)


class TaskTest(WindowTest):
    """Tasks by themselves, with gates that a test opens."""

    def setUp(self) -> None:
        super().setUp()
        self.tasks = Tasks()
        self.told: list[tuple[str, bool]] = []
        self.tasks.message.connect(lambda text, bad: self.told.append((text, bad)))
        self.got: list[object] = []

    def gated(self, name: object) -> tuple[threading.Event, Callable]:
        gate = threading.Event()
        self.addCleanup(gate.set)

        def work(progress: object) -> object:
            state = progress.step(f"step of {name}", 10)
            for i in range(2000):
                state[1] = min(9, i // 50)
                if gate.wait(0.005):
                    return name
                progress.check()
            return name

        return gate, work

    def serve(self, until: Callable[[], bool]) -> None:
        self.wait_for(until, 20)

    def test_one_thing_in_front(self) -> None:
        gate, work = self.gated("first")
        self.tasks.foreground("The first", work, self.got.append)
        self.tasks.foreground("The second", lambda p: "second", self.got.append)
        self.assertIn("The first is still going on", self.told[0][0])
        self.assertTrue(self.told[0][1])
        self.assertFalse(self.tasks.idle)
        gate.set()
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(self.got, ["first"])

    def test_cancel_and_failure_deliver_nothing(self) -> None:
        _, work = self.gated("never")
        self.tasks.foreground("The work", work, self.got.append)
        self.serve(lambda: self.tasks.busy.progress.label.startswith("step of"))
        self.tasks.busy.progress.cancel()
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(self.told.pop(), ("The work: cancelled; nothing was changed", False))

        def refuse(progress: object) -> None:
            raise BadInput("the file: is not one; choose another")

        def break_down(progress: object) -> None:
            raise ZeroDivisionError("what nobody thought of")

        def run_out(progress: object) -> None:
            raise MemoryError

        for work, text in ((refuse, "is not one"), (break_down, "should not"), (run_out, "not enough memory")):
            self.tasks.foreground("The work", work, self.got.append)
            self.serve(lambda: self.tasks.idle)
            said, bad = self.told.pop()
            self.assertIn(text, said)
            self.assertNotIn("\n", said)
            self.assertTrue(bad)
        self.assertEqual(self.got, [])

    def test_the_newest_behind_wins(self) -> None:
        works = [self.gated(i) for i in range(4)]
        for _, work in works:
            self.tasks.behind("figure", work, self.got.append)
        for gate, _ in works:
            gate.set()
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(self.got, [3])
        # under other names they go on side by side; what is stopped never arrives
        for name in "abc":
            gate, work = self.gated(name)
            self.tasks.behind(name, work, self.got.append)
            if name != "b":
                gate.set()
        self.assertIsNotNone(self.tasks.progress_of("b"))
        self.tasks.stop_behind("b")
        self.assertIsNone(self.tasks.progress_of("b"))
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(sorted(self.got[1:]), ["a", "c"])

    def test_what_is_waited_for_does_not_queue_behind_the_rest(self) -> None:
        gates = []
        for i in range(8):
            gate, work = self.gated(i)
            gates.append(gate)
            self.tasks.behind(f"look {i}", work, self.got.append)
        self.tasks.foreground("The work", lambda p: "now", self.got.append)
        self.serve(lambda: self.got == ["now"])
        for gate in gates:
            gate.set()
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(sorted(self.got[1:]), list(range(8)))

    def test_a_drag_finishes_what_it_began_and_then_shows_the_last(self) -> None:
        works = [self.gated(i) for i in range(6)]
        for _, work in works:
            self.tasks.latest("level", work, self.got.append)
        for gate, _ in works:
            gate.set()
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(self.got, [0, 5])
        gate, work = self.gated("stopped")
        self.tasks.latest("level", work, self.got.append)
        self.tasks.latest("level", lambda p: "after it", self.got.append)
        self.tasks.stop_behind("level")
        gate.set()
        time.sleep(0.05)
        self.serve(lambda: self.tasks.idle)
        self.assertEqual(self.got, [0, 5])


class InTheWindow(WindowTest):
    """The same, as the technician meets it."""

    makes_ready = True

    def write(self, name: str, mesh: Mesh) -> Path:
        path = Path(self.folder.name) / name
        write_mesh(mesh, path)
        return path

    def test_cancel_by_button_and_by_key(self) -> None:
        damaged = specimens.damage(specimens.torus(70.0, 120), np.random.default_rng(0)).mesh
        self.open(self.write("ring.ply", damaged))
        self.key(Qt.Key.Key_Escape)
        mesh = self.session.mesh

        class Slow(Mend):
            """A step that takes its time, and says so."""

            def apply(self, mesh: Mesh, context: Context) -> object:
                state = context.progress.step("Taking its time", 1000)
                for i in range(1000):
                    state[1] = i
                    time.sleep(0.01)
                    context.progress.check()
                return super().apply(mesh, context)

        box = self.window.busy_box
        for leave in ("button", "key"):
            self.session.apply(Slow())
            end = time.monotonic() + 20
            while not box.isVisible() or "left" not in box.bar.text():
                self.application.processEvents()
                self.assertLess(time.monotonic(), end)
            self.assertIn("Taking its time", box.text.text())
            self.assertRegex(box.bar.text(), r"\d+ %, about \d+ s left")
            self.assertFalse(self.window.stack.isEnabled())
            # the view still turns, and a second step is refused in words
            turn = self.view.camera.turn
            QTest.mousePress(self.view, Qt.MouseButton.LeftButton)
            QTest.mouseMove(self.view, self.view.rect().center() * 0.8)
            QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton)
            self.assertNotEqual(self.view.camera.turn, turn)
            self.session.apply(Sweep())
            self.assertIn("still going on", self.window.notice.text())
            if leave == "button":
                QTest.mouseClick(box.cancel_button, Qt.MouseButton.LeftButton)
            else:
                QTest.keyClick(self.window, Qt.Key.Key_Escape)
            self.settle()
            self.assertFalse(box.isVisible())
            self.assertTrue(self.window.stack.isEnabled())
            self.assertIs(self.session.mesh, mesh)
            self.assertEqual(len(self.session.job.log), 1)

    def test_a_step_that_breaks_down_loses_nothing(self) -> None:
        self.open(self.write("ball.ply", specimens.sphere(30.0, 20).mesh))
        mesh = self.session.mesh
        broken = mock.patch.object(Sweep, "apply", side_effect=RuntimeError("deep down"))
        with broken:
            self.session.apply(Sweep())
            self.settle()
        self.assertIn("something went wrong", self.window.notice.text())
        log = Path(platformdirs.user_log_dir("tinsnip")) / "errors.log"
        self.assertIn("deep down", log.read_text("utf-8"))
        self.assertNotIn("Traceback", self.window.notice.text())
        self.assertIs(self.session.mesh, mesh)
        self.session.apply(Reduce(percent=50))
        self.settle()
        self.assertEqual(len(self.session.job.log), 2)

    def test_nothing_heavy_is_done_on_the_windows_thread(self) -> None:
        """Topology, measures and trees come from workers, whatever is opened, done, undone and looked at."""
        from tinsnip.mesh import measures, mesh, shells
        from tinsnip.survey import deviation, holes, tangles

        heavy = (
            (mesh, "twin_table"),
            (mesh, "count_edges"),
            (mesh, "find_shells"),
            (mesh, "boundary_loops"),
            (mesh, "build_tree"),
            (measures, "_areas"),
            (measures, "areas_by_kind"),
            (mesh, "areas_by_kind"),
            (deviation, "closest_points"),
            (tangles, "degenerate_triangles"),
            (holes, "classify_boundaries"),
            (shells, "polled_here"),
        )
        culprits: list[str] = []
        main = threading.get_ident()

        def watched(name: str, original: Callable) -> Callable:
            def call(*arguments: object, **named: object) -> object:
                if threading.get_ident() == main:
                    culprits.append(name)
                return original(*arguments, **named)

            return call

        rng = np.random.default_rng(1)
        scans = [
            self.write("one.ply", specimens.damage(specimens.torus(70.0, 120), rng, pinches=0, flips=0).mesh),
            self.write("two.stl", specimens.damage(specimens.bored_box(0.4, 80), rng).mesh),
        ]
        patches = [mock.patch.object(where, name, watched(name, getattr(where, name))) for where, name in heavy]
        for patch in patches:
            patch.start()
            self.addCleanup(patch.stop)
        for scan in (*scans, scans[0]):
            self.open(scan)
            self.key(Qt.Key.Key_Escape)
            for key in "123456789":
                self.key(getattr(Qt.Key, f"Key_{key}"))
                self.key(Qt.Key.Key_Escape)
            for key in (Qt.Key.Key_P, Qt.Key.Key_D, Qt.Key.Key_W, Qt.Key.Key_T, Qt.Key.Key_N):
                self.key(key)
            self.key(Qt.Key.Key_6)
            self.key(Qt.Key.Key_Return)
            self.key(Qt.Key.Key_4)
            self.key(Qt.Key.Key_Return)
            self.assertGreaterEqual(len(self.session.job.log), 2)
            self.key(Qt.Key.Key_D)
            for _ in range(2):
                self.key(Qt.Key.Key_Z, CONTROL)
            self.key(Qt.Key.Key_Z, CONTROL | SHIFT)
            self.wait_for(lambda: self.session.from_raw is not None)
            self.assertEqual(culprits, [])
            self.key(Qt.Key.Key_T)

    def test_stale_findings_are_never_shown(self) -> None:
        """What is listed, told and drawn belongs to the present mesh, however quickly steps follow one another."""
        damaged = specimens.damage(specimens.torus(70.0, 160), np.random.default_rng(2), pinches=0, flips=0, doubles=0)
        self.open(self.write("ring.ply", damaged.mesh))
        self.key(Qt.Key.Key_Escape)
        wrong: list[str] = []

        def look() -> None:
            found, measured = self.session.examination, self.session.from_raw
            if found is not None and found.mesh is not self.session.mesh:
                wrong.append("findings")
            if measured is not None and measured.mesh is not self.session.mesh:
                wrong.append("deviation")
            study = self.window.tray("Reduce").levels.study
            if study is not None and study.mesh is not self.session.mesh:
                wrong.append("levels")
            if self.session.mesh is None:  # the opening was undone too
                return
            told = self.window.status.figures["triangles"].text()
            if told != f"now {grouped(len(self.session.mesh.faces))} triangles":
                wrong.append(told)

        for signal in (self.session.examined, self.session.from_raw_changed, self.session.buffers_ready):
            signal.connect(look)
        self.session.apply(Sweep())
        self.wait_for(lambda: len(self.session.job.log) == 2)
        rng = np.random.default_rng(0)
        self.key(Qt.Key.Key_7)
        for _ in range(60):
            (self.session.history.undo if rng.integers(2) else self.session.history.redo)()
            look()
            for _ in range(int(rng.integers(0, 6))):
                self.application.processEvents()
            look()
        self.settle()
        look()
        self.assertEqual(wrong, [])


if __name__ == "__main__":
    unittest.main()
