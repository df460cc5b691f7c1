"""Numbers as they are shown."""

__all__ = ["grouped", "megabytes", "millimetres"]


def grouped(n: int) -> str:
    """A whole number in groups of three."""
    return f"{n:,}".replace(",", "\u202f")


def megabytes(size: float) -> str:
    """A file size as text."""
    return f"{size / 1e6:.2f} MB" if size < 1e6 else f"{size / 1e6:.1f} MB" if size < 1e8 else f"{size / 1e6:.0f} MB"


_NOTHING = 1e-6
"""A nanometre, in mm: what is shorter comes from rounding alone."""


def millimetres(length: float) -> str:
    """A small length as a figure without its unit."""
    return "0" if length < _NOTHING else f"{length:.3g}" if length >= 1e-4 else f"{length:.1e}"
