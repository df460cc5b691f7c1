"""The bed is found where there is one, and nowhere else; the cut leaves the part its foot."""

import unittest
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tests.seeds import seeds
from tinsnip.demo.library import DEMO_SCANS
from tinsnip.demo.scanner import march, scan
from tinsnip.formats import Scan, write_mesh
from tinsnip.job import load_routine
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.survey import examine
from tinsnip.survey.bed import beds_of
from tinsnip.treat import Context, FindBed, Place, StandOnBed
from tinsnip.words import grouped

if SCREEN:
    from PySide6.QtCore import Qt

    from tinsnip.app.stations import stand

Field = Callable[[np.ndarray], np.ndarray]


def box(p: np.ndarray, centre: tuple, half: tuple) -> np.ndarray:
    q = np.abs(p - centre) - half
    return np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)


def ball(p: np.ndarray, centre: tuple, radius: float) -> np.ndarray:
    return np.linalg.norm(p - centre, axis=1) - radius


def drum(p: np.ndarray, centre: tuple, radius: float, half: float) -> np.ndarray:
    q = p - centre
    d = np.stack([np.hypot(q[:, 0], q[:, 1]) - radius, np.abs(q[:, 2]) - half], axis=1)
    return np.linalg.norm(np.maximum(d, 0), axis=1) + np.minimum(d.max(axis=1), 0)


def ring(p: np.ndarray) -> np.ndarray:
    return np.hypot(np.hypot(p[:, 0], p[:, 1]) - 30, p[:, 2] - 6) - 9


PARTS: dict[str, Field] = {
    "ball": lambda p: ball(p, (0, 0, 17), 25),
    "box": lambda p: box(p, (0, 0, 20), (30, 22, 20)),
    "drum": lambda p: drum(p, (0, 0, 15), 25, 15),
    "ring": ring,
    "plate with a pin": lambda p: np.minimum(box(p, (0, 0, 4), (40, 40, 4)), drum(p, (5, 5, 25), 10, 25)),
    "flange": lambda p: np.minimum(drum(p, (0, 0, 5), 40, 5), ball(p, (0, 0, 20), 20)),
    "bowl": lambda p: np.maximum(ball(p, (0, 0, 20), 35), -ball(p, (0, 0, 30), 25)),
}
SEEDS = 20


def scene(seed: int, with_bed: bool) -> tuple[Mesh, np.ndarray, np.ndarray, float]:
    """A part with or without a bed, anywhere, in any size: mesh, the normal of the bed, a point of it, mm in a unit."""
    rng = np.random.default_rng(seed)
    part = list(PARTS.values())[seed % len(PARTS)]
    long, wide, blend = rng.uniform(55, 110), rng.uniform(55, 110), rng.uniform(0, 3)
    sag = rng.uniform(0, 1) if seed % 4 == 3 else 0.0

    def field(p: np.ndarray) -> np.ndarray:
        d = part(p)
        if not with_bed:
            return d
        z = p[:, 2] + sag * (p[:, 0] / long) ** 2
        share = np.clip(0.5 + 0.5 * (z - d) / max(blend, 0.2), 0, 1)
        return z * (1 - share) + d * share - max(blend, 0.2) * share * (1 - share)

    low = np.array([-long - 8, -wide - 8, -6.0 if with_bed else -25.0])
    vertices, faces = march(field, np.array([low, [long + 8, wide + 8, 70.0]]), 2.2, lambda share: None)
    middles = vertices[faces].mean(axis=1)
    keep = np.ones(len(faces), dtype=bool)
    if with_bed:  # a ragged patch of it, and what is seen from above
        angle = np.arctan2(middles[:, 1] / wide, middles[:, 0] / long)
        ragged = 1 + 0.04 * np.sin(9 * angle) + 0.03 * np.sin(23 * angle + 1)
        vectors = face_vectors(vertices, faces)
        up = vectors[:, 2] / np.linalg.norm(vectors, axis=1)
        keep = (np.hypot(middles[:, 0] / long, middles[:, 1] / wide) < ragged) & (middles[:, 2] > -3) & (up > -0.5)
    elif seed % 2:  # its own base was not seen
        keep = middles[:, 2] > middles[:, 2].min() + 3.0
    mesh = keep_triangles(Mesh(vertices, faces), keep)
    turn = Rotation.random(random_state=seed + 100).as_matrix()
    shift, scale = rng.uniform(-300, 300, 3), float(rng.choice([1.0, 0.05, 10.0]))
    noisy = mesh.vertices + rng.normal(0, rng.uniform(0.0, 0.25), mesh.vertices.shape)
    return mesh.moved(scale * noisy @ turn.T + shift), turn @ [0.0, 0.0, 1.0], shift, scale


class Found(unittest.TestCase):
    """Any shape, size, place, tilt, noise, sag and border."""

    def test_a_bed_is_found_and_where_it_lies(self) -> None:
        for seed in seeds(SEEDS, self.id()):
            mesh, normal, point, scale = scene(seed, True)
            with self.subTest(seed=seed):
                bed = beds_of(mesh)[0]
                self.assertLess(np.degrees(np.arccos(min(1.0, bed.normal @ normal))), 0.5)
                self.assertLess(abs((bed.outline.mean(axis=0) - point) @ normal) / scale, 0.3)

    def test_nothing_is_taken_for_a_bed(self) -> None:
        for seed in seeds(SEEDS, self.id()):
            with self.subTest(seed=seed):
                self.assertEqual(beds_of(scene(seed, False)[0]), ())
        odd = [
            specimens.torus(70.0, 40).mesh,
            specimens.bored_box(40.0, 40).mesh,
            Mesh(np.zeros((0, 3)), np.zeros((0, 3))),
        ]
        sheet = scene(1, True)[0]
        odd.append(sheet.moved(sheet.vertices * [1e-12, 1e-12, 1e-12]))
        for mesh in odd[:3]:
            self.assertEqual(beds_of(mesh), ())
        self.assertEqual(len(beds_of(odd[3])), 1)

    def test_demo_scans_on_their_bed_at_any_tilt(self) -> None:
        for seed in range(6):
            rng = np.random.default_rng(seed)
            wanted = replace(
                DEMO_SCANS["pump-cover"], reach=tuple(rng.uniform(112, 180, 2)), noise=float(rng.uniform(0.01, 0.15))
            )
            mesh = scan(wanted, 20_000, seed, lambda text, share: None)
            turn, shift = Rotation.random(random_state=seed).as_matrix(), rng.uniform(-500, 500, 3)
            bed = beds_of(mesh.moved(mesh.vertices @ turn.T + shift))[0]
            self.assertLess(np.degrees(np.arccos(min(1.0, bed.normal @ turn[:, 2]))), 0.5)
            self.assertLess(abs(bed.offset - bed.normal @ shift), 0.3)


class Cut(unittest.TestCase):
    def test_the_part_keeps_its_foot_and_every_triangle_above_the_cut(self) -> None:
        for seed in range(0, SEEDS, 3):
            mesh, normal, point, scale = scene(seed, True)
            outcome = FindBed(most_share=1.0).apply(mesh, Context())
            with self.subTest(seed=seed):
                height = (outcome.mesh.vertices - point) @ normal / scale
                self.assertGreater(height.min(), -0.5)
                self.assertLess(height.min(), 4.0, "it was cut higher than the bed asks for")
                above = outcome.account.figures["offset"] + outcome.account.figures["above"] + 1e-6 * scale
                whole = (mesh.vertices[mesh.faces] @ outcome.account.figures["normal"] > above).all(axis=1)
                left = {t.tobytes() for t in outcome.mesh.vertices[outcome.mesh.faces]}
                self.assertTrue(all(t.tobytes() in left for t in mesh.vertices[mesh.faces[whole]]))
                again = FindBed(most_share=1.0).apply(outcome.mesh, Context())
                self.assertIs(again.mesh, outcome.mesh)
                self.assertEqual(again.text, "No bed found")

    def test_a_panel_is_not_cut_unasked(self) -> None:
        x, y = np.meshgrid(np.linspace(-80, 80, 90), np.linspace(-60, 60, 70), indexing="ij")
        corner = (np.arange(89)[:, None] * 70 + np.arange(69)).ravel()
        faces = np.concatenate(
            [np.stack([corner, corner + 70, corner + 1], 1), np.stack([corner + 1, corner + 70, corner + 71], 1)]
        )
        panel = Mesh(np.stack([x.ravel(), y.ravel(), 20 * np.exp(-(x**2 + y**2) / 400).ravel()], axis=1), faces)
        self.assertEqual(len(beds_of(panel)), 1)  # it looks like one, and is shown
        outcome = FindBed().apply(panel, Context())
        self.assertIs(outcome.mesh, panel)
        self.assertIn("may be the part", outcome.text)
        scan = Scan(Path("panel.stl"), panel, "stl", "mm", "", [], False)
        run = load_routine("print-solid").run(scan, Progress())
        doubt = next(check for check in run.checks() if check.name == "bed")
        self.assertFalse(doubt.passed)  # it ends not ready, and says what to set
        self.assertIn("bed.most_share=1", doubt.reason)
        self.assertLess(FindBed(most_share=1.0).apply(panel, Context()).mesh.area, 0.5 * panel.area)

    def test_a_bed_of_its_own_goes_as_a_shell_and_the_part_stays_whole(self) -> None:
        ball_shell = specimens.sphere(50.0, 40).mesh
        steps = np.linspace(-80, 80, 70)
        x, y = np.meshgrid(steps, steps, indexing="ij")
        corner = np.arange(70 * 69).reshape(70, 69)[:69].ravel() + np.repeat(np.arange(69), 69)
        sheet = np.concatenate(
            [np.stack([corner, corner + 70, corner + 1], 1), np.stack([corner + 1, corner + 70, corner + 71], 1)]
        )
        for z in (-27.0, -20.0):  # below it, and through its foot
            flat = np.stack([x.ravel(), y.ravel(), np.full(x.size, z)], axis=1)
            both = Mesh(
                np.concatenate([ball_shell.vertices, flat]),
                np.concatenate([ball_shell.faces, sheet + len(ball_shell.vertices)]),
            )
            outcome = FindBed().apply(both, Context())
            self.assertIn("a shell of its own", outcome.text)
            self.assertEqual(outcome.mesh.vertices.tobytes(), ball_shell.vertices.tobytes())

    def test_print_solid_needs_to_be_told_nothing(self) -> None:
        mesh = demo_scan_turned()
        for step in load_routine("print-solid").steps:
            if step.enabled:
                mesh = step.make().apply(mesh, Context()).mesh
        self.assertTrue(examine(mesh).readiness.ready, examine(mesh).readiness.state)
        self.assertLess(mesh.size.max(), 230.0)  # the cover, and no bed
        self.assertGreater(mesh.volume, 5e5)


def demo_scan_turned() -> Mesh:
    """The pump cover on its bed, lying in space anyhow."""
    mesh = scan(DEMO_SCANS["pump-cover"], 40_000, 5, lambda text, share: None)
    return mesh.moved(mesh.vertices @ Rotation.random(random_state=9).as_matrix().T + [40.0, -300.0, 7.0])


class InTheWindow(WindowTest):
    """Shown as a finding, proposed as a snip, and cut away by one click."""

    def test_found_proposed_and_cut_by_one_click(self) -> None:
        path = Path(self.folder.name) / "turned.ply"
        write_mesh(demo_scan_turned(), path)
        self.open(path)
        self.assertIn("cut the bed away", self.window.first_look.needs.text())
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_3)
        tray, bed = self.window.tray("Trim"), beds_of(self.session.mesh)[0]
        self.assertEqual([f.id for f in self.session.findings()], ["B1"])
        self.assertIn("stands on a bed", self.window.ticket.rows[2].state)
        normal, offset = tray.plan.waste_plane()
        self.assertGreater(normal @ bed.normal, 1 - 1e-9)
        self.assertAlmostEqual(offset, bed.offset + bed.above, places=6)
        # one button for what is in hand: the bed's cut, or what is selected
        self.assertEqual((tray.copper.text(), tray.bed_button.isVisible()), ("Cut the bed away", False))
        flat = next(tool for tool in tray.select_tools if tool.short == "Flat")
        tray.take(flat)
        self.assertEqual((tray.copper.text(), tray.copper.isEnabled()), ("Delete what is selected", False))
        self.assertTrue(tray.bed_button.isVisible())
        self.click(self.view, *self.spot_on_part())
        count = self.session.selected.count
        self.assertGreater(count, 0)
        self.assertEqual(tray.copper.text().split()[0], "Delete")
        self.assertIn(grouped(count), tray.copper.text())
        tray.take(next(tool for tool in tray.select_tools if tool.short == "Tidy"))
        self.assertEqual((tray.copper.text(), tray.copper.isEnabled()), ("Tidy an edge", False))
        self.key(Qt.Key.Key_Escape)
        self.session.selected.change(self.session.selected.triangles, True)
        self.settle()
        self.assertEqual(tray.copper.text(), "Cut the bed away")
        self.key(Qt.Key.Key_Return)
        self.assertEqual(self.session.job.log[-1].action.name, "find-bed")
        self.assertEqual(self.session.findings(), [])
        self.assertFalse(tray.bed_button.isVisible())
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        # a plane that was moved by hand is left where it is
        self.type_number(tray.offset, f"{tray.offset.value() + 5:.3f}")
        moved = tray.plan.offset
        self.key(Qt.Key.Key_4)
        self.key(Qt.Key.Key_3)
        self.assertAlmostEqual(tray.plan.offset, moved)
        self.assertEqual(tray.copper.text(), "Cut the hatched side away")
        self.click(tray.bed_button)
        self.assertEqual(self.session.job.log[-1].action.name, "find-bed")

    def test_it_is_stood_on_the_bed_that_was_found(self) -> None:
        path = Path(self.folder.name) / "turned.ply"
        write_mesh(demo_scan_turned(), path)
        self.open(path)
        self.key(Qt.Key.Key_Escape)
        self.key(Qt.Key.Key_9)
        release, bed = self.window.tray("Release"), beds_of(self.session.mesh)[0]
        self.assertRegex(release.stands.text(), r"✗ .* mm (above|below) z = 0")
        # a click on the bed itself means the same as the button: it stays below the part
        self.key(Qt.Key.Key_2)
        tray, raw = self.window.tray("Stand"), self.session.mesh
        on_bed = bed.outline.mean(axis=0) + 0.49 * (bed.outline[0] - bed.outline.mean(axis=0)) * 2
        middle = raw.vertices[raw.faces].mean(axis=1)
        triangle = int(np.argmin(np.linalg.norm(middle - on_bed, axis=1)))
        self.assertEqual(stand.laying(raw, triangle, middle[triangle]), StandOnBed(number=1))
        self.click(tray.bed)
        self.wait_for(lambda: tray.copper.isEnabled())
        self.assertIs(self.session.mesh, raw)
        self.key(Qt.Key.Key_Return)
        stood = self.session.mesh
        found = beds_of(stood)[0]
        self.assertGreater(found.normal[2], 1 - 1e-5)
        self.assertAlmostEqual(found.offset, 0.0, delta=0.05)
        self.assertGreater(np.median(stood.vertices[:, 2]), 0.0)
        self.assertEqual(self.session.job.log[-1].action, StandOnBed())
        self.session.apply(Place())
        self.settle()
        self.key(Qt.Key.Key_9)
        self.assertIn("✓", release.stands.text())


if __name__ == "__main__":
    unittest.main()
