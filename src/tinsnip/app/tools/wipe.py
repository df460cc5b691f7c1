"""The wipe: raw and now side by side, with a divider that slides."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from tinsnip.app.view.hand import Drag, Pointer, Tool, draw_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.words import grouped

__all__ = ["Wipe"]

_REACH = 9.0


class Wipe(Tool):
    """The divider between raw and now, and what each side shows."""

    name = "Wipe"

    @property
    def share(self) -> float:
        """Where the divider stands, as a share of the view's width."""
        return 0.5 if self.view.scene is None else self.view.scene.wipe_at

    def _is_at(self, x: float) -> bool:
        return self.view.shows == "wipe" and abs(x - self.share * self.view.width()) <= px(_REACH)

    def cursor_at(self, x: float, y: float) -> Qt.CursorShape | None:
        return Qt.CursorShape.SplitHCursor if self._is_at(x) else None

    def press(self, at: Pointer) -> Drag | None:
        return self._slide(at) if at.button == Qt.MouseButton.LeftButton and self._is_at(at.x) else None

    def _slide(self, at: Pointer) -> Drag:
        while at.is_down:
            at = yield
            self.set_share(at.x / max(1, self.view.width()))

    def set_share(self, share: float) -> None:
        """Put the divider at a share of the view's width."""
        if self.view.scene is not None:
            self.view.scene.wipe_at = float(np.clip(share, 0.02, 0.98))
        self.view.slid()

    def draw(self, painter: QPainter) -> None:
        piece = self.session.job.piece
        if self.view.shows == "now" or piece is None:
            return
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        level = self.session.stand_in
        count = len(self.session.mesh.faces) if level is None else level.triangles
        raw, now = f"RAW {grouped(len(piece.raw.faces))}", f"NOW {grouped(count)}"
        width = QFontMetricsF(painter.font()).horizontalAdvance(raw) + 14
        if self.view.shows == "raw":
            draw_label(painter, QPointF(0.5 * (self.view.width() - width), 10), raw)
            return
        x, height = self.share * self.view.width(), self.view.height()
        for colour, thick in ((QColor(20, 22, 24, 150), 5.0), (QColor("#fbf8f0"), 2.0)):
            painter.setPen(QPen(colour, thick))
            painter.drawLine(QPointF(x, 0), QPointF(x, height))
        draw_label(painter, QPointF(x - width - 8, 10), raw)
        draw_label(painter, QPointF(x + 8, 10), now)
        grip = QRectF(x - px(14), 0.72 * height - px(13), px(28), px(26))
        painter.setPen(QPen(QColor("#1d2023"), 1))
        painter.setBrush(QColor("#fbf8f0"))
        painter.drawRoundedRect(grip, 4, 4)
        painter.setPen(QPen(QColor("#1d1b17"), 1.6))
        for sign in (-1, 1):
            tip, barb = QPointF(x + sign * px(9), grip.center().y()), px(4)
            painter.drawLine(QPointF(x + sign * px(2), tip.y()), tip)
            painter.drawPolyline([tip + QPointF(-sign * barb, -barb), tip, tip + QPointF(-sign * barb, barb)])
