"""The window's one state: a job, what was found on it, what is ticked, what is previewed.

Views listen to its signals and call its methods; they never talk to each other.
"""

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers, ViewMarks, make_buffers, make_marks, measure_for_view
from tinsnip.app.state.levels import Levels
from tinsnip.app.state.preview import Preview
from tinsnip.app.state.tasks import Tasks
from tinsnip.formats import UNITS, Scan, read_scan
from tinsnip.job import Job, default_budget, release
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Examination, Finding, Kind, examine
from tinsnip.survey.deviation import FromRaw, signed_distance
from tinsnip.treat import Context, Outcome, Treatment

__all__ = ["STATIONS", "Session"]

_VIEW_MEMORY = 500_000_000
"""Bytes of buffers kept for meshes that may be shown again."""

STATIONS = ("Intake", "Stand", "Trim", "Strays", "Holes", "Surface", "Reduce", "Solid", "Release")


class Session(QObject):
    """Job, findings and choices, with signals."""

    mesh_changed = Signal()
    log_changed = Signal()
    buffers_ready = Signal(object)
    examined = Signal()
    station_changed = Signal(int)
    ticks_changed = Signal()
    preview_changed = Signal()
    snip_changed = Signal()
    fly_to = Signal(object)
    hovered = Signal(object)
    message = Signal(str, bool)
    released = Signal(object)
    opened = Signal(object)
    reframed = Signal()
    pieces_changed = Signal()
    others_changed = Signal()
    from_raw_changed = Signal()
    raw_ready = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.job = Job()
        self.tasks = Tasks()
        self.tasks.message.connect(self.message)
        self.levels = Levels(self)
        self.undo_share = 0.25
        self._examination: Examination | None = None
        self.station = 0
        self.toggled: set[tuple[str, int]] = set()
        self.preview: Preview | None = None
        self.last_release: tuple[Path, Mesh, Examination] | None = None
        self.from_raw: FromRaw | None = None
        self.places: ViewBuffers | None = None
        self.marks: ViewMarks | None = None
        self._buffers: dict[int, ViewBuffers] = {}
        self._examinations: dict[int, tuple[Examination, ViewMarks]] = {}
        self._from_raws: dict[int, tuple[FromRaw, ViewBuffers | None]] = {}

    @property
    def mesh(self) -> Mesh | None:
        """The present mesh of the active piece."""
        return self.job.piece.mesh if self.job.piece else None

    @property
    def examination(self) -> Examination | None:
        """What was found on the present mesh; None while it is being looked over."""
        found = self._examination
        return found if found is not None and found.mesh is self.mesh else None

    # ---- opening

    def open_files(self, paths: list[Path], add: bool = False) -> None:
        """Open scans as the pieces of a new job, or as further pieces of this one."""
        names = paths[0].name if len(paths) == 1 else f"{len(paths)} scans"
        self.open_with(
            lambda progress: [_read_one(p, i, len(paths), progress) for i, p in enumerate(paths)],
            f"Opening {names}",
            add,
        )

    def open_with(self, reader: Callable[[Progress], list[Scan]], title: str, add: bool = False) -> None:
        """Open what a function reads, off the window's thread; nothing changes unless all of it can be read."""

        def done(scans: list[Scan]) -> None:
            if not add:
                self.job.keeper.close()
                self.job = Job()
                self.set_undo_memory(self.undo_share)
                self.last_release = None
                for known in (self._buffers, self._examinations, self._from_raws):
                    known.clear()
            for scan in scans:
                self.job.open(scan)
            self._changed()
            self.set_station(0)
            self.opened.emit([scan.path for scan in scans])

        self.tasks.foreground(title, reader, done)

    def set_unit(self, unit: str) -> None:
        """Take the active scan's numbers to be in another unit; only before anything was done to it."""
        piece = self.job.piece
        if piece is None or piece.scan is None or piece.scan.unit == unit:
            return
        if any(entry.piece == self.job.active for entry in self.job.log):
            self.message.emit("the unit can be changed before the first step only; undo to there, or scale", True)
            self._changed()
            return
        factor = UNITS[unit] / UNITS[piece.scan.unit]
        mesh = piece.raw.moved(piece.raw.vertices * factor)
        piece.scan = replace(piece.scan, mesh=mesh, unit=unit, unit_reason="as chosen")
        piece.raw = piece.mesh = mesh
        self._changed()
        self.reframed.emit()

    def set_active(self, index: int) -> None:
        """Work on another piece."""
        if self.tasks.busy is None and 0 <= index < len(self.job.pieces) and index != self.job.active:
            self.job.active = index
            self._changed()
            self.reframed.emit()

    def set_visible(self, index: int, on: bool) -> None:
        """Show or hide a piece."""
        self.job.pieces[index].visible = on
        self.pieces_changed.emit()
        self._prepare_others()

    def rename(self, index: int, name: str) -> None:
        """Give a piece another name."""
        if name.strip():
            self.job.pieces[index].name = name.strip()
            self.pieces_changed.emit()

    def copy_as_variant(self) -> None:
        """Copy the active piece as it is now."""
        if self.tasks.busy is None and self.job.piece is not None:
            self.job.copy_as_variant()
            self._changed()

    # ---- work

    def apply(self, treatment: Treatment) -> None:
        """Apply a treatment to the active piece; at once when its preview stands."""
        mesh = self.mesh
        if mesh is None:
            return
        known = self.preview
        if known is not None and known.before is mesh and known.treatment == treatment:
            self._enter(treatment, known.outcome, known.seconds)
            return
        raw = self.job.piece.raw
        begun = time.perf_counter()

        def done(outcome: object) -> None:
            if self.mesh is mesh:
                self._enter(treatment, outcome, time.perf_counter() - begun)

        self.tasks.foreground(treatment.title, lambda p: treatment.apply(mesh, Context(p, raw)), done)

    def apply_all(self, treatments: list[Treatment]) -> None:
        """Apply several treatments one after another; each is a step of its own in the log."""
        mesh = self.mesh
        if mesh is None:
            return
        raw = self.job.piece.raw

        def work(progress: Progress) -> list[tuple[Treatment, Outcome, float]]:
            results, at = [], mesh
            for i, treatment in enumerate(treatments):
                begun = time.perf_counter()
                with progress.part(i / len(treatments), (i + 1) / len(treatments)):
                    outcome = treatment.apply(at, Context(progress, raw))
                at = outcome.mesh
                results.append((treatment, outcome, time.perf_counter() - begun))
            return results

        def done(results: object) -> None:
            if self.mesh is mesh:
                entered = [self.job.enter(*result) for result in results]
                self.message.emit("; ".join(outcome.text for _, outcome, _ in results), False)
                if any(entered):
                    self._changed()

        self.tasks.foreground(treatments[0].title, work, done)

    def _enter(self, treatment: Treatment, outcome: Outcome, seconds: float) -> None:
        if self.job.enter(treatment, outcome, seconds):
            self.message.emit(outcome.text, False)
            self._changed()
        else:
            self.message.emit(outcome.text, False)
            self.cancel_preview()

    def ask_preview(self, treatment: Treatment) -> None:
        """Work a treatment out behind the scenes, to be looked at before it is applied."""
        mesh = self.mesh
        if mesh is None:
            return
        if self.preview is not None and self.preview.before is mesh and self.preview.treatment == treatment:
            return
        raw = self.job.piece.raw
        begun = time.perf_counter()

        def done(outcome: object) -> None:
            if self.mesh is mesh:
                self.show_preview(Preview(treatment, mesh, outcome, time.perf_counter() - begun))

        self.tasks.behind("preview", lambda p: treatment.apply(mesh, Context(p, raw)), done)

    def show_preview(self, preview: Preview) -> None:
        """Let a treatment that has been worked out be looked at."""
        self.preview = preview
        self.preview_changed.emit()

    def cancel_preview(self) -> None:
        """Leave a preview without a trace."""
        self.tasks.stop_behind("preview")
        self.levels.show_none()
        if self.preview is not None:
            self.preview = None
            self.preview_changed.emit()

    def undo(self) -> None:
        """Go back one step."""
        if self.job.can_undo and self.tasks.busy is None:
            text = self.job.log[self.job.cursor - 1].text
            self._go(self.job.cursor - 1, f"Undone: {text}")

    def redo(self) -> None:
        """Go forward one step."""
        if self.job.can_redo and self.tasks.busy is None:
            text = self.job.log[self.job.cursor].text
            self._go(self.job.cursor + 1, f"Redone: {text}")

    def go_to(self, cursor: int) -> None:
        """Go to a line of the log."""
        if self.tasks.busy is None and cursor != self.job.cursor:
            self._go(cursor, "")

    def _go(self, cursor: int, text: str) -> None:
        """Go to a line of the log; what is on the disk is read back first, off the window's thread."""

        def arrive(_: object = None) -> None:
            self.job.go_to(cursor)
            self.message.emit(text, False)
            self._changed()

        if self.job.is_at_hand(cursor):
            arrive()
        else:
            job = self.job
            self.tasks.foreground("Bringing the step back", lambda p: job.fetch(cursor), arrive)

    def export(self, path: Path, scanner_frame: bool = False, provenance: bool = False) -> None:
        """Write the mesh, read it back, and judge the file."""
        mesh = self.mesh
        if mesh is None:
            return
        placed = self.job.in_scanner_frame() if scanner_frame else mesh
        raws = [piece.scan.path for piece in self.job.pieces if piece.scan is not None]
        if path.exists() and any(raw.exists() and path.samefile(raw) for raw in raws):
            self.message.emit(f"{path}: is the raw scan and is never overwritten; choose another name", True)
            return

        def done(examination: object) -> None:
            self.last_release = (path, mesh, examination)
            self.message.emit(f"Wrote {path.name}: {examination.readiness.state}", False)
            self.released.emit(path)

        self.tasks.foreground(f"Writing {path.name}", lambda p: release(placed, path, None, p, provenance), done)

    def _changed(self) -> None:
        """The mesh is another one: drop what belonged to the old, and work out the new."""
        self.toggled.clear()
        self.cancel_preview()
        mesh = self.mesh
        self.levels.forget()
        self.levels.let_go_of_areas()
        self._examination, self.marks = self._examinations.get(id(mesh), (None, None))
        self.from_raw, self.places = self._from_raws.get(id(mesh), (None, None))
        self.mesh_changed.emit()
        self.log_changed.emit()
        self.pieces_changed.emit()
        kept = self.job.resident()
        self._buffers = _newest({key: value for key, value in self._buffers.items() if key in kept})
        self._examinations = {key: value for key, value in self._examinations.items() if key in kept}
        self._from_raws = {key: value for key, value in list(self._from_raws.items())[-8:] if key in kept}
        if id(mesh) in self._buffers:
            self.buffers_ready.emit(self._buffers[id(mesh)])
        else:
            self.tasks.behind("buffers", lambda p: make_buffers(mesh, p), self._take_buffers)
        self._prepare_others()
        job = self.job
        self.tasks.behind("spill", lambda p: _spill(job), self._after_spill)
        if self.examination is not None:
            self.examined.emit()
            self._measure_from_raw()
        else:
            self.tasks.behind("examine", lambda p: _examine_whole(mesh, p), self._take_examination)

    def _prepare_others(self) -> None:
        """Make the visible pieces that are not worked on ready to be drawn."""
        for index, piece in enumerate(self.job.pieces):
            if index != self.job.active and piece.visible and id(piece.mesh) not in self._buffers:
                self.tasks.behind(
                    f"buffers of piece {index}", lambda p, mesh=piece.mesh: make_buffers(mesh, p), self._take_other
                )
        self.others_changed.emit()

    def _after_spill(self, trouble: str) -> None:
        if trouble:
            self.message.emit(trouble, True)

    def set_undo_memory(self, share: float) -> None:
        """Let steps gone by take up to a share of the machine's memory; more of them go to the disk."""
        self.undo_share = share
        self.job.keeper.budget = int(4 * share * default_budget())

    def _take_other(self, buffers: ViewBuffers) -> None:
        self._buffers[id(buffers.mesh)] = buffers
        self.others_changed.emit()

    def others(self) -> list[ViewBuffers]:
        """What is drawn besides the active piece."""
        shown = [p.mesh for i, p in enumerate(self.job.pieces) if i != self.job.active and p.visible]
        return [self._buffers[id(mesh)] for mesh in shown if id(mesh) in self._buffers]

    def _take_buffers(self, buffers: ViewBuffers) -> None:
        if buffers.mesh is self.mesh:
            self._buffers[id(buffers.mesh)] = buffers
            self.buffers_ready.emit(buffers)

    def _take_examination(self, found: tuple[Examination, ViewMarks]) -> None:
        if found[0].mesh is self.mesh:
            self._examinations[id(self.mesh)] = found
            self._examination, self.marks = found
            self.examined.emit()
            self._measure_from_raw()

    def _measure_from_raw(self) -> None:
        """The present mesh's deviation from its raw scan, unless it is known."""
        mesh, piece = self.mesh, self.job.piece
        if piece is None or mesh is None:
            return
        if self.from_raw is not None:
            self.from_raw_changed.emit()
            return
        frame, raw = self.job.frame(self.job.active), piece.raw

        def take(measured: tuple[FromRaw, ViewBuffers | None]) -> None:
            if measured[0].mesh is self.mesh:
                self._from_raws[id(mesh)] = measured
                self.from_raw, self.places = measured
                self.from_raw_changed.emit()

        self.tasks.behind("from raw", lambda p: measure_for_view(mesh, raw, frame, p), take)

    def ask_raw(self) -> None:
        """Make the raw scan of the active piece ready to be drawn."""
        piece = self.job.piece
        if piece is None:
            return
        if id(piece.raw) in self._buffers:
            self.raw_ready.emit()
            return
        raw = piece.raw

        def take(buffers: ViewBuffers) -> None:
            self._buffers[id(raw)] = buffers
            self.raw_ready.emit()

        self.tasks.behind("raw buffers", lambda p: make_buffers(raw, p), take)

    def raw_buffers(self) -> ViewBuffers | None:
        """The raw scan's buffers, once they are ready."""
        piece = self.job.piece
        return None if piece is None else self._buffers.get(id(piece.raw))

    def read_deviation(self, point: np.ndarray, done: Callable[[float], None]) -> None:
        """Measure how far a point of the surface lies from the raw scan, with its sign."""
        piece = self.job.piece
        if piece is None:
            return
        frame, raw = self.job.frame(self.job.active), piece.raw
        self.tasks.behind("reading", lambda p: signed_distance(point, raw, frame, p.state), done)

    # ---- choices

    def set_station(self, index: int) -> None:
        """Open a station."""
        if index != self.station:
            self.cancel_preview()
        self.station = index
        self.station_changed.emit(index)

    def findings(self, station: int | None = None) -> list[Finding]:
        """What a station lists."""
        if self.examination is None:
            return []
        name = STATIONS[self.station if station is None else station]
        if name == "Strays":
            return self.examination.strays
        if name == "Holes":
            return self.examination.openings
        if name == "Surface":
            return self.examination.knots
        if name == "Solid":
            return [f for f in self.examination.openings if f.kind is Kind.RIM]
        return []

    def is_ticked(self, finding: Finding) -> bool:
        """Whether a finding takes part in its station's treatment."""
        if finding.kind is Kind.RIM:
            return False
        # what may be part of the part is not ticked unless its user does so
        return (finding.kind is not Kind.CHUNK) != ((finding.kind.value, finding.key) in self.toggled)

    def tick(self, findings: list[Finding], on: bool) -> None:
        """Tick or untick findings."""
        for finding in findings:
            key = (finding.kind.value, finding.key)
            if on == (finding.kind is not Kind.CHUNK):
                self.toggled.discard(key)
            else:
                self.toggled.add(key)
        self.ticks_changed.emit()

    def ticked_keys(self, kinds: tuple[Kind, ...]) -> tuple[int, ...] | None:
        """Keys of the ticked findings of some kinds; None when that is all of them."""
        if self.examination is None:
            return None
        every = [f for f in (*self.examination.strays, *self.examination.openings) if f.kind in kinds]
        chosen = [f.key for f in every if self.is_ticked(f)]
        return None if len(chosen) == len(every) else tuple(chosen)


def _newest(buffers: dict[int, ViewBuffers]) -> dict[int, ViewBuffers]:
    """The newest buffers within the memory they may take; the last one in any case."""
    kept: dict[int, ViewBuffers] = {}
    room = _VIEW_MEMORY
    for key, value in reversed(buffers.items()):
        room -= value.nbytes
        if room < 0 and kept:
            break
        kept[key] = value
    return dict(reversed(kept.items()))


def _spill(job: Job) -> str:
    """Put old steps on the disk; what went wrong, if anything."""
    try:
        job.spill()
    except OSError as error:
        what = (error.strerror or str(error)).lower()
        return f"{job.keeper.folder}: {what}; older steps stay in memory. Make room on that disk"
    return ""


def _read_one(path: Path, index: int, count: int, progress: Progress) -> Scan:
    with progress.part(index / count, (index + 1) / count):
        return read_scan(path, None, progress)


def _examine_whole(mesh: Mesh, progress: Progress) -> tuple[Examination, ViewMarks]:
    """Examine, and work the findings' lists out while still off the window's thread."""
    examination = examine(mesh, progress)
    _ = examination.strays, examination.openings, examination.knots, examination.made_share
    return examination, make_marks(examination)
