"""A pointer that is moved by keys, so that all that takes a click in the view can be done without a mouse."""

from PySide6.QtCore import QEvent, QObject, QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QApplication, QWidget

from tinsnip.app.view.hand import Tool, View
from tinsnip.app.widgets.theme import px

__all__ = ["KeyPointer"]

_STEP, _FINE = 24, 2
"""Pixels that it moves at a key, and with Shift."""
_WAYS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, -1),
    Qt.Key.Key_Down: (0, 1),
}


class KeyPointer(Tool):
    """Ctrl and the arrow keys move it, Ctrl and Space click; the mouse takes over where it is moved.

    Attributes
    ----------
    place : QPointF or None
        Where it is, pixels of the view; None while it is not in use.
    """

    name = "Pointer by keys"

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.place: QPointF | None = None
        self._sends = False
        view.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.KeyPress and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            return self.take(event)
        if event.type() in (QEvent.Type.MouseMove, QEvent.Type.MouseButtonPress) and not self._sends:
            self._put(None)
        return super().eventFilter(watched, event)

    def take(self, event: QKeyEvent) -> bool:
        """Act on a key; False when it means nothing here."""
        if not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            return False
        if event.key() in _WAYS:
            step = px(_FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else _STEP)
            right, down = _WAYS[event.key()]
            at = self.place or QPointF(self.view.width() // 2, self.view.height() // 2)
            x = min(max(at.x() + step * right, 0), self.view.width() - 1)
            y = min(max(at.y() + step * down, 0), self.view.height() - 1)
            self._put(QPointF(x, y))
            self._send(QEvent.Type.MouseMove)
            return True
        if event.key() == Qt.Key.Key_Space:
            if self.place is None:
                self._put(QPointF(self.view.width() // 2, self.view.height() // 2))
            if not event.isAutoRepeat():
                self._send(QEvent.Type.MouseButtonPress)
                self._send(QEvent.Type.MouseButtonRelease)
            return True
        return False

    def _put(self, place: QPointF | None) -> None:
        if place != self.place:
            self.place = place
            self.update()

    def _send(self, kind: QEvent.Type) -> None:
        """Do in the view what a mouse would."""
        view: QWidget = self.view
        none, left = Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton
        button = none if kind == QEvent.Type.MouseMove else left
        down = left if kind == QEvent.Type.MouseButtonPress else none
        at, keys = QPointF(self.place), Qt.KeyboardModifier.NoModifier
        self._sends = True
        try:
            QApplication.sendEvent(view, QMouseEvent(kind, at, view.mapToGlobal(at), button, down, keys))
        finally:
            self._sends = False

    def draw(self, painter: QPainter) -> None:
        if self.place is None:
            return
        for colour, width in ((QColor(20, 22, 24, 190), 4.0), (QColor("#f3f1ea"), 1.6)):
            painter.setPen(QPen(colour, width))
            for right, down in _WAYS.values():
                way = QPointF(right, down)
                painter.drawLine(self.place + px(4) * way, self.place + px(14) * way)
