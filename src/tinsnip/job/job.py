"""A job: its pieces, and the log of all that was done to them, with a cursor."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job.bookkeeping import CopyAsVariant, Open
from tinsnip.job.keeping import Keeper, Kept
from tinsnip.job.piece import Origin, Piece
from tinsnip.job.step import Action, Change, Step, perform, step_of_outcome
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import forget
from tinsnip.progress import Progress
from tinsnip.treat import Context, Outcome, Treatment

__all__ = ["Edit", "Job"]

_LARGE = 20_000_000
"""Triangles from which a mesh that is not the present one keeps no tree and no twins: they take more than the mesh."""


@dataclass(frozen=True, eq=False)
class Edit:
    """A change of the log itself: how it was, and how it is since; either way with its cursor."""

    before: tuple[tuple[Step, ...], int]
    after: tuple[tuple[Step, ...], int]
    text: str


class Job:
    """Pieces and the log. Undo and redo move the cursor; everything that was done is a step.

    Parameters
    ----------
    keeper : Keeper, optional
        Where its meshes are kept.

    Examples
    --------
    >>> job = Job()
    >>> job.can_undo
    False
    """

    def __init__(self, keeper: Keeper | None = None) -> None:
        self.keeper = keeper or Keeper()
        self.start: dict[int, Piece] = {}
        self.log: list[Step] = []
        self.cursor = 0
        self.active = 0
        self.hidden: set[int] = set()
        self.edits: list[Edit] = []
        self.undone_edits: list[Edit] = []
        self.next_id = 1
        self._present: dict[int, Piece] = {}

    # ---- pieces

    @property
    def present(self) -> Mapping[int, Piece]:
        """The pieces that are there now, by their ids."""
        return self._present

    @property
    def pieces(self) -> list[Piece]:
        """The pieces that are there now, in the order they came."""
        return [self._present[i] for i in sorted(self._present)]

    @property
    def piece(self) -> Piece | None:
        """The piece that is worked on."""
        return self._present.get(self.active)

    def states_at(self, cursor: int) -> dict[int, Piece]:
        """The pieces as they are after so many steps; reads nothing from the disk."""
        return _states(self.start, (self.log, cursor))

    def is_visible(self, number: int) -> bool:
        """Whether a piece is shown."""
        return number not in self.hidden

    def shown(self) -> list[int]:
        """The pieces that are shown, the active one first, which always is."""
        others = [p.id for p in self.pieces if self.is_visible(p.id) and p.id != self.active]
        return [self.active, *others] if self.piece is not None else others

    # ---- doing

    def open(self, scan: Scan, seconds: float = 0.0) -> Piece:
        """Take a scan in as a new piece, and make it the active one."""
        kept = Kept(scan.mesh)
        piece = Piece(self.next_id, scan.path.name or str(scan.path), kept, kept, Origin.of(scan))
        change = Change(piece.id, None, piece)
        self.enter(Step(Open(path=str(scan.path)), (), (change,), (), f"Opened {piece.name}", (), seconds))
        return piece

    def apply(self, treatment: Treatment, context: Context | None = None, seconds: float = 0.0) -> Outcome:
        """Treat the active piece and enter it in the log.

        Raises
        ------
        BadInput
            When there is nothing to treat, or the treatment cannot keep its promise; the job is as it was.
        """
        piece = self._asked_piece()
        begun = time.perf_counter()
        outcome = treatment.apply(piece.mesh, context or Context(raw=piece.raw, frame=piece.frame))
        self.enter(step_of_outcome(treatment, piece, outcome, seconds or time.perf_counter() - begun))
        return outcome

    def do(self, action: Action, on: Sequence[int] | None = None, progress: Progress | None = None) -> Step:
        """Do anything to the active piece, or to others, and enter it in the log.

        Raises
        ------
        BadInput
            When a piece is not there, or the action cannot keep its promise; the job is as it was.
        """
        on = (self._asked_piece().id,) if on is None else tuple(on)
        step = perform(action, self._present, on, progress or Progress(), self.next_id)
        self.enter(step)
        return step

    def copy_as_variant(self, name: str | None = None) -> Piece:
        """Copy the active piece as it is now, and make the copy the active one.

        Raises
        ------
        BadInput
            When nothing is open.
        """
        step = self.do(CopyAsVariant(named=name or ""))
        return self._present[step.born[0]]

    def _asked_piece(self) -> Piece:
        if self.piece is None:
            raise BadInput("nothing is open; open a scan first")
        return self.piece

    def enter(self, step: Step) -> bool:
        """Enter a step that was worked out elsewhere on the pieces as they are; False when it changed nothing.

        What had been undone is given up, as it no longer follows.
        """
        if not step.changes:
            return False
        if any(self._present.get(c.id) is not c.before for c in step.changes):
            raise BadInput("the pieces are others by now; do that step again")
        del self.log[self.cursor :]
        self.undone_edits.clear()
        self.log.append(step)
        self._arrive(len(self.log), step)
        return True

    # ---- going through the log

    @property
    def can_undo(self) -> bool:
        """Whether there is something to take back."""
        return self.cursor > 0 or self._edit_to_undo() is not None

    @property
    def can_redo(self) -> bool:
        """Whether there is something to do again."""
        return self.cursor < len(self.log) or self._edit_to_redo() is not None

    def _edit_to_undo(self) -> Edit | None:
        edit = self.edits[-1] if self.edits else None
        return edit if edit is not None and self._is_at(edit.after) else None

    def _edit_to_redo(self) -> Edit | None:
        edit = self.undone_edits[-1] if self.undone_edits else None
        return edit if edit is not None and self._is_at(edit.before) else None

    def _is_at(self, point: tuple[tuple[Step, ...], int]) -> bool:
        return self._is_log(point[0]) and self.cursor == point[1]

    def _is_log(self, steps: Sequence[Step]) -> bool:
        """Whether the log is made of these very steps."""
        return len(self.log) == len(steps) and all(a is b for a, b in zip(self.log, steps, strict=True))

    def next_undo(self) -> str:
        """What undoing would take back; nothing to read where there is nothing."""
        edit = self._edit_to_undo()
        return edit.text if edit is not None else self.log[self.cursor - 1].text if self.cursor else ""

    def next_redo(self) -> str:
        """What redoing would do again."""
        edit = self._edit_to_redo()
        return edit.text if edit is not None else self.log[self.cursor].text if self.cursor < len(self.log) else ""

    def undo(self) -> None:
        """Take back the last step, or the last change of the log itself.

        Raises
        ------
        BadInput
            When there is nothing to undo.
        OSError
            When a mesh cannot be read back; the job is as it was.
        """
        edit = self._edit_to_undo()
        if edit is not None:
            self._fetch_states(self.states_after_undo(True))
            self.edits.pop()
            self.undone_edits.append(edit)
            self._put_log(edit.before)
        elif self.cursor == 0:
            raise BadInput("there is nothing to undo; the log begins here")
        else:
            self.go_to(self.cursor - 1)

    def redo(self) -> None:
        """Do again what was taken back last; raises as `undo` does."""
        edit = self._edit_to_redo()
        if edit is not None:
            self._fetch_states(self.states_after_undo(False))
            self.undone_edits.pop()
            self.edits.append(edit)
            self._put_log(edit.after)
        elif self.cursor == len(self.log):
            raise BadInput("there is nothing to redo; this is the newest step")
        else:
            self.go_to(self.cursor + 1)

    def go_to(self, cursor: int) -> None:
        """Move the cursor to just after step `cursor`; only what is shown there is read back.

        Raises
        ------
        OSError
            When a mesh cannot be read back; the job is as it was.
        """
        cursor = min(max(0, cursor), len(self.log))
        self.fetch(cursor)
        crossed = self.log[cursor] if cursor < self.cursor else self.log[cursor - 1] if cursor > self.cursor else None
        self._arrive(cursor, crossed)

    def _arrive(self, cursor: int, step: Step | None) -> None:
        left, self.cursor = self._present, cursor
        self._present = self.states_at(cursor)
        now = {id(piece.mesh) for piece in self._present.values()}
        for piece in left.values():
            if len(piece.mesh.faces) > _LARGE and id(piece.mesh) not in now:
                forget(piece.mesh, Mesh.twins, Mesh.tree)
        self.next_id = max([self.next_id, *(i + 1 for i in self._present)])
        wanted = step.piece if step is not None else self.active
        if wanted in self._present:
            self.active = wanted
        elif self.active not in self._present:
            self.active = max(self._present, default=0)

    def replace_log(self, steps: Sequence[Step], cursor: int, text: str, stood: int | None = None) -> None:
        """Let the log be another one, as a change that can be undone itself.

        Undone, the job stands where it stood: where it is now, or after `stood` steps.
        """
        edit = Edit((tuple(self.log), self.cursor if stood is None else stood), (tuple(steps), cursor), text)
        self.edits.append(edit)
        self.undone_edits.clear()
        self._put_log(edit.after)

    def _put_log(self, point: tuple[tuple[Step, ...], int]) -> None:
        steps, cursor = point
        self.log = list(steps)
        self._arrive(cursor, None)

    # ---- what is in memory

    @staticmethod
    def _fetch_states(states: Mapping[int, Piece]) -> None:
        for piece in states.values():
            _ = piece.mesh, piece.raw

    def fetch(self, cursor: int) -> None:
        """Bring the meshes back that going to a line of the log will show, and no others."""
        self._fetch_states(self.states_at(cursor))

    def states_after_undo(self, back: bool = True) -> dict[int, Piece]:
        """The pieces as undoing, or redoing, will leave them."""
        edit = self._edit_to_undo() if back else self._edit_to_redo()
        if edit is not None:
            return _states(self.start, edit.before if back else edit.after)
        return self.states_at(max(0, self.cursor - 1) if back else self.cursor + 1)

    @staticmethod
    def are_at_hand(states: Mapping[int, Piece]) -> bool:
        """Whether showing pieces as they were reads nothing from the disk."""
        return all(k.resident is not None for p in states.values() for k in (p.kept_mesh, p.kept_raw))

    def is_at_hand(self, cursor: int) -> bool:
        """Whether going to a line of the log reads nothing from the disk."""
        return self.are_at_hand(self.states_at(cursor))

    def snapshot(self) -> "Job":
        """The job as it is now, to be looked at from another thread while this one goes on."""
        copy = Job(self.keeper)
        copy.start, copy.log, copy.cursor = dict(self.start), list(self.log), self.cursor
        copy.active, copy.hidden, copy.next_id = self.active, set(self.hidden), self.next_id
        copy.edits, copy.undone_edits = list(self.edits), list(self.undone_edits)
        copy._present = dict(self._present)
        return copy

    def point(self) -> tuple[tuple[Step, ...], int]:
        """The log and where it stands, to be compared with later."""
        return tuple(self.log), self.cursor

    def steps_since(self, point: tuple[tuple[Step, ...], int], stands: int | None = None) -> int:
        """How many steps were done, undone or changed since a point; 0 when the job stands where it stood.

        Where it stands may be told, for one that only looks back.
        """
        steps, cursor = point
        stands = self.cursor if stands is None else stands
        if self._is_log(steps) and stands == cursor:
            return 0
        same = 0
        for a, b in zip(self.log, steps, strict=False):
            if a is not b:
                break
            same += 1
        return max(1, len(self.log) - same, abs(stands - cursor))

    def all_steps(self) -> list[Step]:
        """Every step that can be reached, those of changed logs too, each once."""
        logs = [self.log, *(p[0] for e in (*self.edits, *self.undone_edits) for p in (e.before, e.after))]
        return list({id(step): step for log in logs for step in log}.values())

    def all_kept(self) -> list[Kept]:
        """Every mesh that can be reached, each once; those of the present log by how near they are, far ones first."""
        far: dict[int, tuple[int, Kept]] = {}

        def note(piece: Piece | None, distance: int) -> None:
            for kept in () if piece is None else (piece.kept_raw, piece.kept_mesh):
                known = far.get(id(kept))
                if known is None or known[0] > distance:
                    far[id(kept)] = distance, kept

        for i, step in enumerate(list(self.log)):
            for change in step.changes:
                note(change.before, abs(i - self.cursor))
                note(change.after, abs(i + 1 - self.cursor))
        for step in self.all_steps():
            for piece in (*(p for c in step.changes for p in c[1:]), *step.given):
                note(piece, len(self.log) + 1)
        for piece in (*self.start.values(), *self._present.values()):
            note(piece, abs(self.cursor))
        return [kept for _, kept in sorted(far.values(), key=lambda pair: -pair[0])]

    def resident(self) -> list[Mesh]:
        """All meshes of the job that are in memory."""
        found = {id(m): m for kept in self.all_kept() if (m := kept.resident) is not None}
        return list(found.values())

    def spill(self) -> int:
        """Let go of meshes of steps gone by as far as they exceed the budget; how many.

        May run beside everything else. The steps farthest from where the job stands go first.

        Raises
        ------
        OSError
            When the disk is full; nothing is lost.
        """
        shown = [k for p in list(self._present.values()) for k in (p.kept_raw, p.kept_mesh)]
        return self.keeper.spill(self.all_kept(), {id(k.resident) for k in shown})

    def raw_paths(self) -> list[Path]:
        """The scans that were opened."""
        return [Path(s.action.path) for s in self.all_steps() if isinstance(s.action, Open)]


def _states(start: Mapping[int, Piece], point: tuple[Sequence[Step], int]) -> dict[int, Piece]:
    states = dict(start)
    for step in point[0][: point[1]]:
        for change in step.changes:
            if change.after is None:
                states.pop(change.id, None)
            else:
                states[change.id] = change.after
    return states
