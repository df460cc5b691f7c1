"""The command line's contract: what is printed, where, and the exit codes."""

import contextlib
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests import specimens
from tests.seeds import in_turn
from tinsnip.cli import main
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, read_scan, write_mesh
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles

COUNTED = {
    *("file", "unit", "triangles", "vertices", "shells", "voids", "strays", "holes", "rims", "open_edges"),
    *("tangled_edges", "pinched_vertices", "flipped_edges", "degenerate", "duplicates", "crossings"),
    *("volume_mm3", "area_mm2", "size_mm", "ready", "reasons"),
}


def tinsnip(*arguments: object, environment: dict[str, str] | None = None) -> subprocess.CompletedProcess:
    command = [sys.executable, "-m", "tinsnip", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, timeout=300, check=False, env=environment)


def inside(*arguments: object) -> subprocess.CompletedProcess:
    """The same in this process, for what needs no process of its own."""
    out, err = io.StringIO(), io.StringIO()
    named = mock.patch.object(sys, "argv", ["tinsnip", *map(str, arguments)])
    with named, contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            main()
            code = 0
        except SystemExit as end:
            code = int(end.code or 0)
    return subprocess.CompletedProcess(arguments, code, out.getvalue(), err.getvalue())


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
        self.assertEqual((facts["crossings"], facts["folds"]), (0, 0))
        self.assertEqual(facts["state"], "Ready")
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
            ("run", "print-solid", self.solid, *out, "--triangles", "-5"),
            ("routines", "no-such"),
            ("nonsense",),
        ):
            with self.subTest(arguments=arguments[:3]):
                result = inside(*arguments)
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
            result = inside(
                "run", "print-solid", self.scan, "--out", out, "--format", name, "--max-file", "0.02", "--replace"
            )
            self.assertEqual(result.returncode, 0, result.stdout + result.stderr)
            self.assertLess((out / f"scan{FORMATS[name].suffix}").stat().st_size, 20_000)

    def test_results_are_replaced_only_when_asked_and_raw_scans_never(self) -> None:
        out = self.folder / "out"
        command = ("run", "print-solid", self.solid, "--out", out, "--unit", "mm")
        self.assertEqual(inside(*command).returncode, 0)
        written = out / "ball.stl"
        before = written.read_bytes()
        written.write_bytes(b"somebody's own")
        again = inside(*command)
        self.assertEqual((again.returncode, written.read_bytes()), (2, b"somebody's own"))
        self.assertIn("--replace", again.stderr)
        self.assertEqual(inside(*command, "--replace").returncode, 0)
        self.assertEqual(written.read_bytes(), before)
        raw = self.solid.read_bytes()
        os.link(self.solid, self.folder / "twin.stl")
        (self.folder / "elsewhere").mkdir()
        (self.folder / "elsewhere" / "ball.stl").symlink_to(self.solid)
        for folder in (self.folder, self.folder / "elsewhere"):
            refused = inside("run", "print-solid", self.solid, "--out", folder, "--replace")
            self.assertEqual(refused.returncode, 2)
            self.assertIn("raw scan", refused.stderr)
        refused = inside("run", "print-solid", self.solid, self.folder / "twin.stl", "--out", self.folder, "--replace")
        self.assertEqual((refused.returncode, self.solid.read_bytes()), (2, raw))

    def test_settings_go_by_the_types_of_their_fields(self) -> None:
        def made(*settings: str) -> subprocess.CompletedProcess:
            options = [word for text in settings for word in ("--set", text)]
            return inside(
                "run",
                "print-solid",
                self.scan,
                "--out",
                self.folder / "o",
                "--unit",
                "mm",
                "--json",
                "--replace",
                *options,
            )

        for text in ("no", "False", "off", "0", "false"):
            facts = json.loads(made("trim.offset=5", f"trim.enabled={text}").stdout)["results"][0]
            self.assertNotIn("trim", [s["step"] for s in facts["steps"]])
        for text in ("yes", "True", "on", "1"):
            facts = json.loads(made(f"trim.enabled={text}", f"trim.close={text}").stdout)["results"][0]
            self.assertIn("trim", [s["step"] for s in facts["steps"]])
        for text in ("trim.enabled=perhaps", "trim.offset=nan", "trim.offset=1e999", "holes.flow=2", "strays.chunks=drop",  # noqa: E501
                     "trim.normal=" + "[" * 3000, "holes.under_mm=-1"):  # fmt: skip
            result = made(text)
            self.assertEqual(result.returncode, 2, text)
            self.assertEqual(len(result.stderr.strip().splitlines()), 1)
        for budget in (("--max-deviation", "nan"), ("--max-deviation", "-1"), ("--max-file", "nan"), ("--max-file", "-3"),  # noqa: E501
                       ("--max-file", "inf"), ("--triangles", "0"), ("--triangles", "-7")):  # fmt: skip
            result = inside("run", "print-solid", self.solid, "--out", self.folder / "o", *budget)
            self.assertEqual((result.returncode, len(result.stderr.strip().splitlines())), (2, 1), budget)

    @in_turn(1)
    def test_budgets_that_cannot_both_be_kept(self) -> None:
        out = self.folder / "out"
        both = ("--triangles", "20", "--max-deviation", "0.000001")
        result = inside("run", "print-solid", self.solid, "--out", out, "--unit", "mm", "--json", *both)
        facts = json.loads(result.stdout)["results"][0]
        self.assertEqual((result.returncode, facts["ready"]), (1, False))
        self.assertIn("20 were asked", " ".join(facts["reasons"]))
        torus = self.folder / "torus.ply"
        write_mesh(specimens.torus(40.0, 120).mesh, torus)
        for name in ("3mf", "obj", "off"):  # what these take is an estimate; another try keeps to it
            for megabytes in ("0.03", "0.08"):
                result = inside(
                    *("run", "print-solid", torus, "--out", out, "--format", name, "--unit", "mm"),
                    *("--max-file", megabytes, "--replace"),
                )
                size = (out / f"torus.{name}").stat().st_size / 1e6
                self.assertEqual(result.returncode, 0, result.stdout)
                self.assertLessEqual(size, float(megabytes))
                self.assertGreater(size, 0.5 * float(megabytes))

    @in_turn(2)
    def test_unit_losses_and_notes_are_told(self) -> None:
        odd = self.folder / "odd [1] part.obj"
        rows = [f"v {x:g} {y:g} {z:g}\n" for x, y, z in self.ball.vertices / 2e5]
        rows += [f"f {a} {b} {c}\n" for a, b, c in self.ball.faces + 1]
        odd.write_text("".join(rows) + "curv 0 1 1 2\n")
        command = ("run", "print-solid", odd, "--out", self.folder / "out")
        told = tinsnip(*command)
        self.assertEqual(told.returncode, 0, told.stdout + told.stderr)
        for words in (
            str(odd),
            "unit m: ",
            "warning: its unit was guessed",
            "left out: 1 free-form",
            "area went",
            "was made",
        ):
            self.assertIn(words, told.stdout)
        facts = json.loads(tinsnip(*command, "--json", "--replace").stdout)["results"][0]
        self.assertEqual((facts["unit"], len(facts["warnings"]), len(facts["notes"])), ("m", 1, 1))
        self.assertEqual((facts["gone_share"], facts["made_share"]), (0.0, 0.0))
        self.assertIn(str(odd), tinsnip("check", odd).stdout.replace("\n", ""))
        hole = self.folder / "hole.stl"
        write_mesh(keep_triangles(self.ball, np.arange(len(self.ball.faces)) > 40), hole)
        facts = json.loads(
            tinsnip("run", "print-solid", hole, "--out", self.folder / "out", "--unit", "mm", "--json").stdout
        )["results"][0]
        self.assertGreater(facts["made_share"], 0.01)  # though the file has no place to say so
        self.assertEqual(facts["state"], "Ready")

    def test_plain_terminals_and_no_display(self) -> None:
        plain = {**os.environ, "PYTHONIOENCODING": "ascii", "LC_ALL": "C"}
        result = tinsnip("check", self.scan, environment=plain)
        self.assertEqual((result.returncode, result.stderr), (1, ""))
        self.assertIn("Not ready - ", result.stdout)
        self.assertTrue(result.stdout.isascii())
        for name, value in (
            ("DISPLAY", ""),
            ("DISPLAY", ":987"),
            ("DISPLAY", "nonsense"),
            ("WAYLAND_DISPLAY", "none-7"),
        ):
            bare = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY")} | {name: value}
            every = (), (self.solid,), ("bench", "--window")
            for arguments in every if not value else every[:1]:
                result = tinsnip(*arguments, environment=bare)
                self.assertEqual((result.returncode, len(result.stderr.strip().splitlines())), (2, 1), result.stderr)
                self.assertIn("display", result.stderr)

    def test_a_stop_while_writing_leaves_nothing_half_done(self) -> None:
        """Ended by the system while the second of two results is written: the first stands, and is named."""
        for number, code in ((signal.SIGTERM, 143), (signal.SIGINT, 130)):
            out = self.folder / f"stopped-{int(number)}"
            script = (
                "import os, sys, signal; signal.signal(signal.SIGINT, signal.default_int_handler);\n"
                "from tinsnip import cli; from tinsnip.formats import files; seen = [];\n"
                "def stop(path, progress, plain=files._onto_the_disk):\n"
                "    seen.append(path)\n"
                f"    if len(seen) == 2: os.kill(os.getpid(), {int(number)})\n"
                "    plain(path, progress)\n"
                "files._onto_the_disk = stop\n"
                f"sys.argv = ['tinsnip', 'run', 'print-solid', {str(self.solid)!r}, {str(self.scan)!r}, '--out', {str(out)!r},"  # noqa: E501
                " '--unit', 'mm']\ncli.main()"
            )
            result = subprocess.run(
                [sys.executable, "-c", script], capture_output=True, text=True, timeout=300, check=False
            )
            self.assertEqual(result.returncode, code, result.stderr)
            self.assertEqual([p.name for p in out.iterdir()], ["ball.stl"])
            self.assertIn(f"written before that, and whole: {out / 'ball.stl'}", result.stderr)
            self.assertEqual(len(result.stderr.strip().splitlines()), 1)

    def routine_file(self, step: str, fields: dict, mark: bytes = b"") -> Path:
        path = self.folder / f"{step}-{len(list(self.folder.iterdir()))}.json"
        one = {"name": step, "treatment": step, "fields": fields}
        path.write_bytes(mark + json.dumps({"name": "x", "title": "x", "steps": [one]}).encode())
        return path

    def test_what_cannot_be_done_is_said_and_a_file_is_there_all_the_same(self) -> None:
        out = self.folder / "undone"
        for routine, setting, words in (
            ("print-solid", ("--set", "trim.offset=900"), "cut everything away"),
            (self.routine_file("scale", {"factor": 1e300}), (), "can be worked on"),
            (self.routine_file("scale", {"factor": 1e-300}), (), "can be worked on"),
            (self.routine_file("offset", {"by_mm": 1e6}), (), "ask for less"),
        ):
            with self.subTest(words=words, setting=setting):
                result = inside("run", routine, self.solid, "--out", out, "--replace", "--json", *setting)
                self.assertEqual((result.returncode, result.stderr), (1, ""))
                facts = json.loads(result.stdout)["results"][0]
                self.assertFalse(facts["ready"])
                self.assertEqual(len([r for r in facts["reasons"] if "could not be done" in r and words in r]), 1)
                self.assertNotIn("\n", facts["reasons"][0])
                self.assertGreater(len(read_scan(facts["out"]).mesh.faces), 0)

    def test_a_routine_that_moves_the_part_and_begins_with_a_mark(self) -> None:
        routine = self.routine_file("turn", {"axis": [1, 0, 0], "degrees": 30}, b"\xef\xbb\xbf")
        result = inside("run", routine, self.solid, "--out", self.folder / "turned", "--json")
        self.assertEqual(result.returncode, 0, result.stderr)
        step = json.loads(result.stdout)["results"][0]["steps"][0]
        self.assertEqual((step["made_triangles"], step["gone_mm2"]), (0, 0.0))
        self.assertAlmostEqual(step["matrix"][1][2], -0.5, places=9)

    def test_routines_round_trip(self) -> None:
        listed = inside("routines").stdout
        self.assertIn("print-solid", listed)
        own = self.folder / "mine.json"
        own.write_text(tinsnip("routines", "print-solid").stdout)
        result = inside("run", own, self.scan, "--out", self.folder / "o", "--set", "trim.offset=-5")
        self.assertEqual(result.returncode, 0, result.stderr)
        vertices, _ = specimens.read_stl(str(self.folder / "o" / "scan.stl"))
        self.assertAlmostEqual(vertices[:, 2].min(), -5.0, places=5)

    def test_headless_demo(self) -> None:
        result = tinsnip("demo", "--headless", self.folder / "demo", "--triangles", "40000")
        self.assertEqual(result.returncode, 0, result.stderr)
        self.assertIn("Ready", result.stdout)
        self.assertGreater((self.folder / "demo" / "after.png").stat().st_size, 20_000)

    def test_bench(self) -> None:
        result = json.loads(
            inside(
                "bench",
                "--triangles",
                "20000",
                "--json",
                "--only",
                "weld,twins,shells,read-stl,read-ply,snip-straight,sweep,record",
            ).stdout
        )
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
                path = Path(folder) / f"ring-{name}{FORMATS[name].suffix}"
                write_mesh(mesh, path, name=name)
                again = read_scan(path).mesh
                corners = mesh.vertices[mesh.faces]
                self.assertTrue((again.vertices[again.faces] == corners).all(), name)
                if FORMATS[name].holds_colours:
                    self.assertTrue((again.colour == shade).all(), name)
            with self.assertRaises(BadInput):
                write_mesh(mesh, Path(folder) / "no" / "such.stl")
            with self.assertRaises(BadInput):
                write_mesh(mesh, Path(folder) / "ring.xyz")
            self.assertEqual(len(list(Path(folder).iterdir())), len(FORMATS))


if __name__ == "__main__":
    unittest.main()
