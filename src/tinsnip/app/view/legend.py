"""What the colours of the view mean: range and histogram of the deviation, shares of the provenance."""

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QLinearGradient, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.widgets.fields import Button, DropDown, NumberField
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.survey.deviation import FromRaw, share_within
from tinsnip.words import at_most, millimetres, rounded_wide

__all__ = ["DensityLegend", "DeviationLegend", "ProvenanceLegend", "RangeBar", "WorkedOutLegend"]

_STOPS = (
    (0.0, "#a8451a"),
    (0.25, "#de8f57"),
    (0.5, "#ede9de"),
    (0.75, "#6ba6b8"),
    (1.0, "#0d5478"),
)
_BINS = 48


class RangeBar(QWidget):
    """A colour bar with a histogram beside it; its ends are dragged to set the range.

    Attributes
    ----------
    limit, reach : float
        The value at which the colours end, and that up to which the bar goes.
    counts : ndarray, shape (48,)
        From -reach to reach.
    stops : sequence of (float, str)
        Colours from the top down.
    told : callable
        A value in words.
    """

    dragged = Signal(float)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.limit = 0.1
        self.reach = 0.2
        self.stops: Sequence[tuple[float, str]] = _STOPS
        self.told: Callable[[float], str] = lambda value: f"{value:+.3g}" if value else "0"
        self.counts = np.zeros(_BINS)
        self._held = 0
        self.setMinimumSize(px(120), px(190))
        self.setMouseTracking(True)
        self.setAccessibleName(f"{name}; drag an end")

    def sizeHint(self) -> QSize:
        return QSize(px(130), px(200))

    def count(self, values: np.ndarray) -> None:
        """Take the histogram of some values over, from -reach to reach."""
        self.counts = np.histogram(values, _BINS, (-self.reach, self.reach))[0].astype(float)

    def y_of(self, value: float) -> float:
        """Where a deviation stands."""
        half = 0.5 * self.height() - 12
        return 0.5 * self.height() - half * float(np.clip(value / self.reach, -1, 1))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bar = QRectF(
            self.width() - px(24), self.y_of(self.reach), px(14), self.y_of(-self.reach) - self.y_of(self.reach)
        )
        top, bottom = self.y_of(self.limit), self.y_of(-self.limit)
        gradient = QLinearGradient(0, top, 0, bottom)
        for at, colour in self.stops:
            gradient.setColorAt(at, QColor(colour))
        painter.fillRect(bar, QBrush(gradient))
        painter.setPen(QPen(QColor(20, 22, 24, 190), 1))
        for beyond in (
            QRectF(bar.left(), bar.top(), bar.width(), top - bar.top()),
            QRectF(bar.left(), bottom, bar.width(), 0),
        ):
            beyond.setBottom(beyond.bottom() if beyond.top() < top else bar.bottom())
            painter.fillRect(beyond, QBrush(QColor(255, 255, 255, 150), Qt.BrushStyle.BDiagPattern))
        painter.drawRect(bar)
        if self.counts.max() > 0:  # the square root keeps the far, few ones in sight
            share = np.sqrt(self.counts / self.counts.max())
            edges = np.linspace(self.reach, -self.reach, _BINS + 1)
            points = [QPointF(bar.left() - 3, self.y_of(edges[0]))]
            for i, s in enumerate(share[::-1]):
                x = bar.left() - 3 - s * (bar.left() - px(52))
                points += [QPointF(x, self.y_of(edges[i])), QPointF(x, self.y_of(edges[i + 1]))]
            points.append(QPointF(bar.left() - 3, self.y_of(edges[-1])))
            painter.setPen(QPen(QColor("#e8e4da"), 1))
            painter.setBrush(QColor(232, 228, 218, 70))
            painter.drawPolygon(QPolygonF(points))
        painter.setFont(mono_font(self.font().pointSizeF() * 0.86))
        for value in (self.limit, 0.0, -self.limit):
            y = self.y_of(value)
            painter.setPen(QPen(QColor("#fbf8f0"), 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(px(50), y), QPointF(bar.right(), y))
            painter.setPen(QColor("#f1eee8"))
            box = QRectF(0, y - px(8), px(48), px(16))
            painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self.told(value))
            if value:
                painter.setBrush(QColor("#b4602a"))
                painter.setPen(QPen(QColor("#fbf8f0"), 1))
                painter.drawRoundedRect(QRectF(bar.left() - 3, y - px(4), bar.width() + 6, px(8)), 2, 2)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        y = event.position().y()
        ends = {1: self.y_of(self.limit), -1: self.y_of(-self.limit)}
        self._held = min(ends, key=lambda sign: abs(ends[sign] - y))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.setCursor(Qt.CursorShape.SizeVerCursor)
        if self._held:
            half = 0.5 * self.height() - 12
            value = self._held * (0.5 * self.height() - event.position().y()) / half * self.reach
            self.dragged.emit(float(np.clip(value, 0.02 * self.reach, self.reach)))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._held = 0


class DeviationLegend(QFrame):
    """Colour bar, histogram, and the range as a number."""

    limit_changed = Signal(float)
    clear_asked = Signal()
    against_chosen = Signal(str)
    outside_asked = Signal(float)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        self.is_chosen = False
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 8, 8, 8)
        box.setSpacing(4)
        self.title = QLabel("Deviation, mm, from")
        box.addWidget(self.title)
        self.against = DropDown("What the deviation is measured from")
        self.against.setSizeAdjustPolicy(DropDown.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.against.setMinimumContentsLength(8)
        self.against.currentIndexChanged.connect(lambda _: self.against_chosen.emit(self.against.currentData()))
        box.addWidget(self.against)
        self.show_references([], "")
        self.scale = RangeBar("Range of the deviation's colours")
        box.addWidget(self.scale, 1)
        row = QHBoxLayout()
        row.addWidget(QLabel("Range ±"))
        self.field = NumberField("Range of the deviation's colours, mm", 1e-5, 1e5, 4, step=0.01)
        row.addWidget(self.field)
        box.addLayout(row)
        self.note = QLabel()
        self.note.setWordWrap(True)
        box.addWidget(self.note)
        row = QHBoxLayout()
        row.addWidget(QLabel("Allowed ±"))
        self.tolerance = NumberField("Deviation that is allowed, mm", 0.0, 1e5, 4, step=0.01)
        self.tolerance.valueChanged.connect(self._show_share)
        row.addWidget(self.tolerance)
        box.addLayout(row)
        self.share = QLabel()
        self.share.setWordWrap(True)
        box.addWidget(self.share)
        self.outside = Button("Select what is outside")
        self.outside.clicked.connect(lambda: self.outside_asked.emit(self.tolerance.value()))
        box.addWidget(self.outside)
        self._measured: FromRaw | None = None
        self.clear = Button("Clear the readings")
        self.clear.clicked.connect(self.clear_asked)
        self.clear.hide()
        box.addWidget(self.clear)
        self.setFixedWidth(px(176))
        self.scale.dragged.connect(self._choose)
        self.field.valueChanged.connect(self._choose)
        self.hide()

    def show_references(self, named: Sequence[tuple[str, str]], chosen: str) -> None:
        """Offer what can be measured from: keys and names; empty is the raw scan."""
        rows = [("", "the raw scan"), *named]
        if rows != [(self.against.itemData(i), self.against.itemText(i)) for i in range(self.against.count())]:
            self.against.blockSignals(True)
            self.against.clear()
            for key, name in rows:
                self.against.addItem(name, key)
            self.against.blockSignals(False)
        self.against.blockSignals(True)
        self.against.setCurrentIndex(max(0, self.against.findData(chosen)))
        self.against.blockSignals(False)

    def _show_share(self, *_: object) -> None:
        """Tell how much is within what is allowed; nothing allowed: nothing is told."""
        tolerance = self.tolerance.value()
        told = self._measured is not None and tolerance > 0
        if told:
            within = share_within(self._measured, tolerance)
            self.share.setText(f"{100 * within:.2f} % within, {100 * (1 - within):.2f} % outside")
        self.share.setVisible(told)
        self.outside.setVisible(told)
        self.adjustSize()

    def _choose(self, limit: float) -> None:
        self.is_chosen = True
        self.set_limit(limit)
        self.limit_changed.emit(limit)

    def set_limit(self, limit: float) -> None:
        """Show a range."""
        self.scale.limit = limit
        self.scale.reach = max(self.scale.reach, limit)
        self.field.blockSignals(True)
        self.field.setDecimals(4 if limit < 1 else 2)
        self.field.setValue(limit)
        self.field.blockSignals(False)
        self.scale.update()

    def show_measured(self, measured: FromRaw | None) -> None:
        """Take over what was measured; None: it is still being measured."""
        self._measured = measured
        self._show_share()
        if measured is None:
            self.scale.counts = np.zeros(_BINS)
            self.note.setText("Measuring…")
            self.scale.update()
            return
        some = measured.signed[:: max(1, len(measured.signed) // 300_000)]
        some = some[np.isfinite(some) & (some != 0)]
        overall = measured.overall
        if not self.is_chosen:
            self.scale.reach = 1e-30
            self.scale.limit = rounded_wide(overall.p99)
        self.scale.reach = max(2.0 * self.scale.limit, 1e-9)
        self.scale.count(some)
        if overall.samples:
            self.note.setText(
                f"largest {at_most(overall.max)} mm\n99 % of the surface\nwithin {millimetres(overall.p99)} mm"
            )
        else:
            self.note.setText("All that was measured\nstands where it was.")
        limit = self.scale.limit
        self.set_limit(limit)
        self.limit_changed.emit(limit)
        self.adjustSize()


class _Swatch(QWidget):
    """A patch of the colour and pattern that stands for a provenance."""

    def __init__(self, kind: int) -> None:
        super().__init__()
        self.kind = kind
        self.setFixedSize(px(22), px(16))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        base, lines, style = (
            (QColor("#bfbeb9"), None, None),
            (QColor("#a9c7d1"), QColor("#40697d"), Qt.BrushStyle.FDiagPattern),
            (QColor("#ede1fa"), QColor("#7a45bd"), Qt.BrushStyle.BDiagPattern),
        )[self.kind]
        painter.fillRect(self.rect(), base)
        if lines is not None:
            painter.fillRect(self.rect(), QBrush(lines, style))
        painter.setPen(QColor("#1d2023"))
        painter.drawRect(self.rect().adjusted(0, 0, -1, -1))


class ProvenanceLegend(QFrame):
    """How much of the surface was measured, shifted, made."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        box = QVBoxLayout(self)
        box.setContentsMargins(10, 8, 12, 10)
        box.addWidget(QLabel("Share of the surface"))
        self.shares = []
        for kind, name in enumerate(("measured", "shifted", "made")):
            row = QHBoxLayout()
            row.addWidget(_Swatch(kind))
            row.addWidget(QLabel(name))
            row.addStretch(1)
            value = QLabel("…")
            value.setFont(mono_font(bold=True))
            value.setAccessibleName(f"Share {name}")
            row.addWidget(value)
            box.addLayout(row)
            self.shares.append(value)
        note = QLabel("Click a made surface to go\nback to the step that made it.")
        note.setObjectName("muted")
        box.addWidget(note)
        self.setFixedWidth(px(204))
        self.hide()

    def show_measured(self, measured: FromRaw | None) -> None:
        """Take the shares over; None: they are still being worked out."""
        for k, label in enumerate(self.shares):
            label.setText("…" if measured is None else f"{100 * measured.shares[k]:.2f} %")
        self.adjustSize()


class WorkedOutLegend(QFrame):
    """A legend of what is worked out first: it says that, how far it is, and what went wrong.

    Attributes
    ----------
    note : QLabel
    """

    note: QLabel

    def show_working(self, fraction: float = 0.0) -> None:
        """It is being worked out, and so far."""
        self.note.setText(f"Being worked out, {100 * fraction:.0f} %" if fraction >= 0.005 else "Being worked out…")
        self.note.show()

    def show_failed(self, why: str) -> None:
        """It could not be worked out."""
        self.note.setText(f"It could not be worked out: {why}")
        self.note.show()
        self.adjustSize()


class DensityLegend(WorkedOutLegend):
    """What the colours of the density mean: lengths of edges, a quarter to four times the middle one."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(10), px(8), px(10), px(8))
        box.addWidget(QLabel("Length of the edges there"))
        self.rows: list[QLabel] = []
        for colour in ("#a8451a", "#c98a63", "#ede9de", "#7ba0ab", "#0d5478"):
            row = QHBoxLayout()
            patch = QLabel()
            patch.setFixedSize(px(18), px(14))
            patch.setStyleSheet(f"background: {colour}; border: 1px solid #1d2023;")
            label = QLabel("–")
            label.setFont(mono_font())
            row.addWidget(patch)
            row.addWidget(label)
            row.addStretch(1)
            box.addLayout(row)
            self.rows.append(label)
        self.note = QLabel()
        self.note.setWordWrap(True)
        self.note.hide()
        box.addWidget(self.note)
        self.hide()

    def show_middle(self, middle: float) -> None:
        """Tell the lengths, mm, from that of the middle edge."""
        self.note.hide()
        names = ("over ", "", "", "", "under ")
        for label, name, times in zip(self.rows, names, (4.0, 2.0, 1.0, 0.5, 0.25), strict=True):
            what = ", the middle" if times == 1.0 else ""
            label.setText(f"{name}{middle * times:.3g} mm{what}")
            label.setMinimumWidth(label.sizeHint().width() + px(14))
