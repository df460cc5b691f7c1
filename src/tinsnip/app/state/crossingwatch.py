"""Saying so when a step has let a surface cross itself that did not before."""

from PySide6.QtCore import QObject

from tinsnip.app.state.session import Session
from tinsnip.mesh import Mesh
from tinsnip.words import counted

__all__ = ["CrossingWatch"]


class CrossingWatch(QObject):
    """Looks, each time crossings have been counted, whether it was the last step that brought them about."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._told: Mesh | None = None
        session.examined.connect(self._look)

    def _look(self) -> None:
        session, found = self._session, self._session.examination
        if found is None or not found.crossed or found.mesh is self._told or session.job.cursor == 0:
            return
        step = session.job.log[session.job.cursor - 1]
        made_here = any(c.after is not None and c.after.mesh is found.mesh for c in step.changes)
        before = [session.known.examination_of(piece.mesh) for piece in step.given] if made_here else []
        if before and all(f is not None and f.crossings is not None and f.crossings.total == 0 for f in before):
            self._told = found.mesh
            places = counted(len(found.crossed), "place")
            session.message.emit(f"{step.action.title}: {places} cross now; undo it, or untangle in Surface", True)
