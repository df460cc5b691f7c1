"""Largest deviations that hold, reductions that keep to them and clear of themselves."""

import itertools
import unittest

import numpy as np

from tests import specimens
from tests.seeds import seeds, share
from tinsnip.mesh import Mesh
from tinsnip.mesh.subdivide import halve_edges
from tinsnip.progress import Progress
from tinsnip.space.crossings import meeting_pairs
from tinsnip.space.tree import closest_points
from tinsnip.survey.deviation import largest_deviation
from tinsnip.treat import Context, Reduce, StraightSnip


def dense(mesh: Mesh, rows: int = 13) -> np.ndarray:
    """A hundred points and more spread over each triangle, its corners and edges among them."""
    weights = np.array([(i, j, rows - i - j) for i in range(rows + 1) for j in range(rows + 1 - i)]) / rows
    return np.einsum("wk,fkc->fwc", weights, mesh.vertices[mesh.faces]).reshape(-1, 3)


def far(mesh: Mesh, other: Mesh) -> float:
    """Largest distance of a hundred and more points of each triangle from another surface.

    By the product's closest points, tested against brute force. Only triangles that can hold the largest are filled:
    from its corners, middle and edges' middles no point of a triangle is farther than half its longest edge, and a
    distance changes no faster than its point moves.
    """

    def distances(points: np.ndarray) -> np.ndarray:
        return closest_points(other.tree, points, Progress().state)[0]

    a, b, c = (mesh.vertices[mesh.faces[:, k]] for k in range(3))
    corner = distances(mesh.vertices)[mesh.faces].max(axis=1)
    inner = distances(np.concatenate([(a + b) / 2, (b + c) / 2, (c + a) / 2, (a + b + c) / 3])).reshape(4, -1)
    known = np.maximum(corner, inner.max(axis=0))
    longest = np.max([np.linalg.norm(p - q, axis=1) for p, q in ((a, b), (b, c), (c, a))], axis=0)
    chosen = known + longest / 2 >= known.max()
    return max(float(known.max()), float(distances(dense(Mesh(mesh.vertices, mesh.faces[chosen]))).max()))


def cup(radius: float, wall: float, around: int = 72, up: int = 30) -> Mesh:
    """A closed cup of even thickness, turned about the z axis."""
    angle = 2 * np.pi * np.arange(around) / around
    inner = radius - wall
    profile = [(radius * t, 0.0) for t in np.linspace(0.2, 1, 6)]
    profile += [(radius, z) for z in np.linspace(0, 1.5 * radius, up)[1:]]
    profile += [(inner, z) for z in np.linspace(1.5 * radius, wall, up)]
    profile += [(inner * t, wall) for t in np.linspace(1, 0.2, 6)[1:]]
    r, z = np.array(profile).T
    points = np.stack([np.outer(r, np.cos(angle)), np.outer(r, np.sin(angle)), np.repeat(z[:, None], around, 1)], -1)
    points = np.vstack([points.reshape(-1, 3), [0, 0, 0], [0, 0, wall]])
    first, last, after = np.arange(around), (len(r) - 1) * around + np.arange(around), (np.arange(around) + 1) % around
    tips = len(points) - 2
    faces = np.vstack(
        [
            specimens.grid_faces(len(r), around, False, True, True),
            np.column_stack([np.full(around, tips), after, first]),
            np.column_stack([np.full(around, tips + 1), last, last[after]]),
        ]
    )
    return Mesh(points, faces)


def box(rounds: int) -> Mesh:
    """A box of 12 triangles, each edge halved again and again."""
    corners = np.array(list(itertools.product((0, 10.0), (0, 20.0), (0, 30.0))))
    faces = []
    for axis in range(3):
        for side in (0, 1):
            four = [c for c in range(8) if (c >> (2 - axis)) & 1 == side]
            a, b, c, d = four
            faces += [(a, b, d), (a, d, c)] if (side == 0) == (axis == 1) else [(a, d, b), (a, c, d)]
    mesh = Mesh(corners, np.array(faces))
    if mesh.volume < 0:
        mesh = Mesh(mesh.vertices, mesh.faces[:, ::-1])
    return halve_edges(mesh, rounds)


class Bounds(unittest.TestCase):
    def test_a_bound_holds_and_is_tight(self) -> None:
        for turn in seeds(60, self.id()):
            rng = np.random.default_rng((0, turn))
            make = (specimens.sphere, specimens.torus, specimens.bored_box)[turn % 3]
            mesh = make(10.0, 4 * int(rng.integers(4, 14))).mesh
            noise = rng.normal(0, rng.choice([0, 0.01, 0.1, 0.4]), mesh.vertices.shape)
            mesh = Mesh(mesh.vertices + noise, mesh.faces)
            if turn % 4 == 1:
                mesh = StraightSnip(offset=0.3, normal=(0.1, 0.2, 1)).apply(mesh, Context()).mesh
            less = Reduce(percent=float(rng.uniform(2, 60))).apply(mesh, Context()).mesh
            told = largest_deviation(less, mesh, Progress())
            found = max(far(less, mesh), far(mesh, less))
            self.assertLessEqual(found, told.max * (1 + 1e-12))
            self.assertLess(told.max, 1.1 * found + 1e-5 * mesh.diagonal)
            self.assertLessEqual(told.p99, told.max)
        same = specimens.torus(10.0, 40).mesh
        self.assertLess(largest_deviation(same, same, Progress()).max, 1e-7)
        shifted = same.moved(same.vertices + np.array([0, 0, 0.25]))
        self.assertAlmostEqual(largest_deviation(shifted, same, Progress()).max, 0.25, delta=0.0026)

    def test_two_hundred_reductions_keep_to_their_limits(self) -> None:
        passed, taken = 0, list(seeds(200, self.id()))
        for turn in taken:
            rng = np.random.default_rng((1, turn))
            kind = turn % 4
            if kind == 0:
                mesh = specimens.torus(10.0, 4 * int(rng.integers(5, 11))).mesh
            elif kind == 1:
                mesh = specimens.bored_box(10.0, 4 * int(rng.integers(3, 7))).mesh
                mesh = Mesh(mesh.vertices + rng.normal(0, 0.01, mesh.vertices.shape), mesh.faces)
            elif kind == 2:
                mesh = cup(10.0, 10 * 10 ** rng.uniform(-2, -1), 28, 10)
            else:
                mesh = specimens.sphere(10.0, int(rng.integers(6, 15))).mesh
                mesh = Mesh(mesh.vertices * rng.uniform(0.1, 1, 3), mesh.faces)
            limit = 10 ** rng.uniform(-3, 0)
            place = rng.normal(size=3) * rng.choice([0, 100.0])
            mesh = Mesh(mesh.vertices + place, mesh.faces)
            outcome = Reduce(max_deviation_mm=limit).apply(mesh, Context())
            less = outcome.mesh
            written = Mesh(less.vertices.astype(np.float32), less.faces)  # as a file of single precision has it
            found = max(far(written, mesh), far(mesh, written))
            self.assertLessEqual(found, limit, f"turn {turn}")
            self.assertLessEqual(outcome.account.figures.get("deviation_mm", 0.0), limit)
            passed += len(less.faces) < len(mesh.faces)
        self.assertGreaterEqual(passed, len(taken) - 49)

    def test_a_box_comes_down_to_its_twelve_triangles(self) -> None:
        mesh = box(5)
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
        outcome = Reduce(max_deviation_mm=0.01).apply(mesh, Context())
        self.assertEqual(len(outcome.mesh.faces), 12)
        self.assertAlmostEqual(outcome.mesh.volume, 6000.0, delta=2.0)

    def test_thin_walls_do_not_come_to_cross(self) -> None:
        for wall in share((0.1, 0.3, 1.0), self.id()):
            mesh = cup(20.0, wall)
            self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
            self.assertEqual(len(meeting_pairs(mesh.vertices, mesh.faces)), 0)
            for asked in (Reduce(max_deviation_mm=0.5), Reduce(max_deviation_mm=0.1), Reduce(triangles=400)):
                outcome = asked.apply(mesh, Context())
                less = outcome.mesh
                self.assertEqual(specimens.closed_faults(less.vertices, less.faces), "")
                self.assertEqual(len(meeting_pairs(less.vertices, less.faces)), outcome.account.crossings)
                self.assertEqual(outcome.account.crossings, 0)
                self.assertLess(len(less.faces), 0.9 * len(mesh.faces))
                if len(less.faces) > 420 and asked.triangles:
                    self.assertIn("allows no fewer", outcome.text)


if __name__ == "__main__":
    unittest.main()
