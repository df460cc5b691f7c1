"""Reports: complete in themselves, true in their figures, of any part and of many."""

import io
import json
import re
import tempfile
import unittest
from base64 import b64decode
from pathlib import Path
from unittest import mock

import numpy as np
from lxml import html
from PIL import Image

from tests import specimens
from tests.hands import WindowTest
from tests.random_scans import random_scan
from tests.test_command_line import inside
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.report.page import LogLine, Subject, report_page
from tinsnip.report.pictures import SIDES, picture_of
from tinsnip.survey import examine
from tinsnip.words import grouped


def page_of(mesh: Mesh, raw: Mesh | None = None, **named: object) -> html.HtmlElement:
    subject = Subject(
        "a <part> & more", "scan.ply", "mm: as given", raw or mesh, mesh, np.eye(4), examine(mesh).readiness, **named
    )
    text = report_page(subject, Progress())
    return html.document_fromstring(text)


def cells(page: html.HtmlElement, first: str) -> list[str]:
    """The row of a table that begins so."""
    rows = ([c.text_content().strip() for c in row.iter("td", "th")] for row in page.iter("tr"))
    return next(row for row in rows if row and row[0] == first)


class Pages(unittest.TestCase):
    def holds_itself(self, text: str) -> None:
        self.assertLess(len(text), 5_000_000)
        self.assertIsNone(re.search(r"""(?:src|href|url)\s*[=(]\s*["']?(?!data:)\w+:""", text))
        self.assertNotIn("<script", text)

    def test_figures_checks_and_pictures(self) -> None:
        damaged = specimens.damage(specimens.torus(60.0, 60), np.random.default_rng(0), pinches=0.0).mesh
        solid = specimens.torus(60.0, 60).mesh
        page = page_of(solid, damaged, log=[LogLine("cut <b>", 1.5, 0.25, 0.0)], least_wall=3.0)
        self.holds_itself(html.tostring(page).decode())
        self.assertEqual(page.findtext(".//h1"), "a <part> & more")
        before, after = examine(damaged).counts(), examine(solid).counts()
        for name, key in (
            ("triangles", "triangles"),
            ("holes", "holes"),
            ("open edges", "open_edges"),
            ("rims", "rims"),
        ):
            self.assertEqual(cells(page, name), [name, grouped(before[key]), grouped(after[key])])
        self.assertEqual(cells(page, "closed")[1], "✓ passed")
        self.assertEqual(cells(page, "1"), ["1", "cut <b>", "25 %", "", "1.5"])
        pictures = [b64decode(i.get("src").partition(",")[2]) for i in page.iter("img")]
        self.assertEqual(len(pictures), 8 + 2 + 2)
        for one in pictures:
            image = np.asarray(Image.open(io.BytesIO(one))).astype(int)
            paper = np.abs(image - image[0, 0]).max(axis=2) < 12
            self.assertTrue(0.2 < paper.mean() < 0.9)  # there is a part, and there is room round it
        self.assertTrue(all(i.get("alt") for i in page.iter("img")))

    def test_open_empty_flat_and_far_ones_have_a_page_too(self) -> None:
        ball = specimens.sphere(10.0, 14).mesh
        for mesh in (
            Mesh(ball.vertices, ball.faces[40:]),
            Mesh(np.zeros((0, 3)), np.zeros((0, 3), int)),
            Mesh(np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]]), [[0, 1, 2]]),
            Mesh(ball.vertices + 1e6, ball.faces),
            random_scan(3).mesh,
        ):
            self.holds_itself(html.tostring(page_of(mesh, ball)).decode())

    def test_a_picture_shows_each_side_from_its_own(self) -> None:
        """A part with one corner cut off looks another from each side; what is nearer hides what is behind."""
        near = specimens.sphere(10.0, 20).mesh
        far = specimens.sphere(9.0, 20).mesh
        far = far.moved(far.vertices + np.array([0, 30.0, 0]))
        both = Mesh(
            np.concatenate([near.vertices, far.vertices]), np.concatenate([near.faces, far.faces + len(near.vertices)])
        )
        colours = np.zeros((len(both.faces), 3))
        colours[: len(near.faces), 0] = colours[len(near.faces) :, 1] = 255
        for side, channel in (("front", 0), ("back", 1)):
            shown = np.asarray(picture_of(both, (SIDES[side][0], 0.0), (60, 60), colours, (0, 0, 0))).astype(int)
            middle = shown[25:35, 25:35].reshape(-1, 3).mean(axis=0)
            self.assertGreater(middle[channel], 100)
            self.assertLess(middle[1 - channel], 5)


class FromTheCommandLine(unittest.TestCase):
    def test_one_for_each_and_one_for_all(self) -> None:
        with tempfile.TemporaryDirectory() as keep:
            folder = Path(keep)
            write_mesh(random_scan(1).mesh, folder / "a #1.ply")
            write_mesh(specimens.torus(40.0, 40).mesh, folder / "b.stl")
            (folder / "c.stl").write_bytes(b"nothing")
            given = (
                "run",
                "print-solid",
                *sorted(folder.glob("*.*")),
                "--unit",
                "mm",
                "--out",
                folder / "out",
                "--report",
            )
            ran = inside(*given, "--json")
            results = json.loads(ran.stdout)["results"]
            self.assertEqual(ran.returncode, 2)
            index = html.document_fromstring((folder / "out" / "report.html").read_text("utf-8"))
            self.assertEqual([a.get("href") for a in index.iter("a")], ["a%20%231-report.html", "b-report.html"])
            self.assertEqual(cells(index, "c.stl")[1], f"✗ {results[2]['error']}")
            for one in results[:2]:
                page = html.document_fromstring(Path(one["report"]).read_text("utf-8"))
                self.assertEqual(cells(page, "triangles")[2], grouped(one["triangles"]))
                self.assertIn(one["state"], page.text_content())
                self.assertEqual(
                    len([r for r in page.iter("tr") if r.text_content().strip()[:1].isdigit()]), len(one["steps"])
                )
            refused = inside(*given)
            self.assertEqual((refused.returncode, "is there already" in refused.stderr), (2, True))
            # what was done is not done again, and leads to its page all the same; a page that is gone is made anew
            Path(results[1]["report"]).unlink()
            begun = (folder / "out" / "a #1-report.html").stat().st_mtime_ns
            inside(*given, "--resume")
            self.assertEqual((folder / "out" / "a #1-report.html").stat().st_mtime_ns, begun)
            self.assertTrue(Path(results[1]["report"]).exists())


class InTheWindow(WindowTest):
    def test_written_from_release(self) -> None:
        self.put_up(specimens.torus(40.0, 40).mesh)
        self.session.set_station("Release")
        self.settle()
        tray, target = self.window.tray("Release"), Path(self.folder.name) / "page.html"
        with mock.patch("tinsnip.app.stations.release.choose_target", return_value=target):
            tray.scroll.ensureWidgetVisible(tray.report)
            self.click(tray.report)
            self.wait_for(target.exists)
        page = html.document_fromstring(target.read_text("utf-8"))
        self.assertEqual(page.findtext(".//h1"), "part0.ply")
        self.assertIn("Opened part0.ply", cells(page, "1")[1])
