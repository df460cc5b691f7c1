"""Solid: closing the base."""

from dataclasses import replace

from PySide6.QtWidgets import (
    QCheckBox,
)

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.panels import number_field
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import (
    Plinth,
)
from tinsnip.words import grouped

__all__ = ["SOLID", "SolidTray"]


class SolidTray(Tray):
    """Closing the base."""

    title = "Close the base"

    def build(self) -> None:
        self.head_text.setText("The open rim is closed onto a plane: a flat rim by a flat base, a ragged one by walls.")
        self.auto = QCheckBox("as thin as can be")
        self.auto.setChecked(True)
        self.column.addWidget(self.auto)
        row, self.depth = number_field("Depth below the rim", 0.01, 1000, 2, "mm", 0.5)
        self.depth.setValue(2.0)
        self.column.addWidget(row)
        self.blocked = self.warning()
        self.heading("What the preview shows")
        self.rims = self.figure("Open rims")
        self.made = self.figure("New triangles")
        self.copper_button("Close the base", self.close_base)
        self.auto.toggled.connect(self.refresh)
        self.depth.valueChanged.connect(self.refresh)
        self.session.preview_changed.connect(self._show_preview)

    def enter(self) -> None:
        self.refresh()

    def _treatment(self) -> Plinth:
        return Plinth(depth_mm=None if self.auto.isChecked() else self.depth.value())

    def refresh(self, *_: object) -> None:
        self.depth.setEnabled(not self.auto.isChecked())
        found = self.session.examination
        if found is None:
            return
        rims = int(found.boundaries.is_rim.sum())
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges
        self.blocked.setText("Tangled or flipped edges leave the rim without a clear side: mend them in Surface.")
        self.blocked.setVisible(knots > 0 and rims > 0)
        self.rims.setText(str(rims))
        self.copper.setText("Close the base" if rims == 1 else f"Close {rims} rims" if rims else "No open rim")
        self.copper.setEnabled(rims > 0 and knots == 0)
        self.made.setText("…" if rims and not knots else "0")
        if self.isVisible() and rims and not knots:
            self.session.ask_preview(self._treatment())

    def _show_preview(self) -> None:
        preview = self.session.preview
        if preview is not None and preview.treatment.name == Plinth.name:
            self.made.setText(f"+{grouped(len(preview.outcome.mesh.faces) - len(preview.before.faces))}")

    def close_base(self) -> None:
        """Close the rims."""
        self.session.apply(self._treatment())


def _state(session: Session) -> tuple[str, int | None]:
    rims = int(session.examination.boundaries.is_rim.sum())
    if rims:
        return "open at the base" if rims == 1 else f"{rims} open rims", rims
    is_open = session.mesh.edges.open > 0
    return ("not closed yet" if is_open else "closed"), int(is_open)


def _rims(found: Examination) -> list[Finding]:
    return [replace(f, proposal="close") for f in found.openings if f.kind is Kind.RIM]


def _answers(check: Check, found: Examination) -> bool:
    return check.name == "closed" and not found.boundaries.is_hole.any()


SOLID = Station("Solid", SolidTray, _state, _rims, answers=_answers)
