"""What leaves the house: frames, provenance and colours in the file, verdicts on the file itself, plain figures."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tests.hands import WindowTest
from tests.test_levels import tangled
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, Scan, ply, read_scan
from tinsnip.job import Job, release
from tinsnip.mesh import MADE, MEASURED, SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.subdivide import halve_edges
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.treat import Context, Patch, Place, Reduce, Scale, StraightSnip, Turn
from tinsnip.words import grouped, megabytes, millimetres, rounded_wide


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "part.ply"
        rng = np.random.default_rng(0)
        ball = specimens.sphere(60.0, 50).mesh
        shade = rng.integers(0, 255, (len(ball.vertices), 3)).astype(np.uint8)
        ball = ball.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        middles = ball.vertices[ball.faces].mean(axis=1)
        self.raw = keep_triangles(ball, np.linalg.norm(middles - [0, 0, 30], axis=1) > 6)
        self.job = Job()
        self.job.open(Scan(Path("scan.ply"), self.raw, "ply", "mm", ""))

    def test_back_in_the_scanners_frame(self) -> None:
        """Turned, moved and scaled about, the part goes back to where the scanner saw it when that is wanted."""
        rng = np.random.default_rng(1)
        steps = (Turn(axis=(1, 2, 3), degrees=77), Place(), Scale(factor=3.7), Turn(axis=(0, 1, 0), degrees=-200))
        for step in (*steps, Patch(), Scale(factor=0.01)):
            self.job.apply(step, Context(raw=self.raw))
        self.assertGreater(np.abs(self.job.piece.mesh.box - self.raw.box).max(), 5)
        found = release(self.job.piece.in_scanner_frame(), self.path, None, None, True)
        self.assertTrue(found.readiness.ready)
        written = read_scan(self.path, "mm").mesh
        measured = written.faces[written.provenance == MEASURED]
        self.assertEqual(len(measured), len(self.raw.faces))
        off, which = cKDTree(self.raw.vertices).query(written.vertices[measured].reshape(-1, 3))
        self.assertLess(off.max(), 1e-5)
        self.assertTrue(np.array_equal(written.colour[measured].reshape(-1, 3), self.raw.colour[which]))
        random_point = self.raw.vertices[rng.integers(len(self.raw.vertices))]
        self.assertLess(cKDTree(written.vertices).query(random_point)[0], 1e-5)

    def test_shares_are_the_same_in_the_file(self) -> None:
        for step in (Patch(), StraightSnip(offset=-20.0, close=True), Reduce(percent=70)):
            self.job.apply(step, Context(raw=self.raw))
            mesh = self.job.piece.mesh
            release(mesh, self.path, None, None, True)
            written = read_scan(self.path, "mm").mesh
            here, there = mesh.areas, written.areas
            self.assertTrue(np.allclose(here, there, rtol=1e-5, atol=1e-3 * here.sum()))
            self.assertGreater(there[MADE], 0)
        self.assertGreater(there[SHIFTED], 0)
        # unless it is asked for, a file says nothing of it, and all it holds counts as measured
        release(mesh, self.path)
        self.assertTrue((read_scan(self.path, "mm").mesh.provenance == MEASURED).all())

    def test_the_verdict_is_on_what_the_file_holds(self) -> None:
        """A disk that loses something is found out, and the old file stays."""
        self.job.apply(Patch(), Context(raw=self.raw))
        mesh = self.job.piece.mesh
        release(mesh, self.path)
        before = self.path.read_bytes()
        honest = ply.read

        def damaged(how: str) -> object:
            def read(path: Path, progress: object) -> Mesh:
                back = honest(path, progress)
                if how == "lost":
                    return keep_triangles(back, np.arange(len(back.faces)) != 7)
                vertices = back.vertices.copy()
                vertices[3, 1] += 0.5
                return Mesh(vertices, back.faces, back.provenance, back.attributes)

            return read

        for how in ("lost", "moved"):
            changed = FORMATS["ply"]._replace(read=damaged(how))
            with mock.patch.dict(FORMATS, {"ply": changed}):
                with self.assertRaises(BadInput) as refused:
                    release(mesh, self.path)
                self.assertIn(str(self.path), str(refused.exception))
            self.assertEqual(self.path.read_bytes(), before)
            self.assertEqual([p.name for p in self.path.parent.iterdir()], [self.path.name])


class Places(unittest.TestCase):
    def test_halved_edges_leave_the_surface_as_it_is(self) -> None:
        rng = np.random.default_rng(2)
        for mesh in (specimens.torus(4e-3, 20).mesh, tangled(specimens.sphere(900.0, 10).mesh, rng)):
            kinds = rng.integers(0, 3, len(mesh.faces)).astype(np.uint8)
            mesh = Mesh(mesh.vertices, mesh.faces, kinds)
            for rounds in (0, 1, 3):
                fine = halve_edges(mesh, rounds)
                self.assertEqual(len(fine.faces), 4**rounds * len(mesh.faces))
                self.assertTrue(np.array_equal(fine.vertices[: len(mesh.vertices)], mesh.vertices))
                self.assertTrue(np.allclose(fine.areas, mesh.areas))
                if mesh.edges.tangled == 0:
                    self.assertEqual(fine.edges.open, 2**rounds * mesh.edges.open)
                longest = [np.linalg.norm(np.diff(m.vertices[m.faces], axis=1), axis=2).max() for m in (mesh, fine)]
                self.assertAlmostEqual(longest[1] * 2**rounds / longest[0], 1.0, places=6)
            # not cut open anywhere: an edge of two triangles stays one
            closed = halve_edges(specimens.bored_box(2.0, 40).mesh, 2)
            self.assertEqual(specimens.closed_faults(closed.vertices, closed.faces), "")


class Figures(unittest.TestCase):
    def test_plain_figures(self) -> None:
        self.assertEqual(grouped(1234567), "1\u202f234\u202f567")
        self.assertEqual([megabytes(s) for s in (2e4, 3.21e6, 5e8)], ["0.02 MB", "3.2 MB", "500 MB"])
        self.assertEqual([millimetres(x) for x in (0.0, 1.5e-14, 2e-5, 0.0123456, 12.3)][:2], ["0", "0"])
        self.assertEqual(millimetres(0.0123456), "0.0123")
        for value in 10 ** np.random.default_rng(0).uniform(-6, 4, 200):
            limit = rounded_wide(value)
            self.assertTrue(0.999 * value <= limit <= 2.51 * value)
            self.assertIn(round(limit / 10 ** np.floor(np.log10(limit * 1.0001)), 6), (1.0, 2.0, 5.0))
        self.assertEqual((rounded_wide(0.0), rounded_wide(float("nan"))), (0.1, 0.1))


if __name__ == "__main__":
    unittest.main()


class FromTheWindow(WindowTest):
    def test_pieces_formats_and_scale(self) -> None:
        folder = Path(self.folder.name)
        ball, ring = specimens.sphere(10.0, 14).mesh, specimens.torus(30.0, 24).mesh
        self.put_up(ball, ring.moved(ring.vertices + 100.0))
        self.session.set_station("Release")
        self.settle()
        tray = self.window.tray("Release")
        self.assertTrue(tray.writes.isEnabled())
        for number, (how, scale, also, wanted) in enumerate(
            (
                (
                    "each",
                    100.0,
                    ("ply",),
                    {"out0-part0.stl": 1, "out0-part1.stl": 1, "out0-part0.ply": 1, "out0-part1.ply": 1},
                ),
                ("together", 50.0, ("stl-text", "3mf"), {"out1.stl": 2, "out1-stl-text.stl": 2, "out1.3mf": 2}),
                ("one", 200.0, (), {"out2.stl": 1}),
            )
        ):
            tray.writes.setCurrentIndex(tray.writes.findData(how))
            tray.scale.setValue(scale)
            for name, tick in tray.also.items():
                tick.setChecked(name in also)
            with mock.patch("tinsnip.app.stations.release.choose_target", return_value=folder / f"out{number}.stl"):
                tray.ask_export()
                self.wait_for(lambda: self.session.tasks.busy is None)
            self.assertIn("Ready", self.session.exporting.last[1].state)
            found = {path.name: read_scan(path, "mm").mesh for path in folder.glob(f"out{number}*")}
            self.assertEqual({name: len(mesh.shells) for name, mesh in found.items()}, wanted)
            for name, mesh in found.items():
                own = {"each": ball if "part0" in name else ring, "one": self.session.mesh}.get(how)
                if own is not None:
                    self.assertAlmostEqual(mesh.size.max(), own.size.max() * scale / 100, 3, name)
        # what is there already is asked about
        tray.writes.setCurrentIndex(tray.writes.findData("each"))
        before = (folder / "out0-part0.stl").read_bytes()
        with mock.patch("tinsnip.app.stations.release.choose_target", return_value=folder / "out0.stl"):
            self.answer_question("Stop")
            tray.ask_export()
        self.assertEqual((folder / "out0-part0.stl").read_bytes(), before)
