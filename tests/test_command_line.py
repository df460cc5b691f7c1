"""The command line's contract: what is printed, where, and the exit codes."""

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, read_scan, write_mesh
from tinsnip.mesh import Attribute, Domain, Mesh

COUNTED = {
    *("file", "unit", "triangles", "vertices", "shells", "voids", "strays", "holes", "rims", "open_edges"),
    *("tangled_edges", "pinched_vertices", "flipped_edges", "degenerate", "duplicates", "crossings"),
    *("volume_mm3", "area_mm2", "size_mm", "ready", "reasons"),
}


def tinsnip(*arguments: object) -> subprocess.CompletedProcess:
    command = [sys.executable, "-m", "tinsnip", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, timeout=300, check=False)


class CommandLine(unittest.TestCase):
    def setUp(self) -> None:
        self.keep = tempfile.TemporaryDirectory()
        self.folder = Path(self.keep.name)
        self.addCleanup(self.keep.cleanup)
        self.ball = specimens.sphere(40.0, 14).mesh
        self.solid = self.folder / "ball.stl"
        write_mesh(self.ball, self.solid)
        self.damaged = specimens.damage(specimens.sphere(40.0, 20), np.random.default_rng(0), pinches=0.0)
        self.scan = self.folder / "scan.ply"
        write_mesh(self.damaged.mesh, self.scan)

    def test_check(self) -> None:
        good = tinsnip("check", self.solid, "--json")
        self.assertEqual(good.returncode, 0, good.stderr)
        facts = json.loads(good.stdout)
        self.assertLessEqual(COUNTED, set(facts))
        self.assertTrue(facts["ready"])
        self.assertIsNone(facts["crossings"])
        self.assertIn("crossings not checked", facts["state"])
        bad = tinsnip("check", self.scan, "--unit", "cm", "--json")
        self.assertEqual(bad.returncode, 1, bad.stderr)
        facts = json.loads(bad.stdout)
        self.assertEqual(facts["holes"], self.damaged.holes)
        self.assertEqual(facts["voids"], self.damaged.voids)
        self.assertAlmostEqual(facts["size_mm"][0], 10 * self.damaged.mesh.size[0], places=2)
        self.assertIn("Not ready", tinsnip("check", self.scan).stdout)

    def test_errors_are_one_line_and_exit_2(self) -> None:
        empty = self.folder / "empty.stl"
        empty.touch()
        cut = self.folder / "cut.stl"
        cut.write_bytes(self.solid.read_bytes()[:-7])
        noise = self.folder / "noise.ply"
        noise.write_bytes(np.random.default_rng(0).bytes(5000))
        routine = self.folder / "bad.json"
        routine.write_text('{"name": "x", "title": "x", "steps": [{"name": "a", "treatment": "nope"}]}')
        out = ("--out", self.folder / "out")
        for arguments in (
            ("check", empty),
            ("check", cut),
            ("check", noise),
            ("check", self.folder),
            ("check", self.folder / "missing.stl"),
            ("check", self.solid, "--unit", "furlong"),
            ("run", "no-such-routine", self.solid, *out),
            ("run", routine, self.solid, *out),
            ("run", "print-solid", self.solid),
            ("run", "print-solid", cut, *out),
            ("run", "print-solid", self.solid, "--out", self.folder),
            ("run", "print-solid", self.solid, *out, "--set", "trim"),
            ("run", "print-solid", self.solid, *out, "--set", "trim.offset=high"),
            ("run", "print-solid", self.solid, *out, "--set", "nothing.offset=1"),
            ("run", "print-solid", self.solid, *out, "--set", "trim.offset=900"),
            ("run", "print-solid", self.solid, *out, "--triangles", "-5"),
            ("routines", "no-such"),
            ("nonsense",),
        ):
            with self.subTest(arguments=arguments[:3]):
                result = tinsnip(*arguments)
                self.assertEqual(result.returncode, 2, result.stdout)
                self.assertEqual(len(result.stderr.strip().splitlines()), 1, result.stderr)
                self.assertTrue(result.stderr.startswith("tinsnip: "), result.stderr)
        self.assertEqual(len(read_scan(self.solid).mesh.faces), len(self.ball.faces))

    def test_run(self) -> None:
        out = self.folder / "out"
        result = tinsnip("run", "print-solid", self.scan, self.solid, "--out", out, "--unit", "mm", "--json")
        self.assertEqual(result.returncode, 0, result.stdout + result.stderr)
        self.assertTrue(all(r["ready"] for r in json.loads(result.stdout)["results"]))
        self.assertEqual(specimens.closed_faults(*specimens.read_stl(str(out / "scan.stl"))), "")
        vertices, faces = specimens.read_stl(str(out / "ball.stl"))
        same = specimens.triangle_set(self.ball.vertices, self.ball.faces)
        self.assertEqual(specimens.triangle_set(vertices, faces), same)
        for name in FORMATS:
            result = tinsnip(
                "run", "print-solid", self.scan, "--out", out, "--format", name, "--max-file", "0.02", "--replace"
            )
            self.assertEqual(result.returncode, 0, result.stdout + result.stderr)
            self.assertLess((out / f"scan.{name}").stat().st_size, 20_000)

    def test_routines_round_trip(self) -> None:
        listed = tinsnip("routines").stdout
        self.assertIn("print-solid", listed)
        own = self.folder / "mine.json"
        own.write_text(tinsnip("routines", "print-solid").stdout)
        result = tinsnip("run", own, self.scan, "--out", self.folder / "o", "--set", "trim.offset=-5")
        self.assertEqual(result.returncode, 0, result.stderr)
        vertices, _ = specimens.read_stl(str(self.folder / "o" / "scan.stl"))
        self.assertAlmostEqual(vertices[:, 2].min(), -5.0, places=5)

    def test_headless_demo(self) -> None:
        result = tinsnip("demo", "--headless", self.folder / "demo", "--triangles", "40000")
        self.assertEqual(result.returncode, 0, result.stderr)
        self.assertIn("Ready", result.stdout)
        self.assertGreater((self.folder / "demo" / "after.png").stat().st_size, 20_000)

    def test_bench(self) -> None:
        result = json.loads(tinsnip("bench", "--triangles", "20000", "--json").stdout)
        names = {row["name"] for row in result["rows"]}
        self.assertLessEqual({"weld", "twins", "shells", "read-stl", "read-ply", "snip-straight", "sweep"}, names)
        self.assertTrue(all(row["seconds"] > 0 for row in result["rows"]))


class RoundTrips(unittest.TestCase):
    def test_what_is_written_is_read(self) -> None:
        mesh = specimens.torus(30.0, 30).mesh
        shade = np.random.default_rng(0).integers(0, 256, (len(mesh.vertices), 3)).astype(np.uint8)
        mesh = Mesh(mesh.vertices, mesh.faces, None, {"colour": Attribute(Domain.VERTEX, shade)})
        with tempfile.TemporaryDirectory() as folder:
            for name in FORMATS:
                path = Path(folder) / f"ring.{name}"
                write_mesh(mesh, path)
                again = read_scan(path).mesh
                corners = mesh.vertices[mesh.faces]
                self.assertTrue((again.vertices[again.faces] == corners).all(), name)
                if name != "stl":
                    self.assertTrue((again.colour == shade).all(), name)
            with self.assertRaises(BadInput):
                write_mesh(mesh, Path(folder) / "no" / "such.stl")
            with self.assertRaises(BadInput):
                write_mesh(mesh, Path(folder) / "ring.xyz")
            self.assertEqual(len(list(Path(folder).iterdir())), len(FORMATS))


if __name__ == "__main__":
    unittest.main()
