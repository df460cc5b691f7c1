"""Open files in and out."""

from tinsnip.formats.files import (
    CHECKING,
    ENDINGS,
    FORMATS,
    READING,
    WORKING,
    Format,
    Scan,
    TooLarge,
    drop_non_finite,
    format_for,
    read_scan,
    refuse_what_is_too_large,
    write_mesh,
)
from tinsnip.formats.rows import NAME, Rows
from tinsnip.formats.units import UNITS, UnitGuess, guess_unit

__all__ = [
    "CHECKING",
    "ENDINGS",
    "FORMATS",
    "NAME",
    "READING",
    "UNITS",
    "WORKING",
    "Format",
    "Rows",
    "Scan",
    "TooLarge",
    "UnitGuess",
    "drop_non_finite",
    "format_for",
    "guess_unit",
    "read_scan",
    "refuse_what_is_too_large",
    "write_mesh",
]
