"""The first start: kernels are compiled beside the window, those that opening a scan needs before all others."""

import subprocess
import threading
import time
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from tinsnip import kernels
from tinsnip.kernels.dispatch import written
from tinsnip.kernels.recorded import record_lines
from tinsnip.progress import Progress, check_here
from tinsnip.warmup import is_whole, start_workers

__all__ = ["Preparation"]

_LOOK_MS = 250
_WAIT_SECONDS = 0.02


class Preparation(QObject):
    """Compiles in processes of its own; work that comes to a kernel which is not there yet waits for that one alone.

    Nothing is to be prepared where the kernels were compiled before, or `start` was not called.
    """

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._workers: list[subprocess.Popen] = []
        self._left: dict[int, tuple[int, int]] = {}
        self._recorded: frozenset[str] = frozenset()
        self._watch = QTimer(self, interval=_LOOK_MS)
        self._watch.timeout.connect(self._look)
        self.total = self.done = 0

    @property
    def is_under_way(self) -> bool:
        """Whether there is still something to be compiled."""
        return bool(self._workers)

    @property
    def can_open(self) -> bool:
        """Whether what shows a scan is there."""
        if not self._workers:
            return True
        return len(self._left) > 0 and all(opening == 0 for _, opening in self._left.values())

    def start(self) -> None:
        """Begin, if there is anything to compile."""
        if is_whole() or self.is_under_way:
            return
        self._recorded = frozenset(record_lines())
        self._workers = start_workers()
        for number, worker in enumerate(self._workers):
            threading.Thread(target=self._listen, args=(number, worker), daemon=True).start()
        kernels.wait_with(self._await)
        self._watch.start()

    def _listen(self, number: int, worker: subprocess.Popen) -> None:
        """Note what a worker says of itself: how many signatures are left, and of these how many for opening."""
        for line in worker.stdout:
            left, opening = line.split()
            self._left[number] = int(left), int(opening)

    def _look(self) -> None:
        if self._left:
            left = min(left for left, _ in self._left.values())
            self.total = max(self.total, left)
            self.done = self.total - left
        if all(worker.poll() is not None for worker in self._workers):
            # where something went wrong, it is compiled when it is called for
            self.stop()
        self.changed.emit()

    def stop(self) -> None:
        """The window closes, or all is done."""
        self._watch.stop()
        kernels.wait_with(None)
        for worker in self._workers:
            if worker.poll() is None:
                worker.kill()
        self._workers = []

    def _await(self, kernel: kernels.Kernel, kinds: tuple) -> None:
        """Wait, on the thread that came to a kernel, until the workers have it; they take it next."""
        if written(kernel, kinds) not in self._recorded:
            return
        for worker in self._workers:
            try:
                worker.stdin.write(f"{kernel.name}\n")
                worker.stdin.flush()
            except (OSError, ValueError):  # it has come to its end
                pass
        while self._workers and not kernel.is_ready(kinds):
            check_here()
            time.sleep(_WAIT_SECONDS)

    def before(self, reader: Callable[[Progress], Any]) -> Callable[[Progress], Any]:
        """Work that waits until a scan can be shown."""

        def read(progress: Progress) -> Any:
            while not self.can_open:
                progress.step("Preparing Tinsnip for this machine, once", max(1, self.total))[1] = self.done
                time.sleep(_WAIT_SECONDS)
            return reader(progress)

        return read
