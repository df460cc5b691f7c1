"""Scans that memory does not hold: refused before they are read, or reduced while they are."""

import resource
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from click.testing import CliRunner
from scipy.spatial import cKDTree

from tests import specimens
from tests.hands import WindowTest
from tests.seeds import in_turn
from tinsnip.cli import cli
from tinsnip.errors import BadInput
from tinsnip.formats import WORKING, Format, TooLarge, read_scan, write_mesh
from tinsnip.job import read_at_most
from tinsnip.memory import free_memory
from tinsnip.mesh import MEASURED, SHIFTED, Attribute, Domain, Mesh
from tinsnip.progress import Progress
from tinsnip.words import grouped

SLAB = "tinsnip.job.reading._SLAB"
FREE = "tinsnip.formats.files.free_memory"


def scene() -> Mesh:
    """A coloured ring over an open sheet, with a crumb, off the middle; no two vertices at one place."""
    ring, crumb = specimens.torus(80.0, 150).mesh, specimens.sphere(3.0, 8).mesh
    x, y = np.meshgrid(*2 * [np.linspace(-60, 60, 151)], indexing="ij")
    sheet = np.stack([x.ravel(), y.ravel(), np.full(x.size, -40.0)], axis=1)
    shapes = [(ring.vertices, ring.faces), (sheet, specimens.grid_faces(151, 151, False, False))]
    shapes.append((crumb.vertices + np.array([0, 0, 90]), crumb.faces))
    start = np.cumsum([0, *(len(v) for v, _ in shapes)])
    faces = np.concatenate([f + s for (_, f), s in zip(shapes, start, strict=False)])
    vertices = np.concatenate([v for v, _ in shapes])
    vertices += np.random.default_rng(3).normal(0, 0.02, vertices.shape)
    vertices += np.array([400.0, -90.0, 7.0])
    vertices = vertices.astype(np.float32).astype(np.float64)
    colour = np.random.default_rng(4).integers(0, 255, (len(vertices), 3)).astype(np.uint8)
    return Mesh(vertices, faces.astype(np.int32), None, {"colour": Attribute(Domain.VERTEX, colour)})


class WhileTheyAreRead(unittest.TestCase):
    @in_turn(2)
    def test_what_is_left_is_true_to_the_file(self) -> None:
        whole = scene()
        shuffled = Mesh(whole.vertices, np.random.default_rng(5).permutation(whole.faces), None, whole.attributes)
        raw = specimens.triangle_set(whole.vertices, whole.faces)
        with tempfile.TemporaryDirectory() as folder, patch(SLAB, 20_000):
            for mesh, ending, asked in ((whole, "ply", 6_000), (shuffled, "stl", 6_000), (shuffled, "ply", 30_000)):
                with self.subTest(ending=ending, asked=asked):
                    path = Path(folder) / f"scan.{ending}"
                    write_mesh(mesh, path)
                    scan = read_at_most(path, "mm", Progress(), asked)
                    got = scan.mesh
                    self.assertTrue(0.97 * asked <= len(got.faces) <= asked)
                    self.assertEqual((got.edges.tangled, got.edges.flipped), (0, 0))
                    self.assertEqual((len(got.shells), len(got.loops)), (3, 1))  # only the sheet is open
                    own = got.provenance == MEASURED
                    self.assertEqual(set(np.unique(got.provenance)) - {MEASURED, SHIFTED}, set())
                    self.assertLessEqual(specimens.triangle_set(got.vertices, got.faces[own]), raw)
                    self.assertTrue((got.colour is None) == (ending == "stl"))
                    if got.colour is not None and own.any():
                        at = cKDTree(whole.vertices).query(got.vertices[got.faces[own]].reshape(-1, 3))[1]
                        self.assertTrue((got.colour[got.faces[own]].reshape(-1, 3) == whole.colour[at]).all())
                    # how far off, by many points on what is left
                    dense = specimens.sample_surface(got, 400_000, np.random.default_rng(6))
                    off = cKDTree(dense).query(whole.vertices)[0]
                    told = float(scan.notes[-1].split(" and all within ")[1].split()[0])
                    spacing = 3 * np.sqrt(got.area / len(dense))
                    self.assertTrue(told - 0.05 * told <= off.max() <= told * 1.05 + spacing)

    def test_a_scan_that_is_small_enough_is_read_as_it_is(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "scan.stl"
            write_mesh(scene(), path)
            plain, asked = read_scan(path, "mm"), read_at_most(path, "mm", Progress(), 10**6)
        self.assertTrue(np.array_equal(plain.mesh.vertices, asked.mesh.vertices))
        self.assertTrue(np.array_equal(plain.mesh.faces, asked.mesh.faces))
        self.assertEqual(asked.notes, ())

    def test_what_cannot_be_read_in_parts_says_so(self) -> None:
        mesh = scene()
        with tempfile.TemporaryDirectory() as folder:
            for name, ending in (("obj", "obj"), ("stl-text", "stl"), ("3mf", "3mf")):
                path = Path(folder) / f"{name}.{ending}"
                write_mesh(mesh, path, name=name)
                with self.assertRaisesRegex(BadInput, r"binary STL or PLY"):
                    read_at_most(path, "mm", Progress(), 5_000)
            cut = Path(folder) / "cut.ply"
            write_mesh(mesh, cut)
            cut.write_bytes(cut.read_bytes()[:-1000])
            with self.assertRaisesRegex(BadInput, "announces"):
                read_at_most(cut, "mm", Progress(), 5_000)
            wrong = Path(folder) / "wrong.ply"
            write_mesh(mesh, wrong)
            wrong.write_bytes(wrong.read_bytes()[:-4] + np.int32(10**8).tobytes())
            with self.assertRaisesRegex(BadInput, "not there"):
                read_at_most(wrong, "mm", Progress(), 5_000)


class Refused(unittest.TestCase):
    def test_before_a_triangle_is_read_with_what_it_wants_and_what_fits(self) -> None:
        mesh = scene()
        with tempfile.TemporaryDirectory() as folder:
            path, other = Path(folder) / "scan.stl", Path(folder) / "scan.obj"
            write_mesh(mesh, path)
            write_mesh(mesh, other)
            with patch(FREE, return_value=len(mesh.faces) * WORKING // 2):
                with patch.object(Format, "read", side_effect=AssertionError), self.assertRaises(TooLarge) as raised:
                    read_scan(path)
                self.assertEqual(raised.exception.triangles, len(mesh.faces))
                fits = raised.exception.fitting
                self.assertTrue(0.25 * len(mesh.faces) < fits < 0.5 * len(mesh.faces))
                with self.assertRaises(TooLarge) as raised:
                    read_scan(other)
                self.assertEqual(raised.exception.fitting, 0)
                told = CliRunner().invoke(cli, ["run", "print-solid", str(path), "--out", folder + "/out"])
                self.assertEqual(told.exit_code, 2)
                self.assertRegex(told.stderr, rf"^tinsnip: .*want some .* GB are free; .*--read-at-most {fits}\)\n$")
                line = ["run", "print-solid", str(path), "--out", folder + "/out", "--read-at-most", str(fits)]
                told = CliRunner().invoke(cli, line)
                self.assertRegex(told.stdout, "reduced while it was read")
                self.assertTrue((Path(folder) / "out" / "scan.stl").exists())
            with patch(FREE, return_value=len(mesh.faces) * WORKING):
                self.assertEqual(len(read_scan(path).mesh.faces), len(mesh.faces))

    def test_what_only_says_that_it_is_large_is_told_to_be_cut_short(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for ending, old, new in (("stl", None, b""), ("ply", b"element face ", b"element face 4")):
                path = Path(folder) / f"scan.{ending}"
                write_mesh(scene(), path)
                raw = path.read_bytes()
                raw = raw[:80] + np.uint32(2_000_000_000).tobytes() + raw[84:] if old is None else raw.replace(old, new)
                path.write_bytes(raw)
                with self.assertRaisesRegex(BadInput, "announces|ends within"):
                    read_scan(path)

    def test_a_limit_on_the_process_counts(self) -> None:
        code = "import resource; resource.setrlimit(resource.RLIMIT_AS, (1 << 31, 1 << 31)); "
        code += "from tinsnip.memory import free_memory; print(free_memory())"
        told = int(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout)
        self.assertTrue(0 < told < 1 << 31)
        self.assertGreater(free_memory(), 0)
        self.assertEqual(resource.getrlimit(resource.RLIMIT_AS)[0] == 1 << 31, False)


class InTheWindow(WindowTest):
    def test_it_is_asked_whether_to_open_it_reduced(self) -> None:
        mesh = scene()
        path = Path(self.folder.name) / "scan.stl"
        write_mesh(mesh, path)
        with patch(FREE, return_value=len(mesh.faces) * WORKING // 2), patch(SLAB, 20_000):
            self.answer_question("Cancel")
            self.window.opening.open([path])
            self.settle()
            self.assertIsNone(self.session.mesh)
            with self.assertRaises(TooLarge) as raised:
                read_scan(path)
            fits = raised.exception.fitting
            self.answer_question(f"Open with {grouped(fits)}")
            self.window.opening.open([path])
            self.settle()
        self.assertTrue(0.97 * fits <= len(self.session.mesh.faces) <= fits)
        self.assertIn("reduced while it was read", self.session.job.piece.scan.notes[-1])
