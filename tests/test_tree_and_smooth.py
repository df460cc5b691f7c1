"""Rays and boxes of the spatial tree against brute force; smoothing; deviation from the raw scan."""

import unittest

import numpy as np

from tests import specimens
from tests.test_mesh import random_mesh
from tinsnip.mesh import MADE, MEASURED, SHIFTED, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.progress import Progress
from tinsnip.space.tree import first_hits, triangles_in_boxes
from tinsnip.survey.deviation import deviation_from_raw, signed_distance
from tinsnip.treat import Context, Patch, Place, Reduce, Scale, Smooth, StraightSnip, Sweep, Turn

NONE = Progress().state


class Trees(unittest.TestCase):
    def test_rays_against_brute_force(self) -> None:
        rng = np.random.default_rng(0)
        meshes = [random_mesh(rng, 40, n) for n in (1, 5, 6, 200)] + [specimens.torus(3.0, 24).mesh]
        for mesh in meshes:
            starts = rng.uniform(-1.5, 1.5, (200, 3))
            ways = rng.normal(size=(200, 3))
            ways[:60] = np.eye(3)[rng.integers(0, 3, 60)] * rng.choice([-1.0, 1.0], 60)[:, None]
            along, triangle = first_hits(mesh.tree, starts, ways, NONE)
            a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
            for start, way, t, f in zip(starts, ways, along, triangle, strict=True):
                # where the ray goes through each triangle's plane, and on which side of its three edges (Cramer)
                normal = np.cross(b - a, c - a)
                with np.errstate(divide="ignore", invalid="ignore"):
                    at = np.einsum("ij,ij->i", a - start, normal) / (normal @ way)
                    hit = start + at[:, None] * way
                    sides = [
                        np.einsum("ij,ij->i", np.cross(q - p, hit - p), normal) for p, q in ((a, b), (b, c), (c, a))
                    ]
                    ahead = at[(np.min(sides, axis=0) >= 0) & (at > 0)]
                if not len(ahead):
                    self.assertEqual((f, t), (-1, np.inf))
                else:
                    self.assertAlmostEqual(t, ahead.min(), places=7)

    def test_parity_is_watertight(self) -> None:
        """Rays aimed at vertices and edge midpoints of a closed surface meet it; none slips through."""
        ball = specimens.sphere(10.0, 30).mesh
        edges = ball.vertices[ball.faces[:, [0, 1]]].mean(axis=1)
        aims = np.concatenate([ball.vertices, edges])
        along, triangle = first_hits(ball.tree, np.zeros_like(aims), aims, NONE)
        self.assertTrue((triangle >= 0).all())
        self.assertLess(np.abs(along - 1.0).max(), 1e-9)
        away = aims * 1.5
        self.assertTrue((first_hits(ball.tree, away, aims, NONE)[1] == -1).all())
        self.assertTrue((first_hits(ball.tree, away, -aims, NONE)[1] >= 0).all())

    def test_boxes_against_brute_force(self) -> None:
        rng = np.random.default_rng(1)
        for mesh in (random_mesh(rng, 60, 300), specimens.bored_box(2.0, 40).mesh):
            low = rng.uniform(-1, 1, (80, 3))
            high = low + rng.uniform(0, 0.6, (80, 3))
            corners = mesh.vertices[mesh.faces]
            least, most = corners.min(axis=1), corners.max(axis=1)
            expected = (least[None] <= high[:, None]).all(-1) & (most[None] >= low[:, None]).all(-1)
            found = triangles_in_boxes(mesh.tree, low, high, NONE)
            self.assertEqual(set(map(tuple, found.tolist())), set(map(tuple, np.argwhere(expected).tolist())))
            self.assertEqual(len(found), expected.sum())


class Smoothing(unittest.TestCase):
    def test_noise_goes_and_size_stays(self) -> None:
        ring = specimens.torus(80.0, 240)
        mesh = ring.mesh.moved(ring.mesh.vertices + np.random.default_rng(0).normal(0, 0.05, ring.mesh.vertices.shape))
        before = np.abs(ring.distance(mesh.vertices))
        outcome = Smooth().apply(mesh, Context())
        after = np.abs(ring.distance(outcome.mesh.vertices))
        self.assertLess(np.sqrt((after**2).mean()), 0.45 * np.sqrt((before**2).mean()))
        self.assertAlmostEqual(outcome.mesh.volume, ring.volume, delta=0.002 * ring.volume)
        many = Smooth(iterations=200).apply(mesh, Context()).mesh  # a hundred times as much does not shrink it away
        self.assertAlmostEqual(many.volume, ring.volume, delta=0.02 * ring.volume)
        self.assertTrue(np.array_equal(outcome.mesh.faces, mesh.faces))
        self.assertTrue((outcome.mesh.provenance == SHIFTED).all())
        moved = np.linalg.norm(outcome.mesh.vertices - mesh.vertices, axis=1).max()
        self.assertAlmostEqual(outcome.account.figures["largest_mm"], moved, places=9)

    def test_open_edges_stay_to_the_bit(self) -> None:
        ball = specimens.sphere(60.0, 40).mesh
        cup = StraightSnip(offset=4.0).apply(ball, Context()).mesh
        smooth = Smooth(iterations=30).apply(cup, Context()).mesh
        rim = cup.faces.ravel()[cup.loops.halfedges]
        self.assertTrue(np.array_equal(smooth.vertices[rim], cup.vertices[rim]))
        lone = Mesh(np.eye(3), [[0, 1, 2]])
        self.assertIs(Smooth().apply(lone, Context()).mesh, lone)
        rough = random_mesh(np.random.default_rng(3), 30, 200)
        self.assertTrue(np.isfinite(Smooth(iterations=50).apply(rough, Context()).mesh.vertices).all())


class FromRaw(unittest.TestCase):
    def measured(self, mesh: Mesh, raw: Mesh, frame: np.ndarray | None = None) -> object:
        return deviation_from_raw(mesh, raw, np.eye(4) if frame is None else frame, Progress())

    def test_known_shifts_have_their_sign(self) -> None:
        ball = specimens.sphere(50.0, 60).mesh
        for factor, sign in ((1.01, 1), (0.99, -1)):
            grown = ball.moved(ball.vertices * factor, np.full(len(ball.faces), SHIFTED, dtype=np.uint8))
            found = self.measured(grown, ball)
            self.assertTrue((np.sign(found.signed) == sign).all())
            self.assertAlmostEqual(float(np.abs(found.signed).mean()), 0.25, delta=0.003)
            self.assertAlmostEqual(found.overall.max, 0.25, delta=0.02)
            self.assertEqual(found.shares.tolist(), [0.0, 1.0, 0.0])
            point = grown.vertices[7]
            self.assertAlmostEqual(signed_distance(point, ball, np.eye(4), NONE), float(found.signed[7]), places=5)

    def test_a_coarse_mesh_is_measured_between_its_corners(self) -> None:
        """A ball brought down to a few flat faces: its corners stand out, the middles of its faces lie deep."""
        ball = specimens.sphere(50.0, 80)
        coarse = Reduce(triangles=200).apply(ball.mesh, Context()).mesh
        found = self.measured(coarse, ball.mesh)
        places = found.places
        self.assertGreater(len(places.faces), 100_000)
        self.assertTrue(np.array_equal(places.vertices[: len(coarse.vertices)], coarse.vertices))
        self.assertAlmostEqual(places.area, coarse.area, delta=1e-9 * coarse.area)
        self.assertAlmostEqual(places.volume, coarse.volume, delta=1e-9 * coarse.volume)
        self.assertEqual(places.edges.open, 0)
        true = ball.distance(places.vertices)
        self.assertLess(np.abs(found.signed - true).max(), 0.03)
        corners, between = np.split(found.signed, [len(coarse.vertices)])
        self.assertGreater(np.median(corners), 0.1)
        self.assertLess(np.median(between), -0.05)
        self.assertGreater(found.overall.max, 0.9 * np.abs(found.signed).max())
        # a dense mesh is its own place, and so is one of which nothing was shifted
        dense = specimens.torus(80.0, 500).mesh
        shifted = dense.moved(dense.vertices * 1.001, np.full(len(dense.faces), SHIFTED, dtype=np.uint8))
        self.assertIs(self.measured(shifted, dense).places, shifted)
        self.assertIs(self.measured(ball.mesh, ball.mesh).places, ball.mesh)

    def test_measured_stays_put_through_the_whole_job(self) -> None:
        ball = specimens.sphere(50.0, 60).mesh
        rng = np.random.default_rng(0)
        raw = ball.moved(ball.vertices + rng.normal(0, 0.01, ball.vertices.shape))
        centre = raw.vertices[raw.faces].mean(axis=1)
        raw = Mesh(raw.vertices, raw.faces[np.linalg.norm(centre - centre[0], axis=1) > 5])
        mesh, frame = raw, np.eye(4)
        steps = (Turn(axis=(1, 0, 0), degrees=30), Place(), Scale(factor=2.0), Sweep(), StraightSnip(offset=8.0))
        for treatment in (*steps, Patch(), StraightSnip(normal=(1, 0, 0), offset=-40.0, close=True)):
            outcome = treatment.apply(mesh, Context(raw=raw))
            mesh = outcome.mesh
            frame = (np.eye(4) if outcome.account.matrix is None else outcome.account.matrix) @ frame
            found = self.measured(mesh, raw, frame)
            self.assertEqual(found.overall.max, 0.0)
            # measured triangles do lie on the raw scan, whatever was done to the part
            back = np.linalg.inv(frame)
            on = mesh.vertices[mesh.faces[mesh.provenance == MEASURED]].mean(axis=1) @ back[:3, :3].T + back[:3, 3]
            off = max(abs(signed_distance(p, raw, np.eye(4), NONE)) for p in on[:: len(on) // 60])
            self.assertLess(off, 1e-9)
            self.assertAlmostEqual(found.shares.sum(), 1.0, places=12)
        self.assertGreater(found.shares[MADE], 0.005)
        only_made = np.isnan(found.signed)
        self.assertTrue(only_made.any() and not only_made.all())
        # after reducing, the figure is that of an exact measurement at a scale of two
        less = Reduce(percent=20).apply(mesh, Context()).mesh
        found = self.measured(less, raw, frame)
        self.assertGreater(found.overall.max, 0)
        normals = vertex_normals(less.vertices, less.faces)
        self.assertTrue(np.isfinite(normals).all())
        at = np.flatnonzero(np.abs(found.signed) > 0)[:20]
        for v in at:
            self.assertAlmostEqual(
                signed_distance(less.vertices[v], raw, frame, NONE), float(found.signed[v]), places=4
            )


if __name__ == "__main__":
    unittest.main()
