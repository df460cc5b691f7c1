"""What is done to several pieces at once, by an assembly that the product does not know."""

import tempfile
import unittest
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import ClassVar
from unittest.mock import patch

import numpy as np
from pydantic import Field

from tests import specimens
from tests.hands import SCREEN, WindowTest
from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job import Job, open_job, plan_of, replay, routine_of, save_job
from tinsnip.job.step import ACTIONS
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey.deviation import deviation_from_raw
from tinsnip.treat import Account, Assembled, Assembly, Context, Part, Place, Turn

Point = tuple[float, float, float]


class MeetHalfway(Assembly):
    """Moves two pieces towards each other, until the middles of two lists of points meet."""

    name: ClassVar[str] = "meet-halfway"
    title: ClassVar[str] = "Meet halfway"
    fewest: ClassVar[int] = 2
    points_on: ClassVar[Mapping[str, int]] = {"here": 0, "there": 1}

    here: tuple[Point, ...] = Field((), description="points on the first piece, mm")
    there: tuple[Point, ...] = Field((), description="points on the second, mm")

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        if not self.here or not self.there:
            raise BadInput("points on both pieces are needed")
        way = np.mean(self.there, axis=0) - np.mean(self.here, axis=0)
        parts = []
        for number, (mesh, share) in enumerate(zip(meshes, (0.5, -0.5), strict=True)):
            matrix = np.eye(4)
            matrix[:3, 3] = share * way
            parts.append(Part(mesh.moved(mesh.vertices + share * way), (number,), matrix=matrix))
        return Assembled(tuple(parts), "Met halfway", Account(figures={"way_mm": float(np.linalg.norm(way))}))


def two_pieces() -> Job:
    job = Job()
    for number, mesh in enumerate((specimens.torus(40.0, 32).mesh, specimens.sphere(20.0, 16).mesh)):
        job.open(Scan(Path(f"{number}.ply"), mesh, "ply", "mm", "", ()))
    return job


def shoved(job: Job) -> MeetHalfway:
    first, second = (job.present[i].mesh.vertices for i in (1, 2))
    return MeetHalfway(here=tuple(map(tuple, first[[0, 5, 9]])), there=tuple(map(tuple, second[[3, 7]] + [9.0, 0, 0])))


@patch.dict(ACTIONS, {MeetHalfway.name: MeetHalfway})
class Together(unittest.TestCase):
    def test_frames_and_deviation_stay_true_and_the_log_goes_back(self) -> None:
        job = two_pieces()
        self.assertEqual(list(job.present), [1, 2])
        before = {i: job.present[i].mesh.vertices for i in (1, 2)}
        job.do(Turn(axis=(0, 0, 1), degrees=30), (1,))
        action = shoved(job)
        way = np.mean(action.there, axis=0) - np.mean(action.here, axis=0)
        turned = job.present[1].mesh.vertices
        job.do(action, (1, 2))
        np.testing.assert_allclose(job.present[1].mesh.vertices, turned + way / 2, atol=1e-12)
        np.testing.assert_allclose(job.present[2].mesh.vertices, before[2] - way / 2, atol=1e-12)
        for piece in job.present.values():
            np.testing.assert_allclose(piece.in_scanner_frame().vertices, before[piece.id], atol=1e-12)
            off = deviation_from_raw(piece.mesh, piece.raw, piece.frame, Progress()).overall.max
            self.assertLess(off, 1e-9)
        with tempfile.TemporaryDirectory() as folder:
            save_job(job, Path(folder) / "two.snipjob", {})
            again = open_job(Path(folder) / "two.snipjob").job
            self.assertEqual(again.log[-1].action, action)
            self.assertEqual(again.log[-1].account.figures["way_mm"], float(np.linalg.norm(way)))
            np.testing.assert_array_equal(again.present[2].frame, job.present[2].frame)
        job.undo()
        np.testing.assert_array_equal(job.present[2].mesh.vertices, before[2])
        job.redo()
        routine, left = routine_of(job, "x", 1)
        self.assertEqual([s.treatment for s in routine.steps], ["turn"])
        self.assertEqual(len(left), 1)

    def test_each_list_of_points_goes_along_with_its_own_piece(self) -> None:
        job = two_pieces()
        job.do(Turn(axis=(0, 0, 1), degrees=30), (1,))
        job.do(Place(origin="centre"), (2,))
        job.do(shoved(job), (1, 2))
        plan = plan_of(job)
        turned = Turn(axis=(1, 0, 0), degrees=-50)
        plan[2] = type(plan[2])(plan[2].step, turned, True)
        found = replay(job.start, plan, job.next_id)
        self.assertIsNone(found.stopped, found.reason)
        step = found.steps[-1]
        first, second = (piece.mesh.vertices for piece in step.given)
        np.testing.assert_allclose(step.action.here, first[[0, 5, 9]], atol=1e-9)
        np.testing.assert_allclose(step.action.there, second[[3, 7]] + [9.0, 0, 0], atol=1e-9)

    def test_what_it_lacks_is_said(self) -> None:
        job = two_pieces()
        for action, on in ((MeetHalfway(), (1, 2)), (shoved(job), (1,)), (shoved(job), (1, 7))):
            with self.assertRaises(BadInput):
                job.do(action, on)
        self.assertEqual(len(job.log), 2)


@patch.dict(ACTIONS, {MeetHalfway.name: MeetHalfway})
@unittest.skipUnless(SCREEN, "needs a screen; ./tinsnip test starts one")
class InTheWindow(WindowTest):
    def test_it_is_previewed_left_done_at_once_and_undone(self) -> None:
        self.put_up(specimens.torus(40.0, 32).mesh, specimens.sphere(20.0, 16).mesh)
        session, on = self.session, (1, 2)
        self.view.framing.look_from(0.0, 90.0)
        self.settle()
        action = shoved(session.job)
        plain = self.picture()
        session.together.ask(action, on)
        self.wait_for(lambda: session.together.preview is not None)
        shown = self.picture()
        changed = (np.abs(shown - plain).sum(axis=2) > 30).any(axis=0)
        self.assertGreater(changed.mean(), 0.1)  # one sees where they would lie
        lying = session.together.preview.lying
        self.assertEqual(sum(len(one.corners) for one in lying), sum(len(p.mesh.faces) for p in session.job.pieces))
        session.cancel_preview()
        self.settle()
        self.assertLess(np.abs(self.picture() - plain).max(), 8)
        self.assertEqual(len(session.job.log), 2)
        session.together.ask(action, on)
        self.wait_for(lambda: session.together.preview is not None)
        expected = session.together.preview.step
        session.together.do(action, on)
        self.settle()
        self.assertIs(session.job.log[-1], expected)  # what was seen is what is done
        self.assertIsNone(session.together.preview)
        self.assertIn("deviation from raw 0 mm", self.window.status.figures["deviation"].text())
        frames = [piece.frame for piece in session.job.pieces]
        session.history.undo()
        self.settle()
        self.assertTrue(all(np.array_equal(p.frame, np.eye(4)) for p in session.job.pieces))
        self.assertFalse(any(np.array_equal(frame, np.eye(4)) for frame in frames))


if __name__ == "__main__":
    unittest.main()
