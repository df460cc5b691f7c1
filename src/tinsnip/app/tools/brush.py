"""Brushes over the view: a ring on the surface, and strokes that are seen while they are drawn."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View
from tinsnip.app.widgets.theme import px
from tinsnip.regions import Region
from tinsnip.survey.measuring import ring_about
from tinsnip.treat import BrushStroke
from tinsnip.treat.shape.brushes import BRUSHES

__all__ = ["OF_LENGTH", "BrushTool"]

_CONTROL = Qt.KeyboardModifier.ControlModifier
_APART = 0.25
"""How far apart the places of a stroke are, of the radius."""
_MOST_BETWEEN = 60
_STEP = 1.15
_MIRRORS = {"left, right": 0, "front, back": 1, "top, bottom": 2}
"""The axis across the part's middle plane by which a stroke is mirrored."""
_STAY, _AS_DENSE, OF_LENGTH = "stay", "as dense as before", "of a length"


class BrushTool(Tool):
    """One brush in hand, which can become any other."""

    name = "Brush the surface"
    cursor = Qt.CursorShape.CrossCursor
    hides_rest = True
    options = (
        Option("Radius", "radius", 30.0, (0.01, 10_000.0)),
        Option("Radius in", "unit", "pixels", ("pixels", "mm")),
        Option("Strength", "strength", 50, (1, 100), "%"),
        Option("Fades", "falloff", "soft", ("soft", "sharp", "broad")),
        Option("Mirror", "mirror", "off", ("off", *_MIRRORS)),
        Option("Triangles", "density", _STAY, (_STAY, _AS_DENSE, OF_LENGTH)),
        Option("Their edges", "edge", 1.0, (1e-3, 10_000.0), "mm"),
    )

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.brush = "smooth"
        self._at = QPointF(-100, -100)
        self._on: tuple[np.ndarray, np.ndarray] | None = None

    def hint(self) -> str:
        both = f", mirrored {self.mirror.replace(', ', ' to ')}" if self.mirror in _MIRRORS else ""
        return f"{BRUSHES[self.brush].told}{both}; [ and ] for its size  (Esc to leave)"

    @property
    def reach(self) -> float:
        """Its radius, mm."""
        return self.radius if self.unit == "mm" else px(1) * self.radius * self.view.camera.scale

    def _other(self, values: np.ndarray, is_place: bool = True) -> np.ndarray | None:
        """A place, mm, or a way, on the mirrored side; None where nothing is mirrored."""
        axis = _MIRRORS.get(self.mirror)
        if axis is None:
            return None
        other = np.array(values, dtype=float)
        other[..., axis] = (2.0 * self.session.mesh.box[:, axis].mean() if is_place else 0.0) - other[..., axis]
        return other

    def taken(self) -> None:
        self.view.stroking.prepare()

    def resize(self, steps: float) -> None:
        """Let it be larger, or smaller."""
        self.radius = float(np.clip(self.radius * _STEP**steps, 0.01, 10_000.0))
        self.option_changed.emit()
        self.update()

    def takes_key(self, event: QKeyEvent) -> bool:
        return event.text() in ("[", "]")

    def key(self, event: QKeyEvent) -> bool:
        if event.text() not in ("[", "]"):
            return False
        self.resize(1.0 if event.text() == "]" else -1.0)
        return True

    def wheel(self, steps: float, keys: Qt.KeyboardModifier) -> bool:
        if not keys & Qt.KeyboardModifier.ShiftModifier:
            return False
        self.resize(steps)
        return True

    def hover(self, x: float, y: float) -> None:
        self._at = QPointF(x, y)
        self._on = self.view.stroking.hit_facing(*self.view.camera.ray_from_outside(x, y))
        self.update()

    def press(self, at: Pointer) -> Drag | None:
        return self._stroke(at) if at.button == Qt.MouseButton.LeftButton and self.is_on_part(at) else None

    def _action(self, turned: bool) -> BrushStroke:
        hidden, mesh = self.session.selected.hidden, self.session.mesh
        return BrushStroke(
            brush=self.brush, radius_mm=self.reach, strength=self.strength / 100.0, falloff=self.falloff,
            turned=turned and bool(BRUSHES[self.brush].turned),
            spared=Region() if hidden is None else Region.of(mesh, hidden),
            dense=self.density != _STAY, edge_mm=float(self.edge) if self.density == OF_LENGTH else None,
        )  # fmt: skip

    def _stroke(self, at: Pointer) -> Drag:
        stroking, camera = self.view.stroking, self.view.camera
        start = stroking.hit(*camera.ray_from_outside(at.x, at.y))
        if start is None or not stroking.begin(self._action(bool(at.keys & _CONTROL))):
            return
        try:
            stroking.touch(start, pressure=at.pressure, other=self._other(start))
            last = at
            while at.is_down:
                for x, y in self._between(last, at):
                    place = self._in_view(start, x, y) if self.brush == "draw" else self._hit(x, y)
                    if place is not None:
                        stroking.touch(place, pressure=at.pressure, other=self._other(place))
                last, at = at, (yield)
                self.hover(at.x, at.y)
        except GeneratorExit:
            stroking.cancel()
            raise
        stroking.end()

    def _hit(self, x: float, y: float) -> np.ndarray | None:
        return self.view.stroking.hit(*self.view.camera.ray_from_outside(x, y))

    def _in_view(self, start: np.ndarray, x: float, y: float) -> np.ndarray:
        """Under the pointer, as far from the eye as where the stroke began."""
        point, way = self.view.camera.ray(x, y)
        return point + ((start - point) @ way) * way

    def _between(self, last: Pointer, at: Pointer) -> list[tuple[float, float]]:
        """Where the brush came by since it was seen last, about a quarter of its radius apart."""
        away = float(np.hypot(at.x - last.x, at.y - last.y))
        if away == 0:
            return []
        count = 1
        if self.brush != "draw":
            step = max(_APART * self.reach / self.view.camera.scale, 1.0)
            count = int(np.clip(round(away / step), 1, _MOST_BETWEEN))
        shares = (np.arange(count) + 1) / count
        return [(last.x + t * (at.x - last.x), last.y + t * (at.y - last.y)) for t in shares]

    def draw(self, painter: QPainter) -> None:
        """A ring on the surface under the pointer, and on the mirrored side; beside the part, one in the view."""
        rings = []
        if self._on is not None:
            point, facing = self._on
            sides = [(point, facing, Qt.PenStyle.SolidLine)]
            if self.mirror in _MIRRORS:
                sides.append((self._other(point), self._other(facing, is_place=False), Qt.PenStyle.DashLine))
            for place, way, style in sides:
                places = self.view.camera.project(place + ring_about(way, self.reach))
                rings.append((QPolygonF([QPointF(x, y) for x, y, _ in places]), style))
        for colour, width in ((QColor("#1d2023"), 3.0), (QColor("#fbf8f0"), 1.4)):
            for ring, style in rings:
                painter.setPen(QPen(colour, px(width), style))
                painter.drawPolyline(ring)
            if not rings:
                painter.setPen(QPen(colour, px(width)))
                radius = self.reach / self.view.camera.scale
                painter.drawEllipse(self._at, radius, radius)
