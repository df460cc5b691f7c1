"""The demo scans are what they claim to be: made-up parts as a scanner would see them, the same every time."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tinsnip.demo import DEMO_SCANS, demo_scan
from tinsnip.demo.library import demo_file, demo_truth
from tinsnip.demo.shapes import distances, gradients
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan
from tinsnip.mesh import Mesh
from tinsnip.space.isosurface import march
from tinsnip.survey import examine
from tinsnip.survey.strays import shell_roles


class Surfaces(unittest.TestCase):
    def test_fields_become_closed_surfaces(self) -> None:
        """Balls thrown together, added and cut away: closed, outward, on the zero of the field, of the right volume."""
        rng = np.random.default_rng(0)
        for _ in range(6):
            centres = rng.uniform(-6, 6, (5, 3))
            radii = rng.uniform(2.5, 5.0, 5)

            def field(points: np.ndarray, centres=centres, radii=radii) -> np.ndarray:
                each = np.linalg.norm(points[:, None] - centres, axis=2) - radii
                return np.maximum(each[:, :4].min(axis=1), -each[:, 4])

            box = np.array([[-12.0] * 3, [12.0] * 3])
            vertices, faces = march(field, box, 0.3, lambda share: None)
            mesh = Mesh(vertices, faces)
            self.assertEqual((mesh.edges.open, mesh.edges.tangled, mesh.edges.flipped), (0, 0, 0))
            self.assertEqual(examine(mesh).tangles.pinched_vertices, 0)
            self.assertLess(np.abs(field(vertices)).max(), 0.3 * 0.9)
            samples = rng.uniform(box[0], box[1], (200_000, 3))
            expected = (field(samples) < 0).mean() * 24.0**3
            self.assertAlmostEqual(mesh.volume / expected, 1.0, delta=0.04)

    def test_the_shapes_grow_steadily_off_their_surface(self) -> None:
        rng = np.random.default_rng(1)
        for name in ("pump-cover", "fountain-spout"):
            truth = demo_truth(name, 2.0)
            kind = DEMO_SCANS[name].kind
            self.assertEqual(specimens.closed_faults(truth.vertices, truth.faces), "")
            self.assertEqual(len(truth.shells), 1)
            points = specimens.sample_surface(truth, 4000, rng)
            slope = gradients(kind, points)
            length = np.linalg.norm(slope, axis=1)
            self.assertLess(np.quantile(length, 0.999), 1.3)  # what marching through it relies on
            self.assertAlmostEqual(np.median(length), 1.0, delta=0.3)
            # a short step along the slope leads out, by about its length
            step = points + 0.3 * slope / length[:, None]
            grown = distances(kind, step) - distances(kind, points)
            self.assertGreater((grown > 0.1).mean(), 0.97)
            self.assertLess(grown.max(), 0.3 * 1.4)


class Scans(unittest.TestCase):
    def test_faults_come_about_as_in_life(self) -> None:
        for name, scene in DEMO_SCANS.items():
            with self.subTest(name):
                mesh = demo_scan(name, 60_000)
                self.assertAlmostEqual(len(mesh.faces) / 60_000, 1.0, delta=0.3)
                found = examine(mesh)
                self.assertFalse(found.readiness.ready)
                self.assertGreater(int(found.boundaries.is_hole.sum()), 0)
                self.assertGreaterEqual(int(found.boundaries.is_rim.sum()), 1)
                self.assertGreater(found.tangles.total, 0)
                roles = shell_roles(mesh)
                self.assertGreaterEqual(int(roles.crumb.sum() + roles.chunk.sum()), scene.crumbs // 2)
                self.assertEqual(int(roles.void.sum()), 0 if scene.void is None else 1)
                self.assertEqual(mesh.colour.shape, mesh.vertices.shape)
                self.assertGreater(mesh.colour.std(axis=0).max(), 3)
                # the main shell lies on the true part, or on the bed it stands on, but for noise and spikes
                main = np.unique(mesh.faces[mesh.shells.label == roles.main])
                off = np.abs(distances(scene.kind, mesh.vertices[main], scene.bed))
                self.assertLess(np.median(off), 4 * scene.noise)
                self.assertLess(np.quantile(off, 0.95), 20 * scene.noise)

    def test_the_same_bits_every_time(self) -> None:
        one, two = (demo_scan("fountain-spout", 20_000) for _ in range(2))
        for name in ("vertices", "faces", "provenance", "colour"):
            self.assertEqual(getattr(one, name).tobytes(), getattr(two, name).tobytes())
        with tempfile.TemporaryDirectory() as folder:
            path = demo_file("fountain-spout", 20_000, Path(folder))
            stamp = path.stat().st_mtime_ns
            self.assertEqual(demo_file("fountain-spout", 20_000, Path(folder)), path)
            self.assertEqual(path.stat().st_mtime_ns, stamp)
            again = read_scan(path, "mm").mesh
            self.assertEqual(len(again.faces), len(one.faces))
            self.assertTrue((again.colour is not None) and len(again.colour) == len(again.vertices))

    def test_the_two_lanterns_meet(self) -> None:
        upper, lower = (demo_scan(f"gauge-lantern-{part}", 20_000) for part in ("upper", "lower"))
        low, high = max(upper.box[0, 2], lower.box[0, 2]), min(upper.box[1, 2], lower.box[1, 2])
        self.assertGreater(high - low, 5.0)  # enough in common to join them by
        whole = max(upper.box[1, 2], lower.box[1, 2]) - min(upper.box[0, 2], lower.box[0, 2])
        self.assertLess(high - low, 0.6 * whole)

    def test_what_there_is_not_is_said(self) -> None:
        for name, count in (("teapot", 60_000), ("pump-cover", 5), ("pump-cover", 10**9)):
            with self.assertRaises(BadInput) as refused:
                demo_scan(name, count)
            self.assertIn("choose", str(refused.exception))


if __name__ == "__main__":
    unittest.main()
