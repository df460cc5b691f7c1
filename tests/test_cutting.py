"""Round, box and outline snips: what is cut is exact, whole, and adds up, however the body lies."""

import unittest

import numpy as np

from tests import specimens
from tests.seeds import seeds
from tests.test_mesh import random_mesh
from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.treat import BoxSnip, Context, OutlineSnip, RoundSnip, SnipApart, StraightSnip, Treatment

MAKES = (specimens.sphere, specimens.torus, specimens.bored_box)


def star(rng: np.random.Generator, size: float, count: int) -> tuple[tuple[float, float], ...]:
    """A random outline that does not cross itself."""
    turn = np.sort(rng.uniform(0, 2 * np.pi, count))
    reach = rng.uniform(0.1, 0.6, count) * size
    return tuple(map(tuple, np.column_stack([reach * np.cos(turn), reach * np.sin(turn)]).tolist()))


def random_snip(rng: np.random.Generator, mesh: Mesh, size: float) -> Treatment:
    """A snip anywhere: now and then square to the axes, through a vertex, along edges, flush with the part's sides."""
    axis = np.eye(3)[rng.integers(0, 3)] if rng.random() < 0.4 else rng.normal(size=3)
    middle = mesh.vertices[rng.integers(0, len(mesh.vertices))] if rng.random() < 0.3 else rng.uniform(-0.4, 0.4, 3)
    middle = middle if np.abs(middle).max() > 0.41 else middle * size
    kind = rng.integers(0, 4)
    if kind == 0:
        return StraightSnip(normal=tuple(axis), offset=float(middle @ axis / np.linalg.norm(axis)))
    if kind == 1:
        if rng.random() < 0.3:  # through a ring of vertices
            place = mesh.vertices[rng.integers(0, len(mesh.vertices))]
            return RoundSnip(radius_mm=max(float(np.hypot(*place[:2])), 0.01 * size))
        return RoundSnip(axis=tuple(axis), through=tuple(middle), radius_mm=float(rng.uniform(0.02, 0.6) * size))
    if kind == 2:
        if rng.random() < 0.3:
            low, high = mesh.box[0], mesh.box[1].copy()
            k = rng.integers(0, 3)
            high[k] = mesh.vertices[rng.integers(0, len(mesh.vertices)), k] + 1e-3 * size
            return BoxSnip(middle=tuple(0.5 * (low + high)), size_mm=tuple(high - low))
        along = tuple(rng.normal(size=3)) if rng.random() < 0.5 else (1, 0, 0)
        return BoxSnip(
            middle=tuple(middle), size_mm=tuple(rng.uniform(0.05, 1.2, 3) * size), up=tuple(axis), along=along
        )
    corners = star(rng, size, int(rng.integers(4, 40)))
    if rng.random() < 0.3:  # through vertices
        some = mesh.vertices[rng.choice(len(mesh.vertices), 4, replace=False), :2]
        about = some - some.mean(axis=0)
        corners = tuple(map(tuple, some[np.argsort(np.arctan2(about[:, 1], about[:, 0]))].tolist()))
        return OutlineSnip(corners=corners)
    return OutlineSnip(sight=tuple(axis), across=tuple(rng.normal(size=3)), origin=tuple(middle), corners=corners)


def off_wall(snip: Treatment, points: np.ndarray) -> np.ndarray:
    """How far points lie off the wall of a snip, mm, in a way of its own."""
    if isinstance(snip, StraightSnip):
        n = np.array(snip.normal) / np.linalg.norm(snip.normal)
        return np.abs(points @ n - snip.offset)
    cutter = snip.cutter()
    own = (points - cutter.middle) @ cutter.axes.T
    if isinstance(snip, RoundSnip):
        return np.abs(np.hypot(own[:, 0], own[:, 1]) - snip.radius_mm)
    if isinstance(snip, BoxSnip):
        return np.abs((np.abs(own) - 0.5 * np.array(snip.size_mm)).max(axis=1))
    a, b = cutter.corners, np.roll(cutter.corners, -1, axis=0)
    along = np.clip(
        ((own[:, None, :2] - a) * (b - a)).sum(axis=2) / ((b - a) ** 2).sum(axis=1), 0, 1
    )  # fmt: skip
    return np.linalg.norm(own[:, None, :2] - a - along[..., None] * (b - a), axis=2).min(axis=1)


class Cuts(unittest.TestCase):
    def both(self, snip: Treatment, mesh: Mesh) -> list[Mesh] | None:
        """The two sides, or None where all lies on one."""
        sides = ("below", "above") if isinstance(snip, StraightSnip) else ("inside", "outside")
        try:
            found = [snip.model_copy(update={"waste": w}).apply(mesh, Context()).mesh for w in sides]
        except BadInput as refusal:
            self.assertIn("everything", str(refusal))
            return None
        return None if any(m is mesh for m in found) else found

    def test_two_hundred_random_cuts(self) -> None:
        cut = {}
        taken = list(seeds(200, self.id()))
        for seed in taken:
            rng = np.random.default_rng(seed)
            size = float(rng.choice([1.0, 40.0, 2000.0]))
            mesh = MAKES[seed % 3](size, int(rng.choice([8, 12, 32]))).mesh
            way = -1 if seed % 5 == 0 else 1  # now and then inside out
            mesh = Mesh(mesh.vertices, mesh.faces[:, ::way])
            try:
                snip = random_snip(rng, mesh, size)
                snip.cutter() if not isinstance(snip, StraightSnip) else None
            except BadInput:  # an outline through vertices that crosses itself
                continue
            with self.subTest(seed=seed, snip=snip.name):
                sides = self.both(snip, mesh)
                if sides is None:
                    continue
                cut[snip.name] = cut.get(snip.name, 0) + 1
                self.assertAlmostEqual(sum(s.area for s in sides) / mesh.area, 1.0, delta=1e-9)
                known = {v.tobytes() for v in mesh.vertices}
                new = []
                for side in sides:
                    self.assertEqual(side.edges.tangled + side.edges.flipped, 0)
                    own = [v for v in side.vertices if v.tobytes() not in known]
                    new.append({v.tobytes() for v in own})
                    if own:
                        self.assertLess(off_wall(snip, np.array(own)).max(), 1e-9 * mesh.diagonal)
                self.assertEqual(new[0], new[1])  # the cut edge is the same on both sides, to the bit
                # what the wall stays clear of is there to the bit, and on one side only
                corners = mesh.vertices[mesh.faces]
                whole = [specimens.triangle_set(s.vertices, s.faces) for s in sides]
                self.assertFalse(whole[0] & whole[1] & specimens.triangle_set(mesh.vertices, mesh.faces))
                longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
                clear = off_wall(snip, corners.mean(axis=1)) > longest
                self.assertLessEqual(specimens.triangle_set(mesh.vertices, mesh.faces[clear]), whole[0] | whole[1])
                closed = self.both(snip.model_copy(update={"close": True}), mesh)
                self.assertEqual([specimens.closed_faults(s.vertices, s.faces[:, ::way]) for s in closed], ["", ""])
                self.assertAlmostEqual(sum(s.volume for s in closed) / mesh.volume, 1.0, delta=1e-9)
        if len(taken) == 200:
            self.assertTrue(all(count > 25 for count in cut.values()) and len(cut) == 4, cut)

    def test_volumes_against_formulas(self) -> None:
        ball = specimens.sphere(20.0, 120).mesh
        bored = RoundSnip(radius_mm=4.0, close=True).apply(ball, Context()).mesh
        ring = 4 / 3 * np.pi * (100.0 - 16.0) ** 1.5  # what is left of a ball that is bored through its middle
        self.assertAlmostEqual(bored.volume / ring, 1.0, delta=2e-3)
        box = BoxSnip(size_mm=(6, 5, 4), waste="outside", close=True)
        inner = specimens.bored_box(40.0, 40).mesh
        high = inner.box[1]
        corner = box.model_copy(update={"middle": tuple(high), "up": (0, 0, 1)}).apply(inner, Context()).mesh
        self.assertAlmostEqual(corner.volume, 6 * 5 * 4 / 8, places=6)
        drawn = (
            OutlineSnip(corners=((-5, -5), (5, -5), (0, 5)), waste="outside", close=True).apply(ball, Context()).mesh
        )
        rng = np.random.default_rng(0)
        p = rng.uniform(-10, 10, (400_000, 3))
        inside = (p[:, 1] > -5) & (2 * np.abs(p[:, 0]) < 5 - p[:, 1]) & ((p**2).sum(axis=1) < 100)
        self.assertAlmostEqual(drawn.volume / (8000 * inside.mean()), 1.0, delta=0.02)

    def test_walls_of_even_triangles(self) -> None:
        ball = specimens.sphere(20.0, 40).mesh
        for snip in (
            StraightSnip(normal=(0.2, 0.3, 1), offset=2.0),
            RoundSnip(radius_mm=5),
            BoxSnip(middle=(8, 0, 0), size_mm=(9, 9, 9), up=(1, 1, 3)),
            OutlineSnip(corners=((-5, -5), (5, -5), (0, 5))),
        ):
            few = snip.model_copy(update={"close": True}).apply(ball, Context()).mesh
            even = snip.model_copy(update={"close": True, "edge_mm": 0.8}).apply(ball, Context()).mesh
            self.assertEqual(specimens.closed_faults(even.vertices, even.faces), "")
            self.assertAlmostEqual(even.volume / few.volume, 1.0, delta=1e-3)
            made = [m.vertices[m.faces[m.provenance == 2]] for m in (few, even)]
            edges = [np.linalg.norm(c - np.roll(c, 1, axis=1), axis=2) for c in made]
            self.assertGreater(len(made[1]), 2 * len(made[0]))
            self.assertLess(np.median(edges[1]), 1.3)
            new = even.vertices[len(few.vertices) :]
            self.assertLess(off_wall(snip, new).max(), 0.03 if isinstance(snip, RoundSnip) else 1e-8)

    def test_values_go_along(self) -> None:
        mesh = specimens.bored_box(40.0, 12).mesh
        colour = np.rint(100 + 2 * mesh.vertices @ [1.0, 0.5, 0.7])[:, None].repeat(3, axis=1)
        corners = mesh.vertices[mesh.faces.ravel()] @ np.array([[0.01, 0], [0.02, 0.01], [0, 0.03]])
        groups = np.arange(len(mesh.faces)) % 7
        kinds = (groups % 3).astype(np.uint8)
        values = {
            "height": Attribute(Domain.VERTEX, mesh.vertices @ [1.0, 0.5, 0.7]),
            "colour": Attribute(Domain.VERTEX, colour.astype(np.uint8)),
            "texture": Attribute(Domain.CORNER, corners),
            "group": Attribute(Domain.TRIANGLE, groups),
        }
        mesh = Mesh(mesh.vertices, mesh.faces, kinds, values)
        for snip in (
            RoundSnip(axis=(0.2, 0.1, 1), radius_mm=12),
            BoxSnip(size_mm=(30, 20, 50), up=(1, 2, 3)),
            OutlineSnip(sight=(0.1, 0.3, 1), corners=star(np.random.default_rng(3), 40.0, 20)),
        ):
            for waste in ("inside", "outside"):
                side = snip.model_copy(update={"waste": waste}).apply(mesh, Context()).mesh
                self.assertLess(len(side.faces), len(mesh.faces) * 2)
                height = side.vertices @ [1.0, 0.5, 0.7]
                self.assertLess(np.abs(side.attributes["height"].values - height).max(), 1e-6)
                self.assertLess(np.abs(side.colour[:, 0] - (100 + 2 * height)).max(), 1.2)
                flat = side.vertices[side.faces.ravel()] @ np.array([[0.01, 0], [0.02, 0.01], [0, 0.03]])
                self.assertLess(np.abs(side.attributes["texture"].values - flat).max(), 1e-6)
                self.assertTrue((side.provenance == side.attributes["group"].values % 3).all())
                # a part of a triangle is what that triangle was
                middles = side.vertices[side.faces].mean(axis=1)
                for group in range(7):
                    own = np.flatnonzero(side.attributes["group"].values == group)[:20]
                    parents = np.flatnonzero(groups == group)
                    a = mesh.vertices[mesh.faces[parents]]
                    n = np.cross(a[:, 1] - a[:, 0], a[:, 2] - a[:, 0])
                    n /= np.linalg.norm(n, axis=1)[:, None]
                    off = np.abs(((middles[own, None] - a[None, :, 0]) * n).sum(axis=2)).min(axis=1)
                    self.assertLess(off.max(), 1e-6)

    def test_wreckage_stays_what_it_was(self) -> None:
        rng = np.random.default_rng(5)
        for number in range(40):
            mesh = random_mesh(rng, int(rng.integers(4, 60)), int(rng.integers(3, 200)))
            if number % 3 == 0:
                mesh = Mesh(mesh.vertices + 1e6, mesh.faces)
            at = tuple(mesh.vertices.mean(axis=0))
            for snip in (
                RoundSnip(through=at, radius_mm=0.3),
                BoxSnip(middle=at, size_mm=(0.5, 0.6, 0.7)),
                OutlineSnip(origin=at, corners=((-0.3, -0.3), (0.4, -0.2), (0.1, 0.5))),
            ):
                sides = self.both(snip, mesh)
                if sides is not None:
                    total = sum(np.linalg.norm(np.cross(a[:, 1] - a[:, 0], a[:, 2] - a[:, 0]), axis=1).sum()
                                for a in (s.vertices[s.faces] for s in sides))  # fmt: skip
                    a = mesh.vertices[mesh.faces]
                    area = np.linalg.norm(np.cross(a[:, 1] - a[:, 0], a[:, 2] - a[:, 0]), axis=1).sum()
                    self.assertAlmostEqual(total / area, 1.0, delta=1e-7)

    def test_what_cannot_be_done_is_said(self) -> None:
        ball = specimens.sphere(20.0, 20).mesh
        cup = keep_triangles(ball, ball.vertices[ball.faces][..., 0].mean(axis=1) < 2)
        for snip, said in (
            (RoundSnip(axis=(0, 0, 0)), "no direction"),
            (RoundSnip(radius_mm=50), "everything"),
            (OutlineSnip(corners=((0, 0), (1, 1))), "three corners"),
            (OutlineSnip(corners=((0, 0), (4, 4), (4, 0), (0, 4))), "crosses itself"),
            (BoxSnip(middle=(2, 9, 0), size_mm=(6, 6, 3), close=True), "open where"),
        ):
            with self.assertRaises(BadInput) as refusal:
                snip.apply(cup, Context())
            self.assertIn(said, str(refusal.exception))
        away = RoundSnip(through=(100, 0, 0), radius_mm=2)
        self.assertIs(away.apply(ball, Context()).mesh, ball)

    def test_the_near_side_only(self) -> None:
        ball = specimens.sphere(20.0, 60).mesh
        rng = np.random.default_rng(4)
        for _ in range(5):
            sight = rng.normal(size=3)
            sight /= np.linalg.norm(sight)
            square = OutlineSnip(sight=tuple(sight), corners=((-4, -4), (4, -4), (4, 4), (-4, 4)))
            near = square.model_copy(update={"near": True}).apply(ball, Context()).mesh
            through = square.apply(ball, Context()).mesh
            self.assertEqual(
                (near.edges.tangled, near.edges.flipped, len(near.loops), len(through.loops)), (0, 0, 1, 2)
            )
            self.assertAlmostEqual(ball.area - near.area, 0.5 * (ball.area - through.area), delta=0.01 * ball.area)
            behind = (ball.vertices @ sight)[ball.faces].max(axis=1) < -0.1
            there = specimens.triangle_set(near.vertices, near.faces)
            self.assertLessEqual(specimens.triangle_set(ball.vertices, ball.faces[behind]), there)
            edge = near.vertices[near.faces.ravel()[near.loops.halfedges]]
            self.assertGreater((edge @ sight).min(), 0)
        for wrong in ({"waste": "outside"}, {"close": True}):
            with self.assertRaises(BadInput):
                square.model_copy(update={"near": True, **wrong}).apply(ball, Context())

    def test_both_sides_as_pieces(self) -> None:
        ball = specimens.sphere(20.0, 30).mesh
        for snip in (RoundSnip(radius_mm=4, close=True), StraightSnip(normal=(1, 1, 0), offset=2, close=True)):
            apart = SnipApart(snip=snip)
            self.assertEqual(SnipApart.model_validate(apart.model_dump(mode="json")), apart)
            parts = apart.apply([ball], Context()).parts
            self.assertEqual([specimens.closed_faults(p.mesh.vertices, p.mesh.faces) for p in parts], ["", ""])
            self.assertAlmostEqual(sum(p.mesh.volume for p in parts) / ball.volume, 1.0, places=9)
        # as jobs of before have it
        before = SnipApart.model_validate({"normal": [0, 0, 1], "offset": 2.0, "close": False})
        self.assertEqual(before.snip, StraightSnip(offset=2.0))


if __name__ == "__main__":
    unittest.main()
