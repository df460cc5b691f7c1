"""The record of a reduction, its curve, what it holds, and what it promises of deviation."""

import json
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from click.testing import CliRunner

from tests import specimens
from tests.seeds import in_turn
from tinsnip.bench.quality import clustered
from tinsnip.cli import cli
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import MADE, MEASURED, SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.measures import face_vectors, triangles_at
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.survey.deviation import compare, largest_deviation
from tinsnip.threads import CORES
from tinsnip.treat import Context, Patch, Reduce, StraightSnip
from tinsnip.treat.reduce.collapsing import Holds, Reduction
from tinsnip.treat.reduce.parts import SEAM, parts_of


def noisy(mesh: Mesh, size: float, seed: int = 0) -> Mesh:
    return mesh.moved(mesh.vertices + np.random.default_rng(seed).normal(0, size, mesh.vertices.shape))


class Records(unittest.TestCase):
    def test_every_level_is_what_a_reduction_to_it_gives(self) -> None:
        shapes = [
            noisy(specimens.torus(80.0, 300).mesh, 0.01),  # large enough for passes before the queue
            specimens.bored_box(3.0, 80).mesh,
            StraightSnip(normal=(0.2, 0.1, 1), offset=0.5).apply(specimens.sphere(30.0, 40).mesh, Context()).mesh,
        ]
        for mesh in shapes:
            for options in (Reduce(), Reduce(hold_rims=True), Reduce(even=True)):
                record = options.record(mesh, Progress())
                self.assertEqual(record.most, len(mesh.faces))
                self.assertEqual(record.level(record.most).faces.tolist(), mesh.faces.tolist())
                for share in (0.97, 0.6, 0.35, 0.1, 0.03):
                    count = max(record.fewest, round(share * len(mesh.faces)))
                    level = options.outcome_of(mesh, record.level(count)).mesh
                    direct = options.model_copy(update={"triangles": count}).apply(mesh, Context()).mesh
                    self.assertLessEqual(len(level.faces), count)
                    self.assertGreaterEqual(len(level.faces), count - 1)
                    self.assertTrue(np.array_equal(level.faces, direct.faces))
                    self.assertTrue(np.array_equal(level.vertices, direct.vertices))
                    self.assertTrue(np.array_equal(level.provenance, direct.provenance))

    def test_parts_side_by_side_give_what_one_after_another_does(self) -> None:
        ring = noisy(specimens.torus(80.0, 300).mesh, 0.01)
        cut = StraightSnip(normal=(0.2, 1, 1), offset=3.0).apply(ring, Context()).mesh
        shuffled = Mesh(ring.vertices, np.random.default_rng(1).permutation(ring.faces))
        for mesh, divided in ((ring, True), (cut, True), (shuffled, False)):
            with patch("tinsnip.treat.reduce.parts._TRIANGLES", 4000):
                parts = parts_of(mesh.faces, len(mesh.vertices))
                self.assertEqual(len(parts.bounds) > 2, divided)
                if divided:  # no triangle reaches from a part into another, nor does one that touches it
                    clear = parts.clear[mesh.faces]
                    self.assertTrue(((clear.min(axis=1) == clear.max(axis=1)) | (clear.min(axis=1) == SEAM)).all())
                    own = np.searchsorted(parts.bounds, np.arange(len(mesh.faces)), side="right") - 1
                    for k in range(len(parts.bounds) - 1):
                        near = np.isin(mesh.faces, mesh.faces[triangles_at(mesh.faces, parts.clear == k)]).any(axis=1)
                        self.assertEqual(set(own[near & triangles_at(mesh.faces, parts.clear == k)]), {k})
                record = Reduce().record(mesh, Progress())
                with patch.dict("os.environ", {CORES: "1"}):
                    alone = Reduce().record(mesh, Progress())
                self.assertTrue(np.array_equal(record.log, alone.log))
                self.assertTrue(np.array_equal(record.places, alone.places))
                for share in (0.95, 0.8, 0.5):
                    count = round(share * len(mesh.faces))
                    level = record.level(count)
                    direct = Reduce(triangles=count).apply(mesh, Context()).mesh
                    self.assertTrue(np.array_equal(level.vertices, direct.vertices))
                    self.assertTrue(np.array_equal(level.faces, direct.faces))
                    self.assertEqual((direct.edges.tangled, direct.edges.flipped), (0, 0))
                    self.assertEqual(direct.edges.open > 0, mesh is cut)

    def test_the_end_is_made_again_with_more_held(self) -> None:
        """With nothing more held it is the same to the bit; what is held stays in its place."""
        mesh = specimens.torus(50.0, 400).mesh
        target = len(mesh.faces) // 20
        reduction = Reduction(mesh.vertices, mesh.faces, mesh.twins, target, Holds(), Progress())
        vertices, faces = reduction.halfway
        self.assertLess(len(faces), len(mesh.faces) // 3)
        held = np.zeros(len(vertices), dtype=bool)
        same, first = reduction.again(held, Progress()), reduction.level
        for name in ("vertices", "faces", "source", "parent"):
            np.testing.assert_array_equal(getattr(same, name), getattr(first, name))
        held[faces[vertices[faces].mean(axis=1)[:, 0] > 0.9 * vertices[:, 0].max()]] = True
        again = reduction.again(held, Progress())
        kept = {tuple(v) for v in again.vertices}
        self.assertGreater(held.sum(), 50)
        self.assertTrue(all(tuple(v) in kept for v in vertices[held]))
        self.assertLess(len(again.faces), 1.01 * target + 2 * held.sum())
        result = Mesh(again.vertices, again.faces)
        self.assertEqual(result.edges.open + result.edges.tangled + result.edges.flipped, 0)
        self.assertAlmostEqual(result.volume / mesh.volume, 1.0, delta=0.01)

    def test_levels_stay_manifold_and_never_flip(self) -> None:
        ring = specimens.torus(80.0, 400)
        mesh = noisy(ring.mesh, 0.02)
        record = Reduce().record(mesh, Progress())
        self.assertLessEqual(record.fewest, 300)
        for count in np.geomspace(record.most, record.fewest, 9).astype(int):
            level = record.level(int(count))
            reduced = Mesh(level.vertices, level.faces)
            self.assertEqual((reduced.edges.open, reduced.edges.tangled, reduced.edges.flipped), (0, 0, 0))
            self.assertEqual(len(reduced.shells), 1)
            if count >= 2000:  # every triangle faces the way the torus does there
                self.assertAlmostEqual(reduced.volume, ring.volume, delta=0.01 * ring.volume)
                centres = reduced.vertices[reduced.faces].mean(axis=1)
                step = 1e-4
                slope = np.stack(
                    [ring.distance(centres + step * e) - ring.distance(centres - step * e) for e in np.eye(3)], 1
                )
                vectors = face_vectors(reduced.vertices, reduced.faces)
                cosine = (vectors * slope).sum(1) / np.linalg.norm(vectors, axis=1) / np.linalg.norm(slope, axis=1)
                self.assertGreater(cosine.min(), 0.0)

    def test_the_curve_tells_the_truth(self) -> None:
        ring = specimens.torus(80.0, 300)
        record, curve = Reduce().study(ring.mesh, Progress())
        self.assertGreaterEqual(len(curve.points), 10)
        for point in curve.points[1::3]:
            level = record.level(point.triangles)
            self.assertEqual(len(level.faces), point.triangles)
            exact = largest_deviation(Mesh(level.vertices, level.faces), ring.mesh, Progress())
            self.assertLessEqual(point.largest, exact.max * 1.05)
            self.assertGreaterEqual(point.largest, 0.5 * exact.max)
            # and against the torus itself, which is known without any tree
            sampled = specimens.sample_surface(Mesh(level.vertices, level.faces), 20_000, np.random.default_rng(0))
            chord = np.abs(ring.distance(specimens.sample_surface(ring.mesh, 20_000, np.random.default_rng(1)))).max()
            self.assertAlmostEqual(
                point.largest, np.abs(ring.distance(sampled)).max(), delta=0.4 * point.largest + chord
            )
        for wanted in (0.05, 0.2, 1.0):
            count = curve.triangles_for(wanted)
            self.assertAlmostEqual(curve.largest_at(count), wanted, delta=0.1 * wanted)

    def test_quality_beats_clustering_by_half(self) -> None:
        ring = specimens.torus(80.0, 500)
        for percent, share in ((10, 0.5), (1, 0.65)):
            reduced = Reduce(percent=percent).apply(ring.mesh, Context()).mesh
            plain = clustered(ring.mesh, len(reduced.faces))
            ours, theirs = (compare(m, ring.mesh, 50_000)[0].rms for m in (reduced, plain))
            self.assertLess(ours, share * theirs)

    @in_turn(2)
    def test_largest_deviation_is_kept_to(self) -> None:
        mesh = noisy(specimens.bored_box(40.0, 160).mesh, 0.002)
        for limit in (0.01, 0.1, 0.5):
            outcome = Reduce(max_deviation_mm=limit).apply(mesh, Context())
            there, back = compare(outcome.mesh, mesh, 100_000)
            self.assertLessEqual(max(there.max, back.max), limit)
            self.assertLess(len(outcome.mesh.faces), 0.9 * len(mesh.faces))
        # a triangle budget does not push it past the deviation
        both = Reduce(max_deviation_mm=0.01, triangles=50).apply(mesh, Context())
        self.assertGreater(len(both.mesh.faces), 50)
        self.assertIn("asked", both.text)
        with self.assertRaises(ValueError):
            Reduce(max_deviation_mm=-1)

    def test_holds(self) -> None:
        mesh = noisy(specimens.sphere(50.0, 60).mesh, 0.01)
        spans = ((100, 400), (5000, 5050))
        held = np.concatenate([np.arange(*span) for span in spans])
        less = Reduce(percent=5, hold=Region.of(mesh, held)).apply(mesh, Context()).mesh
        corners = {tuple(map(tuple, mesh.vertices[mesh.faces[f]])) for f in held}
        left = {tuple(map(tuple, less.vertices[face])) for face in less.faces}
        self.assertTrue(corners <= left)
        with self.assertRaises(BadInput):
            wrong = Region.of(mesh, held).model_copy(update={"runs": ((0, 10**6),)})
            Reduce(percent=5, hold=wrong).apply(mesh, Context())
        # a sharp line of colour across a smooth ball stays sharp and in place
        red = mesh.vertices[:, 2] > 3.0
        shade = np.where(red[:, None], [200, 30, 30], [40, 60, 200]).astype(np.uint8)
        painted = mesh.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        off = {}
        for hold in (False, True):
            less = Reduce(percent=4, hold_colour_edges=hold).apply(painted, Context()).mesh
            is_red = less.colour[:, 0] > 100
            mixed = less.faces[is_red[less.faces].any(axis=1) & ~is_red[less.faces].all(axis=1)]
            heights = less.vertices[mixed][..., 2]
            off[hold] = float((heights.max(axis=1) - heights.min(axis=1)).mean())
        self.assertLess(off[True], 0.7 * off[False])
        # even triangles are even
        spread = {}
        for even in (False, True):
            less = Reduce(percent=5, even=even).apply(specimens.bored_box(40.0, 160).mesh, Context()).mesh
            area = np.linalg.norm(face_vectors(less.vertices, less.faces), axis=1)
            spread[even] = area.std() / area.mean()
        self.assertLess(spread[True], 0.6 * spread[False])

    def test_provenance_through_reduction(self) -> None:
        ball = specimens.sphere(50.0, 60).mesh
        centre = ball.vertices[ball.faces].mean(axis=1)
        near = np.linalg.norm(centre - centre[0], axis=1) < 6
        open_ball = Mesh(ball.vertices, ball.faces[~near])
        patched = Patch().apply(open_ball, Context()).mesh
        less = Reduce(percent=20).apply(patched, Context()).mesh
        self.assertEqual(set(np.unique(less.provenance)), {SHIFTED, MADE} | set(less.provenance) & {MEASURED})
        made = less.vertices[less.faces[less.provenance == MADE]].mean(axis=1)
        self.assertLess(np.linalg.norm(made - centre[0], axis=1).max(), 6 + 6)
        inside = np.linalg.norm(less.vertices[less.faces].mean(axis=1) - centre[0], axis=1) < 4
        self.assertTrue((less.provenance[inside] == MADE).all())
        # what is called measured is a triangle of the raw scan, to the bit
        raw = {tuple(map(tuple, t)) for t in open_ball.vertices[open_ball.faces]}
        half = Reduce(percent=90).apply(patched, Context()).mesh
        measured = half.vertices[half.faces[half.provenance == MEASURED]]
        self.assertGreater(len(measured), 100)
        self.assertTrue(all(tuple(map(tuple, t)) in raw for t in measured))

    def test_tiny_open_and_broken_meshes(self) -> None:
        tetra = Mesh(np.eye(4, 3) * 9, [[0, 2, 1], [0, 1, 3], [1, 2, 3], [2, 0, 3]])
        self.assertEqual(len(Reduce(triangles=4).apply(tetra, Context()).mesh.faces), 4)
        record = Reduce().record(tetra, Progress())
        self.assertEqual((record.most, record.fewest), (4, 4))
        self.assertEqual(len(record.level(1).faces), 4)
        empty = Mesh(np.zeros((0, 3)), np.zeros((0, 3), int))
        self.assertIs(Reduce(percent=5, max_deviation_mm=1).apply(empty, Context()).mesh, empty)
        fan = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [0, 0, -1]], [[0, 1, 2], [0, 1, 3], [0, 1, 4]])
        self.assertIs(Reduce(max_deviation_mm=1).apply(fan, Context()).mesh, fan)
        ball = specimens.sphere(50.0, 10).mesh
        with self.assertRaises(BadInput):  # what is to be held is nowhere to be found
            Reduce(max_deviation_mm=1, hold=Region.of(ball, np.arange(4))).apply(fan, Context())


class CommandLine(unittest.TestCase):
    def test_budgets_of_a_run(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            scan = Path(folder) / "ring.ply"
            ring = noisy(specimens.torus(80.0, 200).mesh, 0.01)
            write_mesh(ring, scan)

            def run(*options: str) -> tuple[int, dict]:
                out = str(Path(folder) / "out")
                result = CliRunner().invoke(cli, ["run", "print-solid", str(scan), "--out", out, "--json", *options])
                return result.exit_code, json.loads(result.stdout)["results"][0]

            code, facts = run("--max-deviation", "0.2", "--format", "ply", "--provenance")
            self.assertEqual((code, facts["ready"]), (0, True))
            self.assertLess(facts["triangles"], 0.3 * len(ring.faces))
            self.assertLessEqual(facts["steps"][-1]["deviation_mm"], 0.2)
            self.assertLess(facts["made_share"], 1e-9)
            code, facts = run("--max-deviation", "0.02", "--triangles", "100")
            self.assertEqual((code, facts["ready"]), (1, False))
            self.assertIn("100", " ".join(facts["reasons"]))
            result = CliRunner().invoke(
                cli, ["run", "print-solid", str(scan), "--out", folder, "--format", "stl", "--provenance"]
            )
            self.assertNotEqual(result.exit_code, 0)


if __name__ == "__main__":
    unittest.main()


class OnABase(unittest.TestCase):
    def test_a_flat_cap_of_slivers_gives_its_triangles_up(self) -> None:
        """A cap is closed by long slivers from rim to rim; they must not keep what the rest of the surface needs."""
        ball = specimens.sphere(60.0, 70).mesh
        noise = 0.02 * np.random.default_rng(0).normal(size=(len(ball.vertices), 1))
        rough = ball.moved(ball.vertices * (1 + noise * 0.05))
        half = StraightSnip(normal=(0.0, 0.0, 1.0), offset=0.3, close=True).apply(rough, Context()).mesh
        self.assertEqual(half.edges.open, 0)
        low = half.box[0, 2] if half.box[1, 2] > 20 else half.box[1, 2]
        for count in (3000, 1500):
            reduced = Reduce(triangles=count).apply(half, Context()).mesh
            cap = (np.abs(reduced.vertices[reduced.faces][:, :, 2] - low) < 0.01).all(axis=1)
            self.assertLess(cap.mean(), 0.12, count)
            self.assertLess(compare(reduced, half, 20_000)[0].max, 0.25, count)
