"""Work beside the window: functions run in a pool of threads and report back by signals."""

import logging
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, Qt, QThreadPool, Signal, Slot

from tinsnip.errors import Cancelled, TinsnipError
from tinsnip.progress import Progress

__all__ = ["Task", "start"]


class Task(QObject):
    """One piece of work; `progress` may be read and cancelled from the window's thread.

    Parameters
    ----------
    work : callable
        Gets the `Progress`; runs on a pool thread.
    done, failed, cancelled : callable
        Called on the window's thread: with the result, with a line of text, with nothing.
    """

    _ended = Signal(str, object)

    def __init__(
        self,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None],
        failed: Callable[[str], None],
        cancelled: Callable[[], None],
    ) -> None:
        super().__init__()
        self.progress = Progress()
        self._work = work
        self._calls = {"done": done, "failed": failed, "cancelled": lambda _: cancelled()}
        self._ended.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    def run(self) -> None:
        """Do the work; called on a pool thread."""
        try:
            result = self._work(self.progress)
            self.progress.check()
        except Cancelled:
            self._ended.emit("cancelled", None)
        except TinsnipError as error:
            self._ended.emit("failed", str(error))
        except MemoryError:
            self._ended.emit("failed", "not enough memory for this step; reduce the scan or close other programs")
        except Exception as error:  # nothing that goes wrong may take the job with it
            logging.getLogger("tinsnip").exception("a step failed")
            self._ended.emit("failed", f"the step failed and changed nothing ({type(error).__name__}: {error})")
        else:
            self._ended.emit("done", result)

    @Slot(str, object)
    def _deliver(self, how: str, what: Any) -> None:
        self._calls[how](what)


class _Runner(QRunnable):
    def __init__(self, task: Task) -> None:
        super().__init__()
        self.task = task

    @Slot()
    def run(self) -> None:
        self.task.run()


def start(task: Task) -> Task:
    """Run a task on the pool."""
    QThreadPool.globalInstance().start(_Runner(task))
    return task
