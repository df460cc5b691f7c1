"""Work that is stopped leaves everything as it was; steps that go to disk come back to the bit."""

import tempfile
import threading
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import numpy as np

from tests import specimens
from tests.seeds import in_turn, share
from tinsnip.errors import BadInput, Cancelled
from tinsnip.formats import Scan, read_scan, write_mesh
from tinsnip.job import Job, Keeper, Kept, open_job
from tinsnip.job.jobdoc import written
from tinsnip.job.shelf import Shelf
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import Progress, check_here
from tinsnip.survey import examine
from tinsnip.survey.deviation import compare, deviation_from_raw
from tinsnip.treat import Context, Mend, Orient, Patch, Reduce, Smooth, StraightSnip, Sweep, Weld


def holed(n: int) -> Mesh:
    ring = specimens.torus(80.0, n).mesh
    keep = np.ones(len(ring.faces), dtype=bool)
    keep[:: len(keep) // 40] = False
    return Mesh(ring.vertices, ring.faces[keep])


class Stopping(unittest.TestCase):
    @in_turn(2)
    def test_every_long_work_stops_at_once_and_changes_nothing(self) -> None:
        mesh = holed(700)
        soup = Mesh(mesh.vertices[mesh.faces].reshape(-1, 3), np.arange(3 * len(mesh.faces)).reshape(-1, 3))
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        file = Path(folder.name) / "scan.stl"
        write_mesh(mesh, file)
        treatments = (Mend(), Orient(), Sweep(), Patch(), Smooth(), Reduce(percent=2), StraightSnip(close=True))
        works: dict[str, Callable[[Progress], object]] = {
            "weld": lambda p: Weld().apply(soup, Context(p)),
            "examine": lambda p: examine(Mesh(mesh.vertices, mesh.faces), p),
            "study": lambda p: Reduce().study(Mesh(mesh.vertices, mesh.faces), p),
            "compare": lambda p: compare(mesh, Mesh(mesh.vertices, mesh.faces), progress=p),
            "from raw": lambda p: deviation_from_raw(mesh, soup, np.eye(4), p),
            "read": lambda p: read_scan(file, "mm", p),
            "write": lambda p: write_mesh(mesh, Path(folder.name) / "again.stl", p),
        }
        works |= {t.name: (lambda p, t=t: t.apply(Mesh(mesh.vertices, mesh.faces), Context(p))) for t in treatments}
        before = mesh.vertices.copy(), mesh.faces.copy()
        stopped = 0
        taken = share(works.items(), self.id(), 6)
        for name, work in taken:
            at_once = Progress()
            at_once.cancel()
            with self.assertRaises(Cancelled, msg=name):
                work(at_once)
            begun = time.perf_counter()
            work(Progress())
            whole = time.perf_counter() - begun
            for part in (0.2, 0.6):
                progress = Progress()
                timer = threading.Timer(part * whole, progress.cancel)
                timer.start()
                try:
                    work(progress)
                except Cancelled:
                    stopped += 1
                timer.join()
            check_here()  # nothing of what was stopped hangs on
        self.assertGreater(stopped, len(taken))
        self.assertTrue(np.array_equal(before[0], mesh.vertices) and np.array_equal(before[1], mesh.faces))
        self.assertEqual([p.name for p in Path(folder.name).iterdir() if p.suffix == ".part"], [])


class Keeping(unittest.TestCase):
    def job(self, budget: int) -> Job:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        ball = specimens.sphere(40.0, 60).mesh
        shade = np.random.default_rng(0).integers(0, 255, (len(ball.vertices), 3)).astype(np.uint8)
        groups = np.arange(len(ball.faces)) % 3
        ball = ball.with_attribute("colour", Attribute(Domain.VERTEX, shade))
        ball = ball.with_attribute("group", Attribute(Domain.TRIANGLE, groups, ("a", "b", "c")))
        job = Job(Keeper(budget, Path(folder.name) / "steps.snipjob"))
        job.open(Scan(Path("ball.stl"), ball, "stl", "mm", ""))
        return job

    def test_steps_come_back_to_the_bit(self) -> None:
        job, known = self.job(0), []
        for percent in (80, 60, 40, 20):
            known.append(job.piece.mesh)
            job.apply(Reduce(percent=percent))
        known.append(job.piece.mesh)
        raw = job.piece.raw
        self.assertEqual(job.spill(), 3)  # all but the raw scan and the present mesh
        self.assertEqual(job.spill(), 0)
        self.assertFalse(job.is_at_hand(2))
        self.assertLess(len(job.resident()), 5)
        for cursor in (4, 2, 3, 1, 5):
            job.go_to(cursor)
            # of the meshes in between none was read
            self.assertLessEqual(len(job.resident()), 3)
            found, expected = job.piece.mesh, known[cursor - 1]
            for name in ("vertices", "faces", "provenance"):
                self.assertTrue(np.array_equal(getattr(found, name), getattr(expected, name)))
            self.assertEqual(found.attributes.keys(), expected.attributes.keys())
            for name, attribute in expected.attributes.items():
                self.assertTrue(np.array_equal(found.attributes[name].values, attribute.values))
                self.assertEqual(found.attributes[name].beside, attribute.beside)
            job.spill()
        self.assertIs(job.piece.raw, raw)
        self.assertGreater(job.keeper.path.stat().st_size, 100_000)
        job.keeper.close()
        self.assertFalse(job.keeper.path.exists())
        self.assertEqual(job.spill(), 0)  # what comes late makes no file anew
        self.assertFalse(job.keeper.path.exists())

    def test_a_step_that_cannot_be_read_back_leaves_the_job_where_it_was(self) -> None:
        job = self.job(0)
        for percent in (80, 60):
            job.apply(Reduce(percent=percent))
        job.spill()
        kept = job.log[1].changes[0].after.kept_mesh
        slot = next(iter(kept.arrays["faces"].slots.values()))
        with job.keeper.path.open("r+b") as file:
            file.seek(slot.offset)
            file.write(b"\xff\xff\xff\xff")
        mesh = job.piece.mesh
        with self.assertRaises(BadInput):
            job.undo()
        self.assertEqual(job.cursor, 3)
        self.assertIs(job.piece.mesh, mesh)
        job.keeper.close()

    def test_a_budget_is_kept_and_the_far_steps_go_first(self) -> None:
        job = self.job(10**12)
        for percent in (80, 60, 40, 20):
            job.apply(Reduce(percent=percent))
        self.assertEqual(job.spill(), 0)
        steps = [s.changes[0].after.kept_mesh for s in job.log[1:-1]]
        job.keeper.budget = steps[2].mesh.nbytes + 1000
        job.spill()
        self.assertEqual([k.resident is None for k in steps], [True, True, False])
        job.keeper.close()

    def test_what_cannot_be_reached_takes_no_room_for_good(self) -> None:
        job = self.job(0)
        with mock.patch("tinsnip.job.keeping._ROOM", 200_000):
            sizes, paths = [], set()
            for percent in np.linspace(90, 30, 24):
                if len(job.log) > 2:
                    job.undo()  # and another branch: what was there before is out of reach
                job.apply(Reduce(percent=float(percent)))
                job.keeper.put(job.all_kept(), lambda shelf: written(job, shelf, {}, "", True))
                job.spill()
                sizes.append(job.keeper.path.stat().st_size)
                paths.add(job.keeper.path)
            wanted = sum(held.nbytes for held in {id(h): h for k in job.all_kept() for h in k.arrays.values()}.values())
            self.assertGreater(len(paths), 2)
            self.assertLess(sizes[-1], 3 * wanted + 600_000)
            self.assertEqual([p for p in job.keeper.path.parent.iterdir()], [job.keeper.path])
            again = open_job(job.keeper.path)
            self.assertEqual((len(again.job.log), again.lost), (3, []))
            mesh = job.piece.mesh
            self.assertTrue(np.array_equal(again.job.piece.mesh.vertices, mesh.vertices))
            job.go_to(1)
            self.assertEqual(len(job.piece.mesh.faces), len(job.piece.raw.faces))
        job.keeper.close()

    def test_a_disk_that_fails_loses_nothing(self) -> None:
        mesh = specimens.sphere(4.0, 10).mesh
        kept = Kept(mesh)
        with tempfile.NamedTemporaryFile() as file:
            keeper = Keeper(0, Path(file.name) / "under a file")
            with self.assertRaises(OSError):
                keeper.spill([kept], set())
        self.assertIs(kept.mesh, mesh)
        # one that is full halfway through: what was there before stands
        with tempfile.TemporaryDirectory() as folder:
            keeper = Keeper(0, Path(folder) / "steps.snipjob")
            keeper.put([kept])
            size = keeper.path.stat().st_size
            other = Kept(specimens.sphere(5.0, 20).mesh)
            with (
                mock.patch.object(Shelf, "commit", side_effect=OSError(28, "No space left")),
                self.assertRaises(OSError),
            ):
                keeper.put([other])
            self.assertFalse(other.on_disk)
            keeper.put([other])
            self.assertTrue(other.on_disk)
            self.assertGreater(keeper.path.stat().st_size, size)
            kept.let_go()
            self.assertTrue(np.array_equal(kept.mesh.vertices, mesh.vertices))
            keeper.close()


if __name__ == "__main__":
    unittest.main()
