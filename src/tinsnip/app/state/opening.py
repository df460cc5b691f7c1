"""Scans and jobs are opened: read off the window's thread, and taken up when all of it could be read."""

from collections.abc import Callable, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Protocol

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.preparing import Preparation
from tinsnip.app.state.tasks import Tasks
from tinsnip.formats import Scan
from tinsnip.job import Job, OpenedJob, is_job_file, open_job, read_at_most
from tinsnip.progress import Progress

__all__ = ["Opening"]


class _Session(Protocol):
    """What is asked of the session."""

    job: Job
    tasks: Tasks
    preparation: Preparation
    message: Signal

    def looks_back(self) -> bool: ...
    def take_job(self, job: Job) -> None: ...
    def take_changes(self, stepped: bool = False) -> None: ...
    def open_first_station(self) -> None: ...


class Opening(QObject):
    """What opens scans and jobs.

    Signals
    -------
    opened : list of Path
        Scans have become pieces.
    job_opened : OpenedJob, Path or None
        A job has taken the place of the last, and where it is saved.
    """

    opened = Signal(object)
    job_opened = Signal(object, object)

    def __init__(self, session: _Session) -> None:
        super().__init__()
        self._session = session

    def files(self, paths: list[Path], add: bool = False, at_most: Mapping[Path, int] = MappingProxyType({})) -> None:
        """Open scans as the pieces of a new job, or as further pieces of this one; or a job.

        Some may be reduced while they are read, to so many triangles.
        """
        jobs = [p for p in paths if is_job_file(p)]
        if jobs:
            if len(paths) > 1 or add:
                self._session.message.emit(f"{jobs[0].name} is a job and opens by itself; open it alone", True)
                return
            self.job_from(lambda p: open_job(jobs[0], p), f"Opening {jobs[0].name}", jobs[0])
            return
        names = paths[0].name if len(paths) == 1 else f"{len(paths)} scans"
        self.scans_from(
            lambda progress: [_read_one(p, i, len(paths), at_most.get(p), progress) for i, p in enumerate(paths)],
            f"Opening {names}",
            add,
        )

    def scans_from(self, reader: Callable[[Progress], list[Scan]], title: str, add: bool = False) -> None:
        """Open what a function reads; nothing changes unless all of it can be read."""
        session = self._session
        if add and session.looks_back():
            return

        def done(scans: list[Scan]) -> None:
            if not add:
                session.take_job(Job())
            for scan in scans:
                session.job.open(scan)
            session.take_changes(stepped=True)
            session.open_first_station()
            self.opened.emit([scan.path for scan in scans])

        session.tasks.foreground(title, session.preparation.before(reader), done)

    def job_from(self, reader: Callable[[Progress], OpenedJob], title: str, path: Path | None) -> None:
        """Open a job that a function reads, which was saved at a path, if it was."""
        session = self._session

        def done(opened: OpenedJob) -> None:
            session.take_job(opened.job)
            session.take_changes()
            self.job_opened.emit(opened, path)
            lost = "; ".join(opened.lost)
            if lost:
                session.message.emit(f"Opened as far as it is whole. Lost: {lost}", True)

        session.tasks.foreground(title, session.preparation.before(reader), done)


def _read_one(path: Path, index: int, count: int, at_most: int | None, progress: Progress) -> Scan:
    with progress.part(index / count, (index + 1) / count):
        return read_at_most(path, None, progress, at_most)
