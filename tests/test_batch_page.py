"""Many scans from the window: listed, worked on beside it, looked into, stopped and gone on with."""

from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests import specimens
from tests.hands import WindowTest
from tests.random_scans import random_scan
from tinsnip.formats import read_scan, write_mesh


class Batch(WindowTest):
    def test_worked_on_looked_into_and_gone_on_with(self) -> None:
        folder = Path(self.folder.name)
        scans, out = folder / "scans", folder / "out"
        scans.mkdir()
        for i in range(4):
            write_mesh(random_scan(i).mesh, scans / f"s{i}.ply")
        (scans / "t.stl").write_bytes(b"nothing of a scan")
        self.open(scans / "s1.ply")
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_B, Qt.KeyboardModifier.ControlModifier)
        page = self.window.batch
        self.assertTrue(page.isVisible())
        with mock.patch("tinsnip.app.frame.batchpage.choose_folder", side_effect=[scans, out]):
            self.click(page.add_folder)
            self.click(page.folder)
        self.assertEqual((page.list.topLevelItemCount(), page.out), (5, str(out)))
        self.click(page.go)
        # the window goes on meanwhile
        self.window.activateWindow()
        self.session.set_station("Holes")
        self.wait_for(lambda: not page.is_running)
        states = [page.list.topLevelItem(i).text(1) for i in range(5)]
        self.assertTrue(all(text[0] in "✓✗" for text in states), states)
        self.assertTrue(states[4].startswith("✗ is "), states[4])
        self.assertRegex(page.about.text(), "^5 scans done, ")
        self.assertTrue((out / "report.html").exists())
        for i in range(4):
            facts = page.batch.found[scans / f"s{i}.ply"]
            self.assertEqual(len(read_scan(out / f"s{i}.stl", "mm").mesh.faces), facts["triangles"])
            item = page.list.topLevelItem(i)
            self.assertEqual("✓" in item.text(1), facts["ready"])
        page.list.setCurrentItem(page.list.topLevelItem(2))
        self.assertIn(page.batch.found[scans / "s2.ply"]["state"], page.about.text())
        with mock.patch("tinsnip.app.frame.batchpage.QDesktopServices.openUrl") as opened:
            self.click(page.page)
        self.assertTrue(opened.call_args.args[0].toLocalFile().endswith("s2-report.html"))
        # again: nothing is done twice but what went wrong; one more is done, and can be stopped
        times = {path: path.stat().st_mtime_ns for path in out.glob("s*.stl")}
        large = specimens.damage(specimens.torus(60.0, 240), np.random.default_rng(0), pinches=0.0).mesh
        write_mesh(large, folder / "large.ply")
        page.add_scans([folder / "large.ply"])
        self.click(page.go)
        while page.is_running and "%" not in page.list.topLevelItem(5).text(1):
            self.application.processEvents()
        QTest.mouseClick(page.go, Qt.MouseButton.LeftButton)
        self.wait_for(lambda: not page.is_running)
        self.assertEqual({path: path.stat().st_mtime_ns for path in times}, times)
        self.assertEqual(page.list.topLevelItem(5).text(1), "waiting")
        self.assertIn("Stopped", page.about.text())
        self.assertEqual(list(out.glob("*.part")) + list(out.glob("large*")), [])
        page.close()
        self.window.activateWindow()
