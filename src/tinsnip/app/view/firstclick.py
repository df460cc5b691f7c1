"""The ring that marks where was clicked first, while the next click is waited for."""

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen

from tinsnip.app.view.camera import Camera
from tinsnip.app.widgets.theme import px

__all__ = ["ring_at"]


def ring_at(painter: QPainter, camera: Camera, point: np.ndarray) -> None:
    """Draw a small ring, light on dark, at a place on the part."""
    x, y, _ = camera.project(point)[0]
    for colour, width in ((QColor("#1d2023"), 4.0), (QColor("#fff6d8"), 2.0)):
        painter.setPen(QPen(colour, width))
        painter.drawEllipse(QPointF(x, y), px(5), px(5))
