"""Numbers as they are said and shown, and nouns that agree with them."""

import math
from collections.abc import Iterable

__all__ = [
    "at_most",
    "counted",
    "degrees_told",
    "grouped",
    "grouped_number",
    "lengths",
    "megabytes",
    "millimetres",
    "percent",
    "rounded_up",
    "rounded_wide",
]

_NOTHING = 1e-6
"""A nanometre, in mm: what is shorter comes from rounding alone."""


def grouped(n: int) -> str:
    """A whole number in groups of three.

    Parameters
    ----------
    n : int
    """
    return f"{n:,}".replace(",", "\u202f")


def grouped_number(value: float, decimals: int) -> str:
    """A number with so many decimals, its whole part in groups of three; what rounds to nothing has no sign.

    Parameters
    ----------
    value : float
    decimals : int
    """
    text = f"{value:,.{decimals}f}".replace(",", "\u202f")
    return text.removeprefix("-") if not text.strip("-0.\u202f") else text


def lengths(sizes: Iterable[float]) -> str:
    """Lengths in mm side by side, each to four figures, without their unit: the same wherever a size is told.

    Parameters
    ----------
    sizes : iterable of float
        In mm.
    """
    return " × ".join(_four(float(x)) for x in sizes)


def _four(x: float) -> str:
    if x < 1e-6:
        return "0"
    return grouped_number(x, max(0, min(6, 3 - math.floor(math.log10(x)))))


def counted(n: int, one: str, many: str | None = None) -> str:
    """A count with its noun.

    Parameters
    ----------
    n : int
    one : str
        The noun for one.
    many : str, optional
        For several; by default with an s.
    """
    return f"{grouped(n)} {one if n == 1 else many or one + 's'}"


def percent(share: float) -> str:
    """A share, 0 to 1, as text; what there is of it never reads as nothing.

    Parameters
    ----------
    share : float
    """
    if share <= 0.0:
        return "0 %"
    return "under 0.01 %" if share < 1e-4 else f"{100 * share:.2g} %" if share < 0.995 else f"{100 * share:.3g} %"


def degrees_told(angle: float) -> str:
    """An angle to two decimals, without those that say nothing.

    Parameters
    ----------
    angle : float
        In degrees.
    """
    text = grouped_number(angle, 2)
    return text.rstrip("0").rstrip(".") if "." in text else text


def megabytes(size: float) -> str:
    """A file size as text.

    Parameters
    ----------
    size : float
        In bytes.
    """
    return f"{size / 1e6:.2f} MB" if size < 1e6 else f"{size / 1e6:.1f} MB" if size < 1e8 else f"{size / 1e6:.0f} MB"


def at_most(length: float) -> str:
    """A small length as a figure without its unit, never less than it is.

    Parameters
    ----------
    length : float
        In mm.
    """
    return millimetres(rounded_up(length))


def rounded_up(length: float) -> float:
    """The next number of three figures that is no less.

    Parameters
    ----------
    length : float
        In mm.
    """
    if length < _NOTHING:
        return 0.0
    step = 10.0 ** (math.floor(math.log10(length)) - 2)
    return math.ceil(length / step - 1e-9) * step


def rounded_wide(value: float) -> float:
    """The next of 1, 2, 5, 10 ... that is no less than a value: the end of a scale.

    Parameters
    ----------
    value : float
    """
    if not value > 0:
        return 0.1
    step = 10.0 ** math.floor(math.log10(value))
    return float(next(m * step for m in (1, 2, 5, 10) if m * step >= value * 0.999))


def millimetres(length: float) -> str:
    """A small length as a figure without its unit.

    Parameters
    ----------
    length : float
        In mm.
    """
    if length < _NOTHING:
        return "0"
    if length < 1e-4:
        return "under 0.0001"
    return f"{length:.3g}" if length < 1000 else grouped_number(length, 0)
