"""Patches over ragged holes: how far off the true surface, how smooth at the seam, in every style, long and many."""

import unittest
from collections.abc import Callable
from typing import NamedTuple
from unittest.mock import patch

import numpy as np

from tests import specimens
from tests.exact_count import counted_exactly
from tests.seeds import seeds
from tinsnip.mesh import MADE, Attribute, Domain, Mesh
from tinsnip.mesh.measures import face_vectors, vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey import Kind, examine
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat import Context, Patch, Sweep
from tinsnip.treat.kit.patches.excerpts import Excerpt
from tinsnip.words import counted


class Shape(NamedTuple):
    mesh: Mesh
    distance: Callable[[np.ndarray], np.ndarray]
    place: np.ndarray
    extent: float


def over(height: Callable, place: tuple[float, float], count: int = 160) -> Shape:
    """A sheet of 200 mm with a height, and nearly the distance from it."""
    x, y = np.meshgrid(*2 * [np.linspace(-100, 100, count)], indexing="ij")
    points = np.stack([x, y, height(x, y)], -1).reshape(-1, 3)
    mesh = Mesh(points, specimens.grid_faces(count, count, False, False))
    return Shape(mesh, lambda p: p[:, 2] - height(p[:, 0], p[:, 1]), np.array([*place, height(*place)]), 200.0)


def shapes() -> dict[str, Shape]:
    ball, ring = specimens.sphere(200.0, 80), specimens.torus(200.0, 200)
    return {
        "sphere": Shape(ball.mesh, ball.distance, np.array([0, 0, 100.0]), 200.0),
        "torus": Shape(ring.mesh, ring.distance, np.array([100.0, 0, 0]), 64.0),
        "saddle": over(lambda x, y: (x * x - y * y) / 200, (0.0, 0.0)),
        "wavy": over(lambda x, y: 6 * np.sin(x / 20) * np.cos(y / 25), (10.0, 5.0)),
    }


def mean_edge(mesh: Mesh) -> float:
    return float(np.linalg.norm(mesh.vertices[mesh.faces[:, 0]] - mesh.vertices[mesh.faces[:, 1]], axis=1).mean())


def holed(rng: np.random.Generator, mesh: Mesh, place: np.ndarray, radius: float) -> Mesh:
    """A mesh with a ragged hole; its largest shell."""
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    waves = rng.normal(0, 1.5 / radius, (8, 3))
    rough = np.sin(middles @ waves.T + np.arange(8)).mean(axis=1)
    left = keep_triangles(mesh, np.linalg.norm(middles - place, axis=1) > radius * (1 + 0.3 * rough))
    return keep_triangles(left, left.shells.label == np.argmax(left.shells.triangles))


def bends(mesh: Mesh, first: np.ndarray, second: np.ndarray | None = None) -> np.ndarray:
    """Angles in degrees across the edges between triangles of two lots, or within one."""
    normals = face_vectors(mesh.vertices, mesh.faces)
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    half = np.flatnonzero(mesh.twins >= 0)
    f, g = half // 3, mesh.twins[half] // 3
    some = first[f] & (first if second is None else second)[g]
    return np.degrees(np.arccos(np.clip((normals[f[some]] * normals[g[some]]).sum(axis=1), -1, 1)))


def with_islands(rng: np.random.Generator, shape: Shape, radius: float, count: int) -> tuple[Mesh, Mesh]:
    """A mesh with a ragged hole in which some pieces of the surface were seen, and the same without them."""
    middles = shape.mesh.vertices[shape.mesh.faces].mean(axis=1)
    waves = rng.normal(0, 1.5 / radius, (8, 3))
    rough = np.sin(middles @ waves.T + np.arange(8)).mean(axis=1)
    off = middles - shape.place
    keep = np.linalg.norm(off, axis=1) > radius * (1 + 0.3 * rough)
    normal = face_vectors(shape.mesh.vertices, shape.mesh.faces)[np.linalg.norm(off, axis=1).argmin()]
    across = np.cross(normal, [1.0, 0.3, 0.2])
    across /= np.linalg.norm(across)
    both = np.stack([across, np.cross(normal / np.linalg.norm(normal), across)], axis=1)
    flat = off @ both
    island = np.zeros(len(off), dtype=bool)
    for turn in np.arange(count) * 2 * np.pi / count:
        middle = 0.45 * radius * (count > 1) * np.array([np.cos(turn), np.sin(turn)])
        island |= (np.linalg.norm(flat - middle, axis=1) < 0.26 * radius) & (off @ normal > -radius * abs(normal).max())
    island &= ~keep & (np.linalg.norm(off, axis=1) < 1.2 * radius)
    out = keep_triangles(shape.mesh, keep | island)
    big = np.argsort(out.shells.triangles)[-1 - count :]
    out = keep_triangles(out, np.isin(out.shells.label, big))
    bare = keep_triangles(out, out.shells.label == np.argmax(out.shells.triangles))
    return out, bare


class Islands(unittest.TestCase):
    def test_what_lies_free_in_a_hole_is_joined_not_lost(self) -> None:
        every = [(name, shape, count) for name, shape in shapes().items() for count in (1, 3)]
        for seed in seeds(len(every), self.id()):
            name, shape, count = every[seed]
            with self.subTest(seed=seed):
                mesh, bare = with_islands(np.random.default_rng(count), shape, 12 + 0.14 * shape.extent, count)
                self.assertEqual(len(mesh.shells), 1 + count, (name, count))
                found = examine(mesh, crossings=False)
                (hole,) = [f for f in found.openings if f.kind is Kind.HOLE]
                self.assertEqual(hole.text, "hole with " + ("an island" if count == 1 else "3 islands"), name)
                self.assertEqual((found.strays, found.counts()["islands"]), ([], count))
                self.assertIs(Sweep().apply(mesh, Context()).mesh, mesh)
                for fields in ({}, {"flow": 0.0}, {"on_plane": True}, {"triangles": "fewest"}):
                    with self.subTest(shape=name, islands=count, **fields):
                        outcome = Patch(**fields).apply(mesh, Context())
                        after, old = outcome.mesh, len(mesh.faces)
                        self.assertIn(f"joined {counted(count, 'island')}", outcome.text)
                        np.testing.assert_array_equal(after.faces[:old], mesh.faces)
                        np.testing.assert_array_equal(after.vertices[: len(mesh.vertices)], mesh.vertices)
                        self.assertEqual((len(after.shells), after.edges.tangled, after.edges.flipped), (1, 0, 0))
                        self.assertFalse(classify_boundaries(after).is_hole.any())
                        self.assertEqual(outcome.account.crossings, 0)
                        if not fields and count == 3:
                            self.assertEqual(counted_exactly(after.vertices, after.faces), (0, 0))
                # what was seen in it steadies the patch
                off = [
                    np.abs(shape.distance(patched.vertices[len(of.vertices) :])).max()
                    for of, patched in ((of, Patch().apply(of, Context()).mesh) for of in (mesh, bare))
                ]
                self.assertLess(off[0], 1.2 * off[1] + 0.01, name)

    def test_dust_in_a_hole_is_none(self) -> None:
        shape = shapes()["sphere"]
        bare = holed(np.random.default_rng(1), shape.mesh, shape.place, 40.0)
        dust = np.random.default_rng(2).normal(0, 1.0, (30, 1, 3)) * [8, 8, 2] + np.array([0, 0, 97.0])
        corners = dust + np.random.default_rng(3).normal(0, 0.5, (30, 3, 3))
        own = len(bare.vertices) + np.arange(90).reshape(-1, 3)
        mesh = Mesh(np.concatenate([bare.vertices, corners.reshape(-1, 3)]), np.concatenate([bare.faces, own]))
        self.assertEqual(examine(mesh, crossings=False).counts()["islands"], 0)
        ball = specimens.sphere(6.0, 8).mesh  # nor is a ball that hangs in it
        number, places = ball.faces + len(bare.vertices), ball.vertices + np.array([0, 0, 97.0])
        mesh = Mesh(np.concatenate([bare.vertices, places]), np.concatenate([bare.faces, number]))
        self.assertEqual(examine(mesh, crossings=False).counts()["islands"], 0)


class Flowing(unittest.TestCase):
    def test_it_goes_on_from_what_is_round_it(self) -> None:
        for name, shape in shapes().items():
            for seed, share in enumerate((0.05, 0.1, 0.25, 0.4)):
                rng = np.random.default_rng(seed)
                edge, clean = mean_edge(shape.mesh), 0.0
                for noise in (0.0, 0.2):
                    off = rng.normal(0, noise * edge, (len(shape.mesh.vertices), 1))
                    normals = vertex_normals(shape.mesh.vertices, shape.mesh.faces)
                    rough = Mesh(shape.mesh.vertices + off * normals, shape.mesh.faces)
                    mesh = holed(rng, rough, shape.place, share * shape.extent / 2)
                    outcome = Patch(under_mm=0.9 * shape.extent).apply(mesh, Context())
                    result = outcome.mesh
                    with self.subTest(shape=name, share=share, noise=noise, said=outcome.text):
                        self.assertEqual(outcome.account.crossings, 0)
                        made = result.provenance == MADE
                        self.assertTrue((result.faces[: len(mesh.faces)] == mesh.faces).all())
                        self.assertTrue((result.vertices[: len(mesh.vertices)] == mesh.vertices).all())
                        self.assertEqual(len(result.loops), int(classify_boundaries(mesh).is_rim.sum()))
                        far = np.abs(shape.distance(result.vertices[len(mesh.vertices) :])).max(initial=0.0)
                        own = np.percentile(bends(rough, np.ones(len(rough.faces), dtype=bool)), 99)
                        seam = np.percentile(bends(result, made, ~made), 99)
                        self.assertLess(seam, max(10.0, 1.5 * own))
                        if noise == 0:
                            clean = far
                            plane = Patch(under_mm=0.9 * shape.extent, on_plane=True).apply(mesh, Context()).mesh
                            flat = np.abs(shape.distance(plane.vertices[len(mesh.vertices) :])).max(initial=0.0)
                            if share <= 0.25:
                                self.assertLess(far, max(0.01, (0.1 if name == "sphere" else 0.35) * flat))
                            if name == "sphere":
                                self.assertLess(far, 0.01 * flat)
                        else:  # what noise adds is less than the noise itself has at its most
                            # (more where the hole is as wide as half a wave, which noise hides at its rim)
                            hidden = 3 if (name, share) == ("wavy", 0.4) else 1
                            self.assertLess(far, hidden * max(2 * clean, clean + 1.5 * noise * edge))


class Styles(unittest.TestCase):
    def setUp(self) -> None:
        shape = shapes()["sphere"]
        self.mesh = holed(np.random.default_rng(3), shape.mesh, shape.place, 35.0)

    def patched(self, **how: object) -> tuple[Mesh, np.ndarray]:
        """The whole, and the new vertices."""
        result = Patch(**how).apply(self.mesh, Context()).mesh
        self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
        return result, result.vertices[len(self.mesh.vertices) :]

    def test_taut_lies_between_and_rising_rises(self) -> None:
        top = {}
        for flow in (0.0, 0.5, 1.0):
            _, new = self.patched(flow=flow)
            top[flow] = new[:, 2].max()
        rim = self.mesh.vertices[self.mesh.faces.ravel()[self.mesh.loops.loop(0)], 2]
        self.assertLess(top[0.0], rim.max() + 1e-6)
        self.assertGreater(top[0.5], top[0.0] + 1)
        self.assertAlmostEqual(top[1.0], 100.0, delta=0.05)
        for rise in (4.0, -4.0):
            _, new = self.patched(flow=1.0, rise_mm=rise)
            middle = new[np.linalg.norm(new[:, :2], axis=1) < 8, 2].mean()
            self.assertAlmostEqual(middle - 100.0, rise, delta=0.8)

    def test_on_a_plane_it_is_flat_but_for_the_rows_at_the_edge(self) -> None:
        _, new = self.patched(on_plane=True)
        inner = new[np.linalg.norm(new[:, :2], axis=1) < 20]
        self.assertLess(np.linalg.svd(inner - inner.mean(axis=0), compute_uv=False)[2], 1e-3 * len(inner))

    def test_fewest_has_no_vertex_within_and_even_is_as_dense_as_round_it(self) -> None:
        few, new = self.patched(triangles="fewest")
        edges = len(self.mesh.loops.halfedges)
        self.assertEqual((len(new), len(few.faces) - len(self.mesh.faces)), (0, edges - 2))
        even, _ = self.patched()
        made = Mesh(even.vertices, even.faces[len(self.mesh.faces) :])
        self.assertLess(abs(np.log(mean_edge(made) / mean_edge(self.mesh))), np.log(1.35))

    def test_colours_go_on_smoothly_from_the_edge(self) -> None:
        tint = np.round(127.5 + 1.2 * self.mesh.vertices).clip(0, 255).astype(np.uint8)
        mesh = self.mesh.with_attribute("colour", Attribute(Domain.VERTEX, tint))
        result = Patch().apply(mesh, Context()).mesh
        x, y = result.vertices[len(mesh.vertices) :, :2].T
        made = result.colour[len(mesh.vertices) :].astype(float)
        self.assertLess(np.abs(made[:, 0] - (127.5 + 1.2 * x)).max(), 5)
        self.assertLess(np.abs(made[:, 1] - (127.5 + 1.2 * y)).max(), 5)


class Sizes(unittest.TestCase):
    def test_loops_from_four_to_fifty_thousand_edges(self) -> None:
        for edges in (4, 7, 20, 400, 3000, 50_000):
            angle = 2 * np.pi * np.arange(edges) / edges
            ring = np.stack([np.cos(angle) * (1 + 0.2 * np.sin(5 * angle)), np.sin(angle), 0.1 * np.cos(3 * angle)], 1)
            wall, wide = specimens.grid_faces(2, edges, False, True, True), 1 + 8 / edges
            washer = Mesh(100 * np.concatenate([ring, ring * [wide, wide, 1]]), wall)
            outcome = Patch().apply(washer, Context())
            with self.subTest(edges=edges, said=outcome.text):
                result = outcome.mesh
                self.assertEqual((result.edges.open, outcome.account.crossings), (edges, 0))
                self.assertLess(len(result.faces), 60 * edges + 0.2 * min(edges, 3000) ** 2)
                self.assertEqual((result.edges.tangled, result.edges.flipped), (0, 0))

    def test_every_shape_at_random_is_closed_and_crosses_nothing(self) -> None:
        for seed in range(24):
            rng = np.random.default_rng(seed)
            make = (specimens.sphere, specimens.torus, specimens.bored_box)[seed % 3]
            size = (2.0, 200.0, 2000.0)[seed // 3 % 3]
            mesh = make(size, (20, 60, 60)[seed % 3]).mesh
            middles = mesh.vertices[mesh.faces].mean(axis=1)
            for _ in range(4):
                place = middles[rng.integers(len(middles))]
                mesh = holed(rng, mesh, place, size * rng.uniform(0.05, 0.2))
            style = {"flow": float(rng.choice([0, 0.5, 1])), "rise_mm": float(rng.choice([0, 0.01 * size]))}
            outcome = Patch(**style).apply(mesh, Context())
            result = outcome.mesh
            with self.subTest(seed=seed, said=outcome.text):
                if outcome.account.crossings == 0 and result.edges.open == 0:
                    self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                    self.assertEqual(counted_exactly(result.vertices, result.faces), (0, 0))
                else:
                    self.assertTrue("cross" in outcome.text or result.edges.open)


if __name__ == "__main__":
    unittest.main()


class InAPart(unittest.TestCase):
    def test_a_part_of_the_mesh_gives_what_all_of_it_gives(self) -> None:
        ring = specimens.torus(200.0, 240).mesh
        edge = mean_edge(ring)
        went_apart = 0
        for seed in range(6):
            rng = np.random.default_rng(seed)
            mesh = ring.moved(ring.vertices + rng.normal(0, rng.choice([0.02, 0.3]) * edge, ring.vertices.shape))
            for _ in range(3):
                place = mesh.vertices[rng.integers(len(mesh.vertices))]
                mesh = holed(rng, mesh, place, rng.uniform(3, 9) * edge)
            mesh = Mesh(mesh.vertices, mesh.faces[rng.permutation(len(mesh.faces))] if seed % 3 == 0 else mesh.faces)
            for domain, count in ((Domain.VERTEX, len(mesh.vertices)), (Domain.TRIANGLE, len(mesh.faces))):
                mesh = mesh.with_attribute(domain.value, Attribute(domain, rng.integers(0, 255, (count, 3), np.uint8)))
            options = Patch(rise_mm=float(rng.choice([0.0, 40.0])), flow=float(rng.choice([0.0, 1.0])))
            results = []
            for least in (0, 10**9):
                fresh = Mesh(mesh.vertices, mesh.faces, mesh.provenance, mesh.attributes)
                with (
                    patch("tinsnip.treat.kit.patches.excerpts._LEAST", least),
                    patch.object(Excerpt, "put_back", autospec=True, side_effect=Excerpt.put_back) as put_back,
                ):
                    results.append(options.apply(fresh, Context()))
                went_apart += put_back.call_count
            apart, whole = results
            self.assertEqual(apart.text, whole.text)
            for name in ("vertices", "faces", "provenance"):
                self.assertTrue(np.array_equal(getattr(apart.mesh, name), getattr(whole.mesh, name)), (seed, name))
            self.assertEqual(set(apart.mesh.attributes), set(whole.mesh.attributes))
            for name, attribute in whole.mesh.attributes.items():
                self.assertTrue(np.array_equal(apart.mesh.attributes[name].values, attribute.values), (seed, name))
        self.assertGreater(went_apart, 0)
