"""The command line as a script sees it: every figure against an independent count, every refusal in one line."""

import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from click.testing import CliRunner

from tests import specimens
from tests.test_levels import tangled
from tests.test_mesh import random_mesh
from tests.test_shapes import put, together
from tinsnip import cli as command_line
from tinsnip.cli import cli
from tinsnip.formats import FORMATS, UNITS, read_scan, write_mesh
from tinsnip.mesh import Attribute, Domain, Mesh


def run(*arguments: object) -> tuple[int, str, str]:
    """Exit code, what was printed, and what was said on the error channel."""
    with mock.patch("sys.argv", ["tinsnip", *map(str, arguments)]):
        runner = CliRunner()
        result = runner.invoke(cli, [str(a) for a in arguments], standalone_mode=False)
    code = result.exit_code
    if result.exception is not None and not isinstance(result.exception, SystemExit):
        raise result.exception
    return code, result.stdout, result.stderr


def counted(vertices: np.ndarray, faces: np.ndarray) -> dict[str, float]:
    """What the contract counts, by dictionaries and loops over edges that share nothing with the product."""
    repeated = [len(set(f)) < 3 for f in faces.tolist()]
    proper = [tuple(f) for f, bad in zip(faces.tolist(), repeated, strict=True) if not bad]
    uses: dict[tuple[int, int], list[int]] = {}
    owners: dict[tuple[int, int], list[int]] = {}
    for f, face in enumerate(proper):
        for k in range(3):
            a, b = face[k], face[(k + 1) % 3]
            uses.setdefault((min(a, b), max(a, b)), []).append(1 if a < b else -1)
            owners.setdefault((min(a, b), max(a, b)), []).append(f)
    shell = list(range(len(proper)))

    def find(i: int) -> int:
        while shell[i] != i:
            shell[i] = shell[shell[i]]
            i = shell[i]
        return i

    for own in owners.values():
        for other in own[1:]:
            shell[find(own[0])] = find(other)
    thin = 0
    for a, b, c in proper:
        sides = [vertices[b] - vertices[a], vertices[c] - vertices[b], vertices[a] - vertices[c]]
        longest = max(np.linalg.norm(s) for s in sides)
        height = np.linalg.norm(np.cross(sides[0], sides[1])) / longest if longest > 0 else 0.0
        thin += height < 1e-9 * longest or longest == 0
    volume = sum(vertices[a] @ np.cross(vertices[b], vertices[c]) for a, b, c in proper) / 6
    area = sum(np.linalg.norm(np.cross(vertices[b] - vertices[a], vertices[c] - vertices[a])) for a, b, c in proper) / 2
    used = vertices[np.unique(faces)]
    return {
        "triangles": len(faces),
        "vertices": len(vertices),
        "shells": len({find(i) for i in range(len(proper))}),
        "open_edges": sum(len(u) == 1 for u in uses.values()),
        "tangled_edges": sum(len(u) > 2 for u in uses.values()),
        "flipped_edges": sum(len(u) == 2 and u[0] == u[1] for u in uses.values()),
        "degenerate": sum(repeated) + thin,
        "duplicates": len(proper) - len({tuple(sorted(f)) for f in proper}),
        "volume_mm3": volume,
        "area_mm2": area,
        "size_mm": np.ptp(used, axis=0).tolist(),
    }


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def write(self, name: str, mesh: Mesh) -> Path:
        path = self.folder / name
        write_mesh(mesh, path)
        return path


class Checks(Folder):
    def test_every_figure_against_an_independent_count(self) -> None:
        rng = np.random.default_rng(0)
        scans = {
            "damaged": specimens.damage(specimens.torus(60.0, 40), rng).mesh,
            "tangled": tangled(specimens.sphere(30.0, 14).mesh, rng),
            "thrown": random_mesh(rng, 60, 150),
            "apart": together(specimens.sphere(9.0, 8).mesh, put(specimens.sphere(4.0, 8).mesh, (20, 0, 0), True)),
        }
        for name, mesh in scans.items():
            # single precision, so that every format holds the very same numbers
            mesh = Mesh(mesh.vertices.astype(np.float32).astype(float), mesh.faces)
            for suffix in ("ply", "obj", "off"):
                path = self.folder / f"{name}.{suffix}"
                with mock.patch("tinsnip.formats.files._compare"):  # a broken mesh is written as it is
                    write_mesh(mesh, path)
                code, out, _ = run("check", path, "--unit", "mm", "--json")
                facts = json.loads(out)
                self.assertEqual(code, 1)
                scale = max(1.0, abs(facts["volume_mm3"]))
                for key, value in counted(mesh.vertices, mesh.faces).items():
                    if key == "volume_mm3" and facts["open_edges"]:
                        continue  # of an open surface it depends on the point it is reckoned from
                    if isinstance(value, int):
                        self.assertEqual(facts[key], value, f"{path.name}: {key}")
                    else:
                        self.assertTrue(np.allclose(facts[key], value, atol=1e-6 * scale), f"{path.name}: {key}")
                self.assertFalse(facts["ready"])
                self.assertTrue(facts["reasons"])

    def test_units_scale_all_that_has_one(self) -> None:
        path = self.write("ball.stl", specimens.sphere(40.0, 12).mesh)
        base = json.loads(run("check", path, "--unit", "mm", "--json")[1])
        for unit, factor in UNITS.items():
            code, out, _ = run("check", path, "--unit", unit, "--json")
            facts = json.loads(out)
            self.assertEqual((code, facts["unit"]), (0, unit))
            self.assertTrue(np.allclose(facts["size_mm"], factor * np.array(base["size_mm"])))
            self.assertAlmostEqual(facts["area_mm2"] / base["area_mm2"] / factor**2, 1.0, places=9)
            self.assertAlmostEqual(facts["volume_mm3"] / base["volume_mm3"] / factor**3, 1.0, places=9)
            for key in ("triangles", "vertices", "shells", "holes", "degenerate"):
                self.assertEqual(facts[key], base[key])

    def test_corners_weld_in_stl_only(self) -> None:
        """STL has places alone; a format with indices keeps two vertices at one place apart."""
        ball = specimens.sphere(10.0, 8).mesh
        soup = Mesh(ball.vertices[ball.faces].reshape(-1, 3), np.arange(3 * len(ball.faces)).reshape(-1, 3))
        for suffix, open_edges in (("stl", 0), ("ply", 3 * len(ball.faces)), ("obj", 3 * len(ball.faces))):
            facts = json.loads(run("check", self.write(f"soup.{suffix}", soup), "--json")[1])
            self.assertEqual(facts["open_edges"], open_edges)
            self.assertEqual(facts["vertices"], len(ball.vertices) if suffix == "stl" else len(soup.vertices))


class Runs(Folder):
    def test_one_bad_scan_does_not_stop_the_others(self) -> None:
        good = self.write("good.ply", specimens.damage(specimens.sphere(30.0, 20), np.random.default_rng(0)).mesh)
        also = self.write("also.ply", specimens.torus(30.0, 30).mesh)
        bad = self.folder / "bad.ply"
        bad.write_bytes(good.read_bytes()[:-100])
        out = self.folder / "out"
        code, text, error = run("run", "print-solid", good, bad, also, "--out", out, "--json")
        self.assertEqual(code, 2)
        self.assertEqual(len(error.strip().splitlines()), 1)
        results = json.loads(text)["results"]
        self.assertEqual(["error" in r for r in results], [False, True, False])
        self.assertEqual(sorted(p.name for p in out.iterdir()), ["also.stl", "good.stl"])
        # something that nobody foresaw is one line as well, is written down, and leaves the others alone
        with (
            mock.patch("platformdirs.user_log_dir", return_value=str(self.folder)),
            mock.patch("tinsnip.treat.repair.sweep.Sweep.apply", side_effect=KeyError("deep down")),
        ):
            code, text, error = run("run", "print-solid", also, good, "--out", out, "--replace", "--json")
        self.assertEqual(code, 2)
        self.assertTrue(all("KeyError" in line for line in error.strip().splitlines()))
        self.assertIn("Traceback", (self.folder / "errors.log").read_text())

    def test_main_ends_in_one_line_whatever_happens(self) -> None:
        for raised, code in ((MemoryError(), 2), (RuntimeError("a\nb"), 2), (KeyboardInterrupt(), 130)):
            with (
                mock.patch.object(command_line, "cli", side_effect=raised),
                mock.patch("platformdirs.user_log_dir", return_value=str(self.folder)),
                mock.patch("click.echo") as told,
                self.assertRaises(SystemExit) as stop,
            ):
                command_line.main()
            self.assertEqual(stop.exception.code, code)
            self.assertNotIn("\n", told.call_args.args[0])
            self.assertTrue(told.call_args.kwargs["err"])

    def test_a_solid_comes_out_as_it_went_in(self) -> None:
        """In every format, with its colours, unless a budget is given; and no budget is passed."""
        rng = np.random.default_rng(1)
        ring = specimens.torus(50.0, 60).mesh
        shade = rng.integers(0, 255, (len(ring.vertices), 3)).astype(np.uint8)
        ring = ring.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        scan = self.write("ring.ply", ring)
        raw = scan.read_bytes()
        expected = specimens.triangle_set(ring.vertices, ring.faces)
        for name in FORMATS:
            out = self.folder / name
            code, text, _ = run("run", "print-solid", scan, "--out", out, "--format", name, "--json")
            facts = json.loads(text)["results"][0]
            self.assertEqual((code, facts["ready"], facts["made_share"]), (0, True, 0.0))
            written = read_scan(out / f"ring{FORMATS[name].suffix}", "mm").mesh
            self.assertEqual(specimens.triangle_set(written.vertices, written.faces), expected)
            for most in (0.1, 0.03):
                code, text, _ = run(
                    "run",
                    "print-solid",
                    scan,
                    "--out",
                    out,
                    "--format",
                    name,
                    "--max-file",
                    most,
                    "--replace",
                    "--json",
                )
                size = (out / f"ring{FORMATS[name].suffix}").stat().st_size
                facts = json.loads(text)["results"][0]
                self.assertEqual(facts["ready"], size <= most * 1e6, f"{name} {most}")
                self.assertLess(size, 1.1e6 * most)
        self.assertEqual(scan.read_bytes(), raw)

    def test_raw_scans_are_never_overwritten(self) -> None:
        scan = self.write("ring.stl", specimens.torus(50.0, 30).mesh)
        link = self.folder / "links"
        link.mkdir()
        (link / "ring.stl").symlink_to(scan)
        raw = scan.read_bytes()
        for out in (self.folder, self.folder / ".." / self.folder.name, link):
            with self.assertRaisesRegex(Exception, "never overwritten"):
                run("run", "print-solid", scan, "--out", out)
        other = self.folder / "other"
        other.mkdir()
        twin = other / "ring.ply"
        write_mesh(specimens.torus(50.0, 20).mesh, twin)
        with self.assertRaisesRegex(Exception, "two scans would have this name"):
            run("run", "print-solid", scan, twin, "--out", self.folder / "out")
        self.assertEqual(scan.read_bytes(), raw)

    def test_compare_is_the_same_from_both_sides(self) -> None:
        ball = specimens.sphere(40.0, 30).mesh
        a, b = self.write("a.ply", ball), self.write("b.stl", ball.moved(1.05 * ball.vertices))
        one = json.loads(run("compare", a, b, "--json")[1])
        two = json.loads(run("compare", b, a, "--json")[1])
        for way, back in (("a_to_b", "b_to_a"), ("b_to_a", "a_to_b")):
            for key in ("max", "p99", "rms", "mean"):
                self.assertAlmostEqual(one[way][key], two[back][key], places=9)
                self.assertAlmostEqual(one[way][key], 1.0, delta=0.03)
        metres = json.loads(run("compare", a, b, "--unit", "m", "--json")[1])
        self.assertAlmostEqual(metres["a_to_b"]["mean"] / one["a_to_b"]["mean"], 1000.0, places=6)


if __name__ == "__main__":
    unittest.main()
