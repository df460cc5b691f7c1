"""The window is closed only when nothing is lost by it: what is going on is asked about, what is not saved too."""

from typing import Protocol

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from tinsnip.app.frame.batchpage import BatchPage
from tinsnip.app.frame.opening import JobFiles
from tinsnip.app.state.saving import Saving
from tinsnip.app.state.session import Session
from tinsnip.app.widgets.question import ask

__all__ = ["Leaving"]


class _Window(Protocol):
    """What is asked of the window."""

    session: Session
    saving: Saving
    opening: JobFiles
    batch: BatchPage | None

    def close(self) -> bool: ...


class Leaving:
    """What asks before the window is closed.

    Parameters
    ----------
    window : Window
    parent : QWidget
        The same, as what questions stand over.
    """

    def __init__(self, window: _Window, parent: QWidget) -> None:
        self._window = window
        self._parent = parent
        self._is_agreed = False

    def may_close(self) -> bool:
        """Whether the window may be closed at once; what stands in the way has been asked about else."""
        window = self._window
        if window.session.tasks.busy is not None:
            self._ask_about_work()
            return False
        if not self._is_agreed and window.saving.unsaved:
            window.opening.before_losing(self._agree)
            return False
        return window.batch is None or not window.batch.is_running or self._may_stop_batch(window.batch)

    def _may_stop_batch(self, batch: BatchPage) -> bool:
        """Whether scans that are being worked on may be left; what is done of them stays done."""
        go, stay = "Stop it and quit", "Go on working"
        text, about = "Scans are being worked on by a routine.", "What is done stays; the rest can go on later."
        if ask(self._parent, "Many scans", text, about, (go, stay), stay, stay) == stay:
            return False
        batch.stop()
        return True

    def _ask_about_work(self) -> None:
        """The window is to be closed while something is being done or written."""
        tasks = self._window.session.tasks
        wait, cancel, stay = "Finish it, then quit", "Cancel it and quit", "Go on working"
        text, about = f"{tasks.title} is still going on.", "Cancelled, nothing of it is left behind."
        answer = ask(self._parent, "Quit", text, about, (wait, cancel, stay), wait, stay)
        if answer == stay:
            return
        if answer == cancel and tasks.busy is not None:
            tasks.busy.progress.cancel()
        tasks.once_free(self._close_later)

    def _agree(self) -> None:
        self._is_agreed = True
        self._close_later()

    def _close_later(self) -> None:
        QTimer.singleShot(0, self._window.close)  # closing within closing would mean nothing
