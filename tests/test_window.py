"""The real window, driven by mouse, wheel and keys only; then the mesh and the screen are looked at."""

import sys
import time
import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import in_turn
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.space.picking import first_hit
from tinsnip.space.tree import closest_points
from tinsnip.survey.deviation import compare, signed_distance
from tinsnip.treat import Reduce
from tinsnip.treat.stand.moves import rotation
from tinsnip.words import at_most, millimetres

if SCREEN:
    from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
    from PySide6.QtGui import QAction, QDragEnterEvent, QDropEvent
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import (
        QAbstractButton,
        QAbstractSpinBox,
        QApplication,
        QComboBox,
        QLabel,
        QLineEdit,
        QSlider,
    )

    from tinsnip.app.state.settings import Settings
    from tinsnip.demo import demo_file


class WholeJob(WindowTest):
    """From the raw pump cover to a released solid, by mouse and keys."""

    def test_pump_cover(self) -> None:
        raw = demo_file("pump-cover", 90_000, Path(self.folder.name))
        self.open(raw)
        self.assertTrue(self.window.first_look.isVisible())
        self.wait_for(lambda: "noise …" not in self.window.first_look.found.text())
        self.assertRegex(self.window.first_look.found.text(), r"noise 0\.0\d+ mm")
        self.key(Qt.Key.Key_Escape)
        self.assertFalse(self.window.first_look.isVisible())
        self.assertGreater(self.covered(), 0.08)
        self.assertIn("Not ready", self.window.state_button.text())
        found = self.session.examination
        self.assertGreater(found.tangles.total, 0)
        before = len(self.session.mesh.faces)

        # mend first: the button of the release state leads to what is missing
        self.key(Qt.Key.Key_6)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.examination.tangles.total, 0)

        # the snip: slide its tab up and down with the mouse, then type the height
        self.key(Qt.Key.Key_3)
        tray = self.window.tray("Trim")
        self.click(tray.axis.button(2))  # not as the bed lies, but square
        slide = next(t for t in tray.tool.tabs() if t.name == "slide")
        start = tray.plan.offset
        self.drag((slide.at.x(), slide.at.y()), (slide.at.x(), slide.at.y() - 40), Qt.MouseButton.LeftButton)
        self.assertGreater(tray.plan.offset, start + 5)
        tilt = next(t for t in tray.tool.tabs() if t.name == "tilt-0")
        self.drag((tilt.at.x(), tilt.at.y()), (tilt.at.x(), tilt.at.y() - 15), Qt.MouseButton.LeftButton)
        self.assertGreater(abs(tray.plan.tilt[0]), 0.5)
        self.type_number(tray.tilts[0], "0")
        self.type_number(tray.offset, "3.2")
        self.assertAlmostEqual(tray.plan.offset, 3.2)
        self.assertFalse(tray.plan.flipped)
        self.key(Qt.Key.Key_X)
        self.assertTrue(tray.plan.flipped)
        self.key(Qt.Key.Key_X)
        goes = int("".join(c for c in tray.goes.text() if c.isdigit()))
        self.click(tray.copper)
        self.assertGreaterEqual(self.session.mesh.vertices[:, 2].min(), 3.2 - 1e-9)
        self.assertEqual(self.session.job.log[-1].account.gone_triangles, goes)

        self.key(Qt.Key.Key_4)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(len(self.session.mesh.shells), 1)

        # holes: untick one with the mouse, tick it again, look at the preview, patch
        self.key(Qt.Key.Key_5)
        findings = self.window.ticket.list
        holes = int(self.session.examination.boundaries.is_hole.sum())
        self.assertGreater(holes, 3)
        row = findings.visualRect(findings.model().index(0, 0))
        self.click(findings.viewport(), row.left() + 8, row.center().y())
        self.assertIn(f"Patch {holes - 1} ", self.window.tray("Holes").copper.text())
        self.click(findings.viewport(), row.left() + 8, row.center().y())
        self.wait_for(lambda: self.session.preview is not None)
        untouched = len(self.session.mesh.faces)
        self.click(findings.viewport(), row.left() + 90, row.center().y())
        self.assertEqual(len(self.session.mesh.faces), untouched)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(int(self.session.examination.boundaries.is_hole.sum()), 0)
        self.assertEqual(int(self.session.examination.boundaries.is_rim.sum()), 1)

        self.key(Qt.Key.Key_8)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.mesh.edges.open, 0)

        self.key(Qt.Key.Key_7)
        self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
        self.type_number(self.window.tray("Reduce").fields["triangles"], "20000")
        self.wait_for(lambda: self.window.tray("Reduce").copper.isEnabled())
        self.key(Qt.Key.Key_Return)
        self.assertLessEqual(len(self.session.mesh.faces), 20000)

        # what closing or reducing let cross or fold is untangled
        self.key(Qt.Key.Key_6)
        if self.session.examination.crossings.total:
            self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.examination.crossings.total, 0)

        # undo and redo by keys
        steps = self.session.job.cursor
        for _ in range(steps - 1):
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(len(self.session.mesh.faces), before)
        for _ in range(steps - 1):
            modifiers = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier
            self.key(Qt.Key.Key_Z, modifiers)

        self.key(Qt.Key.Key_9)
        out = Path(self.folder.name) / "solid.stl"
        self.answer_dialog(out)
        self.key(Qt.Key.Key_Return)
        self.wait_for(out.exists)
        self.settle()
        self.assertEqual(specimens.closed_faults(*specimens.read_stl(str(out))), "")
        self.assertEqual(self.window.state_button.text(), "Ready")
        self.assertGreater(self.covered(), 0.15)


class Views(WindowTest):
    """Turning, zooming, colours, and what the screen says."""

    def test_view_and_messages(self) -> None:
        rng = np.random.default_rng(3)
        damaged = specimens.damage(specimens.torus(80.0), rng)
        path = Path(self.folder.name) / "ring.stl"
        write_mesh(damaged.mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        camera = self.view.camera

        # the wheel keeps the point under the pointer, and comes ever nearer without losing the part
        spot = self.spot_on_part()
        point = self.view.surface_point(*spot)
        for _ in range(12):
            self.wheel(*spot, 2)
        self.assertLess(np.abs(camera.project(point)[0, :2] - spot).max(), 1.5)
        self.assertGreater(self.covered(), 0.9)
        self.key(Qt.Key.Key_F)
        self.assertLess(self.covered(), 0.9)

        # turning goes about the point that was taken hold of
        spot = self.spot_on_part()
        point = self.view.surface_point(*spot)
        turn = camera.turn
        self.drag(spot, (spot[0] + 60, spot[1] + 20), Qt.MouseButton.MiddleButton)
        self.assertGreater(abs(camera.turn - turn), 5)
        self.assertLess(np.abs(camera.project(point)[0, :2] - spot).max(), 1.5)
        place = camera.project(point)[0, :2]
        self.drag((200, 200), (230, 190), Qt.MouseButton.RightButton)
        self.assertLess(np.abs(camera.project(point)[0, :2] - place - [30, -10]).max(), 0.5)

        # a cut from two clicked points, left with Esc without a trace, then made
        self.key(Qt.Key.Key_3)
        tray = self.window.tray("Trim")
        self.click(tray.two_points)
        self.click(self.view, 250, 60)
        self.click(self.view, 250, 500)
        normal, offset = tray.plan.normal, tray.plan.offset
        sight = camera.frame()[2]
        self.assertLess(abs(float(normal @ sight)), 1e-9)
        ends = [camera.ray(250, y)[0] for y in (60, 500)]
        self.assertLess(max(abs(float(normal @ p) - offset) for p in ends), camera.scale * 1.5)
        faces = len(self.session.mesh.faces)
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.window.tray("Trim").tool.plan)
        self.assertEqual(len(self.session.mesh.faces), faces)
        self.assertEqual(len(self.session.job.log), 1)

        # a file that is none: a calm line, and the job is as it was
        bad = Path(self.folder.name) / "bad.stl"
        bad.write_bytes(path.read_bytes()[:3000])
        mesh = self.session.mesh
        self.open(bad)
        self.assertIs(self.session.mesh, mesh)
        self.assertTrue(self.window.notice.isVisible())
        self.assertIn("announces", self.window.notice.text())
        self.assertNotIn("\n", self.window.notice.text())

    def test_long_use_does_not_wear_python_down(self) -> None:
        """A binding that miscounts the references to None ends the process after some thousand repaints."""
        self.open(self.write_ball())
        before = sys.getrefcount(None)
        for _ in range(60):
            self.window.refresh()
            self.view.overlay.repaint()
            self.session.hovered.emit(None)
            self.application.processEvents()
        self.assertGreater(sys.getrefcount(None), before - 200)

    def write_ball(self) -> Path:
        path = Path(self.folder.name) / "ball.stl"
        write_mesh(specimens.sphere(30.0, 12).mesh, path)
        return path

    def test_every_action_has_a_place_in_the_menus_and_every_control_a_name(self) -> None:
        keys: dict[str, str] = {}
        for action in self.window.findChildren(QAction):
            text = action.shortcut().toString()
            if text:
                self.assertNotIn(text, keys, f"{action.text()} and {keys.get(text)}")
                keys[text] = action.text()
        wanted = {*"123456789", "F", "T", "C", "X", "Esc", "Return", "Ctrl+O", "Ctrl+E", "Ctrl+Z", "Ctrl+Shift+Z"}
        self.assertLessEqual(wanted, set(keys))
        for kind in (QAbstractSpinBox, QComboBox, QSlider):
            for control in self.window.findChildren(kind):
                self.assertTrue(control.accessibleName(), control)
        for button in self.window.findChildren(QAbstractButton):
            if not button.objectName().startswith("qt_"):
                self.assertTrue(button.text() or button.accessibleName(), button)


class StandIn(WindowTest):
    """What is drawn while the view moves."""

    @in_turn(1)
    def test_a_noisy_scan_has_no_pinholes_while_it_turns(self) -> None:
        ball = specimens.sphere(60.0, 420).mesh
        noise = np.random.default_rng(3).normal(0.0, 0.3 * 60.0 / 420, len(ball.vertices))
        rough = ball.vertices * (1.0 + noise / np.linalg.norm(ball.vertices, axis=1))[:, None]
        self.put_up(Mesh(rough, ball.faces))
        self.settle()
        self.view.makeCurrent()
        seen = self.view.scene.picture(self.view.camera, 500, 400).astype(int)
        backs = (seen.max(axis=2) < 62) & (seen[..., 0] > seen[..., 2] + 5)
        self.assertLess(backs.sum(), 60)  # 1032 where each triangle tells its own side
        self.assertIsNotNone(self.view.scene.now.buffers.proxy)


class Intake(WindowTest):
    """Every way in, the right size, and how the part stands."""

    def setUp(self) -> None:
        super().setUp()
        box = specimens.bored_box(40.0, 60).mesh
        turn = rotation(np.array([1.0, 0.4, 0.2]), 37.0)
        self.tilted = Path(self.folder.name) / "tilted.stl"
        write_mesh(box.moved(box.vertices @ turn.T + [5, 6, 7]), self.tilted)
        self.flat = float(box.size[2])

    def drop(self, paths: list[Path]) -> None:
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
        at = QPointF(500, 300)
        actions, buttons = Qt.DropAction.CopyAction, Qt.MouseButton.LeftButton
        enter = QDragEnterEvent(at.toPoint(), actions, data, buttons, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(self.window, enter)
        self.assertTrue(enter.isAccepted())
        QApplication.sendEvent(self.window, QDropEvent(at, actions, data, buttons, Qt.KeyboardModifier.NoModifier))
        self.settle()

    def test_ways_in_pieces_and_recent(self) -> None:
        self.assertTrue(self.window.empty.isVisible())
        other = Path(self.folder.name) / "ball.ply"
        write_mesh(specimens.sphere(25.0, 12).mesh, other)
        self.drop([self.tilted, other])
        self.assertEqual([p.name for p in self.session.job.pieces], ["tilted.stl", "ball.ply"])
        self.assertEqual(self.window.settings.recent[0], str(other))
        # the pieces list: choose the first, copy it, undo leads back to the piece it belongs to
        pieces = self.window.tray("Intake").pieces
        self.click(pieces.viewport(), 60, pieces.visualItemRect(pieces.item(0)).center().y())
        self.assertEqual(self.session.job.active, self.session.job.pieces[0].id)
        before = self.covered()
        tick = pieces.visualItemRect(pieces.item(1))
        self.click(pieces.viewport(), tick.left() + 9, tick.center().y())
        self.assertFalse(self.session.job.is_visible(self.session.job.pieces[1].id))
        self.assertLess(self.covered(), before)
        self.key(Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.session.job.pieces[2].name, "tilted.stl, variant 2")
        # a broken file among good ones leaves no trace
        bad = Path(self.folder.name) / "bad.ply"
        bad.write_bytes(b"ply\nformat ascii 1.0\nelement vertex 5\n")
        job = self.session.job
        self.answer_question("Open as a new job")
        self.answer_question("Do not save")
        self.drop([other, bad])
        self.come_back()
        self.assertIs(self.session.job, job)
        self.assertIn("bad.ply", self.window.notice.text())
        # the recent scans are on the empty view and in the menu of the next window
        recent = [a.text() for a in self.window.menus.recent.actions()]
        self.assertEqual(recent, [str(other), str(self.tilted)])

    def test_unit(self) -> None:
        small = Path(self.folder.name) / "metres.stl"
        mesh = specimens.torus(0.2, 40).mesh
        write_mesh(mesh, small)
        self.open(small)
        self.assertEqual(self.session.job.piece.scan.unit, "m")
        self.assertAlmostEqual(self.session.mesh.size[0], 1000 * mesh.size[0], places=3)
        self.assertIn("likelier", self.window.first_look.reason.text())
        self.click(self.window.first_look.unit_buttons["in"])
        self.assertAlmostEqual(self.session.mesh.size[0], 25.4 * mesh.size[0], places=5)
        self.assertIn("in", self.window.ticket.rows[0].state)

    def test_stand_on_a_flat_export_and_reopen(self) -> None:
        self.open(self.tilted)
        raw = self.session.mesh
        self.key(Qt.Key.Key_2)
        tray = self.window.tray("Stand")
        self.click(self.buttons(tray)["Lay a picked flat on the bed…"])
        self.click(self.view, *self.spot_on_top(raw))
        self.assertIs(self.session.mesh, raw)  # it is shown first, and can be left
        self.assertIsNotNone(self.view.scene.turn)
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.view.scene.turn)
        self.assertFalse(tray.copper.isEnabled())
        self.click(self.buttons(tray)["Lay a picked flat on the bed…"])
        self.click(self.view, *self.spot_on_top(raw))
        self.key(Qt.Key.Key_Return)
        self.assertIsNone(self.view.scene.turn)
        mesh = self.session.mesh
        self.assertAlmostEqual(mesh.box[0, 2], 0.0, places=6)
        self.assertAlmostEqual(mesh.size[2], self.flat, delta=0.02)
        # a tab of our own turns it; the typed turn and a quarter turn too
        tab = next(t for t in tray.turn_tool.tabs() if t.name == "z")
        self.drag((tab.at.x(), tab.at.y()), (tab.at.x() + 40, tab.at.y() - 10), Qt.MouseButton.LeftButton)
        self.assertEqual(self.session.job.log[-1].action.name, "turn")
        self.assertAlmostEqual(self.session.mesh.size[2], self.flat, delta=0.02)
        self.click(tray.part_row.buttons["Turn"])
        self.click(self.buttons(tray)["x 90°"])
        self.assertAlmostEqual(self.session.mesh.size[1], self.flat, delta=0.02)
        self.assertFalse(tray.copper.isEnabled())
        self.type_number(tray.angle, "90")
        self.assertEqual(tray.copper.text(), "Turn by 90° about z")
        self.click(tray.copper)
        self.assertEqual(self.session.job.log[-1].action.degrees, 90.0)
        self.click(tray.part_row.buttons["Scale"])
        self.type_number(tray.length, "80")
        self.click(tray.copper)
        self.assertAlmostEqual(self.session.mesh.size[0], 80.0, places=6)
        self.click(tray.part_row.buttons["Stand"])
        tray.origin.setFocus()
        QTest.keyClick(tray.origin, Qt.Key.Key_End)
        self.click(self.buttons(tray)["Place"])
        self.assertLess(np.abs(self.session.mesh.box[0]).max(), 1e-9)
        button = self.buttons(tray)["Turn inside out"]
        self.click(tray.part_row.buttons["Turn"])
        self.reveal(button)
        self.key(Qt.Key(ord(button.text()[button.text().index("&") + 1].upper())), Qt.KeyboardModifier.AltModifier)
        self.assertLess(self.session.mesh.volume, 0)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)

        # in the scanner's own frame the file is the raw scan again; otherwise as it stands
        self.key(Qt.Key.Key_9)
        for box, there in ((False, self.session.mesh), (True, raw)):
            out = Path(self.folder.name) / f"out-{box}.stl"
            self.window.tray("Release").frame.setFocus()
            if box:
                self.key(Qt.Key.Key_Space)
            self.view.setFocus()
            self.answer_dialog(out)
            self.key(Qt.Key.Key_Return)
            self.wait_for(out.exists)
            self.come_back()
            vertices, _ = specimens.read_stl(str(out))
            self.assertLess(np.abs(np.sort(vertices[:, 0]) - np.sort(there.vertices[:, 0])).max(), 1e-3)
        self.open(out)
        self.assertAlmostEqual(self.session.mesh.volume / raw.volume, 1.0, places=4)

    def buttons(self, tray: object) -> dict[str, object]:
        return {b.text().replace("&", ""): b for b in tray.findChildren(QAbstractButton)}

    def spot_on_top(self, mesh: object) -> tuple[int, int]:
        """A pixel on the largest flat that can be seen."""
        vectors = face_vectors(mesh.vertices, mesh.faces)
        best = None
        axis = rotation(np.array([1.0, 0.4, 0.2]), 37.0)[:, 2]
        for x in range(20, self.view.width() - 130, 14):
            for y in range(20, self.view.height() - 60, 14):
                hit = first_hit(mesh.vertices, mesh.faces, *self.view.camera.ray(x, y))
                if hit is not None and self.view.hand.rest.tab_at(x, y) is None:
                    unit = vectors[hit[0]] / np.linalg.norm(vectors[hit[0]])
                    if abs(unit @ axis) > 0.99:
                        best = (x, y)
        self.assertIsNotNone(best)
        return best

    def test_settings_and_sheet(self) -> None:
        self.open(self.tilted)
        self.key(Qt.Key.Key_Escape)

        def set_left_to_pan() -> None:
            page = QApplication.activeModalWidget()
            field = page.fields["left"]
            field.setFocus()
            QTest.keyClick(field, Qt.Key.Key_Down)
            QTest.keyClick(page, Qt.Key.Key_Return)

        QTimer.singleShot(300, set_left_to_pan)
        self.key(Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier)
        self.come_back()
        self.assertEqual(Settings.load().left, "pan")
        turn, middle = self.view.camera.turn, self.view.camera.middle.copy()
        self.drag((60, 300), (120, 330), Qt.MouseButton.LeftButton)
        self.assertEqual(self.view.camera.turn, turn)
        self.assertGreater(np.abs(self.view.camera.middle - middle).max(), 0)
        QTest.keyPress(self.view, Qt.Key.Key_Space)
        self.drag((60, 300), (120, 330), Qt.MouseButton.LeftButton)
        QTest.keyRelease(self.view, Qt.Key.Key_Space)
        self.assertNotEqual(self.view.camera.turn, turn)
        # the dial looks from a side; ticket and tray fold away
        centre = self.window.dial.centre()
        self.click(self.view, centre.x() + 42, centre.y())
        self.assertEqual((self.view.camera.turn, self.view.camera.lift), (90.0, 0.0))
        width = self.view.width()
        self.key(Qt.Key.Key_BracketLeft)
        self.key(Qt.Key.Key_BracketRight)
        self.assertGreater(self.view.width(), width + 400)
        texts: list[str] = []

        def read_sheet() -> None:
            sheet = QApplication.activeModalWidget()
            texts.extend(label.text() for label in sheet.findChildren(QLabel))
            QTest.keyClick(sheet, Qt.Key.Key_Escape)

        QTimer.singleShot(300, read_sheet)
        self.key(Qt.Key.Key_F1)
        self.assertIn("Swap the waste side", texts)
        self.assertIn("drag left", texts)
        Settings().save()


class Bounded(WindowTest):
    """What the curve of a reduction says is what holds."""

    measures_bounds = True

    def test_every_level_is_measured_while_one_looks(self) -> None:
        ring = specimens.torus(80.0, 120)
        noise = np.random.default_rng(0).normal(0, 0.02, ring.mesh.vertices.shape)
        path = Path(self.folder.name) / "ring.ply"
        write_mesh(ring.mesh.moved(ring.mesh.vertices + noise), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        QTest.keyClick(self.view, Qt.Key.Key_7)
        tray = self.window.tray("Reduce")
        self.wait_for(lambda: tray.levels.curve is not None)
        self.wait_for(lambda: tray.levels.curve.unbounded_near(1) is None)
        study, curve = tray.levels.study, tray.levels.curve
        self.assertEqual([p.triangles for p in curve.points], [p.triangles for p in study.curve.points])
        mesh = self.session.mesh
        for point in curve.points[1:]:
            level = Mesh(*(getattr(study.record.level(point.triangles), name) for name in ("vertices", "faces")))
            samples = specimens.sample_surface(level, 4000, np.random.default_rng(1))
            off, _ = closest_points(mesh.tree, samples, np.zeros(4, dtype=np.int64))
            self.assertGreaterEqual(point.largest, off.max())
        # where the line is dragged to, the tray and the curve say the same, before it is measured and after
        middle = curve.points[len(curve.points) // 2]
        tray._want(middle.triangles)
        self.assertIn(millimetres(middle.largest), tray.deviation.text())
        self.settle()
        self.assertEqual(tray.deviation.text(), at_most(middle.largest))
        self.assertNotIn("…", tray.off_raw.text())
        self.key(Qt.Key.Key_Return)
        told = tray.off_raw.text()
        self.assertEqual(told, at_most(self.session.from_raw.overall.max))
        self.assertIn(f"deviation from raw {told} mm", self.window.status.figures["deviation"].text())


class Dense(WindowTest):
    """Reducing along the curve, and seeing what it cost."""

    size = 1100, 720

    def setUp(self) -> None:
        super().setUp()
        self.ring = specimens.torus(80.0, 320)
        noise = np.random.default_rng(0).normal(0, 0.01, self.ring.mesh.vertices.shape)
        path = Path(self.folder.name) / "ring.ply"
        write_mesh(self.ring.mesh.moved(self.ring.mesh.vertices + noise), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.raw = self.session.mesh
        self.tray = self.window.tray("Reduce")

    def reduce_to_deviation(self, text: str) -> None:
        self.key(Qt.Key.Key_7)
        self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
        while self.tray.stop.currentText() != "deviation":
            QTest.keyClick(self.tray.stop, Qt.Key.Key_Down)
        self.type_number(self.tray.fields["deviation"], text)
        self.wait_for(lambda: self.tray.copper.isEnabled())

    def test_what_is_typed_before_the_levels_are_there_counts(self) -> None:
        self.tray.levels.forget()
        QTest.keyClick(self.view, Qt.Key.Key_7)
        self.assertIsNone(self.tray.levels.study)
        field = self.tray.fields["triangles"]
        top = field.mapTo(self.window, QPoint(0, 0)).y()
        field.setFocus()
        line = field.findChild(QLineEdit)
        line.selectAll()
        QTest.keyClicks(line, "5000")
        self.view.setFocus()
        self.assertIsNone(self.tray.levels.study, "the levels were there at once; the test shows nothing")
        self.wait_for(lambda: self.tray.levels.shown is not None)
        self.settle()
        self.assertEqual(self.tray.wanted, 5000)
        self.assertEqual(field.value(), 5000.0)
        self.assertAlmostEqual(self.tray.levels.shown.triangles, 5000, delta=2)
        self.assertEqual(field.mapTo(self.window, QPoint(0, 0)).y(), top)  # and nothing has moved under the pointer

    def test_along_the_curve(self) -> None:
        self.key(Qt.Key.Key_7)
        self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
        self.settle()
        plot = self.tray.plot
        seen = []
        QTest.mousePress(plot.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(plot.width() - 30, 60))
        for x in np.linspace(plot.width() - 30, 60, 12):
            QTest.mouseMove(plot.viewport(), QPoint(int(x), 60))
            for _ in range(40):
                self.application.processEvents()
                time.sleep(0.004)
            if self.window.tray("Reduce").levels.shown is not None:
                seen.append(self.window.tray("Reduce").levels.shown.triangles)
                self.assertIsNotNone(self.view.scene.level)
        QTest.mouseRelease(plot.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(60, 60))
        self.settle()
        self.assertGreater(len(set(seen)), 6)  # the mesh in the view followed the drag
        self.assertEqual(seen, sorted(seen, reverse=True))
        self.assertLess(self.window.tray("Reduce").levels.shown.triangles, 2000)
        self.assertIs(self.session.mesh, self.raw)
        self.wait_for(lambda: self.window.tray("Reduce").levels.shown.measured is not None)
        # what the tray says was measured is so
        level = self.window.tray("Reduce").levels.shown.outcome.mesh
        off = np.abs(self.ring.distance(specimens.sample_surface(level, 20_000, np.random.default_rng(1)))).max()
        self.assertAlmostEqual(float(self.tray.deviation.text()), off, delta=0.15 * off)
        for key in (Qt.Key.Key_Right, Qt.Key.Key_Left):
            before = self.tray.wanted
            QTest.keyClick(plot, key)
            self.settle()
            self.assertNotEqual(self.tray.wanted, before)
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.window.tray("Reduce").levels.shown)
        self.assertIsNone(self.view.scene.level)
        # the other stops say the same in their own words
        stops = (("percent", "5"), ("deviation", "0.2"), ("file size", "0.5"), ("triangles", "4000"))
        for name, text in stops:
            self.tray.stop.setFocus()
            while self.tray.stop.currentText() != name:
                QTest.keyClick(self.tray.stop, Qt.Key.Key_Down if name != "triangles" else Qt.Key.Key_Up)
            self.type_number(self.tray.fields[name], text)
            self.wait_for(lambda: self.tray.copper.isEnabled())
            count = self.window.tray("Reduce").levels.shown.triangles
            field = {"deviation": "max_deviation_mm", "file size": "max_mb"}.get(name, name)
            goals = {goal: getattr(self.session.preview.treatment, goal) for goal in Reduce.GOALS[:4]}
            self.assertEqual({goal: v for goal, v in goals.items() if v is not None}, {field: float(text)})
            if name == "deviation":
                self.assertLessEqual(self.window.tray("Reduce").levels.shown.measured.max, 0.2)
                self.assertGreater(self.window.tray("Reduce").levels.shown.measured.max, 0.08)
                continue
            expected = {"percent": 0.05 * len(self.raw.faces), "file size": 500_000 / 50, "triangles": 4000}[name]
            self.assertAlmostEqual(count, expected, delta=0.01 * expected)
        self.key(Qt.Key.Key_Return)
        self.assertEqual(len(self.session.mesh.faces), count)
        self.assertIsNone(self.window.tray("Reduce").levels.shown)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertIs(self.session.mesh, self.raw)

    def test_the_deviation_of_a_coarse_level_shows_between_its_corners(self) -> None:
        self.key(Qt.Key.Key_7)
        self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
        self.type_number(self.tray.fields["triangles"], "500")
        self.key(Qt.Key.Key_D)
        for look_at in ("level", "mesh"):
            if look_at == "level":
                self.wait_for(lambda: self.tray.copper.isEnabled())
            else:
                self.key(Qt.Key.Key_Return)
                self.assertEqual(len(self.session.job.log), 2)
            self.wait_for(lambda: self.view.scene.places is not None and self.view.scene.places.is_ready)
            shown = self.window.tray("Reduce").levels.shown
            mesh = self.session.mesh if shown is None else shown.outcome.mesh
            measured = self.session.from_raw if shown is None else shown.from_raw
            self.type_number(self.view.deviation_legend.field, f"{1.2 * measured.overall.max:.3f}")
            self.view.setFocus()
            picture = self.picture().astype(float)
            camera = self.view.camera
            facing = face_vectors(mesh.vertices, mesh.faces) @ camera.frame()[2]
            facing /= np.linalg.norm(face_vectors(mesh.vertices, mesh.faces), axis=1)
            middles = mesh.vertices[mesh.faces].mean(axis=1)
            warm, cold = [], []
            for f in np.argsort(-np.abs(facing))[:60]:
                point = middles[f]
                x, y = (round(float(c)) for c in camera.project(point)[0, :2])
                seen = self.view.surface_point(x, y) if shown is None else None
                if seen is not None and np.linalg.norm(seen - point) > 0.5:
                    continue
                value = float(self.ring.distance(point[None])[0])
                if not (0 <= x < picture.shape[1] - 260 and 0 <= y < picture.shape[0]) or abs(value) < 0.05:
                    continue
                red, _, blue = picture[y, x]
                (warm if value > 0 else cold).append(red - blue)
            self.assertGreater(len(cold), 5)  # the flat middles of a round part lie inside it
            if shown is None:
                self.assertLess(np.mean(cold), -15)
            self.assertGreater(self.view.scene.places.triangles, 100_000)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertIsNot(self.view.scene.places_of, mesh)

    @in_turn(1)
    def test_held_areas_stay_as_they_are(self) -> None:
        self.key(Qt.Key.Key_7)
        self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
        spot = self.spot_on_part()
        self.type_number(self.tray.radius, "6")
        self.click(self.tray.hold_button)
        self.click(self.view, *spot)
        self.click(self.view, spot[0] + 30, spot[1])
        held = self.raw.vertices[self.raw.faces[self.session.held]]
        self.assertGreater(len(held), 500)
        x, y = (round(c) for c in spot)
        around = self.picture()[y - 8 : y + 8, x - 8 : x + 8].reshape(-1, 3)
        self.assertTrue((around[:, 1] > around[:, 2] + 40).all())  # chartreuse
        self.assertIsNone(self.window.tray("Reduce").levels.shown)
        self.key(Qt.Key.Key_Escape)
        self.wait_for(lambda: self.window.tray("Reduce").levels.study is not None)
        self.type_number(self.tray.fields["triangles"], "20000")
        self.wait_for(lambda: self.tray.copper.isEnabled())
        self.key(Qt.Key.Key_Return)
        mesh = self.session.mesh
        self.assertLessEqual(len(mesh.faces), 20000)
        left = {tuple(t.ravel()) for t in mesh.vertices[mesh.faces]}
        self.assertTrue(all(tuple(t.ravel()) in left for t in held))
        self.assertIsNone(self.session.held)

    def test_deviation_and_wipe(self) -> None:
        self.assertIn("deviation from raw 0 mm", self.window.status.figures["deviation"].text())
        self.reduce_to_deviation("0.1")
        self.key(Qt.Key.Key_Return)
        mesh = self.session.mesh
        self.assertLess(len(mesh.faces), 0.5 * len(self.raw.faces))
        there, back = compare(mesh, self.raw, 50_000)
        self.assertLessEqual(max(there.max, back.max), 0.1)
        self.wait_for(lambda: self.session.from_raw is not None)
        # both look at many places, though not at the same ones
        self.assertGreaterEqual(self.session.from_raw.overall.max, 0.95 * there.max)
        told = float(self.window.status.figures["deviation"].text().split()[-2])
        self.assertAlmostEqual(told, self.session.from_raw.overall.max, delta=0.01 * told)

        # the colours follow the sign of the deviation
        self.key(Qt.Key.Key_D)
        legend = self.view.deviation_legend
        self.assertTrue(legend.isVisible())
        self.type_number(legend.field, "0.02")
        self.assertEqual(self.view.scene.limit, 0.02)
        picture = self.picture()
        wide = self.view.width() - legend.width() - 20
        wherever = self.session.from_raw.places.vertices
        places = self.view.camera.project(wherever)
        signed = self.session.from_raw.signed
        checked = 0
        for v in np.random.default_rng(0).choice(np.flatnonzero(np.abs(signed) > 0.008), 3000):
            x, y = (round(float(c)) for c in places[v, :2])
            if not (20 < x < wide and 20 < y < self.view.height() - 20) or checked > 60:
                continue
            point = self.view.surface_point(x, y)
            if point is None or np.linalg.norm(point - wherever[v]) > 3 * self.view.camera.scale:
                continue  # hidden behind the part
            sides = {
                signed_distance(p, self.raw, np.eye(4), np.zeros(3, dtype=np.int64)) > 0
                for p in (self.view.surface_point(x + dx, y + dy) for dx in (-1, 0, 1) for dy in (-1, 0, 1))
                if p is not None
            }
            if len(sides) == 2:
                continue  # the sign changes within a pixel or two
            red, _, blue = picture[y, x]
            if abs(int(red) - int(blue)) > 40:
                self.assertEqual(red > blue, signed[v] > 0)
                checked += 1
        self.assertGreater(checked, 20)
        scale = legend.scale
        start = QPoint(scale.width() // 2, int(scale.y_of(scale.limit)))
        QTest.mousePress(scale, Qt.MouseButton.LeftButton, pos=start)
        QTest.mouseMove(scale, start + QPoint(0, 25))
        QTest.mouseRelease(scale, Qt.MouseButton.LeftButton, pos=start + QPoint(0, 25))
        self.settle()
        self.assertLess(self.view.scene.limit, 0.016)
        self.assertAlmostEqual(legend.field.value(), self.view.scene.limit, places=4)

        # a click reads the value and pins it
        spot = self.spot_on_part()
        point = self.view.surface_point(*spot)
        self.click(self.view, *spot)
        value = signed_distance(point, self.raw, np.eye(4), np.zeros(3, dtype=np.int64))
        self.assertEqual([pin.text for pin in self.window.pins.pins], [f"{value:+.3f} mm"])
        self.click(legend.clear)
        self.assertEqual(self.window.pins.pins, [])

        # each side of the divider is what that view alone shows; a held key swaps
        self.key(Qt.Key.Key_T)
        now = self.picture()
        self.key(Qt.Key.Key_R)
        raw = self.picture()
        self.assertGreater(np.abs(raw - now).max(axis=2).mean(), 0.2)
        self.key(Qt.Key.Key_W)
        x = round(self.window.wipe.share * self.view.width())
        both = self.picture()
        self.assertTrue(np.array_equal(both[:, : x - 8], raw[:, : x - 8]))
        self.assertTrue(np.array_equal(both[:, x + 8 :], now[:, x + 8 :]))  # shading looks some pixels round
        self.drag((x, 300), (x - 120, 310), Qt.MouseButton.LeftButton)
        self.assertAlmostEqual(self.window.wipe.share * self.view.width(), x - 120, delta=2)
        both = self.picture()
        self.assertTrue(np.array_equal(both[:, x - 112 :], now[:, x - 112 :]))
        self.key(Qt.Key.Key_N)
        QTest.keyPress(self.view, Qt.Key.Key_S)
        self.settle()
        self.assertTrue(np.array_equal(self.picture(), raw))
        QTest.keyRelease(self.view, Qt.Key.Key_S)
        self.settle()
        self.assertTrue(np.array_equal(self.picture(), now))

        # also while it slides, and where the view has been turned in between
        self.key(Qt.Key.Key_W)
        self.key(Qt.Key.Key_D)  # so that the sides are not alike
        self.settle()
        x = round(self.window.wipe.share * self.view.width())
        QTest.mousePress(self.view, Qt.MouseButton.LeftButton, pos=QPoint(x, 300))
        for step in (20, 60, 200):
            QTest.mouseMove(self.view, QPoint(x + step, 300))
            self.application.processEvents()
        middle, seen = x + 200, self.picture()
        painted = np.abs(seen[..., 0] - seen[..., 2]) > 40
        self.assertEqual(painted[:, : middle - 2].sum(), 0)
        self.assertGreater(painted[:, middle + 2 :].sum(), 3000)
        self.wheel(middle - 150, 300, 3)
        closer = self.picture()
        self.assertGreater(np.abs(closer - seen)[:, : middle - 2].mean(), 1.0)
        QTest.mouseRelease(self.view, Qt.MouseButton.LeftButton, pos=QPoint(middle, 300))

    def test_provenance_and_steps_on_disk(self) -> None:
        self.session.set_undo_memory(0.0)
        self.key(Qt.Key.Key_3)
        self.window.tray("Trim").close_box.setFocus()
        self.key(Qt.Key.Key_Space)
        self.view.setFocus()
        self.key(Qt.Key.Key_Return)
        self.key(Qt.Key.Key_6)
        surface = self.window.tray("Surface")
        surface.choose("Smooth")
        self.click(surface.copper)
        self.assertEqual([s.action.name for s in self.session.job.log], ["open", "snip-straight", "smooth"])
        self.view.setFocus()
        self.key(Qt.Key.Key_P)
        made = [label.text() for label in self.view.provenance_legend.shares]
        self.assertAlmostEqual(sum(float(text.rstrip(" %")) for text in made), 100.0, delta=0.02)
        self.assertGreater(float(made[2].rstrip(" %")), 1)
        self.assertTrue(self.view.provenance_legend.isVisible())
        violet = self.picture()
        violet = (violet[..., 2] > violet[..., 1] + 40) & (violet[..., 0] > violet[..., 1] + 15)
        self.key(Qt.Key.Key_6, Qt.KeyboardModifier.AltModifier)  # from under: the closed base was made
        below = self.picture()
        below = (below[..., 2] > below[..., 1] + 40) & (below[..., 0] > below[..., 1] + 15)
        self.assertGreater(below.mean(), 0.004)
        self.assertGreater(below.mean(), 5 * violet.mean())
        # the step in between went to the disk, and comes back
        steps = self.session.job.log
        between = steps[1].changes[0].after.kept_mesh
        self.wait_for(lambda: between.resident is None)
        vertices = len(self.session.mesh.vertices)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.session.job.cursor, 2)
        self.assertIs(self.session.mesh, between.resident)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual(len(self.session.mesh.vertices), vertices)


if __name__ == "__main__":
    unittest.main()
