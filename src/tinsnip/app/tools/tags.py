"""Tags: the findings of the open station, each with a paper tag beside its place."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from tinsnip.app.view.hand import Drag, Pointer, Tool, View
from tinsnip.app.widgets.findinglist import size_text
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.survey import Finding

__all__ = ["Tags"]

_MOST = 14
_MOST_POINTS = 200


class Tags(Tool):
    """A click on a tag flies there; what is pointed at, here or in the list, is outlined."""

    name = "Tags"

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.boxes: list[tuple[QRectF, Finding]] = []
        self.hovered: Finding | None = None
        self.session.hovered.connect(self._show_hovered)
        for signal in (self.session.mesh_changed, self.session.station_changed):
            signal.connect(lambda *_: self._show_hovered(None))  # its list is gone
        for signal in (self.session.ticks_changed, self.session.examined, self.session.station_changed):
            signal.connect(lambda *_: self.update())

    def _show_hovered(self, finding: Finding | None) -> None:
        self.hovered = finding
        self.update()

    def at(self, x: float, y: float) -> Finding | None:
        """The finding whose tag is at a screen position."""
        return next((finding for box, finding in self.boxes if box.contains(x, y)), None)

    def cursor_at(self, x: float, y: float) -> Qt.CursorShape | None:
        return Qt.CursorShape.PointingHandCursor if self.at(x, y) is not None else None

    def hover(self, x: float, y: float) -> None:
        finding = self.at(x, y)
        if finding is not self.hovered:
            self._show_hovered(finding)

    def press(self, at: Pointer) -> Drag | None:
        finding = self.at(at.x, at.y)
        return None if finding is None or at.button != Qt.MouseButton.LeftButton else self._fly(finding)

    def _fly(self, finding: Finding) -> Drag:
        self.session.fly_to.emit(finding)
        return
        yield

    def draw(self, painter: QPainter) -> None:
        if self.hovered is not None:
            self._outline(painter, self.hovered)
        self._place(painter)

    def _place(self, painter: QPainter) -> None:
        """The largest findings' tags, moved apart, each with a line to its place."""
        self.boxes = []
        every = self.session.findings()
        findings = [f for f in every if f.kind.facts.spans][:_MOST] + [f for f in every if not f.kind.facts.spans]
        if not findings:
            return
        width, height = self.view.width(), self.view.height()
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        metrics = QFontMetricsF(painter.font())
        places = self.view.camera.project(np.array([f.place for f in findings]))
        hand = self.view.hand
        taken = [r for tool in hand.fixed if (r := tool.area()) is not None] + self.view.covered()
        for tool in (hand.rest, hand.tool):
            for tab in () if tool is None else tool.tabs():
                taken.append(QRectF(tab.at.x() - tab.half, tab.at.y() - tab.half, 5 * tab.half, 2 * tab.half))
        placed = []
        for i, (finding, (x, y, _)) in enumerate(zip(findings, places, strict=True)):
            if not (0 <= x <= width and 0 <= y <= height):
                continue
            text = finding.id if i >= 3 and finding.kind.facts.spans else f"{finding.id} {size_text(finding)}"
            wide, high = metrics.horizontalAdvance(text) + 12, metrics.height() + 4
            for step in range(24):  # spiral out until it covers nothing else
                angle, reach = -1.1 + 2.4 * step, px(22) + px(7) * step
                box = QRectF(x + reach * np.cos(angle), y + reach * np.sin(angle) - high / 2, wide, high)
                box.moveLeft(float(np.clip(box.left(), 4, max(4, width - wide - 4))))
                box.moveTop(float(np.clip(box.top(), 4, max(4, height - high - 4))))
                if not any(box.intersects(other) for other in taken):
                    break
            taken.append(box)
            placed.append((box, finding, text, QPointF(x, y)))
        for box, _, _, at in placed:  # all lines below all tags, so that none crosses what is to be read
            painter.setPen(QPen(QColor(251, 248, 240, 200), 1))
            painter.drawLine(at, box.center())
            painter.setBrush(QColor("#fbf8f0"))
            painter.drawEllipse(at, 2.2, 2.2)
        for box, finding, text, _ in placed:
            on = self.session.is_ticked(finding) or not finding.kind.facts.can_tick
            painter.setPen(QPen(QColor("#1d2023"), 1))
            painter.setBrush(QColor("#fbf8f0") if on else QColor("#c9c4b8"))
            painter.drawRect(box)
            painter.setPen(QColor("#1d1b17"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
            self.boxes.append((box, finding))

    def _outline(self, painter: QPainter, finding: Finding) -> None:
        flat = self.view.camera.project(finding.outline)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor("#1d2023"), 5.0), (QColor("#c6e83a"), 2.5)):
            painter.setPen(QPen(colour, width))
            if finding.kind.facts.drawn == "ring":
                painter.drawPolygon(QPolygonF([QPointF(x, y) for x, y, _ in flat]))
            elif finding.kind.facts.drawn == "points":
                for x, y, _ in flat[:_MOST_POINTS]:
                    painter.drawEllipse(QPointF(x, y), 5, 5)
            else:
                low, high = flat.min(axis=0), flat.max(axis=0)
                painter.drawEllipse(QRectF(low[0] - 5, low[1] - 5, high[0] - low[0] + 10, high[1] - low[1] + 10))
