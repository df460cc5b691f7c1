"""Layers: their areas against sums over triangles and by hand, their faults against a plain count, their files."""

import io
import json
import tempfile
import unittest
from pathlib import Path

import ezdxf
import numpy as np
from lxml import etree

from tests import specimens
from tests.random_scans import random_scan
from tests.seeds import seeds
from tests.test_command_line import inside
from tests.test_deforming import BOX
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.crossings import meeting_lines
from tinsnip.space.slicing import slice_layers
from tinsnip.survey.crossings import crossings_of
from tinsnip.survey.layers import find_layer_faults, layers_of
from tinsnip.treat import Context, Turn


def cut_edges(mesh: Mesh, z: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles that a height cuts, and for each where it is cut going up and going down, shape (N, 2) each."""
    above = mesh.vertices[mesh.faces, 2] >= z
    cut = np.flatnonzero(above.any(axis=1) & ~above.all(axis=1))
    places = {}
    for up in (True, False):
        changes = (above[cut] != up) & (np.roll(above[cut], -1, axis=1) == up)
        k = changes.argmax(axis=1)
        a, b = mesh.vertices[mesh.faces[cut, k]], mesh.vertices[mesh.faces[cut, (k + 1) % 3]]
        share = ((z - a[:, 2]) / (b[:, 2] - a[:, 2]))[:, None]
        places[up] = (a + share * (b - a))[:, :2]
    return cut, places[True], places[False]


def area_by_triangles(mesh: Mesh, z: float) -> float:
    cut, up, down = cut_edges(mesh, z)
    if len(cut) == 0:
        return 0.0
    middle = up.mean(axis=0)
    p, q = down - middle, up - middle
    return 0.5 * float((p[:, 0] * q[:, 1] - q[:, 0] * p[:, 1]).sum())


def faults_of(mesh: Mesh, height: float) -> list[tuple[int, str, int]]:
    return [
        (f.layer, f.fault, f.count) for f in find_layer_faults(mesh, layers_of(mesh, height, Progress()), Progress())
    ]


def stacked(*boxes: tuple[float, float, float, float]) -> Mesh:
    """Blocks from a height to another, so wide, so far along x."""
    parts = [BOX.vertices / [4, 4, 20] * [w, 4, t - b] + [x, 0, b] for b, t, w, x in boxes]
    return Mesh(np.concatenate(parts), np.concatenate([BOX.faces + 8 * i for i in range(len(boxes))]))


class Outlines(unittest.TestCase):
    def test_areas_of_solids(self) -> None:
        for make in (specimens.torus, specimens.sphere, specimens.bored_box):
            for offset in (0.0, 1e5):
                shape = make(60.0, 48).mesh
                mesh = Turn(axis=(1.0, 0.0, 0.0), degrees=20.0).apply(shape, Context()).mesh
                mesh = Mesh(mesh.vertices + np.array([offset, -offset, 0.0]), mesh.faces)
                layers = layers_of(mesh, 0.37, Progress())
                self.assertTrue(layers.closed.all())
                for area, z in zip(layers.areas(), layers.heights, strict=True):
                    self.assertAlmostEqual(
                        area, area_by_triangles(mesh, z), delta=1e-9 * max(area, 1.0) * (1 + offset / 10)
                    )
                self.assertAlmostEqual(layers.areas().sum() * 0.37 / mesh.volume, 1.0, delta=2e-3)
        tip = Mesh([[0, 0, 0], [2, 0, 0], [0, 2, 0], [0, 0, 2]], [[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
        heights = np.array([0.0, 0.5, 1.0, 1.5, 2.0])  # corners lie in the first and the last
        found = slice_layers(tip.vertices, tip.faces, tip.twins, heights)
        self.assertTrue(np.allclose(found.areas(), [0.0, 1.125, 0.5, 0.125, 0.0], rtol=1e-12, atol=0))
        inward = slice_layers(tip.vertices, tip.faces[:, ::-1], Mesh(tip.vertices, tip.faces[:, ::-1]).twins, heights)
        self.assertTrue(np.allclose(inward.areas(), -found.areas()))

    def test_every_fault_that_a_plain_count_finds(self) -> None:
        for seed in seeds(60, "slices"):
            mesh = random_scan(seed).mesh
            if len(mesh.faces) == 0 or not np.ptp(mesh.box[:, 2]) > 0:
                continue
            layers = layers_of(mesh, float(np.ptp(mesh.box[:, 2])) / 17.3, Progress())
            found = find_layer_faults(mesh, layers, Progress())
            meets = meeting_lines(mesh.vertices, mesh.faces, crossings_of(mesh).together)[:, :, 2]
            corner, twins = mesh.faces.ravel(), mesh.twins
            lone = np.flatnonzero(twins < 0)
            a = mesh.vertices[corner[lone], 2]
            b = mesh.vertices[corner[lone - lone % 3 + (lone + 1) % 3], 2]
            for i, z in enumerate(layers.heights):
                with self.subTest(seed=seed, layer=i):
                    told = {f.fault: f.count for f in found if f.layer == i}
                    # an open outline has two ends, each on an edge without a neighbour
                    self.assertEqual(2 * told.get("open", 0), int(((a >= z) != (b >= z)).sum()))
                    crossed = bool(((meets.min(axis=1) <= z) & (meets.max(axis=1) >= z)).any()) if len(meets) else False
                    self.assertEqual("crossing" in told, crossed)
                    cut = cut_edges(mesh, z)[0]
                    pieces = sum(
                        len(r) - (not c)
                        for r, c in zip(layers.outlines_at(i), layers.closed[layers.layer == i], strict=True)
                    )
                    self.assertEqual(pieces, len(cut))

    def test_islands_and_gaps(self) -> None:
        self.assertEqual(faults_of(stacked((0, 10, 4, 0)), 1.0), [])
        self.assertEqual(
            faults_of(stacked((0, 4, 4, 0), (7, 10, 4, 0)), 1.0), [(4, "gap", 1), (5, "gap", 1), (6, "gap", 1)]
        )
        self.assertEqual(faults_of(stacked((0, 10, 4, 0), (5, 10, 2, 6)), 1.0), [(5, "free", 1)])
        cup = stacked((0, 10, 4, 0))
        inner = Mesh(cup.vertices * [0.8, 0.8, 0.9] + [0.4, 0.4, 1.0], cup.faces[:, ::-1])
        pin = Mesh(cup.vertices * [0.2, 0.2, 0.3] + [1.6, 1.6, 4.0], cup.faces)
        parts = (cup, inner, pin)  # it begins in the air, though an outline goes round it
        both = Mesh(
            np.concatenate([m.vertices for m in parts]), np.concatenate([m.faces + 8 * i for i, m in enumerate(parts)])
        )
        self.assertEqual(faults_of(both, 0.5), [(8, "free", 1)])
        with self.assertRaisesRegex(BadInput, "too many"):
            layers_of(cup, 1e-6, Progress())
        with self.assertRaisesRegex(BadInput, "no surface"):
            layers_of(Mesh(np.empty((0, 3)), np.empty((0, 3), dtype=np.int32)), 1.0, Progress())


class ByCommand(unittest.TestCase):
    def test_files_that_others_can_read(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            scan, out = Path(folder) / "blocks.stl", Path(folder) / "layers"
            write_mesh(stacked((0, 10, 4, 0), (5, 10, 2, 6)), scan)
            for form in ("svg", "dxf"):
                ran = inside("slices", scan, "--height", "1", "--out", out, "--format", form, "--json")
                self.assertEqual((ran.returncode, ran.stderr), (1, ""))
                facts = json.loads(ran.stdout)
                self.assertEqual([f["fault"] for f in facts["faults"]], ["free"])
                self.assertAlmostEqual(facts["volume_mm3"], 4 * 4 * 10 + 2 * 4 * 5, places=6)
                files = sorted(out.glob(f"*.{form}"))
                self.assertEqual([str(f) for f in files], [one["file"] for one in facts["slices"]])
                sizes = []
                for one in (files[0], files[7]):
                    if form == "dxf":
                        drawing = ezdxf.read(io.StringIO(one.read_text("utf-8")))
                        self.assertEqual(drawing.units, ezdxf.units.MM)
                        rings = [np.array(e.get_points("xy")) for e in drawing.modelspace()]
                        self.assertTrue(all(e.closed for e in drawing.modelspace()))
                    else:
                        (path,) = etree.parse(one).getroot().findall("{http://www.w3.org/2000/svg}path")
                        rings = [
                            np.array([[float(n) for n in p.split()] for p in ring.strip("M").split("L")])
                            for ring in path.get("d").split("Z")[:-1]
                        ]
                    sizes.append(sum(float(np.prod(np.ptp(ring, axis=0))) for ring in rings))
                self.assertTrue(np.allclose(sizes, [16.0, 24.0]), sizes)
            again = inside("slices", scan, "--height", "1", "--out", out)
            self.assertEqual(again.returncode, 2)
            self.assertIn("already", again.stderr)
            self.assertEqual(inside("slices", scan, "--height", "0", "--out", out).returncode, 2)


if __name__ == "__main__":
    unittest.main()
