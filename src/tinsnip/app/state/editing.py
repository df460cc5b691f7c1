"""Going back into the log: a step is changed, moved or switched off, and what follows is done again."""

from collections.abc import Sequence
from dataclasses import replace

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.session import Session
from tinsnip.job import Action, Planned, Replayed, plan_of, replay
from tinsnip.job.bookkeeping import Noted, Open
from tinsnip.progress import Progress

__all__ = ["Editing", "Halt"]


class Halt:
    """A log that could not be done again to its end, and how to go on without the step it stopped at."""

    def __init__(self, plan: list[Planned], found: Replayed, text: str, cursor: int) -> None:
        self.plan, self.found, self.text, self.cursor = plan, found, text, cursor

    @property
    def number(self) -> int:
        """The step it stopped at, counted from 1."""
        return self.found.stopped + 1


class Editing(QObject):
    """Changes the session's log; all of it beside the window, and undone like a step."""

    changed = Signal()
    halted = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._number: int | None = None
        self._back_to = 0
        session.job_left.connect(self._forget)

    @property
    def number(self) -> int | None:
        """The step that is open, counted from 0."""
        return self._number

    @number.setter
    def number(self, number: int | None) -> None:
        self._number = number
        self._session.looking_back = None if number is None else self._back_to

    @staticmethod
    def can_edit(action: Action) -> bool:
        """Whether there is anything to change in what was done."""
        return not isinstance(action, Open | Noted) and bool(type(action).model_fields)

    def begin(self, number: int) -> None:
        """Open a step, counted from 0: the view shows the part before it."""
        job = self._session.job
        if self._session.tasks.busy is not None or not 0 <= number < len(job.log):
            return
        if not self.can_edit(job.log[number].action):
            self._session.message.emit(f"there is nothing to change in step {number + 1}", True)
            return
        if self.number is None:
            self._back_to = job.cursor
        self.number = number
        self._session.history.go_to(number)
        self.changed.emit()

    def leave(self) -> None:
        """Leave the step as it was, and go back to where the job stood."""
        if self.number is not None:
            self.number = None
            self._session.history.go_to(self._back_to)
            self.changed.emit()

    def stay(self) -> None:
        """Leave the step as it was, but stay where the view is."""
        if self.number is not None:
            self.number = None
            self.changed.emit()

    def _forget(self) -> None:
        if self.number is not None:
            self.number = None
            self.changed.emit()

    def change(self, action: Action) -> None:
        """Do the step that is open with other values, and all that follow it again."""
        number, cursor = self.number, self._back_to
        if number is None:
            return
        plan = plan_of(self._session.job)
        if action == plan[number].action:
            self.leave()
            return
        plan[number] = replace(plan[number], action=action)
        self._replay(plan, f"Changed step {number + 1}, {action.title.lower()}", max(cursor, number + 1))

    def set_enabled(self, number: int, on: bool) -> None:
        """Switch a step off, or on again."""
        job = self._session.job
        if not 0 <= number < len(job.log) or isinstance(job.log[number].action, Open):
            return
        plan = plan_of(job)
        if plan[number].enabled != on:
            plan[number] = replace(plan[number], enabled=on)
            what = "on" if on else "off"
            self._replay(plan, f"Switched step {number + 1} {what}", max(self._stand(), number + 1))

    def move(self, number: int, by: int) -> None:
        """Do a step earlier (-1) or later (1)."""
        job = self._session.job
        to = number + by
        if not (0 <= number < len(job.log) and 0 <= to < len(job.log)):
            return
        plan = plan_of(job)
        if any(isinstance(plan[i].action, Open) for i in (number, to)):
            self._session.message.emit("a step cannot come before the scan it is done to was opened", True)
            return
        plan[number], plan[to] = plan[to], plan[number]
        self._replay(plan, f"Moved step {number + 1} to {to + 1}", max(self._stand(), max(number, to) + 1))

    def _stand(self) -> int:
        return self._session.job.cursor if self.number is None else self._back_to

    def without(self, halt: Halt) -> None:
        """Go on without the step that a log stopped at."""
        plan = list(halt.plan)
        plan[halt.found.stopped] = replace(plan[halt.found.stopped], enabled=False)
        self._replay(plan, f"{halt.text}, without step {halt.number}", halt.cursor)

    def _replay(self, plan: Sequence[Planned], text: str, cursor: int) -> None:
        session, job, plan = self._session, self._session.job, list(plan)
        log, start, next_id = list(job.log), dict(job.start), job.next_id

        def work(progress: Progress) -> Replayed:
            return replay(start, plan, next_id, progress)

        def done(found: Replayed) -> None:
            if session.job is not job or [id(s) for s in job.log] != [id(s) for s in log]:
                return
            if found.stopped is not None:
                self.halted.emit(Halt(plan, found, text, cursor))
                return
            stood = self._stand()
            self.number = None
            job.replace_log(found.steps, min(cursor, len(found.steps)), text, stood)
            session.message.emit(text, False)
            session.take_changes(stepped=True)
            self.changed.emit()

        session.tasks.foreground("Doing the log again", work, done)
