"""The routine reverse-mesh: one clean surface, rims kept, only holes patched; on open shapes and demo scans."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from click.testing import CliRunner

from tests import specimens
from tests.exact_count import counted_exactly
from tests.seeds import seeds
from tests.test_patches import holed
from tests.test_rims import cut_solid, patch_of_surface, vessel
from tests.test_shapes import put, together
from tests.test_untangle import folded_over
from tinsnip.cli import cli
from tinsnip.demo import DEMO_SCANS, demo_scan
from tinsnip.formats import read_scan, write_mesh
from tinsnip.mesh import Mesh
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat import Context, Mend, Orient


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
        for name in DEMO_SCANS:
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


if __name__ == "__main__":
    unittest.main()
