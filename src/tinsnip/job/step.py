"""A step: a line of the log, and what it made of the pieces it concerned."""

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np
from pydantic import BaseModel

from tinsnip.errors import BadInput, HiddenInTheWay
from tinsnip.job.bookkeeping import PIECE_ACTIONS, CopyAsVariant, Open, PieceAction, Remove, Rename, SetUnit
from tinsnip.job.datumsteps import DATUM_ACTIONS, DatumAction
from tinsnip.job.keeping import Kept
from tinsnip.job.piece import Piece
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.regions.protected import found_again, lost_of
from tinsnip.treat import ASSEMBLIES, TREATMENTS, Account, Assembly, Context, Outcome, Treatment
from tinsnip.treat.kit.joins.together import put_together
from tinsnip.words import counted

__all__ = ["ACTIONS", "Action", "Change", "Step", "names_places", "perform", "perform_all", "step_of_outcome"]

Action = Treatment | Assembly | PieceAction
ACTIONS: dict[str, type[Action]] = {**TREATMENTS, **ASSEMBLIES, **PIECE_ACTIONS, **DATUM_ACTIONS}
"""Everything that can be a step, under its name in a job file."""


class Change(NamedTuple):
    """What a step made of one piece: None before, born here; None after, gone."""

    id: int
    before: Piece | None
    after: Piece | None


@dataclass(frozen=True, eq=False)
class Step:
    """One line of the log.

    Attributes
    ----------
    action : Treatment, Assembly or PieceAction
    on : tuple of int
        Ids of the pieces that went in.
    changes : tuple of Change
    frames : tuple of ndarray, shape (4, 4)
        How each of the pieces that went in stood when the action's places were named.
    text : str
    given : tuple of Piece
        The pieces that went in, as they were; empty where that is not known any more.
    seconds : float
    account : Account
    enabled : bool
        A step that is switched off changes nothing, but keeps its place.
    """

    action: Action
    on: tuple[int, ...]
    changes: tuple[Change, ...]
    frames: tuple[np.ndarray, ...]
    text: str
    given: tuple[Piece, ...] = ()
    seconds: float = 0.0
    account: Account = field(default_factory=Account)
    enabled: bool = True

    @property
    def piece(self) -> int:
        """The piece to look at after it."""
        alive = [c.id for c in self.changes if c.after is not None]
        return alive[-1] if isinstance(self.action, Open | CopyAsVariant) and alive else (*self.on, *alive, 0)[0]

    @property
    def born(self) -> tuple[int, ...]:
        """Pieces that were not there before it."""
        return tuple(c.id for c in self.changes if c.before is None)


def names_places(action: BaseModel) -> bool:
    """Whether an action names places on one scan, which fit no other.

    Parameters
    ----------
    action : BaseModel
    """
    if getattr(action, "named_points", ()) or getattr(action, "points_on", ()):
        return True
    return any(_has_regions(getattr(action, name)) for name in type(action).model_fields)


def _has_regions(value: Any) -> bool:
    return isinstance(value, Region) or (isinstance(value, tuple) and any(isinstance(v, Region) for v in value))


def _moved_regions(value: Any, matrix: np.ndarray) -> Any:
    return value.moved(matrix) if isinstance(value, Region) else tuple(v.moved(matrix) for v in value)


def moved_action(action: Action, matrices: Sequence[np.ndarray]) -> Action:
    """The action with the places it names where 4x4 matrices take them, one for each piece that goes in.

    Regions lie on the first of them.
    """
    first = matrices[0]
    places = {
        name: _moved_regions(value, first)
        for name in type(action).model_fields
        if _has_regions(value := getattr(action, name)) and not np.array_equal(first, np.eye(4))
    }
    on = dict.fromkeys(getattr(action, "named_points", ()), 0) | dict(getattr(action, "points_on", {}))
    for name, piece in on.items():
        matrix = matrices[piece] if piece < len(matrices) else first
        if not np.array_equal(matrix, np.eye(4)):
            points = np.asarray(getattr(action, name), dtype=float)
            if points.size:  # a list of them may be empty
                places[name] = _as_tuples(points @ matrix[:3, :3].T + matrix[:3, 3])
    return action.model_copy(update=places) if places else action


def _as_tuples(points: np.ndarray) -> tuple:
    return tuple(points.tolist()) if points.ndim == 1 else tuple(map(tuple, points.tolist()))


def step_of_outcome(treatment: Treatment, piece: Piece, outcome: Outcome, seconds: float) -> Step:
    """The step that a treatment's outcome on a piece amounts to.

    Parameters
    ----------
    treatment : Treatment
    piece : Piece
    outcome : Outcome
    seconds : float
        That it took.
    """
    changes = ()
    if outcome.mesh is not piece.mesh:
        changes = (Change(piece.id, piece, piece.with_mesh(outcome.mesh, outcome.account.matrix)),)
    return Step(treatment, (piece.id,), changes, (piece.frame,), outcome.text, (piece,), seconds, outcome.account)


def perform(
    action: Action,
    pieces: Mapping[int, Piece],
    on: Sequence[int],
    progress: Progress,
    next_id: int,
    born: Sequence[int] = (),
) -> Step:
    """Do something to pieces; the pieces given stay as they are.

    Parameters
    ----------
    action : Treatment, Assembly or PieceAction
        Anything but `Open`.
    pieces : mapping of int to Piece
        All that are there.
    on : sequence of int
        Ids of those that go in.
    progress : Progress
    next_id : int
        The first id that was never given.
    born : sequence of int
        Ids for pieces that are born, as far as they go.

    Returns
    -------
    Step

    Raises
    ------
    BadInput
        When a piece is not there, or the action cannot keep its promise.
    """
    missing = [i for i in on if i not in pieces]
    if missing or not on:
        raise BadInput("the piece it was done to is not there any more")
    begun = time.perf_counter()
    given = [pieces[i] for i in on]
    frames = tuple(piece.frame for piece in given)
    first = given[0]
    if isinstance(action, Treatment):
        outcome = action.apply(first.mesh, Context(progress, first.raw, first.frame))
        return step_of_outcome(action, first, outcome, time.perf_counter() - begun)
    ids = iter([*born, *range(max([next_id, *(b + 1 for b in born)]), next_id + 10_000)])
    account = Account()
    if isinstance(action, Assembly):
        changes, text, account = _assembled(action, given, progress, ids, {p.name for p in pieces.values()})
    elif isinstance(action, DatumAction):
        changed, text, account = action.on(first)
        changes = () if changed is first else (Change(first.id, first, changed),)
    elif isinstance(action, SetUnit):
        changed = action.on(first)
        changes = () if changed is first else (Change(first.id, first, changed),)
        text = f"Unit {action.unit}" if changes else f"Unit is {action.unit} already"
    elif isinstance(action, Rename):
        changes = (Change(first.id, first, replace(first, name=action.to)),) if action.to != first.name else ()
        text = f"Renamed to {action.to}"
    elif isinstance(action, Remove):
        changes, text = tuple(Change(piece.id, piece, None) for piece in given), f"Removed {first.name}"
    elif isinstance(action, CopyAsVariant):
        copy = action.on(first, next(ids), (p.name for p in pieces.values()))
        changes, text = (Change(copy.id, None, copy),), f"Copied as {copy.name}"
    else:
        raise BadInput(f"{action.title} cannot be done again")
    seconds = time.perf_counter() - begun
    return Step(action, tuple(on), tuple(changes), frames, text, tuple(given), seconds, account)


def perform_all(
    plan: Sequence[tuple[Action | Callable[[], Action], tuple[int, ...]]],
    pieces: Mapping[int, Piece],
    next_id: int,
    progress: Progress,
    protected: Mapping[int, np.ndarray] | None = None,
) -> list[Step]:
    """Do things to pieces one after another; the pieces given stay as they are.

    Parameters
    ----------
    plan : sequence of (Action or callable, tuple of int)
        What is done, or what makes it and may take its time, and the ids of the pieces that go in.
    pieces : mapping of int to Piece
    next_id : int
        The first id that was never given.
    progress : Progress
    protected : mapping of int to ndarray of bool, shape (F,), optional
        Of some pieces, the triangles that nothing may delete or move.

    Raises
    ------
    HiddenInTheWay
        When something would delete or move what is protected.
    BadInput
        As `perform` does.
    """
    steps: list[Step] = []
    kept = dict(protected or {})
    now, free = dict(pieces), next_id
    for i, (given, on) in enumerate(plan):
        with progress.part(i / len(plan), (i + 1) / len(plan)):
            action = given if isinstance(given, BaseModel) else given()
            if isinstance(action, Treatment) and on[0] in kept:
                action = action.sparing(now[on[0]].mesh, kept[on[0]])
            step = perform(action, now, on, progress, free)
        kept = _still_there(step, kept)
        for change in step.changes:
            free = max(free, change.id + 1)
            if change.after is None:
                del now[change.id]
            else:
                now[change.id] = change.after
        steps.append(step)
    return steps


def _still_there(step: Step, protected: Mapping[int, np.ndarray]) -> dict[int, np.ndarray]:
    """What is protected after a step.

    Raises
    ------
    HiddenInTheWay
        When the step would delete or move some of it.
    """
    kept = dict(protected)
    after = {change.id: change.after.mesh for change in step.changes if change.after is not None}
    for change in step.changes:
        if change.id not in kept or change.before is None:
            continue
        chosen = kept.pop(change.id)
        lost = lost_of(change.before.mesh, chosen, *after.values())
        if lost:
            what = counted(lost, "hidden triangle")
            raise HiddenInTheWay(
                f"{step.action.title} would delete or move {what}, which are protected; show all first"
            )
        if change.id in after:
            kept[change.id] = found_again(change.before.mesh, chosen, after[change.id])
    return kept


def _assembled(
    action: Assembly, given: Sequence[Piece], progress: Progress, ids: Any, taken: set[str]
) -> tuple[tuple[Change, ...], str, Account]:
    """Do an assembly, and let each part find the piece it goes on as."""
    if len(given) < action.fewest:
        raise BadInput(f"{action.title} takes {action.fewest} pieces or more; open a further scan as a piece")
    result = action.apply([piece.mesh for piece in given], Context(progress))
    after: dict[int, Piece] = {}
    for part in result.parts:
        source = given[part.of[0]]
        made = source
        if len(part.of) > 1:
            made = _on_one_raw([given[i] for i in part.of])
        number, name = source.id, source.name
        if number in after:
            number, name = next(ids), f"{source.name}, {part.named}" if part.named else source.name
            count = 2
            while name in taken:
                name, count = f"{source.name}, {part.named} {count}", count + 1
            taken = taken | {name}
        unchanged = part.mesh is source.mesh and made is source and number == source.id
        if part.matrix is not None:
            made = made.moved(part.matrix)
        after[number] = source if unchanged else replace(made, id=number, name=name, kept_mesh=Kept(part.mesh))
    before = {piece.id: piece for piece in given}
    changes = [Change(i, before.get(i), after.get(i)) for i in (*before, *(k for k in after if k not in before))]
    return tuple(c for c in changes if c.before is not c.after), result.text, result.account


def _on_one_raw(pieces: Sequence[Piece]) -> Piece:
    """A piece that stands on the raw scans of several; where these moved apart, they are put where they stand now."""
    first = pieces[0]
    if all(np.array_equal(p.frame, first.frame) for p in pieces):
        raws, frame = [p.raw for p in pieces], first.frame
    else:
        raws = [p.raw.moved(p.raw.vertices @ p.frame[:3, :3].T + p.frame[:3, 3]) for p in pieces]
        frame = np.eye(4)
    notes = tuple(dict.fromkeys(note for p in pieces for note in p.scan.notes))
    return replace(first, kept_raw=Kept(put_together(raws)[0]), scan=replace(first.scan, notes=notes), frame=frame)
