"""Hollow: the wall by the test's own closest points, what stays as it was, and what readiness makes of it."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner
from scipy.spatial import cKDTree

from tests import specimens
from tests.exact_count import counted_exactly
from tests.random_scans import moved
from tests.seeds import in_turn, share
from tests.test_shapes import sheet
from tinsnip.cli import cli
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, read_scan, write_mesh
from tinsnip.job import release
from tinsnip.mesh import MADE, Mesh
from tinsnip.space.solids import box_solid
from tinsnip.survey import examine
from tinsnip.treat import Context, Hollow, Orient, StraightSnip, Sweep, Turn


def distances(mesh: Mesh, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Bounds of the distance of points to a surface, from below and above, by samples all over it; the slow way."""
    corners = mesh.vertices[mesh.faces]
    weights = np.array([(i, j, 8 - i - j) for i in range(9) for j in range(9 - i)]) / 8
    samples = np.einsum("wk,fkc->fwc", weights, corners).reshape(-1, 3)
    near = cKDTree(samples).query(points)[0]
    edge = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max() / 8
    return np.sqrt(np.maximum(near**2 - (edge / np.sqrt(3)) ** 2, 0.0)), near


class Hollowed(unittest.TestCase):
    @in_turn(2)
    def test_the_wall_is_as_thick_as_asked(self) -> None:
        rng = np.random.default_rng(0)
        wavy = specimens.sphere(100.0, 32).mesh
        wavy = Mesh(wavy.vertices * (1 + 0.1 * np.sin(wavy.vertices[:, [0]] / 12)), wavy.faces)
        kinds = (
            ("sphere", specimens.sphere(100.0, 32).mesh, 7.0),
            ("torus", specimens.torus(200.0, 80).mesh, 9.0),
            ("box", specimens.bored_box(200.0, 32).mesh, 9.0),
            ("wavy", wavy, 6.0),
        )
        for name, mesh, wall in share(kinds, self.id(), 2):
            with self.subTest(name):
                mesh = moved(rng, mesh, 100.0)
                outcome = Hollow(wall_mm=wall).apply(mesh, Context())
                after, old = outcome.mesh, len(mesh.faces)
                np.testing.assert_array_equal(after.faces[:old], mesh.faces)
                np.testing.assert_array_equal(after.vertices[: len(mesh.vertices)], mesh.vertices)
                skin = Mesh(after.vertices, after.faces[old:])
                self.assertEqual(specimens.closed_faults(skin.vertices, skin.faces[:, ::-1]), "")
                self.assertLess(skin.volume, 0)
                self.assertEqual(set(after.provenance[old:]), {MADE})
                # at corners and in the middles of its triangles: never nearer, and hardly farther but in its own edges
                low, high = distances(mesh, skin.vertices[np.unique(skin.faces)][::3])
                self.assertGreater(high.min(), 0.98 * wall)
                self.assertLess(np.quantile(low, 0.99), 1.02 * wall)
                low, high = distances(mesh, skin.vertices[skin.faces].mean(axis=1)[::5])
                self.assertGreater(high.min(), 0.98 * wall)
                self.assertLess(np.quantile(low, 0.95), 1.02 * wall)

    def test_sharp_edges_few_triangles_and_far_from_the_origin(self) -> None:
        """A box's inner skin is a box, walls of a wedge keep to 1 %: wherever the part lies, and as a file holds it."""
        corners = np.array([[0, 0, 0], [30, 0, 0], [30, 20, 0], [0, 20, 0], [0, 0, 12], [0, 20, 12.0]])
        sides = np.array([[0, 2, 1], [0, 3, 2], [0, 1, 4], [3, 5, 2], [1, 2, 5], [1, 5, 4], [0, 4, 5], [0, 5, 3]])
        kinds = (("box", *box_solid(np.array([30.0, 30.0, 30.0])), 20), ("wedge", corners, sides, 4000))
        cases = [(*kind, size, off) for kind in kinds for size in (0.1, 1.0, 100.0) for off in (0.0, 1e3, 3e4)]
        for name, points, faces, most, size, off in share(cases, self.id(), 3):
            mesh = Mesh((size * points + off).astype(np.float32).astype(float), faces.astype(np.int32))
            wall = 2.0 * size
            after = Hollow(wall_mm=wall).apply(mesh, Context()).mesh
            with self.subTest(name=name, size=size, off=off):
                inner = after.faces[len(mesh.faces) :]
                self.assertLessEqual(len(inner), most if off < 1e4 * size else 20 * most)
                # within a convex part the distance is that of the nearest of its planes
                edges = mesh.vertices[mesh.faces]
                ways = np.cross(edges[:, 1] - edges[:, 0], edges[:, 2] - edges[:, 0])
                ways /= np.linalg.norm(ways, axis=1)[:, None]
                skin = Mesh(after.vertices, inner)
                inside = specimens.sample_surface(skin, 4000, np.random.default_rng(0))
                away = np.min([(edges[i, 0] - inside) @ ways[i] for i in range(len(ways))], axis=0) / wall
                self.assertGreater(away.min(), 0.99)
                self.assertLess(np.quantile(away, 0.99), 1.01)
                held = Mesh(after.vertices.astype(np.float32).astype(float), after.faces)
                self.assertEqual(counted_exactly(held.vertices, held.faces), (0, 0))
                self.assertEqual(specimens.closed_faults(held.vertices, held.faces[len(mesh.faces) :, ::-1]), "")

    def test_nothing_crosses(self) -> None:
        for mesh, wall in ((specimens.sphere(100.0, 16).mesh, 20.0), (specimens.torus(100.0, 40).mesh, 12.0)):
            after = Hollow(wall_mm=wall).apply(mesh, Context()).mesh
            self.assertEqual(counted_exactly(after.vertices, after.faces), (0, 0))

    def told_by_files(self, hollow: Mesh) -> None:
        """Released, it is ready in any format; PLY says that the void is meant, of others one can say so."""
        with tempfile.TemporaryDirectory() as folder:
            for name in FORMATS:
                path = Path(folder) / f"hollow.{name}"
                self.assertTrue(release(hollow, path).readiness.ready, name)
                says = name == "ply"
                check = ["check", str(path)]
                for command, ready in (([*check, "--json"], says), ([*check, "--voids", "keep"], True)):
                    result = CliRunner().invoke(cli, [*command, "--unit", "mm"])
                    self.assertEqual(result.exit_code, 0 if ready else 1, f"{name}: {result.output}")
                    self.assertEqual("may be meant" in result.output, not ready)
            out = Path(folder) / "out"
            command = ["run", "print-solid", f"{folder}/hollow.stl", "--out", str(out), "--unit", "mm"]
            self.assertEqual(CliRunner().invoke(cli, [*command, "--voids", "keep", "--replace"]).exit_code, 0)
            self.assertEqual(len(read_scan(out / "hollow.stl", "mm").mesh.shells), 2)
            routine = Path(folder) / "hollow.json"
            step = {"name": "hollow", "treatment": "hollow", "fields": {"wall_mm": 8.0}}
            routine.write_text(json.dumps({"name": "hollow", "title": "hollow", "steps": [step]}))
            write_mesh(specimens.sphere(100.0, 24).mesh, Path(folder) / "ball.stl")
            command = ["run", str(routine), f"{folder}/ball.stl", "--out", str(out), "--unit", "mm"]
            result = CliRunner().invoke(cli, command)
            self.assertEqual(result.exit_code, 0, result.output)

    def test_it_is_ready_and_stays_hollow(self) -> None:
        ball = specimens.sphere(100.0, 24).mesh
        after = Hollow(wall_mm=8.0).apply(ball, Context()).mesh
        for mesh in (after, Turn(degrees=30).apply(after, Context()).mesh):
            found = examine(mesh)
            self.assertTrue(found.readiness.ready, found.readiness.reasons)
            self.assertEqual((found.counts()["hollows"], found.counts()["voids"], found.strays), (1, 0, []))
            self.assertIs(Sweep().apply(mesh, Context()).mesh, mesh)
            self.assertIs(Orient().apply(mesh, Context()).mesh, mesh)
        self.told_by_files(after)
        # a void that nobody asked for is still one
        both = Mesh(
            np.concatenate([ball.vertices, 0.3 * ball.vertices]),
            np.concatenate([ball.faces, ball.faces[:, ::-1] + len(ball.vertices)]),
        )
        self.assertFalse(examine(both).readiness.ready)
        # cut open it is a cup with one wall, and a solid no more
        cup = StraightSnip(offset=10.0, waste="above").apply(after, Context()).mesh
        self.assertEqual(len(cup.loops), 2)

    def test_what_cannot_be_hollowed_says_why(self) -> None:
        ball = specimens.sphere(100.0, 16).mesh
        hollow = Hollow(wall_mm=15.0).apply(ball, Context()).mesh
        for mesh, wall, said in (
            (sheet(10.0, 5), 1.0, "close it first"),
            (Mesh(ball.vertices, ball.faces[:, ::-1]), 1.0, "close it first"),
            (ball, 60.0, "ask for a thinner one"),
            (ball, 1e-3, "too fine for so large a part"),
            (hollow, 5.0, "hollow already"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                Hollow(wall_mm=wall).apply(mesh, Context())
