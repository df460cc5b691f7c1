"""The routine print-solid on damaged analytic shapes and on the demo scan at several densities."""

import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from click.testing import CliRunner
from scipy.spatial import cKDTree

from tests import specimens
from tests.exact_count import counted_exactly
from tests.seeds import seeds
from tests.test_untangle import folded_over
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


class Proven(unittest.TestCase):
    """Sixty damaged shapes: what is said to be ready is, and what is not is said why."""

    def judge(self, solid: Mesh, facts: dict) -> None:
        """A ready one is closed, outward, one shell, and crosses itself nowhere, by the tests' own exact count."""
        self.assertEqual(specimens.closed_faults(solid.vertices, solid.faces), "")
        self.assertEqual(len(solid.shells), 1)
        self.assertEqual(facts["pinched_vertices"], 0)
        self.assertEqual(counted_exactly(solid.vertices, solid.faces), (0, 0))

    def check(self, make, size: float, seed: int, folds: int, **rates: float) -> bool:
        rng = np.random.default_rng(seed)
        specimen = make(size, (30, 96, 96)[seed % 3])
        damaged = specimens.damage(specimen, rng, **rates)
        mesh, good = damaged.mesh, damaged.good
        if folds:
            mesh, bent = folded_over(rng, mesh, folds, 2.5)
            met = np.concatenate([p.ravel() for p in crossings_and_folds(mesh.vertices, mesh.faces)])
            good = good & ~bent & ~np.isin(np.arange(len(good)), met)
        solid, facts = print_solid(mesh)
        if not facts["ready"]:
            self.assertTrue(facts["reasons"] or facts["state"])
            return False
        self.judge(solid, facts)
        # what is farther than two rows from any damage is there to the bit
        faces, near = mesh.faces, np.zeros(len(mesh.vertices), dtype=bool)
        near[faces[~good]] = True
        for _ in range(2):
            near[faces[near[faces].any(axis=1)]] = True
        far = good & ~near[faces].any(axis=1)
        self.assertGreater(far.sum(), 0.5 * len(faces) if rates == {} else 0)
        lost = specimens.triangle_set(mesh.vertices, faces[far])
        lost -= specimens.triangle_set(solid.vertices, solid.faces)
        self.assertEqual(len(lost), 0, f"{len(lost)} good triangles changed")
        diagonal = specimen.mesh.diagonal
        out = np.abs(specimen.distance(specimens.sample_surface(solid, 40000, rng)))
        self.assertLess(np.quantile(out, 0.99), 0.002 * diagonal)
        back, _ = cKDTree(specimens.sample_surface(solid, 400000, rng)).query(
            specimens.sample_surface(specimen.mesh, 20000, rng)
        )
        self.assertLess(np.quantile(back, 0.99), 0.004 * diagonal)  # half of it is the spacing of the samples
        return True

    def test_analytic_shapes(self) -> None:
        makes, ready = (specimens.sphere, specimens.torus, specimens.bored_box), 0
        taken = list(seeds(48, self.id()))
        for seed in taken:
            make, size = makes[seed % 3], (2.0, 200.0, 2000.0)[seed // 3 % 3]
            rates = ({}, {"pinches": 0.003, "flips": 0.02}, {"doubles": 0.02, "holes": 7, "crumbs": 30, "voids": 2})
            with self.subTest(shape=make.__name__, size=size, seed=seed):
                ready += self.check(make, size, seed, 2 * (seed % 2), **rates[seed % 4 % 3])
        self.assertGreaterEqual(ready, len(taken) - 4)

    def test_demo_shapes(self) -> None:
        ready = 0
        taken = list(seeds(12, self.id()))
        for seed in taken:
            name, rng = list(DEMO_SCANS)[seed % len(DEMO_SCANS)], np.random.default_rng(seed)
            raw = demo_scan(name, (24_000, 32_000, 40_000)[seed % 3])
            mesh, _ = folded_over(rng, Mesh(raw.vertices, raw.faces), 3, 2.5)
            solid, facts = print_solid(mesh)
            with self.subTest(name=name, triangles=len(mesh.faces), state=facts["state"]):
                if facts["ready"]:
                    ready += 1
                    self.judge(solid, facts)
                    low = solid.box[0, 2]
                    truth = demo_truth(name, 1.2)
                    truth = keep_triangles(truth, truth.vertices[truth.faces][..., 2].min(axis=1) > low)
                    points = specimens.sample_surface(truth, 20_000, rng)
                    # as far as it was scanned
                    seen, _ = cKDTree(specimens.sample_surface(raw, 600_000, rng)).query(points)
                    back, _ = cKDTree(specimens.sample_surface(solid, 600_000, rng)).query(points)
                    self.assertLess(np.quantile(back[seen < 0.004 * raw.diagonal], 0.99), 0.003 * solid.diagonal)
                else:
                    self.assertTrue(facts["reasons"] or facts["state"])
        self.assertGreaterEqual(ready, len(taken) - 8)


class Caged(unittest.TestCase):
    def test_a_rim_that_no_base_closes_is_left_to_the_recast_that_is_proposed(self) -> None:
        """Two bowls whose teeth reach into each other, as the ribs of a cage that was seen from outside alone."""
        ball = specimens.sphere(40.0, 60).mesh
        middle = ball.vertices[ball.faces].mean(axis=1)
        turn, height = np.arctan2(middle[:, 1], middle[:, 0]), middle[:, 2] / 20.0
        gap = (np.abs(height) < 0.75) & (np.abs(height - np.clip(8 * np.sin(4 * turn), -0.6, 0.6)) < 0.45)
        cage = keep_triangles(ball, ~gap)
        with mock.patch("tinsnip.treat.close.plinth._MOST_CROSSED", 0.5):
            options = ("--set", "strays.chunks=keep")
            left, facts = print_solid(cage, *options)
            self.assertFalse(facts["ready"])
            self.assertIn("no base can close these rims", " ".join(facts["reasons"]))
            self.assertEqual((len(left.faces), facts["made_share"]), (len(cage.faces), 0.0))
            self.assertIn("--recast", facts["proposal"])  # carried out a little coarser
            closed, facts = print_solid(cage, *options, "--recast", "0.8")
        self.assertTrue(facts["ready"], facts["reasons"])
        self.assertEqual(specimens.closed_faults(closed.vertices, closed.faces), "")


class DemoScan(unittest.TestCase):
    """The pump cover at three densities, its bed cut away at a given height."""

    HEIGHT = 3.2

    def test_densities(self) -> None:
        kind = DEMO_SCANS["pump-cover"].kind
        truth = demo_truth("pump-cover", 1.2)
        truth = keep_triangles(truth, truth.vertices[truth.faces][..., 2].min(axis=1) > self.HEIGHT)
        rng = np.random.default_rng(5)
        densities = (60_000, 200_000, 500_000)
        for triangles in [densities[i] for i in seeds(3, "densities")] or densities[:1]:
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
