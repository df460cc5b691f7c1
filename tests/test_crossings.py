"""Crossings and folds: counted as rational arithmetic counts them, followed from step to step, shown."""

import itertools
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import share
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.crossings import crossings_and_folds, meeting_pairs
from tinsnip.survey import examine
from tinsnip.survey.crossings import crossings_of, follow_crossings
from tinsnip.treat import Context, Reduce, Smooth, StraightSnip, Weld

Point = list[Fraction]


def whole_numbers(points: np.ndarray) -> list[Point]:
    """The points without any rounding, in units so small that all coordinates are whole numbers."""
    exact = [[Fraction(float(x)) for x in p] for p in points]
    unit = max(x.denominator for p in exact for x in p)  # a power of two, as they all are
    return [[int(x * unit) for x in p] for p in exact]


def minus(a: Point, b: Point) -> Point:
    return [x - y for x, y in zip(a, b, strict=True)]


def cross(a: Point, b: Point) -> Point:
    return [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]


def dot(a: Point, b: Point) -> Fraction:
    return sum(x * y for x, y in zip(a, b, strict=True))


def clipped(polygon: list[Point], heights: list[Fraction], keep_above: bool) -> list[Point]:
    """What of a polygon lies in a plane, or not below it."""
    left = []
    for i, (p, h) in enumerate(zip(polygon, heights, strict=True)):
        q, g = polygon[(i + 1) % len(polygon)], heights[(i + 1) % len(polygon)]
        if h == 0 or (keep_above and h > 0):
            left.append(p)
        if h * g < 0:
            left.append([x + Fraction(h, h - g) * (y - x) for x, y in zip(p, q, strict=True)])
    return left


def meet(one: list[Point], other: list[Point]) -> bool:
    """Whether two triangles have a point in common: one is cut down to the other's plane, then to its three sides."""
    normal = cross(minus(other[1], other[0]), minus(other[2], other[0]))
    left = clipped(one, [dot(normal, minus(p, other[0])) for p in one], False)
    for k in range(3):
        inward = cross(normal, minus(other[(k + 1) % 3], other[k]))
        left = clipped(left, [dot(inward, minus(p, other[k])) for p in left], True)
    return bool(left)


def more_in_common(one: list[Point], other: list[Point], common: list[Point]) -> bool:
    """Whether two triangles with one or two corners in common meet beyond these."""
    normal = cross(minus(other[1], other[0]), minus(other[2], other[0]))
    left = clipped(one, [dot(normal, minus(p, other[0])) for p in one], False)
    for k in range(3):
        inward = cross(normal, minus(other[(k + 1) % 3], other[k]))
        left = clipped(left, [dot(inward, minus(p, other[k])) for p in left], True)
    if len(common) == 1:
        return any(p != common[0] for p in left)
    along = minus(common[1], common[0])
    return any(any(cross(along, minus(p, common[0]))) for p in left)


def counted_by_hand(points: np.ndarray, faces: np.ndarray) -> tuple[set, set]:
    """Crossings and folds in rational arithmetic; only pairs whose boxes are apart are left out."""
    exact = whole_numbers(points)
    corners = [[exact[v] for v in f] for f in faces.tolist()]
    proper = [any(cross(minus(t[1], t[0]), minus(t[2], t[0]))) for t in corners]
    low, high = points[faces].min(axis=1), points[faces].max(axis=1)
    crossings, folds = set(), set()
    for i in range(len(faces)):
        near = (low[i + 1 :] <= high[i]).all(axis=1) & (high[i + 1 :] >= low[i]).all(axis=1)
        for j in (i + 1 + np.flatnonzero(near)).tolist():
            common = set(faces[i].tolist()) & set(faces[j].tolist())
            if not (proper[i] and proper[j]) or len(common) == 3:
                continue
            if common:
                if more_in_common(corners[i], corners[j], [exact[v] for v in sorted(common)]):
                    folds.add((i, j))
            elif meet(corners[i], corners[j]):
                crossings.add((i, j))
    return crossings, folds


def soup(rng: np.random.Generator, turn: int, count: int) -> tuple[np.ndarray, np.ndarray]:
    """Triangles that cross, touch, share corners and edges, and lie in one plane, at random."""
    if turn % 5 == 0:  # no corners in common but by chance
        middle = rng.random((count, 1, 3))
        points = (middle + rng.normal(0, 0.035, (count, 3, 3))).reshape(-1, 3)
        faces = np.arange(3 * count).reshape(-1, 3)
        return points, np.where(rng.random(faces.shape) < 0.1, rng.integers(0, 3 * count, faces.shape), faces)
    side = 9 if turn % 5 < 3 else 18
    grid = np.array(list(itertools.product(range(side), repeat=3 if turn % 5 < 3 else 2)), dtype=float)
    if grid.shape[1] == 2:  # one plane, or two at an angle that no rounding keeps
        grid = np.column_stack([grid, np.zeros(len(grid))]) @ np.array([[0.6, 0.8, 0], [-0.8, 0.6, 0], [0, 0, 1]])
    points = (grid, 0.1 * grid + 1e3, grid * [1, 1, 0.5], grid / 7, grid)[turn % 5]
    first = rng.integers(0, len(points), count)
    step = (1, side, side * side) if len(points) > side * side else (1, side)
    near = [0, *step, *(-s for s in step), *(a + b for a, b in itertools.permutations(step, 2)), 2, -2 * side]
    faces = np.stack([first, *(first + rng.choice(near, count) for _ in range(2))], axis=1)
    return points, np.clip(faces, 0, len(points) - 1)


class Counted(unittest.TestCase):
    def test_counts_equal_those_of_rational_arithmetic(self) -> None:
        sums = np.zeros(2, dtype=int)
        turns = share(range(100), "soups", least=10)
        for turn in turns:
            rng = np.random.default_rng([2, turn])
            points, faces = soup(rng, turn, 300)
            faces = faces.astype(np.int32)
            expected = counted_by_hand(points, faces)
            found = [{tuple(sorted(p)) for p in kind.tolist()} for kind in crossings_and_folds(points, faces)]
            with self.subTest(seed=turn):
                self.assertEqual(tuple(found), expected)
                self.assertEqual({tuple(sorted(p)) for p in meeting_pairs(points, faces).tolist()}, expected[0])
                some = rng.choice(len(faces), 40, replace=False)
                part = [{tuple(sorted(p)) for p in k.tolist()} for k in crossings_and_folds(points, faces, some)]
                chosen = set(some.tolist())
                self.assertEqual(part, [{p for p in kind if set(p) & chosen} for kind in expected])
            sums += [len(kind) for kind in expected]
        self.assertGreater(sums.min(), 20 * len(turns))

    def test_an_unwelded_seam_crosses_nothing_but_what_it_would_welded(self) -> None:
        ball = specimens.sphere(20.0, 24).mesh
        for spoil in (False, True):
            places = ball.vertices.copy()
            if spoil:
                places[100:130:5] *= -1.2
            welded = Mesh(places, ball.faces)
            upper = places[ball.faces].mean(axis=1)[:, 2] > 0
            halves = [Mesh(places, ball.faces[side]) for side in (upper, ~upper)]
            start = len(places)
            apart = Mesh(
                np.concatenate([places, places]),
                np.concatenate([halves[0].faces, halves[1].faces + start]),
            )
            self.assertGreater(apart.edges.open, 20)
            self.assertEqual(crossings_of(apart).total, crossings_of(welded).total)
            self.assertEqual(crossings_of(welded).total > 0, spoil)
            less = keep_triangles(apart, np.arange(len(apart.faces)) != 7)
            expected = crossings_of(Mesh(less.vertices, less.faces)).total
            self.assertEqual(follow_crossings(apart, less).total, expected)
        # closed shells that touch are no seam: what a slicer would join there is counted
        box = specimens.bored_box(20.0, 4).mesh
        beside = Mesh(
            np.concatenate([box.vertices, box.vertices + np.array([np.ptp(box.vertices[:, 0]), 0, 0])]),
            np.concatenate([box.faces, box.faces + len(box.vertices)]),
        )
        self.assertGreater(crossings_of(beside).total, 0)

    def test_followed_from_step_to_step(self) -> None:
        """Only what changed is counted again; the sum is the same as counted anew."""
        rng = np.random.default_rng(3)
        ball, ring = specimens.sphere(20.0, 60).mesh, specimens.torus(20.0, 60).mesh
        both = Mesh(
            np.concatenate([ball.vertices, ring.vertices]),
            np.concatenate([ball.faces, ring.faces + len(ball.vertices)]),
        )
        bent = both.vertices.copy()
        bent[rng.choice(len(bent), 12, replace=False)] += rng.normal(0, 3, (12, 3))
        mesh = Mesh(bent, both.faces)
        steps = [
            lambda m: keep_triangles(m, rng.random(len(m.faces)) > 0.01),
            lambda m: keep_triangles(m, rng.permutation(len(m.faces))),
            lambda m: StraightSnip(normal=(0.1, 0.2, 1), offset=-15).apply(m, Context()).mesh,
            lambda m: Mesh(m.vertices[m.faces].reshape(-1, 3), np.arange(3 * len(m.faces)).reshape(-1, 3)),
            lambda m: Weld().apply(m, Context()).mesh,
            lambda m: Smooth(iterations=1).apply(m, Context()).mesh,
            lambda m: Reduce(percent=95).apply(m, Context()).mesh,
        ]
        crossings_of(mesh)
        for number, step in enumerate(steps):
            after = step(mesh)
            followed = follow_crossings(mesh, after)
            anew = crossings_of(Mesh(after.vertices, after.faces))
            for one, other in zip(followed, anew, strict=True):
                self.assertEqual(set(map(frozenset, one.tolist())), set(map(frozenset, other.tolist())), number)
                self.assertEqual(len(one), len(other))
            self.assertGreater(followed.total, 50)
            mesh = after

    def test_a_clean_shape_has_none_and_a_crossed_one_is_not_ready(self) -> None:
        for make in (specimens.sphere, specimens.torus, specimens.bored_box):
            found = examine(make(30.0, 48).mesh)
            self.assertEqual(
                (found.counts()["crossings"], found.counts()["folds"], found.readiness.state), (0, 0, "Ready")
            )
        ball = specimens.sphere(20.0, 40).mesh
        bent = ball.vertices.copy()
        bent[np.argmax(bent[:, 2])] -= [0, 0, 45]
        found = examine(Mesh(bent, ball.faces))
        self.assertFalse(found.readiness.ready)
        self.assertIn("crossing", found.readiness.state)
        self.assertEqual(sum(f.count for f in found.crossed), found.crossings.total)


@unittest.skipUnless(SCREEN, "needs a display")
class Shown(WindowTest):
    def test_crossings_are_counted_behind_listed_and_drawn(self) -> None:
        ball, block = specimens.sphere(20.0, 60).mesh, specimens.bored_box(18.0, 48).mesh
        apart = block.vertices + np.array([9, 3, 2])
        mesh = Mesh(
            np.concatenate([ball.vertices, apart]), np.concatenate([ball.faces, block.faces + len(ball.vertices)])
        )
        path = Path(self.folder.name) / "crossed.ply"
        write_mesh(mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_6)
        found = self.session.examination
        self.assertEqual(found.crossings.total, crossings_of(mesh).total)
        self.assertEqual([f.id for f in self.session.findings()][:1], ["X1"])
        self.assertIn("crossing", self.window.state_button.text())
        rows, finding = self.window.ticket.list, self.session.findings()[0]
        place = rows.visualRect(rows.model().index(0, 0))
        self.click(rows.viewport(), place.left() + 90, place.center().y())
        middle = np.array([self.view.width() / 2, self.view.height() / 2])
        self.wait_for(lambda: np.abs(self.view.camera.project(finding.place)[0, :2] - middle).max() < 3)
        self.settle()
        picture = self.view.grabFramebuffer()
        red = sum(
            (c := picture.pixelColor(x, y)).red() > 180 and c.blue() < 110
            for x in range(0, picture.width(), 2) for y in range(0, picture.height(), 2)
        )  # fmt: skip
        self.assertGreater(red, 100)


if __name__ == "__main__":
    unittest.main()
