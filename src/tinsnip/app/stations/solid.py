"""Solid: closing the base."""

from dataclasses import replace

from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import PreviewTray, Station
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import Plinth
from tinsnip.words import grouped

__all__ = ["SOLID", "SolidTray"]


class SolidTray(PreviewTray):
    """Closing the base."""

    title = "Solid: close the base"
    previews = Plinth

    def build(self) -> None:
        self.head_text.setText("Make it a solid: a flat rim gets a flat base, a ragged one walls down to a plane.")
        self.auto = self.tick("as thin as can be")
        self.auto.setChecked(True)
        self.depth = self.number("Depth under rim", 0.01, 1000, 2, "mm", 0.5)
        self.depth.setValue(2.0)
        self.blocked = self.warning()
        self.unblock = self.button("Mend and orient first", self.mend)
        self.heading("What the preview shows")
        self.rims = self.figure("Open rims")
        self.made = self.figure("New triangles")
        self.copper_button("Close the base", self.do)
        self.auto.toggled.connect(self.ask_anew)
        self.depth.valueChanged.connect(self.ask_anew)

    def treatment(self) -> Plinth:
        return Plinth(depth_mm=None if self.auto.isChecked() else self.depth.value())

    def refresh(self) -> None:
        self.depth.setEnabled(not self.auto.isChecked())
        found = self.session.examination
        if found is None:
            self.offer("Close the base", "the part is still being looked over")
            return
        rims = int(found.boundaries.is_rim.sum())
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges
        self.blocked.setText("Tangled or flipped edges leave the rim without a clear side.")
        self.blocked.setVisible(knots > 0 and rims > 0)
        self.unblock.setVisible(knots > 0 and rims > 0)
        self.rims.setText(str(rims))
        text = "Close the base" if rims == 1 else f"Close {rims} rims" if rims else "No open rim"
        if rims and self.is_left:
            text = "Preview the base" if rims == 1 else f"Preview {rims} bases"
        why = "" if rims else "there is no open rim"
        self.offer(text, "mend and orient first: the button is above" if rims and knots else why)
        if not self.isVisible():
            return
        self.show_figures(None)
        if self.is_left or self.why_not:
            self.session.cancel_preview()
            return
        self.show_or_ask()

    def show_figures(self, preview: Preview | None) -> None:
        if preview is not None:
            self.made.setText(f"+{grouped(len(preview.outcome.mesh.faces) - len(preview.before.faces))}")
        else:
            self.made.setText("–" if self.is_left or self.why_not else "…")


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
