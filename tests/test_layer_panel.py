"""The part layer by layer in the window: what is drawn, by slider, keys and play, and what is saved."""

import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from lxml import etree
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.hands import WindowTest
from tests.test_profiles import block, joined, shifted
from tests.test_slices import stacked
from tinsnip.mesh import Mesh


def hanging() -> Mesh:
    """A T, and a peg that hangs from nothing from 7 mm on."""
    return joined(stacked((0, 10, 4, 0), (10, 12, 12, 0)), shifted(block(1, 1, 1.5), 8, 1, 7))


class Layers(WindowTest):
    def test_drawn_played_and_saved(self) -> None:
        self.put_up(hanging())
        panel, keep = self.view.layer_panel, tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.key(Qt.Key.Key_Escape)
        whole = self.picture()
        self.key(Qt.Key.Key_Q, Qt.KeyboardModifier.ShiftModifier)
        self.assertTrue(panel.isVisible())
        panel.height_field.setValue(0.5)
        self.wait_for(lambda: panel.faults is not None)
        self.assertEqual((len(panel.layers.heights), panel.slider.maximum()), (24, 23))
        # arrow keys go up and down; what lies above the plane is gone from the view
        panel.slider.setFocus()
        panel.slider.setValue(3)
        self.key(Qt.Key.Key_Up)
        self.key(Qt.Key.Key_Up)
        self.key(Qt.Key.Key_Down)
        self.assertEqual(panel.layer, 4)
        self.assertIn("Layer 5 of 24, at 2.250 mm, 16.00 mm²", panel.note.text())
        self.assertGreater((np.abs(self.picture() - whole).max(axis=2) > 60).mean(), 0.02)
        self.assertTrue(panel.sheet.path.contains(panel.sheet.path.boundingRect().center()))
        # what cannot be built is found, shown and gone to
        self.click(panel.next)
        self.assertEqual(panel.layer, 14)
        self.assertIn("✗ 1 island with nothing below", panel.note.text())
        self.assertTrue(8 < panel.sheet.rings[0].x() < 9 and 1 < panel.sheet.rings[0].y() < 2)
        picture = panel.sheet.grab().toImage()
        shown = {
            picture.pixelColor(x, y).name() for x in range(0, picture.width(), 3) for y in range(0, picture.height(), 3)
        }
        self.assertIn("#c2855a", shown)
        self.click(panel.play)
        self.wait_for(lambda: not panel.play.isChecked())  # it ends by itself at the top
        self.assertEqual((panel.layer, panel.play.text()), (23, "Play"))
        for _ in range(2):  # begun again from the bottom, and stopped
            QTest.mouseClick(panel.play, Qt.MouseButton.LeftButton)
        at = panel.layer
        QTest.qWait(200)
        self.assertEqual((at, panel.layer), (0, 0))
        panel.slider.setValue(4)
        one = Path(keep.name) / "one.svg"
        with mock.patch("tinsnip.app.frame.layerfiles.choose_target", return_value=one):
            self.click(panel.save)
            self.wait_for(one.exists)
        self.assertEqual(len(etree.parse(str(one)).getroot().findall("{*}path")), 1)
        with mock.patch("tinsnip.app.frame.layerfiles.choose_target", return_value=Path(keep.name) / "all.dxf"):
            self.click(panel.save_all)
            self.wait_for(lambda: len(list(Path(keep.name).glob("all-*.dxf"))) == 24)
        # another part is cut anew; Section takes its place, and it leaves the whole part behind
        self.key(Qt.Key.Key_Q)
        self.assertFalse(panel.isVisible())
        self.assertTrue(self.view.section_bar.isVisible())
        self.key(Qt.Key.Key_Q, Qt.KeyboardModifier.ShiftModifier)
        self.assertEqual((panel.isVisible(), self.view.section_bar.isVisible()), (True, False))
        self.wait_for(lambda: panel.faults is not None)
        self.click(panel.close_button)
        self.assertLess((np.abs(self.picture() - whole).max(axis=2) > 60).mean(), 0.001)
        # what was found stays on the ticket, from where one comes to its layer
        self.session.set_station("Release")
        (found,) = self.session.findings()
        self.assertEqual((found.kind.value, found.id, found.proposal, found.key), ("layer", "L1", "hangs free", 14))
        self.assertTrue(np.all(np.abs(found.place - (8.5, 1.5, 7.25)) < 0.5))
        self.assertAlmostEqual(found.size, np.sqrt(2.0), delta=1e-6)
        self.assertFalse(panel.is_on)
        rows = self.window.ticket.list
        at = rows.visualRect(rows.model().index(0, 0)).center()
        self.click(rows.viewport(), at.x(), at.y())
        self.assertEqual(panel.layer, 14)
