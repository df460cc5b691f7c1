"""The job on the disk: kept after each step, saved when asked, found again after a crash."""

import contextlib
import fcntl
import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.session import Session, close_keeper
from tinsnip.errors import BadInput, Cancelled, TinsnipError
from tinsnip.job import Job, OpenedJob, open_job, read_document, save_job, unfinished_folder
from tinsnip.job.bookkeeping import Open
from tinsnip.job.jobdoc import written
from tinsnip.job.jobfile import PICTURE
from tinsnip.job.shelf import Shelf
from tinsnip.progress import Progress

__all__ = ["LeftOver", "Saving", "left_over_jobs"]


@dataclass(frozen=True)
class LeftOver:
    """A job that was being worked on when its window was lost.

    Attributes
    ----------
    path : Path
        Its file among the unfinished jobs.
    name : str
        What it was called.
    when : float
        When it was kept last, seconds since the epoch.
    steps : int
        How many steps were done.
    saved_as : Path or None
        Where it had been saved before.
    picture : bytes or None
    trouble : str
        Why it cannot be read, if so.
    """

    path: Path
    name: str
    when: float
    steps: int
    saved_as: Path | None
    picture: bytes | None = None
    trouble: str = ""


def left_over_jobs() -> list[LeftOver]:
    """The unfinished jobs that no running window holds, the newest first; those with nothing to lose are removed."""
    found = []
    folder = unfinished_folder()
    for path in sorted(folder.glob("*.snipjob")) if folder.is_dir() else []:
        if not _is_free(path):
            continue
        try:
            doc, picture = read_document(path)
        except TinsnipError as error:
            if path.stat().st_size == 0:
                path.unlink(missing_ok=True)
            else:
                found.append(
                    LeftOver(path, "A job that cannot be read", path.stat().st_mtime, 0, None, None, str(error))
                )
            continue
        if not doc.unsaved:
            path.unlink(missing_ok=True)
            continue
        saved_as = Path(doc.saved_as) if doc.saved_as else None
        name = saved_as.name if saved_as else next((p.name for p in doc.pieces), path.stem)
        found.append(LeftOver(path, name, path.stat().st_mtime, len(doc.log.steps), saved_as, picture))
    return sorted(found, key=lambda one: -one.when)


def _is_free(path: Path) -> bool:
    """Whether no process holds a job's file; the lock of one that was killed is gone with it."""
    owner = path.name.split("-")[1] if path.name.count("-") >= 2 else ""
    with contextlib.suppress(OSError):  # where the disk knows no locks
        if owner.isdigit() and b"tinsnip" in Path(f"/proc/{owner}/cmdline").read_bytes():
            return False
    with contextlib.suppress(OSError):
        file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return True
        except OSError:
            return False
        finally:
            os.close(file)
    return False


_RECENT_SECONDS = 10.0
"""How old a picture of what is kept beside the work may be: strokes follow each other faster."""


class Saving(QObject):
    """Keeps the session's job on the disk, and says how much of it is not saved.

    Parameters
    ----------
    session : Session
    view : callable
        What the window shows, as JSON can hold it.
    picture : callable
        A small PNG of the part, or None.
    """

    changed = Signal()
    saved = Signal(object)
    kept = Signal()

    def __init__(
        self, session: Session, view: Callable[[], dict[str, Any]], picture: Callable[[], bytes | None]
    ) -> None:
        super().__init__()
        self._session = session
        self._view, self._picture = view, picture
        self._pictured: tuple[float, bytes | None] | None = None
        self.path: Path | None = None
        self._shelf: Shelf | None = None
        self._point: tuple | None = None
        self._told_trouble = ""
        self._left: Shelf | None = None
        self._awaited: Path | None = None
        session.stepped.connect(self._keep)
        session.job_left.connect(self._leave)
        session.opening.job_opened.connect(self._take_opened)

    # ---- what is saved

    @property
    def unsaved(self) -> int:
        """Steps that are in no saved file; scans that were opened and nothing more are nothing to lose."""
        job = self._session.job
        if self._point is None:
            done = sum(not isinstance(step.action, Open) for step in job.log)
            return max(done, int(bool(job.edits)))
        return job.steps_since(self._point, self._session.looking_back)

    @property
    def name(self) -> str:
        """What the job is called."""
        piece = self._session.job.piece
        return self.path.name if self.path is not None else piece.name if piece is not None else ""

    def save(self, path: Path, then: Callable[[], None] = lambda: None) -> None:
        """Save the job to a file, beside the window; `then` is called once it is saved and checked."""
        session = self._session
        if session.job.piece is None and not session.job.log:
            return
        if any(raw.exists() and path.exists() and path.samefile(raw) for raw in session.job.raw_paths()):
            session.message.emit(f"{path}: is the raw scan and is never overwritten; choose another name", True)
            return
        job, view, picture, point = session.job.snapshot(), self._view(), self._picture(), session.job.point()
        shelf = self._shelf

        def done(new: Shelf) -> None:
            if self._shelf is not None and self._shelf is not new:
                self._shelf.close()
            self.path, self._shelf, self._point = path, new, point
            session.message.emit(f"Saved {path.name}", False)
            self.saved.emit(path)
            self.changed.emit()
            self._keep()
            then()

        session.tasks.foreground(f"Saving {path.name}", lambda p: save_job(job, path, view, p, picture, shelf), done)

    # ---- what is kept

    def _keep(self) -> None:
        """Keep the job as it is for another start, and let go of old meshes; behind the scenes."""
        self.changed.emit()
        session = self._session
        job, view, picture = session.job.snapshot(), self._view(), self._recent_picture()
        saved_as, unsaved = str(self.path or ""), self.unsaved > 0

        def work(progress: Progress) -> str:
            del progress  # what is being kept is not given up halfway: the next step keeps what this one did not
            return _keep_job(job, view, picture, saved_as, unsaved)

        def done(trouble: str) -> None:
            session.tidy_up()
            if trouble and trouble != self._told_trouble:
                session.message.emit(trouble, True)
            self._told_trouble = trouble
            if self._awaited is not None and not trouble:  # what was left over is kept anew
                self._awaited.unlink(missing_ok=True)
                self._awaited = None
            self.kept.emit()

        session.tasks.latest("keeping", work, done)

    def _recent_picture(self) -> bytes | None:
        """A picture of the part as it is, or was a moment ago: taking one keeps the window busy for a while."""
        now = time.monotonic()
        if self._pictured is None or now > self._pictured[0] + _RECENT_SECONDS:
            self._pictured = now, self._picture()
        return self._pictured[1]

    def _leave(self) -> None:
        """The job is closed: what was asked for is forgotten."""
        self._pictured = None
        self._session.tasks.stop_behind("keeping")
        for shelf in (self._shelf, self._left):
            if shelf is not None:
                shelf.close()
        self.path, self._shelf, self._left, self._point, self._awaited = None, None, None, None, None

    def _take_opened(self, opened: OpenedJob, path: Path | None) -> None:
        """A job was opened: what is in its file is saved there, unless some of it was lost."""
        if path is None:  # one that was left over
            self.path = Path(opened.saved_as) if opened.saved_as else None
            self._shelf, self._left = None, opened.shelf
            self._point = None if opened.unsaved or opened.lost else self._session.job.point()
            self._awaited = opened.left_over
        else:
            self.path, self._shelf = path, opened.shelf
            self._point = None if opened.lost else self._session.job.point()
        self._keep()

    def recover(self, one: LeftOver) -> None:
        """Open a job that was left over; its file goes once the job is kept anew."""

        def read(progress: Progress) -> OpenedJob:
            opened = open_job(one.path, progress)
            opened.saved_as, opened.unsaved, opened.left_over = str(one.saved_as or ""), True, one.path
            return opened

        self._session.opening.job_from(read, f"Opening {one.name} as it was", None)

    @staticmethod
    def let_go(one: LeftOver) -> None:
        """Remove a job that was left over, for good."""
        one.path.unlink(missing_ok=True)

    def stop(self) -> None:
        """The window closes, and nothing is to be kept."""
        self._leave()
        close_keeper(self._session.job.keeper)


def _keep_job(job: Job, view: dict[str, Any], picture: bytes | None, saved_as: str, unsaved: bool) -> str:
    """Put a job on its keeper's shelf; what went wrong, if anything."""
    keeper = job.keeper
    try:
        others = {} if picture is None else {PICTURE: picture}
        keeper.put(job.all_kept(), lambda shelf: written(job, shelf, view, saved_as, unsaved), others)
        job.spill()
    except Cancelled:
        return ""
    except (OSError, BadInput) as error:
        what = (getattr(error, "strerror", None) or str(error)).lower()
        return f"{keeper.path.parent}: {what}; the job is in memory only. Make room there, or save it elsewhere"
    return ""


def age(when: float) -> str:
    """How long ago something was, in words."""
    minutes = max(0.0, time.time() - when) / 60
    if minutes < 1:
        return "a moment ago"
    if minutes < 60:
        return f"{minutes:.0f} min ago"
    if minutes < 24 * 60:
        return time.strftime("%H:%M", time.localtime(when))
    return time.strftime("%-d %b %Y, %H:%M", time.localtime(when))
