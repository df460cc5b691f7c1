"""The routine reverse-mesh: one clean surface, rims kept, only holes patched; on open shapes and demo scans."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner

from tests import specimens
from tests.exact_count import counted_exactly
from tests.seeds import one_of, seeds
from tests.test_patches import holed
from tests.test_rims import cut_solid, patch_of_surface, vessel
from tests.test_shapes import put, together
from tests.test_untangle import folded_over
from tinsnip.cli import cli
from tinsnip.demo import DEMO_SCANS, demo_scan
from tinsnip.formats import Scan, read_scan, write_mesh
from tinsnip.job.routine import built_in_routines
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat import Context, Mend, Orient, Tidy


def reversed_mesh(mesh: Mesh, *options: str) -> tuple[Mesh, dict, int]:
    """Run the routine file to file: the result as the file holds it, what is said of it, and the exit code."""
    with tempfile.TemporaryDirectory() as folder:
        raw, out = Path(folder) / "scan.ply", Path(folder) / "out"
        write_mesh(mesh, raw)
        asked = (
            "run",
            "reverse-mesh",
            str(raw),
            "--out",
            str(out),
            "--unit",
            "mm",
            "--json",
            "--format",
            "ply",
            *options,
        )
        result = CliRunner().invoke(cli, asked, standalone_mode=False)
        if result.exception is not None and not isinstance(result.exception, SystemExit):
            raise result.exception
        code = result.exception.code if isinstance(result.exception, SystemExit) else (result.return_value or 0)
        return read_scan(out / "scan.ply", "mm").mesh, json.loads(result.stdout)["results"][0], code


class Reversed(unittest.TestCase):
    def judge(self, result: Mesh, facts: dict) -> None:
        """A ready one is manifold, turned one way, one shell, without holes, and crosses itself nowhere."""
        self.assertEqual((result.edges.tangled, result.edges.flipped, facts["pinched_vertices"]), (0, 0, 0))
        self.assertEqual(len(result.shells), 1)
        self.assertEqual(counted_exactly(result.vertices, result.faces), (0, 0))
        self.assertFalse(classify_boundaries(result).is_hole.any())

    def test_forty_damaged_open_shapes(self) -> None:
        ready = 0
        taken = list(seeds(40, self.id()))
        for seed in taken:
            rng = np.random.default_rng(seed)
            size = (2.0, 200.0, 2000.0)[seed % 3]
            whole = (patch_of_surface, vessel, cut_solid)[seed // 3 % 3](rng, size)
            rim = whole.vertices[whole.faces.ravel()[whole.loops.halfedges]]
            middles = whole.vertices[whole.faces].mean(axis=1)
            clear = np.array([np.linalg.norm(rim - p, axis=1).min() for p in middles[::11]])
            mesh = holed(rng, whole, middles[::11][np.argmax(clear)], min(0.3 * clear.max(), 0.1 * size))
            mesh, _ = folded_over(rng, mesh, 1, 2.0) if seed % 2 else (mesh, None)
            faces = mesh.faces.copy()
            some = rng.choice(len(faces), len(faces) // 100, replace=False)
            faces[some] = faces[some][:, ::-1]
            crumb = put(specimens.sphere(0.01 * size, 6).mesh, (0.0, 0.0, 3.0 * size))
            damaged = together(Mesh(mesh.vertices, np.concatenate([faces, faces[3:6]])), crumb)
            result, facts, code = reversed_mesh(Mesh(damaged.vertices.astype(np.float32).astype(float), damaged.faces))
            with self.subTest(seed=seed, state=facts["state"]):
                self.assertEqual(code == 0, facts["ready"])
                if not facts["ready"]:
                    self.assertTrue(facts["reasons"] or facts["state"])
                    continue
                ready += 1
                self.judge(result, facts)
                self.assertGreater(result.edges.open, 0)  # the rim is where it was, and is not closed
                back = result.vertices[np.unique(result.faces.ravel()[result.loops.halfedges])]
                far = np.array([np.linalg.norm(rim - p, axis=1).min() for p in back])
                self.assertLess(far.max(), 0.12 * size)
        self.assertGreaterEqual(ready, len(taken) - 6)

    def test_demo_scans(self) -> None:
        for name in one_of(DEMO_SCANS):
            raw = demo_scan(name, 30_000)
            result, facts, code = reversed_mesh(raw, "--set", "strays.chunks=sweep")
            with self.subTest(name=name, state=facts["state"]):
                self.assertEqual(code == 0, facts["ready"])
                if facts["ready"]:
                    self.judge(result, facts)
                # nothing is moved: what was sound is there to the bit
                sound = Orient().apply(Mend().apply(raw, Context()).mesh, Context()).mesh
                kept = specimens.triangle_set(sound.vertices, sound.faces)
                there = specimens.triangle_set(result.vertices, result.faces)
                self.assertGreater(len(kept & there), 0.9 * len(there) - facts["made_share"] * len(there))

    def test_a_closed_solid_stays_one(self) -> None:
        solid = specimens.bored_box(50.0, 48).mesh
        result, facts, code = reversed_mesh(solid)
        self.assertEqual((code, facts["ready"]), (0, True))
        self.assertEqual(
            specimens.triangle_set(result.vertices, result.faces), specimens.triangle_set(solid.vertices, solid.faces)
        )


class Corners(unittest.TestCase):
    def test_clean_rims_come_out_to_the_bit_and_corners_stay(self) -> None:
        """Squares of few and many triangles, and an L: outlines that nothing is wrong with."""
        for n in (2, 3, 6, 40):
            x = np.linspace(0.0, 100.0, n)
            flat = np.stack(np.meshgrid(x, x, indexing="ij"), -1).reshape(-1, 2)
            points = np.column_stack([flat, 1e-3 * flat[:, 0] ** 2])
            faces = specimens.grid_faces(n, n, False, False).astype(np.int32)
            middle = np.repeat(points[faces].reshape(-1, 6, 3).mean(axis=1), 2, axis=0)  # of each square
            el = (middle[:, 0] < 50) | (middle[:, 1] < 50)
            for shape in (middle[:, 0] > -1, *([el] if n > 3 else [])):
                mesh = keep_triangles(Mesh(points, faces), shape)
                with self.subTest(n=n, triangles=len(mesh.faces)):
                    self.assertIs(Tidy(rows=2).apply(mesh, Context()).mesh, mesh)
                    if n == 2:
                        continue  # the routine takes no two triangles for a part
                    run = built_in_routines()["reverse-mesh"].run(Scan(Path("sheet.stl"), mesh, "stl", "mm", "told"))
                    self.assertEqual(
                        specimens.triangle_set(run.mesh.vertices, run.mesh.faces),
                        specimens.triangle_set(mesh.vertices, mesh.faces),
                    )

    def test_teeth_are_no_corners(self) -> None:
        """A row of single triangles along an edge goes, the corners of the sheet beside it stay."""
        x = np.linspace(0.0, 100.0, 21)
        flat = np.stack(np.meshgrid(x, x, indexing="ij"), -1).reshape(-1, 2)
        points = np.column_stack([flat, 0 * flat[:, 0]])
        faces = specimens.grid_faces(21, 21, False, False).astype(np.int32)
        border = points[faces][:, :, 0].min(axis=1) == 0.0
        teeth = np.repeat(border.reshape(-1, 2).any(axis=1) & (np.arange(len(faces) // 2) % 2 == 0), 2)
        mesh = keep_triangles(Mesh(points, faces), ~teeth)
        outcome = Tidy(rows=2).apply(mesh, Context())
        self.assertGreater(outcome.account.figures["spikes"] + outcome.account.figures["notches"], 8)
        self.assertEqual(outcome.account.figures["left"], 0)
        for corner in ((100.0, 0.0), (100.0, 100.0)):
            self.assertTrue((outcome.mesh.vertices[:, :2] == corner).all(axis=1).any())


if __name__ == "__main__":
    unittest.main()
