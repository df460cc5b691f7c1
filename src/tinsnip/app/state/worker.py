"""Work beside the window: functions run on a few threads and report back on the window's own.

No Qt object is ever touched, or thrown away, on a worker thread: tasks are plain Python, results come back through
one relay that lives for good, and Python's cycle collector, which may free Qt objects, runs on the window's
thread only.
"""

import contextlib
import gc
import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Qt, QTimer, Signal, Slot

from tinsnip.errors import Cancelled, told
from tinsnip.progress import Progress

__all__ = ["Task", "finish_up", "in_passing", "keep_collecting_here", "let_go", "start"]


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
        self.work: Callable[[Progress], Any] | None = work
        self._calls = {"done": done, "failed": failed, "cancelled": lambda _: cancelled()}

    def run(self) -> tuple[str, Any]:
        """Do the work; how it ended, and with what."""
        work, self.work = self.work, None  # what the work holds is let go with it
        try:
            with self.progress.at_work():
                result = work(self.progress)
            self.progress.check()
        except Cancelled:
            return "cancelled", None
        except Exception as error:  # nothing that goes wrong may take the job with it
            return "failed", told(error)
        finally:
            del work
        return "done", result

    def deliver(self, how: str, what: Any) -> None:
        """Say how it ended, once; the task holds nothing any more, so that it needs no collector to go."""
        calls, self._calls = self._calls, {}
        if calls:
            calls[how](what)


class _Relay(QObject):
    """Carries results over to the window's thread."""

    ended = Signal(object, str, object)

    def __init__(self) -> None:
        super().__init__()
        self.ended.connect(self._deliver, Qt.ConnectionType.QueuedConnection)

    @Slot(object, str, object)
    def _deliver(self, task: Task, how: str, what: Any) -> None:
        _under_way.discard(task)
        task.deliver(how, what)


def _step_back() -> None:
    """Let the window's own thread go first; threads started from this one follow it."""
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 10)


_behind = ThreadPoolExecutor(3, thread_name_prefix="tinsnip-behind", initializer=_step_back)
_in_front = ThreadPoolExecutor(2, thread_name_prefix="tinsnip", initializer=_step_back)
_under_way: set[Task] = set()
_relay: _Relay | None = None


def start(task: Task, in_front: bool = False) -> Task:
    """Run a task; must be called on the window's thread. One that the user waits for never queues behind others."""
    global _relay
    if _relay is None:
        _relay = _Relay()
    relay = _relay
    _under_way.add(task)
    (_in_front if in_front else _behind).submit(_run, relay, task)
    return task


def _run(relay: _Relay, task: Task) -> None:
    relay.ended.emit(task, *task.run())


def in_passing(work: Callable[[], None]) -> None:
    """Do something on a worker thread that nobody waits for or hears of."""
    _behind.submit(work)


def finish_up(seconds: float = 10.0) -> None:
    """Let what is under way come to its end; it has been asked to stop."""
    for pool in (_in_front, _behind):
        pool.shutdown(wait=False)
    waiting = threading.Thread(target=lambda: [pool.shutdown(wait=True) for pool in (_in_front, _behind)], daemon=True)
    waiting.start()
    waiting.join(seconds)


def let_go(*things: Any) -> None:
    """Have large things freed on a worker thread; nothing of Qt may be among them, nor in what they alone hold."""
    held = [things]
    del things

    def free() -> None:
        time.sleep(0.05)  # by then the caller has let go too
        held.clear()

    _behind.submit(free)


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
                if time.perf_counter() - begun > 0.02 and not _under_way:
                    gc.freeze()  # what is left is there for good: do not look it over again
                return

    timer.timeout.connect(collect)
    timer.start()
