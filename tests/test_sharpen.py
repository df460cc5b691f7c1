"""Sharpened edges: where the forms meet, sound, and nothing else touched."""

import unittest
from collections.abc import Callable

import numpy as np
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.hands import WindowTest
from tests.seeds import in_turn, seeds
from tinsnip.mesh import SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.space.isosurface import march
from tinsnip.space.nearest import nearest_on
from tinsnip.survey.crossings import new_crossings
from tinsnip.treat import Context, Sharpen
from tinsnip.treat.kit.edges.edgesplits import edges_of, split_edges

TURN = Rotation.from_euler("xyz", [0.3, 0.5, 0.2]).as_matrix()
H = 0.8
Field = Callable[[np.ndarray], np.ndarray]


def box(p: np.ndarray, size: tuple[float, float, float], middle: tuple[float, float, float] = (0, 0, 0)) -> np.ndarray:
    return (np.abs(p - middle) - size).max(axis=1)


def post(p: np.ndarray, radius: float, low: float, high: float) -> np.ndarray:
    return np.maximum(np.hypot(p[:, 0], p[:, 1]) - radius, np.maximum(p[:, 2] - high, low - p[:, 2]))


def ring(radius: float, z: float) -> np.ndarray:
    t = np.linspace(0, 2 * np.pi, 200, endpoint=False)
    return np.column_stack([radius * np.cos(t), radius * np.sin(t), np.full(200, z)])


def box_edges(x: float, y: float, z: float) -> np.ndarray:
    t = np.linspace(-1, 1, 60)
    corners = [(a, b) for a in (-1, 1) for b in (-1, 1)]
    rows = [(k, np.column_stack([np.full(60, a), np.full(60, b)])) for k in range(3) for a, b in corners]
    return np.concatenate([np.insert(row, k, t, axis=1) for k, row in rows]) * (x, y, z)


SHAPES: dict[str, tuple[Field, np.ndarray, float]] = {
    "box": (lambda p: box(p, (16, 12, 8)), box_edges(16, 12, 8), 8 * 16 * 12 * 8.0),
    "plate with a post": (
        lambda p: np.minimum(box(p, (16, 14, 4), (0, 0, -4)), post(p, 8, -4, 10)),
        np.concatenate([ring(8, 0), ring(8, 10), box_edges(16, 14, 4) - (0, 0, 4)]),
        8 * 16 * 14 * 4 + np.pi * 640.0,
    ),
    "bored block": (
        lambda p: np.maximum(box(p, (16, 12, 8)), -post(p, 7, -20, 20)),
        np.concatenate([ring(7, 8), ring(7, -8), box_edges(16, 12, 8)]),
        8 * 16 * 12 * 8 - np.pi * 49 * 16,
    ),
}


def scan_of(field: Field, noise: float, seed: int, h: float = H) -> Mesh:
    """As marching cubes leave a part: every edge cut off, and noise of so many edges on all of it."""
    vertices, faces = march(lambda p: field(p @ TURN), np.array([[-26.0] * 3, [26.0] * 3]) + 0.3, h, lambda share: None)
    shift = noise * h * np.random.default_rng(seed).normal(size=len(vertices))
    return Mesh(vertices + shift[:, None] * vertex_normals(vertices, faces), faces)


def off_mesh(mesh: Mesh, points: np.ndarray) -> np.ndarray:
    face, (u, v) = (found := nearest_on(mesh.vertices, mesh.faces, points))[0], found[1].T
    shares = np.column_stack([1 - u - v, u, v])
    return np.linalg.norm((mesh.vertices[mesh.faces[face]] * shares[:, :, None]).sum(axis=1) - points, axis=1)


class Edges(unittest.TestCase):
    def test_come_back_to_where_the_forms_meet(self) -> None:
        for seed in seeds(12):
            name = sorted(SHAPES)[seed % len(SHAPES)]
            field, edges, volume = SHAPES[name]
            noise = (0.05, 0.1, 0.2)[seed % 3]
            with self.subTest(shape=name, noise=noise, seed=seed):
                scan = scan_of(field, noise, seed)
                outcome = Sharpen().apply(scan, Context(Progress()))
                after, places = outcome.mesh, edges @ TURN.T
                self.assertEqual(specimens.closed_faults(after.vertices, after.faces), "")
                self.assertEqual(len(new_crossings(scan, after)), 0)
                was, now = off_mesh(scan, places), off_mesh(after, places)
                self.assertLess(np.median(now), 0.2 * np.median(was))
                self.assertLess(np.quantile(now, 0.9), 0.5 * np.quantile(was, 0.9))
                self.assertLess(abs(after.volume - volume), 0.003 * volume)
                figures = outcome.account.figures
                self.assertLessEqual(figures["largest_mm"], 2.05 * H)
                # what lies on a flat or round stays to the bit, what was moved or is new says so
                old = {row.tobytes() for row in scan.vertices}
                stays = np.array([row.tobytes() in old for row in after.vertices])
                self.assertGreater(stays.mean(), 0.6)
                self.assertTrue((after.provenance[(~stays)[after.faces].any(axis=1)] == SHIFTED).all())
                self.assertTrue((after.provenance[stays[after.faces].all(axis=1)] == 0).all())

    def test_only_where_it_is_asked_for_and_with_its_colours(self) -> None:
        scan = scan_of(SHAPES["box"][0], 0.1, 3)
        colours = np.clip(128 + 4 * scan.vertices, 0, 255).astype(np.uint8)
        scan = scan.with_attribute("colour", Attribute(Domain.VERTEX, colours))
        chosen = scan.vertices[scan.faces].mean(axis=1)[:, 0] > 0
        after = Sharpen(only=Region.of(scan, chosen)).apply(scan, Context(Progress())).mesh
        moved = after.provenance == SHIFTED
        self.assertGreater(moved.sum(), 100)
        self.assertTrue((after.vertices[after.faces[moved]][:, :, 0].max(axis=1) > -H).all())
        told = after.attributes["colour"].values.astype(float)
        self.assertLess(np.abs(told - np.clip(128 + 4 * after.vertices, 0, 255)).max(), 4 * 2.1 * H)

    @in_turn(1)
    def test_a_fillet_that_is_wider_stays(self) -> None:
        def filleted(p: np.ndarray) -> np.ndarray:
            q = np.maximum(np.abs(p) - (10, 8, 6), 0.0)
            return np.linalg.norm(q, axis=1) + np.minimum((np.abs(p) - (10, 8, 6)).max(axis=1), 0.0) - 6.0

        scan = scan_of(filleted, 0.05, 1, 1.1)
        after = Sharpen(rounded_over_mm=3.0).apply(scan, Context(Progress())).mesh
        self.assertLess(
            np.abs(filleted(after.vertices @ TURN)).max(), np.abs(filleted(scan.vertices @ TURN)).max() + 0.05
        )

    @in_turn(0)
    def test_open_tangled_and_shapeless_meshes_come_back_as_sound_as_they_were(self) -> None:
        scan = scan_of(SHAPES["box"][0], 0.1, 2, 1.1)
        opened = keep_triangles(scan, scan.vertices[scan.faces].mean(axis=1)[:, 2] < 3)
        tangled = Mesh(scan.vertices, np.concatenate([scan.faces, scan.faces[40:44]]))
        inside_out = Mesh(scan.vertices, scan.faces[:, ::-1])
        for mesh in (opened, tangled, inside_out):
            after = Sharpen().apply(mesh, Context(Progress())).mesh
            self.assertIsNot(after, mesh)
            self.assertEqual(after.edges.tangled, mesh.edges.tangled)
            self.assertGreaterEqual(after.edges.open, mesh.edges.open)
            self.assertEqual(len(after.loops), len(mesh.loops))
            self.assertEqual(len(new_crossings(mesh, after)), 0)
        ball = specimens.sphere(20.0).mesh
        self.assertIs(Sharpen().apply(ball, Context(Progress())).mesh, ball)


class Splits(unittest.TestCase):
    def test_surface_colour_and_texture_stay_what_they_were(self) -> None:
        ring = specimens.torus(40.0, 30).mesh
        for seed in seeds(12):
            rng = np.random.default_rng(seed)
            linear = rng.normal(size=(3, 2))
            places = (ring.vertices[ring.faces.ravel()] @ linear).astype(np.float64)
            mesh = ring.with_attribute("texture place", Attribute(Domain.CORNER, places))
            edges = edges_of(mesh)
            edges = edges[rng.random(len(edges)) < rng.choice([0.05, 0.5, 1.0])]
            edges = np.where(rng.random(len(edges))[:, None] < 0.5, edges, edges[:, ::-1])
            share = rng.uniform(0.1, 0.9, len(edges))
            after = split_edges(mesh, edges, share)
            self.assertEqual(specimens.closed_faults(after.vertices, after.faces), "")
            self.assertEqual(len(after.faces), len(mesh.faces) + 2 * len(edges))
            self.assertAlmostEqual(after.volume, mesh.volume, 6)
            ends = mesh.vertices[edges]
            wanted = ends[:, 0] + share[:, None] * (ends[:, 1] - ends[:, 0])
            np.testing.assert_allclose(after.vertices[len(mesh.vertices) :], wanted, atol=1e-12)
            told = after.attributes["texture place"].values
            np.testing.assert_allclose(told, after.vertices[after.faces.ravel()] @ linear, atol=1e-9)


class InTheWindow(WindowTest):
    def runTest(self) -> None:
        scan = scan_of(SHAPES["box"][0], 0.05, 1)
        self.put_up(scan)
        before = self.session.mesh
        self.session.set_station("Surface")
        tray = self.window.tray("Surface")
        tray.choose("Smooth")
        form, button = tray.offered["sharpen"]
        form.field("rounded_over_mm").tick.setChecked(True)
        form.field("rounded_over_mm").spin.setValue(2.4)
        self.click(button)
        self.settle()
        self.assertIn("Sharpened", self.session.job.log[-1].text)
        self.assertEqual(self.session.job.log[-1].action.rounded_over_mm, 2.4)
        self.assertTrue((self.session.mesh.provenance == SHIFTED).any())
        self.session.history.undo()
        self.settle()
        self.assertIs(self.session.mesh, before)


if __name__ == "__main__":
    unittest.main()
