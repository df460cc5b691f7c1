"""Places that deviate by more than is allowed: among the findings, as long as something is allowed."""

from typing import Protocol

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.known import Measured
from tinsnip.app.state.tasks import Tasks
from tinsnip.survey import Examination, Finding
from tinsnip.survey.deviation import FromRaw
from tinsnip.survey.outside import outside_findings

__all__ = ["Outside"]


class _Session(Protocol):
    """What is asked of the session."""

    examination: Examination | None
    tasks: Tasks
    examined: Signal
    from_raw_changed: Signal

    def measured(self) -> Measured | None: ...


class Outside(QObject):
    """What is allowed, and where the part is further off what it is measured against.

    Parameters
    ----------
    session : Session

    Attributes
    ----------
    allowed_mm : float
        Nought: nothing is asked.
    """

    def __init__(self, session: _Session) -> None:
        super().__init__()
        self._session = session
        self.allowed_mm = 0.0
        self._asked: tuple[FromRaw, float] | None = None
        self._places: list[Finding] = []
        session.from_raw_changed.connect(self._ask)
        session.examined.connect(self._ask)

    def allow(self, distance: float) -> None:
        """Allow another deviation, mm; nought: nothing is asked any more."""
        if distance != self.allowed_mm:
            self.allowed_mm = distance
            self._ask()

    def _ask(self) -> None:
        measured = self._session.measured() if self.allowed_mm > 0 else None
        if measured is None:
            self._asked, self._places = None, []
        elif self._asked is None or self._asked[0] is not measured.from_raw or self._asked[1] != self.allowed_mm:
            found, allowed = asked = measured.from_raw, self.allowed_mm
            self._asked, self._places = asked, []

            def take(places: list[Finding]) -> None:
                if self._asked is asked:
                    self._places = places
                    self._tell()

            self._session.tasks.behind("outside", lambda progress: outside_findings(found, allowed), take)
        self._tell()

    def _tell(self) -> None:
        """Among the findings of the part, where it is the one that was measured."""
        found = self._session.examination
        if found is None:
            return
        is_of_it = self._asked is not None and self._asked[0].mesh is found.mesh
        places = self._places if is_of_it else []
        if found.outside is not places and (found.outside or places):
            found.outside = places
            self._session.examined.emit()
