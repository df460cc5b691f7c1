"""A word where the part is not in the view, and how to have it back."""

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QFontMetricsF, QPainter

from tinsnip.app.view.hand import Tool, draw_label

__all__ = ["OutOfView"]

_SMALL = 6.0
"""Pixels up to which a part is a speck."""


class OutOfView(Tool):
    """Says that the part lies beside the view, or is too small to be seen."""

    name = "Out of view"

    def lack(self) -> str:
        """What keeps the part from being seen; nothing where it is seen."""
        mesh = self.session.mesh
        if mesh is None or len(mesh.faces) == 0:
            return ""
        box = mesh.box
        corners = np.array([[box[i, 0], box[j, 1], box[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
        seen = self.view.camera.project(corners)[:, :2]
        low, high = seen.min(axis=0), seen.max(axis=0)
        if (high < 0).any() or low[0] > self.view.width() or low[1] > self.view.height():
            return "The part is out of view"
        return "The part is too small to be seen" if (high - low).max() < _SMALL else ""

    def draw(self, painter: QPainter) -> None:
        lack = self.lack()
        if lack:
            text = f"{lack}; F shows all of it"
            width = QFontMetricsF(painter.font()).horizontalAdvance(text) + 14
            draw_label(painter, QPointF(0.5 * (self.view.width() - width), 0.5 * self.view.height()), text, True)
