"""Intake: what came in, and the pieces of the job."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QLabel,
    QListWidget,
    QListWidgetItem,
)

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.treat import Merge
from tinsnip.words import grouped

__all__ = ["INTAKE", "IntakeTray"]


class IntakeTray(Tray):
    """What came in, and the pieces of the job."""

    title = "Intake"

    def _show_pieces(self) -> None:
        self._filling = True
        self.pieces.clear()
        for piece in self.session.job.pieces:
            item = QListWidgetItem(piece.name)
            flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
            item.setFlags(flags | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsUserCheckable)
            shown = self.session.job.is_visible(piece.id)
            item.setCheckState(Qt.CheckState.Checked if shown else Qt.CheckState.Unchecked)
            item.setData(Qt.ItemDataRole.UserRole, piece.id)
            self.pieces.addItem(item)
        ids = [piece.id for piece in self.session.job.pieces]
        self.pieces.setCurrentRow(ids.index(self.session.job.active))
        shown = [i for i in ids if self.session.job.is_visible(i)]
        self.merge_button.setEnabled(len(shown) > 1)
        self.merge_button.setToolTip("Tick two pieces or more" if len(shown) < 2 else f"{len(shown)} pieces are shown")
        self._filling = False

    def _piece_edited(self, item: QListWidgetItem) -> None:
        if self._filling:
            return
        number = item.data(Qt.ItemDataRole.UserRole)
        piece = self.session.job.present.get(number)
        if piece is None:
            return
        shown = item.checkState() == Qt.CheckState.Checked
        # answered after the list has finished with its own editing
        if shown != self.session.job.is_visible(number):
            QTimer.singleShot(0, lambda: self.session.set_visible(number, shown))
        elif item.text() != piece.name:
            text = item.text()
            QTimer.singleShot(0, lambda: self.session.rename(number, text))

    def _piece_chosen(self, row: int) -> None:
        if not self._filling and row >= 0:
            number = self.pieces.item(row).data(Qt.ItemDataRole.UserRole)
            QTimer.singleShot(0, lambda: self.session.set_active(number))

    def build(self) -> None:
        self.head_text.setText("What the file held.")
        names = ("Format", "Unit", "Triangles", "Vertices", "Size, mm", "Shells", "Colour")
        self.values = {name: self.figure(name) for name in names}
        self.note = self.warning()
        self.heading("Pieces (tick: shown)")
        self.pieces = QListWidget()
        self.pieces.setAccessibleName("Pieces of the job")
        self.pieces.setFixedHeight(84)
        self.pieces.setToolTip("Tick to show, click to work on, double-click to rename")
        self.pieces.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._filling = False
        self.pieces.itemChanged.connect(self._piece_edited)
        self.pieces.currentRowChanged.connect(self._piece_chosen)
        self.column.addWidget(self.pieces)
        self.button("Copy as a variant", self.session.copy_as_variant)
        self.merge_button = self.button("Merge the shown pieces into one", self.merge)
        self.add_button = self.button("Open a further scan as a piece…", lambda: self.asked.emit("open further"))
        self.look_button = self.button("First look…", lambda: self.asked.emit("first look"))
        self.session.pieces_changed.connect(self.refresh)
        self.reason = QLabel()
        self.reason.setObjectName("muted")
        self.reason.setWordWrap(True)
        self.column.addWidget(self.reason)

    def merge(self) -> None:
        """Make one piece of all that are shown."""
        shown = [p.id for p in self.session.job.pieces if self.session.job.is_visible(p.id)]
        first = [self.session.job.active] if self.session.job.active in shown else []
        self.session.do(Merge(), [*first, *(i for i in shown if i not in first)])

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
            " × ".join(f"{x:.3g}" if x < 1000 else f"{x:.0f}" for x in raw.size),
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
