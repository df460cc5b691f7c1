"""The search for the coarsest level whose measured deviation stays within a limit."""

import math

from tinsnip.treat.reduce.curve import Curve

__all__ = ["LevelSearch"]

_NEAR_ENOUGH = 1.15
"""A level is found when the next that failed is less than so much coarser."""
_TURNS_BACK = 3
"""Times that a finer level is tried."""


class LevelSearch:
    """Says which level to measure next, and is told what was measured.

    The curve is drawn from samples and promises a little too much; what it promises is measured, and what went
    too far is approached again from the finer side.

    Parameters
    ----------
    curve : Curve
    limit : float
        How far the surface may move at most, mm.
    least : int
        Triangles below which no level is wanted.
    most : int
        Triangles of the whole mesh.

    Attributes
    ----------
    next : int or None
        Triangles of the level to measure; None: the search is over.
    best : int or None
        Triangles of the coarsest level that kept to the limit.
    """

    def __init__(self, curve: Curve, limit: float, least: int, most: int) -> None:
        self.limit = limit
        self.best: int | None = None
        self._curve, self._most = curve, most
        self._failed = self._turns = 0
        self.next: int | None = self._below_most(max(curve.triangles_for(self.limit), least))

    def _below_most(self, count: int) -> int | None:
        return count if count < self._most else None

    def tell(self, largest: float) -> None:
        """Take note of the largest deviation measured at the level `next`, mm, and choose another."""
        count = self.next
        if largest <= self.limit:
            self.best = count
        else:
            self._failed = count
        if self.best is None:
            short = largest / max(self._curve.largest_at(count), 1e-300)  # by how much the samples fell short
            promised = self._curve.triangles_for(0.98 * self.limit / max(short, 1.0))
            self.next = self._below_most(max(promised, int(count * 1.05) + 4))
        elif self.best <= _NEAR_ENOUGH * self._failed or self._failed == 0 or self._turns == _TURNS_BACK:
            self.next = None
        else:  # between what went too far and what did not go far enough
            self.next = math.isqrt(self._failed * self.best)
            self._turns += 1
