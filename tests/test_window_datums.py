"""Datums in the window, by mouse and keys."""

import tempfile
import unittest
from pathlib import Path

import ezdxf
import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.part_pieces import noisy
from tinsnip.app.view.looks import DEVIATION
from tinsnip.job import FitDatums
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.regions import Region


@unittest.skipUnless(SCREEN, "no screen")
class InTheWindow(WindowTest):
    def datums_tray(self) -> object:
        """Put a bored box up, turned and off the origin, and open the tray's part."""
        mesh = noisy(specimens.bored_box(60.0, 44).mesh, np.random.default_rng(0))
        self.turn = Rotation.from_euler("xyz", [20, 15, 30], degrees=True).as_matrix()
        self.mesh = Mesh(mesh.vertices @ self.turn.T + [5.0, -4.0, 30.0], mesh.faces)
        self.put_up(self.mesh)
        self.key(Qt.Key.Key_2)
        tray = self.window.tray("Stand")
        self.click(tray.part_row.buttons["Datums"])
        self.settle()
        return tray

    def click_surface(self, facing: np.ndarray, near: np.ndarray | None = None) -> None:
        """Click a triangle that is seen, and faces a way."""
        mesh, camera = self.session.mesh, self.view.camera
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        ways = face_vectors(mesh.vertices, mesh.faces)
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        aim = middles[ways @ facing > 0.97].mean(axis=0) if near is None else near
        x, y, _ = camera.project(aim)[0]
        QTest.mouseClick(self.view, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))

    def fit_by_click(self, tray: object, facing: np.ndarray) -> None:
        count = len(self.session.job.piece.datums)
        self.click(tray.datuming.by_click)
        # off the bore, on the face
        mesh = self.session.mesh
        across = np.cross(facing, self.turn @ np.array([0.3, 0.9, 0.2]))
        across /= np.linalg.norm(across)
        near = mesh.box.mean(axis=0) + 10.0 * facing * (1 if abs(facing @ self.turn[:, 2]) > 0.9 else 3) + 20 * across
        self.click_surface(facing, near)
        self.wait_for(lambda: len(self.session.job.piece.datums) > count)
        self.settle()

    def test_from_clicks_to_the_axes(self) -> None:
        tray = self.datums_tray()
        part, shown = tray.datuming, self.view.datums
        self.assertFalse(tray.copper.isEnabled())
        before = self.window.grab().toImage()
        # the flat that looks up most, by a click
        way = self.turn @ np.array([0, 0, 1.0])
        self.fit_by_click(tray, way)
        (first,) = self.session.job.piece.datums
        self.assertEqual((first.name, first.form), ("D1", "plane"))
        self.assertGreater(abs(first.direction @ way), 0.999)
        self.assertNotEqual(before, self.window.grab().toImage())
        # the bore and one of the sides by what is selected
        middles = (self.session.mesh.vertices[self.session.mesh.faces].mean(axis=1) - [5.0, -4.0, 30.0]) @ self.turn
        for chosen in (np.linalg.norm(middles[:, :2], axis=1) < 14.5, middles[:, 0] > 29.3):
            self.session.selected.put(chosen)
            self.settle()
            self.click(part.to_selection)
            self.settle()
        self.assertEqual([d.form for d in shown.kept], ["plane", "cylinder", "plane"])
        # the bore once more, held square to the flat it was drilled into, its radius given
        self.session.selected.put(np.linalg.norm(middles[:, :2], axis=1) < 14.5)
        part.way_held.setCurrentIndex(part.way_held.findText("parallel to D1"))
        part.radius_held.setValue(13.0)
        self.settle()
        self.click(part.to_selection)
        self.settle()
        held = shown.kept[-1]
        self.assertEqual(held.radius, 13.0)
        self.assertAlmostEqual(abs(held.direction @ shown.kept[0].direction), 1.0, places=12)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        part.way_held.setCurrentIndex(0)
        part.radius_held.setValue(0.0)
        # made from two of them: ticked by mouse
        for name in ("D1", "D2"):
            part.ticks[name].click()
        self.settle()
        self.assertEqual(part.way.currentData(), "meet")
        self.click(part.make)
        self.settle()
        self.assertEqual(shown.kept[-1].form, "circle")
        self.click(part.measure)
        self.settle()
        self.assertIn("off square", self.view.readings.all[-1].text)
        # to the axes, by drop-downs and Enter
        for (datum, axis), name in zip(part.rows, ("D1", "D2", "D3"), strict=True):
            datum.setCurrentIndex(datum.findData(name))
            self.assertIsNotNone(axis.currentData())
        self.settle()
        self.assertEqual(part.bound.text().split(".")[0], "All six ways are bound")
        self.key(Qt.Key.Key_Return)
        self.settle()
        now = {d.name: d for d in self.session.job.piece.datums}
        self.assertLess(abs(now["D1"].place[2]), 1e-9)
        self.assertGreater(abs(now["D1"].way[2]), 1 - 1e-12)
        self.assertEqual(self.session.job.log[-1].action.name, "to-axes")
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        np.testing.assert_allclose(self.session.mesh.vertices, self.mesh.vertices, atol=1e-5)  # as the file holds them

    def test_found_by_itself_ticked_taken_and_saved(self) -> None:
        tray = self.datums_tray()
        part, shown = tray.datuming, self.view.datums
        self.click(part.find)
        self.wait_for(lambda: bool(shown.proposed))
        self.settle()
        self.assertEqual(sorted(d.form for d in shown.proposed), ["cylinder", *["plane"] * 6])
        self.assertEqual(len(self.session.job.log), 1)  # only shown so far
        part.ticks["D7"].click()
        self.settle()
        self.assertEqual(tray.copper.text(), "Take 6 datums")
        self.key(Qt.Key.Key_Return)
        self.settle()
        self.assertEqual([d.name for d in shown.kept], [f"D{i}" for i in range(1, 7)])
        self.assertEqual(len(self.session.job.log), 2)
        # Esc leaves what is proposed
        self.click(part.find)
        self.wait_for(lambda: bool(shown.proposed))
        self.settle()
        self.key(Qt.Key.Key_Escape)
        self.assertEqual((shown.proposed, len(shown.kept)), ((), 6))
        with tempfile.TemporaryDirectory() as keep:
            target = Path(keep) / "box.dxf"
            self.answer_dialog(target)
            self.click(part.save)
            self.wait_for(target.exists)
            self.settle()
            layers = {layer.dxf.name for layer in ezdxf.readfile(target).layers}
            self.assertLessEqual({f"D{i}" for i in range(1, 7)}, layers)
            # a section at one of them, saved as outlines
            plane = next(d for d in shown.kept if d.form == "cylinder" or d.form == "plane")
            part.ticks[plane.name].click()
            self.settle()
            self.click(part.section)
            self.assertTrue(self.view.section_bar.is_on)
            self.view.section_bar.face("z")
            target = Path(keep) / "box.svg"
            self.answer_dialog(target)
            self.click(part.outline)
            self.wait_for(target.exists)
            self.settle()
            self.assertIn("<path", target.read_text("utf-8"))
        # they lie on the part in any station, and a snip may stand on one
        self.key(Qt.Key.Key_3)
        self.settle()
        trim = self.window.tray("Trim")
        straight = trim.straight
        at = next(d for d in shown.kept if d.form == "plane")
        straight.datum.setCurrentIndex(straight.datum.findData(at.name))
        self.settle()
        normal, offset = straight.plan.waste_plane()
        self.assertAlmostEqual(abs(normal @ at.direction), 1.0, places=6)
        self.assertAlmostEqual(abs(float(normal @ at.place) - offset), 0.0, places=6)
        on = self.window.grab().toImage()
        shown.set_on(False)
        self.settle()
        self.assertNotEqual(on, self.window.grab().toImage())

    def test_a_tab_stops_at_a_datum(self) -> None:
        """The plane of a snip that lies on a datum is dragged off and near again: it lies on it to the last digit."""
        self.put_up(specimens.bored_box(60.0, 24).mesh)
        mesh = self.session.mesh
        top = mesh.vertices[mesh.faces][..., 2].min(axis=1) > mesh.box[1, 2] - 1e-6
        self.session.do(FitDatums(regions=(Region.of(mesh, top),), forms=("plane",)))
        self.key(Qt.Key.Key_3)
        self.settle()
        straight = self.window.tray("Trim").straight
        straight.datum.setCurrentIndex(straight.datum.findData("D1"))
        self.settle()
        tool = straight.tool
        plan, left, none = tool.plan, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        goal, start = plan.offset, next(tab.at for tab in tool.tabs() if tab.name == "slide")
        right, up, _ = self.view.camera.frame()
        way = np.array([plan.normal @ right, -(plan.normal @ up)])
        way /= np.linalg.norm(way)

        def move_to(pixels: float, keys: Qt.KeyboardModifier = none) -> None:
            at = QPointF(start.x() + pixels * way[0], start.y() + pixels * way[1])
            where = self.view.mapToGlobal(at)
            event = QMouseEvent(QEvent.Type.MouseMove, at, where, Qt.MouseButton.NoButton, left, keys)
            self.application.sendEvent(self.view, event)
            self.application.processEvents()

        QTest.mousePress(self.view, left, pos=start.toPoint())
        move_to(45)
        self.assertEqual(tool.stopped_at, "")
        self.assertGreater(abs(plan.offset - goal), 20 * self.view.camera.scale)
        far = plan.offset
        move_to(4)
        self.assertEqual((tool.stopped_at, plan.offset), ("D1", goal))
        move_to(5, Qt.KeyboardModifier.AltModifier)
        self.assertEqual(tool.stopped_at, "")
        self.assertGreater(abs(plan.offset - goal), 2 * self.view.camera.scale)
        move_to(45)
        self.assertAlmostEqual(plan.offset, far, places=9)  # it goes on from where the hand is
        move_to(3)
        QTest.mouseRelease(self.view, left, none, start.toPoint() + QPoint(round(3 * way[0]), round(3 * way[1])))
        self.settle()
        self.assertEqual((tool.stopped_at, plan.offset), ("", goal))

    def test_the_part_against_another_piece_and_a_datum(self) -> None:
        """Balls of 20 and 20.3 mm: one lies 0.3 mm off the other, but for what lies between their corners."""
        ball = specimens.sphere(40.0, 30).mesh
        self.put_up(Mesh(ball.vertices * 1.015, ball.faces), ball)
        self.session.set_active(1)
        self.settle()
        self.view.set_look(DEVIATION)
        self.settle()
        legend, references = self.view.deviation_legend, self.session.references
        offered = [legend.against.itemText(i) for i in range(legend.against.count())]
        self.assertEqual(offered, ["the raw scan", "part1.ply"])
        plain = self.view.grabFramebuffer()
        legend.against.setCurrentIndex(1)
        self.wait_for(lambda: references.now() is not None)
        self.settle()
        self.assertNotEqual(plain, self.view.grabFramebuffer())
        off = references.now().from_raw
        self.assertLess(float(np.abs(off.signed - 0.3).max()), 0.05)
        self.type_number(legend.tolerance, "0.2")
        self.assertIn("0.00 % within", legend.share.text())
        self.settle()
        self.assertEqual([f.text for f in self.session.findings("Release")], [f"{off.signed.max():.3g} mm outward"])
        self.type_number(legend.tolerance, "0.4")
        self.settle()
        self.assertEqual(self.session.findings("Release"), [])
        self.type_number(legend.tolerance, "0.2")
        self.click(legend.outside)
        self.assertEqual(self.session.selected.count, len(self.session.mesh.faces))
        self.session.selected.put(None)
        # pins read it too
        read: list[float] = []
        self.session.references.ask_at(np.array([20.3, 0.0, 0.0]), read.append)
        self.wait_for(lambda: bool(read))
        self.assertAlmostEqual(read[0], 0.3, delta=0.05)
        # and a datum of its own
        whole = np.ones(len(self.session.mesh.faces), dtype=bool)
        self.session.do(FitDatums(regions=(Region.of(self.session.mesh, whole),), forms=("sphere",)))
        self.settle()
        legend.against.setCurrentIndex(legend.against.findData("datum D1"))
        self.wait_for(lambda: references.now() is not None)
        self.settle()
        self.assertLess(references.now().from_raw.overall.max, 1e-4)
        # the piece it was measured from is gone: the raw scan again
        legend.against.setCurrentIndex(1)
        self.session.remove(2)
        self.settle()
        self.assertEqual((references.chosen, legend.against.currentIndex()), (None, 0))


if __name__ == "__main__":
    unittest.main()
