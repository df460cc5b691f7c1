"""Drawing a closed shape over the view: freehand, corner by corner, a rectangle, a circle from its centre."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from tinsnip.app.view.hand import Drag, Pointer, Tool, View
from tinsnip.app.widgets.theme import px

__all__ = ["CORNERS", "FREEHAND", "SHAPES", "Drawing", "without_tails"]

FREEHAND, CORNERS, RECTANGLE, CIRCLE = SHAPES = ("Freehand", "Corners", "Rectangle", "Circle")
_NEAR = 9
_CIRCLE = 180


class Drawing(Tool):
    """A shape is drawn; once it is closed, `closed` is called with its corners in pixels, shape (N, 2)."""

    cursor = Qt.CursorShape.CrossCursor
    draws = sees_parallel = True

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.shape = getattr(self, "shape", FREEHAND)
        self.points: list[tuple[float, float]] = []
        self._at = (0.0, 0.0)

    def closed(self, corners: np.ndarray, at: Pointer) -> None:
        """A shape has been drawn."""
        raise NotImplementedError

    def drawn(self) -> None:
        """What is being drawn has changed."""
        self.update()

    def hint(self) -> str:
        if self.shape == CORNERS and self.points:
            return "Click the next corner; the first one, or Enter, closes it; Backspace takes the last back"
        return {
            FREEHAND: "Draw round what is meant",
            CORNERS: "Click the first corner",
            RECTANGLE: "Drag from corner to corner",
            CIRCLE: "Drag from the centre outward",
        }[self.shape]

    def set_shape(self, shape: str) -> None:
        """Draw in another way."""
        self.shape, self.points = shape, []
        self.drawn()

    def press(self, at: Pointer) -> Drag | None:
        if at.button != Qt.MouseButton.LeftButton:
            return None
        return self._corner(at) if self.shape == CORNERS else self._stroke(at)

    def _corner(self, at: Pointer) -> Drag:
        first = self.points[0] if len(self.points) > 2 else None
        if first is not None and np.hypot(first[0] - at.x, first[1] - at.y) <= px(_NEAR):
            self.finish(at)
        elif not self.points or np.hypot(self.points[-1][0] - at.x, self.points[-1][1] - at.y) > 1:
            self.points.append((at.x, at.y))
            self.drawn()
        return
        yield

    @property
    def can_finish(self) -> bool:
        """Whether there are corners enough to close the shape."""
        return len(self.points) > 2

    def finish(self, at: Pointer | None = None) -> None:
        """Close the shape of corners."""
        if self.can_finish:
            corners, self.points = np.array(self.points), []
            none = Pointer(0, 0, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
            self.closed(corners, at or none)
        self.drawn()

    def take_back(self) -> bool:
        """Take the last corner back; False when there is none."""
        if not self.points:
            return False
        self.points.pop()
        self.drawn()
        return True

    def key(self, event: QKeyEvent) -> bool:
        return event.key() == Qt.Key.Key_Backspace and self.take_back()

    def hover(self, x: float, y: float) -> None:
        self._at = x, y
        if self.points:
            self.update()

    def _stroke(self, at: Pointer) -> Drag:
        begun = at
        self.points = [(at.x, at.y)]
        try:
            while at.is_down:
                at = yield
                if self.shape == FREEHAND:
                    if np.hypot(self.points[-1][0] - at.x, self.points[-1][1] - at.y) >= 2:
                        self.points.append((at.x, at.y))
                else:
                    self.points = _shape(self.shape, begun, at)
                self.update()
            corners = np.array(self.points)
            big = len(corners) > 2 and np.ptp(corners, axis=0).min() >= 3
            self.points = []
            if big:
                self.closed(without_tails(corners) if self.shape == FREEHAND else corners, at)
        finally:
            self.points = []
            self.drawn()

    def put_away(self) -> None:
        self.points = []

    def draw(self, painter: QPainter) -> None:
        if not self.points:
            return
        line = [QPointF(*p) for p in self.points]
        if self.shape == CORNERS:
            line.append(QPointF(*self._at))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(20, 22, 24, 160), 4.0), (QColor("#fbf8f0"), 1.6)):
            painter.setPen(QPen(colour, width))
            if self.shape in (FREEHAND, CORNERS):
                painter.drawPolyline(QPolygonF(line))
            else:
                painter.drawPolygon(QPolygonF(line))
        if self.shape == CORNERS:
            painter.setPen(QPen(QColor("#1d2023"), 1))
            painter.setBrush(QColor("#fbf8f0"))
            for i, point in enumerate(line[:-1]):
                reach = px(5 if i == 0 and self.can_finish else 3)
                painter.drawEllipse(point, reach, reach)


def _shape(shape: str, a: Pointer, b: Pointer) -> list[tuple[float, float]]:
    if shape == RECTANGLE:
        return [(a.x, a.y), (b.x, a.y), (b.x, b.y), (a.x, b.y)]
    radius = float(np.hypot(b.x - a.x, b.y - a.y))
    turn = np.linspace(0, 2 * np.pi, _CIRCLE, endpoint=False)
    return list(map(tuple, np.column_stack([a.x + radius * np.cos(turn), a.y + radius * np.sin(turn)]).tolist()))


def without_tails(corners: np.ndarray) -> np.ndarray:
    """A line drawn by hand, shape (N, 2), as a loop: where it crosses itself, the largest loop without the tails."""
    n = len(corners)
    a, b = corners, np.roll(corners, -1, axis=0)
    best = None
    for i in range(n - 3):
        j = np.arange(i + 2, n - 1)
        r, s = b[i] - a[i], b[j] - a[j]
        cross = r[0] * s[:, 1] - r[1] * s[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            d = a[j] - a[i]
            t = (d[:, 0] * s[:, 1] - d[:, 1] * s[:, 0]) / cross
            u = (d[:, 0] * r[1] - d[:, 1] * r[0]) / cross
        hits = np.flatnonzero((t >= 0) & (t <= 1) & (u >= 0) & (u <= 1))
        if len(hits) and (best is None or j[hits[-1]] - i > best[1] - best[0]):
            best = i, int(j[hits[-1]]), a[i] + t[hits[-1]] * r
    if best is None or best[1] - best[0] < n // 2:
        return corners
    return np.concatenate([best[2][None], corners[best[0] + 1 : best[1] + 1]])
