"""What the colours of the walls mean: a histogram of their thickness, and the least that is asked for."""

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.view.legend import WorkedOutLegend
from tinsnip.app.widgets.fields import Button, NumberField
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.words import counted

__all__ = ["WallLegend"]

_BARS = 32
_REACH = 6.0
"""The histogram goes to so many times the least wall."""
THIN, PALE, THICK = QColor("#a8451a"), QColor("#ede9de"), QColor("#0d5478")


class _Bars(QWidget):
    """How much of the part has which wall; hatched below the least one."""

    def __init__(self) -> None:
        super().__init__()
        self.counts, self.least = np.zeros(_BARS), 1.0
        self.setMinimumHeight(px(96))
        self.setAccessibleName("Histogram of the walls")

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        top = max(float(self.counts.max(initial=0.0)), 1e-30)
        wide, high = self.width() / _BARS, self.height() - px(16)
        for i, count in enumerate(self.counts):
            low = i * _REACH / _BARS
            colour = THIN if low < 1 else PALE if low < 2 else THICK
            bar = QRectF(i * wide, high * (1 - count / top), max(wide - 1, 1), high * count / top)
            painter.fillRect(bar, colour)
            if low < 1:
                painter.fillRect(bar, QBrush(QColor("#1d2023"), Qt.BrushStyle.BDiagPattern))
            painter.setPen(QPen(QColor("#6b6558"), 1))
            painter.drawRect(bar)
        painter.setPen(QPen(QColor("#e6e0d2"), 1))
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.85))
        for times in (1, 2, 4):
            x = times / _REACH * self.width()
            painter.drawLine(int(x), 0, int(x), int(high))
            painter.drawText(QRectF(x - px(24), high, px(48), px(16)), int(Qt.AlignmentFlag.AlignCenter),
                             f"{times * self.least:.3g}")  # fmt: skip


class WallLegend(WorkedOutLegend):
    """The least wall as a number, what is thinner, and what the colours mean."""

    minimum_changed = Signal(float)
    select_asked = Signal()
    thicken_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(10), px(8), px(10), px(10))
        box.addWidget(QLabel("Thickness of the wall, mm"))
        self.bars = _Bars()
        box.addWidget(self.bars)
        row = QHBoxLayout()
        row.addWidget(QLabel("Least wall"))
        self.field = NumberField("Least wall, mm", 1e-4, 1e5, 3, step=0.1)
        self.field.setValue(1.0)
        row.addWidget(self.field)
        box.addLayout(row)
        self.note = QLabel("…")
        self.note.setWordWrap(True)
        box.addWidget(self.note)
        self.select = Button("Select what is thinner")
        self.select.clicked.connect(self.select_asked)
        box.addWidget(self.select)
        self.thicken = Button("Thicken it there")
        self.thicken.setToolTip("Put both sides out where the wall is too thin, until it is as thick as asked")
        self.thicken.clicked.connect(self.thicken_asked)
        box.addWidget(self.thicken)
        self.setFixedWidth(px(212))
        self._walls = np.zeros(0)
        self.is_chosen = False
        self.field.valueChanged.connect(self._chosen)
        self.hide()

    @property
    def minimum(self) -> float:
        """The least wall, mm."""
        return float(self.field.value())

    def _chosen(self, value: float) -> None:
        self.is_chosen = True
        self._count()
        self.minimum_changed.emit(value)

    def show_working(self, fraction: float = 0.0) -> None:
        super().show_working(fraction)
        self.select.setEnabled(False)
        self.thicken.setEnabled(False)

    def show_walls(self, walls: np.ndarray) -> None:
        """Take walls over, mm, shape (V,); the least is set from them as long as nobody has set it."""
        self._walls = walls[np.isfinite(walls)]
        if not self.is_chosen and len(self._walls):
            self.field.blockSignals(True)
            self.field.setValue(float(f"{0.25 * float(np.median(self._walls)):.1g}"))
            self.field.blockSignals(False)
        self._count()

    def _count(self) -> None:
        self.bars.least = self.minimum
        self.bars.counts = np.histogram(self._walls / max(self.minimum, 1e-30), _BARS, (0, _REACH))[0]
        self.bars.update()

    def show_places(self, count: int) -> None:
        """Tell how many places are thinner."""
        least = float(self._walls.min()) if len(self._walls) else 0.0
        thin = f"{counted(count, 'place')} thinner; the thinnest {least:.3g} mm." if count else "Nothing is thinner."
        self.note.setText(f"{thin} Measured by rays inward." if len(self._walls) else "Nothing is opposite anywhere.")
        self.select.setEnabled(count > 0)
        self.thicken.setEnabled(count > 0)
        self.adjustSize()
