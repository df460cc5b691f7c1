"""The walk through a whole job: followed by clicking nothing but what it points at."""

from pathlib import Path
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.hands import WindowTest
from tinsnip.demo import demo_file
from tinsnip.formats import read_scan
from tinsnip.survey import examine


class Walked(WindowTest):
    def follow(self) -> None:
        """Do what the card asks for, with the control that it points at."""
        walk, at = self.window.walk, self.window.walk.at
        self.wait_for(lambda: walk.at > at or (walk.target is not None and walk.target.isEnabled()))
        if walk.at > at:
            return
        target = walk.target
        if target is self.view:
            middle = target.width() // 2, target.height() // 2
            self.drag(middle, (middle[0] + 160, middle[1]), Qt.MouseButton.LeftButton)
        else:
            self.assertTrue(self.window.rect().contains(target.mapTo(self.window, target.rect().center())))
            self.click(target)
        self.settle()

    def test_every_card_points_at_what_does_it(self) -> None:
        walk, window = self.window.walk, self.window
        scan = demo_file("pump-cover", 90_000, Path(self.folder.name))
        out = Path(self.folder.name) / "walked.stl"
        button = next(b for b in window.empty.findChildren(type(window.empty.first_demo)) if "walk" in b.text())
        self.click(button)
        self.assertEqual((walk.at, walk.target), (0, window.empty.first_demo))
        seen = {0: walk.title.text()}
        with (
            mock.patch.object(window.opening, "open_demo", lambda *names: window.opening.open([scan])),
            mock.patch("tinsnip.app.stations.release.choose_target", return_value=out),
        ):
            for _ in range(40):
                self.follow()
                self.wait_for(lambda: self.session.tasks.busy is None)
                QTest.qWait(200)  # it looks now and then
                seen[walk.at] = walk.title.text()
                if walk.at == 2 and "left" not in seen:  # left, and come back to
                    seen["left"] = True
                    self.click(walk.leave)
                    self.assertFalse(walk.isVisible() or walk._marker.isVisible())
                    window.start_walk()
                    self.assertEqual(walk.at, 2)
                if walk.at == 9:
                    break
        self.assertEqual([seen.get(i, "")[:1] for i in range(9)], list("123456789"))
        self.assertEqual((walk.at, window.settings.walk), (9, 0))
        self.assertTrue(examine(read_scan(out, "mm").mesh).readiness.ready)
        self.click(walk.leave)
        self.assertFalse(walk.isVisible())

    def test_what_there_is_nothing_of_is_passed_by(self) -> None:
        from tests import specimens

        self.put_up(specimens.torus(40.0, 40).mesh)
        self.window.start_walk()
        self.click(self.window.walk.skip)
        self.click(self.window.walk.skip)
        self.wait_for(lambda: self.window.walk.at == 8)
        self.assertEqual(self.session.job.cursor, len(self.session.job.log))
