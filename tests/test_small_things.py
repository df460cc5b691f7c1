"""Small things that were met in whole jobs, each by hand as it was met."""

import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tinsnip.app.state.settings import Settings
from tinsnip.app.state.timeleft import TimeLeft
from tinsnip.formats import write_mesh
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.treat import Context, StraightSnip

if SCREEN:
    from PySide6.QtCore import QPoint, Qt, QTimer
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication, QLabel

    from tinsnip.app.tools.selecting import Brush
    from tinsnip.app.view.looks import DEVIATION


class Remembered(unittest.TestCase):
    def test_scans_do_not_push_jobs_out_of_what_was_opened_lately(self) -> None:
        settings = Settings()
        settings.note_opened(Path("/a/old.snipjob"))
        for i in range(12):
            settings.note_opened(Path(f"/a/{i}.ply"))
        self.assertEqual(settings.recent[0], "/a/11.ply")
        self.assertEqual(len(settings.recent), 9)
        self.assertIn("/a/old.snipjob", settings.recent)


class TimeTold(unittest.TestCase):
    def test_a_time_is_named_only_where_the_pace_holds(self) -> None:
        def told(share_at: object, seconds: float) -> list[tuple[float, str]]:
            left = TimeLeft(0.0)
            return [(t, left.told(t, share_at(t))) for t in np.arange(0.1, seconds, 0.1)]

        # an even pace is named, and right within a tenth
        for t, text in told(lambda t: t / 40, 40):
            if 5 < t < 38:
                self.assertRegex(text, r"^about \d+ s left$")
                self.assertAlmostEqual(int(text.split()[1]), 40 - t, delta=0.1 * 40)
        # standing still says how long it has been, never a time left that grows
        self.assertTrue(all(text.endswith("so far") for t, text in told(lambda t: 0.0, 130) if t > 1.1))
        self.assertEqual(told(lambda t: 0.0, 130)[-1][1], "2 min so far")
        # a quick first half and a slow second one: what is promised is never half of what it takes
        for t, text in told(lambda t: min(0.05 * t, 0.5) + max(0.0, t - 10) * 0.005, 110):
            if text.startswith("about") and t > 15:
                self.assertGreater(int(text.split()[1]) + 1, 0.4 * (110 - t))
        slow = [text for t, text in told(lambda t: min(0.05 * t, 0.5) + max(0.0, t - 10) * 0.005, 110) if 12 < t < 20]
        self.assertTrue(any(text.endswith("so far") for text in slow))


class ByHand(WindowTest):
    def show(self, mesh: Mesh) -> None:
        path = Path(self.folder.name) / "part.ply"
        write_mesh(mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)

    def test_what_a_file_holds_is_seen_before_it_is_opened(self) -> None:
        path, seen = Path(self.folder.name) / "ball.ply", []
        write_mesh(specimens.sphere(40.0, 30).mesh, path)
        self.window.settings.open_folder = self.folder.name

        def look(tries: int = 200) -> None:
            dialog = QApplication.activeModalWidget()
            pictures = [] if dialog is None else [w for w in dialog.findChildren(QLabel) if w.objectName() == "thumb"]
            if not pictures:
                QTimer.singleShot(50, look)
                return
            if not seen:
                dialog.currentChanged.emit(str(path))
                seen.append(None)
            if pictures[0].pixmap().isNull() and tries:
                QTimer.singleShot(50, lambda: look(tries - 1))
                return
            told = [w.text() for w in pictures[0].parentWidget().findChildren(QLabel)]
            seen[0] = pictures[0].pixmap().width(), next(text for text in told if text)
            dialog.reject()

        QTimer.singleShot(100, look)
        self.window.opening.ask_open()
        self.come_back()
        self.assertGreater(seen[0][0], 60)
        self.assertIn("triangles", seen[0][1])
        self.assertIsNone(self.session.mesh)

    def test_a_number_stays_with_its_hole(self) -> None:
        ball = specimens.sphere(40.0, 40).mesh
        middles = ball.vertices[ball.faces].mean(axis=1)
        keep = np.ones(len(ball.faces), dtype=bool)
        for way, reach in (([1.0, 0, 0], 7.0), ([0, 1.0, 0], 6.0), ([0, -1.0, 0], 5.0), ([-1.0, 0, 0], 4.0)):
            keep &= np.linalg.norm(middles - 20.0 * np.array(way), axis=1) > reach
        self.show(keep_triangles(ball, keep))
        self.key(Qt.Key.Key_5)
        before = {f.id: f.place.tolist() for f in self.session.findings()}
        self.assertEqual(sorted(before), ["H1", "H2", "H3", "H4"])
        self.session.tick([f for f in self.session.findings() if f.id != "H2"], False)
        self.key(Qt.Key.Key_Return)
        after = {f.id: f.place.tolist() for f in self.session.findings()}
        self.assertEqual(after, {name: place for name, place in before.items() if name != "H2"})
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual({f.id: f.place.tolist() for f in self.session.findings()}, before)

    def test_a_fast_brush_leaves_no_gaps(self) -> None:
        block = specimens.bored_box(40.0, 60).mesh
        self.show(block)
        self.view.framing.look_from(0.0, 90.0)
        self.view.framing.fit()
        self.key(Qt.Key.Key_3)
        brush = next(tool for tool in self.window.tray("Trim").select_tools if isinstance(tool, Brush))
        self.view.hand.take(brush)
        self.settle()
        top = block.box[1, 2]
        low, high = (np.array([f * 0.75 * block.box[1, 0], 0.85 * block.box[1, 1], top]) for f in (-1, 1))
        a, b = (QPoint(*map(int, self.view.camera.project(place)[0, :2])) for place in (low, high))
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=a)
        QTest.mouseMove(self.view, b)  # all the way at once
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=b)
        self.settle()
        middles = block.vertices[block.faces].mean(axis=1)
        reach = 0.7 * brush.reach
        on_way = (np.abs(middles[:, 1] - low[1]) < reach) & (middles[:, 2] > top - 1e-6)
        on_way &= (middles[:, 0] > low[0]) & (middles[:, 0] < high[0])
        self.assertGreater(on_way.sum(), 30)
        self.assertTrue(self.session.selected.triangles[on_way].all())

    def test_nothing_is_said_about_nothing_and_what_is_lost_is_told(self) -> None:
        self.view.set_look(DEVIATION)
        self.assertFalse(self.view.deviation_legend.isVisible())  # there is no scan yet
        self.show(specimens.sphere(40.0, 20).mesh)
        self.assertTrue(self.view.deviation_legend.isVisible())
        self.view.set_look(0)
        # a click that meets nothing
        self.key(Qt.Key.Key_2)
        self.window.tray("Stand").pick_flat()
        self.click(self.view, 5, self.view.height() - 5)
        self.assertIn("nothing of the part there", self.window.notice.text())
        self.key(Qt.Key.Key_Escape)
        # the part beside the view, or a speck in it
        self.assertEqual(self.window.out_of_view.lack(), "")
        self.view.camera.pan(3000, 0)
        self.view.moved()
        self.assertEqual(self.window.out_of_view.lack(), "The part is out of view")
        self.view.setFocus()
        self.key(Qt.Key.Key_F)
        self.assertEqual(self.window.out_of_view.lack(), "")
        self.view.camera.scale *= 1000
        self.assertEqual(self.window.out_of_view.lack(), "The part is too small to be seen")

    def test_a_made_base_is_lit_flat_and_shades_nothing_round_it(self) -> None:
        ball = (
            StraightSnip(offset=5.0, close=True, waste="above").apply(specimens.sphere(40.0, 40).mesh, Context()).mesh
        )
        cap = np.flatnonzero(ball.provenance == MADE)
        self.assertGreater(len(cap), 20)
        with mock.patch("tinsnip.app.view.scene._COARSE", 0):  # as a dense scan is drawn
            path = Path(self.folder.name) / "part.ply"
            write_mesh(ball, path, provenance=True)
            self.open(path)
            self.key(Qt.Key.Key_Escape)
            self.assertTrue(self.view.scene.now.has_made)
            self.view.framing.look_from(20.0, 70.0)
            self.view.framing.fit()
            self.settle()
            picture = self.picture()
            flat = ball.vertices[np.unique(ball.faces[cap])].mean(axis=0)
            x, y, _ = self.view.camera.project(flat)[0]
            reach = int(0.7 * np.sqrt(20.0**2 - 5.0**2) / self.view.camera.scale)
            on_cap = picture[int(y) - reach // 2 : int(y) + reach // 2, int(x) - reach : int(x) + reach]
            self.assertLessEqual(int(np.ptp(on_cap.reshape(-1, 3), axis=0).max()), 3)

    def test_anything_is_found_by_its_words_and_done(self) -> None:
        self.show(specimens.damage(specimens.sphere(40.0, 24), np.random.default_rng(0)).mesh)
        finder = self.window.finder

        def find(typed: str, downs: int = 0) -> str:
            self.view.setFocus()
            self.key(Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
            self.assertTrue(finder.line.hasFocus())
            QTest.keyClicks(finder.line, typed)  # letters that are keys of the window elsewhere
            for _ in range(downs):
                QTest.keyClick(finder.line, Qt.Key.Key_Down)
            found = finder.rows.currentItem().text(0)
            self.key(Qt.Key.Key_Return)
            self.assertFalse(finder.isVisible())
            return found

        self.assertEqual(find("devia"), "Deviation")  # a command, by the beginning of its name
        self.assertEqual(self.view.look, DEVIATION)
        self.assertEqual(find("extent length"), "Length of the extent")  # a field of a tray that was never open
        self.assertEqual(self.session.station, "Stand")
        self.assertTrue(self.window.tray("Stand").length.isAncestorOf(self.application.focusWidget()))
        self.assertEqual(find("stand quarter about z"), "Quarter turn about z")  # a button is pressed
        self.assertEqual(self.session.job.log[-1].action.name, "turn")
        hole = next(f for f in self.session.findings("Holes") if f.id == "H2")
        self.assertIn("H2", find("h2 hole"))  # a finding is flown to
        self.assertEqual(self.session.station, "Holes")
        middle = np.array([self.view.width() / 2, self.view.height() / 2])
        self.assertLess(np.linalg.norm(self.view.camera.project(hole.place)[0, :2] - middle), 60)
        self.assertIn("Opened", find("step opened"))  # a step is gone back to
        self.assertEqual(self.session.job.cursor, 1)
        # Esc leaves all as it was
        self.view.setFocus()
        self.key(Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(finder.line, "quit")
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(finder.isVisible())
        self.assertTrue(self.window.isVisible() and self.view.hasFocus())
        self.key(Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
        self.click(self.view, 5, self.view.height() - 5)  # a click beside it leaves it too
        self.assertFalse(finder.isVisible())
        self.key(Qt.Key.Key_F, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(finder.line, "xyzzy")
        self.assertTrue(finder.none.isVisible())
        self.key(Qt.Key.Key_Return)
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(finder.isVisible())


if __name__ == "__main__":
    unittest.main()
