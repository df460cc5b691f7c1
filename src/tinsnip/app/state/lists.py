"""What the session has to know of a station."""

from typing import Protocol

from tinsnip.survey import Examination, Finding

__all__ = ["Lists"]


class Lists(Protocol):
    """Its name, what it lists, and whether voids shine through there."""

    name: str
    shows_shells: bool

    def findings(self, found: Examination) -> list[Finding]:
        """What it lists of what was found."""
