"""What all that is exact rests on, by itself: signs, flat triangulations, where triangles meet, nodes inside or out."""

import itertools
import unittest
from fractions import Fraction
from unittest.mock import patch

import numpy as np

from tests import specimens
from tinsnip.mesh import Mesh
from tinsnip.space.delaunay import constrained_triangles, divided_polygons
from tinsnip.space.lattice import INSIDE, Lattice, lay_into_lattice, spread_lattice
from tinsnip.space.meets import meets_of
from tinsnip.space.predicates import fold_at_edge, has_area, orientation, triangles_meet, volume_of
from tinsnip.space.winding import Winding


def exact(points: np.ndarray) -> list[list[Fraction]]:
    return [[Fraction(x) for x in row] for row in points.tolist()]


def determinant(a: list, b: list, c: list, d: list) -> Fraction:
    u, v, w = ([p - q for p, q in zip(one, d, strict=True)] for one in (a, b, c))
    return u[0] * (v[1] * w[2] - v[2] * w[1]) - u[1] * (v[0] * w[2] - v[2] * w[0]) + u[2] * (v[0] * w[1] - v[1] * w[0])


def nearly_flat(rng: np.random.Generator, count: int) -> np.ndarray:
    """Points on a plane, or on a line, but for the last bits; now and then right on it, anywhere and in any size."""
    size, off = 10.0 ** rng.integers(-6, 7), rng.choice([0.0, 1.0, 1e6])
    a, b = rng.normal(size=(2, 3))
    weights = rng.integers(-8, 9, (count, 2)) / 8
    if rng.random() < 0.3:
        weights[:, 1] = 0
    points = size * (off + weights @ np.array([a, b]))
    for _ in range(int(rng.integers(0, 4))):
        i, k = rng.integers(count), rng.integers(3)
        if points[i, k] != 0.0:  # beside zero products of three numbers have no room left
            points[i, k] = np.nextafter(points[i, k], rng.choice([-np.inf, np.inf]))
    return points


class Signs(unittest.TestCase):
    def test_signs_are_those_of_rational_arithmetic(self) -> None:
        rng, seen = np.random.default_rng(0), set()
        corner = np.array([[1.0, 0, 0], [0, 1, 0], [0, 0, 1], [0, 0, 0]])
        turned = orientation(corner, 0, 1, 2, 3) < 0  # which way round the sign counts
        for _ in range(1500):
            points = nearly_flat(rng, 4)
            a, b, c, d = exact(points)
            value = determinant(a, b, c, d)
            sign = (value > 0) - (value < 0)
            seen.add(sign)
            for order in ((0, 1, 2, 3), (1, 2, 0, 3), (3, 2, 1, 0)):
                told = orientation(points, *order)
                parity = 1
                for i, j in itertools.combinations(range(4), 2):
                    parity *= -1 if order[i] > order[j] else 1
                self.assertEqual(told, -sign * parity if turned else sign * parity)
            volume = volume_of(points, 0, 1, 2, 3)
            self.assertLessEqual(abs(abs(Fraction(volume)) - abs(value)), abs(value) / 10**9)
            u, v = ([p - q for p, q in zip(one, c, strict=True)] for one in (a, b))
            crossed = [u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]]
            self.assertEqual(bool(has_area(points, 0, 1, 2)), any(crossed))
            if sign == 0 and any(crossed) and has_area(points, 0, 1, 3):
                k = next(k for k in range(3) if crossed[k])
                i, j = (k + 1) % 3, (k + 2) % 3
                e, f, g = ([p[m] - a[m] for m in (i, j)] for p in (b, c, d))
                sides = (e[0] * f[1] - e[1] * f[0]) * (e[0] * g[1] - e[1] * g[0])
                self.assertEqual(bool(fold_at_edge(points, 0, 1, 2, 3)), sides > 0)
        self.assertEqual(seen, {-1, 0, 1})


class Flat(unittest.TestCase):
    def star(self, rng: np.random.Generator, count: int, out: float, turn: int) -> np.ndarray:
        angle = np.sort(rng.uniform(0, 2 * np.pi, count))
        radius = out * rng.uniform(0.5, 1.0, count)
        return (radius[:, None] * np.column_stack([np.cos(angle), np.sin(angle)]))[::turn]

    def test_polygons_with_holes(self) -> None:
        rng = np.random.default_rng(1)
        for _ in range(60):
            outer, hole = int(rng.integers(5, 60)), int(rng.integers(3, 20))
            points = np.concatenate([self.star(rng, outer, 10.0, 1), self.star(rng, hole, 4.0, -1)])
            around = [(np.arange(n), (np.arange(n) + 1) % n) for n in (outer, hole)]
            ends = np.concatenate(
                [np.column_stack([a + s, b + s]) for (a, b), s in zip(around, (0, outer), strict=True)]
            )
            made = constrained_triangles(points, ends)
            if made is None:  # an edge near the middle may cross a wide gap of the other ring
                continue
            self.assertEqual(len(made), outer + hole)
            a, b, c = (points[made[:, k]] for k in range(3))
            twice = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
            self.assertGreater(twice.min(), 0)
            x, y = points.T
            whole = (x[ends[:, 0]] * y[ends[:, 1]] - x[ends[:, 1]] * y[ends[:, 0]]).sum()
            self.assertAlmostEqual(twice.sum(), whole, places=6)
            directed = {(int(t[k]), int(t[(k + 1) % 3])) for t in made for k in range(3)}
            self.assertEqual(len(directed), 3 * len(made))
            self.assertLessEqual(set(map(tuple, ends.tolist())), directed)
            # an edge that is free has nothing of the far side within the circle of the near (Delaunay)
            apex = {(int(t[k]), int(t[(k + 1) % 3])): int(t[(k + 2) % 3]) for t in made for k in range(3)}
            for (p, q), r in apex.items():
                s = apex.get((q, p))
                if s is None:
                    continue
                m = points[[p, q, r]] - points[s]
                within = np.linalg.det(np.column_stack([m, (m**2).sum(axis=1)]))
                self.assertLess(within, 1e-3 * np.abs(m).max() ** 4)

    def test_many_at_once_keep_points_and_edges_within(self) -> None:
        rng = np.random.default_rng(2)
        polygons, inner, ring, ends, at = [], [], [], [], [0]
        for _ in range(40):
            ring.append(int(rng.integers(3, 12)))
            angle = 2 * np.pi * np.arange(ring[-1]) / ring[-1]
            within = self.star(rng, int(rng.integers(2, 9)), 0.4, 1)
            inner.append(len(within))
            polygons.append(np.concatenate([np.column_stack([np.cos(angle), np.sin(angle)]), within]))
            ends.append((ring[-1], ring[-1] + 1))
            at.append(len(ends))
        start = np.concatenate([[0], np.cumsum([len(p) for p in polygons])])
        made, starts, failed = divided_polygons(
            np.concatenate(polygons), start, np.array(ring), np.array(ends), np.array(at)
        )
        self.assertFalse(failed.any())
        for i, points in enumerate(polygons):
            own = made[starts[i] : starts[i + 1]]
            self.assertEqual(len(own), ring[i] - 2 + 2 * inner[i])
            self.assertEqual(set(own.ravel().tolist()), set(range(len(points))))
            undirected = {frozenset((int(t[k]), int(t[(k + 1) % 3]))) for t in own for k in range(3)}
            self.assertIn(frozenset(ends[i]), undirected)


class Meeting(unittest.TestCase):
    def test_where_triangles_meet(self) -> None:
        """On both planes and in both triangles, under the same names from either side."""
        rng, kinds = np.random.default_rng(3), set()
        for turn in range(400):
            points = rng.integers(-3, 4, (6, 3)).astype(float) if turn % 2 else rng.normal(size=(6, 3))
            faces = np.array([[0, 1, 2], [3, 4, 5]], dtype=np.int32)
            if not (has_area(points, 0, 1, 2) and has_area(points, 3, 4, 5)) or len(np.unique(points, axis=0)) < 6:
                continue
            found = meets_of(points, faces, np.array([[0, 1]]))
            kinds.add(int(found.kind[0]))
            self.assertEqual(found.kind[0] > 0, bool(triangles_meet(points, 0, 1, 2, 3, 4, 5)) or found.kind[0] == 3)
            if found.kind[0] not in (1, 2):
                continue
            for end in range(2 if found.kind[0] == 2 else 1):
                at, names = found.at[0, end], found.names[0, end]
                for side, face in enumerate(faces):
                    a, b, c = points[face]
                    normal = np.cross(b - a, c - a)
                    self.assertLess(abs((at - a) @ normal), 1e-9 * np.linalg.norm(normal))
                    (u, v), *_ = np.linalg.lstsq(np.column_stack([b - a, c - a]), at - a, rcond=None)[:1]
                    shares = np.array([1 - u - v, u, v])
                    self.assertGreater(shares.min(), -1e-9)
                    place = int(found.places[0, end, side])
                    held = {*range(3)} - (
                        {place, (place + 1) % 3} if place < 3 else {place - 3} if place < 6 else {0, 1, 2}
                    )
                    for k in held:
                        self.assertLess(abs(shares[k]), 1e-9, (place, shares))
                if names[3] >= 0:  # two edges: on both of them
                    for p, q in (names[:2], names[2:]):
                        self.assertLess(np.linalg.norm(np.cross(at - points[p], at - points[q])), 1e-9)
            other = meets_of(points, faces, np.array([[1, 0]]))
            self.assertEqual(other.kind[0], found.kind[0])
            self.assertEqual(
                {frozenset(n[n >= 0].tolist()) for n in found.names[0]},
                {frozenset(n[n >= 0].tolist()) for n in other.names[0]},
            )
        self.assertLessEqual({0, 2}, kinds)


def _nodes(lattice: Lattice) -> np.ndarray:
    block, node = np.divmod(np.arange(len(lattice.inside)), 64)
    return lattice.low + lattice.step * (
        4 * lattice.blocks[block] + np.column_stack([node // 16, node // 4 % 4, node % 4])
    )


def _turns(mesh: Mesh, points: np.ndarray) -> np.ndarray:
    """Winding numbers, every solid angle summed (Van Oosterom and Strackee 1983)."""
    total = np.zeros(len(points))
    for corners in mesh.vertices[mesh.faces]:
        a, b, c = (corner - points for corner in corners)
        la, lb, lc = (np.linalg.norm(side, axis=1) for side in (a, b, c))
        below = la * lb * lc + (a * b).sum(axis=1) * lc + (b * c).sum(axis=1) * la + (c * a).sum(axis=1) * lb
        total += np.arctan2((a * np.cross(b, c)).sum(axis=1), below)
    return total / (2.0 * np.pi)


class Nodes(unittest.TestCase):
    def test_winding_numbers_are_carried_on_to_the_right_side(self) -> None:
        """Of surfaces that others broke: asked at few nodes, told at all of them."""
        for seed in range(8):
            rng = np.random.default_rng(seed)
            whole = specimens.torus(40.0, 40).mesh
            vertices = whole.vertices
            faces = whole.faces[rng.random(len(whole.faces)) > (0.0, 0.05, 0.4)[seed % 3]]  # holes
            flipped = rng.random(len(faces)) < (0.0, 0.06)[seed % 2]
            faces = np.where(flipped[:, None], faces[:, ::-1], faces)
            if seed >= 4:  # another one through it
                faces = np.concatenate([faces, whole.faces + len(whole.vertices)])
                vertices = np.concatenate([vertices, vertices + rng.normal(0, 3.0, 3)])
            mesh = Mesh(vertices, np.ascontiguousarray(faces, dtype=np.int32))
            field = Winding(mesh.vertices, mesh.faces)
            lattice, near = lay_into_lattice(field, 1.3)
            with patch.object(Winding, "at", autospec=True, side_effect=Winding.at) as asked:
                lattice = spread_lattice(lattice, field, near)
            count = sum(len(call.args[1]) for call in asked.call_args_list)
            if seed in (0, 6):  # closed: one for each block of 64
                self.assertLess(count, 0.05 * len(lattice.inside))
            some = rng.choice(len(lattice.inside), 600, replace=False)
            turns = _turns(mesh, _nodes(lattice)[some])
            border = ((lattice.blocks == 0) | (lattice.blocks == np.array(lattice.number.shape) - 1)).any(axis=1)
            clear = (np.abs(turns - INSIDE) > 0.06) & ~border[some // 64]  # dipoles tell to two hundredths
            self.assertGreater(clear.mean(), 0.6)
            np.testing.assert_array_equal(lattice.inside[some][clear], turns[clear] > INSIDE)

    def test_nodes_are_inside_where_the_shape_is(self) -> None:
        for make in (specimens.sphere, specimens.torus, specimens.bored_box):
            specimen = make(40.0, 24 if make is specimens.sphere else 80)
            mesh, step = specimen.mesh, 1.1
            field = Winding(mesh.vertices, mesh.faces)
            lattice, near = lay_into_lattice(field, step)
            self.assertFalse(near.any())  # nothing is open
            lattice = spread_lattice(lattice, field, near)
            points = _nodes(lattice)
            distance = specimen.distance(points)
            clear = np.abs(distance) > 0.6  # the mesh is off its shape by less
            self.assertTrue(np.array_equal(lattice.inside[clear], distance[clear] < 0))
            self.assertGreater(min(lattice.inside.mean(), 1 - lattice.inside.mean()), 0.1)
            # every cut of an edge lies in its triangle's plane
            crossings, cut = lattice.crossings, lattice.cut
            at, axis = np.nonzero(cut >= 0)
            first = crossings.first[cut[at, axis]]
            on = points[at] + step * crossings.share[first][:, None] * np.eye(3)[axis]
            corner = mesh.vertices[mesh.faces[crossings.triangle[first]]]
            normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
            off = np.einsum("ij,ij->i", on - corner[:, 0], normal) / np.linalg.norm(normal, axis=1)
            self.assertLess(np.abs(off).max(), 1e-5)


if __name__ == "__main__":
    unittest.main()
