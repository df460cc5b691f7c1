"""The curve of a reduction: triangles kept against deviation, with a line to drag along it."""

import numpy as np
import pyqtgraph
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import QColor, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from tinsnip.app.widgets.theme import px
from tinsnip.treat.reduce.curve import Curve

__all__ = ["CurvePlot"]

_COPPER = "#b4602a"


class _LogAxis(pyqtgraph.AxisItem):
    """Round numbers on logarithmic paper."""

    def tickValues(self, low: float, high: float, size: float) -> list:
        decades = np.arange(np.floor(low), np.ceil(high) + 1)
        wide = high - low > 2.4
        steps = [0.0] if wide else [0.0, np.log10(3.0)]
        return [(1.0, [d + s for d in decades for s in steps if low <= d + s <= high])]

    def tickStrings(self, values: list, scale: float, spacing: float) -> list[str]:
        return [_short(10.0**v) for v in values]


def _short(value: float) -> str:
    if value >= 999_500:
        return f"{value / 1e6:.2g} M"
    if value >= 999.5:
        return f"{value / 1e3:.3g} k"
    return f"{value:.2g}"


class CurvePlot(pyqtgraph.PlotWidget):
    """Press or drag anywhere: the line follows. Left and Right move it by a fiftieth of the way."""

    dragged = Signal(int)

    def __init__(self) -> None:
        axes = {side: _LogAxis(side) for side in ("bottom", "left")}
        super().__init__(axisItems=axes, background="#f7f5f0")
        self.setFixedHeight(px(170))
        self.setMenuEnabled(False)
        self.hideButtons()
        self.setMouseEnabled(False, False)
        self.setAccessibleName("Deviation against triangles kept; drag the line")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        for side in ("bottom", "left"):
            axis = self.getAxis(side)
            axis.setPen("#8d8778")
            axis.setTextPen("#26241f")
            axis.setStyle(tickLength=-4, tickTextOffset=3)
        self.getAxis("left").setWidth(px(38))
        self.getPlotItem().layout.setContentsMargins(0, px(7), 0, 0)  # half a tick's text stands above the axis
        self.getAxis("bottom").setLabel("triangles kept", color="#5f594e")
        self._largest = self.plot(pen=pyqtgraph.mkPen(_COPPER, width=2.4))
        self._estimate = self.plot(pen=pyqtgraph.mkPen(_COPPER, width=1.6, style=Qt.PenStyle.DotLine))
        self._bounds = pyqtgraph.ScatterPlotItem(size=6, symbol="o", brush=QColor(_COPPER), pen=None)
        self.addItem(self._bounds)
        self._p99 = self.plot(pen=pyqtgraph.mkPen("#5f594e", width=1.4, style=Qt.PenStyle.DashLine))
        self._line = pyqtgraph.InfiniteLine(pos=0, angle=90, pen=pyqtgraph.mkPen("#26241f", width=1.5))
        self._grip = pyqtgraph.ScatterPlotItem(
            size=13, symbol="s", brush=QColor(_COPPER), pen=pyqtgraph.mkPen("#ffffff")
        )
        self._budget = pyqtgraph.InfiniteLine(
            pos=0, angle=0, pen=pyqtgraph.mkPen("#2e7a55", width=1.4, style=Qt.PenStyle.DashLine)
        )
        self._notes = []
        for text, colour in (("at most, mm", _COPPER), ("99 % within, mm", "#5f594e")):
            note = pyqtgraph.TextItem(text, color=colour, anchor=(1, 0), fill="#f7f5f0")
            note.setZValue(5)
            self._notes.append(note)
        self._curve: Curve | None = None
        self.triangles = 0

    def show_curve(self, curve: Curve | None, again: bool = False) -> None:
        """Show another curve, or the same `again` with more of its levels measured; None: none is known.

        Up to where a bound is known of each level the line is drawn through; between others it is an estimate, dotted.
        """
        if curve is self._curve is None:
            return  # asked again and again while one is worked out
        self._curve = curve
        for item in (self._line, self._grip, self._budget, *self._notes):
            self.removeItem(item)
        if curve is None or len(curve.points) < 2:
            for line in (self._largest, self._estimate, self._p99, self._bounds):
                line.setData([], [])
            return
        points = curve.points[1:]
        least = max(min(p.p99 for p in points), 1e-9)
        x = np.log10([p.triangles for p in points])
        y = np.log10([max(p.largest, least) for p in points])
        bound = np.array([p.is_bound for p in points])
        holds = bound[:-1] & bound[1:]  # the pieces of line between two bounds
        self._largest.setData(x, y, connect=np.append(holds, False).astype(np.ubyte))
        self._estimate.setData(x, y, connect=np.append(~holds, False).astype(np.ubyte))
        self._bounds.setData(x[bound], y[bound])
        self._notes[0].setText("at most, mm" if bound.all() else "dotted: estimated")
        self._p99.setData(x, np.log10([max(p.p99, least) for p in points]))
        low, high = np.log10(least), np.log10(max(max(p.largest for p in points), least * 1.01))
        right = np.log10(curve.points[0].triangles)
        if not again or y.max() > self.getViewBox().viewRange()[1][1]:  # else nothing moves under the pointer
            self.setXRange(x.min(), right, padding=0.03)
            self.setYRange(low, high, padding=0.1)
        else:
            high = self.getViewBox().viewRange()[1][1] - 0.1 * (high - low)
        for item in (self._line, self._grip):
            self.addItem(item)
        for k, note in enumerate(self._notes):
            self.addItem(note)
            note.setPos(right, high + (0.1 - 0.17 * k) * (high - low))
        self.set_triangles(self.triangles)

    def set_budget(self, largest: float | None) -> None:
        """Draw the deviation that must not be passed; None: there is none."""
        self.removeItem(self._budget)
        if largest and self._curve is not None:
            self._budget.setValue(np.log10(largest))
            self.addItem(self._budget)

    def set_triangles(self, triangles: int) -> None:
        """Put the line at a number of triangles."""
        self.triangles = triangles
        if self._curve is not None and triangles > 0:
            x = np.log10(triangles)
            self._line.setValue(x)
            seen = self.getViewBox().viewRange()[1]
            largest = max(self._curve.largest_at(triangles), 1e-12)
            self._grip.setData([x], [np.clip(np.log10(largest), seen[0], seen[1])])

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if self.hasFocus():
            painter = QPainter(self.viewport())
            painter.setPen(QPen(QColor("#1f5fa8"), 2))
            painter.drawRect(self.viewport().rect().adjusted(1, 1, -1, -1))

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.viewport().update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.viewport().update()

    def _take(self, position: QPointF) -> None:
        if self._curve is None:
            return
        at = self.getViewBox().mapSceneToView(self.mapToScene(position.toPoint())).x()
        least, most = self._curve.points[-1].triangles, self._curve.points[0].triangles
        self.set_triangles(int(np.clip(10.0**at, least, most)))
        self.dragged.emit(self.triangles)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._take(event.position())
        event.accept()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._take(event.position())
        event.accept()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(event.key())
        if step is None or self._curve is None:
            event.ignore()
            return
        least, most = self._curve.points[-1].triangles, self._curve.points[0].triangles
        factor = (most / least) ** (step / 50)
        self.set_triangles(int(np.clip(self.triangles * factor, least, most)))
        self.dragged.emit(self.triangles)
