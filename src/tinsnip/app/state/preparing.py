"""The first start: kernels are compiled beside the window, those that opening a scan needs before all others."""

import subprocess
import sys
import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from tinsnip import kernels
from tinsnip.progress import Progress
from tinsnip.warmup import STAGES

__all__ = ["Preparation"]

_LOOK_MS = 250


class Preparation(QObject):
    """Compiles in processes of its own, and lets work wait for what it needs.

    Nothing is to be prepared where the kernels were compiled before, or `start` was not called.
    """

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._steps = [threading.Event() for _ in STAGES]
        for step in self._steps:
            step.set()
        self._stage = len(STAGES)
        self._is_whole = True
        self._processes: list[subprocess.Popen] = []
        self._watch = QTimer(self, interval=_LOOK_MS)
        self._watch.timeout.connect(self._look)
        self.total = self.done = 0

    @property
    def is_under_way(self) -> bool:
        """Whether there is still something to be compiled."""
        return self._stage < len(STAGES)

    @property
    def can_open(self) -> bool:
        """Whether what opening a scan needs is there."""
        return self._stage > 0

    def start(self) -> None:
        """Begin, if there is anything to compile."""
        if kernels.is_compiled() or self.is_under_way:
            return
        for step in self._steps:
            step.clear()
        self.total = max(1, len(kernels.registered()))
        self._stage = 0
        self._begin()
        self._watch.start()

    def _begin(self) -> None:
        self._processes = [
            subprocess.Popen(
                [sys.executable, "-m", "tinsnip.warmup", *rooms], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            for rooms in STAGES[self._stage]
        ]

    def _look(self) -> None:
        self.done = min(self.total, sum(1 for _ in kernels.cache_folder.rglob("*.nbi")))
        codes = [process.poll() for process in self._processes]
        if all(code is not None for code in codes):
            self._is_whole &= all(code == 0 for code in codes)
            self._steps[self._stage].set()
            self._stage += 1
            if self.is_under_way:
                self._begin()
            else:
                self._watch.stop()
                if self._is_whole:  # where something went wrong, it is compiled when it is called for
                    kernels.mark_compiled()
        self.changed.emit()

    def stop(self) -> None:
        """The window closes."""
        self._watch.stop()
        for process in self._processes:
            if process.poll() is None:
                process.kill()

    def before(self, reader: Callable[[Progress], Any], whole: bool = False) -> Callable[[Progress], Any]:
        """Work that waits for what opening a scan needs, or for all."""

        def read(progress: Progress) -> Any:
            self.wait(progress, whole)
            return reader(progress)

        return read

    def wait(self, progress: Progress, whole: bool = True) -> None:
        """Wait, on a worker thread, for what opening a scan needs, or for all.

        Raises
        ------
        Cancelled
            When the progress is cancelled meanwhile.
        """
        for step in self._steps if whole else self._steps[:1]:
            while not step.wait(0.1):
                progress.step("Preparing Tinsnip for this machine, once", self.total)[1] = self.done
