"""Recast: one closed skin round whatever is there, how far it lies off, and what it says of itself."""

import unittest
from pathlib import Path

import numpy as np

from tests import specimens
from tests.exact_count import counted_exactly
from tests.hands import SCREEN, WindowTest
from tests.knots import tied
from tests.random_scans import moved
from tests.seeds import in_turn, seeds, share
from tests.test_shapes import moebius, put, sheet, together
from tests.test_untangle import folded_over
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import built_in_routines
from tinsnip.mesh import MADE, MEASURED, SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.space.tree import build_tree, closest_points
from tinsnip.survey import examine
from tinsnip.treat import Context, Recast, Sweep
from tinsnip.treat.close.recast import forecast
from tinsnip.treat.kit.skins.recasting import recast_surface

if SCREEN:
    from PySide6.QtCore import Qt


def cast(mesh: Mesh, cells: int, **fields: object) -> Mesh:
    return (
        Recast(deviation_mm=float(mesh.size.max()) / cells / 2, only_if_needed=False, **fields)
        .apply(mesh, Context())
        .mesh
    )


def junk(rng: np.random.Generator, size: float) -> tuple[Mesh, Mesh]:
    """A solid with some of what can go wrong with its surface, and the solid."""
    true = (specimens.sphere, specimens.torus, specimens.bored_box)[rng.integers(3)](size, 4 * int(rng.integers(5, 9)))
    mesh = true.mesh
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    kinds = rng.choice(6, rng.integers(1, 4), replace=False)
    if 0 in kinds:  # some of the surface is gone on one side
        way = rng.normal(size=3)
        mesh = keep_triangles(mesh, middles @ way < rng.uniform(0.1, 0.3) * size * np.linalg.norm(way))
    if 1 in kinds:  # many small holes
        mesh = keep_triangles(mesh, rng.random(len(mesh.faces)) > 0.1)
    if 2 in kinds:  # a doubled skin
        mesh = together(mesh, Mesh(mesh.vertices + 1e-3 * size * rng.normal(size=3), mesh.faces))
    if 3 in kinds:  # shells that cross
        mesh = together(mesh, put(specimens.sphere(0.5 * size, 12).mesh, rng.uniform(-0.3, 0.3, 3) * size))
    if 4 in kinds:  # an inner skin, the right way out, which is no void
        mesh = together(mesh, Mesh(0.2 * mesh.vertices, mesh.faces))
    if 5 in kinds:  # unwelded soup
        mesh = Mesh(mesh.vertices[mesh.faces].reshape(-1, 3), np.arange(3 * len(mesh.faces)).reshape(-1, 3))
    return moved(rng, mesh, size), true.mesh


class Skins(unittest.TestCase):
    def fit(self, mesh: Mesh, crossings: bool = True) -> None:
        self.assertEqual(specimens.closed_faults(mesh.vertices, mesh.faces), "")
        self.assertGreater(mesh.volume, 0)
        if crossings:
            self.assertEqual(counted_exactly(mesh.vertices, mesh.faces), (0, 0))

    @in_turn(0)
    def test_it_lies_on_the_surface_and_keeps_sharp_edges(self) -> None:
        for make, n in ((specimens.sphere, 60), (specimens.torus, 140), (specimens.bored_box, 40)):
            for scale in share((0.02, 1.0, 50.0), f"{self.id()} {n}"):
                with self.subTest(make=make.__name__, scale=scale):
                    solid = make(200.0 * scale, n)
                    cells, mesh = 64, Mesh(solid.mesh.vertices + 7 * scale, solid.mesh.faces)
                    step = float(mesh.size.max()) / cells
                    before = recast_surface(mesh.vertices, mesh.faces, step, Progress())
                    after = cast(mesh, cells)
                    self.fit(after, crossings=scale == 1.0)
                    tree, state = build_tree(mesh.vertices, mesh.faces), Progress().state
                    for places, most in ((before.vertices, 0.3), (after.vertices, 0.05)):
                        away, _ = closest_points(tree, places, state)
                        self.assertLess(np.quantile(away, 0.99) / step, most)
                    # and the other way: nothing of the part is left out, its edges are where they were
                    away, _ = closest_points(build_tree(after.vertices, after.faces), mesh.vertices, state)
                    self.assertLess(np.quantile(away, 0.99) / step, 0.1)
                    self.assertAlmostEqual(after.volume / mesh.volume, 1.0, delta=0.004)

    def test_any_junk_becomes_one_valid_solid(self) -> None:
        for seed in seeds(50, self.id()):
            rng = np.random.default_rng(seed)
            mesh, true = junk(rng, float(10 ** rng.uniform(0, 3)))
            with self.subTest(seed=seed):
                after = Sweep(chunks="sweep").apply(cast(mesh, 24), Context()).mesh
                self.fit(after)
                self.assertEqual(len(after.shells), 1)
                again = cast(mesh, 24)
                self.assertTrue(np.array_equal(again.vertices, cast(mesh, 24).vertices))
                self.assertGreater(after.volume, 0.4 * true.volume)

    def test_gaps_are_bridged_as_far_as_allowed_and_made_surface_is_said(self) -> None:
        ball = specimens.sphere(200.0, 40).mesh
        mesh = keep_triangles(ball, ball.vertices[ball.faces].mean(axis=1)[:, 2] < 80)  # 120 mm wide open
        outcome = Recast(deviation_mm=2.0).apply(mesh, Context())
        self.fit(outcome.mesh)
        self.assertGreater(outcome.account.figures["bridged_mm"], 60.0)
        off = 100 - np.linalg.norm(outcome.mesh.vertices[outcome.mesh.faces].mean(axis=1), axis=1)
        self.assertEqual(set(outcome.mesh.provenance[off > 3]), {MADE})
        self.assertEqual(set(np.unique(outcome.mesh.provenance)), {SHIFTED, MADE})
        self.assertIn("bridged gaps up to", outcome.text)
        with self.assertRaisesRegex(BadInput, "would be bridged, and 10 mm are allowed"):
            Recast(deviation_mm=2.0, gap_mm=10.0).apply(mesh, Context())

    def test_open_feet_are_closed_onto_their_plane(self) -> None:
        """What is made below an open foot lies in a plane, not in a bowl or a tent, knots beside it or not."""
        whole = specimens.sphere(100.0, 40).mesh
        half = keep_triangles(whole, whole.vertices[whole.faces][:, :, 2].min(axis=1) > 5.0)
        for seed in range(3):
            mesh = specimens.ragged(np.random.default_rng(seed), half, 2, 0.3)
            mesh = tied(mesh, "welded", seed, 3.0) if seed else mesh
            longest = int(np.argmax(np.diff(mesh.loops.start)))
            lowest = float(mesh.vertices[mesh.faces.ravel()[mesh.loops.loop(longest)], 2].min())
            outcome = Recast(deviation_mm=0.5).apply(mesh, Context())
            result = outcome.mesh
            with self.subTest(seed=seed, said=outcome.text):
                self.assertEqual(specimens.closed_faults(result.vertices, result.faces), "")
                inner = result.vertices[np.unique(result.faces[result.provenance == MADE])]
                inner = inner[np.linalg.norm(inner[:, :2], axis=1) < 40.0]
                below = inner[inner[:, 2] < 15.0]
                self.assertGreater(len(below), 1000)
                np.testing.assert_allclose(below[:, 2], lowest, atol=0.5)

    @in_turn(1)
    def test_sheets_become_as_thick_as_the_smallest_wall(self) -> None:
        flat = sheet(100.0, 30)
        with self.assertRaisesRegex(BadInput, "encloses nothing"):
            Recast(deviation_mm=1.0).apply(flat, Context())
        outcome = Recast(deviation_mm=1.0, wall_mm=3.0).apply(flat, Context())
        self.fit(outcome.mesh)
        self.assertAlmostEqual(outcome.mesh.size[2], 3.0, delta=0.05)
        self.assertAlmostEqual(outcome.mesh.volume / (flat.size[0] * flat.size[1] * 3.0), 1.0, delta=0.03)
        # a solid that a sheet hangs on keeps its own size
        both = together(specimens.bored_box(60.0, 20).mesh, put(flat, np.array([0, 60.0, 0])))
        after = Recast(deviation_mm=0.5, wall_mm=3.0).apply(both, Context()).mesh
        self.fit(after, crossings=False)
        top = specimens.bored_box(60.0, 20).mesh.vertices[:, 2].max()
        self.assertAlmostEqual(after.vertices[:, 2].max(), top, delta=0.1)

    def test_colours_come_back_and_valid_solids_stay(self) -> None:
        ball = specimens.sphere(200.0, 40).mesh
        shade = np.rint(np.clip(ball.vertices + 100, 0, 200)).astype(np.uint8)
        painted = ball.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        self.assertIs(Recast().apply(painted, Context()).mesh, painted)
        self.assertEqual(set(painted.provenance), {MEASURED})
        after = cast(painted, 64)
        off = np.abs(after.colour.astype(float) - (after.vertices + 100))
        self.assertLess(np.quantile(off, 0.99), 1.5)

    def test_what_it_will_make_is_said_before(self) -> None:
        mesh = specimens.torus(200.0, 120).mesh
        for cells in (32, 64, 128):
            plan = forecast(mesh, float(mesh.size.max()) / cells / 2)
            self.assertAlmostEqual(len(cast(mesh, cells).faces) / plan.triangles, 1.0, delta=0.25)
        for bad, said in (
            (Mesh(np.zeros((0, 3)), np.zeros((0, 3))), "no surface"),
            (Mesh(np.eye(3), np.array([[0, 1, 2]])), "encloses nothing"),
        ):
            with self.assertRaisesRegex(BadInput, said):
                Recast().apply(bad, Context())
        with self.assertRaisesRegex(BadInput, "cells along the longest side"):
            cast(mesh, 100_000)
        with self.assertRaisesRegex(BadInput, r"cells of .* mm long|only .* cells"):
            cast(mesh, 2)


class AsARoutine(unittest.TestCase):
    def test_it_is_proposed_with_its_cost_and_done_when_asked(self) -> None:
        crossed = together(specimens.sphere(100.0, 16).mesh, put(specimens.sphere(100.0, 16).mesh, (0, 0, 40.0)))
        torn = keep_triangles(crossed, np.random.default_rng(0).random(len(crossed.faces)) > 0.05)
        scan = Scan(Path("torn.ply"), torn, "ply", "mm", "", ())
        routine = built_in_routines()["print-solid"]
        run = routine.run(scan)
        found = examine(run.mesh, wanted_shells=run.wanted_shells).readiness.also(*run.checks())
        self.assertFalse(found.ready)
        self.assertIn("--set strays.chunks=sweep", run.proposal(found))  # what it asks comes first
        # what crosses is united by local means, once it is said that both are kept
        run = routine.with_settings(["strays.chunks=keep"]).run(scan)
        found = examine(run.mesh, wanted_shells=run.wanted_shells).readiness.also(*run.checks())
        self.assertEqual((found.reasons, run.proposal(found)), ([], ""))
        # a band with one side has no inside: only a recast, as a sheet, makes a solid of it
        scan = Scan(Path("band.ply"), moebius(100.0), "ply", "mm", "", ())
        run = routine.run(scan)
        found = examine(run.mesh, wanted_shells=run.wanted_shells).readiness.also(*run.checks())
        self.assertIn("one side only", "; ".join(found.reasons))
        self.assertRegex(
            run.proposal(found), r"cells of [\d.]+ mm: some .* triangles in about \d+ s; .*--recast [\d.]+$"
        )
        asked = routine.with_recast(0.5).with_settings(["recast.wall_mm=4"])
        run = asked.run(scan)
        found = examine(run.mesh, wanted_shells=run.wanted_shells).readiness.also(*run.checks())
        self.assertEqual(
            [r for r in found.reasons if "patches would be" not in r], []
        )  # and how much is made up is said
        self.assertEqual(counted_exactly(run.mesh.vertices, run.mesh.faces), (0, 0))
        for wrong in (0.0, -1.0, float("nan")):
            with self.assertRaisesRegex(BadInput, "--recast"):
                routine.with_recast(wrong)
        with self.assertRaisesRegex(BadInput, "no step that recasts"):
            built_in_routines()["reverse-mesh"].with_recast(1.0)

    def test_what_can_be_closed_by_less_is_not_recast(self) -> None:
        ball = specimens.sphere(100.0, 24).mesh
        holed = keep_triangles(ball, np.arange(len(ball.faces)) > 30)
        run = built_in_routines()["print-solid"].with_recast(0.5).run(Scan(Path("a.ply"), holed, "ply", "mm", "", ()))
        kept = specimens.triangle_set(run.mesh.vertices, run.mesh.faces)
        self.assertLessEqual(specimens.triangle_set(holed.vertices, holed.faces), kept)


@unittest.skipUnless(SCREEN, "needs a display")
class ByHand(WindowTest):
    def press(self, button: object) -> None:
        self.window.tray("Solid").scroll.ensureWidgetVisible(button)
        self.settle()
        self.click(button)

    def test_the_smallest_means_first(self) -> None:
        ball = specimens.sphere(200.0, 40).mesh
        middles = ball.vertices[ball.faces].mean(axis=1)
        hole = np.linalg.norm(middles - [0, -100, 0], axis=1) < 20
        tray = self.put_up(keep_triangles(ball, (middles[:, 2] > -70) & ~hole))
        before = self.session.mesh
        self.press(tray.small_means)
        self.wait_for(lambda: self.session.mesh.edges.open == 0)
        self.settle()
        self.assertTrue(self.session.examination.readiness.ready)
        kept = specimens.triangle_set(self.session.mesh.vertices, self.session.mesh.faces)
        self.assertLessEqual(specimens.triangle_set(before.vertices, before.faces), kept)
        self.assertFalse(tray.small_means.isEnabled())
        self.assertFalse(tray.proposal.isVisible())

    def test_a_recast_is_proposed_looked_at_left_and_done(self) -> None:
        rng = np.random.default_rng(1)
        mesh, _ = folded_over(rng, specimens.torus(200.0, 100).mesh, 12, 8.0)
        tray = self.put_up(mesh)
        self.wait_for(lambda: self.session.examination.crossings is not None)
        self.settle()
        self.assertIn("a recast mends what they leave", tray.proposal.text())
        raw, picture = self.session.mesh, self.picture()
        self.press(tray.to_recast)
        tray, closing = tray.recasting, tray
        self.assertEqual((closing.part, closing.copper.text()), ("Recast", "Recast the part"))
        self.type_number(tray.deviation, "1")
        expected = int("".join(c for c in tray.skin.text() if c.isdigit()))
        self.press(tray.look_button)
        self.wait_for(lambda: tray.look.shown is not None)
        self.assertIs(self.session.mesh, raw)
        self.assertEqual(len(self.session.job.log), 1)
        shown = self.session.stand_in.triangles
        self.assertAlmostEqual(shown / expected, 1.0, delta=0.3)
        self.settle()
        self.assertGreater(np.abs(self.picture().astype(int) - picture).sum(), 0)
        self.view.setFocus()
        self.key(Qt.Key.Key_Escape)
        self.assertIsNone(self.session.stand_in)
        self.press(closing.copper)
        self.wait_for(lambda: len(self.session.job.log) == 2)
        self.settle()
        after = self.session.mesh
        self.assertEqual(len(after.faces), shown)
        self.assertEqual(counted_exactly(after.vertices, after.faces), (0, 0))
        wrong = [c.name for c in self.session.examination.readiness.checks if not c.passed]
        self.assertLessEqual(set(wrong), {"shells", "voids"})  # a fold may have come off as a crumb
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertIs(self.session.mesh, raw)
