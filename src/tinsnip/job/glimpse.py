"""What a file holds, at a glance: a small picture and a line, for a dialog in which files are chosen."""

import io
from pathlib import Path
from typing import NamedTuple

from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, READING, read_scan
from tinsnip.job.jobfile import is_job_file, read_document
from tinsnip.progress import Progress
from tinsnip.report.pictures import picture_of
from tinsnip.words import counted, grouped, lengths, megabytes

__all__ = ["Glimpse", "glimpse"]

_MOST_BYTES = 300_000_000
"""A larger file is not read for a picture: at that size it takes some 2 s, which is as long as anyone waits."""
_VIEW = 30.0, 32.0
_GROUND = 73, 79, 83


class Glimpse(NamedTuple):
    """A file at a glance.

    Attributes
    ----------
    told : str
        What it holds, or why that cannot be told.
    picture : bytes or None
        PNG.
    """

    told: str
    picture: bytes | None = None


def glimpse(path: Path, size: tuple[int, int], progress: Progress) -> Glimpse:
    """Look into a scan or a job.

    Parameters
    ----------
    path : Path
    size : tuple of int
        Of the picture, pixels.
    progress : Progress

    Examples
    --------
    >>> glimpse(Path("nothing.stl"), (240, 160), Progress()).picture is None
    True
    """
    try:
        if is_job_file(path):
            document, picture = read_document(path)
            return Glimpse(f"A job of {counted(len(document.steps), 'step')}", picture)
        if path.suffix.lower() not in {form.suffix for form in FORMATS.values()}:
            return Glimpse("")
        if path.stat().st_size > _MOST_BYTES:
            return Glimpse(f"{megabytes(path.stat().st_size)}: too large for a picture")
        scan = read_scan(path, None, progress, READING)
    except (BadInput, OSError) as error:
        return Glimpse(str(error).removeprefix(f"{path}: "))
    mesh = scan.mesh
    made = io.BytesIO()
    colours = mesh.colour[mesh.faces].mean(axis=1) if mesh.colour is not None else None
    progress.check()
    picture_of(mesh, _VIEW, size, colours, _GROUND).save(made, "PNG")
    told = f"{grouped(len(mesh.faces))} triangles · {lengths(mesh.size)} mm · taken as {scan.unit}"
    return Glimpse(told, made.getvalue())
