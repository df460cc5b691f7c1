"""What a report is to say of a piece of a job, and of a routine's result."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from tinsnip.formats.whole import write_whole
from tinsnip.job.job import Job
from tinsnip.job.piece import Piece
from tinsnip.job.profile import Profile, judged_by
from tinsnip.progress import Progress, stoppable
from tinsnip.report.page import LogLine, Subject, report_page
from tinsnip.survey import examine

__all__ = ["log_of", "write_report"]


def log_of(job: Job, piece: Piece) -> list[LogLine]:
    """The steps that concern a piece, up to where the job stands.

    Parameters
    ----------
    job : Job
    piece : Piece
    """
    lines = []
    for step in job.log[: job.cursor]:
        if step.enabled and (piece.id in step.on or any(change.id == piece.id for change in step.changes)):
            lines.append(LogLine(step.text, step.seconds, step.account.gone_share, step.account.made_share))
    return lines


@stoppable
def write_report(
    piece: Piece,
    log: Sequence[LogLine],
    profile: Profile | None,
    readings: Sequence[tuple[str, str]],
    path: Path,
    progress: Progress,
) -> None:
    """Write the report of a piece as it is now.

    Parameters
    ----------
    piece : Piece
    log : sequence of LogLine
    profile : Profile or None
        What it is judged by on top of what every solid has to be.
    readings : sequence of (str, str)
        What was measured on it: what, and the text.
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        When it cannot be written.
    """
    with progress.part(0.0, 0.4):
        found = examine(piece.mesh, progress)
        ready = found.readiness
        if profile is not None:
            name = profile.file_format if profile.file_format != "any" else "stl"
            ready = judged_by(profile, found, name, progress)
    subject = Subject(
        name=piece.name,
        scan=piece.scan.path.name,
        unit=f"{piece.scan.unit}: {piece.scan.unit_reason}".rstrip(": "),
        raw=piece.raw,
        mesh=piece.mesh,
        frame=np.asarray(piece.frame),
        readiness=ready,
        profile="" if profile is None else profile.name,
        least_wall=None if profile is None else profile.least_wall_mm,
        log=log,
        notes=piece.scan.notes,
        readings=readings,
        datums=[(datum.name, datum.text().partition(": ")[2]) for datum in piece.datums],
    )
    with progress.part(0.4, 1.0):
        page = report_page(subject, progress)
    progress.check()
    write_whole(path, page)
