"""Measuring, at hand in every station: what the whole comes to, the tools, and the readings."""

from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from tinsnip.app.stations.station import Tray
from tinsnip.app.tools.measure import MeasureAngle, MeasureDiameter, MeasureDistance, measure_section
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.panels import line_of
from tinsnip.app.widgets.theme import px
from tinsnip.survey.measuring import whole_of
from tinsnip.words import grouped, lengths

__all__ = ["MeasuringTray"]


class MeasuringTray(Tray):
    """The figures of the whole, the tools that measure, and what they read, in place of a station's tray."""

    title = "Measure"

    def build(self) -> None:
        self.head_text.setText("What the part comes to, and what lies between places on it. M or Esc: back.")
        view, self._readings = self.view, self.view.readings
        readings = self._readings
        self.size, self.area = self.figure("Size"), self.figure("Area")
        self.volume, self.mass = self.figure("Volume"), self.figure("Mass")
        self.density = self.number("Density", 0.0, 100.0, 3, "g/cm³", 0.1)
        self.density.setValue(1.0)
        self.density.valueChanged.connect(self.refresh)
        self.heading("By clicks on the part")
        self.tools = [kind(view, readings) for kind in (MeasureDistance, MeasureAngle, MeasureDiameter)]
        self.buttons = [self.button(tool.name, lambda tool=tool: view.hand.take(tool)) for tool in self.tools]
        self.section = self.button("Measure the section", self._measure_section)
        self.heading("Readings")
        self.none = self.explain("None yet. They are kept in the job, each with the step it was taken after.")
        self.list = QWidget()
        self._rows = QVBoxLayout(self.list)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(px(4))
        self.add(self.list)
        self.clear = self.button("Take all readings away", readings.clear)
        readings.changed.connect(self._list)
        self._list()

    def leave(self) -> None:
        if self.view.hand.tool in self.tools:
            self.view.hand.put_away()

    def put_away(self) -> bool:
        self.asked.emit("measure")
        return True

    def _measure_section(self) -> None:
        plane = self.view.section_bar.plane()
        if plane is None:
            self.session.message.emit("turn Section on above the view, and move it to where it shall be measured", True)
        else:
            measure_section(self.tools[0], plane)

    def _list(self) -> None:
        while self._rows.count():
            self._rows.takeAt(0).widget().deleteLater()
        for reading in reversed(self._readings.all):
            label = QLabel(reading.text)
            label.setWordWrap(True)
            if not self._readings.is_of_now(reading):
                label.setText(f"{reading.text}; after step {reading.step}, the part has changed since")
                label.setObjectName("muted")
            away = Button("×")
            away.setAccessibleName(f"Take the reading {reading.text} away")
            away.setToolTip("Take this reading away")
            away.setFixedWidth(px(28))
            away.clicked.connect(lambda _=False, one=reading: self._readings.remove(one))
            row, box = line_of(label, away)
            box.setStretch(0, 1)
            self._rows.addWidget(row)
        some = bool(self._readings.all)
        self.none.setVisible(not some)
        self.clear.setVisible(some)

    def refresh(self, *_: object) -> None:
        """Show the part as it is."""
        mesh = self.session.mesh
        if mesh is None or len(mesh.faces) == 0 or self.session.examination is None:
            return  # what it asks for is known once the part has been looked over
        whole = whole_of(mesh, self.density.value())
        self.size.setText(f"{lengths(whole.size)} mm")
        self.area.setText(f"{grouped(round(whole.area))} mm²")
        self.volume.setText("open, so none" if whole.volume is None else f"{whole.volume / 1000:.5g} cm³")
        self.mass.setText("–" if whole.mass is None else f"{whole.mass:.5g} g")
