"""Small geometry that much rests on: polygons, winding numbers, samples, stand-ins, curves on the screen."""

import unittest
from itertools import pairwise

import numpy as np

from tests import specimens
from tests.test_mesh import random_mesh
from tests.test_shapes import put, sheet, together, tube
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import (
    areas_by_kind,
    edge_spread,
    face_vectors,
    spread_by_area,
    triangle_areas,
    triangles_at,
    vertex_normals,
)
from tinsnip.mesh.proxy import light_proxy
from tinsnip.mesh.subsets import compact, keep_triangles, reorder
from tinsnip.progress import Progress
from tinsnip.space.facets import triangulate_polygons
from tinsnip.space.morton import morton_order
from tinsnip.space.picking import first_hit
from tinsnip.space.polygons import plane_axes, triangulate_flat
from tinsnip.space.tree import closest_points
from tinsnip.space.winding import winding_numbers


def star(rng: np.random.Generator, n: int, radius: float, centre: np.ndarray) -> np.ndarray:
    """A ragged ring round a point that crosses itself nowhere, anticlockwise."""
    while True:
        angle = np.sort(rng.uniform(0, 2 * np.pi, n))
        gaps = np.diff(angle, append=angle[0] + 2 * np.pi)
        if gaps.min() > 1e-3 and gaps.max() < 3.0:
            break
    far = radius * rng.uniform(0.25, 1.0, n)
    return centre + far[:, None] * np.column_stack([np.cos(angle), np.sin(angle)])


def area_of(ring: np.ndarray) -> float:
    x, y = ring[:, 0], ring[:, 1]
    return 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


class Polygons(unittest.TestCase):
    def test_regions_with_holes_and_islands(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(40):
            unit = 10 ** rng.uniform(-3, 4)
            outer = star(rng, int(rng.integers(6, 120)), 10.0, np.zeros(2)) * 3
            rings = [outer if rng.integers(2) else outer[::-1]]
            # squares along the line from the middle out, where the star is never narrower than a quarter
            square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]], dtype=float)
            rings.append(square * 2.0)
            rings.append(square * 1.0)
            points = np.concatenate(rings) * unit
            starts = np.cumsum([0] + [len(r) for r in rings])
            numbers = [np.arange(a, b) for a, b in pairwise(starts)]
            if np.linalg.norm(outer, axis=1).min() < 3.0:
                numbers = numbers[:1]
            triangles = triangulate_flat(numbers, points)
            self.assertIsNotNone(triangles)
            areas = np.array([area_of(points[t]) for t in triangles])
            self.assertTrue((areas > -1e-9 * unit**2).all())
            expected = abs(area_of(points[numbers[0]])) - (16 - 4) * unit**2 * (len(numbers) == 3)
            self.assertAlmostEqual(areas.sum() / expected, 1.0, places=9)
            # every point of the rings is used, each side of a ring once, and nothing but those is open
            self.assertEqual(set(triangles.ravel().tolist()), set(np.concatenate(numbers).tolist()))
            edges = {(int(a), int(b)) for t in triangles for a, b in zip(t, np.roll(t, -1), strict=True)}
            lone = {tuple(sorted(e)) for e in edges if (e[1], e[0]) not in edges}
            sides = {tuple(sorted((int(a), int(b)))) for n in numbers for a, b in zip(n, np.roll(n, -1), strict=True)}
            self.assertEqual(lone, sides)

    def test_polygons_of_files_keep_area_and_side(self) -> None:
        rng = np.random.default_rng(1)
        corners, start, expected, points = [], [0], [], []
        for _ in range(200):
            n = int(rng.choice([3, 4, 5, 9, 30]))
            flat = star(rng, n, 1.0, rng.uniform(-5, 5, 2))
            normal = rng.normal(size=3)
            axes = np.column_stack(plane_axes(normal / np.linalg.norm(normal)))
            self.assertTrue(np.allclose(axes.T @ axes, np.eye(2)))
            expected.append(area_of(flat) * normal / np.linalg.norm(normal))
            corners.append(np.arange(n) + sum(map(len, points)))
            points.append(flat @ axes.T)
            start.append(start[-1] + n)
        vertices = np.concatenate(points)
        faces, polygon, source = triangulate_polygons(vertices, np.array(start), np.concatenate(corners))
        self.assertEqual(np.bincount(polygon).tolist(), (np.diff(start) - 2).tolist())
        self.assertTrue(np.array_equal(np.concatenate(corners)[source].reshape(-1, 3), faces))
        vector = np.zeros((200, 3))
        np.add.at(vector, polygon, face_vectors(vertices, faces))
        self.assertLess(np.abs(vector - expected).max(), 1e-9)
        absolute = np.bincount(polygon, triangle_areas(vertices, faces))
        self.assertLess(np.abs(absolute - np.linalg.norm(expected, axis=1)).max(), 1e-9)


class Measures(unittest.TestCase):
    def test_winding_numbers(self) -> None:
        rng = np.random.default_rng(2)
        for make in (specimens.sphere, specimens.torus, specimens.bored_box):
            specimen = make(20.0, 40)
            mesh = together(specimen.mesh, specimens.sphere(300.0, 6).mesh)  # another shell does not count
            points = rng.uniform(*(1.2 * specimen.mesh.box), (80, 3))
            far = np.abs(specimen.distance(points)) > 0.3
            own = mesh.faces[mesh.shells.label == mesh.shells.label[0]]
            turns = winding_numbers(mesh.vertices, own, points[far])
            self.assertLess(np.abs(turns - (specimen.distance(points[far]) < 0)).max(), 1e-6)
            many = rng.uniform(*(1.2 * specimen.mesh.box), (6000, 3))  # so many that far parts stand in as dipoles
            many = many[np.abs(specimen.distance(many)) > 0.3]
            turns = winding_numbers(mesh.vertices, own, many)
            self.assertLess(np.abs(turns - (specimen.distance(many) < 0)).max(), 0.2)
        # half a sphere, seen from its middle, is half of all there is to see
        ball = specimens.sphere(20.0, 41).mesh
        upper = keep_triangles(ball, ball.vertices[ball.faces][..., 2].mean(axis=1) > 0)
        turns = float(winding_numbers(upper.vertices, upper.faces, np.zeros((1, 3)))[0])
        self.assertAlmostEqual(turns, 0.5, delta=0.02)

    def test_areas_normals_and_samples(self) -> None:
        rng = np.random.default_rng(3)
        mesh = specimens.torus(80.0, 200).mesh
        areas = triangle_areas(mesh.vertices, mesh.faces)
        self.assertAlmostEqual(areas.sum(), mesh.area, delta=1e-9 * mesh.area)
        kind = rng.integers(0, 3, len(areas)).astype(np.uint8)
        by_kind = areas_by_kind(mesh.vertices, mesh.faces, kind, 3)
        self.assertTrue(np.allclose(by_kind, np.bincount(kind, areas)))
        ring = 0.34 * 80.0
        around = np.hypot(mesh.vertices[:, 0], mesh.vertices[:, 1])
        centre = np.column_stack([mesh.vertices[:, :2] * (ring / around)[:, None], 0 * around])
        expected = (mesh.vertices - centre) / np.linalg.norm(mesh.vertices - centre, axis=1)[:, None]
        cosine = (vertex_normals(mesh.vertices, mesh.faces) * expected).sum(axis=1)
        self.assertGreater(cosine.min(), 0.999)
        # samples lie on the surface, as many to an area anywhere
        points, _ = spread_by_area(mesh.vertices, mesh.faces, 40_000)
        self.assertTrue(np.array_equal(points, spread_by_area(mesh.vertices, mesh.faces, 40_000)[0]))
        distance = closest_points(mesh.tree, points, Progress().state)[0]
        self.assertLess(distance.max(), 1e-9)
        outside = np.hypot(points[:, 0], points[:, 1]) > ring
        share = areas[np.hypot(*mesh.vertices[mesh.faces].mean(axis=1)[:, :2].T) > ring].sum() / areas.sum()
        self.assertAlmostEqual(outside.mean(), share, delta=0.01)
        flags = rng.random(len(mesh.vertices)) < 0.01
        self.assertTrue(np.array_equal(triangles_at(mesh.faces, flags), flags[mesh.faces].any(axis=1)))
        edge, spread = edge_spread(*self.arrays(sheet(10.0, 101)))
        self.assertAlmostEqual(edge, 0.1 * (2 + np.sqrt(2)) / 3, delta=0.002)
        self.assertLess(spread, 0.2)

    def arrays(self, mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
        return mesh.vertices, mesh.faces

    def test_loose_vertices_and_order(self) -> None:
        rng = np.random.default_rng(4)
        for mesh in (random_mesh(rng, 300, 120), specimens.torus(5.0, 30).mesh):
            less = compact(mesh)
            self.assertEqual(len(less.vertices), len(np.unique(mesh.faces)))
            self.assertTrue(np.array_equal(less.vertices[less.faces], mesh.vertices[mesh.faces]))
            self.assertIs(compact(less), less)
        # points that follow one another in Morton order lie near one another
        points = rng.random((20_000, 3))
        order = morton_order(points)
        self.assertEqual(sorted(order.tolist()), list(range(20_000)))
        steps = np.linalg.norm(np.diff(points[order], axis=0), axis=1)
        self.assertLess(np.median(steps), 0.05)
        small = specimens.sphere(5.0, 10).mesh
        self.assertIs(reorder(small), small)

    def test_picking_takes_the_nearest(self) -> None:
        layers = together(*(put(sheet(10.0, 6), (0, 0, z)) for z in (0.0, 3.0, 7.0)))
        rng = np.random.default_rng(5)
        for _ in range(50):
            x, y = rng.uniform(-4.5, 4.5, 2)
            triangle, point = first_hit(layers.vertices, layers.faces, np.array([x, y, 99.0]), np.array([0, 0, -1.0]))
            self.assertTrue(np.allclose(point, [x, y, 7.0]))
            self.assertAlmostEqual(layers.vertices[layers.faces[triangle]][:, 2].mean(), 7.0)
            _, point = first_hit(layers.vertices, layers.faces, np.array([x, y, -99.0]), np.array([0, 0, 1.0]))
            self.assertTrue(np.allclose(point, [x, y, 0.0]))
        self.assertIsNone(first_hit(layers.vertices, layers.faces, np.array([50.0, 0, 9]), np.array([0, 0, -1.0])))


class StandIns(unittest.TestCase):
    def test_a_stand_in_keeps_the_outline(self) -> None:
        for mesh in (specimens.torus(80.0, 500).mesh, specimens.bored_box(2000.0, 400).mesh, tube(0.2, 1.0, 300, 300)):
            self.assertIsNone(light_proxy(mesh.vertices, mesh.faces, len(mesh.faces)))
            proxy = light_proxy(mesh.vertices, mesh.faces, 1000)
            self.assertLess(len(proxy.faces), 0.9 * len(mesh.faces) + 1)
            places = mesh.vertices[proxy.vertices]
            self.assertEqual(len(np.unique(proxy.vertices)), len(proxy.vertices))
            self.assertEqual(len(np.unique(proxy.faces)), len(proxy.vertices))
            self.assertTrue((proxy.faces[:, 0] != proxy.faces[:, 1]).all())
            cell = mesh.size.max() / 170
            light = Mesh(places, proxy.faces)
            self.assertLess(np.abs(light.box - mesh.box).max(), 2 * cell)
            # no part of the surface is farther from it than the cells it was made with, nor it from the surface
            samples, _ = spread_by_area(mesh.vertices, mesh.faces, 5000)
            self.assertLess(closest_points(light.tree, samples, Progress().state)[0].max(), 2 * cell)
            samples, _ = spread_by_area(places, proxy.faces, 5000)
            self.assertLess(closest_points(mesh.tree, samples, Progress().state)[0].max(), 2 * cell)
            # each of its triangles knows the one it was: they are neighbours, and look the same way as a rule
            own = mesh.vertices[mesh.faces[proxy.source]].mean(axis=1)
            self.assertLess(np.linalg.norm(own - places[proxy.faces].mean(axis=1), axis=1).max(), 2 * cell)
            a, b = face_vectors(places, proxy.faces), face_vectors(mesh.vertices, mesh.faces[proxy.source])
            self.assertGreater(((a * b).sum(axis=1) > 0).mean(), 0.95)

    def test_a_stand_in_keeps_the_sides_of_a_thin_wall_apart(self) -> None:
        """What one looks at is told by the normals: a wall far thinner than a cell still has two sides."""
        ring = specimens.torus(80.0, 500).mesh
        wall = Mesh(ring.vertices * (1.0, 1.0, 1e-3), ring.faces)
        normals = vertex_normals(wall.vertices, wall.faces)
        proxy = light_proxy(wall.vertices, wall.faces, 1000, normals)
        vertices, faces, sides = wall.vertices[proxy.vertices], proxy.faces, normals[proxy.vertices, 2]
        for way in (-1.0, 1.0):
            whole = (way * normals[wall.faces, 2] > 0).all(axis=1)
            area = way * face_vectors(wall.vertices, wall.faces[whole])[:, 2].sum()
            flat = way * face_vectors(vertices, faces[(way * sides[faces] > 0).all(axis=1)])[:, 2]
            self.assertGreater(flat.sum(), 0.93 * area)
            self.assertGreater(flat[flat > 0].sum(), 0.99 * np.abs(flat).sum())


if __name__ == "__main__":
    unittest.main()
