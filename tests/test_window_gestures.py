"""What mouse, wheel and keys do over the view, checked by where points of the part end up on the screen."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.treat import Place, Scale, StraightSnip, Turn

if SCREEN:
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication

    from tinsnip.app.frame.window import Window
    from tinsnip.app.tools.pick import Pick

LEFT, RIGHT, MIDDLE = (
    (Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton, Qt.MouseButton.MiddleButton) if SCREEN else (1, 2, 4)
)


class OverTheView(WindowTest):
    """On a dented block with two strays, in inches, far from the origin."""

    def setUp(self) -> None:
        super().setUp()
        block = specimens.bored_box(3.0, 60).mesh
        ball = specimens.sphere(0.1, 8).mesh
        balls = [ball.vertices + place for place in ([1.9, 0, 0.3], [-1.9, 0.4, 0])]
        vertices = np.concatenate([block.vertices, *balls]) + np.array([700.0, -300.0, 55.0])
        n, m = len(block.vertices), len(ball.vertices)
        faces = np.concatenate([block.faces, ball.faces + n, ball.faces + n + m])
        faces = np.delete(faces, [40, 41, 42, 43], axis=0)
        path = Path(self.folder.name) / "block.ply"
        write_mesh(Mesh(vertices, faces), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.camera = self.view.camera

    def pixel(self, point: np.ndarray) -> np.ndarray:
        return self.camera.project(point)[0, :2]

    def stays_under(self, point: np.ndarray, x: float, y: float, within: float = 1.5) -> None:
        self.assertLess(np.abs(self.pixel(point) - [x, y]).max(), within)

    def test_the_view_is_fitted_until_it_is_touched_and_goes_with_what_is_moved(self) -> None:
        size = self.window.size()
        self.window.resize(size.width() - 150, size.height() - 90)
        self.settle()
        scale = self.camera.scale
        self.view.framing.fit()
        self.assertAlmostEqual(self.camera.scale / scale, 1.0, places=9)
        spot = self.spot_on_part()
        self.wheel(*spot, 1)
        scale = self.camera.scale
        self.window.resize(size)
        self.settle()
        self.assertEqual(self.camera.scale, scale)
        # in Stand the part stays where it was on the screen, and as large
        self.session.set_station("Stand")
        for treatment in (Place(origin="centre"), Turn(axis=(1, 0, 0), degrees=90), Scale(factor=40)):
            before = self.pixel(self.session.mesh.box.mean(axis=0)), self.camera.scale / self.session.mesh.diagonal
            self.session.apply(treatment)
            self.settle()
            self.stays_under(self.session.mesh.box.mean(axis=0), *before[0])
            self.assertAlmostEqual(self.camera.scale / self.session.mesh.diagonal / before[1], 1.0, delta=0.2)
        # what became much smaller is not followed, but that is offered
        scale, box = self.camera.scale, self.session.mesh.box
        at = float(box[1, 2] - 0.04 * (box[1, 2] - box[0, 2]))
        self.session.apply(StraightSnip(offset=at))
        self.settle()
        self.session.apply(StraightSnip(normal=(1, 0, 0), offset=float(self.session.mesh.box[1, 0] - 1.0)))
        self.settle()
        self.assertEqual(self.camera.scale, scale)
        offer = self.window.cards.offer
        self.assertTrue(offer.isVisible())
        self.session.history.undo()
        self.settle()
        self.session.history.undo()
        self.settle()
        self.assertFalse(offer.isVisible(), "it is not smaller any more")
        self.session.history.redo()
        self.settle()
        self.session.history.redo()
        self.settle()
        self.assertTrue(offer.isVisible())
        self.click(offer.fit)
        self.assertLess(self.camera.scale, 0.7 * scale)
        self.assertFalse(offer.isVisible())

    def test_the_wheel_zooms_to_the_pointer_and_never_clips(self) -> None:
        spot = self.spot_on_part()
        point = self.view.surface_point(*spot)
        scale = self.camera.scale
        for _ in range(12):
            self.wheel(*spot, 1)
            self.stays_under(point, *spot)
        self.assertLess(self.camera.scale, 0.2 * scale)
        self.wheel(*spot, 30)  # so near that a single triangle fills the view
        picture = self.picture()
        around = picture[spot[1] - 5 : spot[1] + 5, spot[0] - 5 : spot[0] + 5]
        self.assertTrue((np.abs(around - [73, 79, 83]).sum(axis=2) > 12).all())
        self.wheel(*spot, -42)
        self.stays_under(point, *spot, 3)
        self.assertAlmostEqual(self.camera.scale, scale, delta=0.001 * scale)

    def test_turning_goes_about_the_point_under_the_pointer(self) -> None:
        for button in (LEFT, MIDDLE):
            spot = self.spot_on_part()
            point = self.view.surface_point(*spot)
            turn, lift = self.camera.turn, self.camera.lift
            self.drag(spot, (spot[0] + 90, spot[1] + 40), button)
            self.stays_under(point, *spot)
            self.assertGreater(abs(self.camera.turn - turn), 10)
            self.assertGreater(abs(self.camera.lift - lift), 5)
        # the arrow keys turn as well
        turn = self.camera.turn
        self.view.setFocus()
        self.key(Qt.Key.Key_Left)
        self.key(Qt.Key.Key_Up)
        self.assertNotEqual(self.camera.turn, turn)

    def test_panning_carries_the_part_along(self) -> None:
        spot = self.spot_on_part()
        point = self.view.surface_point(*spot)
        before = self.picture()
        self.drag(spot, (spot[0] - 60, spot[1] + 35), RIGHT)
        self.stays_under(point, spot[0] - 60, spot[1] + 35)
        after = self.picture()
        self.assertGreater(np.abs(after - before).sum(axis=2).mean(), 1.0)
        # the very same picture, some pixels further on; the dial, the bar and the tags lie on another layer
        whole, shifted = before[100:300, 200:410], after[135:335, 140:350]
        self.assertLess(np.abs(whole - shifted).sum(axis=2).mean(), 6.0)

    def test_drags_mean_what_the_settings_say(self) -> None:
        self.window.settings.left, self.window.settings.right = "pan", "zoom"
        spot = self.spot_on_part()
        point = self.view.surface_point(*spot)
        self.drag(spot, (spot[0] + 30, spot[1] + 30), LEFT)
        self.stays_under(point, spot[0] + 30, spot[1] + 30)
        scale, turn = self.camera.scale, self.camera.turn
        self.drag(spot, (spot[0], spot[1] - 40), RIGHT)
        self.assertNotAlmostEqual(self.camera.scale, scale, delta=0.05 * scale)
        self.window.settings.right = "nothing"
        scale = self.camera.scale
        self.drag(spot, (spot[0] + 40, spot[1] - 40), RIGHT)
        self.assertEqual((self.camera.scale, self.camera.turn), (scale, turn))
        # with Space held the left button turns, whatever it means otherwise
        QTest.keyPress(self.view, Qt.Key.Key_Space)
        self.drag(spot, (spot[0] + 50, spot[1]), LEFT)
        QTest.keyRelease(self.view, Qt.Key.Key_Space)
        self.assertNotEqual(self.camera.turn, turn)

    def test_in_perspective_clicks_meet_what_is_seen_and_what_is_drawn_over_the_part_has_parallel_sight(self) -> None:
        raw = self.session.mesh
        x, y = self.spot_on_part()
        parallel = self.picture()
        self.key(Qt.Key.Key_O)
        self.assertGreater(self.camera.angle, 0)
        self.assertFalse(np.array_equal(self.picture(), parallel))
        place = self.view.surface_point(x, y)
        self.assertLess(np.abs(self.camera.project(place)[0, :2] - [x, y]).max(), 1e-3)
        # the picture agrees: where the outermost places are told to be, there the part ends
        seen = self.camera.project(raw.vertices)[:, :2]
        part = np.abs(self.picture().astype(int) - self.picture()[2, 2]).max(axis=2) > 30
        rows = np.flatnonzero(part[60:-60].any(axis=1)) + 60
        self.assertLess(abs(rows[0] - max(seen[:, 1].min(), 60)), 6)
        # turning keeps what is under the pointer there
        self.drag((x, y), (x + 60, y + 25), LEFT)
        self.assertLess(np.abs(self.camera.project(place)[0, :2] - [x, y]).max(), 1.0)
        # an outline is drawn with parallel sight, and perspective comes back after it
        self.key(Qt.Key.Key_3)
        tray = self.window.tray("Trim")
        self.click(tray.select_row.buttons["Select by an outline"])
        self.assertEqual(self.camera.angle, 0.0)
        self.key(Qt.Key.Key_Escape)
        self.assertGreater(self.camera.angle, 0)
        another = Window()  # which is as one left it
        another.show()
        self.wait_for(lambda: another.viewport.scene is not None)
        self.assertGreater(another.viewport.camera.angle, 0)
        another.close()
        self.window.activateWindow()
        self.key(Qt.Key.Key_O)
        self.assertEqual(self.camera.angle, 0.0)

    def test_dial_and_keys_look_from_the_sides(self) -> None:
        centre = self.window.dial.centre()
        for dx, dy, turn, lift in ((0, 30, 0, 0), (30, 0, 90, 0), (0, -30, 180, 0), (-30, 0, 270, 0)):
            self.click(self.view, centre.x() + dx, centre.y() + dy)
            self.assertEqual((self.camera.turn % 360, self.camera.lift), (turn, lift))
        self.click(self.view, centre.x(), centre.y() - 6)
        self.assertEqual(self.camera.lift, 90)
        self.click(self.view, centre.x(), centre.y() + 6)
        self.assertEqual(self.camera.lift, -90)
        self.key(Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
        self.assertEqual((self.camera.turn % 360, self.camera.lift), (0, 0))
        # fit all: every corner of the part is in view, and it fills a good share of it
        self.wheel(300, 300, 9)
        self.key(Qt.Key.Key_F)
        low, high = self.session.mesh.box
        corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
        flat = self.camera.project(corners)[:, :2]
        self.assertTrue((flat >= 0).all() and (flat <= [self.view.width(), self.view.height()]).all())
        self.assertGreater(np.ptp(flat, axis=0).max() / max(self.view.width(), self.view.height()), 0.4)

    def test_two_clicks_and_the_view_give_a_snip(self) -> None:
        self.key(Qt.Key.Key_3)
        tray = self.window.tray("Trim")
        self.click(tray.two_points)
        self.assertIsInstance(self.view.hand.tool, Pick)
        raw = self.session.mesh
        first = self.spot_on_part()
        point = self.view.surface_point(*first)
        self.click(self.view, *first)
        # a turn between the two clicks would change the view's direction: with Space held it may
        QTest.keyPress(self.view, Qt.Key.Key_Space)
        self.drag(first, (first[0] + 20, first[1]), LEFT)
        QTest.keyRelease(self.view, Qt.Key.Key_Space)
        self.assertIsInstance(self.view.hand.tool, Pick)
        second = first[0] + 45, first[1] + 25
        other = self.view.surface_point(*second)
        sight = self.camera.frame()[2].copy()
        self.click(self.view, *second)
        self.assertIsNone(self.view.hand.tool)
        plan = self.window.tray("Trim").tool.plan
        normal, offset = plan.waste_plane()
        if other is not None:
            self.assertAlmostEqual(float(normal @ other), offset, places=5)
        self.assertAlmostEqual(float(normal @ point), offset, places=5)
        self.assertAlmostEqual(float(normal @ sight), 0.0, places=6)
        # the cut keeps just what lies on the other side, and leaving it aside leaves no trace
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.window.tray("Trim").tool.plan)
        self.assertIs(self.session.mesh, raw)

    def test_tags_and_rows_fly_and_change_nothing(self) -> None:
        self.key(Qt.Key.Key_4)
        raw = self.session.mesh
        strays = self.session.examination.strays
        self.assertEqual(len(strays), 2)
        middle = np.array([self.view.width() / 2, self.view.height() / 2])
        rows = self.window.ticket.list
        for row, finding in enumerate(strays):
            place = rows.visualRect(rows.model().index(row, 0))
            self.click(rows.viewport(), place.left() + 90, place.center().y())
            self.wait_for(lambda at=finding.place: np.abs(self.pixel(at) - middle).max() < 3)
            self.assertIs(self.session.mesh, raw)
        # a tag on the view does the same
        self.key(Qt.Key.Key_F)
        self.settle()
        spots = [
            (x, y)
            for x in range(10, self.view.width() - 140, 6)
            for y in range(10, self.view.height() - 10, 6)
            if self.window.tags.at(x, y) is strays[1]
        ]
        self.assertTrue(spots)
        x, y = spots[len(spots) // 2]
        QTest.mouseMove(self.view, QPoint(x, y))
        self.wait_for(lambda: self.window.tags.hovered is strays[1])
        self.click(self.view, x, y)
        self.wait_for(lambda: np.abs(self.pixel(strays[1].place) - middle).max() < 3)
        self.assertEqual(len(self.session.job.log), 1)

    def test_the_divider_shows_raw_and_now_side_by_side(self) -> None:
        self.key(Qt.Key.Key_4)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(len(self.session.mesh.shells), 1)
        self.key(Qt.Key.Key_F)
        now = self.picture()
        self.key(Qt.Key.Key_R)
        self.wait_for(lambda: self.view.scene.raw is not None and self.view.scene.raw.is_ready)
        raw = self.picture()
        self.assertGreater(np.abs(raw - now).sum(axis=2).max(), 60)  # the strays are back
        self.key(Qt.Key.Key_W)
        at = round(self.window.wipe.share * self.view.width())
        for target in (at, 200, self.view.width() - 200):
            self.drag((round(self.window.wipe.share * self.view.width()), 300), (target, 300), LEFT)
            wiped = self.picture()
            place = round(self.window.wipe.share * self.view.width())
            self.assertLess(abs(place - target), 4)
            left, right = slice(0, place - 3), slice(place + 4, None)
            self.assertLess(np.abs(wiped[:, left] - raw[:, left]).sum(axis=2).mean(), 0.5)
            # boundary lines are drawn on the present mesh alone
            self.assertLess(np.abs(wiped[:, right] - now[:, right]).sum(axis=2).mean(), 1.5)
        # S held shows the other one, for as long as it is held
        self.key(Qt.Key.Key_N)
        QTest.keyPress(self.window, Qt.Key.Key_S)
        self.settle()
        self.assertEqual(self.view.shows, "raw")
        QTest.keyRelease(self.window, Qt.Key.Key_S)
        self.settle()
        self.assertEqual(self.view.shows, "now")
        self.assertLess(np.abs(self.picture() - now).sum(axis=2).mean(), 0.5)

    def test_folding_gives_the_part_the_room(self) -> None:
        width = self.view.width()
        self.key(Qt.Key.Key_BracketLeft)
        self.key(Qt.Key.Key_BracketRight)
        self.assertFalse(self.window.ticket.isVisible() or self.window.tray_column.isVisible())
        self.assertGreater(self.view.width(), width + 400)
        self.assertGreater(self.covered(), 0.05)
        self.key(Qt.Key.Key_BracketLeft)
        self.key(Qt.Key.Key_BracketRight)
        QApplication.processEvents()
        self.settle()
        self.assertEqual(self.view.width(), width)


if __name__ == "__main__":
    unittest.main()
