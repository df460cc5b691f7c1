"""Choosing a level: the search within a deviation, sizes of files, and reducing round tangles."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.test_mesh import random_mesh
from tinsnip.formats import FORMATS, write_mesh
from tinsnip.mesh import SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.halfedges import fans_of
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.survey.deviation import largest_deviation
from tinsnip.survey.tangles import tangles_of
from tinsnip.treat import Context, Reduce
from tinsnip.treat.reduce.curve import Curve, CurvePoint
from tinsnip.treat.reduce.levelsearch import LevelSearch
from tinsnip.treat.reduce.sheets import cut_into_sheets


def power_curve(most: int, scale: float, optimism: float = 1.0) -> tuple[Curve, object]:
    """A curve that falls with the triangles as curves do, and the truth that it was sampled from, a little short."""

    def true(triangles: float) -> float:
        return scale * (most / triangles - 1.0)

    counts = np.geomspace(0.4 * most, 300, 13).astype(int)
    points = [CurvePoint(most, 0.0, 0.0)]
    points += [CurvePoint(int(n), optimism * true(n), 0.5 * optimism * true(n)) for n in counts]
    return Curve(tuple(points)), true


class Searches(unittest.TestCase):
    def run_search(self, search: LevelSearch, true: object) -> list[int]:
        asked = []
        while search.next is not None:
            asked.append(search.next)
            search.tell(true(search.next))
            self.assertLess(len(asked), 60)
        return asked

    def test_what_is_found_keeps_to_the_limit_and_is_near_the_coarsest(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(200):
            most = int(10 ** rng.uniform(3.5, 7))
            scale = 10 ** rng.uniform(-4, 2)
            optimism = float(rng.uniform(0.3, 1.0))
            curve, true = power_curve(most, scale, optimism)
            limit = true(10 ** rng.uniform(np.log10(400), np.log10(0.5 * most)))
            search = LevelSearch(curve, limit, 300, most)
            asked = self.run_search(search, true)
            self.assertIsNotNone(search.best)
            self.assertLessEqual(true(search.best), limit)
            self.assertEqual(len(asked), len(set(asked)))
            coarsest = most / (limit / scale + 1.0)  # by the truth
            self.assertLess(search.best, 2.2 * coarsest + 8)
            if optimism > 0.9:
                self.assertLess(search.best, 1.5 * coarsest + 8)

    def test_ragged_truths_end_and_never_pass_the_limit(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(200):
            most = int(10 ** rng.uniform(3, 6))
            curve, smooth = power_curve(most, 0.01)
            noise = {}

            def true(n: int, smooth=smooth, noise=noise) -> float:
                return smooth(n) * noise.setdefault(n, float(rng.lognormal(0.0, 0.8)))

            limit = smooth(10 ** rng.uniform(2.6, np.log10(most)))
            search = LevelSearch(curve, limit, 300, most)
            self.run_search(search, true)
            if search.best is not None:
                self.assertLessEqual(true(search.best), limit)
                self.assertTrue(300 <= search.best < most)

    def test_nothing_keeps_to_the_limit(self) -> None:
        curve, _ = power_curve(50_000, 1.0)
        search = LevelSearch(curve, 1e-9, 300, 50_000)
        self.run_search(search, lambda n: 1.0)
        self.assertIsNone(search.best)
        # fewer triangles than wanted are never tried
        search = LevelSearch(curve, 1e9, 7000, 50_000)
        self.assertEqual(self.run_search(search, lambda n: 0.0), [7000])
        self.assertIsNone(LevelSearch(curve, 1e9, 50_000, 50_000).next)

    def test_the_curve_is_read_both_ways(self) -> None:
        curve, _ = power_curve(80_000, 0.02)
        for before, after in zip(curve.points[1:], curve.points[2:], strict=False):
            for t in (0.1, 0.5, 0.9):
                largest = before.largest + t * (after.largest - before.largest)
                count = curve.triangles_for(largest)
                self.assertTrue(after.triangles <= count <= before.triangles)
                self.assertAlmostEqual(curve.largest_at(count), largest, delta=0.02 * largest)
        self.assertEqual(curve.largest_at(80_000), 0.0)
        self.assertEqual(curve.triangles_for(1e9), curve.points[-1].triangles)


class FileSizes(unittest.TestCase):
    def test_predictions_against_files(self) -> None:
        """Exact where the format's records have one length; close for text and for what is packed."""
        rng = np.random.default_rng(0)
        for size, n in ((30.0, 60), (0.2, 200), (4000.0, 120)):
            mesh = specimens.torus(size, n).mesh
            mesh = specimens.welded(mesh.vertices + rng.normal(0, 1e-4 * size, mesh.vertices.shape), mesh.faces)
            shade = rng.integers(0, 255, (len(mesh.vertices), 3)).astype(np.uint8)
            coloured = mesh.with_attribute("colour", Attribute(Domain.VERTEX, shade))
            for scan in (mesh, coloured):
                with tempfile.TemporaryDirectory() as folder:
                    for name, form in FORMATS.items():
                        path = Path(folder) / f"ring.{name}"
                        write_mesh(scan, path)
                        written, told = path.stat().st_size, form.size_for(scan)
                        if name in ("stl", "ply", "glb"):
                            self.assertAlmostEqual(told, written, delta=600)
                        else:
                            self.assertAlmostEqual(told / written, 1.0, delta=0.2, msg=name)

    def test_as_many_triangles_as_fit(self) -> None:
        rng = np.random.default_rng(2)
        for form in FORMATS.values():
            for _ in range(60):
                size, share = 10 ** rng.uniform(2, 9), float(rng.uniform(0.4, 0.7))
                most = int(10 ** rng.uniform(2, 7))
                count = form.triangles_within(size, 10, most, share)
                self.assertTrue(10 <= count <= most)
                fits = [form.size_of(n, round(n * share)) <= size for n in (count, count + 1)]
                self.assertTrue(fits[0] or count == 10)
                self.assertTrue(not fits[1] or count == most)


def tangled(mesh: Mesh, rng: np.random.Generator, number: int = 8) -> Mesh:
    """A mesh with doubled, turned, thrown-in and repeating triangles, and with far vertices made one."""
    faces = mesh.faces.copy()
    turned = rng.integers(0, len(faces), number)
    faces[turned] = faces[turned][:, ::-1]
    fins = np.column_stack(
        [faces[rng.integers(0, len(faces), number), :2], rng.integers(0, len(mesh.vertices), number)]
    )
    again = faces[rng.integers(0, len(faces), number)]
    lines = again[: number // 2][:, [0, 0, 1]]
    faces = np.concatenate([faces, again, fins, lines]).astype(np.int32)
    for a, b in rng.integers(0, len(mesh.vertices), (number, 2)):
        faces[faces == a] = b
    return Mesh(mesh.vertices, faces)


class RoundTangles(unittest.TestCase):
    def facts(self, mesh: Mesh) -> dict[str, int]:
        found = tangles_of(mesh)
        return {
            "open": mesh.edges.open,
            "tangled": mesh.edges.tangled,
            "flipped": mesh.edges.flipped,
            "pinched": found.pinched_vertices,
            "doubled": found.duplicates,
        }

    def test_tangles_are_neither_more_nor_fewer(self) -> None:
        for seed, (make, size) in enumerate(
            ((specimens.torus, 80.0), (specimens.sphere, 0.4), (specimens.bored_box, 9000.0))
        ):
            rng = np.random.default_rng(seed)
            mesh = tangled(make(size, 100).mesh, rng)
            before = self.facts(mesh)
            self.assertGreater(min(before.values()), 0)
            for percent in (60, 25, 12):
                reduced = Reduce(percent=percent).apply(mesh, Context()).mesh
                self.assertEqual(self.facts(reduced), before)
                self.assertLessEqual(len(reduced.faces), len(mesh.faces) * percent / 100 + 1)
                if percent == 60:
                    off = largest_deviation(reduced, mesh, Progress()).max
                    self.assertLess(off, 0.01 * mesh.diagonal)

    def test_records_tell_the_same_as_reductions(self) -> None:
        rng = np.random.default_rng(5)
        mesh = tangled(specimens.torus(60.0, 90).mesh, rng, 5)
        shade = rng.integers(0, 255, (len(mesh.vertices), 3)).astype(np.uint8)
        mesh = mesh.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        options = Reduce(hold=Region.of(mesh, np.arange(100, 140)))
        record = options.record(mesh, Progress())
        for percent in (80, 40, 20):
            treatment = options.model_copy(update={"percent": float(percent)})
            direct = treatment.apply(mesh, Context()).mesh
            level = treatment.outcome_of(mesh, record.level(treatment.target(mesh))).mesh
            self.assertTrue(np.array_equal(direct.faces, level.faces))
            self.assertTrue(np.array_equal(direct.vertices, level.vertices))
            self.assertTrue(np.array_equal(direct.provenance, level.provenance))
            self.assertTrue(np.array_equal(direct.colour, level.colour))
            # what was to be held is there to the bit, and a vertex that has not moved has its own colour
            held = specimens.triangle_set(mesh.vertices, mesh.faces[100:140])
            self.assertLessEqual(held, specimens.triangle_set(direct.vertices, direct.faces))
            colour_at = {v.tobytes(): c.tobytes() for v, c in zip(mesh.vertices, shade, strict=True)}
            known = [v.tobytes() in colour_at for v in direct.vertices]
            self.assertGreater(np.mean(known), 0.05)
            for v, c in zip(direct.vertices[known], direct.colour[known], strict=True):
                self.assertEqual(colour_at[v.tobytes()], c.tobytes())
            self.assertTrue((direct.provenance <= SHIFTED).all())

    def test_a_record_that_goes_on_from_a_level_has_the_same_coarser_ones(self) -> None:
        rng = np.random.default_rng(6)
        ring = specimens.torus(60.0, 120).mesh
        noisy = ring.moved(ring.vertices + rng.normal(0, 0.02, ring.vertices.shape))
        for mesh in (noisy, tangled(specimens.bored_box(0.3, 60).mesh, rng)):
            record = Reduce().record(mesh, Progress())
            rest = record
            for count in np.geomspace(record.most, record.fewest, 9).astype(int):
                level, rest = rest.onwards(int(count))
                self.assertEqual(rest.fewest, record.fewest)
                expected = record.level(int(count))
                for name in ("vertices", "faces", "source", "parent"):
                    self.assertTrue(np.array_equal(getattr(level, name), getattr(expected, name)), name)
            again = rest.level(record.fewest)
            self.assertTrue(np.array_equal(again.faces, record.level(record.fewest).faces))

    def test_sheets_are_clean_and_fit_together_again(self) -> None:
        rng = np.random.default_rng(9)
        meshes = [tangled(specimens.sphere(20.0, 20).mesh, rng), *(random_mesh(rng, 40, n) for n in (30, 90, 400))]
        for mesh in meshes:
            used = np.unique(mesh.faces)
            mesh = Mesh(mesh.vertices[used], np.searchsorted(used, mesh.faces))
            sheets = cut_into_sheets(mesh)
            corner = sheets.faces.ravel()
            paired = np.flatnonzero(sheets.twins >= 0)
            self.assertTrue(np.array_equal(sheets.twins[sheets.twins[paired]], paired))
            following = paired - paired % 3 + (paired + 1) % 3
            self.assertTrue(np.array_equal(corner[following], corner[sheets.twins[paired]]))
            fans = fans_of(sheets.faces, sheets.twins, len(sheets.vertices))
            self.assertEqual(fans.tolist(), [1] * len(fans))
            self.assertTrue(np.array_equal(sheets.origin[sheets.faces], mesh.faces[sheets.triangle]))
            self.assertTrue(np.array_equal(sheets.vertices, mesh.vertices[sheets.origin]))
            lines = [len(set(f)) < 3 for f in mesh.faces.tolist()]
            self.assertTrue(
                np.array_equal(np.setdiff1d(np.arange(len(mesh.faces)), sheets.triangle), np.flatnonzero(lines))
            )

    def test_nothing_but_tangles(self) -> None:
        rng = np.random.default_rng(3)
        for vertices, triangles in ((6, 40), (30, 200), (12, 12)):
            mesh = random_mesh(rng, vertices, triangles)
            outcome = Reduce(percent=30).apply(mesh, Context())
            self.assertEqual(self.facts(outcome.mesh)["tangled"], self.facts(mesh)["tangled"])
            self.assertIn("allows no fewer", outcome.text)


if __name__ == "__main__":
    unittest.main()
