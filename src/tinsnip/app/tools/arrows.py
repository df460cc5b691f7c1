"""Arrows at the border of the view, towards what is selected out of view."""

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from tinsnip.app.view.hand import Tool
from tinsnip.app.widgets.theme import px

__all__ = ["Arrows"]

_MOST = 24


class Arrows(Tool):
    """One for each place of the selection that has nothing within the view."""

    def draw(self, painter: QPainter) -> None:
        places = self.session.selected.places
        if places is None:
            return
        width, height, margin = self.view.width(), self.view.height(), px(16)
        middle = np.array([width / 2, height / 2])
        for point in places.out_of_view(self.view.camera, width, height)[:_MOST]:
            way = self.view.camera.project(point)[0, :2] - middle
            length = float(np.hypot(*way))
            if length == 0:
                continue
            way /= length
            reach = min(
                (width / 2 - margin) / max(abs(way[0]), 1e-9), (height / 2 - margin) / max(abs(way[1]), 1e-9)
            )  # fmt: skip
            tip = middle + reach * way
            side = np.array([-way[1], way[0]])
            corners = tip, tip - px(16) * way + px(9) * side, tip - px(16) * way - px(9) * side
            painter.setPen(QPen(QColor("#1d2023"), 1.5))
            painter.setBrush(QColor("#c6e83a"))
            painter.drawPolygon(QPolygonF([QPointF(*c) for c in corners]))
