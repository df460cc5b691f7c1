"""The trays of the first two stations: what came in, and how it stands."""

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
)
from PySide6.QtWidgets import QWidget as Widget

from tinsnip.app.panels import Panel
from tinsnip.app.session import Session
from tinsnip.app.viewport import Viewport
from tinsnip.treat import LayFlat, Place, Scale, Turn, TurnInsideOut
from tinsnip.treat.stand import flat_round
from tinsnip.words import grouped

__all__ = ["IntakeTray", "StandTray"]

_ORIGINS = {
    "drop": "drop to the bed",
    "bottom-centre": "bottom centre to origin",
    "centre-xy": "centre over origin",
    "centre": "middle to origin",
    "corner": "corner to origin",
}


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
        shells = str(len(raw.shells)) if "shells" in raw.__dict__ else "…"
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


class StandTray(Panel):
    """How the part stands: turning, laying down, placing, scaling."""

    title = "Stand"

    def __init__(self, session: Session, viewport: Viewport) -> None:
        self.viewport = viewport
        self._first_point: np.ndarray | None = None
        super().__init__(session)
        viewport.gestures.turn_made.connect(self._turned)

    def build(self) -> None:
        self.head_text.setText("The bed is z = 0. Drag the round tabs to turn, or type.")
        self.values = {name: self.figure(name) for name in ("Width x", "Depth y", "Height z", "Lowest point z")}
        self.button("Lay a picked flat on the bed…", self.pick_flat)
        box = self.row()
        for axis in "xyz":
            button = QPushButton(f"{axis} 90°")
            button.setAccessibleName(f"Quarter turn about {axis}")
            button.setMinimumWidth(40)
            button.clicked.connect(lambda _=False, a=axis: self._turned(np.eye(3)["xyz".index(a)], 90.0))
            box.addWidget(button)
        box = self.row()
        self.axis = QComboBox()
        self.axis.addItems(["x", "y", "z"])
        self.axis.setCurrentText("z")
        self.axis.setAccessibleName("Axis of the turn")
        box.addWidget(QLabel("About"))
        box.addWidget(self.axis)
        self.angle = QDoubleSpinBox()
        self.angle.setMinimumWidth(60)
        self.angle.setKeyboardTracking(False)
        self.angle.setRange(-360, 360)
        self.angle.setDecimals(2)
        self.angle.setSuffix(" °")
        self.angle.setAccessibleName("Angle of the turn")
        box.addWidget(self.angle)
        turn = QPushButton("Turn")
        turn.clicked.connect(self.turn_typed)
        turn.setFixedWidth(64)
        box.addWidget(turn)
        box = self.row()
        self.origin = QComboBox()
        for name, text in _ORIGINS.items():
            self.origin.addItem(text, name)
        self.origin.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.origin.setMinimumContentsLength(8)
        self.origin.setAccessibleName("Where the part is placed")
        box.addWidget(self.origin, 1)
        place = QPushButton("Place")
        place.clicked.connect(lambda: self.session.apply(Place(origin=self.origin.currentData())))
        place.setFixedWidth(64)
        box.addWidget(place)
        box = self.row()
        self.extent = QComboBox()
        self.extent.addItems(["x", "y", "z"])
        self.extent.setAccessibleName("Extent that is given a length")
        box.addWidget(QLabel("Make"))
        box.addWidget(self.extent)
        self.length = QDoubleSpinBox()
        self.length.setMinimumWidth(60)
        self.length.setKeyboardTracking(False)
        self.length.setRange(0.001, 1e6)
        self.length.setDecimals(3)
        self.length.setAccessibleName("Length of the extent")
        box.addWidget(self.length, 1)
        scale = QPushButton("Scale")
        scale.clicked.connect(self.scale_typed)
        scale.setFixedWidth(64)
        box.addWidget(scale)
        self.extent.currentIndexChanged.connect(self.refresh)
        self.button("Scale by a measured distance…", self.measure)
        self.button("Turn inside out", lambda: self.session.apply(TurnInsideOut()))

    def row(self) -> QHBoxLayout:
        """A row of controls."""
        row = Widget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(6)
        self.column.addWidget(row)
        return box

    @property
    def _per_unit(self) -> float:
        """Millimetres in one of the units shown."""
        return 25.4 if self.viewport.settings.show_inches else 1.0

    def enter(self) -> None:
        self.viewport.show_turn_tabs(True)

    def leave(self) -> None:
        self.viewport.show_turn_tabs(False)
        self.viewport.gestures.end_pick()

    def refresh(self, *_: object) -> None:
        mesh = self.session.mesh
        if mesh is None:
            return
        unit = "in" if self._per_unit != 1.0 else "mm"
        for label, value in zip(self.values.values(), (*mesh.size, mesh.box[0, 2]), strict=True):
            label.setText(f"{value / self._per_unit:.3f} {unit}" if unit == "in" else f"{value:.2f} mm")
        self.length.setSuffix(f" {unit}")
        self.length.setValue(float(mesh.size[self.extent.currentIndex()]) / self._per_unit)

    def _turned(self, axis: np.ndarray, degrees: float) -> None:
        if self.isVisible():
            self.session.apply(Turn(axis=tuple(float(x) for x in axis), degrees=float(degrees)))

    def turn_typed(self) -> None:
        """Turn by the typed angle."""
        self._turned(np.eye(3)[self.axis.currentIndex()], self.angle.value())

    def scale_typed(self) -> None:
        """Scale so that the chosen extent comes to the typed length."""
        length = self.length.value() * self._per_unit
        self.session.apply(Scale(axis=self.extent.currentText(), length_mm=length))

    def pick_flat(self) -> None:
        """Let a click choose what shall lie on the bed."""

        def picked(triangle: int, point: np.ndarray) -> None:
            mesh = self.session.mesh
            self.viewport.gestures.end_pick()
            down = flat_round(mesh, triangle)
            self.session.apply(LayFlat(down=tuple(float(x) for x in down)))

        self.viewport.gestures.begin_pick("Click the flat that shall lie on the bed  (Esc to leave)", picked)

    def measure(self) -> None:
        """Let two clicks measure a distance, and ask for what it should be."""
        points: list[np.ndarray] = []

        def picked(triangle: int, point: np.ndarray) -> None:
            points.append(point)
            self.viewport.overlay.clicked_points = list(points)
            self.viewport.overlay.hint = "Click the second point  (Esc to leave)"
            self.viewport.overlay.update()
            if len(points) < 2:
                return
            self.viewport.gestures.end_pick()
            distance = float(np.linalg.norm(points[1] - points[0])) / self._per_unit
            unit = "in" if self._per_unit != 1.0 else "mm"
            text = f"Measured {distance:.4g} {unit}. What should it be, in {unit}?"
            wanted, ok = QInputDialog.getDouble(self, "Scale by a measured distance", text, distance, 1e-6, 1e7, 4)
            if ok and distance > 0:
                self.session.apply(Scale(factor=wanted / distance))

        self.viewport.gestures.begin_pick("Click the first of two points  (Esc to leave)", picked)
