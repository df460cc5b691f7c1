"""Ready only what is the scan: nothing is lost, made or passed that is not proven or said."""

import collections
import json
import re
import tempfile
import unittest
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from click.testing import CliRunner
from scipy.spatial import cKDTree

from tests import specimens
from tests.random_scans import RandomScan, random_scan
from tests.seeds import in_turn, seeds
from tests.test_shapes import klein, moebius, put, sheet, together, tube, without
from tinsnip.cli import cli
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.job import Order, load_routine, run_on
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.space.winding import winding_numbers
from tinsnip.treat import Context, Plinth, StraightSnip


@contextmanager
def unshown(_: str):
    yield Progress()


class Generated(unittest.TestCase):
    """Two thousand random scans through print-solid."""

    COUNT = 600

    def test_whatever_is_called_ready_is(self) -> None:
        routine, ended, why = load_routine("print-solid"), collections.Counter(), collections.Counter()
        with tempfile.TemporaryDirectory() as keep:
            folder = Path(keep)
            for seed in seeds(self.COUNT, self.id()):
                scan = random_scan(seed)
                raw, out = folder / f"{seed}.ply", folder / f"{seed}.stl"
                write_mesh(scan.mesh, raw)
                ((_, result),) = run_on([(raw, out)], Order(routine, unit="mm"), unshown)
                with self.subTest(seed=seed, kind=scan.kind):
                    if isinstance(result, Exception):
                        self.assertIsInstance(result, BadInput)
                        self.assertNotIn("\n", str(result))
                        self.assertFalse(scan.clean, str(result))
                        ended[scan.kind, "refused"] += 1
                        why[" ".join(str(result).split(": ", 1)[1].split()[:6])] += 1
                        continue
                    facts = result
                    ended[scan.kind, "ready" if facts["ready"] else "not ready"] += 1
                    for reason in facts["reasons"]:
                        why[" ".join(w for w in reason.split() if not any(c.isdigit() for c in w))[:60]] += 1
                    if facts["ready"]:
                        self.proven(scan, out)
                    self.assertTrue(facts["ready"] or not scan.clean, facts["state"])
                raw.unlink()
                out.unlink(missing_ok=True)
        for kind in sorted({k for k, _ in ended}):
            counts = [f"{ended[kind, what]} {what}" for what in ("ready", "not ready", "refused") if ended[kind, what]]
            print(f"      {kind}: {', '.join(counts)}")
        for reason, count in why.most_common(14):
            print(f"      {count} x {reason}")

    def proven(self, scan: RandomScan, path: Path) -> None:
        """Count on the file, with nothing of the product's."""
        vertices, faces = specimens.read_stl(str(path))
        self.assertEqual(specimens.closed_faults(vertices, faces), "")
        self.assertFalse(specimens.knotted(faces).any())
        rng = np.random.default_rng(0)
        result, diagonal = Mesh(vertices, faces), scan.part.diagonal
        points = specimens.sample_surface(scan.part, 1000, rng)
        if scan.kind == "pieces":
            points = self.outside_of_the_others(scan.part, rng)
        count = 30_000
        spacing = 2.0 * np.sqrt(result.area / count)
        away, _ = cKDTree(specimens.sample_surface(result, count, rng)).query(points)
        self.assertGreaterEqual((away < 0.01 * diagonal + spacing).mean(), 0.9, "the scan's surface is not there")
        if not scan.has_rim:
            old = specimens.triangle_set(scan.mesh.vertices, scan.mesh.faces)
            corners = vertices.astype(np.float32)[faces]
            new = np.array([not specimens.triangle_set(c, np.array([[0, 1, 2]])) <= old for c in corners])
            a, b, c = (vertices[faces[:, k]] for k in range(3))
            area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
            self.assertLessEqual(area[new].sum(), area.sum() / 3)

    def outside_of_the_others(self, mesh: Mesh, rng: np.random.Generator) -> np.ndarray:
        """Points on each solid that lie in none of the others: what of it is surface of their union."""
        inward = (mesh.shells.volume < 0)[mesh.shells.label]  # turned outward, as the routine does
        mesh = Mesh(mesh.vertices, np.where(inward[:, None], mesh.faces[:, ::-1], mesh.faces))
        shells, found = mesh.shells, []
        for s in range(len(shells)):
            own, others = (keep_triangles(mesh, (mesh.shells.label == s) == side) for side in (True, False))
            points = specimens.sample_surface(own, max(20, round(1000 * shells.area[s] / mesh.area)), rng)
            found.append(points[winding_numbers(others.vertices, others.faces, points) < 0.5])
        return np.concatenate(found)


class Said(unittest.TestCase):
    """What is not ready says why, on the command line as in its JSON."""

    def run_on(self, mesh: Mesh, *options: str) -> tuple[int, dict, str]:
        with tempfile.TemporaryDirectory() as folder:
            raw = Path(folder) / "scan.ply"
            write_mesh(mesh, raw)
            command = ["run", "print-solid", str(raw), "--out", f"{folder}/out", "--unit", "mm", "--json", *options]
            result = CliRunner().invoke(cli, command)
            facts = json.loads(result.stdout)["results"][0]
            return result.exit_code, facts, " · ".join(facts.get("reasons", [])) + facts.get("error", "")

    def test_nothing_is_lost_in_silence(self) -> None:
        rng = np.random.default_rng(0)
        ball = specimens.sphere(50.0, 16).mesh
        corners = ball.vertices[ball.faces].reshape(-1, 3)
        loose = np.arange(len(corners)).reshape(-1, 3)
        unwelded = Mesh(corners + rng.normal(0, 1e-4, corners.shape), loose)
        dome = without(ball, np.array([0, 0, -25.0]), 35.0)
        row = [put(ball, (60.0 * i, 0, 0)) for i in range(8)]
        half = StraightSnip(offset=1.0).apply(ball, Context()).mesh
        other = StraightSnip(offset=1.0, waste="above").apply(ball, Context()).mesh
        for mesh, shells, words in (
            (together(*row), 8, "export as 8 shells?"),
            (together(*row[:2]), 2, "export as 2 shells?"),
            (together(dome, put(ball, (20.0, 0, 0))), 2, "cross or touch"),
            (together(dome, put(sheet(150.0), (0, 0, 60.0))), 2, "part of it, or strays?"),
        ):
            with self.subTest(words=words, shells=shells):
                code, facts, told = self.run_on(mesh)
                self.assertEqual((code, facts["ready"], facts["shells"]), (1, False, shells))
                self.assertIn(words, told)
                self.assertLess(facts["gone_share"], 1e-9)  # all of it is in the file
                self.assertAlmostEqual(facts["area_mm2"], mesh.area, delta=1e-4 * mesh.area)
        # what lies along each other is welded, and nothing of it is lost
        for mesh in (unwelded, together(half, put(other, (0, 0, -1e-3)))):
            code, facts, _ = self.run_on(mesh)
            self.assertEqual((code, facts["ready"], facts["shells"]), (0, True, 1))
            self.assertAlmostEqual(facts["volume_mm3"], ball.volume, delta=1e-3 * ball.volume)
        # what crosses is united, and nothing of it is lost
        for mesh in (
            together(*(put(ball, (30.0 * i, 0, 0)) for i in range(3))),
            together(ball, put(specimens.sphere(4.0, 8).mesh, (26, 0, 0))),
        ):
            code, facts, _ = self.run_on(mesh)
            self.assertEqual((code, facts["ready"], facts["shells"]), (0, True, 1))
            self.assertTrue(ball.volume < facts["volume_mm3"] < mesh.volume)
        code, facts, _ = self.run_on(together(*row[:2]), "--set", "strays.chunks=keep")
        self.assertEqual((code, facts["shells"]), (0, 2))
        code, facts, _ = self.run_on(together(*row[:2]), "--set", "strays.chunks=sweep")
        self.assertEqual((code, facts["shells"]), (0, 1))
        self.assertAlmostEqual(facts["gone_share"], 0.5, places=6)
        # dust up to a twentieth of the area goes, and more does not, however small each of it is
        for count, code in ((30, 0), (160, 1)):
            dust = [put(specimens.sphere(1.0, 5).mesh, (40.0 + 2 * (i % 11), 2.0 * (i // 11), 0)) for i in range(count)]
            self.assertEqual(self.run_on(together(ball, *dust))[0], code)

    def test_nothing_is_made_in_silence(self) -> None:
        rng = np.random.default_rng(0)
        ball = specimens.sphere(50.0, 24).mesh
        angle = np.arange(60) * 2 * np.pi / 60
        disc = Mesh(
            np.vstack([np.zeros(3), np.column_stack([10 * np.cos(angle), 10 * np.sin(angle), 0 * angle])]),
            [[0, 1 + i, 1 + (i + 1) % 60] for i in range(60)],
        )
        triangle = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
        for mesh, code, words in (
            (keep_triangles(ball, rng.random(len(ball.faces)) > 0.3), 1, ""),
            (without(ball, np.array([25.0, 0, 0]), 32.0), 0, ""),
            (tube(20.0, 0.2, 48, 2), 1, "patches would be"),
            (tube(20.0, 90.0), 0, ""),
            (triangle, 2, "1 proper triangle"),
            (Mesh(np.tile(triangle.vertices, (50, 1)), np.arange(150).reshape(-1, 3)), 2, "1 proper triangle"),
            (sheet(50.0), 1, "no thickness"),
            (together(disc, put(disc, (0, 0, 0), True)), 1, "no thickness"),
            (Mesh(disc.vertices, np.concatenate([disc.faces, disc.faces[:, ::-1]])), 1, "no thickness"),
            (moebius(30.0), 1, "one side only"),
            (klein(30.0), 1, "one side only"),
            (sheet(100.0, 60, 0.2), 0, ""),
        ):
            with self.subTest(words=words, code=code):
                got, facts, told = self.run_on(mesh)
                self.assertEqual(got, code, told)
                self.assertIn(words, told)
        # a relief's base and walls may be more than its face, and are counted as made all the same
        self.assertGreater(facts["made_share"], 0.5)
        self.assertEqual(self.run_on(sheet(50.0), "--set", "base.depth_mm=3")[0], 0)
        # a third is a threshold of the routine
        tub = without(ball, np.array([25.0, 0, 0]), 40.0)
        routine = load_routine("print-solid").model_copy(update={"most_patched": 0.0})
        with tempfile.TemporaryDirectory() as folder:
            own = Path(folder) / "own.json"
            own.write_text(routine.model_dump_json())
            write_mesh(without(ball, np.array([25.0, 0, 0]), 6.0), Path(folder) / "a.stl")
            command = ["run", str(own), f"{folder}/a.stl", "--out", f"{folder}/o", "--unit", "mm"]
            result = CliRunner().invoke(cli, command)
            self.assertEqual(result.exit_code, 1)
            proposed = re.search("proposed: look at what came of it, .* in step holes; .*add (.*)", result.output)[1]
            again = CliRunner().invoke(cli, [*command, *proposed.split()])
            self.assertEqual(again.exit_code, 0, again.output)
        self.assertEqual(self.run_on(tub)[0], 0)
        # what went beyond the limit is proposed in the same way
        crumbs = [put(specimens.sphere(6.0, 8).mesh, at) for at in ((90, 0, 0), (-90, 0, 0), (0, 90, 0))]
        dusty = together(ball, *crumbs)
        code, facts, told = self.run_on(dusty, "--set", "most_lost=0.001")
        self.assertEqual(code, 1, told)
        proposed = re.search(r"went in step strays; .*add --replace (--set most_lost=\S+)", facts["proposal"])[1]
        self.assertEqual(self.run_on(dusty, *proposed.split())[0], 0)
        with self.assertRaisesRegex(BadInput, "most_lost: "):
            routine.with_settings(["most_lost=2"])

    def test_coincident_skins_are_no_volume(self) -> None:
        flat = Mesh(
            np.array([[0, 0, 0], [9, 0, 0], [9, 9, 1e-9], [0, 9, 0]]), [[0, 1, 2], [0, 2, 3], [0, 3, 2], [0, 2, 1]]
        )
        thin = specimens.bored_box(50.0, 16).mesh
        for height, ready in ((1e-2, True), (1e-9, False)):
            squeezed = Mesh(thin.vertices * [1, 1, height], thin.faces)
            with tempfile.TemporaryDirectory() as folder:
                write_mesh(squeezed, Path(folder) / "a.obj")
                result = CliRunner().invoke(cli, ["check", f"{folder}/a.obj", "--json"])
                self.assertEqual(json.loads(result.stdout)["ready"], ready, result.stdout)
        self.assertNotEqual(self.run_on(flat)[0], 0)

    @in_turn(1)
    def test_many_shells_and_many_voids(self) -> None:
        rng = np.random.default_rng(0)
        count = 40_000
        places = rng.uniform(0, 1000, (count, 1, 3)) + rng.normal(0, 1, (count, 3, 3))
        code, facts, _ = self.run_on(Mesh(places.reshape(-1, 3), np.arange(3 * count).reshape(-1, 3)))
        self.assertEqual(code, 1)
        self.assertGreater(facts["shells"], 0.9 * count)
        four = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]])
        sides = np.array([[0, 1, 2], [0, 3, 1], [1, 3, 2], [0, 2, 3]])  # facing in
        count = 10_000
        points = rng.uniform(-250, 250, (count, 1, 3)) + four
        voids = Mesh(points.reshape(-1, 3), (4 * np.arange(count)[:, None, None] + sides).reshape(-1, 3))
        code, facts, told = self.run_on(together(specimens.sphere(1000.0, 40).mesh, voids))
        self.assertEqual((code, facts["shells"], facts["voids"]), (0, 1, 0), told)


class FlatCaps(unittest.TestCase):
    """Cuts through plates with bores: every bore stays open through, whatever the grid, the angle or the roughness."""

    def plate(self, size: float, cells: int, bores: list[tuple[int, int, int]], rough: float = 0.0) -> Mesh:
        """A square plate of grid cells with square bores (column, row, width), twelve layers thick."""
        solid = np.ones((cells, cells), dtype=bool)
        for i, j, w in bores:
            solid[i : i + w, j : j + w] = False
        layers = 5
        step = size / cells
        n = cells + 1
        quads = []

        def vertex(i: int, j: int, k: int) -> int:
            return (k * n + i) * n + j

        for i in range(cells):
            for j in range(cells):
                if not solid[i, j]:
                    continue
                for k, up in ((0, False), (layers, True)):
                    corners = [vertex(i, j, k), vertex(i + 1, j, k), vertex(i + 1, j + 1, k), vertex(i, j + 1, k)]
                    quads.append(corners if up else corners[::-1])
                for a, b, p, q in (
                    (-1, 0, (0, 1), (0, 0)),
                    (1, 0, (1, 0), (1, 1)),
                    (0, -1, (0, 0), (1, 0)),
                    (0, 1, (1, 1), (0, 1)),
                ):
                    x, y = i + a, j + b
                    if 0 <= x < cells and 0 <= y < cells and solid[x, y]:
                        continue
                    for k in range(layers):
                        first, second = (i + p[0], j + p[1]), (i + q[0], j + q[1])
                        quads.append(
                            [vertex(*first, k), vertex(*second, k), vertex(*second, k + 1), vertex(*first, k + 1)]
                        )
        quads = np.array(quads)
        faces = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
        k, i, j = np.unravel_index(np.arange((layers + 1) * n * n), (layers + 1, n, n))
        points = np.column_stack([i, j, k]) * [step, step, 0.1 * size / layers]
        low = k == 0
        points[low, 2] += rough * np.random.default_rng(0).random(low.sum())
        used = np.unique(faces)
        number = np.zeros(len(points), dtype=int)
        number[used] = np.arange(len(used))
        return Mesh(points[used].astype(float), number[faces])

    BORES = ((2, 2, 3), (9, 3, 2), (4, 9, 4), (12, 12, 2), (13, 2, 1))

    def euler(self, mesh: Mesh) -> int:
        ends = np.sort(np.concatenate([mesh.faces[:, [0, 1]], mesh.faces[:, [1, 2]], mesh.faces[:, [2, 0]]]), axis=1)
        return len(np.unique(mesh.faces)) - len(np.unique(ends, axis=0)) + len(mesh.faces)

    def test_cuts_through_bored_plates(self) -> None:
        for unit in (1e-2, 1.0, 1e3):
            plate = self.plate(60.0 * unit, 16, list(self.BORES))
            self.assertEqual(specimens.closed_faults(plate.vertices, plate.faces), "")
            expected = 2 - 2 * len(self.BORES)
            self.assertEqual(self.euler(plate), expected)
            turn = np.linalg.qr(np.random.default_rng(1).normal(size=(3, 3)))[0]
            turn *= np.sign(np.linalg.det(turn))
            for frame in (np.eye(3), turn):
                mesh = Mesh(plate.vertices @ frame.T, plate.faces)
                for offset in (0.6, 1.2, 3.001, 4.8):  # between the layers and exactly through them
                    snip = StraightSnip(normal=tuple(frame[:, 2]), offset=offset * unit)
                    exact = snip.model_copy(update={"close": True}).apply(mesh, Context()).mesh
                    based = Plinth().apply(snip.apply(mesh, Context()).mesh, Context())
                    for closed in (exact, based.mesh):
                        self.assertEqual(specimens.closed_faults(closed.vertices, closed.faces), "")
                        self.assertEqual(self.euler(closed), expected)
                        self.assertAlmostEqual(
                            closed.volume, plate.volume * (1 - offset / 6.0), delta=1e-6 * plate.volume
                        )
                    self.assertEqual(based.account.crossings, 0)

    def test_rings_in_rings_and_coarse_cuts(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(30):
            balls, faces, start, inner = [], [], 0, 1.0
            for depth in range(int(rng.integers(2, 7))):
                ball = specimens.sphere(100.0 * inner, int(rng.integers(5, 16))).mesh
                balls.append(ball.vertices)
                faces.append((ball.faces if depth % 2 == 0 else ball.faces[:, ::-1]) + start)
                start += len(ball.vertices)
                inner *= rng.uniform(0.6, 0.8)
            mesh = Mesh(np.concatenate(balls), np.concatenate(faces))
            for normal in ((0, 0, 1), (0, 1, 1), tuple(rng.normal(size=3))):
                half = (
                    StraightSnip(normal=normal, offset=float(rng.choice([0.0, 3.0])), close=True)
                    .apply(mesh, Context())
                    .mesh
                )
                self.assertEqual(specimens.closed_faults(half.vertices, half.faces), "")
                other = (
                    StraightSnip(normal=tuple(-np.array(normal)), offset=0.0, close=True).apply(mesh, Context()).mesh
                )
                self.assertEqual(specimens.closed_faults(other.vertices, other.faces), "")

    def test_bores_through_a_rough_underside_stay_open(self) -> None:
        """The underside was never seen: the rims of plate and bores lie in one ragged cut."""
        for unit in (1e-2, 1.0, 1e3):
            plate = self.plate(60.0 * unit, 16, list(self.BORES), rough=0.8 * unit)
            low = plate.vertices[plate.faces][..., 2].max(axis=1) < 1.1 * unit
            open_plate = keep_triangles(plate, ~low)
            self.assertEqual(len(open_plate.loops), 1 + len(self.BORES))
            closed = Plinth().apply(open_plate, Context())
            self.assertEqual(specimens.closed_faults(closed.mesh.vertices, closed.mesh.faces), "")
            self.assertEqual(self.euler(closed.mesh), 2 - 2 * len(self.BORES))
            self.assertEqual((closed.account.figures["rims"], closed.account.crossings), (1 + len(self.BORES), 0))


if __name__ == "__main__":
    unittest.main()
