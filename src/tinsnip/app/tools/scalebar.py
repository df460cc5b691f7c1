"""The scale bar: a round length, as long as it is on the screen."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from tinsnip.app.view.hand import Tool
from tinsnip.app.widgets.theme import px

__all__ = ["ScaleBar"]


class ScaleBar(Tool):
    """Only drawn; the mouse does nothing with it."""

    name = "Scale bar"

    def draw(self, painter: QPainter) -> None:
        scale = self.view.camera.scale
        wanted = px(130) * scale
        step = 10.0 ** np.floor(np.log10(max(wanted, 1e-12)))
        nice = step * max(m for m in (1, 2, 5) if m * step <= wanted or m == 1)
        length = nice / scale
        x, y = px(20), self.view.height() - px(26)
        for colour, width in ((QColor(20, 22, 24, 170), 4.0), (QColor("#f3f1ea"), 1.6)):
            painter.setPen(QPen(colour, width))
            painter.drawPolyline(
                [QPointF(x, y - px(6)), QPointF(x, y), QPointF(x + length, y), QPointF(x + length, y - px(6))]
            )
        painter.setPen(QColor("#f3f1ea"))
        box = QRectF(max(x - px(40), px(6)), y + 2, length + px(80), px(20))
        painter.drawText(
            box, Qt.AlignmentFlag.AlignHCenter, f"{nice:g} mm{' at the middle' if self.view.camera.angle else ''}"
        )
