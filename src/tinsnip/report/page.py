"""The report of a part: one page that holds all of itself, to be looked at, printed and kept."""

import base64
import datetime
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from jinja2 import Environment, PackageLoader, StrictUndefined
from PIL import Image

from tinsnip import __version__
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.progress import Progress, stoppable
from tinsnip.report.colours import deviation_colours, provenance_colours, ramp, wall_colours
from tinsnip.report.pictures import SIDES, picture_of
from tinsnip.survey import Examination, Readiness, examine
from tinsnip.survey.deviation import FromRaw, deviation_from_raw
from tinsnip.survey.layers import layers_of
from tinsnip.survey.walls import walls_of
from tinsnip.words import at_most, grouped, lengths, megabytes, millimetres, percent, rounded_wide

__all__ = ["LogLine", "Subject", "batch_page", "report_page"]

_SIZE = (420, 330)
_QUALITY = 86
_LAYERS = 4
_OUTLINE = 400.0
"""Units across which an outline is drawn; it is simplified to a half of one."""
_PAPER = (247, 245, 240)
_BINS = 40


@dataclass(frozen=True)
class LogLine:
    """One step in words: what was done, and where known what it took and made of the area, 0 to 1."""

    text: str
    seconds: float = 0.0
    gone: float = 0.0
    made: float = 0.0


@dataclass(frozen=True)
class Subject:
    """What a report is about.

    Attributes
    ----------
    name : str
    scan : str
        The file that the part came from.
    unit : str
        What the scan was measured in, and why it is taken to be so.
    raw, mesh : Mesh
        The scan as it came, and the part as it is now, mm.
    frame : ndarray, shape (4, 4)
        What took the scan to where the part stands.
    readiness : Readiness
        With the checks of a profile where there is one.
    profile : str
        Its name; empty where there is none.
    least_wall : float or None
        Walls are coloured by it, mm; by a hundredth of the part's size where None.
    written : str
        The file that was written, if any.
    file_bytes : int
    log : sequence of LogLine
    notes : sequence of str
        What else has to be said: of the file, of what was left out.
    proposal : str
        What would make it ready.
    readings, datums : sequence of (str, str)
        What was measured, and what was fitted: name and text.
    warnings : sequence of str
        What whoever reads it should look at.
    """

    name: str
    scan: str
    unit: str
    raw: Mesh
    mesh: Mesh
    frame: np.ndarray
    readiness: Readiness
    profile: str = ""
    least_wall: float | None = None
    written: str = ""
    file_bytes: int = 0
    log: Sequence[LogLine] = ()
    notes: Sequence[str] = ()
    proposal: str = ""
    readings: Sequence[tuple[str, str]] = ()
    datums: Sequence[tuple[str, str]] = ()
    warnings: Sequence[str] = ()


def _environment() -> Environment:
    made = Environment(loader=PackageLoader("tinsnip.report"), autoescape=True, undefined=StrictUndefined,
                       trim_blocks=True, lstrip_blocks=True)  # fmt: skip
    made.filters |= {"percent": percent, "grouped": grouped}
    return made


def _inline(picture: Image.Image) -> str:
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=_QUALITY)
    return f"data:image/jpeg;base64,{base64.b64encode(out.getvalue()).decode()}"


@stoppable
def report_page(subject: Subject, progress: Progress) -> str:
    """The report of one part, as HTML that refers to nothing outside itself.

    Parameters
    ----------
    subject : Subject
    progress : Progress
    """
    mesh, frame = subject.mesh, subject.frame
    raw = subject.raw.moved(subject.raw.vertices @ frame[:3, :3].T + frame[:3, 3])
    with progress.part(0.0, 0.15):
        before = examine(subject.raw, progress, crossings=False)
    with progress.part(0.15, 0.3):
        after = examine(mesh, progress)
    with progress.part(0.3, 0.5):
        from_raw = deviation_from_raw(mesh, subject.raw, frame, progress)
    with progress.part(0.5, 0.7):
        walls = _walls(subject, progress)
    with progress.part(0.7, 0.8):
        layers = _layers(subject, progress)
    state = progress.step("Drawing", 12)
    pictures = {}
    for name, view in SIDES.items():
        pictures[name] = [_inline(picture_of(m, view, _SIZE, background=_PAPER)) for m in (raw, mesh)]
        state[1] += 2
        progress.check()
    page = _environment().get_template("report.html.j2")
    return page.render(
        subject=subject,
        made_at=datetime.datetime.now().strftime("%Y-%m-%d %H:%M"),
        version=__version__,
        figures=_figures(before, after, subject),
        pictures=pictures,
        deviation=_deviation(from_raw, progress),
        provenance=_provenance(mesh),
        walls=walls,
        layers=layers,
        checks=[_told(check) for check in subject.readiness.checks],
        log=subject.log,
    )


def _told(check: Any) -> dict[str, str]:
    word = {True: "passed", False: "failed", None: "not checked"}[check.passed]
    return {
        "name": check.name, "word": word, "figure": check.figure, "limit": check.limit,
        "reason": check.reason if check.passed is not True else "",
    }  # fmt: skip


def _figures(before: Examination, after: Examination, subject: Subject) -> list[tuple[str, str, str]]:
    """Rows of what it is, as it came, and as it is now."""
    was, now = before.counts(), after.counts()
    rows = [
        ("triangles", grouped(was["triangles"]), grouped(now["triangles"])),
        ("size, mm", lengths(was["size_mm"]), lengths(now["size_mm"])),
        ("area, mm²", lengths([was["area_mm2"]]), lengths([now["area_mm2"]])),
        ("volume, mm³", lengths([was["volume_mm3"]]) if not was["open_edges"] else "open", lengths([now["volume_mm3"]])
         if not now["open_edges"] else "open"),
    ]  # fmt: skip
    for key in ("shells", "voids", "holes", "rims", "open_edges", "tangled_edges", "crossings"):
        told = [("not counted" if one[key] is None else grouped(one[key])) for one in (was, now)]
        rows.append((key.replace("_", " "), *told))
    if subject.file_bytes:
        rows.append(("file", "", megabytes(subject.file_bytes)))
    return rows


def _two(mesh: Mesh, colours: np.ndarray) -> list[tuple[str, str]]:
    """From the front and from the back, a little above."""
    views = {"front, right": (35.0, 25.0), "back, left": (215.0, 25.0)}
    return [(name, _inline(picture_of(mesh, view, _SIZE, colours, _PAPER))) for name, view in views.items()]


def _deviation(found: FromRaw, progress: Progress) -> dict[str, Any] | None:
    """Pictures, legend and figures of what was shifted; None where nothing was."""
    progress.check()
    if not (found.mesh.provenance == SHIFTED).any():
        return None
    known = found.signed[np.isfinite(found.signed) & (found.signed != 0)]
    limit = rounded_wide(float(np.quantile(np.abs(known), 0.995)) if len(known) else found.overall.max)
    counts = np.histogram(np.clip(known, -limit, limit), _BINS, (-limit, limit))[0]
    bars = np.sqrt(counts / max(counts.max(initial=1), 1))
    colours = [f"rgb({r:.0f},{g:.0f},{b:.0f})" for r, g, b in ramp(np.linspace(-1, 1, _BINS))]
    return {
        "pictures": _two(found.places, deviation_colours(found.places, found.signed, limit)),
        "limit": millimetres(limit),
        "bars": [(i, round(float(h), 3), c) for i, (h, c) in enumerate(zip(bars, colours, strict=True))],
        "bins": _BINS,
        "most": at_most(found.overall.max),
        "p99": millimetres(found.overall.p99),
        "mean": millimetres(found.overall.mean),
    }


def _provenance(mesh: Mesh) -> dict[str, Any]:
    areas = mesh.areas
    shares = areas / max(areas.sum(), 1e-300)
    counts = np.bincount(mesh.provenance, minlength=3)
    kinds = ("measured", "shifted", "made")
    return {
        "pictures": _two(mesh, provenance_colours(mesh)),
        "rows": [(kind, float(shares[i]), grouped(int(counts[i]))) for i, kind in enumerate(kinds)],
    }


def _walls(subject: Subject, progress: Progress) -> dict[str, Any] | None:
    """Pictures of how thick walls are; None where the part is not closed."""
    mesh = subject.mesh
    progress.step("Measuring walls")
    if len(mesh.faces) == 0 or mesh.edges.open:
        return None
    least = subject.least_wall or rounded_wide(0.01 * mesh.diagonal)
    rays = walls_of(mesh)
    known = rays[np.isfinite(rays)]
    if len(known) == 0:
        return None
    below = rays[mesh.faces].mean(axis=1) < least
    return {
        "pictures": _two(mesh, wall_colours(mesh, rays, least)),
        "least": millimetres(least),
        "asked": subject.least_wall is not None,
        "middle": millimetres(float(np.median(known))),
        "share": float(triangle_areas(mesh.vertices, mesh.faces)[below].sum() / max(mesh.area, 1e-300)),
    }


def _layers(subject: Subject, progress: Progress) -> list[dict[str, Any]]:
    """A few layers as outlines: those that checks name first, then some from bottom to top."""
    mesh = subject.mesh
    if len(mesh.faces) == 0 or mesh.size[2] <= 0:
        return []
    low, high = float(mesh.box[0, 2]), float(mesh.box[1, 2])
    wanted = [(float(c.place[2]), c.name) for c in subject.readiness.checks
              if c.passed is False and c.place is not None and c.name in ("features", "islands")]  # fmt: skip
    wanted += [(low + share * (high - low), "") for share in (0.1, 0.4, 0.7, 0.9)][: max(0, _LAYERS - len(wanted))]
    cut = layers_of(mesh, (high - low) / 500.0, progress)
    scale = _OUTLINE / max(float(mesh.size[:2].max()), 1e-9)
    drawn = []
    for z, why in sorted(wanted):
        i = int(np.clip(np.searchsorted(cut.heights, z), 0, len(cut.heights) - 1))
        rings = [shapely.simplify(shapely.linestrings(r), 0.5 / scale) for r in cut.outlines_at(i) if len(r) > 2]
        path = " ".join(
            "M" + "L".join(f"{scale * (x - mesh.box[0, 0]):.1f},{scale * (mesh.box[1, 1] - y):.1f}"
                           for x, y in shapely.get_coordinates(ring)) + "Z"
            for ring in rings
        )  # fmt: skip
        drawn.append(
            {
                "path": path, "why": why, "z": millimetres(float(cut.heights[i] - low)),
                "area": lengths([abs(float(cut.areas()[i]))]),
                "width": round(scale * float(mesh.size[0]), 1), "height": round(scale * float(mesh.size[1]), 1),
            }
        )  # fmt: skip
    return drawn


def batch_page(title: str, results: Sequence[dict[str, Any]], folder: Path) -> str:
    """One page for many scans, which leads to the report of each.

    Parameters
    ----------
    title : str
        What was done with them.
    results : sequence of dict
        What the command line's JSON says of each.
    folder : Path
        Where the page will lie; it refers to the reports from there.
    """
    rows = []
    for one in results:
        report = Path(one["report"]) if one.get("report") else None
        link = "" if report is None else (report.name if report.parent.resolve() == folder.resolve() else str(report))
        rows.append({**one, "name": Path(one["file"]).name, "link": link})
    ready = sum(bool(one.get("ready")) for one in results)
    failed = sum("error" in one for one in results)
    return _environment().get_template("batch.html.j2").render(
        title=title, rows=rows, ready=ready, failed=failed, version=__version__,
        made_at=datetime.datetime.now().strftime("%Y-%m-%d %H:%M"),
    )  # fmt: skip
