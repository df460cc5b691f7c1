"""A second, smaller view over the first: another piece, turned by itself."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QFrame

from tinsnip.app.view.camera import Camera
from tinsnip.app.view.snapshots import picture_aside
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.mesh import Mesh

__all__ = ["SideView"]

_STILL = 4.0
"""Pixels that a click may move."""
_RETRY_MS = 60


class SideView(QFrame):
    """Shows one piece that is set aside from the view, with a camera of its own: drag turns, the wheel zooms.

    Signals
    -------
    clicked
        A click that moved nothing: where, in its own pixels, and whether with the right button.
    """

    clicked = Signal(float, float, bool)

    def __init__(self, view: Viewport, mesh: Mesh, name: str, draw: Callable[[QPainter, Camera], None]) -> None:
        super().__init__(view)
        self.setObjectName("card")
        self.setAccessibleName(f"View of {name}")
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.mesh, self.name, self.camera = mesh, name, Camera()
        self._view, self._draw = view, draw
        self._picture: QImage | None = None
        self._pressed: QPointF | None = None
        self._last = QPointF()
        self._has_moved = False
        self._later = QTimer(self, singleShot=True, interval=_RETRY_MS)
        self._later.timeout.connect(self.redraw)
        self.camera.turn, self.camera.lift, self.camera.angle = view.camera.turn, view.camera.lift, view.camera.angle
        self.camera.set_part(mesh.box)

    def fit(self) -> None:
        """Show all of the piece."""
        step = max(1, len(self.mesh.vertices) // 50_000)
        self.camera.fit(self.mesh.vertices[::step], self.mesh.box)
        self.redraw()

    def redraw(self) -> None:
        """Draw the piece anew; again in a moment where it cannot be drawn yet."""
        self._picture = picture_aside(self._view, self.camera)
        if self._picture is None:
            self._later.start()
        self.update()

    @property
    def is_settled(self) -> bool:
        """Whether the piece is on the screen."""
        return self._picture is not None

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.camera.width, self.camera.height = max(1, self.width()), max(1, self.height())
        self.fit()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor("#3c4246"))
        if self._picture is not None:
            painter.drawImage(0, 0, self._picture)
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        self._draw(painter, self.camera)
        painter.setPen(QPen(QColor("#fbf8f0"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(self.rect().adjusted(1, 1, -1, -1))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None:
            self._pressed, self._last, self._has_moved = event.position(), event.position(), False

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None:
            return
        off = event.position() - self._pressed
        self._has_moved |= max(abs(off.x()), abs(off.y())) > px(_STILL)
        if self._has_moved:
            step = event.position() - self._last
            if event.buttons() & Qt.MouseButton.RightButton:
                self.camera.pan(step.x(), step.y())
            else:
                self.camera.turn_about(self.mesh.box.mean(axis=0), -0.5 * step.x(), 0.5 * step.y())
            self.redraw()
        self._last = event.position()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, self._pressed = self._pressed, None
        if pressed is not None and not self._has_moved:
            self.clicked.emit(pressed.x(), pressed.y(), event.button() == Qt.MouseButton.RightButton)

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120.0
        if steps:
            self.camera.zoom(1.18**steps, event.position().x(), event.position().y())
            self.redraw()

    def ray(self, x: float, y: float) -> tuple[np.ndarray, np.ndarray]:
        """The line of sight through one of its pixels."""
        return self.camera.ray(x, y)
