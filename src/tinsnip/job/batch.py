"""A routine on many files: each read, worked on, written, read back and judged, and what is to be said of it."""

import glob
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from tinsnip.errors import BadInput
from tinsnip.formats import ENDINGS, FORMATS, Scan
from tinsnip.formats.whole import write_whole
from tinsnip.job.profile import Profile, checks_of
from tinsnip.job.reading import read_at_most
from tinsnip.job.release import release
from tinsnip.job.routine import Routine, Run
from tinsnip.progress import Progress
from tinsnip.report.page import LogLine, Subject, report_page
from tinsnip.survey import Examination
from tinsnip.survey.readiness import Check, Readiness
from tinsnip.survey.strays import with_voids_meant
from tinsnip.treat import Bake, Reduce

__all__ = ["Budget", "Order", "report_of", "run_file", "run_on", "scans_among", "targets_of"]

_TRIES = 4
_UNUSUAL_MM = (1.0, 1000.0)
"""A part whose unit was guessed and whose size lies outside of these may well be in another unit."""


@dataclass(frozen=True)
class Budget:
    """What the results may be at most; None: anything."""

    triangles: int | None = None
    max_bytes: float | None = None
    max_deviation: float | None = None

    def on(self, routine: Routine, format_name: str, coloured: bool = True) -> Routine:
        """The routine with a reduction to this budget.

        Raises
        ------
        BadInput
            When no solid keeps to it.
        """
        return routine.with_budget(self.triangles, self.max_bytes, format_name, self.max_deviation, coloured)


@dataclass(frozen=True)
class Order:
    """What is to be done with each scan.

    Attributes
    ----------
    routine : Routine
    budget : Budget
    format_name : str
        A key of `FORMATS`.
    unit : str or None
        Guessed where None.
    provenance : bool
        Whether the file says what was measured and what made.
    keep_voids : bool
        Whether closed inner skins are meant, as those of a hollow part are.
    profile : Profile or None
        What the result is judged by on top of what every solid has to be.
    report : bool
        Whether a page about each result is written beside it.
    bake : int or None
        Pixels of the texture onto which the scan's colours are baked at last; onto the vertices, where the format holds
        no texture.
    relief : bool
        Whether a normal map of the scan's finer relief is baked too.
    at_most : int or None
        Triangles to which a scan that has more is reduced while it is read.
    """

    routine: Routine
    budget: Budget = Budget()
    format_name: str = "stl"
    unit: str | None = None
    provenance: bool = False
    keep_voids: bool = False
    profile: Profile | None = None
    report: bool = False
    bake: int | None = None
    relief: bool = False
    at_most: int | None = None


@dataclass(frozen=True)
class Result:
    """What came of one scan."""

    scan: Scan
    target: Path
    run: Run
    examination: Examination
    readiness: Readiness
    warnings: list[str] = field(default_factory=list)

    def facts(self) -> dict[str, Any]:
        """All of it under the names of the command line's JSON."""
        scan, run = self.scan, self.run
        steps = [
            {"step": s.name, "text": s.text, "seconds": round(s.seconds, 3), **s.account.facts()} for s in run.steps
        ]  # fmt: skip
        return {
            "file": str(scan.path),
            "out": str(self.target),
            "unit": scan.unit,
            "unit_reason": scan.unit_reason,
            "notes": list(scan.notes),
            "warnings": self.warnings,
            "steps": steps,
            **self.examination.counts(),
            "gone_share": run.gone_share,
            "made_share": run.made_share,
            "ready": self.readiness.ready,
            "reasons": self.readiness.reasons,
            "unchecked": self.readiness.unchecked,
            "state": self.readiness.state,
            "proposal": run.proposal(self.readiness),
            "checks": [check.facts() for check in self.readiness.checks],
        }


def scans_among(paths: Iterable[Path]) -> list[Path]:
    """The scans that paths name: files, all scans in a folder, and what fits a pattern such as ``part-*.ply``.

    Parameters
    ----------
    paths : iterable of Path

    Returns
    -------
    list of Path
        Each once, in the order named; those of a folder or a pattern by name. A file that is not there is among them,
        so that it is said.

    Raises
    ------
    BadInput
        When a folder or a pattern has no scan.
    """
    found: dict[Path, None] = {}
    for path in paths:
        if path.is_dir():
            some = sorted(f for f in path.iterdir() if f.suffix.lower() in ENDINGS and f.is_file() and f.name[0] != ".")
            if not some:
                raise BadInput(f"{path}: no scan in this folder; name another, or the files")
        elif not path.exists() and glob.has_magic(str(path)):
            some = sorted(Path(f) for f in glob.glob(str(path), recursive=True) if Path(f).is_file())
            if not some:
                raise BadInput(f"{path}: nothing fits this pattern; name another, or the files")
        else:
            some = [path]
        found.update(dict.fromkeys(some))
    return list(found)


def targets_of(
    files: Iterable[Path], out: Path, suffix: str, replace: bool = False, ours: Iterable[Path] = ()
) -> list[tuple[Path, Path]]:
    """Where each result goes.

    Those of `ours` are results of the same run that may be there already.

    Parameters
    ----------
    files : iterable of Path
        The scans.
    out : Path
        A folder.
    suffix : str
        Of the files to be written.
    replace : bool
        Whether a file that is there may be written over.
    ours : iterable of Path

    Raises
    ------
    BadInput
        When one would be written over a scan that is read, over another result, or, unless `replace`, over a file that
        is there already.
    """
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadInput(f"{out}: {(error.strerror or str(error)).lower()}; choose a folder for the results") from error
    files, own = list(files), set(ours)
    raw = {file.resolve() for file in files}
    found: list[tuple[Path, Path]] = []
    taken: set[Path] = set()
    for file in files:
        target = out / (file.stem + suffix)
        if target.resolve() in raw or (
            target.exists() and any(f.exists() and target.samefile(f) for f in files)
        ):  # fmt: skip
            raise BadInput(f"{target}: is a raw scan of this run and is never overwritten; choose another --out")
        if target in taken:
            raise BadInput(f"{target}: two scans would have this name; run them into different folders")
        if target.exists() and not replace and target not in own:
            raise BadInput(f"{target}: is there already; add --replace to replace it, or choose another --out")
        taken.add(target)
        found.append((file, target))
    return found


def run_on(
    targets: Iterable[tuple[Path, Path]], order: Order, shown: Callable[[str], AbstractContextManager[Progress]]
) -> Iterator[tuple[Path, dict[str, Any] | Exception]]:
    """Work on scans, one after another; one that goes wrong does not stop the others.

    Parameters
    ----------
    targets : iterable of (Path, Path)
        Each scan, and where its result goes.
    order : Order
    shown : callable
        Gives the progress of the work on a file of a name.

    Yields
    ------
    file : Path
    result : dict or Exception
        What the command line's JSON says of it.
    """
    for file, target in targets:
        try:
            with shown(file.name) as progress:
                facts = run_file(file, target, order, progress)
        except Exception as error:
            yield file, error
        else:
            yield file, facts


def run_file(file: Path, target: Path, order: Order, progress: Progress | None = None) -> dict[str, Any]:
    """Run a routine on one scan: a function of paths and parameters alone, to be run in any process.

    Parameters
    ----------
    file, target : Path
        The scan, and where its result goes.
    order : Order
    progress : Progress, optional
        A `SharedProgress` where the work is in another process than whoever watches.

    Returns
    -------
    dict of str to object
        What the command line's JSON says of it.

    Raises
    ------
    BadInput
        When the scan cannot be read, is no part, or a step cannot keep its promise.
    """
    progress = progress or Progress()
    routine, budget, format_name, provenance = order.routine, order.budget, order.format_name, order.provenance
    profile, unit = order.profile, "mm" if order.profile is None else order.profile.file_unit
    scan = read_at_most(file, order.unit, progress, order.at_most)
    if order.keep_voids:
        scan = replace(scan, mesh=with_voids_meant(scan.mesh))
    run = budget.on(routine, format_name, scan.mesh.colour is not None).run(scan, progress)
    wanted = run.wanted_shells if profile is None else profile.shells

    def write() -> Examination:
        return release(run.mesh, target, format_name, progress, provenance, wanted, routine.ends_as, unit)

    if order.bake is None or budget.max_bytes is not None:  # colours come last, so that a file's size is met first
        examination = write()
        for _ in range(_TRIES):  # what a file takes is an estimate for formats of text and zip
            size = target.stat().st_size
            if budget.max_bytes is None or size <= budget.max_bytes or not _reduce_further(run, size, budget, progress):
                break
            examination = write()
    missed = run.missed()
    if order.bake is not None:
        missed += _bake(run, order, progress)
        examination = write()
    size = target.stat().st_size
    if budget.max_bytes is not None and size > budget.max_bytes:
        told = f"the file takes {size / 1e6:.4g} MB where {budget.max_bytes / 1e6:g} were asked"
        missed.append(Check("file size", False, told))
    readiness = examination.readiness.also(*run.checks(), *missed)
    if profile is not None:
        readiness = readiness.also(*checks_of(profile, examination, format_name, progress, size))
    result = Result(scan, target, run, examination, readiness, _warnings(scan))
    if not order.report:
        return result.facts()
    page = report_of(target)
    write_whole(page, report_page(_subject(result, profile), progress))
    return result.facts() | {"report": str(page)}


def _bake(run: Run, order: Order, progress: Progress) -> list[Check]:
    """Bring the scan's colours onto the result; what keeps it from that is a check that fails."""
    onto = "texture" if FORMATS[order.format_name].holds_texture else "vertices"
    try:
        run.add(Bake.name, Bake(onto=onto, pixels=order.bake, relief=order.relief), progress)
    except BadInput as error:
        return [Check("baked", False, str(error), "not baked")]
    return []


def report_of(target: Path) -> Path:
    """Where the page about a result lies.

    Parameters
    ----------
    target : Path
        The result.
    """
    return target.with_name(f"{target.stem}-report.html")


def _subject(result: Result, profile: Profile | None) -> Subject:
    """What the page about a result is to say."""
    scan, run = result.scan, result.run
    return Subject(
        name=scan.path.stem,
        scan=scan.path.name,
        unit=f"{scan.unit}: {scan.unit_reason}",
        raw=scan.mesh,
        mesh=run.mesh,
        frame=run.frame,
        readiness=result.readiness,
        profile="" if profile is None else profile.name,
        least_wall=None if profile is None else profile.least_wall_mm,
        written=result.target.name,
        file_bytes=result.target.stat().st_size,
        log=[LogLine(f"{s.name}: {s.text}", s.seconds, s.account.gone_share, s.account.made_share) for s in run.steps],
        notes=scan.notes,
        proposal=run.proposal(result.readiness),
        warnings=result.warnings,
    )


def _reduce_further(run: Run, size: float, budget: Budget, progress: Progress) -> bool:
    """Take the reduction back and make another that is smaller by what the file was too large; False if it cannot."""
    last = run.steps[-1]
    if not isinstance(last.treatment, Reduce) or last.treatment.triangles is None:
        return False
    fewer = int(0.98 * len(run.mesh.faces) * budget.max_bytes / size)
    if fewer < 4 or len(run.mesh.faces) > last.treatment.triangles * 1.02 + 4:  # it could not be kept to as it was
        return False
    return run.again(last.treatment.model_copy(update={"triangles": fewer}), progress)


def _warnings(scan: Scan) -> list[str]:
    """What whoever runs this should look at."""
    found = []
    span = float(scan.mesh.size.max())
    if scan.unit_guessed and not _UNUSUAL_MM[0] <= span <= _UNUSUAL_MM[1]:
        found.append(f"its unit was guessed, and at {span:.4g} mm it is of an unusual size; give --unit if it is wrong")
    return found
