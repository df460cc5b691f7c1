"""The datums of the piece that is worked on, as the window shows them: which are ticked, which only proposed."""

from collections.abc import Sequence

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.session import Session
from tinsnip.datums.datum import Datum
from tinsnip.mesh import Mesh

__all__ = ["ShownDatums"]


class ShownDatums(QObject):
    """What is shown over the part of its datums.

    Attributes
    ----------
    ticked : list of str
        Names, in the order in which they were ticked.
    proposed : tuple of Datum
        Found by themselves, and not taken yet.
    is_on : bool
        Whether they are drawn at all.
    """

    changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.ticked: list[str] = []
        self.proposed: tuple[Datum, ...] = ()
        self._proposed_on: Mesh | None = None
        self.is_on = True
        session.pieces_changed.connect(self._look_again)
        session.mesh_changed.connect(self._look_again)

    @property
    def kept(self) -> tuple[Datum, ...]:
        """Those of the piece that is worked on."""
        piece = self._session.job.piece
        return () if piece is None else piece.datums

    def all(self) -> tuple[Datum, ...]:
        """Those that are kept, or those that are proposed meanwhile."""
        return self.proposed or self.kept

    def chosen(self) -> list[Datum]:
        """Those that are ticked, in the order in which they were."""
        known = {datum.name: datum for datum in self.all()}
        return [known[name] for name in self.ticked if name in known]

    def propose(self, found: Sequence[Datum], mesh: Mesh) -> None:
        """Show datums that were found on a mesh, all ticked, until they are taken or left."""
        self.proposed, self._proposed_on = tuple(found), mesh
        self.ticked = [datum.name for datum in found]
        self.changed.emit()

    def leave(self) -> bool:
        """Show no proposals any more; False when there were none."""
        was = bool(self.proposed)
        self.proposed, self._proposed_on = (), None
        if was:
            self.ticked = []
            self.changed.emit()
        return was

    def tick(self, name: str, on: bool) -> None:
        """Tick one, or no more."""
        self.ticked = [n for n in self.ticked if n != name] + [name] * on
        self.changed.emit()

    def set_on(self, on: bool) -> None:
        """Draw them, or not."""
        self.is_on = on
        self.changed.emit()

    def _look_again(self) -> None:
        if self.proposed and self._session.mesh is not self._proposed_on:
            self.leave()
        names = {datum.name for datum in self.all()}
        self.ticked = [name for name in self.ticked if name in names]
        self.changed.emit()
