"""What the deviation is measured against: the raw scan, or another piece, or a datum."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers, with_places
from tinsnip.app.state.known import Known, Measured
from tinsnip.app.state.tasks import Tasks
from tinsnip.datums.datum import Datum
from tinsnip.job import Job, Piece
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.forms import distances
from tinsnip.survey.deviation import FromRaw, deviation_from_form, deviation_from_reference, signed_distance

__all__ = ["Reference", "References"]


@dataclass(frozen=True, eq=False)
class Reference:
    """A piece's surface, or a datum, that the part is measured against.

    Attributes
    ----------
    key : str
        What it is found again by.
    name : str
    mesh : Mesh or None
    datum : Datum or None
    """

    key: str
    name: str
    mesh: Mesh | None = None
    datum: Datum | None = None

    def is_same(self, other: "Reference | None") -> bool:
        """Whether it is the same surface, or datum, as another."""
        return other is not None and self.mesh is other.mesh and self.datum == other.datum


class _Session(Protocol):
    """What is asked of the session."""

    job: Job
    tasks: Tasks
    known: Known
    pieces_changed: Signal
    examined: Signal

    @property
    def mesh(self) -> Mesh | None: ...
    def shown_pieces(self) -> list[Piece]: ...


class References(QObject):
    """The reference that is chosen, and what was measured against it.

    Signals
    -------
    changed
        Another one is chosen, or there are others to choose from.
    measured
        What was asked for is there.
    """

    changed = Signal()
    measured = Signal()

    def __init__(self, session: _Session) -> None:
        super().__init__()
        self._session = session
        self._key = ""
        self._offered: list[tuple[str, str, int, Datum | None]] = []
        self._known: tuple[Mesh, Reference, Measured] | None = None
        session.pieces_changed.connect(self._look_again)
        session.examined.connect(self._ask)

    @property
    def key(self) -> str:
        """What the one that is chosen is found again by; empty: the raw scan."""
        return self._key

    def choices(self) -> list[Reference]:
        """Other pieces that are shown, and the datums of the one that is worked on."""
        piece = self._session.job.piece
        if piece is None:
            return []
        others = [p for p in self._session.shown_pieces() if p.id != piece.id]
        found = [Reference(f"piece {p.id}", p.name, p.mesh) for p in others]
        fitted = [d for d in piece.datums if d.region and d.as_form() is not None]
        return found + [Reference(f"datum {d.name}", f"{d.name} {d.form}", datum=d) for d in fitted]

    @property
    def chosen(self) -> Reference | None:
        """The one that is chosen, if it is there still; None: the raw scan."""
        return next((one for one in self.choices() if one.key == self._key), None) if self._key else None

    def choose(self, key: str) -> None:
        """Measure against another one; empty: against the raw scan."""
        self._key = key
        self.changed.emit()
        self._ask()
        self.measured.emit()

    def now(self) -> Measured | None:
        """What was measured of the present mesh against what is chosen, or against the raw scan; None: not yet."""
        if self.chosen is not None:
            return self._against_chosen()
        return self._session.known.measured_of(self._session.mesh)

    def _against_chosen(self) -> Measured | None:
        known, chosen = self._known, self.chosen
        if known is None or chosen is None or known[0] is not self._session.mesh or not chosen.is_same(known[1]):
            return None
        return known[2]

    def ask_at(self, point: np.ndarray, done: Callable[[float], None]) -> None:
        """Measure how far a point lies off what is chosen, with its sign, mm; dropped after another step."""
        session, piece, chosen = self._session, self._session.job.piece, self.chosen
        if piece is None:
            return

        def take(value: float) -> None:
            if session.job.piece is piece:
                done(value)

        session.tasks.behind("reading", lambda progress: _read(point, piece, chosen, progress), take)

    def _look_again(self) -> None:
        offered = [(one.key, one.name, id(one.mesh), one.datum) for one in self.choices()]
        if offered != self._offered:  # else what is painted would be painted anew at every step
            self._offered = offered
            self.changed.emit()
        self._ask()

    def _ask(self) -> None:
        chosen, mesh = self.chosen, self._session.mesh
        if chosen is None or mesh is None or self._against_chosen() is not None:
            return
        measure = _measurer(mesh, chosen)

        def work(progress: Progress) -> tuple[FromRaw, ViewBuffers | None]:
            return with_places(measure(progress), progress)

        def take(found: tuple[FromRaw, ViewBuffers | None]) -> None:
            self._known = mesh, chosen, Measured(*found)
            self.measured.emit()

        self._session.tasks.behind("against the reference", work, take)


def _read(point: np.ndarray, piece: Piece, chosen: Reference | None, progress: Progress) -> float:
    if chosen is None:
        return signed_distance(point, piece.raw, piece.frame, progress.state)
    if chosen.datum is not None:
        return float(distances(chosen.datum.as_form(), point[None])[0])
    return signed_distance(point, chosen.mesh, np.eye(4), progress.state)


def _measurer(mesh: Mesh, chosen: Reference) -> Callable[[Progress], FromRaw]:
    if chosen.datum is not None:
        form, region = chosen.datum.as_form(), chosen.datum.region
        return lambda progress: deviation_from_form(mesh, form, region.resolve(mesh))
    return lambda progress: deviation_from_reference(mesh, chosen.mesh, progress)
