"""The levels of a reduction in the window: one study, the level that is shown, and the areas that are held."""

import time
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import make_buffers, make_light_buffers, measure_for_view
from tinsnip.app.state.preview import Preview, StandIn
from tinsnip.app.state.session import Session
from tinsnip.app.state.worker import let_go
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.regions.grow import area_round
from tinsnip.survey.crossings import new_crossings
from tinsnip.survey.deviation import Deviation, largest_deviation
from tinsnip.treat import Context, Outcome, Reduce
from tinsnip.treat.reduce.curve import Curve, CurvePoint
from tinsnip.treat.reduce.record import Level, Record

__all__ = ["LevelView", "Levels", "Study"]


@dataclass(frozen=True, eq=False)
class Study:
    """One reduction carried all the way and recorded, and what its levels cost."""

    mesh: Mesh
    options: Reduce
    record: Record
    curve: Curve


@dataclass(frozen=True, eq=False, kw_only=True)
class LevelView(StandIn):
    """A level of a study as it is shown; the exact figures follow a moment later."""

    treatment: Reduce
    outcome: Outcome | None = None
    measured: Deviation | None = None


class Levels(QObject):
    """What is known of a reduction that is being chosen; a level is shown in place of the mesh."""

    studied = Signal()
    bounded = Signal()
    changed = Signal()
    none_within = Signal()
    held_ready = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.study: Study | None = None
        self.curve: Curve | None = None
        """The study's, with the bounds that were measured since."""
        self.shown: LevelView | None = None
        self._holds = 0
        self._region: Region | None = None
        session.mesh_changed.connect(self.forget)
        session.preview_left.connect(self.show_none)
        session.held_changed.connect(self._write_held)
        self._write_held()

    def _show(self, level: LevelView | None) -> None:
        self.shown = level
        self.session.show_stand_in(level)
        self.changed.emit()

    def ask_study(self, options: Reduce) -> None:
        """Work out all levels of a reduction behind the scenes, with the options given; its goal does not matter."""
        mesh, known = self.session.mesh, self.study
        if mesh is None or self.session.tasks.progress_of("study") is not None:
            return
        if known is not None and known.mesh is mesh and known.options.same_options(options):
            self.studied.emit()
            return
        self.study = None

        def done(result: object) -> None:
            if self.session.mesh is mesh:
                self.study = Study(mesh, options, *result)
                self.curve = self.study.curve
                self.studied.emit()

        def work(progress: Progress) -> tuple[Record, Curve]:
            return options.study(mesh, progress)

        self.session.tasks.behind("study", work, done)

    def hold_area(self, point: np.ndarray, radius: float) -> None:
        """Hold all triangles within a radius of a point, mm, besides those that are held already."""
        mesh = self.session.mesh
        if mesh is None:
            return

        def take(near: np.ndarray) -> None:
            if self.session.mesh is mesh:
                held = self.session.held
                self.session.hold(near if held is None else held | near)

        def work(progress: Progress) -> np.ndarray:
            return area_round(mesh, point, radius)

        self._holds += 1
        self.session.tasks.behind(f"hold {self._holds}", work, take)

    def _write_held(self) -> None:
        """Write what is held as a region, beside the window."""
        held, mesh = self.session.held, self.session.mesh
        self._region = None
        if held is None or mesh is None or not held.any():
            self.session.tasks.stop_behind("held region")
            return

        def take(region: Region) -> None:
            if self.session.held is held:
                self._region = region
                self.held_ready.emit()

        self.session.tasks.behind("held region", lambda p: Region.of(mesh, held), take)

    @property
    def is_held_ready(self) -> bool:
        """Whether what is held has been written as a region."""
        return self.session.held is None or self._region is not None

    def held_region(self) -> Region | None:
        """What is held of the present mesh."""
        return None if self.session.held is None else self._region

    def forget(self) -> None:
        """Stop working out levels, and drop what is known of them."""
        self.session.tasks.stop_behind("study", "level", "whole level", "measured level", "bound")
        gone, self.study, self.curve = self.study, None, None
        let_go(gone)

    def ask_bound(self, near: int) -> None:
        """Measure the bound of one more level of the curve, the nearest to a number of triangles, behind the scenes."""
        study, curve = self.study, self.curve
        count = None if study is None or study.mesh is not self.session.mesh else curve.unbounded_near(near)
        if count is None or self.session.tasks.progress_of("bound") is not None:
            return

        def work(progress: Progress) -> CurvePoint:
            level = study.record.level(count)
            found = largest_deviation(Mesh(level.vertices, level.faces), study.mesh, progress)
            return CurvePoint(count, found.max, found.p99, True)

        def done(point: CurvePoint) -> None:
            if self.study is study:
                self._take_bound(point)

        self.session.tasks.behind("bound", work, done)

    def stop_bounds(self) -> None:
        """Measure no more of the curve."""
        self.session.tasks.stop_behind("bound")

    def _take_bound(self, point: CurvePoint) -> None:
        self.curve = self.curve.with_bound(point)
        self.bounded.emit()

    def ask_within(self, deviation_mm: float) -> None:
        """Show the coarsest level that stays within a deviation, once it is found; the newest request wins."""
        study = self.study
        if study is None or study.mesh is not self.session.mesh:
            return
        treatment = study.options.model_copy(update={"max_deviation_mm": deviation_mm})
        begun = time.perf_counter()

        def work(progress: Progress) -> LevelView | None:
            found = treatment.level_within(study.mesh, study.record, study.curve, progress)
            if found is None:
                return None
            outcome = treatment.outcome_within(study.mesh, *found)
            buffers = make_buffers(outcome.mesh, progress)
            return LevelView(
                before=study.mesh, triangles=len(outcome.mesh.faces), buffers=buffers, treatment=treatment,
                outcome=outcome, measured=found[1],
            )  # fmt: skip

        def done(level: LevelView | None) -> None:
            if self.study is not study or self.session.mesh is not study.mesh:
                return
            if level is None:
                self.none_within.emit()
                return
            self._show(level)
            seconds = time.perf_counter() - begun
            self.session.show_preview(Preview(treatment, study.mesh, level.outcome, seconds))

        self.session.tasks.stop_behind("measured level", "whole level")
        self.session.tasks.latest("level", work, done)

    def ask(self, triangles: int, goal: Mapping[str, object] | None = None) -> None:
        """Show a level of the study in place of the mesh; the newest request wins.

        Parameters
        ----------
        triangles : int
        goal : mapping, optional
            What was asked for that comes to so many triangles, as fields of `Reduce`; the number itself by default.
        """
        study = self.study
        if study is None or study.mesh is not self.session.mesh:
            return
        treatment = study.options.model_copy(update=goal or {"triangles": triangles})
        begun = time.perf_counter()

        def quickly(progress: Progress) -> tuple[Level, LevelView | None]:
            level = study.record.level(triangles)
            light = make_light_buffers(level.vertices, level.faces, study.mesh, level.source, level.parent)
            if light is None:
                return level, None
            return level, LevelView(before=study.mesh, triangles=len(level.faces), buffers=light, treatment=treatment)

        def show(found: tuple[Level, LevelView | None]) -> None:
            level, light = found
            if self.study is not study or self.session.mesh is not study.mesh:
                return
            if light is not None:
                self._show(light)
            self.session.tasks.behind("whole level", lambda p: wholly(level, p), done)

        def wholly(level: Level, progress: Progress) -> LevelView:
            outcome = treatment.outcome_of(study.mesh, level)
            buffers = make_buffers(outcome.mesh, progress)
            return LevelView(
                before=study.mesh, triangles=len(level.faces), buffers=buffers, treatment=treatment, outcome=outcome
            )

        def done(level: LevelView) -> None:
            if self.study is study and self.session.mesh is study.mesh:
                self._show(level)
                seconds = time.perf_counter() - begun
                self.session.show_preview(Preview(treatment, study.mesh, level.outcome, seconds))

        self.session.tasks.stop_behind("measured level", "whole level")
        self.session.tasks.latest("level", quickly, show)

    def measure(self) -> None:
        """Measure the level that is shown, both ways, and look whether it crosses itself where the mesh did not.

        Where it does, another reduction to as many triangles takes its place, that holds what is there.
        """
        level, piece = self.shown, self.session.job.piece
        if level is None or piece is None or level.outcome is None or level.from_raw is not None:
            return
        raw, frame = piece.raw, piece.frame

        def work(progress: Progress) -> LevelView:
            clear = level
            with progress.part(0.0, 0.3):
                if len(new_crossings(level.before, level.outcome.mesh)):
                    outcome = level.treatment.apply(level.before, Context(progress))
                    clear = replace(
                        level, triangles=len(outcome.mesh.faces), outcome=outcome,
                        buffers=make_buffers(outcome.mesh, progress),
                    )  # fmt: skip
            with progress.part(0.3, 0.7):
                measured = clear.measured if clear is level else None
                if measured is None:
                    measured = largest_deviation(clear.outcome.mesh, level.before, progress)
            with progress.part(0.7, 1.0):
                found, places = measure_for_view(clear.outcome.mesh, raw, frame, progress)
                return replace(clear, measured=measured, from_raw=found, places=places)

        def done(measured: LevelView) -> None:
            if self.shown is level:
                self._show(measured)
                if self.study is not None and measured.triangles < self.study.record.most:
                    self._take_bound(CurvePoint(measured.triangles, measured.measured.max, measured.measured.p99, True))
                if measured.outcome is not level.outcome:
                    self.session.show_preview(Preview(level.treatment, level.before, measured.outcome, 0.0))

        self.session.tasks.behind("measured level", work, done)

    def show_none(self) -> None:
        """Show the present mesh again."""
        self.session.tasks.stop_behind("level", "whole level", "measured level")
        if self.shown is not None:
            gone = self.shown
            self._show(None)
            let_go(gone)
