"""The base of a plinth, dragged by a tab under the rim."""

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter

from tinsnip.app.tools.snapping import Snaps
from tinsnip.app.view.hand import Drag, Pointer, Tab, Tool, View, draw_tab, draw_tab_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.treat.kit.edges.rimplanes import base_facing

__all__ = ["DragBase"]

_LEAST = 0.01


class DragBase(Tool):
    """A tab where the base would lie; dragging it makes the plinth deeper."""

    name = "Drag the base"
    dragged = Signal(float)

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.depth = 0.0
        self._is_held = False
        self.stopped_at = ""
        """The datum that the base has come to stop at."""

    def hint(self) -> str:
        return "Drag the tab to where the base shall lie  (Esc to leave)"

    def _under_rim(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Middle of the widest rim at the depth of its farthest point, and the way the base faces."""
        found, mesh = self.session.examination, self.session.mesh
        if found is None or mesh is None or not found.boundaries.is_rim.any():
            return None
        edges = found.boundaries
        rim = int(np.argmax(np.where(edges.is_rim, edges.span, -1.0)))
        outward = base_facing(edges.vector_area[rim])
        points = mesh.vertices[mesh.faces.ravel()[mesh.loops.loop(rim)]]
        middle = points.mean(axis=0)
        return middle + (float((points @ outward).max()) - middle @ outward) * outward, outward

    def tabs(self) -> list[Tab]:
        known = self._under_rim()
        if known is None:
            return []
        x, y, _ = self.view.camera.project((known[0] + self.depth * known[1])[None])[0]
        return self.spread([("slide", x, y)], px(13))

    def press(self, at: Pointer) -> Drag | None:
        is_left = at.button == Qt.MouseButton.LeftButton
        return self._drag(at) if is_left and self.tab_at(at.x, at.y) is not None else None

    def _drag(self, at: Pointer) -> Drag:
        before, free, (under, outward) = self.depth, self.depth, self._under_rim()
        snaps = Snaps.of(self.view)
        right, up, _ = self.view.camera.frame()
        flat = np.array([outward @ right, outward @ up])
        self._is_held = True
        try:
            while at.is_down:
                now = yield
                dx, dy = now.x - at.x, now.y - at.y
                along = (dx * flat[0] - dy * flat[1]) / max(float(flat @ flat), 0.02)
                scale = self.view.camera.scale * float(self.view.camera.shrink_at(under)[0])
                free = max(free + along * scale, _LEAST)
                is_free = bool(now.keys & Qt.KeyboardModifier.AltModifier)
                found = None if is_free else snaps.offset(outward, float(under @ outward) + free)
                at_datum = found is not None and found[0] - under @ outward >= _LEAST
                self.depth = float(found[0] - under @ outward) if at_datum else free
                self.stopped_at = found[1].name if at_datum else ""
                self.dragged.emit(self.depth)
                self.update()
                at = now
        except GeneratorExit:
            self.depth = before
            self.dragged.emit(before)
            raise
        finally:
            self._is_held, self.stopped_at = False, ""

    def draw(self, painter: QPainter) -> None:
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        for tab in self.tabs():
            box = QRectF(tab.at.x() - 0.6 * tab.half, tab.at.y() - tab.half, 1.2 * tab.half, 2 * tab.half)
            draw_tab(painter, box, self._is_held)
            told = f"{self.depth:.2f} mm under the rim" + f" · at {self.stopped_at}" * bool(self.stopped_at)
            draw_tab_label(painter, tab, told, self.view)
