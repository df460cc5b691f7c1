"""Stand: how the part lies in space."""

import numpy as np
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPushButton,
)
from PySide6.QtWidgets import QWidget as Widget

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.tools.pick import Pick
from tinsnip.app.tools.turn import TurnTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.treat import LayFlat, Place, Scale, Turn, TurnInsideOut
from tinsnip.treat.stand.moves import flat_round

__all__ = ["STAND", "StandTray"]

_ORIGINS = {
    "drop": "drop to the bed",
    "bottom-centre": "bottom centre to origin",
    "centre-xy": "centre over origin",
    "centre": "middle to origin",
    "corner": "corner to origin",
}


class StandTray(Tray):
    """How the part stands: turning, laying down, placing, scaling."""

    title = "Stand"

    def __init__(self, session: Session, view: Viewport) -> None:
        self.turn_tool = TurnTool(view)
        super().__init__(session, view)
        self.turn_tool.turned.connect(self._turned)

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
        return 25.4 if self.view.settings.show_inches else 1.0

    def enter(self) -> None:
        self.view.hand.set_rest(self.turn_tool)

    def leave(self) -> None:
        self.view.hand.set_rest(None)

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
            self.view.hand.put_away()

            def lay(down: np.ndarray) -> None:
                if self.session.mesh is mesh:
                    self.session.apply(LayFlat(down=tuple(float(x) for x in down)))

            self.session.tasks.foreground("Finding the flat", lambda p: flat_round(mesh, triangle), lay)

        self.view.hand.take(Pick(self.view, ("Click the flat that shall lie on the bed",), picked))

    def measure(self) -> None:
        """Let two clicks measure a distance, and ask for what it should be."""
        points: list[np.ndarray] = []

        def picked(triangle: int, point: np.ndarray) -> None:
            points.append(point)
            if len(points) < 2:
                return
            self.view.hand.put_away()
            distance = float(np.linalg.norm(points[1] - points[0])) / self._per_unit
            unit = "in" if self._per_unit != 1.0 else "mm"
            text = f"Measured {distance:.4g} {unit}. What should it be, in {unit}?"
            wanted, ok = QInputDialog.getDouble(self, "Scale by a measured distance", text, distance, 1e-6, 1e7, 4)
            if ok and distance > 0:
                self.session.apply(Scale(factor=wanted / distance))

        hints = ("Click the first of two points", "Click the second point")
        self.view.hand.take(Pick(self.view, hints, picked))


def _state(session: Session) -> tuple[str, int | None]:
    lowest = float(session.mesh.box[0, 2])
    text = f"{lowest:.2f}".rstrip("0").rstrip(".") if abs(lowest) >= 0.005 else "0"
    return f"lowest point {text} mm", None


STAND = Station("Stand", StandTray, _state, waits=False)
