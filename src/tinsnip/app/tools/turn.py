"""Turning the part: three tabs beside it, one about each axis, and the bed."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from tinsnip.app.view.hand import Drag, Pointer, Tab, Tool, View, draw_label, draw_tab, draw_tab_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.treat.stand.moves import rotation

__all__ = ["TurnTool"]


class TurnTool(Tool):
    """A drag of a tab shows the part turned; letting go says by how much."""

    name = "Turn"
    turned = Signal(object, float)

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._held, self._degrees = "", 0.0

    def tabs(self) -> list[Tab]:
        mesh, camera = self.session.mesh, self.view.camera
        if mesh is None:
            return []
        middle, half = mesh.box.mean(axis=0), 0.5 * (mesh.box[1] - mesh.box[0])
        reach = 1.15 * max(float(half.max()), 1e-9)
        ways = np.array([[0, -1, 0.35], [1, 0, 0.35], [-0.75, -0.75, 0]]) * reach
        named = zip("xyz", camera.project(middle + ways), strict=True)
        return self.spread([(name, place[0], place[1]) for name, place in named], px(14))

    def press(self, at: Pointer) -> Drag | None:
        tab = self.tab_at(at.x, at.y)
        return None if tab is None or at.button != Qt.MouseButton.LeftButton else self._turn(at, tab.name)

    def _turn(self, at: Pointer, axis: str) -> Drag:
        mesh, scene = self.session.mesh, self.view.scene
        way = np.eye(3)["xyz".index(axis)]
        self._held, self._degrees = axis, 0.0
        try:
            while at.is_down:
                now = yield
                self._degrees += 0.5 * (now.x - at.x - now.y + at.y)
                if scene is not None:
                    scene.turn = (rotation(way, self._degrees), mesh.box.mean(axis=0))
                    self.view.moved()
                at = now
        finally:
            degrees = self._degrees
            self._held, self._degrees = "", 0.0
            if scene is not None:
                scene.turn = None
            self.view.redraw()
        if abs(degrees) > 0.05:
            self.turned.emit(way, degrees)

    def put_away(self) -> None:
        self.update()

    def draw(self, painter: QPainter) -> None:
        """The bed as a dashed frame, and the tabs."""
        low, high = self.session.mesh.box
        pad = 0.15 * float((high - low).max())
        corners = [(low[0] - pad, low[1] - pad), (high[0] + pad, low[1] - pad), (high[0] + pad, high[1] + pad)]
        corners.append((low[0] - pad, high[1] + pad))
        bed = self.view.camera.project(np.array([(x, y, 0.0) for x, y in corners]))
        flat = [QPointF(x, y) for x, y, _ in bed]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(20, 22, 24, 140), 3.0), (QColor(251, 248, 240, 190), 1.2)):
            painter.setPen(QPen(colour, width, Qt.PenStyle.DashLine))
            painter.drawPolygon(QPolygonF(flat))
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        draw_label(painter, flat[0] + QPointF(4, 4), "bed z = 0")
        for tab in self.tabs():
            box = QRectF(tab.at.x() - tab.half, tab.at.y() - tab.half, 2 * tab.half, 2 * tab.half)
            draw_tab(painter, box, tab.name == self._held, is_round=True)
            painter.setPen(QColor("#ffffff"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tab.name)
            if tab.name == self._held:
                draw_tab_label(painter, tab, f"{self._degrees:.1f}° about {tab.name}", self.view)
