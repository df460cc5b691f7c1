"""Treatments keep their promises: on analytic shapes, on wreckage, twice over, and when stopped."""

import unittest

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tests.seeds import share
from tests.test_mesh import random_mesh
from tinsnip.errors import BadInput, Cancelled
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey import examine
from tinsnip.treat import (
    TREATMENTS,
    Context,
    Mend,
    Orient,
    Patch,
    Plinth,
    Recast,
    Reduce,
    StraightSnip,
    Sweep,
    Weld,
)

MAKES = (specimens.sphere, specimens.torus, specimens.bored_box)


class Snips(unittest.TestCase):
    def test_two_halves_make_the_whole(self) -> None:
        rng = np.random.default_rng(0)
        for make in MAKES:
            for size in (2.0, 2000.0):
                mesh = make(size, 60).mesh
                for _ in range(4):
                    normal = tuple(rng.normal(size=3))
                    unit = np.array(normal) / np.linalg.norm(normal)
                    offset = float(rng.uniform(-0.12, 0.12) * size)
                    halves = []
                    for waste in ("below", "above"):
                        snip = StraightSnip(normal=normal, offset=offset, waste=waste, close=True)
                        half = snip.apply(mesh, Context()).mesh
                        self.assertEqual(specimens.closed_faults(half.vertices, half.faces), "")
                        side = (half.vertices @ unit - offset) * (1 if waste == "below" else -1)
                        self.assertGreaterEqual(side.min(), -2e-9 * size)
                        whole = side[half.faces].min(axis=1) > 1e-6 * size
                        kept = specimens.triangle_set(half.vertices, half.faces[whole])
                        self.assertLessEqual(kept, specimens.triangle_set(mesh.vertices, mesh.faces))
                        halves.append(half.volume)
                    self.assertAlmostEqual(sum(halves) / mesh.volume, 1.0, places=9)

    def test_through_vertices_faces_and_nested_contours(self) -> None:
        box = specimens.bored_box(40.0, 40).mesh
        level = box.vertices[:, 2].max()
        for offset in (0.0, float(np.unique(box.vertices[:, 2])[3])):
            half = StraightSnip(offset=offset, close=True).apply(box, Context()).mesh
            self.assertEqual(specimens.closed_faults(half.vertices, half.faces), "")
            self.assertAlmostEqual(half.volume / box.volume, (level - offset) / (2 * level), places=6)
        # in the plane of its own bottom nothing changes; in that of its top nothing is left
        whole = StraightSnip(offset=-level, close=True).apply(box, Context()).mesh
        self.assertAlmostEqual(whole.volume, box.volume)
        with self.assertRaises(BadInput):
            StraightSnip(offset=level + 1).apply(box, Context())
        # a shell within a shell within a shell: the cut face has holes within holes
        balls = [specimens.sphere(2.0 * r, 14).mesh for r in (5, 4, 3, 2)]
        starts = np.cumsum([0] + [len(b.vertices) for b in balls])
        faces = [b.faces[:, :: 1 if i % 2 == 0 else -1] + starts[i] for i, b in enumerate(balls)]
        nested = Mesh(np.concatenate([b.vertices for b in balls]), np.concatenate(faces))
        half = StraightSnip(normal=(0.2, 0.3, 1), close=True).apply(nested, Context()).mesh
        self.assertEqual(specimens.closed_faults(half.vertices, half.faces), "")
        self.assertAlmostEqual(half.volume / nested.volume, 0.5, delta=0.01)


class Reductions(unittest.TestCase):
    def test_closed_close_and_coloured(self) -> None:
        for make in MAKES:
            specimen = make(100.0, 160)
            mesh = specimen.mesh
            height = mesh.vertices[:, 2:3] - mesh.box[0, 2]
            colour = np.repeat(np.clip(height * 4, 0, 255), 3, axis=1).astype(np.uint8)
            mesh = Mesh(mesh.vertices, mesh.faces, None, {"colour": Attribute(Domain.VERTEX, colour)})
            for percent, limit in ((20, 0.0015), (2, 0.008)):
                less = Reduce(percent=percent).apply(mesh, Context()).mesh
                self.assertLessEqual(len(less.faces), len(mesh.faces) * percent / 100)
                self.assertGreater(len(less.faces), len(mesh.faces) * percent / 100 - 3)
                self.assertTrue(examine(less).readiness.ready)
                off = np.abs(specimen.distance(specimens.sample_surface(less, 20000, np.random.default_rng(0))))
                self.assertLess(off.max(), limit * mesh.diagonal)
                expected = np.clip((less.vertices[:, 2] - mesh.box[0, 2]) * 4, 0, 255)
                self.assertLess(np.median(np.abs(less.colour[:, 0] - expected)), 6)

    def test_rims_hold_and_flat_rims_stay_flat(self) -> None:
        ball = specimens.sphere(60.0, 50).mesh
        cup = StraightSnip(offset=4.0).apply(ball, Context()).mesh
        less = Reduce(percent=10).apply(cup, Context()).mesh
        corner = less.faces.ravel()
        self.assertEqual(len(less.loops), 1)
        self.assertLess(np.abs(less.vertices[corner[less.loops.halfedges], 2] - 4.0).max(), 1e-9)
        held = Reduce(percent=10, hold_rims=True).apply(cup, Context()).mesh
        rim = cup.vertices[cup.faces.ravel()[cup.loops.halfedges]]
        self.assertEqual(len(held.loops.halfedges), len(rim))
        self.assertLess(cKDTree(held.vertices).query(rim)[0].max(), 1e-12)


class Fills(unittest.TestCase):
    def test_a_ring_standing_on_the_bed_is_closed_as_a_ring(self) -> None:
        for offset in (
            -11.5,
            -3.0,
            3.0,
        ):  # near its underside both edges of the cut lie in what looks like a flat sheet
            cut = StraightSnip(offset=offset)
            ring = specimens.torus(80.0, 200).mesh
            closed = Plinth().apply(cut.apply(ring, Context()).mesh, Context()).mesh
            self.assertEqual(specimens.closed_faults(closed.vertices, closed.faces), "")
            exact = cut.model_copy(update={"close": True}).apply(ring, Context()).mesh
            self.assertAlmostEqual(closed.volume, exact.volume, delta=1e-6 * exact.volume)

    def test_patches_flow_on(self) -> None:
        ball = specimens.sphere(60.0, 60)
        middles = ball.mesh.vertices[ball.mesh.faces].mean(axis=1)
        for reach in (1.0, 5.0, 14.0):
            holed = keep_triangles(ball.mesh, np.linalg.norm(middles - [0, 0, 30], axis=1) > reach)
            flowing = Patch().apply(holed, Context()).mesh
            taut = Patch(flow=0.0).apply(holed, Context()).mesh
            for patched in (flowing, taut):
                self.assertEqual(specimens.closed_faults(patched.vertices, patched.faces), "")
                self.assertTrue((patched.faces[: len(holed.faces)] == holed.faces).all())
                self.assertTrue((patched.provenance[len(holed.faces) :] == 2).all())
            worst = [np.abs(ball.distance(m.vertices)).max() for m in (flowing, taut)]
            self.assertLess(worst[0], 0.2 * worst[1] + 0.02)

    def test_large_and_ragged_holes(self) -> None:
        rng = np.random.default_rng(4)
        ring = specimens.torus(100.0, 300)
        middles = ring.mesh.vertices[ring.mesh.faces].mean(axis=1)
        far = np.linalg.norm(middles - [34, 0, 16], axis=1) + rng.normal(0, 0.4, len(middles))
        holed = keep_triangles(ring.mesh, far > 15)
        main = Sweep().apply(Mend().apply(holed, Context()).mesh, Context()).mesh
        self.assertGreater(np.diff(main.loops.start).max(), 200)
        patched = Patch().apply(main, Context()).mesh
        self.assertEqual(patched.edges.open, 0)
        self.assertTrue(examine(patched).readiness.ready, examine(patched).readiness.state)

    def test_only_the_rim_is_left_for_the_plinth(self) -> None:
        ball = specimens.sphere(60.0, 50).mesh
        cup = StraightSnip(offset=-10.0).apply(ball, Context()).mesh
        middles = cup.vertices[cup.faces].mean(axis=1)
        cup = keep_triangles(cup, np.linalg.norm(middles - [0, 0, 30], axis=1) > 4)
        patched = Patch().apply(cup, Context()).mesh
        self.assertEqual(len(patched.loops), 1)
        solid = Plinth().apply(patched, Context()).mesh
        self.assertEqual(specimens.closed_faults(solid.vertices, solid.faces), "")
        self.assertAlmostEqual(solid.box[0, 2], -10.0)
        ragged = keep_triangles(ball, ball.vertices[ball.faces][..., 2].mean(axis=1) > -10)
        walled = Plinth(depth_mm=3.0).apply(ragged, Context()).mesh
        self.assertEqual(specimens.closed_faults(walled.vertices, walled.faces), "")
        lowest = ragged.vertices[ragged.faces.ravel()[ragged.loops.halfedges], 2].min()
        self.assertAlmostEqual(walled.box[0, 2], lowest - 3.0)


class Wreckage(unittest.TestCase):
    """Whatever comes in, what goes out is a mesh, and the printed solid is closed or said not to be."""

    def test_every_treatment_on_every_wreck(self) -> None:
        rng = np.random.default_rng(7)
        wrecks = [
            Mesh(np.zeros((0, 3)), np.zeros((0, 3), int)),
            Mesh(np.zeros((5, 3)), [[0, 1, 2], [2, 3, 4]]),
            Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]]),
            Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2], [0, 2, 1]]),
            Mesh(np.random.default_rng(1).random((5, 3)), [[0, 1, 2], [0, 1, 3], [0, 1, 4]]),
            *(random_mesh(rng, v, f) for v, f in ((4, 8), (10, 30), (40, 60), (30, 300), (900, 700))),
        ]
        sphere = specimens.sphere(9.0, 8).mesh
        wrecks.append(Mesh(sphere.vertices, sphere.faces[:, ::-1]))
        steps = [Weld(), Mend(), Orient(), StraightSnip(offset=0.3), Mend(), Sweep(), Patch(), Plinth(), Mend()]
        steps += [Orient(), Sweep(), Reduce(percent=60), StraightSnip(normal=(1, 1, 0), close=True)]
        for number, wreck in share(enumerate(wrecks), self.id(), 4):
            with self.subTest(wreck=number):
                span = float(wreck.size.max(initial=0.0))
                for make in TREATMENTS.values():  # in coarse cells, or a recast of such a tangle takes minutes
                    self.sound(make(deviation_mm=span / 60) if make is Recast and span > 0 else make(), wreck)
                mesh = wreck
                for step in steps:
                    before, mesh = mesh, self.sound(step, mesh)
                    if step in (steps[1], steps[4]):
                        self.assertEqual(mesh.edges.tangled, 0)
                    if step == steps[2] and mesh is not before:  # or it refuses what has one side only
                        self.assertEqual(mesh.edges.flipped, 0)

    def sound(self, treatment: object, mesh: Mesh) -> Mesh:
        try:
            after = treatment.apply(mesh, Context()).mesh
        except BadInput as refusal:
            self.assertNotIn("\n", str(refusal))
            return mesh
        self.assertTrue(np.isfinite(after.vertices).all())
        self.assertEqual(len(after.provenance), len(after.faces))
        examine(after)
        return after


class Purity(unittest.TestCase):
    def test_same_bits_twice_and_nothing_when_cancelled(self) -> None:
        specimen = specimens.torus(80.0, 150)
        damaged = specimens.damage(specimen, np.random.default_rng(2)).mesh
        mended = Orient().apply(Mend().apply(damaged, Context()).mesh, Context()).mesh
        frozen = mended.vertices.copy(), mended.faces.copy()
        for treatment in (Mend(), Orient(), Sweep(), Patch(), StraightSnip(close=True), Reduce(percent=20)):
            mesh = damaged if treatment.name in ("mend", "orient") else mended
            if treatment.name == "orient":
                mesh = Mend().apply(damaged, Context()).mesh
            one, two = (treatment.apply(mesh, Context()).mesh for _ in range(2))
            self.assertEqual(one.vertices.tobytes(), two.vertices.tobytes(), treatment.name)
            self.assertEqual(one.faces.tobytes(), two.faces.tobytes(), treatment.name)
            stopped = Context()
            stopped.progress.cancel()
            with self.assertRaises(Cancelled):
                treatment.apply(mesh, stopped)
        self.assertTrue((frozen[0] == mended.vertices).all() and (frozen[1] == mended.faces).all())


if __name__ == "__main__":
    unittest.main()
