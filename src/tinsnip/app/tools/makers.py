"""Going back to what was made: a click on it in the Provenance view opens the step that made it."""

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.madeby import ask_step_that_made
from tinsnip.app.view.hand import View
from tinsnip.app.view.looks import PROVENANCE

__all__ = ["Makers"]


class Makers(QObject):
    """Tells the number of the step that made the surface under a click, or says that it was measured."""

    found = Signal(int)

    def __init__(self, view: View) -> None:
        super().__init__()
        self._view = view

    def look_at(self, x: float, y: float) -> None:
        """Look for the step behind the surface under a pixel, in the Provenance view alone."""
        session = self._view.session
        if self._view.look == PROVENANCE and session.stand_in is None and session.looking_back is None:
            self._view.pick(x, y, lambda triangle, place: ask_step_that_made(session, place, self._tell))

    def _tell(self, number: int | None) -> None:
        if number is None:
            session = self._view.session
            session.message.emit("this surface was not made by any step; it is as the scan has it", False)
        else:
            self.found.emit(number)
