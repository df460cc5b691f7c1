"""What treatments say of their own work: counted against the meshes, held to, kept by files and processes."""

import json
import multiprocessing
import pickle
import tempfile
import time
import unittest
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import ClassVar
from unittest.mock import patch

import numpy as np

from tests import specimens
from tests.seeds import in_turn, share
from tinsnip.demo import demo_file, demo_scan
from tinsnip.errors import BadInput, Cancelled
from tinsnip.formats import Scan, write_mesh
from tinsnip.job import Routine, load_routine, routine_of
from tinsnip.job.batch import Order, run_file
from tinsnip.job.job import Job
from tinsnip.mesh import MADE, SHIFTED, Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress, SharedProgress
from tinsnip.survey.deviation import largest_deviation
from tinsnip.threads import CORES, cores
from tinsnip.treat import TREATMENTS, Account, Context, Outcome, Recast, Reduce, Scale, Treatment, Undone


class Moth(Treatment):
    """Eats a share of the triangles, and says nothing of it."""

    name: ClassVar[str] = "moth"
    title: ClassVar[str] = "Moth"

    share: float = 0.5

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        return Outcome(keep_triangles(mesh, np.arange(len(mesh.faces)) >= self.share * len(mesh.faces)), "Ate")


def scan_of(mesh: Mesh) -> Scan:
    return Scan(Path("made-up.ply"), mesh, "ply", "mm", "", ())


def taken(figure: float, other: float, scale: float) -> bool:
    return abs(figure - other) <= 1e-9 * scale


class Accounts(unittest.TestCase):
    def test_what_is_told_is_what_the_meshes_tell(self) -> None:
        rng = np.random.default_rng(4)
        whole = specimens.damage(specimens.torus(80.0, 32), rng).mesh
        done = 0
        for make in share(TREATMENTS.values(), self.id(), 8):
            treatment = make(deviation_mm=4.0) if make is Recast else make(factor=3.0) if make is Scale else make()
            with self.subTest(treatment=make.name):
                try:
                    outcome = treatment.apply(whole, Context(raw=whole))
                except BadInput:
                    continue
                done += 1
                account, after = outcome.account, outcome.mesh
                sums = [
                    np.bincount(m.provenance, triangle_areas(m.vertices, m.faces), 3) if len(m.faces) else np.zeros(3)
                    for m in (whole, after)
                ]
                scale = sums[0].sum() + sums[1].sum()
                numbers = [np.bincount(m.provenance, minlength=3) for m in (whole, after)]
                if after is whole:
                    self.assertEqual((account.made_mm2, account.gone_mm2, account.shifted_mm2), (0, 0, 0))
                    continue
                # nothing is made or shifted without a word, nor told that was not
                self.assertGreaterEqual(account.made_triangles, numbers[1][MADE] - numbers[0][MADE])
                if numbers[1][MADE] == numbers[0][MADE] == 0:
                    self.assertEqual((account.made_triangles, account.made_mm2), (0, 0))
                self.assertEqual(account.shifted_triangles, max(0, numbers[1][SHIFTED] - numbers[0][SHIFTED]))
                if not make.reshapes:
                    self.assertTrue(taken(account.made_mm2, max(0, sums[1][MADE] - sums[0][MADE]), scale))
                    missing = sums[0].sum() + account.made_mm2 - sums[1].sum()
                    self.assertGreaterEqual(account.gone_mm2, missing - 1e-8 * scale)
                self.assertLessEqual(account.guessed_mm2, account.made_mm2 + 1e-9 * scale)
                again = Account.of_facts(json.loads(json.dumps(account.facts())))
                self.assertEqual(again, account)
                if account.matrix is not None:
                    np.testing.assert_array_equal(again.matrix, account.matrix)
        self.assertGreater(done, 3)

    def test_what_was_left_and_old_figures_are_read_back(self) -> None:
        account = Account(undone=(Undone("bed", "may be the part", "a bed?", "set {step}.x=1"),), figures={"beds": 2})
        self.assertEqual(Account.of_facts(json.loads(json.dumps(account.facts()))), account)
        old = Account.of_facts({"triangles": 12, "gone_mm2": 3.5, "matrix": np.eye(4).tolist()})
        self.assertEqual((old.figures, old.gone_mm2, old.matrix.shape), ({"triangles": 12}, 3.5, (4, 4)))

    def test_a_routine_holds_a_treatment_it_never_heard_of_to_what_went(self) -> None:
        ball = specimens.sphere(50.0, 24).mesh
        routine = load_routine("print-solid")
        step = routine.steps[0].model_copy(update={"name": "moth", "treatment": "moth", "fields": {"share": 0.2}})
        with patch.dict(TREATMENTS, {Moth.name: Moth}):
            run = Routine(name="x", title="x", steps=(step,)).run(scan_of(ball))
        lost = {c.name: c for c in run.checks()}["nothing lost"]
        self.assertFalse(lost.passed)
        gone = 1 - run.mesh.area / ball.area
        self.assertAlmostEqual(run.steps[0].account.gone_share, gone, places=9)
        self.assertIn(f"{100 * gone:.0f}", lost.reason)
        self.assertIn("of the area went", run.steps[0].text)


class Goals(unittest.TestCase):
    """What was asked for is what a step holds, wherever it is done again."""

    @in_turn(1)
    def test_a_reduction_means_the_same_on_another_scan(self) -> None:
        first, other = demo_scan("gauge-lantern-upper", 40_000), demo_scan("pump-cover", 60_000)
        for goal in (
            {"max_deviation_mm": 0.2}, {"percent": 12.5}, {"max_mb": 0.4, "file_format": "ply"}, {"triangles": 5_000},
        ):  # fmt: skip
            with self.subTest(goal=goal):
                job = Job()
                job.open(scan_of(first))
                job.apply(Reduce(**goal))
                routine, left = routine_of(job, "as-done")
                self.assertEqual((left, routine.steps[-1].fields), ([], goal))
                run = routine.run(scan_of(other))
                count = len(run.mesh.faces)
                self.assertLess(count, len(other.faces))
                if "max_deviation_mm" in goal:
                    self.assertLessEqual(largest_deviation(run.mesh, other, Progress()).max, 0.2)
                elif "percent" in goal:
                    self.assertAlmostEqual(count, 0.125 * len(other.faces), delta=0.02 * len(other.faces))
                elif "max_mb" in goal:
                    with tempfile.TemporaryDirectory() as folder:
                        path = Path(folder) / "out.ply"
                        write_mesh(run.mesh, path)
                        self.assertLessEqual(path.stat().st_size, 1.01 * 0.4e6)
                        self.assertGreater(path.stat().st_size, 0.9 * 0.4e6)
                else:
                    self.assertAlmostEqual(count, 5_000, delta=100)


class OtherProcesses(unittest.TestCase):
    """A scan, a routine and its progress go to other processes and come back."""

    def setUp(self) -> None:
        self.pool = ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn"))
        self.addCleanup(self.pool.shutdown)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_a_mesh_with_all_that_is_on_it(self) -> None:
        mesh = demo_scan("pump-cover", 20_000)
        _ = mesh.tree, mesh.shells  # facts, and the locks beside them, stay here
        back = pickle.loads(self.pool.submit(pickle.dumps, mesh).result())
        for name in ("vertices", "faces", "provenance"):
            np.testing.assert_array_equal(getattr(back, name), getattr(mesh, name))
            self.assertFalse(getattr(back, name).flags.writeable)
        self.assertEqual(list(back.attributes), list(mesh.attributes))
        for name, attribute in mesh.attributes.items():
            np.testing.assert_array_equal(back.attributes[name].values, attribute.values)

    @in_turn(0)
    def test_a_routine_on_a_file_with_its_progress_and_a_stop(self) -> None:
        scan = demo_file("pump-cover", 60_000, self.folder)
        order = Order(load_routine("print-solid"))
        here = run_file(scan, self.folder / "here.stl", order)
        with SharedProgress() as progress:
            work = self.pool.submit(run_file, scan, self.folder / "there.stl", order, progress=progress)
            seen = set()
            while not work.done():
                seen.add((progress.label, round(progress.fraction, 2)))
                time.sleep(0.005)
            there = work.result()
        self.assertGreater(len({label for label, _ in seen if label}), 3)
        self.assertGreater(max(share for _, share in seen), 0.3)
        self.assertEqual((self.folder / "here.stl").read_bytes(), (self.folder / "there.stl").read_bytes())
        for facts in (here, there):
            facts.pop("out")
            for step in facts["steps"]:
                step.pop("seconds")
        self.assertEqual(here, there)
        with SharedProgress() as progress:
            work = self.pool.submit(run_file, scan, self.folder / "never.stl", order, progress=progress)
            while progress.fraction < 0.05:
                time.sleep(0.002)
            progress.cancel()
            with self.assertRaises(Cancelled):
                work.result()
        self.assertFalse((self.folder / "never.stl").exists())

    def test_how_many_cores_it_takes_is_told_from_outside(self) -> None:
        with patch.dict("os.environ", {CORES: "3"}):
            self.assertEqual(cores(), 3)
        with patch.dict("os.environ", {CORES: "none"}):
            self.assertGreaterEqual(cores(), 1)


if __name__ == "__main__":
    unittest.main()
