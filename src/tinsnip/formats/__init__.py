"""Open files in and out."""

from tinsnip.formats.files import ENDINGS, FORMATS, Format, Scan, format_for, read_scan, write_mesh
from tinsnip.formats.units import UNITS, UnitGuess, guess_unit

__all__ = [
    "ENDINGS",
    "FORMATS",
    "UNITS",
    "Format",
    "Scan",
    "UnitGuess",
    "format_for",
    "guess_unit",
    "read_scan",
    "write_mesh",
]
