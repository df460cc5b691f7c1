"""Pins: readings of what the look paints, each at its point."""

from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen

from tinsnip.app.view.hand import Tool, View, draw_label
from tinsnip.app.view.looks import CURVATURE, DEVIATION, RELIEF, STRIPES, WALL
from tinsnip.app.widgets.theme import mono_font, px

__all__ = ["Pin", "Pins"]

_READ = DEVIATION, WALL, STRIPES, CURVATURE, RELIEF


class Pin(NamedTuple):
    """A reading pinned to a point of the surface, and the look that it is of."""

    place: np.ndarray
    text: str
    look: int = DEVIATION


class Pins(Tool):
    """A click on the part reads what the look paints, such as the deviation, and pins it; a step takes pins away."""

    name = "Readings"
    changed = Signal()

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.pins: list[Pin] = []
        self.session.mesh_changed.connect(self.clear)

    def clear(self) -> None:
        """Take the readings away."""
        if self.pins:
            self.pins = []
            self.changed.emit()
            self.update()

    def read_at(self, x: float, y: float) -> None:
        """Read what is painted under a pixel, and pin it there."""
        look = self.view.look
        if look not in _READ or self.session.stand_in is not None:
            return

        def read(triangle: int, point: np.ndarray) -> None:
            if look == DEVIATION:
                self.session.references.ask_at(point, lambda value: self.add(Pin(point, f"{value:+.3f} mm")))
                return
            text = self.view.paints.reading_at(triangle, point)
            if text is not None:
                self.pins = [pin for pin in self.pins if pin.look in (DEVIATION, look)]
                self.add(Pin(point, text, look))

        self.view.pick(x, y, read)

    def add(self, pin: Pin) -> None:
        """Put a reading there."""
        self.pins.append(pin)
        self.changed.emit()
        self.update()

    def show_again(self, readings: object) -> None:
        """Pin readings that were saved with the job; what is no reading is left out."""
        for one in readings if isinstance(readings, list) else ():
            place = np.array(one.get("place", ()), dtype=float) if isinstance(one, dict) else np.zeros(0)
            if place.shape == (3,) and np.isfinite(place).all():
                self.add(Pin(place, str(one.get("text", ""))[:40]))

    def draw(self, painter: QPainter) -> None:
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        for pin in (one for one in self.pins if one.look == self.view.look):
            x, y, _ = self.view.camera.project(pin.place)[0]
            painter.setPen(QPen(QColor("#1d2023"), 1))
            painter.drawLine(QPointF(x, y), QPointF(x + px(16), y - px(16)))
            painter.setBrush(QColor("#fbf8f0"))
            painter.drawEllipse(QPointF(x, y), px(3), px(3))
            width = QFontMetricsF(painter.font()).horizontalAdvance(pin.text) + 14
            draw_label(painter, QPointF(min(x + px(14), self.view.width() - width - 4), max(y - px(34), 4.0)), pin.text)
