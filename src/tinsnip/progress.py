"""Progress and cancelling, shared between a worker thread, its kernels and whoever watches."""

import functools
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from multiprocessing import shared_memory
from typing import Any

import numpy as np

from tinsnip.errors import Cancelled

__all__ = ["CANCEL", "DONE", "TOTAL", "Progress", "SharedProgress", "check_here", "polled_here", "stoppable"]

CANCEL, DONE, TOTAL = 0, 1, 2
_FINE = 10_000
"""Units of a span between two of its parts."""


_here = threading.local()


def polled_here() -> np.ndarray:
    """The state that kernels poll for whatever is being worked at on this thread; it never says stop if nothing is."""
    progress = getattr(_here, "progress", None)
    return np.zeros(3, dtype=np.int64) if progress is None else progress.state


def check_here() -> None:
    """Raise `Cancelled` when what is being worked at on this thread was asked to stop."""
    progress = getattr(_here, "progress", None)
    if progress is not None:
        progress.check()


def stoppable(function: Callable) -> Callable:
    """Let everything that a function calls poll the `Progress` it was given, or that of the context it was given.

    Parameters
    ----------
    function : callable
    """

    @functools.wraps(function)
    def wrapped(*arguments: Any, **named: Any) -> Any:
        for one in (*arguments, *named.values()):
            progress = one if isinstance(one, Progress) else getattr(one, "progress", None)
            if isinstance(progress, Progress):
                with progress.at_work():
                    return function(*arguments, **named)
        return function(*arguments, **named)

    return wrapped


class Progress:
    """What a long piece of work says of itself, and how it is told to stop.

    Kernels get `state`, an int64 array ``[cancel, done, total]``: they poll the first and write the second.
    Python code calls `step` and `check`. Reading is safe from any thread. What should be told with the result, such as
    what was left out, is added to `notes`. Who wants to see what is made while it is made is told by `watcher`, on the
    thread that makes it.
    """

    watcher: Callable[[Any], None] | None = None

    def __init__(self) -> None:
        self.state = np.zeros(3, dtype=np.int64)
        self.label = ""
        self.notes: list[str] = []
        self._span = (0.0, 1.0)

    def step(self, label: str, total: int = 0) -> np.ndarray:
        """Begin a step of `total` units within the current span; returns the state for a kernel."""
        self.check()
        self.label = label
        self.state[DONE] = 0
        self.state[TOTAL] = total
        return self.state

    @contextmanager
    def part(self, low: float, high: float) -> Iterator["Progress"]:
        """Map everything inside the block onto the share `low` to `high` of the present span."""
        outer = self._span
        width = outer[1] - outer[0]
        self._span = (outer[0] + low * width, outer[0] + high * width)
        self.state[DONE] = 0
        try:
            yield self
        finally:
            self.state[TOTAL], self.state[DONE] = _FINE, round(high * _FINE)  # it does not fall back behind the part
            self._span = outer

    def show(self, so_far: Any) -> None:
        """Let whoever watches see what has come of it so far."""
        if self.watcher is not None:
            self.watcher(so_far)

    @property
    def fraction(self) -> float:
        """Share of the whole work done, 0 to 1."""
        total = float(self.state[TOTAL])
        inner = min(1.0, float(self.state[DONE]) / total) if total > 0 else 0.0
        return self._span[0] + inner * (self._span[1] - self._span[0])

    def cancel(self) -> None:
        """Ask the work to stop at its next look."""
        self.state[CANCEL] = 1

    @property
    def cancelled(self) -> bool:
        """Whether stopping was asked for."""
        return bool(self.state[CANCEL])

    def check(self) -> None:
        """Raise `Cancelled` when stopping was asked for."""
        if self.cancelled:
            raise Cancelled()

    @contextmanager
    def at_work(self) -> Iterator["Progress"]:
        """What is called within the block, on this thread, polls this progress without being handed it."""
        before = getattr(_here, "progress", None)
        _here.progress = self
        try:
            yield self
        finally:
            _here.progress = before


class SharedProgress(Progress):
    """Progress of work in a process that this one began: here one reads how far it is, and may tell it to stop.

    It can be pickled; all copies share one block of memory, which `close` of the first gives back. Notes stay where
    they were added.

    Examples
    --------
    >>> with SharedProgress() as progress:
    ...     progress.cancel()
    ...     pickle.loads(pickle.dumps(progress)).cancelled
    True
    """

    _LABEL = 160

    def __init__(self, name: str | None = None) -> None:
        size = 3 * 8 + 2 * 8 + self._LABEL
        self._block = shared_memory.SharedMemory(name, create=name is None, size=size)
        self._is_own = name is None
        self._spans = np.frombuffer(self._block.buf, np.float64, 2, 24)
        self._text = np.frombuffer(self._block.buf, np.uint8, self._LABEL, 40)
        state = np.frombuffer(self._block.buf, np.int64, 3, 0)
        if self._is_own:
            super().__init__()
        else:
            self.notes = []
        self.state = state

    def __reduce__(self) -> tuple:
        return type(self), (self._block.name,)

    @property
    def _span(self) -> tuple[float, float]:
        return float(self._spans[0]), float(self._spans[1])

    @_span.setter
    def _span(self, span: tuple[float, float]) -> None:
        self._spans[:] = span

    @property
    def label(self) -> str:
        return self._text.tobytes().rstrip(b"\0").decode(errors="ignore")

    @label.setter
    def label(self, label: str) -> None:
        self._text[:] = np.frombuffer(label.encode()[: self._LABEL].ljust(self._LABEL, b"\0"), np.uint8)

    def close(self) -> None:
        """Give the block back; nobody may use it any more."""
        if self._block is None:
            return
        block, self._block = self._block, None
        self.state, self._spans, self._text = self.state.copy(), self._spans.copy(), self._text.copy()
        block.close()
        if self._is_own:
            block.unlink()

    def __del__(self) -> None:
        self.close()

    def __enter__(self) -> "SharedProgress":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
