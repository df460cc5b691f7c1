"""Kernels in worker threads, in chunks."""

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

__all__ = ["in_chunks"]


def in_chunks(work: Callable[[int, int], None], count: int, chunk: int = 50_000) -> None:
    """Call ``work(begin, end)`` over all of ``range(count)`` on as many threads as there are cores."""
    spans = [(begin, min(begin + chunk, count)) for begin in range(0, count, chunk)]
    if len(spans) <= 1:
        for span in spans:
            work(*span)
        return
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for future in [pool.submit(work, *span) for span in spans]:
            future.result()
