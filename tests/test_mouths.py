"""Walls whose edge was not scanned, and lids that would fill a vessel: closed as walls, or asked about."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.part_scans import vessel
from tests.seeds import share
from tests.test_shapes import together
from tinsnip.formats import Scan
from tinsnip.job.routine import Run, load_routine
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import region_of_holes
from tinsnip.survey import examine
from tinsnip.survey.holes import classify_boundaries
from tinsnip.survey.lids import lids_of
from tinsnip.treat import Context, StraightSnip, TellOpenings, Turn


def solid_of(mesh: Mesh, *settings: str) -> tuple[Run, bool]:
    routine = load_routine("print-solid").with_settings(list(settings))
    run = routine.run(Scan(Path("scan.stl"), mesh, "stl", "mm", ""))
    readiness = examine(run.mesh, wanted_shells=run.wanted_shells).readiness
    return run, bool(readiness.ready) and all(check.passed for check in run.checks())


def without_its_lip(rng: np.random.Generator, mesh: Mesh) -> tuple[Mesh, float]:
    """What a ragged cut some way below the top leaves, and the volume of the wall that is left."""
    high = np.ptp(mesh.vertices[:, 2])
    level = float(mesh.vertices[:, 2].min() + high * rng.uniform(0.7, 0.93))
    below = StraightSnip(normal=(0, 0, 1), offset=level, waste="above", close=True).apply(mesh, Context()).mesh
    middle = mesh.vertices[mesh.faces].mean(axis=1)
    wave = 0.015 * high * np.sin(rng.integers(2, 6) * np.arctan2(middle[:, 1], middle[:, 0]))
    return keep_triangles(mesh, middle[:, 2] < level + wave), below.volume


def plate(rng: np.random.Generator, thickness: float, bored: float) -> Mesh:
    """A bent plate as scanned from both sides, its edges never seen."""
    x, y = np.meshgrid(np.linspace(-50, 50, 101), np.linspace(-30, 30, 61), indexing="ij")
    faces, bend = specimens.grid_faces(101, 61, False, False), rng.uniform(0, 8) * np.sin(x / 30 + rng.uniform(0, 6))
    sides = [np.stack([x, y, bend + z], -1).reshape(-1, 3) for z in (0.5 * thickness, -0.5 * thickness)]
    front = Mesh(sides[0], faces)
    if np.cross(*(front.vertices[faces[0, [1, 2]]] - front.vertices[faces[0, 0]]))[2] < 0:
        faces = faces[:, ::-1]
    mesh = together(Mesh(sides[0], faces), Mesh(sides[1], faces[:, ::-1]))
    middle = mesh.vertices[mesh.faces].mean(axis=1)
    return keep_triangles(mesh, np.hypot(middle[:, 0] - 12, middle[:, 1] + 5) > bored)


class Walls(unittest.TestCase):
    def test_vessels_without_their_lips_stay_hollow(self) -> None:
        for seed in share(range(36), "lips", 2):
            rng = np.random.default_rng(seed)
            whole = vessel(rng)
            scan, wall = without_its_lip(rng, whole)
            scale = (1.0, 0.02, 25.4)[seed % 3]
            scan = scan.moved(scan.vertices * scale + rng.normal(size=3) * 2000 * (seed % 2))
            if seed % 4 == 3:  # a file that is inside out
                scan = Mesh(scan.vertices, scan.faces[:, ::-1])
            with self.subTest(seed=seed):
                run, ready = solid_of(scan, "bed.enabled=false")
                self.assertTrue(ready, [s.text for s in run.steps])
                self.assertEqual(specimens.closed_faults(run.mesh.vertices, run.mesh.faces), "")
                self.assertAlmostEqual(run.mesh.volume / scale**3 / wall, 1.0, delta=0.05)
                self.assertLess(run.made_share, 0.1)

    def test_plates_scanned_from_both_sides(self) -> None:
        for seed in share(range(18), "plates", 2):
            rng = np.random.default_rng(seed)
            thickness, bored = rng.uniform(2, 6), 10.0 * (seed % 2)
            scan = plate(rng, thickness, bored)
            area = 0.5 * scan.areas.sum()
            with self.subTest(seed=seed):
                run, ready = solid_of(Turn(degrees=35, axis=(1, 0, 0)).apply(scan, Context()).mesh, "bed.enabled=false")
                self.assertTrue(ready, [s.text for s in run.steps])
                self.assertAlmostEqual(run.mesh.volume / (area * thickness), 1.0, delta=0.06)
                handles = 1 - (len(run.mesh.vertices) - len(run.mesh.faces) / 2) / 2
                self.assertEqual(handles, seed % 2)

    def test_bodies_side_by_side_are_no_walls(self) -> None:
        ball = specimens.sphere(40.0).mesh
        cup = keep_triangles(ball, ball.vertices[ball.faces].mean(axis=1)[:, 2] < 8)
        inner = Mesh(0.8 * cup.vertices, cup.faces)
        turned = Mesh(inner.vertices, inner.faces[:, ::-1])
        apart = inner.moved(inner.vertices + np.array([60.0, 0, 0]))
        for other, is_wall in ((turned, True), (inner, False), (apart, False)):
            for outer in (cup, Mesh(cup.vertices, cup.faces[:, ::-1])):
                found = classify_boundaries(together(outer, other))
                self.assertEqual(bool((found.mouth >= 0).any()), is_wall and outer is cup)
        mesh = together(cup, turned)
        found = classify_boundaries(mesh)
        hole = int(mesh.loops.loop(int(np.flatnonzero(found.is_hole)[0])).min())
        told = TellOpenings(openings=region_of_holes(mesh, (hole,)), are="rim").apply(mesh, Context()).mesh
        self.assertFalse((classify_boundaries(told).mouth >= 0).any())


class Lids(unittest.TestCase):
    def test_the_inside_of_a_vessel_is_not_filled_unasked(self) -> None:
        for seed in share(range(18), "lids", 2):
            rng = np.random.default_rng(seed)
            whole = vessel(rng)
            middle, floor = whole.vertices[whole.faces].mean(axis=1), whole.vertices[:, 2].min()
            inward = middle[:, :2]
            corners = whole.vertices[whole.faces]
            normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
            inside = (normal[:, :2] * inward).sum(axis=1) < 0
            level = floor + rng.uniform(0.45, 0.7) * np.ptp(whole.vertices[:, 2])
            foot = floor + 0.3 * np.ptp(whole.vertices[:, 2])
            seen = ~((inside | ((normal[:, 2] > 0) & (middle[:, 2] < foot))) & (middle[:, 2] < level))
            scan = keep_triangles(whole, seen)
            with self.subTest(seed=seed):
                (lid,) = lids_of(scan)
                run, ready = solid_of(scan, "bed.enabled=false")
                self.assertFalse(ready)
                asked = next(s for s in run.steps if s.question)
                self.assertIn("become solid", asked.text)
                self.assertIn(f"--set {asked.name}.lids=close", run.proposal(examine(run.mesh).readiness))
                closed, ready = solid_of(scan, "bed.enabled=false", f"{asked.name}.lids=close")
                self.assertTrue(ready, [s.text for s in closed.steps])
                self.assertAlmostEqual(
                    lid.fills_mm3 + lid.else_mm3, closed.mesh.volume, delta=0.05 * closed.mesh.volume
                )
                self.assertGreater(closed.mesh.volume, 1.5 * whole.volume)

    def test_feet_and_bores_are_no_lids(self) -> None:
        rng = np.random.default_rng(5)
        block = specimens.bored_box(60.0).mesh
        for mesh in (specimens.sphere(40.0).mesh, block, vessel(rng)):
            for _ in range(4):
                way, level = rng.normal(size=3), float(rng.uniform(-6, 6))
                open_one = StraightSnip(normal=tuple(way), offset=level).apply(mesh, Context()).mesh
                if len(open_one.loops) == 1:
                    self.assertEqual(lids_of(open_one), ())


if __name__ == "__main__":
    unittest.main()
