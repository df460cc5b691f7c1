"""Intake: what came in, and the pieces of the job."""

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.piecelist import PieceList
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.treat import Merge
from tinsnip.words import grouped, lengths

__all__ = ["INTAKE", "IntakeTray"]


class IntakeTray(Tray):
    """What came in, and the pieces of the job."""

    title = "Intake: what came in"

    def build(self) -> None:
        self.head_text.setText("What the file held, and the pieces that the job is made of.")
        names = ("Format", "Unit", "Triangles", "Vertices", "Size, mm", "Shells", "Colour")
        self.values = {name: self.figure(name) for name in names}
        self.note = self.warning()
        self.heading("Pieces (tick: shown)")
        self.pieces = PieceList(self.session)
        self.add(self.pieces)
        rename = self.button("Rename", self.pieces.rename_current, "F2")
        rename.setToolTip("The name of the piece that is worked on")
        self.remove_button = self.button("Remove", self.pieces.remove_current, "Del")
        self.remove_button.setToolTip("Take the piece out of the job; undo brings it back")
        self.row(rename, self.remove_button)
        self.button("Copy as a variant", self.session.copy_as_variant)
        self.merge_button = self.button("Merge the shown pieces into one", self.merge)
        self.add_button = self.button("Open a further scan as a piece…", lambda: self.asked.emit("open further"))
        self.look_button = self.button("First look…", lambda: self.asked.emit("first look"))
        self.session.pieces_changed.connect(self.refresh)
        self.reason = self.explain()

    def _show_pieces(self) -> None:
        self.pieces.refresh()
        shown = self._shown()
        self.merge_button.setEnabled(len(shown) > 1)
        self.merge_button.setToolTip("Tick two pieces or more" if len(shown) < 2 else f"{len(shown)} pieces are shown")

    def _shown(self) -> list[int]:
        return self.session.job.shown()

    def merge(self) -> None:
        """Make one piece of all that are shown."""
        self.session.do(Merge(), self._shown())

    def refresh(self) -> None:
        piece = self.session.job.piece
        if piece is None:
            return
        raw, scan = piece.raw, piece.scan
        shells = str(len(raw.shells)) if is_known(raw, Mesh.shells) else "…"
        texts = (
            scan.format.upper() or "–",
            scan.unit,
            grouped(len(raw.faces)),
            grouped(len(raw.vertices)),
            lengths(raw.size),
            shells,
            "kept" if raw.colour is not None else "none",
        )
        for label, text in zip(self.values.values(), texts, strict=True):
            label.setText(text)
        self.reason.setText(f"Unit {scan.unit}: {scan.unit_reason}.")
        notes = "\n".join(scan.notes)
        self.note.setText(notes)
        self.note.setVisible(bool(notes))
        self._show_pieces()


def _state(session: Session) -> tuple[str, int | None]:
    colour = "colour kept" if session.mesh.colour is not None else "no colour"
    return f"{session.job.piece.scan.unit} · {colour}", 0


INTAKE = Station("Intake", IntakeTray, _state, shows_shells=True, waits=False)
