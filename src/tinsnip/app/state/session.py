"""The window's one state: a job, what is chosen, what is previewed.

Views listen to its signals and call its methods; they never talk to each other.
"""

import time
from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers, ViewMarks
from tinsnip.app.state.exporting import Exporting
from tinsnip.app.state.hiding import Plan, find_hidden, performer
from tinsnip.app.state.history import History
from tinsnip.app.state.judging import Judging
from tinsnip.app.state.known import Known, Measured
from tinsnip.app.state.layering import Layering
from tinsnip.app.state.lists import Lists
from tinsnip.app.state.numbering import Numbering
from tinsnip.app.state.opening import Opening
from tinsnip.app.state.outside import Outside
from tinsnip.app.state.preparing import Preparation
from tinsnip.app.state.preview import Preview, StandIn
from tinsnip.app.state.reference import References
from tinsnip.app.state.selected import Selected
from tinsnip.app.state.tasks import Tasks
from tinsnip.app.state.ticks import Ticks
from tinsnip.app.state.together import Together
from tinsnip.app.state.worker import in_passing
from tinsnip.errors import BadInput, HiddenInTheWay
from tinsnip.job import (
    Action,
    CopyAsVariant,
    Job,
    Keeper,
    Open,
    Piece,
    Remove,
    Rename,
    Routine,
    SetUnit,
    Step,
    default_budget,
    step_of_outcome,
)
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.deviation import FromRaw
from tinsnip.treat import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Lists", "Session", "close_keeper"]


class Session(QObject):
    """Job, choices and preview, with signals.

    Parameters
    ----------
    stations : sequence of Lists
        In the order of the work; the first is open at first.
    """

    mesh_changed = Signal()
    log_changed = Signal()
    buffers_ready = Signal(object)
    examined = Signal()
    station_changed = Signal(str)
    ticks_changed = Signal()
    preview_changed = Signal()
    preview_left = Signal()
    stand_in_changed = Signal()
    held_changed = Signal()
    fly_to = Signal(object)
    hovered = Signal(object)
    message = Signal(str, bool)
    job_left = Signal()
    reframed = Signal()
    pieces_changed = Signal()
    others_changed = Signal()
    from_raw_changed = Signal()
    raw_ready = Signal()
    hidden_met = Signal(str, object)
    stepped = Signal()

    def __init__(self, stations: Sequence[Lists]) -> None:
        super().__init__()
        self.job = Job()
        self.tasks = Tasks()
        self.tasks.message.connect(self.message)
        self.preparation = Preparation()
        self.known = Known(self.tasks)
        self.known.buffers_came.connect(self._take_buffers)
        self.known.examined.connect(self._take_examination)
        self.known.measured.connect(self._take_measured)
        self.ticks = Ticks()
        self.numbering = Numbering()
        self.judging = Judging(self)
        self.opening = Opening(self)
        self.history = History(self)
        self.exporting = Exporting(self)
        self.layering = Layering(self)
        self.references = References(self)
        self.references.measured.connect(self.from_raw_changed)
        self.outside = Outside(self)
        self.selected = Selected()
        self.together = Together(self)
        self.together.changed.connect(self.preview_changed)
        self.selected.carried.connect(lambda: find_hidden(self.selected, self.tasks))
        self.undo_share = 0.25
        self._stations = {station.name: station for station in stations}
        self.station = next(iter(self._stations))
        self.preview: Preview | None = None
        self.stand_in: StandIn | None = None
        self.held: np.ndarray | None = None
        self.looking_back: int | None = None
        """Where the job stands while an earlier step is only looked at."""

    # ---- the present mesh, and what is known of it

    @property
    def mesh(self) -> Mesh | None:
        """The present mesh of the active piece."""
        return self.job.piece.mesh if self.job.piece else None

    @property
    def examination(self) -> Examination | None:
        """What was found on the present mesh; None while it is being looked over."""
        return self.known.examination_of(self.mesh)

    @property
    def marks(self) -> ViewMarks | None:
        """What the shells of the present mesh are, for the view."""
        return self.known.marks_of(self.mesh)

    @property
    def from_raw(self) -> FromRaw | None:
        """The present mesh's deviation from its raw scan, once it is measured."""
        known = self.known.measured_of(self.mesh)
        return None if known is None else known.from_raw

    @property
    def places(self) -> ViewBuffers | None:
        """Buffers of where that was measured, if it is not the mesh itself."""
        known = self.known.measured_of(self.mesh)
        return None if known is None else known.places

    @property
    def is_as_opened(self) -> bool:
        """Whether nothing was done but opening scans."""
        return all(isinstance(step.action, Open) for step in self.job.log)

    # ---- another job

    def take_job(self, job: Job) -> None:
        """Let the job go, and work on another."""
        self.job_left.emit()
        close_keeper(self.job.keeper)
        self.job = job
        self.set_undo_memory(self.undo_share)
        self.numbering = Numbering()
        self.selected.forget()
        self.known.forget()
        self.reframed.emit()

    def open_first_station(self) -> None:
        """Begin at the beginning."""
        self.set_station(next(iter(self._stations)))

    # ---- pieces

    def set_active(self, number: int, reframe: bool = True) -> None:
        """Work on another piece, and show all of it unless the view shall stay as it is."""
        if number in self.job.present and number != self.job.active and not self.is_busy("change the piece"):
            self.job.active = number
            self.take_changes()
            if reframe:
                self.reframed.emit()

    def set_visible(self, number: int, on: bool) -> None:
        """Show or hide a piece."""
        if not on and number == self.job.active:
            self.message.emit("the piece worked on is always shown; click another one first", True)
        else:
            (self.job.hidden.discard if on else self.job.hidden.add)(number)
        self.pieces_changed.emit()
        self._prepare_others()

    def set_unit(self, unit: str) -> None:
        """Take the active scan's numbers to be in another unit."""
        piece = self.job.piece
        if piece is not None and piece.scan.unit != unit:
            self.do(SetUnit(unit=unit))
            self.reframed.emit()

    def rename(self, number: int, name: str) -> None:
        """Give a piece another name."""
        name = name.strip()[:200]
        if name and number in self.job.present:
            self.do(Rename(to=name), (number,))

    def remove(self, number: int) -> None:
        """Take a piece out of the job."""
        if number in self.job.present:
            self.do(Remove(), (number,))

    def copy_as_variant(self) -> None:
        """Copy the active piece as it is now."""
        if self.job.piece is not None:
            self.do(CopyAsVariant())

    # ---- work

    def apply(self, treatment: Treatment) -> None:
        """Apply a treatment to the active piece; at once when its preview stands."""
        piece = self.job.piece
        if piece is None:
            return
        known = self.preview
        protects = self.selected.hidden_on is not None  # then it has to be seen that nothing hidden is touched
        if not protects and known is not None and known.before is piece.mesh and known.treatment == treatment:
            self.enter([step_of_outcome(treatment, piece, known.outcome, known.seconds)])
            return
        self.do(treatment)

    def do(self, action: Action, on: Sequence[int] | None = None) -> None:
        """Do anything to the active piece, or to others; it becomes a step of the log."""
        self.do_all([action], on)

    def do_made(self, title: str, make: Callable[[], Action]) -> None:
        """Do what a function makes, which may take its time."""
        if self.job.piece is not None:
            self.run_plan([(make, (self.job.active,))], title)

    def do_all(self, actions: Sequence[Action], on: Sequence[int] | None = None) -> None:
        """Do several things one after another; each is a step of its own in the log."""
        if self.job.piece is None:
            return
        on = (self.job.active,) if on is None else tuple(on)
        self.run_plan([(action, on) for action in actions], actions[0].title)

    def is_busy(self, what: str) -> bool:
        """Whether something is waited for, so that something else cannot be done; said if so."""
        if self.tasks.busy is not None:
            self.message.emit(f"{self.tasks.title} is still going on; {what} after it, or cancel it", True)
        return self.tasks.busy is not None

    def looks_back(self) -> bool:
        """Whether an earlier step is only looked at; what is done then would cost all that followed it."""
        if self.looking_back is not None:
            self.message.emit("a step of the log is open: do it again, or leave it as it was (Esc), first", True)
        return self.looking_back is not None

    def run_plan(self, plan: Plan, title: str) -> None:
        """Do things to pieces one after another, off the window's thread; they are entered when all are done."""
        if self.looks_back():
            return
        pieces, next_id = dict(self.job.present), self.job.next_id
        active, hidden_on = self.job.active, self.selected.hidden_on

        work = performer(plan, pieces, next_id, active, hidden_on)

        def done(steps: list[Step] | HiddenInTheWay) -> None:
            if isinstance(steps, HiddenInTheWay):
                self.hidden_met.emit(str(steps), lambda: self._show_all_and_do(plan, title))
            elif all(self.job.present.get(i) is piece for i, piece in pieces.items()):
                self.enter(steps)

        self.tasks.foreground(title, work, done)

    def _show_all_and_do(self, plan: Plan, title: str) -> None:
        self.selected.hide(None)
        self.run_plan(plan, title)

    def enter(self, steps: list[Step]) -> None:
        """Enter steps that were worked out on the pieces as they are."""
        before, undone = self.job.active, len(self.job.log) - self.job.cursor
        try:
            entered = [self.job.enter(step) for step in steps]
        except BadInput as error:
            self.message.emit(str(error), True)
            return
        text = "; ".join(step.text for step in steps)
        if undone and any(entered):
            text += f"; {counted(undone, 'undone step is', 'undone steps are')} gone from the log"
        for step in steps:
            if isinstance(step.action, CopyAsVariant):  # it lies where the copy lies
                self.job.hidden.add(step.on[0])
        if any(entered):
            self.take_changes(stepped=True)
        else:
            self.cancel_preview()
        self.say_with_piece(text, before if before not in self.job.present else self.job.active)

    def say_with_piece(self, text: str, before: int) -> None:
        """Say what was done, and loudly if another piece is worked on now."""
        piece = self.job.piece
        is_other = piece is not None and before != piece.id
        told = [text] * bool(text) + ([f"now on {piece.name}"] if is_other else [])
        self.message.emit("; ".join(told), is_other)

    def ask_preview(self, treatment: Treatment) -> None:
        """Work a treatment out behind the scenes, to be looked at before it is applied."""
        piece = self.job.piece
        if piece is None:
            return
        mesh, raw = piece.mesh, piece.raw
        if self.preview is not None and self.preview.before is mesh and self.preview.treatment == treatment:
            return
        begun = time.perf_counter()

        def done(outcome: Outcome) -> None:
            if self.mesh is mesh:
                self.show_preview(Preview(treatment, mesh, outcome, time.perf_counter() - begun))

        def work(progress: Progress) -> Outcome:
            return treatment.apply(mesh, Context(progress, raw, piece.frame))

        self.tasks.behind("preview", work, done)

    def show_preview(self, preview: Preview) -> None:
        """Let a treatment that has been worked out be looked at."""
        self.preview = preview
        self.preview_changed.emit()

    def show_stand_in(self, stand_in: StandIn | None) -> None:
        """Show something in place of the present mesh, such as a level of a reduction; None: no more."""
        self.stand_in = stand_in
        self.stand_in_changed.emit()

    def hold(self, triangles: np.ndarray | None) -> None:
        """Hold triangles of the present mesh, bool, shape (F,); None: none."""
        if self.held is not None or triangles is not None:
            self.held = triangles
            self.held_changed.emit()

    def cancel_preview(self) -> None:
        """Leave a preview without a trace."""
        self.tasks.stop_behind("preview")
        self.preview_left.emit()
        if self.together.leave() or self.preview is not None:
            self.preview = None
            self.preview_changed.emit()

    def run_routine(self, routine: Routine, on: Sequence[int]) -> None:
        """Run a routine on pieces, one after another; each of its steps is one of the log."""
        try:
            steps = [step.make() for step in routine.steps if step.enabled]
        except BadInput as error:
            self.message.emit(str(error), True)
            return
        if steps and on:
            self.run_plan([(step, (i,)) for i in on for step in steps], f"Routine {routine.name}")

    def take_changes(self, stepped: bool = False) -> None:
        """The mesh is another one: drop what belonged to the old, and work out the new."""
        self.job.hidden.discard(self.job.active)
        self.ticks.clear()
        self.cancel_preview()
        self.hold(None)
        piece = self.job.piece
        self.selected.belong_to(self.mesh)
        self.mesh_changed.emit()
        self.log_changed.emit()
        self.pieces_changed.emit()
        self.tidy_up()
        if piece is not None:
            self.known.ask_buffers(piece.mesh, "the part")
        self._prepare_others()
        if piece is not None:
            self.known.ask_examination(piece.mesh)
        if stepped:
            self.stepped.emit()

    def tidy_up(self) -> None:
        """Let go of what is known of meshes that are in memory no more."""
        self.known.keep_only(self.job.resident(), [piece.mesh for piece in self.shown_pieces()])

    def _prepare_others(self) -> None:
        """Make the visible pieces that are not worked on ready to be drawn."""
        for piece in self.job.pieces:
            if piece.id != self.job.active and self.job.is_visible(piece.id):
                if self.known.buffers_of(piece.mesh) is None:
                    self.known.ask_buffers(piece.mesh, f"piece {piece.id}")
        self.others_changed.emit()

    def set_undo_memory(self, share: float) -> None:
        """Let steps gone by take up to a share of the machine's memory; beyond it they are on the disk only."""
        self.undo_share = share
        self.job.keeper.budget = int(4 * share * default_budget())

    def shown_pieces(self) -> list[Piece]:
        """The active piece, and the others that are shown."""
        return [p for p in self.job.pieces if p.id == self.job.active or self.job.is_visible(p.id)]

    def others(self) -> list[ViewBuffers]:
        """What is drawn besides the active piece."""
        shown = [p.mesh for p in self.shown_pieces() if p.id != self.job.active]
        return [buffers for mesh in shown if (buffers := self.known.buffers_of(mesh)) is not None]

    def _take_buffers(self, mesh: Mesh) -> None:
        piece = self.job.piece
        if piece is None:
            return
        if mesh is piece.mesh:
            self.buffers_ready.emit(self.known.buffers_of(mesh))
        else:
            self.others_changed.emit()
        if mesh is piece.raw:
            self.raw_ready.emit()

    def _take_examination(self, mesh: Mesh) -> None:
        if mesh is self.mesh:
            self.ticks.belong_to(self.examination)
            self.examined.emit()
            self.known.ask_measured(self.job.piece)
            self.known.ask_crossings(mesh)

    def _take_measured(self, mesh: Mesh) -> None:
        if mesh is self.mesh:
            self.from_raw_changed.emit()

    def measured(self) -> Measured | None:
        """The deviation of what is shown, and where it was measured."""
        if self.stand_in is not None:
            level = self.stand_in
            return None if level.from_raw is None else Measured(level.from_raw, level.places)
        return self.references.now()

    def ask_raw(self) -> None:
        """Make the raw scan of the active piece ready to be drawn."""
        if self.job.piece is not None:
            self.known.ask_buffers(self.job.piece.raw, "the raw scan")

    def raw_buffers(self) -> ViewBuffers | None:
        """The raw scan's buffers, once they are ready."""
        return None if self.job.piece is None else self.known.buffers_of(self.job.piece.raw)

    # ---- choices

    def set_station(self, name: str) -> None:
        """Open a station; a name that none has opens the first."""
        name = name if name in self._stations else next(iter(self._stations))
        if name != self.station:
            self.cancel_preview()
        self.station = name
        self.station_changed.emit(name)

    @property
    def shows_shells(self) -> bool:
        """Whether voids shine through the part in the open station."""
        return self._stations[self.station].shows_shells

    def findings(self, station: str | None = None) -> list[Finding]:
        """What a station lists."""
        found = self.examination
        if found is None:
            return []
        return self.numbering.named(found, self._stations[station or self.station].findings(found))

    def is_ticked(self, finding: Finding) -> bool:
        """Whether a finding takes part in its station's treatment."""
        return self.ticks.is_on(finding)

    def tick(self, findings: list[Finding], on: bool) -> None:
        """Tick or untick findings."""
        self.ticks.set(findings, on)
        self.ticks_changed.emit()

    def show_ticks_again(self, toggled: object) -> None:
        """Tick as a saved job was ticked; what is none is left out."""
        self.ticks.show_again(toggled)
        self.ticks_changed.emit()

    def ticked_keys(self, kinds: tuple[Kind, ...]) -> tuple[int, ...] | None:
        """Keys of the ticked findings of some kinds; None when that is all of them."""
        return self.ticks.keys(self.examination, kinds)


def close_keeper(keeper: Keeper) -> None:
    """Let a job's file go, off the window's thread: something may still be being written there."""
    in_passing(keeper.close)
