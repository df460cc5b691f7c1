"""The errors a user may meet: one line each, saying what, where and what to do."""

import traceback
from pathlib import Path

import platformdirs

__all__ = ["BadInput", "Cancelled", "HiddenInTheWay", "Stopped", "TinsnipError", "told"]


class TinsnipError(Exception):
    """A message for the user. Its text is one line: what is wrong, where, and what to do."""


class BadInput(TinsnipError):
    """A file, routine or parameter that cannot be used as it is."""


class HiddenInTheWay(BadInput):
    """What was asked for would delete or move triangles that are hidden, and so protected."""


class Stopped(TinsnipError):
    """The user, or the system, ended a run; files that were written by then stand."""

    def __init__(self, written: list[str], code: int) -> None:
        stands = f"written before that, and whole: {', '.join(written)}" if written else "nothing was changed"
        super().__init__(f"stopped; {stands}")
        self.code = code


class Cancelled(TinsnipError):
    """The user stopped the work; nothing was changed."""

    def __init__(self) -> None:
        super().__init__("cancelled; nothing was changed")

    def __reduce__(self) -> tuple:
        return type(self), ()  # from another process


def told(error: Exception) -> str:
    """One line about what went wrong; where that was not foreseen, it is written down too.

    Parameters
    ----------
    error : Exception
    """
    if isinstance(error, TinsnipError):
        return str(error)
    if isinstance(error, MemoryError):
        return "not enough memory; close other programs, or take a smaller scan"
    text = f"something went wrong that should not ({' '.join(f'{type(error).__name__}: {error}'.split())})"
    try:
        log = Path(platformdirs.user_log_dir("tinsnip", ensure_exists=True)) / "errors.log"
        with log.open("a", encoding="utf-8") as file:
            traceback.print_exception(error, file=file)
    except OSError:
        return f"{text}; what was written before stands"
    return f"{text}; what was written before stands. Please send {log} to the developers"
