"""The part layer by layer, as a machine builds it: filled outlines beside the view, and the plane in it."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSignalBlocker, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QSlider, QVBoxLayout, QWidget

from tinsnip.app.view.hand import View
from tinsnip.app.widgets.fields import Button, NumberField
from tinsnip.app.widgets.theme import px
from tinsnip.space.slicing import Layers
from tinsnip.survey import Finding, Kind
from tinsnip.survey.layers import LayerFault
from tinsnip.words import counted, grouped, lengths

__all__ = ["LayerPanel"]

_PLAY_MS = 60
_MOST_STEPS = 4000
"""Of more layers some are left out where they are played."""
_SOLID, _RIM, _OPEN, _GROUND = QColor("#c2855a"), QColor("#f0d9c6"), QColor("#ff8d5c"), QColor("#2c3134")


class _Sheet(QWidget):
    """One layer, drawn to fit."""

    def __init__(self) -> None:
        super().__init__()
        self.path = QPainterPath()
        self.lines: list[QPolygonF] = []
        self.rings: list[QPointF] = []
        self.box = QRectF(0, 0, 1, 1)
        self.setAccessibleName("The outlines of the layer")
        self.setMinimumSize(px(120), px(120))

    def sizeHint(self) -> QSize:
        return QSize(px(260), px(220))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), _GROUND)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = px(10)
        scale = min(
            (self.width() - 2 * room) / max(self.box.width(), 1e-9),
            (self.height() - 2 * room) / max(self.box.height(), 1e-9),
        )
        painter.translate(self.width() / 2, self.height() / 2)
        painter.scale(scale, -scale)  # y is up
        painter.translate(-self.box.center())
        pen = QPen(_RIM, 1.2)
        pen.setCosmetic(True)
        painter.setPen(pen)
        painter.setBrush(_SOLID)
        painter.drawPath(self.path)
        broken = QPen(_OPEN, 2.5, Qt.PenStyle.DashLine)
        broken.setCosmetic(True)
        painter.setPen(broken)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in self.lines:
            painter.drawPolyline(line)
        painter.setPen(QPen(broken.color(), 2))
        places = [painter.transform().map(place) for place in self.rings]
        painter.resetTransform()
        for place in places:
            painter.drawEllipse(place, px(9), px(9))


class LayerPanel(QFrame):
    """Height of the layers, the one that is shown, and those that cannot be built.

    Parameters
    ----------
    view : View
    """

    turned_on = Signal(bool)
    save_asked = Signal(bool)
    """This layer (False) or all (True) are to be written."""

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._view = view
        self.setObjectName("legend")
        self._layering = view.session.layering
        self.is_on = False
        box = QVBoxLayout(self)
        box.setContentsMargins(px(10), px(8), px(10), px(10))
        row = QHBoxLayout()
        row.addWidget(QLabel("Layers of"))
        self.height_field = NumberField("Height of a layer", 0.001, 1000.0, 3, "mm", 0.05)
        self.height_field.setValue(view.session.layering.height_mm)
        row.addWidget(self.height_field)
        row.addStretch(1)
        self.close_button = Button("Close")
        self.close_button.clicked.connect(lambda: self.set_on(False))
        row.addWidget(self.close_button)
        box.addLayout(row)
        self.sheet = _Sheet()
        box.addWidget(self.sheet)
        self.note = QLabel()
        self.note.setWordWrap(True)
        self.note.setMinimumHeight(px(34))
        self.note.setAlignment(Qt.AlignmentFlag.AlignTop)
        box.addWidget(self.note)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Which layer")
        self.slider.valueChanged.connect(self._show)
        box.addWidget(self.slider)
        row = QHBoxLayout()
        self.play = Button("Play")
        self.play.setCheckable(True)
        self.play.toggled.connect(self._play)
        self.next = Button("Next fault")
        self.next.clicked.connect(self.go_to_next_fault)
        self.save = Button("Save…")
        self.save.setToolTip("The outlines of this layer as SVG or DXF")
        self.save.clicked.connect(lambda: self.save_asked.emit(False))
        self.save_all = Button("Save all…")
        self.save_all.setToolTip("Those of every layer, a file each")
        self.save_all.clicked.connect(lambda: self.save_asked.emit(True))
        for button in (self.play, self.next, self.save, self.save_all):
            row.addWidget(button)
        box.addLayout(row)
        self._clock = QTimer(self, interval=_PLAY_MS)
        self._clock.timeout.connect(self._step)
        self.height_field.valueChanged.connect(lambda: self._layering.set_height(self.height_mm))
        self._layering.changed.connect(self._take)
        view.session.fly_to.connect(self._look_at)
        self.setFixedWidth(px(300))
        self.hide()

    @property
    def layers(self) -> Layers | None:
        """All of them, once they are cut."""
        return self._layering.layers

    @property
    def faults(self) -> list[LayerFault] | None:
        """None as long as they are looked for."""
        return self._layering.faults

    @property
    def layer(self) -> int:
        """The one that is shown, from 0."""
        return self.slider.value()

    @property
    def height_mm(self) -> float:
        """Of each layer."""
        return float(self.height_field.value())

    def set_on(self, on: bool) -> None:
        """Show the layers, or all of the part again."""
        if on == self.is_on:
            return
        self.is_on = on
        self.setVisible(on)
        self.play.setChecked(False)
        self.turned_on.emit(on)
        self._layering.want(self, on)
        if on:
            self._take()
            self._view.place_legends()
            self.slider.setFocus()
        else:
            self._view.set_section(None)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        moves = {Qt.Key.Key_Up: 1, Qt.Key.Key_Right: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_Left: -1}
        if event.key() in moves:
            self.slider.setValue(self.layer + moves[event.key()])
        else:
            super().keyPressEvent(event)

    # ---- what is cut

    def _take(self) -> None:
        """Show what has been cut, or that it still is."""
        if not self.is_on:
            return
        layers = self._layering.layers
        with QSignalBlocker(self.height_field):
            self.height_field.setValue(self._layering.height_mm)
        if layers is None:
            self._tell("Cutting…")
            return
        count, was = len(layers.heights), self.slider.maximum() + 1
        if count != was:
            share = self.slider.value() / max(was - 1, 1)
            with QSignalBlocker(self.slider):
                self.slider.setRange(0, count - 1)
                self.slider.setPageStep(max(1, count // 20))
                self.slider.setValue(round(share * (count - 1)))
        (x, y, _), (right, top, _) = self._view.session.mesh.box
        self.sheet.box = QRectF(x, y, right - x, top - y)
        self._show()

    def _look_at(self, finding: Finding) -> None:
        """Show the layer that a finding is about."""
        if finding.kind is Kind.LAYER:
            self.set_on(True)
            self.slider.setValue(finding.key)

    # ---- what is shown

    def _show(self, *_: object) -> None:
        layers, i = self.layers, self.layer
        if layers is None or not self.is_on:
            return
        path, lines = QPainterPath(), []
        path.setFillRule(Qt.FillRule.OddEvenFill)
        first = int(np.searchsorted(layers.layer, i))
        for number, outline in enumerate(layers.outlines_at(i)):
            polygon = QPolygonF([QPointF(x, y) for x, y in outline.tolist()])
            if layers.closed[first + number]:
                path.addPolygon(polygon)
                path.closeSubpath()
            else:
                lines.append(polygon)
        wrong = [] if self.faults is None else [fault for fault in self.faults if fault.layer == i]
        self.sheet.path, self.sheet.lines = path, lines
        self.sheet.rings = [QPointF(*fault.place) for fault in wrong if fault.place is not None]
        self.sheet.update()
        z = float(layers.heights[i])
        own = layers.area[first : first + len(layers.outlines_at(i))]
        text = f"Layer {grouped(i + 1)} of {grouped(len(layers.heights))}, at {lengths([abs(z)])} mm, "
        text += f"{lengths([abs(float(own.sum()))])} mm²"
        if wrong:
            text += "\n✗ " + "; ".join(fault.what() for fault in wrong)
        elif self.faults is None:
            text += "\nlooking for layers that cannot be built…"
        else:
            some = len({fault.layer for fault in self.faults})
            text += f"\n{counted(some, 'layer')} that cannot be built" if some else "\nall can be built"
        self._tell(text)
        self._view.set_section((np.array([0.0, 0.0, 1.0]), z))

    def _tell(self, text: str) -> None:
        self.note.setText(text)
        ready = self.layers is not None
        for button in (self.play, self.save, self.save_all, self.slider):
            button.setEnabled(ready)
        self.next.setEnabled(bool(self.faults))

    def go_to_next_fault(self) -> None:
        """Show the next layer that cannot be built, from the lowest again after the last."""
        known = sorted({fault.layer for fault in self.faults or ()})
        if known:
            self.slider.setValue(next((layer for layer in known if layer > self.layer), known[0]))

    def _play(self, on: bool) -> None:
        self.play.setText("Stop" if on else "Play")
        if on and self.layer >= self.slider.maximum():
            self.slider.setValue(0)
        (self._clock.start if on else self._clock.stop)()

    def _step(self) -> None:
        step = max(1, round(len(self.layers.heights) / _MOST_STEPS)) if self.layers is not None else 1
        if self.layer >= self.slider.maximum():
            self.play.setChecked(False)
        self.slider.setValue(self.layer + step)
