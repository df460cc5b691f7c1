"""Handles of a bend, a taper or a twist: where it begins and ends, and by how much."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter

from tinsnip.app.tools.cutting import draw_line
from tinsnip.app.view.hand import Drag, Pointer, Tab, Tool, View, draw_tab, draw_tab_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.treat import Bend

__all__ = ["BendTool"]

_A_PIXEL = 0.5
"""Degrees, or hundredths of the size, that a pixel is."""
_BESIDE = 0.75
"""How far beside the axis the handle of the amount stands, of the part's width across it."""
_WIDER = 1.06
"""The frames, of the part across the axis."""


class BendTool(Tool):
    """Two tabs slide along the axis, a third says by how much; what is dragged is typed too.

    Signals
    -------
    dragged
        A field of `Bend`, and what it shall be.

    Parameters
    ----------
    view : View
    values : callable
        The bend as it is typed; None where that is not clear.
    """

    name = "Bend by handles"
    dragged = Signal(str, float)

    def __init__(self, view: View, values: Callable[[], Bend | None]) -> None:
        super().__init__(view)
        self._values = values
        self._held = ""

    def _stands(self) -> tuple[Bend, np.ndarray, np.ndarray, np.ndarray] | None:
        """The bend, its axes in rows, and the heights and places on it where it begins and ends, mm."""
        bend, mesh = self._values(), self.session.mesh
        if bend is None or mesh is None or len(mesh.faces) == 0:
            return None
        frame = bend.frame(mesh)
        corners = np.stack(np.meshgrid(*mesh.box.T), axis=-1).reshape(-1, 3)
        across = (corners - frame.origin) @ frame.axes.T
        heights = np.array([across[:, 2].min(), across[:, 2].max()])
        for i, typed in enumerate((bend.from_mm, bend.to_mm)):
            heights[i] = heights[i] if typed is None else typed
        middle = frame.origin + 0.5 * (across.min(axis=0) + across.max(axis=0))[:2] @ frame.axes[:2] * (not bend.line)
        half = 0.5 * np.ptp(across, axis=0)[:2, None] * frame.axes[:2]
        places = middle + heights[:, None] * frame.axes[2]
        return bend, np.concatenate([half, frame.axes[2:]]), heights, places

    def tabs(self) -> list[Tab]:
        stands = self._stands()
        if stands is None:
            return []
        _, axes, _, (begin, end) = stands
        places = self.view.camera.project(np.array([begin, end, end + 2 * _BESIDE * axes[0]]))
        names = zip(("from_mm", "to_mm", "amount"), places, strict=True)
        return self.spread([(name, place[0], place[1]) for name, place in names], px(11))

    def press(self, at: Pointer) -> Drag | None:
        tab = self.tab_at(at.x, at.y)
        return None if tab is None or at.button != Qt.MouseButton.LeftButton else self._drag(at, tab.name)

    def _drag(self, at: Pointer, name: str) -> Drag:
        bend, axes, heights, (begin, end) = self._stands()
        start, self._held = at, name
        field = name
        if name == "amount":
            field = "end_size_percent" if bend.how == "taper" else "angle_degrees"
            first = getattr(bend, field)
        else:
            here = begin if name == "from_mm" else end
            first = float(heights[0 if name == "from_mm" else 1])
            seen = self.view.camera.project(np.array([here, here + axes[2]]))[:, :2]
            along = seen[1] - seen[0]
        try:
            while at.is_down:
                at = yield
                moved = np.array([at.x - start.x, at.y - start.y])
                if name == "amount":
                    value = first + _A_PIXEL * (moved[0] - moved[1])
                    value = max(value, 1.0) if bend.how == "taper" else value
                elif along @ along > 1e-12:
                    value = first + float(moved @ along / (along @ along))
                else:  # one looks along it
                    continue
                self.dragged.emit(field, value)
                self.update()
        except GeneratorExit:
            self.dragged.emit(field, first)
            raise
        finally:
            self._held = ""
            self.update()

    def put_away(self) -> None:
        self.update()

    def draw(self, painter: QPainter) -> None:
        """A frame where it begins and one where it ends, the axis, and the tabs with what they say."""
        stands = self._stands()
        if stands is None:
            return
        bend, axes, heights, (begin, end) = stands
        u, v = _WIDER * axes[:2]
        for middle in (begin, end):
            draw_line(painter, self.view, middle + np.array([u + v, u - v, -u - v, v - u]))
        draw_line(painter, self.view, np.array([begin, end]), closed=False, dashed=True)
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        by = f"to {bend.end_size_percent:g} %" if bend.how == "taper" else f"by {bend.angle_degrees:g}°"
        told = {"from_mm": f"from {heights[0]:.4g} mm", "to_mm": f"to {heights[1]:.4g} mm", "amount": by}
        for tab in self.tabs():
            place = QRectF(tab.at.x() - tab.half, tab.at.y() - tab.half, 2 * tab.half, 2 * tab.half)
            draw_tab(painter, place, tab.name == self._held, is_round=tab.name == "amount")
            draw_tab_label(painter, tab, told[tab.name], self.view)
