"""Quads: how many, how regular, what stays, and that files hold them."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt

from tests import specimens
from tests.hands import WindowTest
from tests.random_scans import random_scan
from tests.seeds import in_turn, seeds
from tests.test_command_line import inside
from tests.test_remesh import COLOURS, coloured
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan, write_mesh
from tinsnip.job import release
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.quads import QUAD, quads_of
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat import Context, Quads, Reduce, Remesh, StraightSnip, Subdivide


def faces_of(mesh: Mesh) -> tuple[list[list[int]], list[list[int]]]:
    """Its quads and other triangles as lists of vertices, counted by hand."""
    number = mesh.attributes[QUAD].values
    halves: dict[int, list[int]] = {}
    for f in np.flatnonzero(number > 0).tolist():
        halves.setdefault(int(number[f]), []).append(f)
    quads, left = [], np.flatnonzero(number <= 0).tolist()
    for pair in halves.values():
        shared = set(mesh.faces[pair[0]].tolist()) & set(mesh.faces[pair[-1]].tolist())
        if len(pair) != 2 or len(shared) != 2:
            left += pair
            continue
        one, other = mesh.faces[pair[0]].tolist(), mesh.faces[pair[1]].tolist()
        apex = next(v for v in other if v not in shared)
        while one[2] in shared:  # until the corner beside the diagonal comes last
            one = one[1:] + one[:1]
        quads.append([one[0], apex, one[1], one[2]])
    return quads, mesh.faces[left].tolist()


def regularity(mesh: Mesh) -> tuple[float, float]:
    """The share of quads among faces, and of irregular ones among inner vertices."""
    quads, triangles = faces_of(mesh)
    edges: dict[tuple[int, int], int] = {}
    for face in quads + triangles:
        for a, b in zip(face, face[1:] + face[:1], strict=True):
            edges[min(a, b), max(a, b)] = edges.get((min(a, b), max(a, b)), 0) + 1
    met, rim = np.zeros(len(mesh.vertices), dtype=int), np.zeros(len(mesh.vertices), dtype=bool)
    for (a, b), count in edges.items():
        met[[a, b]] += 1
        rim[[a, b]] |= count == 1
    return len(quads) / (len(quads) + len(triangles)), float((met[~rim] != 4).mean())


class Laid(unittest.TestCase):
    @in_turn(0)
    def test_nearly_all_are_quads_that_meet_by_fours_on_the_surface(self) -> None:
        for shape, edge, most in (
            (specimens.sphere(100.0, 140), 2.4, 0.03),
            (specimens.torus(100.0, 240), 1.9, 0.03),
            (specimens.bored_box(100.0, 152), 2.2, 0.05),
        ):
            with self.subTest(shape.name):
                outcome = Quads(edge_mm=edge).apply(shape.mesh, Context())
                mesh = outcome.mesh
                self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
                self.assertEqual(crossings_of(mesh).total, 0)
                ends = len(mesh.vertices) - len(mesh.faces) // 2
                self.assertEqual(ends, len(shape.mesh.vertices) - len(shape.mesh.faces) // 2)  # no handle comes or goes
                share, irregular = regularity(mesh)
                self.assertGreater(share, 0.94)
                self.assertLess(irregular, most)
                self.assertEqual(len(quads_of(mesh)), outcome.account.figures["quads"])
                quads, _ = faces_of(mesh)
                self.assertEqual(len(quads), len(quads_of(mesh)))
                points = mesh.vertices[np.array(quads)]
                sides = np.linalg.norm(np.roll(points, -1, axis=1) - points, axis=2) / edge
                self.assertGreater(((sides > 0.6) & (sides < 1.5)).mean(), 0.97)
                near = np.abs(shape.distance(specimens.sample_surface(mesh, 20_000, np.random.default_rng(0))))
                self.assertLess(np.percentile(near, 99), 0.05 * edge)
                self.assertAlmostEqual(mesh.volume / shape.mesh.volume, 1.0, delta=0.02)

    def test_rims_colours_and_what_was_made_stay(self) -> None:
        shape = specimens.bored_box(60.0, 120)
        mesh = coloured(shape.mesh, 60.0)
        made = mesh.vertices[mesh.faces].mean(axis=1)[:, 2] > 60.0 * 0.15 - 1e-6  # the top
        mesh = Mesh(mesh.vertices, mesh.faces, np.where(made, MADE, 0), mesh.attributes)
        new = Quads(edge_mm=2.4).apply(mesh, Context()).mesh
        self.assertLess(np.abs(new.colour - 255 * (0.5 + new.vertices / 240.0 @ COLOURS.T)).max(), 1.6)
        top = (np.abs(new.vertices[new.faces][:, :, 2] - 9.0) < 1e-5).all(axis=1)
        self.assertTrue(np.array_equal(new.provenance == MADE, top))
        half = StraightSnip(offset=0.0, waste="above").apply(specimens.torus(60.0, 120).mesh, Context()).mesh
        new = Quads(edge_mm=2.0).apply(half, Context()).mesh
        self.assertEqual(len(new.loops), len(half.loops))
        rim = new.vertices[new.faces.ravel()[new.loops.halfedges]]
        self.assertLess(np.abs(rim[:, 2]).max(), 1e-5)
        self.assertGreater(regularity(new)[0], 0.9)

    def test_no_scan_comes_out_worse(self) -> None:
        for seed in seeds(24, "quads"):
            mesh = random_scan(seed).mesh
            with self.subTest(seed=seed):
                try:
                    new = Quads(edge_mm=max(float(mesh.diagonal) / 25, 1e-9)).apply(mesh, Context()).mesh
                except BadInput as why:
                    self.assertNotIn("\n", str(why))
                    continue
                self.assertTrue(np.isfinite(new.vertices).all())
                self.assertEqual((new.edges.tangled, new.edges.flipped), (mesh.edges.tangled, mesh.edges.flipped))
                if mesh.edges.open == 0:
                    self.assertEqual(new.edges.open, 0)
                if mesh.edges.tangled + mesh.edges.flipped == 0:
                    self.assertEqual(len(new.loops), len(mesh.loops))

    def test_odd_ones(self) -> None:
        empty = Mesh(np.empty((0, 3)), np.empty((0, 3), dtype=np.int32))
        self.assertIs(Quads(edge_mm=1.0).apply(empty, Context()).mesh, empty)
        ball = specimens.sphere(10.0, 16).mesh
        inside_out = Quads(edge_mm=1.0).apply(Mesh(ball.vertices, ball.faces[:, ::-1]), Context()).mesh
        self.assertLess(inside_out.volume, 0)
        far = Mesh((ball.vertices + 1e5).astype(np.float32), ball.faces)
        new = Quads(edge_mm=1.0).apply(far, Context()).mesh
        self.assertEqual(specimens.closed_faults(new.vertices, new.faces), "")
        for edge in (1e-6, 8.0):
            with self.assertRaisesRegex(BadInput, r"edges of \S+ mm (are too long|would make)"):
                Quads(edge_mm=edge).apply(ball, Context())


class Kept(unittest.TestCase):
    """What becomes of quads afterwards, and in files."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.mesh = Quads(edge_mm=4.0).apply(coloured(specimens.torus(60.0, 80).mesh, 60.0), Context()).mesh

    def test_files_hold_them_and_give_them_back(self) -> None:
        quads, triangles = faces_of(self.mesh)
        wanted = sorted(sorted(face) for face in quads + triangles)
        bare = self.mesh.without_attribute("texture")
        with tempfile.TemporaryDirectory() as folder:
            for name, mesh in (("a.obj", self.mesh), ("b.obj", bare), ("c.ply", bare)):
                path = Path(folder) / name
                release(mesh, path, ends_as="solid")
                again = read_scan(path).mesh
                found = faces_of(again)
                self.assertEqual((len(found[0]), len(found[1])), (len(quads), len(triangles)))
                if name == "b.obj":  # and what stands in the file, line by line
                    lines = [line.split()[1:] for line in path.read_text().splitlines() if line.startswith("f ")]
                    read = sorted(sorted(int(v) - 1 for v in line) for line in lines)
                    self.assertEqual(read, wanted)
                write_mesh(again, Path(folder) / f"again-{name}")
                self.assertEqual(faces_of(read_scan(Path(folder) / f"again-{name}").mesh), found)
            mixed = Mesh(bare.vertices, bare.faces, np.arange(len(bare.faces)) % 3, bare.attributes)
            write_mesh(mixed, Path(folder) / "d.ply", provenance=True)  # read back and compared, triangle by triangle

    def test_what_was_divided_or_meshed_anew_is_none(self) -> None:
        quads, _ = faces_of(self.mesh)
        cut = StraightSnip(offset=0.0, waste="above").apply(self.mesh, Context()).mesh
        left = self.mesh.vertices[np.array(quads)]
        below = int((left[:, :, 2] <= 0).all(axis=1).sum())
        self.assertGreaterEqual(len(quads_of(cut)), below)  # one of whose halves a triangle is left stays one
        self.assertEqual(len(faces_of(cut)[0]), len(quads_of(cut)))
        for treatment in (Remesh(edge_mm=3.0), Reduce(triangles=1000), Subdivide()):
            self.assertEqual(len(quads_of(treatment.apply(self.mesh, Context()).mesh)), 0)

    def test_the_same_bits_again(self) -> None:
        again = Quads(edge_mm=4.0).apply(coloured(specimens.torus(60.0, 80).mesh, 60.0), Context()).mesh
        self.assertEqual(again.vertices.tobytes(), self.mesh.vertices.tobytes())
        self.assertEqual(again.faces.tobytes(), self.mesh.faces.tobytes())

    def test_by_command(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            scan, out = Path(folder) / "ring.stl", Path(folder) / "quads.obj"
            write_mesh(specimens.torus(60.0, 64).mesh, scan)
            ran = inside("remesh", scan, "--edge", "4", "--quads", "--out", out, "--json")
            self.assertEqual((ran.returncode, ran.stderr), (0, ""))
            self.assertEqual(json.loads(ran.stdout)["quads"], len(faces_of(read_scan(out).mesh)[0]))
            for more, told in ((("--adaptive",), "one length"), (("--out", f"{folder}/a.stl"), "no place for quads")):
                ran = inside("remesh", scan, "--edge", "4", "--quads", "--out", out, "--replace", *more)
                self.assertEqual(ran.returncode, 2)
                self.assertIn(told, ran.stderr)
                self.assertEqual(len(ran.stderr.strip().splitlines()), 1)


class InTheWindow(WindowTest):
    size = (900, 640)

    def test_quads_from_the_tray(self) -> None:
        self.put_up(specimens.torus(60.0, 64).mesh)
        self.key(Qt.Key.Key_6)
        tray = self.window.tray("Surface")
        self.click(tray.part_row.buttons["Remesh"])
        self.settle()
        part = tray.remeshing
        self.reveal(part.quads)
        part.quads.setFocus()
        self.key(Qt.Key.Key_Space)
        self.type_number(part.edge, "4")
        self.assertFalse(part.adaptive.isVisible())
        told = int("".join(c for c in part.count.text() if c.isdigit()))
        self.assertIn("quads", part.count.text())
        self.click(tray.copper)
        self.assertEqual(self.session.job.log[-1].action, Quads(edge_mm=4.0))
        quads = len(quads_of(self.session.mesh))
        self.assertAlmostEqual(told / quads, 1.0, delta=0.15)
        # Wire shows quads: with the diagonals there would be half as many lines again
        self.settle()
        plain = self.picture()
        self.view.set_aid("shows_edges", True)
        self.settle()
        wired = self.picture()
        self.view.scene.now.buffers = replace(self.view.scene.now.buffers, edges=None)
        self.view.redraw()
        self.settle()
        every = self.picture()
        self.view.set_aid("shows_edges", False)
        lines, all_lines = (np.count_nonzero(np.abs(p - plain).max(axis=2) > 30) for p in (wired, every))
        self.assertGreater(lines, 2000)
        self.assertLess(lines, 0.85 * all_lines)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual(len(quads_of(self.session.mesh)), 0)


if __name__ == "__main__":
    unittest.main()
