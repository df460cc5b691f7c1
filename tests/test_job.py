"""The job: log and cursor, routines as files, budgets, and the plans that the window turns into treatments."""

import contextlib
import gc
import json
import unittest
import weakref
from pathlib import Path
from unittest import mock

import numpy as np

from tests import specimens
from tinsnip.app.tools.snip import SnipPlan
from tinsnip.app.view.camera import Camera
from tinsnip.app.widgets.filedialog import bare_name
from tinsnip.errors import BadInput, Cancelled
from tinsnip.formats import FORMATS, Scan, guess_unit
from tinsnip.job import Job, Routine, RoutineStep, built_in_routines, fit_to_format, load_routine
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.picking import triangles_within
from tinsnip.space.tree import build_tree
from tinsnip.survey import examine
from tinsnip.treat import TREATMENTS, Context, Mend, Offset, Orient, Patch, Plinth, Reduce, StraightSnip, Sweep


def scan_of(mesh: Mesh, name: str = "part.stl") -> Scan:
    return Scan(Path(name), mesh, "stl", "mm", "as given")


class Log(unittest.TestCase):
    def setUp(self) -> None:
        self.damaged = specimens.damage(specimens.torus(70.0, 60), np.random.default_rng(3)).mesh
        self.job = Job()
        self.job.open(scan_of(self.damaged))

    def test_undo_redo_and_a_new_branch(self) -> None:
        job = self.job
        states = [None, job.piece.mesh]
        for treatment in (Mend(), Orient(), Sweep(), Reduce(percent=50)):
            job.apply(treatment)
            states.append(job.piece.mesh)
        self.assertEqual([s.action.name for s in job.log], ["open", "mend", "orient", "sweep", "reduce"])
        rng = np.random.default_rng(0)
        for _ in range(40):
            job.go_to(int(rng.integers(1, 6)))
            self.assertIs(job.piece.mesh, states[job.cursor])
        job.go_to(1)
        self.assertIs(job.piece.mesh, self.damaged)
        job.undo()
        self.assertEqual(job.pieces, [])
        with self.assertRaises(BadInput):
            job.undo()
        job.go_to(3)
        job.apply(StraightSnip(offset=0.1))
        self.assertEqual([s.action.name for s in job.log], ["open", "mend", "orient", "snip-straight"])
        with self.assertRaises(BadInput):
            job.redo()
        self.assertIs(job.piece.raw, self.damaged)

    def test_what_fails_or_changes_nothing_leaves_no_entry(self) -> None:
        with self.assertRaises(BadInput):
            self.job.apply(StraightSnip(offset=1e6))
        with self.assertRaises(BadInput):
            self.job.apply(Offset(by_mm=1.0))  # it is no closed solid
        stopped = Context()
        stopped.progress.cancel()
        with self.assertRaises(Cancelled):
            self.job.apply(Mend(), stopped)
        self.job.apply(Sweep(crumbs=False, voids=False))
        self.assertEqual(len(self.job.log), 1)
        self.assertIs(self.job.piece.mesh, self.damaged)
        with self.assertRaises(BadInput):
            Job().apply(Mend())

    def test_undo_finds_the_piece_it_belongs_to(self) -> None:
        job = self.job
        job.apply(Mend())
        other = specimens.sphere(10.0, 12).mesh
        job.open(scan_of(other, "other.stl"))
        job.apply(Reduce(percent=50))
        job.undo()
        self.assertEqual(job.active, 2)
        self.assertIs(job.piece.mesh, other)
        job.undo()
        self.assertEqual([p.id for p in job.pieces], [1])
        job.undo()
        self.assertEqual(job.active, 1)
        self.assertIs(job.piece.mesh, self.damaged)


class Routines(unittest.TestCase):
    def test_every_treatment_goes_through_a_routine_file(self) -> None:
        for name, kind in TREATMENTS.items():
            step = RoutineStep(name="one", treatment=name, fields=json.loads(kind().model_dump_json()))
            routine = Routine(name="r", title="r", steps=(step,))
            again = Routine.model_validate_json(routine.model_dump_json())
            self.assertEqual(again.steps[0].make(), kind())
            with self.assertRaises(BadInput):
                RoutineStep(name="one", treatment=name, fields={"no-such-field": 1}).make()

    def test_settings(self) -> None:
        routine = load_routine("print-solid")
        self.assertEqual(list(built_in_routines()), ["print-solid", "reverse-mesh"])
        trim = next(s for s in routine.steps if s.name == "trim")
        self.assertFalse(trim.enabled)
        changed = routine.with_settings(
            ["trim.normal=[0,1,0]", "trim.offset=-2.5", "holes.under_mm=4", "base.enabled=false"]
        )
        by_name = {s.name: s for s in changed.steps}
        self.assertTrue(by_name["trim"].enabled)
        self.assertEqual(by_name["trim"].make(), StraightSnip(normal=(0, 1, 0), offset=-2.5))
        self.assertEqual(by_name["holes"].make().under_mm, 4)
        self.assertFalse(by_name["base"].enabled)
        self.assertEqual(routine, load_routine("print-solid"))

    def test_a_run_holds_the_last_two_meshes_only(self) -> None:
        made: list[weakref.ref] = []
        plain = {kind: kind.apply for kind in (Mend, Orient, Sweep, Patch, Plinth)}

        def noting(kind: type) -> object:
            def apply(self: object, mesh: Mesh, context: Context) -> object:
                outcome = plain[kind](self, mesh, context)
                made.append(weakref.ref(outcome.mesh))
                return outcome

            return apply

        damaged = specimens.damage(specimens.torus(70.0, 60), np.random.default_rng(3)).mesh
        with contextlib.ExitStack() as stack:
            for kind in plain:
                stack.enter_context(mock.patch.object(kind, "apply", noting(kind)))
            run = load_routine("print-solid").with_settings(["trim.offset=-60"]).run(scan_of(damaged))
        gc.collect()
        alive = {id(m) for ref in made if (m := ref()) is not None and m is not run.raw}
        self.assertGreater(len(made), 4)
        self.assertLessEqual(alive, {id(run.mesh), id(run.before_last)})

    def test_budgets(self) -> None:
        mesh = specimens.torus(50.0, 200).mesh
        routine = load_routine("print-solid")
        for name in FORMATS:
            limit = 120_000
            run = routine.with_budget(None, limit, name).run(scan_of(mesh))
            result = run.mesh
            size = FORMATS[name].size_of(len(result.faces), len(result.vertices))
            self.assertLessEqual(size, limit * 1.01)
            self.assertGreater(size, limit * 0.9)
            self.assertTrue(examine(run.mesh).readiness.ready)
        both = routine.with_budget(500, 120_000, "stl").run(scan_of(mesh)).mesh
        self.assertLessEqual(len(both.faces), 500)
        with self.assertRaises(BadInput):
            routine.with_budget(None, 20, "stl")

    def test_rounding_never_costs_a_solid_its_closedness(self) -> None:
        """Far from the origin single precision is coarse: vertices fall together, and the file must still close."""
        rng = np.random.default_rng(1)
        for far in (2e4, 3e5, 2e6):
            ring = specimens.torus(60.0, 80).mesh
            mesh = ring.moved(ring.vertices + far * rng.normal(size=3))
            self.assertTrue(examine(mesh).readiness.ready)
            fitted = fit_to_format(mesh, "stl")
            held = fitted.vertices.astype(np.float32).astype(float)
            self.assertTrue((held == fitted.vertices).all())
            self.assertEqual(specimens.closed_faults(fitted.vertices, fitted.faces), "")
            self.assertAlmostEqual(fitted.volume / ring.volume, 1.0, delta=0.05)
            self.assertIs(fit_to_format(mesh, "obj"), mesh)


class Small(unittest.TestCase):
    def test_a_pieces_name_is_no_path(self) -> None:
        for name, bare in (
            (".", "part"), ("..", "part"), ("a/b.stl", "b"), ("x.ply", "x"), ("v1.2", "v1.2"), ("", "part"),
            ("ring.ply, variant 2", "ring.ply, variant 2"), ("a\x00:b*", "a--b-"),
        ):  # fmt: skip
            self.assertEqual(bare_name(name), bare)

    def test_unit_guesses(self) -> None:
        self.assertEqual(guess_unit(0.35).unit, "m")
        for diagonal in (3.4, 250.0, 3500.0):
            self.assertEqual(guess_unit(diagonal).unit, "mm")
            self.assertTrue(guess_unit(diagonal).reason)

    def test_progress_parts(self) -> None:
        progress = Progress()
        seen = [progress.fraction]
        for begin in (0.0, 0.5):
            with progress.part(begin, begin + 0.5):
                for inner in (0.0, 0.25):
                    with progress.part(inner, inner + 0.25):
                        state = progress.step("work", 4)
                        for k in range(5):
                            state[1] = k
                            seen.append(progress.fraction)
        self.assertEqual(seen, sorted(seen))
        self.assertGreaterEqual(min(seen), 0)
        self.assertLessEqual(max(seen), 1)

    def test_a_snip_is_set_up_by_tabs_and_numbers_alike(self) -> None:
        rng = np.random.default_rng(4)
        box = np.array([[-30.0, -20.0, 0.0], [40.0, 25.0, 60.0]])
        for axis in (0, 1, 2):
            plan = SnipPlan(box)
            plan.set_axis(axis)
            self.assertTrue(np.allclose(plan.normal, np.eye(3)[axis]))
            for _ in range(20):
                which = int(rng.integers(0, 2))
                middle, *sides = plan.frame()
                opposite, lifted = middle - sides[which], middle + sides[which]
                rise = float(rng.uniform(-4, 4))
                lifted = lifted + rise * plan.normal
                before = plan.tilt.copy()
                plan.tilt_side(which, rise)
                if np.array_equal(before, plan.tilt):
                    continue  # it would lean farther than allowed
                # the opposite side has stayed in the plane, and the lifted one has come into it
                self.assertAlmostEqual(float(plan.normal @ opposite), plan.offset, places=9)
                self.assertAlmostEqual(float(plan.normal @ lifted), plan.offset, places=6)
                # typing the same angles gives the same normal
                typed = SnipPlan(box)
                typed.set_axis(axis)
                typed.set_tilt(0, float(plan.tilt[0]))
                typed.set_tilt(1, float(plan.tilt[1]))
                self.assertTrue(np.allclose(typed.normal, plan.normal))
            snip = plan.treatment()
            normal, offset = snip.plane()
            self.assertTrue(np.allclose(normal, plan.waste_plane()[0]))
            self.assertAlmostEqual(offset, plan.waste_plane()[1])

    def test_the_camera_keeps_hold_of_points(self) -> None:
        rng = np.random.default_rng(6)
        camera = Camera()
        camera.width, camera.height = 900, 640
        box = np.array([[-50.0, -40.0, -10.0], [60.0, 30.0, 90.0]])
        points = rng.uniform(box[0], box[1], (300, 3))
        camera.set_part(box)
        for _ in range(30):
            camera.turn, camera.lift = float(rng.uniform(0, 360)), float(rng.uniform(-90, 90))
            camera.fit(points, box)
            flat = camera.project(points)
            self.assertGreaterEqual(flat[:, :2].min(), 0)
            self.assertTrue((flat[:, 0] <= 900).all() and (flat[:, 1] <= 640).all())
            pivot = points[rng.integers(300)]
            held = camera.project(pivot)[0, :2]
            camera.turn_about(pivot, *rng.uniform(-40, 40, 2))
            self.assertLess(np.abs(camera.project(pivot)[0, :2] - held).max(), 1e-6)
            x, y = rng.uniform(100, 500, 2)
            under = camera.ray(x, y)[0]
            camera.zoom(float(rng.uniform(0.3, 30)), x, y)
            self.assertLess(np.abs(camera.project(under)[0, :2] - [x, y]).max(), 1e-6)
            # whatever the zoom, no part of the scene lies outside the depth range
            clip = camera.to_clip(np.zeros(3))
            depth = np.column_stack([points, np.ones(300)]) @ clip[2]
            self.assertLess(np.abs(depth).max(), 1.0)

    def test_perspective_keeps_hold_of_points_and_never_looks_past_any(self) -> None:
        rng = np.random.default_rng(8)
        camera = Camera()
        camera.width, camera.height, camera.angle = 900, 640, 28.0
        ball = specimens.sphere(120.0, 40).mesh
        box, points = ball.box, ball.vertices
        tree = build_tree(ball.vertices, ball.faces)
        camera.set_part(box)
        for _ in range(30):
            camera.turn, camera.lift = float(rng.uniform(0, 360)), float(rng.uniform(-90, 90))
            camera.fit(points, box)
            flat = camera.project(points)[:, :2]
            self.assertTrue(((flat >= 0) & (flat <= [900, 640])).all())
            self.assertGreater((np.ptp(flat, axis=0) / [900, 640]).max(), 0.88)
            pivot = points[rng.integers(len(points))]
            held = camera.project(pivot)[0, :2]
            camera.turn_about(pivot, *rng.uniform(-40, 40, 2))
            self.assertLess(np.abs(camera.project(pivot)[0, :2] - held).max(), 0.5)
            camera.zoom(float(rng.uniform(0.3, 30)), *rng.uniform(100, 500, 2))
            # the matrix that draws tells the same places, all in front of the eye and within the depth range
            clip = np.column_stack([points, np.ones(len(points))]) @ camera.to_clip(np.zeros(3)).T
            self.assertGreater(clip[:, 3].min(), 0.0)
            clip = clip[:, :3] / clip[:, 3:]
            self.assertLess(np.abs(clip[:, 2]).max(), 1.0)
            screen = camera.project(points)
            np.testing.assert_allclose((clip[:, :2] * [1, -1] + 1) / 2 * [900, 640], screen[:, :2], atol=1e-6)
            first, rise, back = camera.depths()
            np.testing.assert_allclose((first - clip[:, 2]) / (-rise - clip[:, 2] * back), screen[:, 2], atol=1e-6)
            # a line of sight runs through all that is seen at its pixel
            start, way = camera.ray(*screen[7, :2])
            off = points[7] - start
            self.assertLess(np.linalg.norm(off - (off @ way) * way), 1e-9)
            np.testing.assert_allclose(camera.way_at(points[7]), way, atol=1e-9)
            # what is told to lie within some pixels is all that reaches into them
            rect = (int(rng.integers(0, 700)), int(rng.integers(0, 500)), 120, 90)
            told = np.zeros(len(ball.faces), dtype=bool)
            told[triangles_within(tree, camera.sides_of(rect, 1.0))] = True
            corners = screen[ball.faces][:, :, :2]
            corners[:, :, 1] = 640 - corners[:, :, 1]
            low, high = corners.min(axis=1), corners.max(axis=1)
            inside = (high >= rect[:2]).all(axis=1) & (low <= np.add(rect[:2], rect[2:])).all(axis=1)
            self.assertTrue(told[inside].all())
            self.assertLessEqual((told & ~inside).sum(), 0.35 * told.sum() + 8)


if __name__ == "__main__":
    unittest.main()
