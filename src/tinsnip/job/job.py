"""A job: pieces, their untouched raw scans, and the log of what was done, with a cursor."""

from dataclasses import dataclass, field

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats import Scan
from tinsnip.job.keeping import Keeper, Kept
from tinsnip.mesh import Mesh
from tinsnip.treat import Context, Outcome, Treatment

__all__ = ["Entry", "Job", "Piece"]


@dataclass
class Piece:
    """One mesh of the job, with the scan it came from, and how it stood against the scanner's frame at first."""

    name: str
    raw: Mesh
    mesh: Mesh
    scan: Scan | None = None
    visible: bool = True
    frame: np.ndarray = field(default_factory=lambda: np.eye(4))


@dataclass(frozen=True)
class Entry:
    """One line of the log: what was done to which piece, and the mesh before and after, in memory or on disk."""

    treatment: Treatment
    piece: int
    text: str
    seconds: float
    kept_before: Kept
    kept_after: Kept
    figures: dict = field(default_factory=dict)

    @property
    def before(self) -> Mesh:
        """The mesh before the step."""
        return self.kept_before.mesh

    @property
    def after(self) -> Mesh:
        """The mesh after the step."""
        return self.kept_after.mesh


class Job:
    """Pieces and the log. Undo and redo move the cursor; the raw scans are never touched.

    Parameters
    ----------
    keeper : Keeper, optional
        Where the meshes of steps gone by are kept.

    Examples
    --------
    >>> job = Job()
    >>> job.can_undo
    False
    """

    def __init__(self, keeper: Keeper | None = None) -> None:
        self.keeper = keeper or Keeper()
        self.pieces: list[Piece] = []
        self.active = 0
        self.log: list[Entry] = []
        self.cursor = 0

    @property
    def piece(self) -> Piece | None:
        """The piece that is worked on."""
        return self.pieces[self.active] if self.pieces else None

    def open(self, scan: Scan) -> Piece:
        """Take a scan in as a new piece, and make it the active one."""
        piece = Piece(scan.path.name, scan.mesh, scan.mesh, scan)
        self.pieces.append(piece)
        self.active = len(self.pieces) - 1
        return piece

    def apply(self, treatment: Treatment, context: Context | None = None, seconds: float = 0.0) -> Outcome:
        """Treat the active piece and enter it in the log.

        Raises
        ------
        BadInput
            When there is nothing to treat, or the treatment cannot keep its promise; the job is as it was.
        """
        if self.piece is None:
            raise BadInput("nothing is open; open a scan first")
        context = context or Context(raw=self.piece.raw)
        outcome = treatment.apply(self.piece.mesh, context)
        self.enter(treatment, outcome, seconds)
        return outcome

    def enter(self, treatment: Treatment, outcome: Outcome, seconds: float) -> bool:
        """Enter an outcome that was worked out elsewhere; False when it changed nothing.

        What had been undone is given up, as it no longer follows.
        """
        piece = self.pieces[self.active]
        if outcome.mesh is piece.mesh:
            return False
        del self.log[self.cursor :]
        known = {id(k.resident): k for e in self.log for k in (e.kept_before, e.kept_after) if k.resident is not None}
        before = known.get(id(piece.mesh)) or Kept(piece.mesh)
        entry = Entry(treatment, self.active, outcome.text, seconds, before, Kept(outcome.mesh), outcome.figures)
        self.log.append(entry)
        self.cursor += 1
        piece.mesh = outcome.mesh
        return True

    def copy_as_variant(self, name: str | None = None) -> Piece:
        """Copy the active piece as it is now, and make the copy the active one.

        Raises
        ------
        BadInput
            When nothing is open.
        """
        piece = self.piece
        if piece is None:
            raise BadInput("nothing is open; open a scan first")
        taken = {p.name for p in self.pieces}
        number = 2
        while name is None or name in taken:
            name = f"{piece.name}, variant {number}"
            number += 1
        copy = Piece(name, piece.raw, piece.mesh, piece.scan, frame=self.frame(self.active))
        self.pieces.append(copy)
        self.active = len(self.pieces) - 1
        return copy

    def frame(self, index: int) -> np.ndarray:
        """4x4 matrix that took a piece from the scanner's frame to where it stands now."""
        matrix = self.pieces[index].frame
        for entry in self.log[: self.cursor]:
            if entry.piece == index and "matrix" in entry.figures:
                matrix = entry.figures["matrix"] @ matrix
        return matrix

    def in_scanner_frame(self) -> Mesh:
        """The active piece put back where the scanner saw it.

        Raises
        ------
        BadInput
            When nothing is open.
        """
        if self.piece is None:
            raise BadInput("nothing is open; open a scan first")
        back = np.linalg.inv(self.frame(self.active))
        if np.array_equal(back, np.eye(4)):
            return self.piece.mesh
        return self.piece.mesh.moved(self.piece.mesh.vertices @ back[:3, :3].T + back[:3, 3])

    def resident(self) -> set[int]:
        """Ids of all meshes of the job that are in memory."""
        own = {id(mesh) for piece in self.pieces for mesh in (piece.raw, piece.mesh)}
        log = list(self.log)
        return own | {id(k.resident) for e in log for k in (e.kept_before, e.kept_after) if k.resident is not None}

    def spill(self) -> int:
        """Put meshes of steps gone by on the disk as far as they exceed the budget; how many.

        May run beside everything else. The steps farthest from where the job stands go first.

        Raises
        ------
        OSError
            When the disk is full; nothing is lost.
        """
        log, cursor = list(self.log), self.cursor
        kept = {
            id(k): (abs(i + side - cursor), k)
            for i, e in enumerate(log)
            for side, k in ((0, e.kept_before), (1, e.kept_after))
        }
        far_first = [k for _, k in sorted(kept.values(), key=lambda pair: -pair[0])]
        return self.keeper.spill(far_first, {id(m) for p in self.pieces for m in (p.raw, p.mesh)})

    def fetch(self, cursor: int) -> None:
        """Bring the meshes back that going to a line of the log will want."""
        for entry in self.log[min(cursor, self.cursor) : max(cursor, self.cursor)]:
            _ = entry.before if cursor < self.cursor else entry.after

    def is_at_hand(self, cursor: int) -> bool:
        """Whether going to a line of the log reads nothing from the disk."""
        steps = self.log[min(cursor, self.cursor) : max(cursor, self.cursor)]
        return all((e.kept_before if cursor < self.cursor else e.kept_after).resident is not None for e in steps)

    @property
    def can_undo(self) -> bool:
        """Whether there is a step to go back."""
        return self.cursor > 0

    @property
    def can_redo(self) -> bool:
        """Whether there is a step to go forward again."""
        return self.cursor < len(self.log)

    def undo(self) -> Entry:
        """Go back one step; returns what was undone."""
        if not self.can_undo:
            raise BadInput("there is nothing to undo; the log begins here")
        self.cursor -= 1
        entry = self.log[self.cursor]
        self.pieces[entry.piece].mesh = entry.before
        self.active = entry.piece
        return entry

    def redo(self) -> Entry:
        """Go forward one step again; returns what was redone."""
        if not self.can_redo:
            raise BadInput("there is nothing to redo; this is the newest step")
        entry = self.log[self.cursor]
        self.cursor += 1
        self.pieces[entry.piece].mesh = entry.after
        self.active = entry.piece
        return entry

    def go_to(self, cursor: int) -> None:
        """Move the cursor to just after step `cursor` (0: as opened)."""
        while self.cursor > max(0, cursor):
            self.undo()
        while self.cursor < min(len(self.log), cursor):
            self.redo()
