"""Holes: patching what the scanner did not see."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QLabel,
    QSlider,
)

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.panels import number_field
from tinsnip.regions import region_of_holes
from tinsnip.survey import Examination, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import (
    Mend,
    Orient,
    Patch,
)
from tinsnip.words import counted, grouped

__all__ = ["HOLES", "HolesTray"]


class HolesTray(Tray):
    """Patching holes."""

    title = "Patch holes"

    def build(self) -> None:
        self.blocked = self.warning()
        self.unblock = self.button("Mend and orient first", self._mend)
        self.shape_text = QLabel("Shape of the patches: flowing")
        self.column.addWidget(self.shape_text)
        self.flow = QSlider(Qt.Orientation.Horizontal)
        self.flow.setRange(0, 100)
        self.flow.setValue(100)
        self.flow.setAccessibleName("Shape of the patches, taut to flowing")
        self.column.addWidget(self.flow)
        row, self.flow_number = number_field("taut 0 … 1 flowing", 0, 1, 2, "", 0.1)
        self.flow_number.setValue(1.0)
        self.column.addWidget(row)
        self.flow.valueChanged.connect(lambda v: self.flow_number.setValue(v / 100))
        self.flow_number.valueChanged.connect(lambda v: self.flow.setValue(round(v * 100)))
        self.tick_buttons("Holes")
        self.heading("What the preview shows")
        self.made = self.figure("New triangles")
        self.area = self.figure("Surface made")
        self.left = self.figure("Holes left")
        self.copper_button("Patch", self.patch)
        self._later = QTimer(self, singleShot=True, interval=180)
        self._later.timeout.connect(self._preview)
        self.flow_number.valueChanged.connect(self._changed)
        self.session.ticks_changed.connect(self._changed)
        self.session.preview_changed.connect(self._show_preview)

    def enter(self) -> None:
        self._changed()

    def _treatment(self) -> Patch:
        keys = self.session.ticked_keys((Kind.HOLE,))
        holes = None if keys is None else region_of_holes(self.session.mesh, keys)
        return Patch(flow=round(self.flow_number.value(), 2), holes=holes)

    def _count(self) -> tuple[int, int]:
        found = self.session.examination
        holes = [f for f in found.openings if f.kind is Kind.HOLE] if found else []
        return sum(self.session.is_ticked(f) for f in holes), len(holes)

    def refresh(self) -> None:
        self._changed()

    def _changed(self, *_: object) -> None:
        value = self.flow_number.value()
        word = "flowing" if value > 0.8 else "taut" if value < 0.2 else "in between"
        self.shape_text.setText(f"Shape of the patches: {word}")
        chosen, every = self._count()
        found = self.session.examination
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges if found else 0
        self.blocked.setText("Tangled or flipped edges leave the holes without a clear edge.")
        self.blocked.setVisible(knots > 0)
        self.unblock.setVisible(knots > 0)
        self.head_text.setText(f"{chosen} of {every} holes ticked. The outer rim is never patched from here.")
        self.copper.setText(f"Patch {counted(chosen, 'hole')}" if chosen else "No hole to patch")
        self.copper.setEnabled(chosen > 0 and knots == 0)
        self.left.setText(str(every - chosen))
        if not self.isVisible():
            return
        if chosen and not knots:
            self.made.setText("…")
            self.area.setText("…")
            self._later.start()
        else:
            self.session.cancel_preview()
            self.made.setText("0")
            self.area.setText("0 mm²")

    def _preview(self) -> None:
        if self.isVisible():
            self.session.ask_preview(self._treatment())

    def _show_preview(self) -> None:
        preview = self.session.preview
        if preview is None or preview.treatment.name != Patch.name:
            return
        added = len(preview.outcome.mesh.faces) - len(preview.before.faces)
        self.made.setText(f"+{grouped(added)}")
        self.area.setText(f"{preview.outcome.figures.get('area_mm2', 0.0):.4g} mm²")

    def _mend(self) -> None:
        self.session.do_all([Mend(), Orient()])

    def patch(self) -> None:
        """Patch the ticked holes."""
        self.session.apply(self._treatment())


def _state(session: Session) -> tuple[str, int | None]:
    openings = session.examination.boundaries
    holes, rims = int(openings.is_hole.sum()), int(openings.is_rim.sum())
    words = [counted(holes, "hole") if holes else "none open"] + [counted(rims, "outer rim")] * (rims > 0)
    return " · ".join(words), holes


def _answers(check: Check, found: Examination) -> bool:
    return check.name == "closed" and bool(found.boundaries.is_hole.any())


HOLES = Station("Holes", HolesTray, _state, lambda found: found.openings, answers=_answers)
