"""What lies over the view: each tool draws its own."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.view.hand import Hand, draw_label

__all__ = ["Overlay"]


class Overlay(QWidget):
    """Transparent to the mouse; asks the hand who draws."""

    def __init__(self, session: Session, hand: Hand, parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._hand = session, hand
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._session.mesh is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for tool in self._hand.all_tools():
            painter.save()
            tool.draw(painter)
            painter.restore()
        hint = self._hand.hint()
        if hint:
            draw_label(painter, QPointF(14, 14), hint, dark=True)
