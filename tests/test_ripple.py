"""A scanner's ripple: found by its spectrum, taken off, and told from what the part has of its own."""

import unittest

import numpy as np
from scipy.ndimage import gaussian_filter

from tests import specimens
from tests.hands import WindowTest
from tests.seeds import in_turn, one_of, share
from tinsnip.demo.library import demo_scan
from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import mean_edge, vertex_normals
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.survey.ripple import ripple_of
from tinsnip.treat import Context, TakeRipple, Turn

_EDGE = 0.3


def lettered(rng: np.random.Generator) -> tuple[Mesh, np.ndarray, np.ndarray]:
    """A bent plate with letters 2 mm high; which vertices lie on a letter's top, and which clear of all."""
    x, y = np.meshgrid(np.arange(280) * _EDGE, np.arange(200) * _EDGE, indexing="ij")
    turned = rng.uniform(0, np.pi)
    u, v = np.cos(turned) * x - np.sin(turned) * y, np.sin(turned) * x + np.cos(turned) * y
    strokes = (np.abs(u / 8 % 2 - 1) < 0.35) & (np.abs(v / 11 % 2 - 1) < 0.6)
    strokes &= (x > 15) & (x < 70) & (y > 12) & (y < 50)
    soft = gaussian_filter(strokes.astype(float), 1.5)
    points = np.stack([x, y, 2.0 * soft + 0.001 * (x - 50) ** 2], -1).reshape(-1, 3)
    faces = specimens.grid_faces(280, 200, False, False)
    mesh = Mesh(points, faces)
    if vertex_normals(points, faces)[:, 2].mean() < 0:
        mesh = Mesh(points, faces[:, ::-1])
    inner = ((x > 4) & (x < 79) & (y > 4) & (y < 55)).ravel()
    return mesh, (soft > 0.97).ravel() & inner, (gaussian_filter(strokes.astype(float), 4) < 0.01).ravel() & inner


class Taken(unittest.TestCase):
    def test_ripples_of_many_lengths_and_heights_go_and_letters_stay(self) -> None:
        cases = [(8.0, 1.0), (8.0, 1.5), (14.0, 1.0), (14.0, 2.5), (25.0, 1.0), (25.0, 2.5), (25.0, 5.0)]
        for i, (waves, height) in enumerate(share(cases, "ripples")):
            rng = np.random.default_rng(i)
            mesh, top, clear = lettered(rng)
            turned, wavelength = rng.uniform(0, np.pi), waves * _EDGE
            way = np.array([np.cos(turned), np.sin(turned), 0.2]) / np.hypot(1, 0.2)
            lift = height * _EDGE * np.cos(2 * np.pi * mesh.vertices @ way / wavelength)
            lift *= 1 + 0.3 * np.sin(mesh.vertices[:, 0] / 20)  # not as high everywhere
            scan = mesh.moved(mesh.vertices + np.outer(lift + rng.normal(0, 0.05 * _EDGE, len(lift)), [0, 0, 1]))
            size = (1.0, 0.01, 40.0)[i % 3]
            scan = scan.moved(scan.vertices * size + 1000 * size * (i % 2))
            with self.subTest(waves=waves, height=height):
                found = ripple_of(scan)
                flat = np.hypot(*found.way[:2]) / found.wavelength * size  # waves a mm along the plate
                self.assertAlmostEqual(flat * wavelength / np.hypot(*way[:2]), 1.0, delta=0.03)
                outcome = TakeRipple().apply(scan, Context(Progress()))
                self.assertAlmostEqual(found.height / size / (2 * height * _EDGE), 1.0, delta=0.4)
                after = (outcome.mesh.vertices - 1000 * size * (i % 2)) / size
                left = after[:, 2] - mesh.vertices[:, 2]
                self.assertLess(np.sqrt((left[clear] ** 2).mean()), 0.2 * np.sqrt((lift[clear] ** 2).mean()))
                plain = after[:, 2] - 0.001 * (mesh.vertices[:, 0] - 50) ** 2
                tall = np.median(plain[top]) - np.median(plain[clear])
                self.assertAlmostEqual(tall, 2.0, delta=0.2)
                self.assertTrue((outcome.mesh.provenance == SHIFTED).any())
                self.assertLess(outcome.account.figures["largest_mm"], 2.5 * height * _EDGE * size)

    @in_turn(1)
    def test_on_scans_and_rounds_it_is_found_and_nothing_where_there_is_none(self) -> None:
        way = np.array([0.3, 0.5, 0.81]) / np.linalg.norm([0.3, 0.5, 0.81])
        kinds = (
            lambda: specimens.sphere(60.0, 60).mesh,
            lambda: demo_scan("pump-cover", 60_000),
            lambda: demo_scan("fountain-spout", 40_000),
        )
        for make in one_of(kinds):
            mesh = make()
            edge = mean_edge(mesh.vertices, mesh.faces)
            self.assertIsNone(ripple_of(mesh))
            self.assertIs(TakeRipple().apply(mesh, Context(Progress())).mesh, mesh)
            normals = vertex_normals(mesh.vertices, mesh.faces).astype(float)
            lift = 0.4 * edge * np.cos(2 * np.pi * mesh.vertices @ way / (8 * edge))
            scan = mesh.moved(mesh.vertices + lift[:, None] * normals)
            found = ripple_of(scan)
            self.assertGreater(abs(found.way @ way), 0.999)
            self.assertAlmostEqual(found.wavelength / (8 * edge), 1.0, delta=0.02)
            # it turns with the part
            turned = Turn(axis=(0, 1, 0), degrees=40).apply(scan, Context(Progress()))
            again = ripple_of(turned.mesh)
            self.assertGreater(abs(again.way @ turned.account.matrix[:3, :3] @ way), 0.999)
            after = TakeRipple().apply(scan, Context(Progress())).mesh
            left = ((after.vertices - mesh.vertices) * normals).sum(axis=1)
            seen = 1 - (normals @ way) ** 2 > 0.3
            self.assertLess(np.median(np.abs(left[seen])), 0.25 * np.median(np.abs(lift[seen])))

    @in_turn(0)
    def test_given_by_hand_on_an_area_and_on_any_mesh(self) -> None:
        mesh, *_ = lettered(np.random.default_rng(2))
        lift = 0.3 * np.cos(2 * np.pi * mesh.vertices[:, 0] / 4.0)
        scan = mesh.moved(mesh.vertices + np.outer(lift, [0, 0, 1]))
        chosen = mesh.vertices[mesh.faces].mean(axis=1)[:, 1] < 30
        only = TakeRipple(wavelength_mm=4.0, way=(2, 0, 0), only=Region.of(scan, chosen))
        after = only.apply(scan, Context(Progress())).mesh
        still = np.unique(scan.faces[~chosen])
        np.testing.assert_array_equal(after.vertices[still], scan.vertices[still])
        inner = (mesh.vertices[:, 1] < 25) & (mesh.vertices[:, 1] > 4) & (np.abs(mesh.vertices[:, 0] - 42) < 37)
        self.assertLess(
            np.median(np.abs(after.vertices[inner, 2] - mesh.vertices[inner, 2])), 0.2 * np.median(np.abs(lift))
        )
        with self.assertRaisesRegex(BadInput, "wavelength alone"):
            TakeRipple(wavelength_mm=4.0).apply(scan, Context(Progress()))
        soup = Mesh(np.array([[0, 0, 0], [1, 0, 0], [1, 0, 0], [2, 0, 0.0]]), [[0, 1, 2], [0, 1, 3], [0, 1, 1]])
        none = Mesh(np.zeros((0, 3)), np.zeros((0, 3), dtype=int))
        for one in (soup, none, specimens.sphere(1.0, 3).mesh, specimens.torus(80.0, 20).mesh):
            for treatment in (TakeRipple(), TakeRipple(wavelength_mm=0.5, way=(0, 0, 1))):
                result = treatment.apply(one, Context(Progress())).mesh
                self.assertTrue(np.isfinite(result.vertices).all())
                np.testing.assert_array_equal(result.faces, one.faces)


class InTheWindow(WindowTest):
    def test_looked_for_and_taken_off(self) -> None:
        x, y = np.meshgrid(np.arange(150) * _EDGE, np.arange(110) * _EDGE, indexing="ij")
        points = np.stack([x, y, 0.3 * np.cos(2 * np.pi * x / 4.0)], -1).reshape(-1, 3)
        self.put_up(Mesh(points, specimens.grid_faces(150, 110, False, False)))
        self.session.set_station("Surface")
        tray = self.window.tray("Surface")
        tray.choose("Smooth")
        self.settle()
        tray.look_for_ripple()
        self.wait_for(lambda: tray.ripple.text() not in ("looking…", "not looked for"))
        self.assertRegex(tray.ripple.text(), r"^every (3\.9|4)\S* mm, 0\.[4-7]\S* mm high$")
        tray.take_ripple()
        self.settle()
        self.assertIn("Took a ripple of", self.session.job.log[-1].text)
        self.session.history.undo()
        self.settle()


if __name__ == "__main__":
    unittest.main()
