"""Kernels in worker threads, in chunks."""

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

__all__ = ["CORES", "cores", "in_chunks"]

CORES = "TINSNIP_CORES"
"""How many cores a process may take; by default all that the system lets it run on."""


def cores() -> int:
    """How many threads are worth having: as `CORES` in the environment says, or as many as there are cores for us."""
    told = os.environ.get(CORES, "")
    return int(told) if told.isdigit() and int(told) > 0 else len(os.sched_getaffinity(0))


def in_chunks(work: Callable[[int, int], None], count: int, chunk: int = 50_000) -> None:
    """Call ``work(begin, end)`` over all of ``range(count)`` on as many threads as there are cores for us.

    Parameters
    ----------
    work : callable
        Lets go of Python's lock.
    count : int
        How many.
    chunk : int
        Length of a range.
    """
    spans = [(begin, min(begin + chunk, count)) for begin in range(0, count, chunk)]
    if len(spans) <= 1:
        for span in spans:
            work(*span)
        return
    with ThreadPoolExecutor(cores()) as pool:
        for future in [pool.submit(work, *span) for span in spans]:
            future.result()
