"""What the looks at the shape itself mean: stripes of light, how it bends, and its fine relief."""

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.view.legend import RangeBar, WorkedOutLegend
from tinsnip.app.widgets.fields import DropDown, NumberField, TickBox
from tinsnip.app.widgets.theme import px
from tinsnip.words import rounded_wide

__all__ = ["CurvatureLegend", "ReliefLegend", "StripesLegend", "radius_told"]

_FLAT = 1e5
"""A radius from which on a surface is called flat, mm."""


def radius_told(bend: float, signed: bool = True) -> str:
    """One over a radius as that radius, mm."""
    if abs(bend) * _FLAT <= 1.0:
        return "flat"
    return f"R {1 / abs(bend):.3g}" + (" mm, round" if bend > 0 else " mm, hollow") * signed


class StripesLegend(QFrame):
    """How many lights there are, and whether they stand still."""

    changed = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(10), px(8), px(10), px(10))
        box.addWidget(QLabel("Stripes of light on a shine"))
        row = QHBoxLayout()
        row.addWidget(QLabel("How many"))
        self.field = NumberField("How many stripes", 4.0, 80.0, 0, "", 2.0)
        self.field.setValue(16.0)
        row.addWidget(self.field)
        box.addLayout(row)
        self.still = TickBox("stand still with the part")
        self.still.setToolTip("Else they stand still before you, and run over the part while it turns")
        box.addWidget(self.still)
        note = QLabel("A dent, a step or a flat bends or breaks a line.\nClick to read how steep it is.")
        note.setObjectName("muted")
        box.addWidget(note)
        self.field.valueChanged.connect(lambda _: self.changed.emit())
        self.still.toggled.connect(lambda _: self.changed.emit())
        self.adjustSize()
        self.hide()


class _RangeLegend(WorkedOutLegend):
    """A bar of colours with a histogram, its range as a number, and a note."""

    limit_changed = Signal()

    def __init__(self, parent: QWidget, title: str, field: str, unit: str) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        self.is_chosen = False
        self._values = np.zeros(0)
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(px(10), px(8), px(8), px(10))
        self._box.addWidget(QLabel(title))
        self.scale = RangeBar(f"Range of the colours: {title}")
        self._box.addWidget(self.scale, 1)
        row = QHBoxLayout()
        row.addWidget(QLabel(field))
        self.field = NumberField(f"{field}, {title}", 1e-5, 1e5, 4, unit, step=0.01)
        row.addWidget(self.field)
        self._box.addLayout(row)
        self.note = QLabel()
        self.note.setObjectName("muted")
        self._box.addWidget(self.note)
        self.setFixedWidth(px(240))
        self.scale.dragged.connect(self._choose)
        self.field.valueChanged.connect(lambda value: self._choose(self.limit_of(value)))
        self.hide()

    @property
    def limit(self) -> float:
        """The value at which the colours end."""
        return self.scale.limit

    def limit_of(self, shown: float) -> float:
        """The value that a number in the field stands for."""
        return shown

    def field_of(self, limit: float) -> float:
        """What the field shows of a value."""
        return limit

    def show_values(self, values: np.ndarray, note: str) -> None:
        """Take values over; their range is set from them as long as nobody has set it."""
        some = values[:: max(1, len(values) // 300_000)]
        self._values = some[np.isfinite(some)]
        self.note.setText(note)
        if not self.is_chosen and len(self._values):
            self.scale.limit = rounded_wide(max(float(np.quantile(np.abs(self._values), 0.95)), 1e-9))
        self._show()

    def _choose(self, limit: float) -> None:
        self.is_chosen = True
        self.scale.limit = limit
        self._show()

    def _show(self) -> None:
        self.scale.reach = max(2.0 * self.scale.limit, 1e-9)
        self.scale.count(self._values)
        self.field.blockSignals(True)
        self.field.setValue(self.field_of(self.scale.limit))
        self.field.blockSignals(False)
        self.scale.update()
        self.adjustSize()
        self.limit_changed.emit()


class CurvatureLegend(_RangeLegend):
    """How the surface bends, as radii."""

    kind_changed = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "How it bends, radius in mm", "Hatched under", "mm")
        self.kind = DropDown("Which bending is shown")
        for text, key in (("where it bends most", "largest"), ("mean of all ways", "mean")):
            self.kind.addItem(text, key)
        self._box.insertWidget(1, self.kind)
        self.kind.currentIndexChanged.connect(lambda _: self.kind_changed.emit())
        self.scale.told = lambda bend: radius_told(bend, signed=False)

    def limit_of(self, shown: float) -> float:
        return 1.0 / max(shown, 1e-9)

    def field_of(self, limit: float) -> float:
        return 1.0 / max(limit, 1e-9)


class ReliefLegend(_RangeLegend):
    """What stands out of the surface and what lies back, as it is shaded."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, "Fine relief, mm", "Range ±", "mm")
        self.scale.stops = ((0.0, "#f7f3e8"), (0.5, "#a5a39c"), (1.0, "#1d1b17"))
