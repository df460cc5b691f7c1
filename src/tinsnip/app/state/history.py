"""Back and forth through a job's log: undo, redo, and straight to a line of it."""

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.tasks import Tasks
from tinsnip.errors import BadInput
from tinsnip.job import Job, Piece

__all__ = ["History"]


class _Session(Protocol):
    """What is asked of the session."""

    job: Job
    tasks: Tasks
    message: Signal
    reframed: Signal

    def is_busy(self, what: str) -> bool: ...
    def looks_back(self) -> bool: ...
    def take_changes(self, stepped: bool = False) -> None: ...
    def say_with_piece(self, text: str, before: int) -> None: ...


class History(QObject):
    """What goes through the log."""

    def __init__(self, session: _Session) -> None:
        super().__init__()
        self._session = session

    def undo(self) -> None:
        """Take back the last step, or the last change of the log."""
        session, job = self._session, self._session.job
        if job.can_undo and not session.is_busy("undo") and not session.looks_back():
            self._go(job.states_after_undo(True), job.undo, f"Undone: {job.next_undo()}")

    def redo(self) -> None:
        """Do again what was taken back last."""
        session, job = self._session, self._session.job
        if job.can_redo and not session.is_busy("redo") and not session.looks_back():
            self._go(job.states_after_undo(False), job.redo, f"Redone: {job.next_redo()}")

    def go_to(self, cursor: int) -> None:
        """Go to a line of the log."""
        job = self._session.job
        if cursor != job.cursor and not self._session.is_busy("go there"):
            self._go(job.states_at(cursor), lambda: job.go_to(cursor), "")

    def _go(self, states: dict[int, Piece], arrive: Callable[[], None], text: str) -> None:
        """Go through the log; what is on the disk is read back first, off the window's thread."""
        session = self._session

        def go(fetched: object) -> None:
            del fetched
            active, present = session.job.active, frozenset(session.job.present)
            try:
                arrive()
            except (OSError, BadInput) as error:
                session.message.emit(f"{error}; the job stands where it was", True)
                return
            session.take_changes(stepped=True)
            session.say_with_piece(text, active if active in present else session.job.active)
            if active != session.job.active or not present:
                session.reframed.emit()

        if session.job.are_at_hand(states):
            go(None)
        else:  # the meshes are held until they are shown
            session.tasks.foreground(
                "Bringing the step back", lambda p: [m for s in states.values() for m in (s.mesh, s.raw)], go
            )
