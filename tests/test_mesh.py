"""Topology and measures, against brute force and known shapes."""

import unittest
from itertools import pairwise

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tests import specimens
from tinsnip.mesh import Attribute, Domain, Lineage, Mesh
from tinsnip.mesh.halfedges import fans_of, twin_table
from tinsnip.mesh.subsets import keep_triangles, reorder
from tinsnip.space.welding import weld_exact
from tinsnip.survey import examine
from tinsnip.survey.tangles import doubled_triangles


def random_mesh(rng: np.random.Generator, vertices: int, triangles: int) -> Mesh:
    """Triangles thrown together: every sort of tangle there is."""
    return Mesh(rng.random((vertices, 3)), rng.integers(0, vertices, (triangles, 3)))


class Topology(unittest.TestCase):
    def test_counts_against_brute_force(self) -> None:
        rng = np.random.default_rng(0)
        for vertices, triangles in ((5, 9), (12, 30), (60, 90), (200, 1500), (3, 400)):
            mesh = random_mesh(rng, vertices, triangles)
            proper = mesh.faces[[len(set(f)) == 3 for f in mesh.faces.tolist()]]
            uses: dict[tuple, list[tuple]] = {}
            for f, face in enumerate(proper.tolist()):
                for k in range(3):
                    a, b = face[k], face[(k + 1) % 3]
                    uses.setdefault((min(a, b), max(a, b)), []).append((f, a < b))
            sizes = np.array([len(u) for u in uses.values()])
            self.assertEqual(mesh.edges.open, int((sizes == 1).sum()))
            self.assertEqual(mesh.edges.shared, int((sizes == 2).sum()))
            self.assertEqual(mesh.edges.tangled, int((sizes > 2).sum()))
            flipped = sum(len(u) == 2 and u[0][1] == u[1][1] for u in uses.values())
            self.assertEqual(mesh.edges.flipped, flipped)
            pairs = np.array([(u[0][0], v[0]) for u in uses.values() for v in u[1:]]).reshape(-1, 2)
            graph = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(len(proper), len(proper)))
            self.assertEqual(len(mesh.shells), connected_components(graph, False)[0])
            pinched = 0
            for v in range(vertices):
                own = np.flatnonzero((proper == v).any(axis=1))
                at = [u for edge, u in uses.items() if v in edge]
                links = [(x[0], y[0]) for u in at for x, y in pairwise(u)]
                seat = {int(f): i for i, f in enumerate(own)}
                rows = np.array([(seat[a], seat[b]) for a, b in links]).reshape(-1, 2)
                graph = coo_matrix((np.ones(len(rows)), rows.T), shape=(len(own), len(own)))
                pinched += len(own) > 0 and connected_components(graph, False)[0] > 1
            self.assertEqual(int((fans_of(mesh.faces, mesh.twins, vertices) > 1).sum()), pinched)
            self.assertEqual(sorted(mesh.loops.halfedges), sorted(np.flatnonzero(mesh.twins == -1)))

    def test_doubled_triangles_by_twins_against_all_rows(self) -> None:
        for seed in range(60):
            rng = np.random.default_rng(seed)
            faces = rng.integers(0, int(rng.integers(4, 30)), (int(rng.integers(1, 60)), 3))
            faces = np.concatenate([faces, rng.permuted(faces[rng.random(len(faces)) < 0.3], axis=1)]).astype(np.int32)
            faces = rng.permutation(faces)
            _, first = np.unique(np.sort(faces, axis=1), axis=0, return_index=True)
            expected = np.setdiff1d(np.arange(len(faces)), first)
            for twins in (None, twin_table(faces, 30)):
                self.assertEqual(np.flatnonzero(doubled_triangles(faces, twins)).tolist(), expected.tolist())

    def test_weld_against_unique(self) -> None:
        rng = np.random.default_rng(1)
        for kind in (np.float32, np.float64):
            for spread in (3, 40, 1_000_000):
                points = rng.integers(-spread, spread, (50_000, 3)).astype(kind)
                points[::3] *= -0.0 if spread == 3 else 1.0
                index, first = weld_exact(points)
                expected = len(np.unique(points + 0.0, axis=0))
                self.assertEqual(len(first), expected)
                self.assertTrue((points[first][index] == points).all())

    def test_holes_that_touch_in_a_point_stay_two(self) -> None:
        n = 9
        x, y = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
        sheet = Mesh(np.stack([x, y, 0 * x], -1).reshape(-1, 3), specimens.grid_faces(n, n, False, False))
        cell = np.arange(len(sheet.faces)) // 2
        holed = keep_triangles(sheet, ~np.isin(cell, [3 * 8 + 3, 4 * 8 + 4]))
        self.assertEqual(sorted(np.diff(holed.loops.start)), [4, 4, 4 * (n - 1)])
        found = examine(holed)
        self.assertEqual((found.counts()["holes"], found.counts()["rims"]), (2, 1))
        self.assertEqual(found.tangles.pinched_vertices, 1)

    def test_measures_of_known_shapes(self) -> None:
        for make in (specimens.sphere, specimens.torus, specimens.bored_box):
            specimen = make(50.0, 120)
            self.assertAlmostEqual(specimen.mesh.volume / specimen.volume, 1.0, delta=0.004)
            self.assertTrue(examine(specimen.mesh).readiness.ready)
            inside_out = Mesh(specimen.mesh.vertices, specimen.mesh.faces[:, ::-1])
            self.assertFalse(examine(inside_out).readiness.ready)

    def test_attributes_follow_the_mesh(self) -> None:
        mesh = specimens.torus(10.0, 40).mesh
        colour = Attribute(Domain.VERTEX, np.arange(3 * len(mesh.vertices), dtype=np.uint8).reshape(-1, 3))
        group = Attribute(Domain.TRIANGLE, np.arange(len(mesh.faces)))
        corner = Attribute(Domain.CORNER, np.arange(3 * len(mesh.faces), dtype=float))
        mesh = Mesh(mesh.vertices, mesh.faces, None, {"colour": colour, "group": group, "corner": corner})
        some = np.arange(len(mesh.faces))[::-7]
        part = keep_triangles(mesh, some)
        self.assertTrue((part.attributes["group"].values == some).all())
        self.assertTrue((part.colour[part.faces] == mesh.colour[mesh.faces[some]]).all())
        self.assertTrue((part.attributes["corner"].values.reshape(-1, 3) == some[:, None] * 3 + [0, 1, 2]).all())
        new = part.derive(part.faces[:1], Lineage(np.arange(len(part.vertices)), np.array([-1])))
        self.assertEqual(new.provenance.tolist(), [2])
        self.assertRaises(ValueError, part.vertices.__setitem__, 0, 0)

    def test_reorder_keeps_every_triangle(self) -> None:
        rng = np.random.default_rng(2)
        mesh = specimens.torus(10.0, 200).mesh
        mix = rng.permutation(len(mesh.vertices))
        faces = np.argsort(mix)[mesh.faces][rng.permutation(len(mesh.faces))]
        ordered = reorder(Mesh(mesh.vertices[mix], faces))
        before = specimens.triangle_set(mesh.vertices, mesh.faces)
        self.assertEqual(before, specimens.triangle_set(ordered.vertices, ordered.faces))
        step = np.abs(np.diff(ordered.faces.min(axis=1)))
        self.assertLess(np.median(step), 50)


if __name__ == "__main__":
    unittest.main()
