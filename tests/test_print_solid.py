"""The routine print-solid on damaged analytic shapes and on the demo scan at several densities."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner
from scipy.spatial import cKDTree

from tests import specimens
from tinsnip.cli import cli
from tinsnip.demo import DEMO_SCANS, demo_scan, shapes
from tinsnip.demo.library import demo_truth
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.crossings import crossings_and_folds


def print_solid(mesh: Mesh, *options: str) -> tuple[Mesh, dict]:
    """Run the routine as a user would, file to file; returns the result as read independently."""
    with tempfile.TemporaryDirectory() as folder:
        raw = Path(folder) / "scan.stl"
        write_mesh(mesh, raw)
        out = Path(folder) / "out"
        options = ("run", "print-solid", str(raw), "--out", str(out), "--unit", "mm", "--json", *options)
        result = CliRunner().invoke(cli, options, standalone_mode=False)
        if result.exception is not None and not isinstance(result.exception, SystemExit):
            raise result.exception
        facts = json.loads(result.stdout)["results"][0]
        return Mesh(*specimens.read_stl(str(out / "scan.stl"))), facts


class DamagedShapes(unittest.TestCase):
    """Twenty damaged shapes of three kinds and three sizes."""

    def check(self, make, size: float, seed: int, **rates: float) -> None:
        rng = np.random.default_rng(seed)
        specimen = make(size)
        self.assertEqual(specimens.closed_faults(specimen.mesh.vertices, specimen.mesh.faces), "")
        damaged = specimens.damage(specimen, rng, **rates)
        solid, facts = print_solid(damaged.mesh)
        self.assertEqual(specimens.closed_faults(solid.vertices, solid.faces), "")
        self.assertTrue(facts["ready"], facts["state"])
        self.assertEqual(len(solid.shells), 1)
        self.assertEqual(facts["pinched_vertices"], 0)
        # what is farther than two rows from any damage is there to the bit
        faces, near = damaged.mesh.faces, np.zeros(len(damaged.mesh.vertices), dtype=bool)
        near[faces[~damaged.good]] = True
        for _ in range(2):
            near[faces[near[faces].any(axis=1)]] = True
        far = damaged.good & ~near[faces].any(axis=1)
        self.assertGreater(far.sum(), 0.5 * len(faces) if rates == {} else 0)
        lost = specimens.triangle_set(damaged.mesh.vertices, faces[far])
        lost -= specimens.triangle_set(solid.vertices, solid.faces)
        self.assertEqual(len(lost), 0, f"{len(lost)} good triangles changed")
        self.assertEqual(sum(map(len, crossings_and_folds(solid.vertices, solid.faces))), 0)
        diagonal = specimen.mesh.diagonal
        out = np.abs(specimen.distance(specimens.sample_surface(solid, 40000, rng)))
        self.assertLess(np.quantile(out, 0.99), 0.002 * diagonal)
        back, _ = cKDTree(specimens.sample_surface(solid, 400000, rng)).query(
            specimens.sample_surface(specimen.mesh, 20000, rng)
        )
        self.assertLess(np.quantile(back, 0.99), 0.004 * diagonal)  # half of it is the spacing of the samples

    def test_all(self) -> None:
        makes = (specimens.sphere, specimens.torus, specimens.bored_box)
        for seed in range(20):
            make, size = makes[seed % 3], (2.0, 200.0, 2000.0)[seed // 3 % 3]
            rates = ({}, {"pinches": 0.003, "flips": 0.02}, {"doubles": 0.02, "holes": 7, "crumbs": 30, "voids": 2})
            with self.subTest(shape=make.__name__, size=size, seed=seed):
                self.check(make, size, seed, **rates[seed % 4 % 3])


class DemoScan(unittest.TestCase):
    """The pump cover at three densities, its bed cut away at a given height."""

    HEIGHT = 3.2

    def test_densities(self) -> None:
        kind = DEMO_SCANS["pump-cover"].kind
        truth = demo_truth("pump-cover", 1.2)
        truth = keep_triangles(truth, truth.vertices[truth.faces][..., 2].min(axis=1) > self.HEIGHT)
        rng = np.random.default_rng(5)
        for triangles in (60_000, 200_000, 500_000):
            with self.subTest(triangles=triangles):
                raw = demo_scan("pump-cover", triangles)
                solid, facts = print_solid(raw, "--set", f"trim.offset={self.HEIGHT}")
                self.assertEqual(specimens.closed_faults(solid.vertices, solid.faces), "")
                self.assertTrue(facts["ready"], facts["state"])
                self.assertEqual(len(solid.shells), 1)
                self.assertAlmostEqual(solid.box[0, 2], self.HEIGHT, places=4)
                points = specimens.sample_surface(solid, 60000, rng)
                off = np.abs(np.maximum(shapes.distances(kind, points), self.HEIGHT - points[:, 2]))
                self.assertLess(np.quantile(off, 0.99), 0.002 * solid.diagonal)
                back, _ = cKDTree(specimens.sample_surface(solid, 1_200_000, rng)).query(
                    specimens.sample_surface(truth, 30000, rng)
                )
                self.assertLess(np.quantile(back, 0.99), 0.002 * solid.diagonal)


if __name__ == "__main__":
    unittest.main()
