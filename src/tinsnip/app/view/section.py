"""The section: a plane that the part is cut open by, only to look into it."""

import numpy as np
from PySide6.QtCore import QSignalBlocker, Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QSlider, QVBoxLayout

from tinsnip.app.view.hand import View
from tinsnip.app.widgets.fields import Button, NumberField
from tinsnip.app.widgets.theme import px

__all__ = ["SectionBar"]

_STEPS = 1000


class SectionBar(QFrame):
    """Which way the plane faces, and a slider that moves it."""

    changed = Signal()
    turned_on = Signal(bool)

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._view = view
        self.setObjectName("legend")
        self._normal = np.array([0.0, 1.0, 0.0])
        self._span = 0.0, 1.0
        self.is_on = False
        box = QVBoxLayout(self)
        box.setContentsMargins(px(10), px(8), px(10), px(8))
        row = QHBoxLayout()
        box.addLayout(row)
        title = QLabel("Section square to")
        row.addWidget(title)
        self.buttons: dict[str, Button] = {}
        for name in ("x", "y", "z", "sight"):
            button = Button(name)
            button.setCheckable(True)
            button.setAccessibleName(f"Section square to {name}")
            button.clicked.connect(lambda _=False, name=name: self.face(name))
            row.addWidget(button)
            self.buttons[name] = button
        self.turn = Button("other side")
        self.turn.setAccessibleName("Show the other side of the section")
        self.turn.clicked.connect(self._turn_round)
        row.addWidget(self.turn)
        low = QHBoxLayout()
        box.addLayout(low)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(0, _STEPS)
        self.slider.setAccessibleName("Where the section lies")
        self.slider.setMinimumWidth(px(190))
        self.slider.valueChanged.connect(self._slid)
        low.addWidget(self.slider)
        self.place = NumberField("Section at", -1e6, 1e6, 2, "mm", 0.5)
        self.place.valueChanged.connect(self._typed)
        low.addWidget(self.place)
        self.hide()

    def set_on(self, on: bool) -> None:
        """Cut the part open, or show all of it."""
        self.is_on = on
        self.turned_on.emit(on)
        self.setVisible(on)
        if on and not any(b.isChecked() for b in self.buttons.values()):
            self.face("y")
        self.changed.emit()

    def plane(self) -> tuple[np.ndarray, float] | None:
        """Normal, and distance from the origin along it, mm, beyond which nothing is drawn; None: all is."""
        return (self._normal, float(self._offset)) if self.is_on else None

    def face(self, name: str) -> None:
        """Turn the plane square to an axis or to the line of sight, through the middle of the part."""
        for other, button in self.buttons.items():
            button.setChecked(other == name)
        self._normal = self._view.camera.frame()[2] if name == "sight" else np.eye(3)["xyz".index(name)]
        if name == "y":  # seen from the front, the nearer half goes
            self._normal = -self._normal
        self.fit()
        self.slider.setValue(_STEPS // 2)
        self._slid(_STEPS // 2)

    def stand(self, normal: np.ndarray, offset: float) -> None:
        """Turn it on, at a plane: its unit normal, and how far along that it lies from the origin, mm."""
        self.is_on = True
        self.show()
        self.turned_on.emit(True)
        for button in self.buttons.values():
            button.setChecked(False)
        self._normal = normal
        self.fit()
        self._put(offset)

    def fit(self) -> None:
        """Let the slider reach from end to end of the part."""
        mesh = self._view.session.mesh
        if mesh is None or len(mesh.faces) == 0:
            return
        low, high = mesh.box
        corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
        along = corners @ self._normal
        self._span = float(along.min()), float(along.max())

    def _turn_round(self) -> None:
        at = self._offset
        self._normal = -self._normal
        self.fit()
        self._put(-at)

    _offset = 0.0

    def _slid(self, step: int) -> None:
        low, high = self._span
        self._put(low + (high - low) * step / _STEPS)

    def _typed(self, value: float) -> None:
        sign = 1.0 if self._normal.sum() >= 0 else -1.0
        if abs(value - sign * self._offset) > 0.0051:
            self._put(sign * value)

    def _put(self, offset: float) -> None:
        self._offset = offset
        low, high = self._span
        sign = 1.0 if self._normal.sum() >= 0 else -1.0
        with QSignalBlocker(self.slider), QSignalBlocker(self.place):
            self.slider.setValue(round(_STEPS * (offset - low) / max(high - low, 1e-12)))
            self.place.setValue(sign * offset)
        self.changed.emit()
