"""Even triangles: their angles and lengths, what they may lie off, and what stays as it was."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt

from tests import specimens
from tests.hands import WindowTest
from tests.random_scans import random_scan
from tests.seeds import seeds
from tests.test_command_line import inside
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan, write_mesh
from tinsnip.mesh import MADE, SHIFTED, Attribute, Domain, Mesh
from tinsnip.regions import Region
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat import Context, Outcome, Remesh

COLOURS = np.array([[1.0, 0.2, 0.1], [0.3, 1.0, 0.2], [0.1, 0.3, 1.0]])


def remeshed(mesh: Mesh, edge: float, **named: object) -> Outcome:
    return Remesh(edge_mm=edge, **named).apply(mesh, Context())


def angles(mesh: Mesh) -> np.ndarray:
    sides = mesh.vertices[np.roll(mesh.faces, -1, axis=1)] - mesh.vertices[mesh.faces]
    unit = sides / np.linalg.norm(sides, axis=2, keepdims=True)
    return np.degrees(np.arccos(np.clip(-(unit * np.roll(unit, 1, axis=1)).sum(axis=2), -1, 1)))


def lengths(mesh: Mesh) -> np.ndarray:
    return np.linalg.norm(mesh.vertices[np.roll(mesh.faces, -1, axis=1)] - mesh.vertices[mesh.faces], axis=2)


def coloured(mesh: Mesh, size: float) -> Mesh:
    """Colours, and a texture's corners, that are linear in the place."""
    shade = 0.5 + mesh.vertices / (4 * size) @ COLOURS.T
    colour = np.rint(255 * shade).astype(np.uint8)
    corners = (mesh.vertices[mesh.faces].reshape(-1, 3) @ COLOURS.T[:, :2] / size).astype(np.float32)
    return mesh.with_attribute("colour", Attribute(Domain.VERTEX, colour)).with_attribute(
        "texture", Attribute(Domain.CORNER, corners)
    )


class Even(unittest.TestCase):
    def test_edges_of_one_length_on_the_surface_and_lines_that_stay(self) -> None:
        for make, factors in (
            (specimens.torus, (0.7, 2.0)),
            (specimens.sphere, (0.5, 1.6)),
            (specimens.bored_box, (1.0, 2.0)),
        ):
            shape = make(60.0, 64)
            for factor in factors:
                edge = factor * float(lengths(shape.mesh).mean())
                with self.subTest(shape.name, edge=edge):
                    mesh = remeshed(shape.mesh, edge).mesh
                    self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
                    self.assertEqual(crossings_of(mesh).total, 0)
                    self.assertGreater((angles(mesh) > 30).mean(), 0.99)
                    self.assertGreater((np.abs(lengths(mesh) / edge - 1) < 1 / 3).mean(), 0.99)
                    near = np.abs(shape.distance(specimens.sample_surface(mesh, 20_000, np.random.default_rng(0))))
                    known = np.abs(shape.distance(shape.mesh.vertices[shape.mesh.faces].mean(axis=1))).max()
                    self.assertLess(near.max(), 0.1 * edge + known)
                    self.assertAlmostEqual(mesh.volume / shape.mesh.volume, 1.0, delta=0.04)
        corners = shape.mesh.vertices[np.abs(shape.mesh.vertices).prod(axis=1).argsort()[-8:]]
        for corner in corners:  # the block's own are there to the bit
            self.assertTrue((mesh.vertices == corner).all(axis=1).any())

    def test_noise_is_not_taken_for_edges(self) -> None:
        shape = specimens.bored_box(60.0, 96)
        edge = float(lengths(shape.mesh).mean())
        rough = shape.mesh.moved(
            shape.mesh.vertices + np.random.default_rng(0).normal(0, 0.1 * edge, (len(shape.mesh.vertices), 3))
        )
        mesh = remeshed(rough, 1.2 * edge).mesh
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
        self.assertGreater((angles(mesh) > 30).mean(), 0.97)

    def test_adaptive_keeps_to_its_deviation_with_fewer(self) -> None:
        for make in (specimens.torus, specimens.bored_box):
            shape = make(60.0, 120)
            outcome = remeshed(shape.mesh, 12.0, adaptive=True, max_deviation_mm=0.1)
            mesh = outcome.mesh
            self.assertEqual(outcome.account.undone, ())
            self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
            known = np.abs(shape.distance(shape.mesh.vertices[shape.mesh.faces].mean(axis=1))).max()
            for one in (mesh, shape.mesh):
                points = specimens.sample_surface(one, 20_000, np.random.default_rng(1))
                self.assertLess(np.abs(shape.distance(points)).max(), 0.1 + known)
            self.assertLess(len(mesh.faces), 0.8 * len(shape.mesh.faces))
        self.assertGreater(np.percentile(lengths(mesh), 95), 3 * np.percentile(lengths(mesh), 5))

    def test_what_is_not_chosen_stays_to_the_bit(self) -> None:
        shape = specimens.torus(60.0, 80)
        middles = shape.mesh.vertices[shape.mesh.faces].mean(axis=1)
        chosen = middles[:, 0] > 5.0
        mesh = remeshed(shape.mesh, 0.6 * float(lengths(shape.mesh).mean()), only=Region.of(shape.mesh, chosen)).mesh
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
        after = specimens.triangle_set(mesh.vertices, mesh.faces)
        beside = np.isin(shape.mesh.faces, np.unique(shape.mesh.faces[chosen])).sum(axis=1) >= 2
        kept = specimens.triangle_set(shape.mesh.vertices, shape.mesh.faces[~chosen & ~beside])
        self.assertLessEqual(kept, after)  # all but those whose border was divided
        self.assertEqual(int((mesh.provenance == SHIFTED).sum()), len(mesh.faces) - int((mesh.provenance == 0).sum()))
        self.assertGreater(int((mesh.provenance == 0).sum()), len(kept) - 1)

    def test_colour_texture_and_what_was_made_go_along(self) -> None:
        shape = specimens.bored_box(60.0, 96)
        mesh = coloured(shape.mesh, 60.0)
        made = mesh.vertices[mesh.faces].mean(axis=1)[:, 2] > 60.0 * 0.15 - 1e-6  # the top
        mesh = Mesh(mesh.vertices, mesh.faces, np.where(made, MADE, 0), mesh.attributes)
        new = remeshed(mesh, 1.3).mesh
        expected = 255 * (0.5 + new.vertices / 240.0 @ COLOURS.T)
        self.assertLess(np.abs(new.colour - expected).max(), 1.1)
        corners = new.vertices[new.faces].reshape(-1, 3) @ COLOURS.T[:, :2] / 60.0
        self.assertLess(np.abs(new.attributes["texture"].values - corners).max(), 1e-3)
        top = (np.abs(new.vertices[new.faces][:, :, 2] - 9.0) < 1e-6).all(axis=1)
        self.assertTrue(np.array_equal(new.provenance == MADE, top))

    def test_no_scan_comes_out_worse(self) -> None:
        for seed in seeds(48, "remesh"):
            mesh = random_scan(seed).mesh
            size = float(mesh.diagonal)
            with self.subTest(seed=seed):
                try:
                    new = remeshed(mesh, max(size / 40, 1e-9)).mesh
                except BadInput as why:
                    self.assertNotIn("\n", str(why))
                    continue
                self.assertTrue(np.isfinite(new.vertices).all())
                self.assertEqual(new.edges.tangled, mesh.edges.tangled)
                self.assertEqual(new.edges.flipped, mesh.edges.flipped)
                if mesh.edges.open == 0:
                    self.assertEqual(new.edges.open, 0)
                if mesh.edges.tangled + mesh.edges.flipped == 0:
                    self.assertEqual(len(new.loops), len(mesh.loops))

    def test_odd_ones(self) -> None:
        empty = Mesh(np.empty((0, 3)), np.empty((0, 3), dtype=np.int32))
        self.assertIs(remeshed(empty, 1.0).mesh, empty)
        ball = specimens.sphere(10.0, 16).mesh
        inside_out = Mesh(ball.vertices, ball.faces[:, ::-1])
        self.assertAlmostEqual(remeshed(inside_out, 1.0).mesh.volume, -remeshed(ball, 1.0).mesh.volume, delta=3.0)
        far = Mesh((ball.vertices + 1e5).astype(np.float32), ball.faces)
        self.assertEqual(specimens.closed_faults(*(lambda m: (m.vertices, m.faces))(remeshed(far, 1.0).mesh)), "")
        for edge in (1e-6, 8.0):
            with self.assertRaisesRegex(BadInput, r"edges of \S+ mm (are too long|would make)"):
                remeshed(ball, edge)


class ByCommand(unittest.TestCase):
    def test_written_and_said(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            scan, out = Path(folder) / "ring.stl", Path(folder) / "even.obj"
            write_mesh(specimens.torus(60.0, 64).mesh, scan)
            ran = inside("remesh", scan, "--edge", "2", "--out", out, "--json")
            self.assertEqual((ran.returncode, ran.stderr), (0, ""))
            facts = json.loads(ran.stdout)
            written = read_scan(out).mesh
            self.assertEqual((facts["triangles"], facts["crossings"]), (len(written.faces), 0))
            self.assertAlmostEqual(float(lengths(written).mean()), 2.0, delta=0.1)
            for edge, told in (("0", "no length"), ("nan", "no length"), ("99", "too long")):
                ran = inside("remesh", scan, "--edge", edge, "--out", out, "--replace")
                self.assertEqual(ran.returncode, 2)
                self.assertIn(told, ran.stderr)
                self.assertEqual(len(ran.stderr.strip().splitlines()), 1)
            self.assertIn("already", inside("remesh", scan, "--edge", "2", "--out", out).stderr)


class InTheWindow(WindowTest):
    size = (900, 640)

    def test_meshed_anew_from_the_tray(self) -> None:
        self.put_up(specimens.torus(60.0, 64).mesh)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.click(tray.part_row.buttons["Remesh"])
        self.settle()
        part = tray.remeshing
        self.assertFalse(part.deviation.isVisible() or part.colours.isVisible())
        now = float(lengths(self.session.mesh).mean())
        self.assertAlmostEqual(part.edge.value(), now, delta=0.1 * now)
        self.type_number(part.edge, "3")
        self.click(tray.copper)
        step = self.session.job.log[-1]
        self.assertEqual((step.action.name, step.action.edge_mm), ("remesh", 3.0))
        self.assertAlmostEqual(float(lengths(self.session.mesh).mean()), 3.0, delta=0.15)
        told = int("".join(c for c in part.count.text() if c.isdigit()))
        self.assertAlmostEqual(told / len(self.session.mesh.faces), 1.0, delta=0.15)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual(len(self.session.mesh.faces), len(specimens.torus(60.0, 64).mesh.faces))


if __name__ == "__main__":
    unittest.main()
