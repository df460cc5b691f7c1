"""Doing a log again, after one of its steps was changed, moved, or switched off."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.job.bookkeeping import Noted, Open
from tinsnip.job.job import Job
from tinsnip.job.piece import Piece
from tinsnip.job.step import Action, Change, Step, moved_action, perform
from tinsnip.progress import Progress, stoppable

__all__ = ["Planned", "Replayed", "plan_of", "replay"]


@dataclass(frozen=True, eq=False)
class Planned:
    """A step as it is to be: the one that was done, with another action perhaps, on or off."""

    step: Step
    action: Action
    enabled: bool

    @classmethod
    def of(cls, step: Step) -> "Planned":
        """The step as it is."""
        return cls(step, step.action, step.enabled)


@dataclass(frozen=True, eq=False)
class Replayed:
    """A log that was done again; where it stopped, the number of the step, from 0, and why."""

    steps: tuple[Step, ...]
    stopped: int | None = None
    reason: str = ""


def plan_of(job: Job) -> list[Planned]:
    """The log of a job as it is, to be changed.

    Parameters
    ----------
    job : Job
    """
    return [Planned.of(step) for step in job.log]


@stoppable
def replay(
    start: Mapping[int, Piece],
    plan: Sequence[Planned],
    next_id: int,
    progress: Progress | None = None,
    anew: bool = False,
) -> Replayed:
    """Do a log again from the pieces it began with.

    A step whose action and pieces are what they were keeps its meshes. Places that a step names are found again where
    the part has come to stand, or the step says why not, and the log ends there.

    Parameters
    ----------
    start : mapping of int to Piece
    plan : sequence of Planned
    next_id : int
        The first id that was never given.
    progress : Progress, optional
    anew : bool
        Do every step again, also where it would come to the same.

    Returns
    -------
    Replayed
    """
    progress = progress or Progress()
    pieces = dict(start)
    steps: list[Step] = []
    for i, planned in enumerate(plan):
        with progress.part(i / len(plan), (i + 1) / len(plan)):
            try:
                step = _again(planned, pieces, next_id, progress, anew)
            except BadInput as error:
                return Replayed(tuple(steps), i, str(error))
        progress.check()
        next_id = max([next_id, *(c.id + 1 for c in step.changes)])
        for change in step.changes:
            if change.after is None:
                pieces.pop(change.id, None)
            else:
                pieces[change.id] = change.after
        steps.append(step)
    return Replayed(tuple(steps))


def _again(planned: Planned, pieces: Mapping[int, Piece], next_id: int, progress: Progress, anew: bool) -> Step:
    old = planned.step
    if not planned.enabled:
        return replace(old, action=planned.action, changes=(), enabled=False)
    same = not anew and planned.action is old.action
    if same and old.enabled and all(pieces.get(c.id) is c.before for c in old.changes) and _same_input(old, pieces):
        return old
    if isinstance(old.action, Open):
        born = [c.after for c in old.changes if c.after is not None]
        if not born:
            raise BadInput("the scan that was opened there is not kept with the step")
        return replace(old, changes=tuple(Change(p.id, None, p) for p in born), enabled=True)
    if isinstance(old.action, Noted):
        raise BadInput("what was done there is not known well enough to do it again")
    action = planned.action
    if old.on and old.frames and all(number in pieces for number in old.on):
        given = zip(old.on, old.frames, strict=False)
        action = moved_action(action, [_since(frame, pieces[number].frame) for number, frame in given])
    step = perform(action, pieces, old.on, progress, next_id, old.born)
    return step


def _since(before: np.ndarray, now: np.ndarray) -> np.ndarray:
    """What took a piece from where it stood to where it stands, 4x4; exactly the identity where that is rounding."""
    moved = now @ np.linalg.inv(before)
    return np.eye(4) if np.allclose(moved, np.eye(4), rtol=0, atol=1e-12) else moved


def _same_input(old: Step, pieces: Mapping[int, Piece]) -> bool:
    """Whether the pieces that went in are there as they were, also those that the step did not change."""
    if not old.on:
        return True
    return len(old.given) == len(old.on) and all(pieces.get(p.id) is p for p in old.given)
