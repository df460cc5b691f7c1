"""Moving the view, and the light: turning, panning and zooming by the drags that the settings name."""

import numpy as np
from PySide6.QtCore import Qt, Signal

from tinsnip.app.view.hand import Drag, Pointer, Tool

__all__ = ["Navigate"]

_CLICK = 4.0
"""Pixels up to which a press that is let go again is a click."""


class Navigate(Tool):
    """Turns about the point under the pointer, pans with it, zooms; a mere click says where it was."""

    name = "Move the view"
    clicked = Signal(float, float)
    hovered = Signal(float, float)

    def hover(self, x: float, y: float) -> None:
        self.hovered.emit(x, y)

    def press(self, at: Pointer) -> Drag | None:
        if self.session.mesh is None:
            return None
        meaning = "turn" if self.view.hand.space else self._meaning(at)
        ways = {"turn": self._turn, "pan": self._pan, "zoom": self._zoom, "light": self._light}
        return ways.get(meaning, self._nothing)(at)

    def _meaning(self, at: Pointer) -> str:
        """What a drag that begins like this does, by the settings."""
        names = {Qt.MouseButton.RightButton: "right", Qt.MouseButton.MiddleButton: "middle"}
        name = names.get(at.button, "left")
        if name == "left" and at.keys & Qt.KeyboardModifier.ShiftModifier:
            name = "shift+left"
        elif name == "left" and at.keys & Qt.KeyboardModifier.ControlModifier:
            name = "ctrl+left"
        elif name == "right" and at.keys & Qt.KeyboardModifier.ControlModifier:
            name = "ctrl+right"
        return self.view.settings.meaning(name)

    def _turn(self, at: Pointer) -> Drag:
        camera = self.view.camera
        pivot = self.view.surface_point(at.x, at.y)
        pivot = np.array(camera.centre) if pivot is None else pivot
        first, travelled = at, 0.0
        while at.is_down:
            now = yield
            dx, dy = now.x - at.x, now.y - at.y
            travelled += abs(dx) + abs(dy)
            if dx or dy:
                camera.turn_about(pivot, -0.4 * dx, 0.4 * dy)
                self.view.framing.touch()
                self.view.moved()
            at = now
        if travelled < _CLICK and first.button == Qt.MouseButton.LeftButton:
            self.clicked.emit(at.x, at.y)

    def _pan(self, at: Pointer) -> Drag:
        while at.is_down:
            now = yield
            self.view.camera.pan(now.x - at.x, now.y - at.y)
            self.view.framing.touch()
            self.view.moved()
            at = now

    def _zoom(self, at: Pointer) -> Drag:
        camera = self.view.camera
        while at.is_down:
            now = yield
            camera.zoom(1.01 ** (at.y - now.y), camera.width / 2, camera.height / 2)
            self.view.framing.touch()
            self.view.moved()
            at = now

    def _light(self, at: Pointer) -> Drag:
        while at.is_down:
            now = yield
            self.view.turn_light(0.6 * (now.x - at.x), 0.6 * (at.y - now.y))
            at = now

    def _nothing(self, at: Pointer) -> Drag:
        while at.is_down:
            at = yield
