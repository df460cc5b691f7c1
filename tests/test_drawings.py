"""Outlines as lines and arcs, and drawings as readers that are not ours read them back."""

import re
import tempfile
import unittest
from pathlib import Path

import ezdxf
import numpy as np
from lxml import etree
from scipy.spatial.transform import Rotation
from steputils import p21

from tests import specimens
from tests.part_pieces import noisy
from tests.test_joining import inside
from tinsnip.datums.datum import Datum
from tinsnip.datums.drawings import Drawn, write_drawing
from tinsnip.datums.outlines import Arc, Line, drawing_axes, outlines_of
from tinsnip.datums.sections import section_drawn
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh

Z = np.array([0.0, 0, 1])


def chords(points: np.ndarray) -> np.ndarray:
    """A closed run of places as chords in the plane z = 0, in no order, shape (N, 2, 3)."""
    flat = np.column_stack([points, np.zeros(len(points))])
    ends = np.stack([flat, np.roll(flat, -1, axis=0)], axis=1)
    return ends[np.random.default_rng(0).permutation(len(ends))]


def slot(radius: float, length: float, step: float, noise: float, rng: np.random.Generator) -> np.ndarray:
    """A slot: two straight sides and two half circles."""
    turn = np.linspace(-np.pi / 2, np.pi / 2, max(8, int(np.pi * radius / step)), endpoint=False)
    along = np.arange(0, length, step)
    end = np.column_stack([0.5 * length + radius * np.cos(turn), radius * np.sin(turn)])
    side = np.column_stack([0.5 * length - along, np.full(len(along), radius)])
    half = np.concatenate([end, side])
    points = np.concatenate([half, -half])
    return points + rng.normal(size=points.shape) * noise


class Outlines(unittest.TestCase):
    def test_a_slot_is_two_lines_and_two_arcs(self) -> None:
        rng = np.random.default_rng(1)
        for radius, length, noise in ((5.0, 30.0, 0.0), (5.0, 30.0, 0.01), (8.0, 12.0, 0.02), (2.0, 60.0, 0.01)):
            turn = float(rng.uniform(0, 7))
            spin = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
            points = slot(radius, length, 0.2, noise, rng) @ spin.T + rng.normal(size=2) * 100
            (found,) = outlines_of(chords(points), Z, max(5 * noise, 1e-3))
            arcs = [p for p in found.pieces if isinstance(p, Arc)]
            self.assertEqual((len(found.pieces), len(arcs), found.is_closed), (4, 2, True), (radius, length, noise))
            for arc in arcs:
                self.assertAlmostEqual(arc.radius, radius, delta=0.002 + 2 * noise)
                self.assertGreater(arc.sweep, 0)  # anticlockwise, as the outline runs
            for one, following in zip(found.pieces, (*found.pieces[1:], found.pieces[0]), strict=True):
                np.testing.assert_array_equal(one.end, following.start)
            self.assertLessEqual(found.off_mm, 5 * noise + 2e-3)
            # no place of the run lies further off than said, counted on the pieces themselves
            drawn = np.concatenate([self._places(piece) for piece in found.pieces])
            off = np.sqrt(((points[:, None] - drawn[None]) ** 2).sum(axis=2)).min(axis=1)
            self.assertLess(off.max(), found.off_mm + 0.02)

    @staticmethod
    def _places(piece: Line | Arc) -> np.ndarray:
        t = np.linspace(0, 1, 2000)[:, None]
        if isinstance(piece, Line):
            return piece.start + t * (piece.end - piece.start)
        off = piece.start - piece.middle
        turn = t * piece.sweep
        return piece.middle + np.cos(turn) * off + np.sin(turn) * np.array([-off[1], off[0]])

    def test_circles_open_runs_and_free_curves(self) -> None:
        t = np.linspace(0, 2 * np.pi, 300, endpoint=False)
        (circle,) = outlines_of(chords(7 * np.column_stack([np.cos(-t), np.sin(-t)]) + 3), Z, 0.01)
        self.assertTrue(len(circle.pieces) == 1 and circle.pieces[0].is_whole and circle.pieces[0].sweep < 0)
        self.assertAlmostEqual(circle.pieces[0].radius, 7.0, places=3)
        open_run = chords(np.column_stack([np.linspace(0, 10, 50), np.zeros(50)]))
        open_run = open_run[np.linalg.norm(open_run[:, 1] - open_run[:, 0], axis=1) < 5]
        (line,) = outlines_of(open_run, Z, 0.01)
        self.assertEqual((len(line.pieces), line.is_closed, round(line.length, 9)), (1, False, 10.0))
        wave = np.column_stack([t * 10, 8 * np.sin(t)])[:-1]
        run = chords(wave)
        run = run[np.linalg.norm(run[:, 1] - run[:, 0], axis=1) < 5]
        (free,) = outlines_of(run, Z, 0.05)
        self.assertLess(len(free.pieces), 16)
        self.assertLessEqual(free.off_mm, 0.0501 + 4 * 0.05)

    def test_a_section_of_a_part_is_what_it_was_built_from(self) -> None:
        mesh = noisy(specimens.bored_box(60.0, 100).mesh, np.random.default_rng(0))
        drawn = section_drawn(mesh, Z, 0.3, "middle")
        outer, bore = drawn.outlines
        self.assertEqual([len(outer.pieces), len(bore.pieces)], [4, 1])
        for line in outer.pieces:
            self.assertAlmostEqual(line.length, 60.0, delta=0.5)
        np.testing.assert_allclose(drawn.in_space(bore.pieces[0].middle), [0, 0, 0.3], atol=0.15)
        with self.assertRaisesRegex(BadInput, "misses the part, which lies from"):
            section_drawn(mesh, Z, 500.0, "far")
        for normal in (Z, -Z, np.array([1.0, 0, 0]), np.array([0.6, 0, 0.8])):
            right, up = drawing_axes(normal)
            np.testing.assert_allclose(np.cross(right, up), normal, atol=1e-12)


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        way = Rotation.random(random_state=2).as_matrix()[2]
        own = {"way": tuple(way.tolist())}
        self.datums = [
            Datum(name="D1", form="plane", point=(1, 2, 3), reach=5, **own),
            Datum(name="D2", form="cylinder", point=(10, 0, 0), radius=4, low=-6, high=6, **own),
            Datum(name="D3", form="sphere", point=(0, 30, 0), radius=5),
            Datum(name="D4", form="cone", point=(0, 0, 40), angle_deg=60, low=0, high=8, **own),
            Datum(name="D5", form="cone", point=(0, 0, 80), angle_deg=60, low=3, high=8, **own),
            Datum(name="D6", form="torus", point=(60, 0, 0), radius=10, tube=3, low=-3, high=3, **own),
            Datum(name="D7", form="axis", point=(0, 0, 0), low=-5, high=5, **own),
            Datum(name="D8", form="circle", point=(0, 60, 0), radius=7, **own),
            Datum(name="the ⌀ 'point'", form="point", point=(9, 9, 9)),
        ]
        points = slot(5.0, 30.0, 0.2, 0.0, np.random.default_rng(0))
        self.section = Drawn("section z=2", Z, 2.0, outlines_of(chords(points), Z, 1e-3))

    def _step(self) -> dict:
        path = self.folder / "all.step"
        write_drawing(path, self.datums, [self.section], "all of it")
        return p21.readfile(path).data[0].instances

    def test_step_holds_what_it_was_given(self) -> None:
        """Every reference is there; every edge lies on its curve; every face's loop closes; names and sizes are so."""
        entities = {
            key: (one.entity.name, list(one.entity.params))
            for key, one in self._step().items()
            if isinstance(one, p21.SimpleEntityInstance)
        }
        text = (self.folder / "all.step").read_text("ascii")
        for line in text.splitlines():
            for reference in re.findall(r"#\d+", re.sub(r"'[^']*'", "", line)):
                self.assertIn(f"\n{reference}=", text)

        def of(kind: str) -> list[list]:
            return [params for name, params in entities.values() if name == kind]

        def place(key: str) -> np.ndarray:
            return np.array([float(x) for x in entities[key][1][1]])

        counts = {kind: len(of(f"{kind}_SURFACE")) for kind in ("CYLINDRICAL", "CONICAL", "SPHERICAL", "TOROIDAL")}
        self.assertEqual(counts, {"CYLINDRICAL": 1, "CONICAL": 2, "SPHERICAL": 1, "TOROIDAL": 1})
        self.assertEqual([float(x) for x in of("TOROIDAL_SURFACE")[0][2:]], [10.0, 3.0])
        self.assertEqual({p[0] for p in of("ADVANCED_FACE")}, {"D1", "D2", "D3", "D4", "D5", "D6"})
        points = [p[0] for p in of("CARTESIAN_POINT")]
        self.assertTrue(any("X4" in name or "⌀" in name for name in points))
        for _, start, end, curve, _ in of("EDGE_CURVE"):
            for vertex in (start, end):
                spot = place(entities[vertex][1][1])
                kind, params = entities[curve]
                if kind == "LINE":
                    way = place(entities[params[2]][1][1])
                    off = np.linalg.norm(np.cross(spot - place(params[1]), way))
                else:
                    axes = entities[params[1]][1]
                    middle, way = place(axes[1]), place(axes[2])
                    out = spot - middle
                    off = max(abs(np.linalg.norm(out) - float(params[2])), abs(out @ way))
                self.assertLess(off, 1e-9)
        for params in of("EDGE_LOOP"):
            ends = []
            for turn in params[1]:
                edge, ahead = entities[turn][1][3], entities[turn][1][4]
                start, end = entities[edge][1][1:3]
                ends.append((start, end) if str(ahead) in (".T.", "T", "True") else (end, start))
            self.assertTrue(all(a[1] == b[0] for a, b in zip(ends, [*ends[1:], ends[0]], strict=True)), ends)
        self.assertEqual(len(of("TRIMMED_CURVE")), 6 + 4)  # five axes, a circle, and the slot

    def test_dxf_is_whole_and_in_place(self) -> None:
        path = self.folder / "all.dxf"
        write_drawing(path, self.datums, [self.section])
        drawing = ezdxf.readfile(path)
        self.assertEqual(drawing.audit().errors, [])
        self.assertEqual(drawing.units, ezdxf.units.MM)
        space = drawing.modelspace()
        self.assertLessEqual(
            {d.name.replace("'", "'") for d in self.datums[:8]}, {layer.dxf.name for layer in drawing.layers}
        )
        arcs = list(space.query("ARC"))
        self.assertEqual([round(a.dxf.radius, 3) for a in arcs], [5.0, 5.0])
        for arc in arcs:
            self.assertAlmostEqual(arc.start_point.z, 2.0)
        write_drawing(self.folder / "flat.dxf", (), [self.section])
        flat = ezdxf.readfile(self.folder / "flat.dxf").modelspace()
        length = sum((line.dxf.end - line.dxf.start).magnitude for line in flat.query("LINE"))
        self.assertAlmostEqual(length, 60.0, delta=0.5)
        self.assertTrue(all(line.dxf.start.z == 0 for line in flat.query("LINE")))

    def test_svg_is_in_millimetres(self) -> None:
        path = self.folder / "slot.svg"
        write_drawing(path, (), [self.section], "a <slot> & more")
        sheet = etree.parse(path).getroot()
        box = [float(x) for x in sheet.get("viewBox").split()]
        self.assertEqual(sheet.get("width"), f"{box[2]:.6g}mm")
        self.assertAlmostEqual(box[2], 40.0 * 1.1, delta=0.1)
        (path,) = sheet.iter("{http://www.w3.org/2000/svg}path")
        self.assertEqual(sorted(re.sub(r"[^A-Z]", "", path.get("d"))), sorted("MLALAZ"))
        with self.assertRaisesRegex(BadInput, "one section"):
            write_drawing(self.folder / "none.svg", self.datums)

    def test_the_command_line_writes_them_and_refuses_in_one_line(self) -> None:
        path = self.folder / "box.ply"
        write_mesh(noisy(specimens.bored_box(60.0, 60).mesh, np.random.default_rng(0)), path)
        out = self.folder / "box.step"
        result = inside("datums", path, "--unit", "mm", "--section", "z=1", "--section", "x=2.5", "--out", out)
        self.assertEqual(result.returncode, 0, result.stderr)
        names = p21.readfile(out).data[0].instances
        self.assertGreater(len(names), 100)
        for arguments, said in (
            (("--out", out), "it is there already"),
            (("--section", "q=1", "--out", self.folder / "x.dxf"), "not a plane"),
            (("--section", "z=1"), "say --out"),
            (("--section", "z=900", "--out", self.folder / "x.dxf"), "misses the part"),
            (("--out", self.folder / "no" / "x.dxf"), "choose another place"),
        ):
            result = inside("datums", path, "--unit", "mm", *arguments)
            self.assertEqual((result.returncode, said in result.stderr), (2, True), result.stderr)
            self.assertEqual(len(result.stderr.strip().splitlines()), 1)


if __name__ == "__main__":
    unittest.main()
