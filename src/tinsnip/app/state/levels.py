"""The levels of a reduction in the window: one study, the level that is shown, and the areas that are held."""

import time
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers, make_buffers, make_light_buffers, measure_for_view
from tinsnip.app.state.preview import Preview
from tinsnip.app.state.worker import let_go
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.progress import Progress
from tinsnip.survey.deviation import Deviation, FromRaw, largest_deviation
from tinsnip.treat import Context, Outcome, Reduce
from tinsnip.treat.reduce.curve import Curve
from tinsnip.treat.reduce.record import Level, Record
from tinsnip.treat.reduce.reduce import new_crossings

if TYPE_CHECKING:
    from tinsnip.app.state.session import Session

__all__ = ["LevelView", "Levels", "Study"]


@dataclass(frozen=True, eq=False)
class Study:
    """One reduction carried all the way and recorded, and what its levels cost."""

    mesh: Mesh
    options: Reduce
    record: Record
    curve: Curve


@dataclass(frozen=True, eq=False)
class LevelView:
    """A level of a study as it is shown; the exact figures follow a moment later."""

    treatment: Reduce
    before: Mesh
    triangles: int
    buffers: ViewBuffers
    outcome: Outcome | None = None
    measured: Deviation | None = None
    from_raw: FromRaw | None = None
    places: ViewBuffers | None = None


class Levels(QObject):
    """What the session knows of a reduction that is being chosen."""

    studied = Signal()
    changed = Signal()
    held_changed = Signal()

    def __init__(self, session: "Session") -> None:
        super().__init__()
        self.session = session
        self.study: Study | None = None
        self.shown: LevelView | None = None
        self.held: np.ndarray | None = None

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
                self.studied.emit()

        self.session.tasks.behind("study", lambda p: options.study(mesh, p), done)

    def hold_area(self, point: np.ndarray, radius: float) -> None:
        """Hold all triangles within a radius of a point, mm, besides those that are held already."""
        mesh = self.session.mesh
        if mesh is None:
            return

        def take(near: np.ndarray) -> None:
            if self.session.mesh is mesh:
                self.held = near if self.held is None else self.held | near
                self.held_changed.emit()

        def work(progress: Progress) -> np.ndarray:
            return triangles_at(mesh.faces, ((mesh.vertices - point) ** 2).sum(axis=1) <= radius**2)

        self.session.tasks.behind("hold", work, take)

    def let_go_of_areas(self) -> None:
        """Hold nothing any more."""
        if self.held is not None:
            self.held = None
            self.held_changed.emit()

    def held_spans(self) -> tuple[tuple[int, int], ...]:
        """The held triangles as spans, first and one past the last."""
        if self.held is None:
            return ()
        ends = np.flatnonzero(np.diff(np.concatenate([[0], self.held.astype(np.int8), [0]])))
        return tuple((int(a), int(b)) for a, b in ends.reshape(-1, 2))

    def forget(self) -> None:
        """Stop working out levels, and drop what is known of them."""
        self.session.tasks.stop_behind("study", "level", "whole level", "measured level")
        gone, self.study = self.study, None
        let_go(gone)

    def ask(self, triangles: int) -> None:
        """Show a level of the study in place of the mesh; the newest request wins."""
        study = self.study
        if study is None or study.mesh is not self.session.mesh:
            return
        treatment = study.options.model_copy(update={"triangles": triangles})
        begun = time.perf_counter()

        def quickly(progress: Progress) -> tuple[Level, LevelView | None]:
            level = study.record.level(triangles)
            light = make_light_buffers(level.vertices, level.faces, study.mesh, level.source, level.parent)
            return level, LevelView(treatment, study.mesh, len(level.faces), light) if light is not None else None

        def show(found: tuple[Level, LevelView | None]) -> None:
            level, light = found
            if self.study is not study or self.session.mesh is not study.mesh:
                return
            if light is not None:
                self.shown = light
                self.changed.emit()
            self.session.tasks.behind("whole level", lambda p: wholly(level, p), done)

        def wholly(level: Level, progress: Progress) -> LevelView:
            outcome = treatment.outcome_of(study.mesh, level)
            buffers = make_buffers(outcome.mesh, progress)
            return LevelView(treatment, study.mesh, len(level.faces), buffers, outcome)

        def done(level: LevelView) -> None:
            if self.study is study and self.session.mesh is study.mesh:
                self.shown = level
                self.changed.emit()
                seconds = time.perf_counter() - begun
                self.session.show_preview(Preview(treatment, study.mesh, level.outcome, seconds))

        self.session.tasks.stop_behind("measured level", "whole level")
        self.session.tasks.latest("level", quickly, show)

    def measure(self) -> None:
        """Measure the level that is shown, both ways, and look whether it crosses itself where the mesh did not.

        Where it does, another reduction to as many triangles takes its place, that holds what is there.
        """
        level, piece = self.shown, self.session.job.piece
        if level is None or piece is None or level.outcome is None or level.measured is not None:
            return
        raw, frame = piece.raw, self.session.job.frame(self.session.job.active)

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
                measured = largest_deviation(clear.outcome.mesh, level.before, progress)
            with progress.part(0.7, 1.0):
                found, places = measure_for_view(clear.outcome.mesh, raw, frame, progress)
                return replace(clear, measured=measured, from_raw=found, places=places)

        def done(measured: LevelView) -> None:
            if self.shown is level:
                self.shown = measured
                self.changed.emit()
                if measured.outcome is not level.outcome:
                    self.session.show_preview(Preview(level.treatment, level.before, measured.outcome, 0.0))

        self.session.tasks.behind("measured level", work, done)

    def show_none(self) -> None:
        """Show the present mesh again."""
        self.session.tasks.stop_behind("level", "whole level", "measured level")
        if self.shown is not None:
            gone, self.shown = self.shown, None
            self.changed.emit()
            let_go(gone)
