"""What the colours of the overhang mean, the angle that holds by itself, and the area that would want support."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.view.legend import WorkedOutLegend
from tinsnip.app.widgets.fields import Button, NumberField
from tinsnip.app.widgets.theme import px
from tinsnip.survey.overhang import Overhang
from tinsnip.words import grouped, percent

__all__ = ["OverhangLegend"]


class OverhangLegend(WorkedOutLegend):
    """The angle as a number, and what leans out further."""

    angle_changed = Signal(float)
    select_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("legend")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(10), px(8), px(10), px(10))
        box.addWidget(QLabel("Overhang, printed as it stands"))
        row = QHBoxLayout()
        row.addWidget(QLabel("Holds up to"))
        self.field = NumberField("Angle from the upright that holds by itself", 0.0, 90.0, 1, "°", 5.0)
        self.field.setValue(45.0)
        row.addWidget(self.field)
        box.addLayout(row)
        self.note = QLabel("…")
        self.note.setWordWrap(True)
        box.addWidget(self.note)
        for colour, text in (("#a8451a", "wants support (hatched)"), ("#4f8a99", "stands on the bed")):
            line = QHBoxLayout()
            patch = QLabel()
            patch.setFixedSize(px(18), px(14))
            patch.setStyleSheet(f"background: {colour}; border: 1px solid #1d2023;")
            line.addWidget(patch)
            line.addWidget(QLabel(text))
            line.addStretch(1)
            box.addLayout(line)
        self.select = Button("Select what wants support")
        self.select.clicked.connect(self.select_asked)
        box.addWidget(self.select)
        self.setFixedWidth(px(232))
        self.field.valueChanged.connect(self.angle_changed)
        self.hide()

    @property
    def angle(self) -> float:
        """Degrees from the upright."""
        return float(self.field.value())

    def show_working(self, fraction: float = 0.0) -> None:
        super().show_working(fraction)
        self.select.setEnabled(False)

    def show_overhang(self, found: Overhang, area: float) -> None:
        """Tell what wants support, of a surface of an area, mm2."""
        if found.area > 0:
            share = percent(found.area / max(area, 1e-300))
            self.note.setText(
                f"{grouped(round(found.area))} mm² want support, {share} of the surface; "
                f"{grouped(round(found.footprint))} mm² seen from below. "
                f"{grouped(round(found.on_bed))} mm² stand on the bed."
            )
        else:
            self.note.setText(f"Nothing wants support. {grouped(round(found.on_bed))} mm² stand on the bed.")
        self.select.setEnabled(found.area > 0)
        self.note.setFixedHeight(self.note.heightForWidth(self.width() - px(22)))
        self.adjustSize()
