"""Files are written: each is read back and judged, and what was written last stays known."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.judging import Judging
from tinsnip.app.state.tasks import Tasks
from tinsnip.formats import format_for
from tinsnip.job import Job, Profile, Writing, judged_by, write_pieces
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Readiness
from tinsnip.words import counted

__all__ = ["Exporting"]


class _Session(Protocol):
    """What is asked of the session."""

    job: Job
    tasks: Tasks
    judging: Judging
    message: Signal
    mesh_changed: Signal
    job_left: Signal

    @property
    def mesh(self) -> Mesh | None: ...


class Exporting(QObject):
    """What writes files.

    Attributes
    ----------
    folder : str
        Where something of this job was written to last.

    Signals
    -------
    released : Path
        A file was written.
    """

    released = Signal(object)

    def __init__(self, session: _Session) -> None:
        super().__init__()
        self._session = session
        self._last: tuple[Path, Mesh, Readiness] | None = None
        self.folder = ""
        session.mesh_changed.connect(self._let_go)
        session.job_left.connect(self._forget)

    @property
    def last(self) -> tuple[Path, Readiness] | None:
        """What was written last of the present mesh, and how it was found."""
        known = self._last
        return None if known is None or known[1] is not self._session.mesh else (known[0], known[2])

    def write(self, *writings: Writing) -> None:
        """Write files, read each back, and judge it, by the profile in use too; without pieces, the one worked on."""
        session = self._session
        piece = session.job.piece
        if piece is None or not writings:
            return
        for path in (one.path for one in writings):
            if path.exists() and any(raw.exists() and path.samefile(raw) for raw in session.job.raw_paths()):
                session.message.emit(f"{path}: is the raw scan and is never overwritten; choose another name", True)
                return

        def done(found: list[Readiness]) -> None:
            first, rest = writings[0].path, len(writings) - 1
            worst = next((one for one in found if not one.ready), found[0])
            self._last = (first, piece.mesh, worst)
            more = f" and {counted(rest, 'other')}" if rest else ""
            session.message.emit(f"Wrote {first.name}{more}: {worst.state}", False)
            self.released.emit(first)

        work = _writer([replace(one, pieces=one.pieces or (piece,)) for one in writings], session.judging.profile)
        session.tasks.foreground(f"Writing {writings[0].path.name}", work, done)

    def _let_go(self) -> None:
        if self._last is not None and self._last[1] is not self._session.mesh:
            self._last = None

    def _forget(self) -> None:
        self._last, self.folder = None, ""


def _writer(writings: list[Writing], profile: Profile | None) -> Callable[[Progress], list[Readiness]]:
    wanted = 1 if profile is None else profile.shells

    def write_one(one: Writing, progress: Progress) -> Readiness:
        written = write_pieces(one, progress, wanted)
        if profile is None:
            return written.readiness
        shells = profile.model_copy(update={"shells": wanted * len(one.pieces)})
        name = one.format_name or format_for(one.path.suffix).name
        return judged_by(shells, written, name, progress, one.path.stat().st_size)

    def work(progress: Progress) -> list[Readiness]:
        found = []
        for i, one in enumerate(writings):
            with progress.part(i / len(writings), (i + 1) / len(writings)):
                found.append(write_one(one, progress))
        return found

    return work
