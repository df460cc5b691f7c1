"""Which of the made-up cases a run takes: a share that changes from day to day, all of them, or one."""

import os
import zlib
from collections.abc import Iterable, Iterator
from typing import TypeVar

__all__ = ["SHARES", "VARIABLE", "seeds", "share", "told"]

Case = TypeVar("Case")

SHARES = 12
"""In so many days every case has had its turn."""
VARIABLE = "TINSNIP_TEST_SEEDS"
"""Set by the runner: ``all``, ``day N`` or ``only N``."""


def seeds(count: int, name: str = "", shares: int = SHARES) -> Iterator[int]:
    """The numbers below `count` that this run takes; each test, by its `name`, spreads them over the days anew.

    Where each case takes long, they have their turn in more `shares`.
    """
    how, _, number = os.environ.get(VARIABLE, "all").partition(" ")
    for seed in range(count):
        if how == "only":
            if seed == int(number):
                yield seed
        elif how == "all" or (zlib.crc32(f"{name} {seed}".encode()) + int(number)) % shares == 0:
            yield seed


def share(cases: Iterable[Case], name: str, least: int = 1) -> list[Case]:
    """Those of some cases that this run takes, some at least."""
    every = list(cases)
    taken = [every[i] for i in seeds(len(every), name)]
    number = os.environ.get(VARIABLE, "all").partition(" ")[2]
    for i in range(least - len(taken)):  # none had its turn: then whichever is next
        taken.append(every[(int(number or 0) + i) % len(every)])
    return taken


def told() -> str:
    """What the run takes, for its head line."""
    how, _, number = os.environ.get(VARIABLE, "all").partition(" ")
    if how == "only":
        return f"made-up cases: number {number} alone"
    if how == "all":
        return "made-up cases: all"
    return f"made-up cases: share {int(number) % SHARES + 1} of {SHARES}, by the date (--day {number}; --all takes all)"
