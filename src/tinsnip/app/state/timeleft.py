"""How long something will still take, said only where it can be told."""

__all__ = ["TimeLeft"]

_SOON = 1.0
"""Seconds before anything is said."""
_WINDOW, _SHARE = 3.0, 0.3
"""What was done lately is looked at over so many seconds, or this share of the time spent, whichever is longer."""
_ALIKE = 2.0
"""The pace so far and the pace of late must agree within this factor for a time to be named."""
_LEAST = 0.04


class TimeLeft:
    """Watches the share of some work that is done, and says what may be said of the rest.

    Where the pace changes, as where a step begins whose length nobody knows, the time spent is told instead: a time
    left that grows is worse than none.
    """

    def __init__(self, begun: float) -> None:
        self._begun = begun
        self._seen: list[tuple[float, float]] = [(begun, 0.0)]

    def told(self, now: float, share: float) -> str:
        """What to say.

        Parameters
        ----------
        now : float
            Seconds, by the clock that `begun` was read from.
        share : float
            0 to 1.
        """
        spent = now - self._begun
        self._seen.append((now, share))
        since = now - max(_WINDOW, _SHARE * spent)
        while len(self._seen) > 2 and self._seen[1][0] <= since:
            self._seen.pop(0)
        if spent < _SOON:
            return ""
        then, before = self._seen[0]
        if share >= _LEAST and share > before and now > then:
            overall = spent * (1.0 - share) / share
            lately = (now - then) * (1.0 - share) / (share - before)
            if max(overall, lately) <= _ALIKE * min(overall, lately) or max(overall, lately) < _SOON:
                return f"about {_rounded(max(overall, lately))} left"
        return f"{_rounded(spent)} so far"


def _rounded(seconds: float) -> str:
    if seconds < 90:
        return f"{max(1, round(seconds))} s"
    return f"{round(seconds / 60)} min"
