"""Units of length, and a guess where a file carries none."""

from typing import NamedTuple

from tinsnip.words import lengths

__all__ = ["UNITS", "UnitGuess", "guess_unit"]

UNITS: dict[str, float] = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8}
"""Millimetres in one of each unit."""


class UnitGuess(NamedTuple):
    """A unit, and why it was taken."""

    unit: str
    reason: str


def guess_unit(diagonal: float) -> UnitGuess:
    """Guess the unit of a file from the length of its part's diagonal, in the file's own numbers.

    Scanners that write no unit mostly write millimetres; only a size that would be absurd for a scanned
    part in millimetres speaks for metres.

    Parameters
    ----------
    diagonal : float
        In the file's own unit.

    Examples
    --------
    >>> guess_unit(0.3).unit
    'm'
    """
    if 0 < diagonal < 1.5:
        told = (
            f"{diagonal:.3g} from corner to corner in the file's numbers; {lengths([1000 * diagonal])} mm is likelier"
        )
        return UnitGuess("m", told)
    return UnitGuess("mm", f"{lengths([diagonal])} from corner to corner is a usual size in millimetres")
