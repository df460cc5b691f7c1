"""Seams that were never welded: found, welded within their gap and no further, by hand and by the routine."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import seeds
from tests.test_command_line import tinsnip
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey import examine
from tinsnip.survey.seams import seams_of, shells_that_touch
from tinsnip.treat import Context, WeldSeams

if SCREEN:
    from PySide6.QtCore import Qt

MAKES = (specimens.sphere, specimens.torus, specimens.bored_box)
SIZES = (2.0, 200.0, 2000.0)


def in_patches(rng: np.random.Generator, mesh: Mesh, count: int, jitter: float, halved: float = 0.0) -> Mesh:
    """A mesh as exported patch by patch: its seams apart by up to twice the jitter, some of their edges halved."""
    seeds = mesh.vertices[rng.choice(len(mesh.vertices), count, replace=False)]
    _, patch = cKDTree(seeds).query(mesh.vertices[mesh.faces].mean(axis=1))
    code = mesh.faces.astype(np.int64) + len(mesh.vertices) * patch[:, None]
    used, index = np.unique(code, return_inverse=True)
    places, faces = mesh.vertices[used % len(mesh.vertices)], index.reshape(-1, 3)
    off = rng.normal(size=places.shape)
    off *= jitter * rng.random((len(off), 1)) / np.linalg.norm(off, axis=1)[:, None]
    on_seam = np.zeros(len(places), dtype=bool)
    apart = Mesh(places, faces)
    half = np.flatnonzero(apart.twins == OPEN)
    corner = apart.faces.ravel()
    on_seam[corner[half]] = True
    apart = Mesh(places + off * on_seam[:, None], faces)
    half = half[rng.random(len(half)) < halved]
    half = half[np.unique(half // 3, return_index=True)[1]]
    a, b, c = corner[half], corner[half - half % 3 + (half + 1) % 3], corner[half - half % 3 + (half + 2) % 3]
    share = rng.uniform(0.3, 0.7, (len(half), 1))
    middle = (1 - share) * apart.vertices[a] + share * apart.vertices[b]
    number = len(places) + np.arange(len(half))
    faces = apart.faces.copy()
    faces[half // 3] = np.stack([a, number, c], axis=1)
    faces = np.concatenate([faces, np.stack([number, b, c], axis=1)])
    return Mesh(np.concatenate([apart.vertices, middle]), faces)


class Welded(unittest.TestCase):
    def test_patches_become_the_surface_they_were(self) -> None:
        for seed in seeds(36, self.id()):
            rng = np.random.default_rng(seed)
            size = SIZES[seed % 3]
            whole = MAKES[seed // 3 % 3](size, 48).mesh
            whole = Mesh(whole.vertices + (rng.random(3) < 0.3) * 5 * size, whole.faces)
            jitter = size * float(rng.choice([0.0, 1e-7, 1e-5, 2e-4]))
            halved = float(rng.choice([0.0, 0.4]))
            cut = in_patches(rng, whole, int(rng.choice([2, 9, 80])), jitter, halved)
            with self.subTest(seed=seed, jitter=jitter, halved=halved):
                self.assertGreater(shells_that_touch(cut), 1)
                tolerance = seams_of(cut).tolerance
                self.assertLessEqual(tolerance, 8 * jitter + 1e-8 * size)
                outcome = WeldSeams().apply(cut, Context())
                made = outcome.mesh
                self.assertEqual((made.edges.open, made.edges.tangled, made.edges.flipped), (0, 0, 0))
                self.assertEqual(examine(made).readiness.state, "Ready")
                # nothing moved beyond the tolerance, which is told; all vertices are those of the patches
                self.assertLessEqual(outcome.account.figures["moved_mm"], tolerance)
                self.assertEqual(cKDTree(cut.vertices).query(made.vertices)[0].max(), 0.0)
                bound = 4 * tolerance * whole.area + 1e-12 * whole.volume
                self.assertLess(abs(made.volume - whole.volume), bound)
                self.assertEqual(len(made.faces), len(cut.faces) + outcome.account.figures["divided"])
                again = WeldSeams().apply(made, Context())
                self.assertIs(again.mesh, made)

    def test_wider_slits_and_holes_stay_open(self) -> None:
        rng = np.random.default_rng(4)
        ball = specimens.sphere(20.0, 60).mesh
        middle = ball.vertices[ball.faces].mean(axis=1)
        holed = keep_triangles(ball, np.linalg.norm(middle - middle[500], axis=1) > 2)
        self.assertIs(WeldSeams().apply(holed, Context()).mesh, holed)
        left, right = (keep_triangles(ball, (middle[:, 0] < 0) == side) for side in (True, False))
        for gap, closes in ((0.009, True), (0.03, False)):
            parts = Mesh(
                np.concatenate([left.vertices, right.vertices + np.array([gap, 0, 0])]),
                np.concatenate([left.faces, right.faces + len(left.vertices)]),
            )
            made = WeldSeams(tolerance_mm=0.01).apply(parts, Context()).mesh
            self.assertEqual(made.edges.open == 0, closes)
        # a soup of single triangles, and what is no seam at all
        soup = Mesh(ball.vertices[ball.faces].reshape(-1, 3), np.arange(3 * len(ball.faces)).reshape(-1, 3))
        soup = Mesh(soup.vertices + rng.normal(0, 1e-5, soup.vertices.shape), soup.faces)
        made = WeldSeams().apply(soup, Context()).mesh
        self.assertEqual((made.edges.open, len(made.shells)), (0, 1))
        for nothing in (Mesh(np.zeros((0, 3)), np.zeros((0, 3))), keep_triangles(ball, np.arange(1)), ball):
            self.assertIs(WeldSeams().apply(nothing, Context()).mesh, nothing)

    def test_the_routine_loses_nothing_of_an_unwelded_scan(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            whole = specimens.torus(200.0, 80).mesh
            cut = in_patches(np.random.default_rng(1), whole, 30, 0.004, 0.3)
            path = Path(folder) / "patches.ply"
            write_mesh(cut, path)
            run = tinsnip("run", "print-solid", path, "--out", Path(folder) / "out", "--unit", "mm", "--json")
            self.assertEqual(run.returncode, 0, run.stdout + run.stderr)
            result = json.loads(run.stdout)["results"][0]
            self.assertAlmostEqual(result["volume_mm3"] / whole.volume, 1.0, delta=1e-3)
            self.assertEqual((result["shells"], result["gone_share"]), (1, 0.0))


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_seams_are_shown_and_welded_by_one_click(self) -> None:
        whole = specimens.torus(200.0, 80).mesh
        cut = in_patches(np.random.default_rng(1), whole, 30, 0.004, 0.3)
        path = Path(self.folder.name) / "patches.ply"
        write_mesh(cut, path)
        self.open(path)
        self.assertIn("solid: weld the seams", self.window.first_look.needs.text())
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_4)
        tray, shells = self.window.tray("Strays"), len(self.session.mesh.shells)
        self.assertIn(f"{shells} of {shells} shells touch: weld the seams?", tray.seam_note.text())
        self.assertEqual(self.session.findings()[0].id, "J1")
        self.assertEqual(tray.copper.text(), "Weld the seams")  # what comes first is what Enter does
        self.assertTrue(tray.sweep_now.isVisible())
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.job.log[-1].action, WeldSeams())
        self.assertEqual((len(self.session.mesh.shells), self.session.mesh.edges.open), (1, 0))
        self.assertFalse(tray.seam_note.isVisible() or tray.sweep_now.isVisible())
        self.assertEqual(self.window.state_button.text(), "Ready")


if __name__ == "__main__":
    unittest.main()
