"""Intake: what came in, and the pieces of the job."""

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QLabel,
    QListWidget,
    QListWidgetItem,
)

from tinsnip.app.widgets.panels import Panel
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.words import grouped

__all__ = ["IntakeTray"]


class IntakeTray(Panel):
    """What came in, and the pieces of the job."""

    title = "Intake"
    add_asked = Signal()
    look_asked = Signal()

    def _show_pieces(self) -> None:
        self._filling = True
        self.pieces.clear()
        for piece in self.session.job.pieces:
            item = QListWidgetItem(piece.name)
            flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
            item.setFlags(flags | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if piece.visible else Qt.CheckState.Unchecked)
            self.pieces.addItem(item)
        self.pieces.setCurrentRow(self.session.job.active)
        self._filling = False

    def _piece_edited(self, item: QListWidgetItem) -> None:
        if self._filling:
            return
        row = self.pieces.row(item)
        piece = self.session.job.pieces[row]
        shown = item.checkState() == Qt.CheckState.Checked
        # answered after the list has finished with its own editing
        if shown != piece.visible:
            QTimer.singleShot(0, lambda: self.session.set_visible(row, shown))
        elif item.text() != piece.name:
            text = item.text()
            QTimer.singleShot(0, lambda: self.session.rename(row, text))

    def _piece_chosen(self, row: int) -> None:
        if not self._filling and row >= 0:
            QTimer.singleShot(0, lambda: self.session.set_active(row))

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
        self.add_button = self.button("Open a further scan as a piece…", lambda: self.add_asked.emit())
        self.look_button = self.button("First look…", lambda: self.look_asked.emit())
        self.session.pieces_changed.connect(self.refresh)
        self.reason = QLabel()
        self.reason.setObjectName("muted")
        self.reason.setWordWrap(True)
        self.column.addWidget(self.reason)

    def refresh(self) -> None:
        piece = self.session.job.piece
        if piece is None:
            return
        raw, scan = piece.raw, piece.scan
        shells = str(len(raw.shells)) if is_known(raw, Mesh.shells) else "…"
        texts = (
            scan.format.upper() if scan else "–",
            scan.unit if scan else "mm",
            grouped(len(raw.faces)),
            grouped(len(raw.vertices)),
            " × ".join(f"{x:.3g}" if x < 1000 else f"{x:.0f}" for x in raw.size),
            shells,
            "kept" if raw.colour is not None else "none",
        )
        for label, text in zip(self.values.values(), texts, strict=True):
            label.setText(text)
        self.reason.setText(f"Unit {scan.unit}: {scan.unit_reason}." if scan else "")
        notes = "\n".join(scan.notes) if scan else ""
        self.note.setText(notes)
        self.note.setVisible(bool(notes))
        self._show_pieces()
