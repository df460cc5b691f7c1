"""How many findings there are of each size, on a logarithmic scale, with a limit to drag along it."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from tinsnip.app.widgets.theme import px

__all__ = ["SizePlot"]

_BINS = 24
_STEPS = 48
_BELOW, _ABOVE, _LINE = QColor("#b9861f"), QColor("#b9b2a3"), QColor("#26241f")


class SizePlot(QWidget):
    """Press or drag: what is smaller than the limit is marked. Left and Right move it by a fiftieth of the way."""

    limited = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self._sizes = np.empty(0)
        self._limit = 0.0
        self._unit = "mm"
        self.setFixedHeight(px(84))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.SplitHCursor)
        self.setAccessibleName("Strays by size; drag the limit below which they are ticked")
        self.setToolTip("Drag: what is smaller is ticked, what is larger is not. Chunks are ticked one by one.")

    def sizeHint(self) -> QSize:
        return QSize(px(200), px(84))

    def show_sizes(self, sizes: np.ndarray, limit: float, unit: str) -> None:
        """Show how many there are of each size, and where the limit stands."""
        self._sizes, self._limit, self._unit = np.asarray(sizes, dtype=float), limit, unit
        self.update()

    @property
    def limit(self) -> float:
        """What is smaller than this is marked."""
        return self._limit

    def _range(self) -> tuple[float, float]:
        """Logarithms of the lowest and the highest size shown, a little apart in any case."""
        some = self._sizes[self._sizes > 0]
        if len(some) == 0:
            return 0.0, 1.0
        low, high = np.log10(some.min()), np.log10(some.max())
        return float(low - 0.1), float(max(high, low + 0.2) + 0.1)

    def _paper(self) -> QRectF:
        return QRectF(px(6), px(6), self.width() - px(12), self.height() - px(24))

    def _x(self, size: float) -> float:
        low, high = self._range()
        paper = self._paper()
        share = (np.log10(max(size, 1e-12)) - low) / (high - low)
        return float(paper.left() + np.clip(share, 0.0, 1.0) * paper.width())

    def _size_at(self, x: float) -> float:
        low, high = self._range()
        paper = self._paper()
        share = np.clip((x - paper.left()) / max(paper.width(), 1.0), 0.0, 1.0)
        return float(10.0 ** (low + share * (high - low)))

    def _limit_to(self, size: float) -> None:
        self._limit = size
        self.update()
        self.limited.emit(size)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        self._limit_to(self._size_at(event.position().x()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._limit_to(self._size_at(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        way = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(event.key())
        if way is None:
            super().keyPressEvent(event)
            return
        low, high = self._range()
        at = np.clip(np.log10(max(self._limit, 1e-12)), low, high) + way * (high - low) / _STEPS
        self._limit_to(float(10.0 ** np.clip(at, low, high)))

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, paper = QPainter(self), self._paper()
        painter.fillRect(self.rect(), QColor("#f7f5f0"))
        low, high = self._range()
        counts, edges = np.histogram(np.log10(np.maximum(self._sizes, 1e-12)), bins=_BINS, range=(low, high))
        tallest = np.log1p(max(int(counts.max()), 1)) if len(self._sizes) else 1.0
        for count, left, right in zip(counts.tolist(), edges[:-1], edges[1:], strict=True):
            if not count:
                continue
            tall = max(px(3), np.log1p(count) / tallest * paper.height())
            a, b = self._x(10.0**left), self._x(10.0**right)
            bar = QRectF(a + 0.5, paper.bottom() - tall, max(b - a - 1, 1.0), tall)
            below = 10.0 ** (0.5 * (left + right)) < self._limit
            painter.fillRect(bar, _BELOW if below else _ABOVE)
            if below:  # told by hatching too
                painter.fillRect(bar, QColor(60, 45, 10))
                painter.fillRect(bar.adjusted(1, 1, -1, -1), _BELOW)
        painter.setPen(QPen(QColor("#8d8778"), 1))
        painter.drawLine(paper.bottomLeft(), paper.bottomRight())
        x = self._x(self._limit)
        painter.setPen(QPen(_LINE, px(2)))
        painter.drawLine(QPointF(x, paper.top()), QPointF(x, paper.bottom() + px(3)))
        font = painter.font()
        font.setPointSizeF(font.pointSizeF() * 0.85)
        painter.setFont(font)
        painter.setPen(QColor("#5f594e"))
        words = QRectF(paper.left(), paper.bottom() + px(2), paper.width(), px(16))
        if len(self._sizes):
            painter.drawText(words, Qt.AlignmentFlag.AlignLeft, f"{10**low:.3g}")
            painter.drawText(words, Qt.AlignmentFlag.AlignRight, f"{10**high:.3g} {self._unit}")
        if self.hasFocus():
            painter.setPen(QPen(QColor("#1f5fa8"), 2))
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
