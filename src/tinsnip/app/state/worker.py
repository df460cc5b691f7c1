"""Work beside the window: functions run on a few threads and report back on the window's own.

No Qt object is ever touched, or thrown away, on a worker thread: tasks are plain Python, results come back through
one relay that lives for good, and Python's cycle collector, which may free Qt objects, runs on the window's
thread only.
"""

import contextlib
import gc
import logging
import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal, Slot

from tinsnip.errors import Cancelled, TinsnipError
from tinsnip.progress import Progress

__all__ = ["Task", "keep_collecting_here", "let_go", "start"]


class Task:
    """One piece of work; `progress` may be read and cancelled from the window's thread.

    Parameters
    ----------
    work : callable
        Gets the `Progress`; runs on a worker thread.
    done, failed, cancelled : callable
        Called on the window's thread: with the result, with a line of text, with nothing.
    """

    def __init__(
        self,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None],
        failed: Callable[[str], None],
        cancelled: Callable[[], None],
    ) -> None:
        self.progress = Progress()
        self.work = work
        self.calls = {"done": done, "failed": failed, "cancelled": lambda _: cancelled()}

    def run(self) -> tuple[str, Any]:
        """Do the work; how it ended, and with what."""
        try:
            with self.progress.at_work():
                result = self.work(self.progress)
            self.progress.check()
        except Cancelled:
            return "cancelled", None
        except TinsnipError as error:
            return "failed", str(error)
        except MemoryError:
            return "failed", "not enough memory for this step; reduce the scan or close other programs"
        except Exception as error:  # nothing that goes wrong may take the job with it
            logging.getLogger("tinsnip").exception("a step failed")
            return "failed", f"the step failed and changed nothing ({type(error).__name__}: {error})"
        return "done", result


class _Relay(QObject):
    """Carries results over to the window's thread."""

    ended = Signal(object, str, object)

    def __init__(self) -> None:
        super().__init__()
        self.ended.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    @Slot(object, str, object)
    def _deliver(self, task: Task, how: str, what: Any) -> None:
        task.calls[how](what)


def _step_back() -> None:
    """Let the window's own thread go first; threads started from this one follow it."""
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)


_pool = ThreadPoolExecutor(4, thread_name_prefix="tinsnip", initializer=_step_back)
_relay: _Relay | None = None


def start(task: Task) -> Task:
    """Run a task; must be called on the window's thread."""
    global _relay
    if _relay is None:
        _relay = _Relay()
    relay = _relay
    _pool.submit(lambda: relay.ended.emit(task, *task.run()))
    return task


def let_go(*things: Any) -> None:
    """Have large things freed on a worker thread; nothing of Qt may be among them, nor in what they alone hold."""
    held = [things]
    del things

    def free() -> None:
        time.sleep(0.05)  # by then the caller has let go too
        held.clear()

    _pool.submit(free)


def keep_collecting_here(parent: QObject) -> None:
    """Let Python's cycle collector run on this thread only, in the moments between events."""
    gc.disable()
    gc.collect()
    gc.freeze()
    timer = QTimer(parent, interval=500)

    def collect() -> None:
        counts, limits = gc.get_count(), gc.get_threshold()
        for generation in (2, 1, 0):
            if counts[generation] > limits[generation] > 0:
                begun = time.perf_counter()
                gc.collect(generation)
                if time.perf_counter() - begun > 0.02:  # what is left is there for good: do not look it over again
                    gc.freeze()
                return

    timer.timeout.connect(collect)
    timer.start()
