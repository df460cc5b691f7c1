"""Datums over the view: a click on the surface that fits one, and how they are drawn."""

from typing import ClassVar

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from tinsnip.app.state.datums import ShownDatums
from tinsnip.app.view.hand import Drag, Pointer, Tool, View, draw_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.datums.datum import Datum
from tinsnip.datums.lines import lines_of

__all__ = ["DatumClick", "DrawnDatums"]

_INK, _PALE, _PROPOSED = QColor("#134a5c"), QColor("#fbf8f0"), QColor("#6b4a12")
_MOST_LABELS = 40


class DatumClick(Tool):
    """A click on the surface, that a datum is fitted round."""

    name = "Fit a datum by a click"
    cursor = Qt.CursorShape.CrossCursor
    clicked = Signal(int, object)

    def hint(self) -> str:
        return "Click a flat or round surface  (Esc to leave)"

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if at.button == Qt.MouseButton.LeftButton and self.is_on_part(at) else None

    def _click(self, at: Pointer) -> Drag:
        self.view.pick(at.x, at.y, lambda triangle, point: self.clicked.emit(triangle, point))
        return
        yield


class DrawnDatums(Tool):
    """Draws the datums over the part: outlines whole, axes in dashes and dots, each with its name."""

    name = "Datums of the part"
    _AXIS: ClassVar[list[float]] = [9.0, 3.0, 1.5, 3.0]

    def __init__(self, view: View, shown: ShownDatums) -> None:
        super().__init__(view)
        self.shown = shown
        shown.changed.connect(self.update)

    def draw(self, painter: QPainter) -> None:
        session = self.session
        if not self.shown.is_on or session.stand_in is not None or session.looking_back is not None:
            return
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        ticked = set(self.shown.ticked)
        taken: list[QPointF] = []
        for datum in self.shown.all()[:_MOST_LABELS]:
            self._draw_one(painter, datum, datum.name in ticked, taken)

    def _draw_one(self, painter: QPainter, datum: Datum, ticked: bool, taken: list[QPointF]) -> None:
        session = self.session
        lines = lines_of(datum, 0.05 * session.mesh.diagonal)
        ink = _PROPOSED if self.shown.proposed else _INK
        width = 2.4 if ticked else 1.2
        for halo in (True, False):  # light under dark, so that it is seen on any part
            for places in lines.outlines:
                pen = QPen(_PALE if halo else ink, px(width + 2.2 if halo else width))
                if self.shown.proposed and not ticked and not halo:
                    pen.setStyle(Qt.PenStyle.DotLine)
                painter.setPen(pen)
                painter.drawPolyline(self._screen(places))
            if lines.axis is not None:
                pen = QPen(_PALE if halo else ink, px(width + 2.2 if halo else width))
                if not halo and datum.form != "plane":
                    pen.setDashPattern(self._AXIS)
                painter.setPen(pen)
                painter.drawPolyline(self._screen(lines.axis))
            if lines.point is not None:
                painter.setPen(QPen(_PALE if halo else ink, px(width + 2.2 if halo else width)))
                (x, y, _), reach = self.view.camera.project(lines.point)[0], px(5)
                painter.drawLine(QPointF(x - reach, y - reach), QPointF(x + reach, y + reach))
                painter.drawLine(QPointF(x - reach, y + reach), QPointF(x + reach, y - reach))
        at = self._label_place(lines, datum, taken)
        taken.append(at)
        draw_label(painter, at, f"● {datum.name}" if ticked else datum.name, dark=ticked)

    def _label_place(self, lines: object, datum: Datum, taken: list[QPointF]) -> QPointF:
        """Beside the end of its axis, or its outline, below what other labels stand there."""
        place = lines.axis[1] if lines.axis is not None else datum.place
        x, y, _ = self.view.camera.project(place)[0]
        at = QPointF(
            min(max(x + px(6), 4.0), self.view.width() - px(60)), min(max(y - px(12), 4.0), self.view.height())
        )
        for _ in range(12):
            if all(abs(at.x() - o.x()) > px(40) or abs(at.y() - o.y()) > px(20) for o in taken):
                break
            at += QPointF(0, px(21))
        return at

    def _screen(self, places: np.ndarray) -> QPolygonF:
        return QPolygonF([QPointF(x, y) for x, y, _ in self.view.camera.project(places)])
