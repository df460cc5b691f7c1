"""The job in the window: saved, asked about, found again after a crash, and changed at a step long gone."""

import json
import shutil
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_job_file import bits, state
from tinsnip.app.state import reference
from tinsnip.formats import write_mesh
from tinsnip.job import Writing, open_job, unfinished_folder
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import region_of_holes
from tinsnip.treat import Mend, Orient, Patch, Reduce, SnipApart, StraightSnip, Sweep, Turn

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QDoubleSpinBox, QPushButton, QToolButton

    from tinsnip.app.frame.window import Window
    from tinsnip.app.tools.pick import Pick
    from tinsnip.app.tools.snip import SnipTool

    CONTROL, SHIFT, ALT = (getattr(Qt.KeyboardModifier, f"{n}Modifier") for n in ("Control", "Shift", "Alt"))


class JobTest(WindowTest):
    """On a damaged ring."""

    def setUp(self) -> None:
        super().setUp()
        self.path = Path(self.folder.name) / "ring.ply"
        damaged = specimens.damage(specimens.torus(70.0, 90), np.random.default_rng(3), hole_radius=0.12)
        write_mesh(damaged.mesh, self.path)
        self.open(self.path)
        self.key(Qt.Key.Key_Escape)

    def do(self, *treatments: object) -> None:
        for treatment in treatments:
            self.session.apply(treatment)
            self.settle()

    @property
    def job(self) -> object:
        return self.session.job

    def log_row(self, row: int) -> QPoint:
        rows = self.window.log_list
        return rows.visualItemRect(rows.item(row)).center()


class Saved(JobTest):
    def test_saved_asked_about_and_opened_again(self) -> None:
        self.assertNotIn("not saved", self.window.windowTitle())
        self.do(Mend(), Orient())
        self.assertIn("2 steps not saved", self.window.windowTitle())
        self.assertEqual(self.window.status.figures["saved"].text(), "2 steps not saved")
        out = Path(self.folder.name) / "work.snipjob"
        self.answer_dialog(out)
        self.key(Qt.Key.Key_S, CONTROL)
        self.come_back()
        self.assertTrue(out.exists())
        self.assertEqual(self.window.windowTitle(), "work.snipjob – Tinsnip")
        self.assertEqual(self.window.status.figures["saved"].text(), "saved in work.snipjob")
        self.do(Turn(degrees=10))
        self.assertIn("1 step not saved", self.window.windowTitle())
        size = out.stat().st_size
        self.key(Qt.Key.Key_S, CONTROL)  # no question where to
        self.assertLess(out.stat().st_size - size, 2 * self.session.mesh.vertices.nbytes + 200_000)
        # undone, the file says more than the window: that is not saved either
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertIn("not saved", self.window.windowTitle())
        self.key(Qt.Key.Key_Z, CONTROL | SHIFT)
        self.assertNotIn("not saved", self.window.windowTitle())

        # stay, save, let go: before another scan is opened, and before the window closes
        self.do(Turn(degrees=5))
        mesh = self.session.mesh
        other = Path(self.folder.name) / "ball.stl"
        write_mesh(specimens.sphere(20.0, 12).mesh, other)
        self.answer_question("Cancel")
        self.window.opening.open([other])
        self.settle()
        self.assertIs(self.session.mesh, mesh)
        self.answer_question("Cancel")
        self.window.close()
        self.settle()
        self.assertTrue(self.window.isVisible())
        before = state(self.job)
        self.window.pins.show_again([{"place": [1, 2, 3], "text": "+0.100 mm"}])
        self.session.set_station("Holes")
        self.view.camera.turn = 123.0
        self.answer_question("Save")
        self.window.opening.open([other])
        self.wait_for(lambda: self.session.mesh is not mesh)
        self.assertEqual(len(self.job.log), 1)
        # and back, by the card of recent jobs: all as it was, what was shown too
        self.key(Qt.Key.Key_Escape)
        self.assertEqual(self.window.settings.recent[:2], [str(other), str(out)])
        self.window.opening.open([out])
        self.wait_for(lambda: len(self.job.log) > 1)
        self.assertEqual(state(self.job), before)
        self.assertEqual((self.session.station, self.view.camera.turn), ("Holes", 123.0))
        self.assertEqual([p.text for p in self.window.pins.pins], ["+0.100 mm"])
        self.come_back()
        for _ in range(4):
            self.key(Qt.Key.Key_Z, CONTROL)
        self.assertEqual(len(self.job.log), 5)
        self.assertEqual(self.job.cursor, 1)

    def test_a_click_on_what_was_made_goes_back_to_its_step(self) -> None:
        ball = specimens.sphere(200.0, 40).mesh
        middles = ball.vertices[ball.faces].mean(axis=1)
        path = Path(self.folder.name) / "holed.ply"
        write_mesh(keep_triangles(ball, np.abs(middles[:, 2]) < 80), path)  # a hole above, one below
        self.window.opening.open([path])
        self.settle()
        self.key(Qt.Key.Key_Escape)
        above = self.session.findings("Holes")[0 if self.session.findings("Holes")[0].place[2] > 0 else 1]
        self.do(Patch(holes=region_of_holes(self.session.mesh, (above.key,))))
        self.do(Patch(), Turn(degrees=90, axis=(1.0, 0.0, 0.0)), Reduce(triangles=4000))
        self.key(Qt.Key.Key_P)
        frame, steps = self.session.job.piece.frame, len(self.job.log)
        for place, step in (((0, 0, 100.0), 1), ((0, 0, -100.0), 2)):
            point = frame[:3, :3] @ np.array(place) + frame[:3, 3]
            for turn in (0.0, 180.0):
                self.view.framing.look_from(turn, 0.0)
                self.view.framing.fit()
                self.settle()
                x, y, _ = self.view.camera.project(point)[0]
                if self.view.camera.ray(x, y)[1] @ point < 0:  # it faces the view
                    break
            self.click(self.view, x, y)
            self.wait_for(lambda step=step: self.window.editing.number == step)
            self.assertEqual(self.job.log[step].action.name, "patch")
            self.key(Qt.Key.Key_Escape)
            self.wait_for(lambda: self.window.editing.number is None)
            self.settle()
            self.assertEqual((self.job.cursor, len(self.job.log)), (steps, steps))

    def test_recent_jobs_stand_on_the_empty_view_with_picture_and_date(self) -> None:
        self.do(Mend())
        out = Path(self.folder.name) / "work.snipjob"
        self.window.saving.save(out)
        self.settle()
        self.key(Qt.Key.Key_Z, CONTROL)
        self.key(Qt.Key.Key_Z, CONTROL)  # the opening too: nothing is there
        self.assertIsNone(self.session.mesh)
        self.assertTrue(self.window.empty.isVisible())
        self.settle()
        cards = [b for b in self.window.empty.findChildren(QToolButton) if b.objectName() == "jobcard"]
        self.assertEqual([b.accessibleName() for b in cards], ["Job work.snipjob"])
        self.assertEqual(cards[0].icon().actualSize(cards[0].iconSize()).width(), 96)
        self.assertIn("2 steps", cards[0].text())
        self.answer_question("Do not save")  # two steps were undone since
        self.click(cards[0])
        self.wait_for(lambda: self.session.mesh is not None)
        self.assertEqual(self.job.cursor, 2)

    def test_a_disk_that_is_full_is_said_and_nothing_is_lost(self) -> None:
        self.do(Mend())
        before = state(self.job)
        full = mock.patch("os.fsync", side_effect=OSError(28, "No space left on device"))
        with full:
            self.window.saving.save(Path(self.folder.name) / "work.snipjob")
            self.settle()
        self.assertIn("no space left", self.window.notice.text())
        self.assertEqual(state(self.job), before)
        self.assertTrue(self.window.saving.unsaved)
        with mock.patch("tinsnip.job.shelf.Shelf.commit", side_effect=OSError(28, "No space left on device")):
            self.do(Turn(degrees=4))
        self.assertIn("in memory only", self.window.notice.text())
        self.do(Turn(degrees=4))
        self.assertEqual(len(self.job.log), 4)
        self.assertEqual(len(open_job(self.job.keeper.path).job.log), 4)


class LeftOver(JobTest):
    def test_what_a_crash_left_is_offered_and_goes_on(self) -> None:
        self.do(Mend(), Orient(), Turn(degrees=12))
        before = state(self.job)
        folder = unfinished_folder()
        # as a kill leaves it: the file of the running window, which nobody holds any more
        left = folder / "0-left.snipjob"
        shutil.copy(self.job.keeper.path, left)
        self.do(Turn(degrees=50))
        older = folder / "1-older.snipjob"
        shutil.copy(self.job.keeper.path, older)
        cut = folder / "2-cut.snipjob"
        cut.write_bytes(left.read_bytes()[:3000])
        self.close_window()
        self.window = Window()
        self.session, self.view = self.window.session, self.window.viewport
        self.window.show()
        self.come_back()
        card = self.window.left_overs
        self.assertTrue(card.isVisible())
        self.assertFalse(self.window.empty.isVisible())
        self.assertEqual({j.path for j in card.jobs}, {left, older, cut})
        self.assertEqual([j.steps for j in card.jobs if j.path == left], [4])
        self.assertTrue(next(j for j in card.jobs if j.path == cut).trouble)
        buttons = {b.accessibleName(): b for b in card.findChildren(QPushButton) if b.isEnabled()}
        self.assertEqual(len([n for n in buttons if n.startswith("Go on")]), 1)  # both good ones have one name
        # put away they stay, and are found again by the menu
        self.click(next(b for b in card.findChildren(QPushButton) if b.text().startswith("Later")))
        self.assertTrue(self.window.empty.isVisible() and not card.isVisible())
        self.window.show_left_overs()
        self.settle()
        self.assertTrue(card.isVisible() and not self.window.empty.isVisible())
        self.assertEqual(len(card.jobs), 3)
        # one is declined, after a question; one is gone on with
        one = next(j for j in card.jobs if j.path == older)
        self.answer_question("Keep it")
        card._ask_to_let_go(one)
        self.assertTrue(older.exists())
        self.answer_question("Throw away")
        card._ask_to_let_go(one)
        self.settle()
        self.assertFalse(older.exists())
        self.view.setFocus()
        self.key(Qt.Key.Key_Return)  # goes on with the first that can be read
        self.wait_for(lambda: self.session.mesh is not None)
        self.settle()
        self.assertEqual(state(self.job), before)
        self.assertEqual([s.action.name for s in self.job.log], ["open", "mend", "orient", "turn"])
        self.assertIn("not saved", self.window.windowTitle())
        self.assertFalse(left.exists())  # kept anew by now
        self.assertTrue(self.job.keeper.path.exists())
        self.come_back()
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertEqual(self.job.cursor, 3)

    def test_another_window_keeps_its_own(self) -> None:
        self.do(Mend())
        code = "from tinsnip.app.state.saving import left_over_jobs; print(len(left_over_jobs()))"
        run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(run.stdout.strip(), "0")
        self.assertTrue(self.job.keeper.path.exists())
        self.close_window()
        end = time.monotonic() + 20
        while self.job.keeper.path.exists():  # what was let go is gone
            self.application.processEvents()
            self.assertLess(time.monotonic(), end)


class GoingBack(JobTest):
    def test_a_step_is_opened_changed_and_the_change_undone(self) -> None:
        self.do(Mend(), Orient(), StraightSnip(offset=-3.0), Sweep(chunks="keep"), Reduce(percent=50))
        before, cut = state(self.job), self.job.log[3].changes[0].before.mesh
        rows = self.window.log_list
        place = self.log_row(3)
        QTest.mouseMove(rows.viewport(), place)
        self.click(rows.viewport(), rows.viewport().width() - 10, place.y())
        self.assertEqual(self.window.editing.number, 3)
        self.assertIs(self.window.stack.currentWidget(), self.window.editor)
        self.assertIs(self.session.mesh, cut)  # the part before it
        field = self.window.editor.form.field("offset").findChild(QDoubleSpinBox)
        self.assertEqual(field.value(), -3.0)
        self.assertFalse(self.window.editor.copper.isEnabled())
        self.key(Qt.Key.Key_Escape)  # left as it was
        self.assertEqual(state(self.job), before)
        self.assertIs(self.window.stack.currentWidget(), self.window.tray(self.session.station))
        rows.setFocus()
        rows.setCurrentRow(3)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.window.editing.number, 3)
        field = self.window.editor.form.field("offset").findChild(QDoubleSpinBox)
        self.type_number(field, "2")
        self.click(self.window.editor.copper)
        self.wait_for(lambda: self.window.editing.number is None)
        self.assertEqual(self.job.log[3].action.offset, 2.0)
        self.assertEqual((len(self.job.log), self.job.cursor), (6, 6))
        self.assertGreaterEqual(self.job.log[3].changes[0].after.mesh.box[0, 2], 2.0 - 1e-9)
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertEqual(state(self.job), before)
        self.key(Qt.Key.Key_Z, CONTROL | SHIFT)
        self.assertEqual(self.job.log[3].action.offset, 2.0)

    def test_while_a_step_is_open_nothing_else_costs_what_follows_it(self) -> None:
        self.do(Mend(), Orient(), Turn(degrees=10))
        log = list(self.job.log)
        self.window.editing.begin(3)
        self.settle()
        self.assertNotIn("4 steps", self.window.windowTitle())  # looking back is no work undone
        self.assertIn("3 steps not saved", self.window.windowTitle())
        for act in (self.session.copy_as_variant, self.session.history.undo, lambda: self.session.apply(Sweep())):
            act()
            self.settle()
            self.assertIn("is open", self.window.notice.text())
            self.assertEqual(self.job.log, log)
            self.window.notice.hide()
        self.window.run_routine("print-solid", False)
        self.settle()
        self.assertEqual(self.job.log, log)
        self.session.set_station("Holes")  # which leaves it as it was
        self.settle()
        self.assertIsNone(self.window.editing.number)
        self.assertEqual((self.job.log, self.job.cursor), (log, 4))

    def test_switched_off_and_moved(self) -> None:
        self.do(Mend(), Turn(degrees=90), Turn(axis=(1, 0, 0), degrees=90))
        before = bits(self.session.mesh)
        rows = self.window.log_list
        self.click(rows.viewport(), 9, self.log_row(2).y())  # its tick
        self.assertFalse(self.job.log[2].enabled)
        self.assertNotEqual(bits(self.session.mesh), before)
        self.assertIn("switched off", rows.item(2).text())
        self.click(rows.viewport(), 9, self.log_row(2).y())
        self.assertEqual(bits(self.session.mesh), before)
        rows.setFocus()
        rows.setCurrentRow(3)
        self.key(Qt.Key.Key_Up, ALT)
        self.assertEqual([s.action.axis for s in self.job.log[2:]], [(1, 0, 0), (0, 0, 1)])
        self.assertNotEqual(bits(self.session.mesh), before)
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertEqual(bits(self.session.mesh), before)
        # before the scan was opened there is nothing to turn
        rows.setFocus()
        rows.setCurrentRow(1)
        self.key(Qt.Key.Key_Up, ALT)
        self.assertIn("opened", self.window.notice.text())

    def test_a_log_that_stops_asks(self) -> None:
        self.do(Mend(), Orient(), StraightSnip(offset=-3.0), Turn(degrees=15))
        before = state(self.job)
        for answer in ("Keep the old log", "Go on without it"):
            self.window.editing.begin(3)
            self.settle()
            field = self.window.editor.form.field("offset").findChild(QDoubleSpinBox)
            self.type_number(field, "5000")  # would cut everything away
            self.answer_question(answer)
            self.click(self.window.editor.copper)
            self.come_back()
            if answer.startswith("Keep"):
                self.assertEqual(self.window.editing.number, 3)
                self.key(Qt.Key.Key_Escape)
                self.assertEqual(state(self.job), before)
        self.assertEqual([s.enabled for s in self.job.log], [True, True, True, False, True])
        self.assertEqual(self.job.cursor, 5)
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertEqual(state(self.job), before)

    def test_routines_from_the_window_and_from_the_log(self) -> None:
        other = Path(self.folder.name) / "ball.stl"
        ball = specimens.damage(specimens.sphere(30.0, 40), np.random.default_rng(5), hole_radius=0.15).mesh
        write_mesh(ball, other)
        self.session.opening.files([other], add=True)
        self.settle()
        self.window.run_routine("print-solid", True)
        self.settle()
        self.assertEqual([p.mesh.edges.open for p in self.job.pieces], [0, 0])
        self.assertEqual({s.on[0] for s in self.job.log[2:]}, {1, 2})
        self.assertGreater(len(self.job.log), 8)
        # the log of the one piece, as a routine, does the same to its scan
        mesh = self.job.present[1].mesh
        out = Path(self.folder.name) / "again.json"
        self.session.set_active(1)
        self.settle()
        self.answer_dialog(out)
        self.window.opening.save_routine()
        self.come_back()
        steps = json.loads(out.read_text())["steps"]
        self.assertIn("patch", [s["treatment"] for s in steps])
        results = Path(self.folder.name) / "out"
        run = [
            sys.executable,
            "-m",
            "tinsnip",
            "run",
            str(out),
            str(self.path),
            "--out",
            str(results),
            "--format",
            "ply",
        ]
        done = subprocess.run(run, capture_output=True, text=True)
        self.assertIn("triangles", done.stdout, done.stderr)
        self.assertIn(f"{len(mesh.faces)} triangles", done.stdout)


class Pieces(JobTest):
    def test_both_sides_of_a_snip_and_one_of_several(self) -> None:
        self.do(Mend(), Orient())
        raw = self.session.mesh
        self.key(Qt.Key.Key_3)
        tray = self.window.tray("Trim")
        self.type_number(tray.offset, "1")
        self.click(tray.both_box, 8, 8)
        self.assertIsNone(self.view.scene.waste)  # nothing goes
        self.assertEqual(tray.goes.text(), "0")
        self.click(tray.copper)
        self.assertIsInstance(self.job.log[-1].action, SnipApart)
        self.assertEqual(len(self.job.pieces), 2)
        self.assertAlmostEqual(sum(p.mesh.area for p in self.job.pieces), raw.area, places=6)
        self.key(Qt.Key.Key_1)
        intake = self.window.tray("Intake")
        self.assertEqual(intake.pieces.count(), 2)
        self.click(intake.merge_button)
        self.assertEqual(len(self.job.pieces), 1)
        self.assertAlmostEqual(self.session.mesh.area, raw.area, places=6)
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertEqual(len(self.job.pieces), 2)

    def test_the_cut_closes_as_long_as_it_is_ticked(self) -> None:
        self.do(Mend(), Orient())
        self.key(Qt.Key.Key_3)
        tray = self.window.tray("Trim")
        self.click(tray.close_box, 8, 8)
        for offset in ("-4", "2"):
            self.type_number(tray.offset, offset)
            self.click(tray.copper)
            self.assertTrue(tray.close_box.isChecked())
            self.assertTrue(self.job.log[-1].action.close)

    def test_units_are_steps_at_any_time(self) -> None:
        self.do(Mend())
        size = self.session.mesh.size.copy()
        self.session.copy_as_variant()
        self.settle()
        self.session.set_unit("cm")
        self.settle()
        self.assertTrue(np.allclose(self.session.mesh.size, 10 * size))
        self.assertIsNot(self.session.mesh, self.job.piece.raw)  # the work is kept
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertTrue(np.allclose(self.session.mesh.size, size))


class Hand(JobTest):
    def test_a_drag_ends_with_its_own_button_and_esc_puts_it_back(self) -> None:
        self.key(Qt.Key.Key_2)
        left, right = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton
        tab = self.view.hand.rest.tabs()[2].at.toPoint()
        QTest.mousePress(self.view, left, pos=tab)
        QTest.mouseMove(self.view, tab + QPoint(30, 0))
        self.assertIsNotNone(self.view.scene.turn)
        QTest.mousePress(self.view, right, pos=tab + QPoint(30, 0))
        QTest.mouseRelease(self.view, right, pos=tab + QPoint(30, 0))
        self.assertIsNotNone(self.view.scene.turn)  # still held by the left one
        QTest.mouseRelease(self.view, left, pos=tab + QPoint(30, 0))
        self.settle()
        self.assertIsNone(self.view.scene.turn)
        self.assertEqual(self.job.log[-1].action.name, "turn")
        steps = len(self.job.log)
        for leave in (lambda: QTest.keyClick(self.window, Qt.Key.Key_Escape), self.view.hand.lost_focus):
            tab = self.view.hand.rest.tabs()[2].at.toPoint()
            QTest.mousePress(self.view, left, pos=tab)
            QTest.mouseMove(self.view, tab + QPoint(40, 0))
            self.assertIsNotNone(self.view.scene.turn)
            leave()
            self.assertIsNone(self.view.scene.turn)
            QTest.mouseRelease(self.view, left, pos=tab + QPoint(40, 0))
            self.settle()
            self.assertEqual(len(self.job.log), steps)
        # the snip goes back too
        self.key(Qt.Key.Key_3)
        plan = self.window.tray("Trim").plan
        offset, place = plan.offset, self.view.hand.rest.tabs()[0].at.toPoint()
        QTest.mousePress(self.view, left, pos=place)
        QTest.mouseMove(self.view, place + QPoint(0, -30))
        self.assertNotEqual(plan.offset, offset)
        QTest.keyClick(self.window, Qt.Key.Key_Escape)
        QTest.mouseRelease(self.view, left, pos=place)
        self.assertEqual(plan.offset, offset)
        self.assertIsInstance(self.view.hand.rest, SnipTool)

    def test_keys_that_are_let_go_elsewhere_are_let_go(self) -> None:
        self.view.setFocus()
        QTest.keyPress(self.view, Qt.Key.Key_Space)
        self.assertTrue(self.view.hand.space)
        self.window.log_list.setFocus()
        self.application.processEvents()
        self.assertFalse(self.view.hand.space)

    def test_the_pick_keeps_its_cursor(self) -> None:
        self.key(Qt.Key.Key_2)
        self.window.tray("Stand").pick_flat()
        self.assertIsInstance(self.view.hand.tool, Pick)
        for spot in (self.spot_on_part(), (20, 200)):
            QTest.mouseMove(self.view, QPoint(*spot))
            self.application.processEvents()
            self.assertEqual(self.view.cursor().shape(), Qt.CursorShape.CrossCursor)
        self.key(Qt.Key.Key_Escape)
        self.assertEqual(self.view.cursor().shape(), Qt.CursorShape.ArrowCursor)

    def test_flats_and_the_scanners_frame_are_worked_out_beside_the_window(self) -> None:
        from tinsnip.app.stations import stand
        from tinsnip.job import Piece

        main, culprits, called = threading.get_ident(), [], []

        def watched(name: str, original: object) -> object:
            def call(*arguments: object, **named: object) -> object:
                called.append(name)
                if threading.get_ident() == main:
                    culprits.append(name)
                return original(*arguments, **named)

            return call

        with (
            mock.patch.object(stand, "flat_facing", watched("flat", stand.flat_facing)),
            mock.patch.object(Piece, "in_scanner_frame", watched("frame", Piece.in_scanner_frame)),
        ):
            self.key(Qt.Key.Key_2)
            self.window.tray("Stand").pick_flat()
            self.click(self.view, *self.spot_on_part())
            self.key(Qt.Key.Key_Return)
            self.session.exporting.write(Writing(Path(self.folder.name) / "out.stl", scanner_frame=True))
            self.settle()
        self.assertEqual((sorted(called), culprits), (["flat", "frame"], []))
        self.assertEqual(self.job.log[-1].action.name, "lay-flat")

    def test_a_reading_that_comes_too_late_is_dropped(self) -> None:
        told: list[float] = []
        turned, measure = threading.Event(), reference.signed_distance

        def slow(*arguments: object) -> float:
            turned.wait(60)
            return measure(*arguments)

        with mock.patch.object(reference, "signed_distance", slow):
            self.session.references.ask_at(self.session.mesh.vertices[0], told.append)
            self.session.apply(Turn(degrees=3))
            while len(self.session.job.log) < 2:  # the reading is under way meanwhile
                self.application.processEvents()
            turned.set()
            self.settle()
        self.assertEqual(told, [])
        self.session.references.ask_at(self.session.mesh.vertices[0], told.append)
        self.settle()
        self.assertEqual(len(told), 1)

    def test_an_empty_part_can_be_looked_at(self) -> None:
        piece = self.job.piece
        empty = Mesh(np.zeros((0, 3)), np.zeros((0, 3), int))
        from tinsnip.job import step_of_outcome
        from tinsnip.treat import Outcome

        self.session.enter([step_of_outcome(Turn(), piece, Outcome(empty, "gone"), 0.0)])
        self.settle()
        self.drag((200, 200), (260, 230), Qt.MouseButton.LeftButton)
        self.wheel(200, 200, 2)
        for key in "123456789":
            self.key(getattr(Qt.Key, f"Key_{key}"))
        self.key(Qt.Key.Key_Z, CONTROL)
        self.assertGreater(len(self.session.mesh.faces), 0)


class Memory(JobTest):
    def test_what_is_done_is_let_go(self) -> None:
        """Without any collector: tasks, their meshes, and what the card held."""
        import gc
        import weakref

        self.assertFalse(gc.isenabled())
        big = Mesh(np.zeros((3, 3)), np.arange(3).reshape(1, 3))
        gone = weakref.ref(big)
        for act in (self.session.tasks.behind, self.session.tasks.latest):
            act("look", lambda p, mesh=big: len(mesh.faces), lambda count: None)
        self.session.tasks.foreground("Look", lambda p, mesh=big: len(mesh.faces), lambda count: None)
        del big
        self.wait_for(lambda: gone() is None, 5)
        # one that fails does not bring an old wish back
        got: list[object] = []

        def fail(progress: object) -> None:
            raise ZeroDivisionError

        self.session.tasks.latest("figure", fail, got.append)
        self.session.tasks.latest("figure", lambda p: 2, got.append)
        self.settle()
        self.assertEqual(got, [2])
        self.session.tasks.latest("figure", lambda p: 3, got.append)
        self.settle()
        self.assertEqual(got, [2, 3])

    def test_the_view_frees_what_it_no_longer_draws_to(self) -> None:
        made: list[object] = []
        context = self.view.scene.context
        for kind in ("renderbuffer", "depth_renderbuffer", "buffer"):
            original = getattr(context, kind)

            def note(*arguments: object, original: object = original, **named: object) -> object:
                made.append(original(*arguments, **named))
                return made[-1]

            patch = mock.patch.object(type(context), kind, side_effect=note)
            patch.start()
            self.addCleanup(patch.stop)
        for width in range(1200, 1280, 10):
            self.window.resize(width, 800)
            self.settle()
        for _ in range(6):
            self.session.set_station("Strays")
            self.settle()
            self.session.set_station("Holes")
            self.settle()
        alive = [m for m in made if type(m.mglo).__name__ != "InvalidObject"]
        kinds = [type(m).__name__ for m in alive]
        self.assertGreater(len(made), 20)
        self.assertLessEqual(kinds.count("Renderbuffer"), 2)
        self.assertLessEqual(kinds.count("Buffer"), 8)  # boundary lines, voids and readings of the open station

    def test_spilled_meshes_are_held_by_nothing(self) -> None:
        import weakref

        self.window.session.job.keeper.budget = 0
        self.do(Mend(), Orient())
        between = weakref.ref(self.job.log[1].changes[0].after.mesh)
        self.do(Turn(degrees=3), Turn(degrees=4))
        self.wait_for(lambda: self.job.log[1].changes[0].after.kept_mesh.resident is None)
        self.wait_for(lambda: between() is None, 10)


if __name__ == "__main__":
    unittest.main()
