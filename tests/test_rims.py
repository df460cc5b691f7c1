"""Rims told from holes: on open patches and shells at random, and by hand where a scan knows better."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.test_patches import holed
from tests.test_shapes import sheet
from tinsnip.formats import write_mesh
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import region_of_holes
from tinsnip.survey.holes import classify_boundaries, find_holes
from tinsnip.treat import Context, Patch, StraightSnip, TellOpenings, Turn

if SCREEN:
    from PySide6.QtCore import Qt
    from PySide6.QtTest import QTest


def whole_but_for_its_rim(mesh: Mesh) -> Mesh:
    """The largest shell, the triangles that are missing here and there beside a ragged rim put back."""
    mesh = keep_triangles(mesh, mesh.shells.label == np.argmax(mesh.shells.triangles))
    corner, more = mesh.faces.ravel(), []
    for i in range(len(mesh.loops)):
        ring = corner[mesh.loops.loop(i)][::-1]
        if len(ring) <= 6:
            more += [(ring[0], ring[k], ring[k + 1]) for k in range(1, len(ring) - 1)]
    return Mesh(mesh.vertices, np.concatenate([mesh.faces, np.array(more, dtype=np.int64).reshape(-1, 3)]))


def patch_of_surface(rng: np.random.Generator, size: float) -> Mesh:
    """A sheet, flat to deeply domed or wavy, ragged at the rim, now and then with ears."""
    n = 70
    x, y = np.meshgrid(*2 * [np.linspace(-1, 1, n)], indexing="ij")
    bulge = rng.choice([0.0, 0.4, -0.8, 1.2])
    wave = rng.choice([0.0, 0.08])
    z = bulge * (1 - x**2 - 0.7 * y**2) + wave * np.sin(5 * x + 1) * np.cos(4 * y)
    mesh = Mesh(0.5 * size * np.stack([x, y, z], -1).reshape(-1, 3), specimens.grid_faces(n, n, False, False))
    flat = mesh.vertices[mesh.faces].mean(axis=1)[:, :2] / (0.5 * size)
    angle, reach = np.arctan2(flat[:, 1], flat[:, 0]), np.linalg.norm(flat, axis=1)
    edge = (
        0.75 + 0.1 * np.sin(3 * angle + rng.uniform(0, 6)) + 0.05 * np.sin(11 * angle) + rng.normal(0, 0.012, len(flat))
    )
    inside = reach < edge
    if rng.random() < 0.4:  # an ear on a narrow neck
        way = rng.uniform(0, 2 * np.pi)
        along, across = flat @ [np.cos(way), np.sin(way)], np.abs(flat @ [-np.sin(way), np.cos(way)])
        inside |= (along > 0) & ((across < 0.05) & (along < 0.9) | (np.hypot(along - 0.9, across) < 0.08))
    return whole_but_for_its_rim(keep_triangles(mesh, inside))


def vessel(rng: np.random.Generator, size: float) -> Mesh:
    """A body of revolution that stands on an open foot of 5 to 60 % of its span; closed at the top, or open there."""
    around, up = 72, 60
    foot = rng.uniform(0.05, 0.6) * size / 2 / np.sqrt(2)
    t = np.linspace(0, 1, up)
    belly = 0.35 * size
    radius = foot + (belly - foot) * np.sin(np.pi * np.minimum(t * 1.15, 1)) ** rng.choice([1.0, 2.0])
    neck = 0.0 if rng.random() < 0.5 else rng.uniform(0.1, 0.6)
    radius = np.where(t > 0.5, np.maximum(radius, 0), radius)
    top = np.sqrt(np.maximum(1 - ((t - 0.5) / 0.5) ** 2, 0)) * (1 - neck) + neck
    radius = np.where(t > 0.5, belly * top + 1e-9, radius)
    # the wall goes straight down for the last rows, as a foot does
    radius[:4] = foot
    radius[-4:] = radius[-5] if neck else radius[-4:]
    rows = up if neck else up - 1
    angle = 2 * np.pi * np.arange(around) / around
    points = np.stack(
        [np.outer(radius, np.cos(angle)), np.outer(radius, np.sin(angle)), np.repeat(t[:, None] * size, around, 1)], -1
    )[:rows].reshape(-1, 3)
    faces = specimens.grid_faces(rows, around, False, True, True)
    mesh = Mesh(points, faces)
    if not neck:
        last = (rows - 1) * around + np.arange(around)
        tip = np.stack([last, np.roll(last, -1), np.full(around, len(points))], axis=1)
        mesh = Mesh(np.concatenate([points, [[0, 0, size]]]), np.concatenate([faces, tip]))
    if rng.random() < 0.5:  # ragged at the foot
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        column = ((np.arctan2(middles[:, 1], middles[:, 0]) + np.pi) / (2 * np.pi) * 71.99).astype(int)
        mesh = keep_triangles(mesh, middles[:, 2] > min(size / up, 0.4 * foot) * rng.uniform(0, 2.5, around)[column])
    return whole_but_for_its_rim(mesh)


def cut_solid(rng: np.random.Generator, size: float) -> Mesh:
    """A solid cut open by a plane."""
    make = (specimens.sphere, specimens.bored_box, specimens.torus)[rng.integers(3)]
    solid = make(size, 40).mesh
    height = rng.uniform(-0.3, 0.2) * np.ptp(solid.vertices[:, 2])
    mesh = StraightSnip(offset=float(height)).apply(solid, Context()).mesh
    return mesh


class Told(unittest.TestCase):
    def test_sixty_open_shapes(self) -> None:
        wrong, rims, holes = [], 0, 0
        for seed in range(60):
            rng = np.random.default_rng(seed)
            size = (2.0, 200.0, 2000.0)[seed % 3]
            mesh = (patch_of_surface, vessel, cut_solid)[seed // 3 % 3](rng, size)
            at_rim = mesh.vertices[mesh.faces.ravel()[mesh.loops.halfedges]]
            middles = mesh.vertices[mesh.faces].mean(axis=1)
            clear = np.array([np.linalg.norm(at_rim - p, axis=1).min() for p in middles[::7]])
            for _ in range(rng.integers(0, 4)):  # holes clear of the rim, small to large
                place = int(rng.choice(np.flatnonzero(clear > 0.5 * np.quantile(clear, 0.9))))
                radius = min(clear[place] * rng.uniform(0.15, 0.75), 0.16 * size)
                middle = middles[::7][place]
                mesh = holed(rng, mesh, middle, radius)
            found = classify_boundaries(mesh)
            corner = mesh.faces.ravel()
            known = {tuple(p) for p in at_rim.tolist()}
            for i in range(len(mesh.loops)):
                points = mesh.vertices[corner[mesh.loops.loop(i)]]
                share = np.mean([tuple(p) in known for p in points.tolist()])
                truth = share > 0.5
                rims, holes = rims + truth, holes + (not truth)
                if bool(found.is_rim[i]) != truth:
                    wrong.append((seed, "rim" if truth else "hole", len(points), round(float(found.facing[i]), 2)))
        self.assertEqual(wrong, [])
        self.assertGreater(min(rims, holes), 50)

    def test_no_rim_is_patched_unasked(self) -> None:
        for seed in range(12):
            rng = np.random.default_rng(100 + seed)
            mesh = (patch_of_surface, vessel)[seed % 2](rng, 200.0)
            patched = Patch().apply(mesh, Context()).mesh
            self.assertIs(patched, mesh, seed)

    def test_a_slit_is_called_one_and_how_flat_each_is_is_said(self) -> None:
        board = sheet(100.0, 60)
        beside = (np.abs(board.vertices[board.faces].mean(axis=1)) > [30, 1.5, 1]).any(axis=1)
        flat = keep_triangles(board, beside)
        found = [(f.id, f.text, f.about) for f in find_holes(flat, classify_boundaries(flat))]
        self.assertEqual(found, [("H1", "slit", "flat"), ("R1", "outer rim", "flat")])
        ball = holed(np.random.default_rng(0), specimens.sphere(200.0, 40).mesh, np.array([0, 0, 100.0]), 60.0)
        (one,) = find_holes(ball, classify_boundaries(ball))
        self.assertEqual(one.text, "hole")
        self.assertRegex(one.about, r"^off its plane by [\d.]+ % of its span$")

    def test_what_is_told_stands_above_what_is_measured(self) -> None:
        mesh = holed(np.random.default_rng(0), specimens.sphere(200.0, 40).mesh, np.array([0, 0, 100.0]), 30.0)
        keys = (int(mesh.loops.loop(0).min()),)
        self.assertTrue(classify_boundaries(mesh).is_hole[0])
        told = TellOpenings(openings=region_of_holes(mesh, keys), are="rim").apply(mesh, Context()).mesh
        self.assertTrue(classify_boundaries(told).is_rim[0])
        self.assertIs(Patch().apply(told, Context()).mesh, told)
        # it goes along through what is done next, and can be told back
        turned = Turn(degrees=30).apply(told, Context()).mesh
        self.assertTrue(classify_boundaries(turned).is_rim[0])
        back = TellOpenings(openings=region_of_holes(turned, keys), are="hole").apply(turned, Context()).mesh
        self.assertEqual(Patch().apply(back, Context()).mesh.edges.open, 0)


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def test_a_hole_is_told_to_be_the_rim_and_the_other_is_patched_flat(self) -> None:
        mesh = specimens.sphere(200.0, 60).mesh
        for place in ([0, 0, 100.0], [0, 100.0, 0]):
            mesh = holed(np.random.default_rng(0), mesh, np.array(place), 30.0)
        path = Path(self.folder.name) / "holed.ply"
        write_mesh(mesh, path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_5)
        tray, rows = self.window.tray("Holes"), self.window.ticket.list
        self.assertFalse(tray.told.isVisible())
        box = rows.visualRect(rows.model().index(0, 0))
        self.click(rows.viewport(), box.left() + 90, box.center().y())
        self.assertEqual(tray.told.text().replace("&", ""), "H1 is a rim")
        self.click(tray.told)
        self.settle()
        self.type_number(tray.limit, "20")
        self.assertFalse(self.session.is_ticked(self.session.findings()[0]))
        self.type_number(tray.limit, "500")
        self.assertTrue(self.session.is_ticked(self.session.findings()[0]))
        self.assertEqual([f.id for f in self.session.findings()], ["H2", "R1"])
        # the view follows the slider at once, by what is exact later
        self.wait_for(lambda: self.session.preview is not None)
        asked = self.session.preview.treatment
        self.assertEqual((asked.under_mm, asked.holes), (500.0, None))  # holes below a limit, not just these
        shown: list[np.ndarray] = []
        self.view.show_made, drawn = lambda corners: (shown.append(corners), drawn(corners)), self.view.show_made
        tray.flow.setFocus()
        for _ in range(30):
            QTest.keyClick(tray.flow, Qt.Key.Key_Left)
        self.wait_for(lambda: len(shown) > 0)
        self.assertEqual(shown[0].shape[1:], (3, 3))
        self.wait_for(lambda: self.session.preview is not None and self.session.preview.treatment.flow == 0.7)
        exact = self.session.preview.outcome
        made = exact.mesh.vertices[exact.mesh.faces[-exact.account.made_triangles :]]
        self.assertLess(np.abs(np.sort(shown[-1].ravel()) - np.sort(made.ravel())).max(), 1e-3)
        tray.scroll.ensureWidgetVisible(tray.on_plane)
        self.settle()
        self.click(tray.on_plane, 10, tray.on_plane.height() // 2)
        self.type_number(tray.rise, "3")
        self.wait_for(lambda: self.session.preview is not None and self.session.preview.treatment.rise_mm == 3)
        self.assertRegex(tray.bend.text(), r"^\d+°$")
        self.click(tray.copper)
        self.settle()
        log = self.session.job.log
        self.assertEqual([s.action.name for s in log[1:]], ["tell-openings", "patch"])
        self.assertTrue(log[-1].action.on_plane)
        self.assertEqual(len(self.session.mesh.loops), 1)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.assertEqual([f.id for f in self.session.findings()], ["H1", "H2"])


if __name__ == "__main__":
    unittest.main()
