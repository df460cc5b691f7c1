"""Closest points against brute force; deviations that are known."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tests import specimens
from tests.part_pieces import noisy
from tests.test_mesh import random_mesh
from tinsnip.cli import cli
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.progress import Progress
from tinsnip.space.solids import box_solid
from tinsnip.space.tree import closest_points
from tinsnip.survey.deviation import compare, deviation_from_reference, share_within, triangles_outside
from tinsnip.survey.outside import find_places_outside, outside_findings
from tinsnip.treat import Context, Reduce


def by_force(mesh: Mesh, point: np.ndarray) -> float:
    """Distance by minimising over a fine lattice of each triangle, then over its edges and plane."""
    a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
    best = np.inf
    for p, q in ((a, b), (b, c), (c, a)):
        d = q - p
        t = np.clip(((point - p) * d).sum(axis=1) / np.maximum((d * d).sum(axis=1), 1e-300), 0, 1)
        best = min(best, np.linalg.norm(p + t[:, None] * d - point, axis=1).min())
    normal = np.cross(b - a, c - a)
    area = np.linalg.norm(normal, axis=1)
    ok = area > 0
    unit = normal[ok] / area[ok][:, None]
    height = ((point - a[ok]) * unit).sum(axis=1)
    foot = point - height[:, None] * unit
    inside = np.ones(ok.sum(), dtype=bool)
    for p, q in ((a[ok], b[ok]), (b[ok], c[ok]), (c[ok], a[ok])):
        inside &= (np.cross(q - p, foot - p) * unit).sum(axis=1) >= 0
    return min(best, np.abs(height[inside]).min(initial=np.inf))


class Distances(unittest.TestCase):
    def test_closest_against_brute_force(self) -> None:
        rng = np.random.default_rng(0)
        meshes = [random_mesh(rng, 40, n) for n in (1, 3, 4, 5, 17, 200)]
        meshes.append(specimens.bored_box(3.0, 40).mesh)
        for mesh in meshes:
            points = rng.normal(0.5, 1.0, (25, 3))
            distance, triangle = closest_points(mesh.tree, points, Progress().state)
            for point, found, t in zip(points, distance, triangle, strict=True):
                self.assertAlmostEqual(found, by_force(mesh, point), places=10)
                own = Mesh(mesh.vertices, mesh.faces[t : t + 1])
                self.assertAlmostEqual(found, by_force(own, point), places=10)

    def test_known_deviations(self) -> None:
        ball = specimens.sphere(50.0, 80).mesh
        there, back = compare(ball, ball, 20_000)
        self.assertLess(max(there.max, back.max), 1e-12)
        shifted = ball.moved(ball.vertices * 1.02)
        for d in compare(ball, shifted, 20_000):
            self.assertAlmostEqual(d.mean, 0.5, delta=0.005)
            self.assertAlmostEqual(d.max, 0.5, delta=0.01)
        # what is missing on one side shows one way only
        half = Mesh(ball.vertices, ball.faces[ball.vertices[ball.faces][..., 2].min(axis=1) > 0])
        there, back = compare(half, ball, 20_000)
        self.assertLess(there.max, 1e-12)
        self.assertGreater(back.max, 20)
        with self.assertRaises(BadInput):
            compare(ball, Mesh(np.zeros((0, 3)), np.zeros((0, 3), int)))

    def test_command_line(self) -> None:
        ring = specimens.torus(80.0, 120)
        less = Reduce(percent=10).apply(ring.mesh, Context()).mesh
        with tempfile.TemporaryDirectory() as folder:
            one, two = Path(folder) / "one.stl", Path(folder) / "two.ply"
            write_mesh(ring.mesh, one)
            write_mesh(less, two)
            result = CliRunner().invoke(cli, ["compare", str(two), str(one), "--json"])
            facts = json.loads(result.stdout)
            true = np.abs(ring.distance(specimens.sample_surface(less, 40_000, np.random.default_rng(0))))
            for way in ("a_to_b", "b_to_a"):
                self.assertLessEqual(facts[way]["mean"], facts[way]["rms"])
                self.assertLessEqual(facts[way]["rms"], facts[way]["max"])
                self.assertLessEqual(facts[way]["p99"], facts[way]["max"])
                self.assertLess(abs(facts[way]["rms"] - np.sqrt((true**2).mean())), 0.05)
            write_mesh(noisy(ring.mesh, np.random.default_rng(0)), rough := Path(folder) / "rough.ply")
            asked = ["compare", str(rough), str(one), "--tolerance", "0.9"]
            said = CliRunner().invoke(cli, asked).stdout
            facts = json.loads(CliRunner().invoke(cli, [*asked, "--json"]).stdout)
            self.assertIn("largest", said)
            self.assertGreater(facts["places_outside"], 10)
            self.assertIn(f"and {facts['places_outside'] - 10} places more", said)
            self.assertTrue(all(abs(one["off_mm"]) > facts["tolerance_mm"] for one in facts["outside"]))


class Reference(unittest.TestCase):
    def test_a_whole_part_is_measured_against_another_surface(self) -> None:
        """A box and one grown by a tenth on every side: counted on points of our own, and by area."""
        small, large = (Mesh(*box_solid(np.array(s))) for s in ((20.0, 12.0, 8.0), (20.2, 12.2, 8.2)))
        found = deviation_from_reference(large, small, Progress())
        corners = np.abs(np.abs(large.vertices) - np.array([10.1, 6.1, 4.1])).max() < 1e-9
        self.assertTrue(corners)
        # a corner lies a tenth off along each of three ways, the middle of a face a tenth off along one
        self.assertAlmostEqual(found.overall.max, 0.1 * np.sqrt(3), places=6)
        inner = np.abs(found.places.vertices) < np.array([9.9, 5.9, 3.9])
        flat = inner.sum(axis=1) == 2
        np.testing.assert_allclose(found.signed[flat], 0.1, atol=1e-6)
        self.assertTrue((found.signed > 0).all())
        back = deviation_from_reference(small, large, Progress())
        np.testing.assert_allclose(back.signed, -0.1, atol=1e-6)
        self.assertEqual(share_within(back, 0.11), 1.0)
        self.assertEqual(share_within(back, 0.09), 0.0)
        self.assertTrue(triangles_outside(back, 0.09).all() and not triangles_outside(back, 0.11).any())
        inside = share_within(found, 0.101)
        self.assertTrue(0.7 < inside < 1.0)
        with self.assertRaisesRegex(BadInput, "no triangles"):
            deviation_from_reference(small, Mesh(np.zeros((0, 3)), np.zeros((0, 3), dtype=int)), Progress())

    def test_the_places_outside_what_is_allowed_are_told_one_by_one(self) -> None:
        """Three dents and bumps pressed into a ball: counted by a search over vertices that share an edge."""
        ball = specimens.sphere(40.0, 60).mesh
        ways = ball.vertices / np.linalg.norm(ball.vertices, axis=1)[:, None]
        pushed = np.zeros(len(ways))
        for way, far, wide in (([1, 0, 0], 0.8, 0.3), ([0, 1, 0.2], -0.5, 0.2), ([0, -0.3, 1], 0.3, 0.4)):
            apart = np.linalg.norm(ways - np.array(way) / np.linalg.norm(way), axis=1)
            pushed += far * np.exp(-((apart / wide) ** 2))
        found = deviation_from_reference(Mesh(ball.vertices + ways * pushed[:, None], ball.faces), ball, Progress())
        for allowed in (0.05, 0.2, 0.4, 0.6, 1.0):
            places, count = find_places_outside(found, allowed)
            far = np.abs(found.signed[: len(found.mesh.vertices)]) > allowed
            outside = far[found.mesh.faces].any(axis=1)
            edges = np.sort(found.mesh.faces[outside][:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
            _, number = np.unique(edges, axis=0, return_inverse=True)
            expected = 0
            if outside.any():
                link = coo_matrix((np.ones(len(number)), (np.repeat(np.arange(outside.sum()), 3), number.ravel())))
                expected = connected_components(link @ link.T)[0]
            self.assertEqual((count, len(places)), (expected, expected))
            np.testing.assert_array_equal(
                np.sort(np.concatenate([[], *(p.triangles for p in places)])), np.flatnonzero(outside)
            )
            worst = [abs(p.off_mm) for p in places]
            self.assertEqual(worst, sorted(worst, reverse=True))
            self.assertTrue(all(w > allowed for w in worst))
            areas = [triangle_areas(found.mesh.vertices, found.mesh.faces[p.triangles]).sum() for p in places]
            np.testing.assert_allclose([p.area_mm2 for p in places], areas)
            self.assertEqual(len(outside_findings(found, allowed)), expected)
        told = [p.told for p in find_places_outside(found, 0.4)[0]]
        self.assertEqual([text.split()[2] for text in told], ["outward", "inward"])
        np.testing.assert_allclose([float(text.split()[0]) for text in told], [0.8, 0.5], rtol=0.01)


if __name__ == "__main__":
    unittest.main()
