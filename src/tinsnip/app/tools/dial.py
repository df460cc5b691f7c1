"""The dial: a ring with the four sides, top and under within. A click looks from there, a drag turns."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from tinsnip.app.view.hand import Drag, Pointer, Tool
from tinsnip.app.widgets.theme import px

__all__ = ["Dial"]

_RADIUS = 54
"""Pixels, where text is of the usual size."""


class Dial(Tool):
    """Shows where the view comes from, and lets it come from elsewhere."""

    name = "Dial"

    def centre(self) -> QPointF:
        """Its middle on the screen."""
        far = px(_RADIUS) + px(18)
        return QPointF(self.view.width() - far, self.view.height() - far)

    def area(self) -> QRectF:
        far = px(_RADIUS) + 4
        return QRectF(self.centre().x() - far, self.centre().y() - far, 2 * far, 2 * far)

    def way(self, x: float, y: float) -> tuple[float, float] | None:
        """The direction of view that a place on it stands for: turn and lift, degrees."""
        centre, camera = self.centre(), self.view.camera
        dx, dy = x - centre.x(), y - centre.y()
        far = float(np.hypot(dx, dy))
        if far > px(_RADIUS):
            return None
        if far < 0.55 * px(_RADIUS):
            return (camera.turn, 90.0) if dy < 0 else (camera.turn, -90.0)
        names = ((0.0, 0.0, 1.0), (90.0, 1.0, 0.0), (180.0, 0.0, -1.0), (270.0, -1.0, 0.0))
        return max(names, key=lambda n: n[1] * dx + n[2] * dy)[0], 0.0

    def cursor_at(self, x: float, y: float) -> Qt.CursorShape | None:
        return Qt.CursorShape.PointingHandCursor if self.way(x, y) is not None else None

    def press(self, at: Pointer) -> Drag | None:
        way = self.way(at.x, at.y)
        if way is None or at.button != Qt.MouseButton.LeftButton or self.session.mesh is None:
            return None
        return self._turn(at, way)

    def _turn(self, at: Pointer, way: tuple[float, float]) -> Drag:
        camera = self.view.camera
        self.view.framing.look_from(*way)
        pivot = np.array(camera.centre)
        while at.is_down:
            now = yield
            if now.x != at.x or now.y != at.y:
                camera.turn_about(pivot, -0.4 * (now.x - at.x), 0.4 * (now.y - at.y))
                self.view.framing.touch()
                self.view.moved()
            at = now

    def draw(self, painter: QPainter) -> None:
        centre, camera, radius = self.centre(), self.view.camera, px(_RADIUS)
        painter.setPen(QPen(QColor("#7f868a"), 1))
        painter.setBrush(QColor(34, 38, 41, 225))
        painter.drawEllipse(centre, radius, radius)
        painter.setBrush(QColor(66, 72, 76, 235))
        painter.drawEllipse(centre, 0.55 * radius, 0.55 * radius)
        font = painter.font()
        font.setPointSizeF(font.pointSizeF() * 0.82)
        painter.setFont(font)
        painter.setPen(QColor("#f1eee8"))
        far = 0.71 * radius
        for name, dx, dy in (("front", 0, far), ("right", far, 0), ("back", 0, -far), ("left", -far, 0)):
            box = QRectF(centre.x() + dx - px(25), centre.y() + dy - px(9), px(50), px(18))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
        for name, dy in (("top", -px(13)), ("under", px(13))):
            box = QRectF(centre.x() - px(25), centre.y() + dy - px(9), px(50), px(18))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
        angle = np.radians(camera.turn)
        flat = 0.62 * radius * float(np.cos(np.radians(camera.lift)))
        mark = QPointF(centre.x() + np.sin(angle) * flat, centre.y() + np.cos(angle) * flat)
        painter.setPen(QPen(QColor("#fbf8f0"), 1))
        painter.setBrush(QColor("#d98445"))
        painter.drawEllipse(mark, px(4), px(4))
