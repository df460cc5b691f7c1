"""Ways over the surface, cuts along them, and open edges made good."""

import unittest

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import Delaunay

from tests import specimens
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.space.geodesic import shortest_path
from tinsnip.space.nearest import nearest_on
from tinsnip.survey.rags import find_rags
from tinsnip.survey.seams import find_seams
from tinsnip.treat import Context, StraightSnip, Tidy, TracedSnip

MAKES = (specimens.sphere, specimens.torus, specimens.bored_box)


def length_between(mesh: Mesh, a: np.ndarray, b: np.ndarray) -> float:
    face, place = nearest_on(mesh.vertices, mesh.faces, np.array([a, b]))
    path = shortest_path(
        mesh.vertices, mesh.faces, mesh.twins, (int(face[0]), place[0]), (int(face[1]), place[1]), Progress().state
    )
    return path.length


def random_sheet(rng: np.random.Generator, count: int) -> Mesh:
    """A unit square in the plane, triangulated at random."""
    rim = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
    points = np.concatenate([rim, rng.random((count, 2))])
    flat = Delaunay(points)
    faces = flat.simplices.astype(np.int32)
    u, v = points[faces[:, 1]] - points[faces[:, 0]], points[faces[:, 2]] - points[faces[:, 0]]
    faces[u[:, 0] * v[:, 1] < u[:, 1] * v[:, 0]] = faces[u[:, 0] * v[:, 1] < u[:, 1] * v[:, 0]][:, ::-1]
    return Mesh(np.column_stack([points, np.zeros(len(points))]), faces)


class Ways(unittest.TestCase):
    def test_straight_in_the_plane_whatever_the_triangles(self) -> None:
        rng = np.random.default_rng(0)
        for count in (3, 30, 1500):
            sheet = random_sheet(rng, count)
            for _ in range(40):
                a, b = np.append(rng.uniform(0.02, 0.98, 2), 0), np.append(rng.uniform(0.02, 0.98, 2), 0)
                self.assertAlmostEqual(length_between(sheet, a, b), float(np.linalg.norm(a - b)), delta=1e-9)

    def test_round_what_unrolls(self) -> None:
        # a prism of 12 sides unrolls to a strip: the shorter of the two ways round
        n, rows = 12, 9
        turn = 2 * np.pi * np.arange(n) / n
        z = np.linspace(0, 3, rows)
        vertices = np.column_stack([np.tile(np.cos(turn), rows), np.tile(np.sin(turn), rows), np.repeat(z, n)])
        tube = Mesh(vertices, specimens.grid_faces(rows, n, False, True))
        side, rng = 2 * np.sin(np.pi / n), np.random.default_rng(1)
        for _ in range(40):
            (s, za), (t, zb) = rng.uniform([0, 0.01], [n, 2.99], (2, 2))

            def place(u: float, height: float) -> np.ndarray:
                i = int(u) % n
                j = (i + 1) % n
                return np.append((1 - u % 1) * vertices[i, :2] + (u % 1) * vertices[j, :2], height)

            around = abs(s - t)
            known = float(np.hypot(side * min(around, n - around), za - zb))
            found = length_between(tube, place(s, za), place(t, zb))
            # never longer than a way straight round the one side or the other, never shorter than the shorter
            self.assertGreater(found, known * (1 - 1e-9))
            other = float(np.hypot(side * max(around, n - around), za - zb))
            self.assertTrue(np.isclose(found, known, rtol=1e-9) or np.isclose(found, other, rtol=1e-9))

    def test_no_longer_than_a_search_over_many_points_finds(self) -> None:
        rng = np.random.default_rng(2)
        sheet = random_sheet(rng, 150)
        rough = Mesh(
            sheet.vertices
            + np.column_stack([np.zeros((len(sheet.vertices), 2)), 0.1 * rng.random(len(sheet.vertices))]),
            sheet.faces,
        )
        # a second, slower way: Dijkstra over eight points on every edge, joined across each triangle
        ends = np.unique(
            np.sort(np.concatenate([rough.faces[:, [0, 1]], rough.faces[:, [1, 2]], rough.faces[:, [2, 0]]]), axis=1),
            axis=0,
        )
        share = np.linspace(0, 1, 10)[1:-1]
        points = np.concatenate(
            [rough.vertices, *((1 - t) * rough.vertices[ends[:, 0]] + t * rough.vertices[ends[:, 1]] for t in share)]
        )
        number = {tuple(e): i for i, e in enumerate(ends.tolist())}
        rows, columns = [], []
        for f in rough.faces.tolist():
            own = list(f)
            for k in range(3):
                e = number[tuple(sorted((f[k], f[(k + 1) % 3])))]
                own += [len(rough.vertices) + j * len(ends) + e for j in range(len(share))]
            grid = np.array(np.meshgrid(own, own)).reshape(2, -1)
            rows.append(grid[0])
            columns.append(grid[1])
        rows, columns = np.concatenate(rows), np.concatenate(columns)
        keep = rows != columns
        pairs = np.unique(np.column_stack([rows[keep], columns[keep]]), axis=0)
        weight = np.linalg.norm(points[pairs[:, 0]] - points[pairs[:, 1]], axis=1)
        graph = coo_matrix((weight, pairs.T), shape=(len(points),) * 2).tocsr()
        ratios = []
        for _ in range(30):
            a, b = len(rough.vertices) + rng.choice(len(points) - len(rough.vertices), 2, replace=False)
            known = float(dijkstra(graph, indices=a)[b])
            ratios.append(length_between(rough, points[a], points[b]) / known)
        self.assertLess(max(ratios), 1.05)  # a way than which none near it is shorter may miss a shorter one far off
        self.assertLess(float(np.median(ratios)), 1.0 + 1e-9)
        self.assertGreater(min(ratios), 0.97)


class TracedCuts(unittest.TestCase):
    def test_sixty_random_loops(self) -> None:
        cut = 0
        for seed in range(60):
            rng = np.random.default_rng(seed)
            size = float(rng.choice([1.0, 40.0, 2000.0]))
            mesh = MAKES[seed % 3](size, int(rng.choice([8, 12, 32]))).mesh
            turn = np.sort(rng.uniform(0, 2 * np.pi, int(rng.integers(3, 9))))
            up = rng.normal(size=3)
            up /= np.linalg.norm(up)
            u = np.cross(up, [0.3, 0.5, 0.9])
            u /= np.linalg.norm(u)
            ring = np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * np.cross(up, u)
            points = 0.6 * size * up + rng.uniform(0.05, 0.45) * size * ring
            snip = TracedSnip(points=tuple(map(tuple, points.tolist())))
            with self.subTest(seed=seed):
                try:
                    sides = [
                        snip.model_copy(update={"waste": w}).apply(mesh, Context()).mesh for w in ("left", "right")
                    ]
                    closed = [
                        snip.model_copy(update={"waste": w, "close": True}).apply(mesh, Context()).mesh
                        for w in ("left", "right")
                    ]
                except BadInput as refusal:
                    self.assertRegex(str(refusal), "crosses itself|does not part|within one triangle")
                    continue
                cut += 1
                self.assertAlmostEqual(sum(s.area for s in sides) / mesh.area, 1.0, delta=1e-9)
                for side in sides:
                    self.assertEqual((side.edges.tangled, side.edges.flipped, len(side.loops)), (0, 0, 1))
                for solid in closed:
                    self.assertEqual((solid.edges.open, solid.edges.tangled, solid.edges.flipped), (0, 0, 0))
                self.assertAlmostEqual(sum(s.volume for s in closed) / mesh.volume, 1.0, delta=1e-9)
        self.assertGreater(cut, 30)

    def test_a_cap_and_what_is_not_connected(self) -> None:
        ball = specimens.sphere(20.0, 80).mesh
        both = Mesh(
            np.concatenate([ball.vertices, ball.vertices + 50]),
            np.concatenate([ball.faces, ball.faces + len(ball.vertices)]),
        )
        turn = np.linspace(0, 2 * np.pi, 40, endpoint=False)
        points = np.column_stack([6 * np.cos(turn), 6 * np.sin(turn), np.full(40, 8.0)])
        left = TracedSnip(points=tuple(map(tuple, points)), waste="left").apply(both, Context()).mesh
        cap = 2 * np.pi * 10 * (10 - 8)
        self.assertAlmostEqual(left.area, both.area - cap, delta=0.02 * cap)
        self.assertEqual(len(left.shells), 2)  # the other ball stays
        ring = specimens.torus(40.0, 60).mesh
        tube = np.array([14.0, 0, 0]) + np.column_stack([3 * np.cos(turn), 0 * turn, 3 * np.sin(turn)])
        with self.assertRaises(BadInput) as refusal:  # once round the tube parts nothing
            TracedSnip(points=tuple(map(tuple, tube[::8]))).apply(ring, Context())
        self.assertIn("does not part", str(refusal.exception))


class Tidied(unittest.TestCase):
    def test_a_planes_cut_through_a_noisy_scan_is_neither_ragged_nor_cracked(self) -> None:
        for seed in range(3):
            for noise in (0.2, 0.5, 0.8):
                rng = np.random.default_rng(seed)
                ball = specimens.sphere(80.0, 60).mesh
                edge = float(np.linalg.norm(np.diff(ball.vertices[ball.faces[0, :2]], axis=0)))
                rough = Mesh(ball.vertices + rng.normal(0, noise * edge, ball.vertices.shape), ball.faces)
                cut = StraightSnip(normal=(0.2, 0.1, 1), offset=5.0).apply(rough, Context()).mesh
                kept = Mesh(cut.vertices.astype(np.float32).astype(np.float64), cut.faces)
                for mesh in (cut, kept):  # as it was cut, and as a file of single precision gives it back
                    self.assertEqual((find_rags(mesh), find_seams(mesh)), ([], []), (seed, noise))

    def test_random_ragged_rims(self) -> None:
        for seed in range(24):
            rng = np.random.default_rng(seed)
            size = float(rng.choice([3.0, 60.0, 900.0]))
            cup = StraightSnip(offset=0.05 * size).apply(MAKES[seed % 3](size, 120).mesh, Context()).mesh
            torn = specimens.ragged(rng, cup, 3, float(rng.uniform(0.2, 0.6)))
            rows = 5
            outcome = Tidy(rows=rows).apply(torn, Context())
            mesh = outcome.mesh
            with self.subTest(seed=seed, said=outcome.text):
                self.assertEqual((mesh.edges.tangled, mesh.edges.flipped, outcome.account.figures["left"]), (0, 0, 0))
                corner, loops = mesh.faces.ravel(), mesh.loops
                visits = np.bincount(corner[loops.halfedges], minlength=len(mesh.vertices))
                self.assertLessEqual(visits.max(), 1)  # no pinch
                lengths = []
                for i in range(len(loops)):
                    places = mesh.vertices[corner[loops.loop(i)]]
                    way = np.roll(places, -1, axis=0) - places
                    lengths.append(np.linalg.norm(way, axis=1))
                    way /= lengths[-1][:, None]
                    turn = np.degrees(np.arccos(np.clip((way * np.roll(way, 1, axis=0)).sum(axis=1), -1, 1)))
                    self.assertLess(turn.max(), 60.0)
                # a rim that is torn is a finding, until it is tidied
                self.assertGreater(sum(rag.count for rag in find_rags(torn)), 5)
                self.assertEqual((find_rags(cup), find_rags(mesh)), ([], []))
                lengths = np.concatenate(lengths)
                self.assertGreater(lengths.min(), lengths.mean() / 5)
                # what lies beyond the rows is there to the bit
                far = np.zeros(len(torn.vertices), bool)
                far[torn.faces.ravel()[torn.loops.halfedges]] = True
                for _ in range(rows):
                    far[torn.faces[far[torn.faces].any(axis=1)]] = True
                beyond = ~far[torn.faces].any(axis=1)
                self.assertGreater(beyond.sum(), 100)
                there = specimens.triangle_set(mesh.vertices, mesh.faces)
                self.assertLessEqual(specimens.triangle_set(torn.vertices, torn.faces[beyond]), there)
                again = Tidy(rows=rows).apply(torn, Context()).mesh
                self.assertEqual(again.vertices.tobytes(), mesh.vertices.tobytes())

    def test_a_stretch_only_and_what_has_no_edge(self) -> None:
        ball = specimens.sphere(20.0, 40).mesh
        self.assertIs(Tidy().apply(ball, Context()).mesh, ball)
        cup = specimens.ragged(np.random.default_rng(1), StraightSnip(offset=1.0).apply(ball, Context()).mesh, 3, 0.4)
        near = cup.vertices[cup.faces][..., 0].mean(axis=1) > 0
        tidied = Tidy(edges=Region.of(cup, near), rows=3).apply(cup, Context()).mesh
        away = (cup.vertices[cup.faces][..., 0] < -4).all(axis=1)
        there = specimens.triangle_set(tidied.vertices, tidied.faces)
        self.assertLessEqual(specimens.triangle_set(cup.vertices, cup.faces[away]), there)
        self.assertIsNot(tidied, cup)


if __name__ == "__main__":
    unittest.main()
