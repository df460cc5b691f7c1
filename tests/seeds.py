"""Which of the made-up cases a run takes: a share that changes from day to day, all of them, or one."""

import os
import zlib
from collections.abc import Callable, Iterable, Iterator
from typing import TypeVar

__all__ = ["SHARES", "VARIABLE", "in_turn", "is_its_turn", "one_of", "seeds", "share", "told"]

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


def one_of(cases: Iterable[Case]) -> list[Case]:
    """The one of some cases that has its turn today; all of them, or the one that was asked for by its number."""
    every = list(cases)
    how, _, number = os.environ.get(VARIABLE, "all").partition(" ")
    if how == "day":
        return [every[int(number) % len(every)]]
    return [every[i] for i in seeds(len(every))]


def in_turn(turn: int, days: int = 3) -> Callable[[Case], Case]:
    """Mark a test of a case that takes long, beside others of the same thing: it has its turn every so many days.

    Asked for by its name it runs on any day, and so do all with ``--all``.
    """

    def marked(test: Case) -> Case:
        test.turn = turn, days
        return test

    return marked


def is_its_turn(test: object) -> bool:
    """Whether a test case is to run, by the mark of its method."""
    turn, days = getattr(getattr(type(test), getattr(test, "_testMethodName", ""), None), "turn", (0, 1))
    how, _, number = os.environ.get(VARIABLE, "all").partition(" ")
    return how != "day" or int(number) % days == turn


def told() -> str:
    """What the run takes, for its head line."""
    how, _, number = os.environ.get(VARIABLE, "all").partition(" ")
    if how == "only":
        return f"made-up cases: number {number} alone"
    if how == "all":
        return "made-up cases: all"
    return f"made-up cases: share {int(number) % SHARES + 1} of {SHARES}, by the date (--day {number}; --all takes all)"
