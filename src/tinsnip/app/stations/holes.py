"""Holes: patching what the scanner did not see."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QSlider

from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import PreviewTray, Station
from tinsnip.app.view.hand import Tool
from tinsnip.app.view.livesketch import LiveSketch
from tinsnip.regions import region_of_holes
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import Patch, TellOpenings
from tinsnip.words import counted, grouped

__all__ = ["HOLES", "HolesTray"]


class HolesTray(PreviewTray):
    """Patching holes."""

    title = "Holes: patch"
    previews = Patch

    def build(self) -> None:
        self.head_text.setText("Close what the scanner did not see. The outer rim is never patched from here.")
        self.blocked = self.warning()
        self.unblock = self.button("Mend and orient first", self.mend)
        self.shape_text = self.heading("Shape of the patches: flowing")
        self.flow = QSlider(Qt.Orientation.Horizontal)
        self.flow.setRange(0, 100)
        self.flow.setValue(100)
        self.flow.setAccessibleName("Shape of the patches, taut to flowing")
        self.flow.wheelEvent = lambda event: event.ignore()
        self.add(self.flow)
        self.flow_number = self.number("0 taut, 1 flowing", 0, 1, 2, "", 0.1)
        self.flow_number.setToolTip("Taut: as little surface as can be. Flowing: goes on in the slope around it.")
        self.flow_number.setValue(1.0)
        self.flow.valueChanged.connect(lambda v: self.flow_number.setValue(v / 100))
        self.flow_number.valueChanged.connect(lambda v: self.flow.setValue(round(v * 100)))
        self.on_plane = self.tick("On a plane", "Flat, whatever is round it; the shape above does not matter then")
        self.rise = self.number("Rise", -1e4, 1e4, 3, "mm", 0.1)
        self.rise.setToolTip("How far the middle of each patch is pushed out, or in where it is less than nothing")
        self.density = self.drop_down("Triangles", {"even": "even", "fewest": "fewest"})
        self.tidy = self.number("Tidy the edge first", 0, 50, 0, "rows", 1)
        self.tidy.setToolTip("So many rows of triangles along each hole may be changed: teeth cut, the line smoothed")
        self.limit = self.number("Tick what is below", 0, 1e9, 2, "mm", 1.0)
        self.limit.setToolTip("Tick the holes that span less, and no others")
        self.tick_buttons("Holes")
        self.told = self.button("This is a rim", self.tell_other)
        self.told.setToolTip("What you know stands above what was measured; it is a step, and can be undone")
        self.heading("What the preview shows")
        self.chosen = self.figure("Holes ticked")
        self.made = self.figure("New triangles")
        self.area = self.figure("Surface made")
        self.bend = self.figure("Steepest bend at the edge")
        self.least = self.figure("Sharpest corner")
        self.copper_button("Patch", self.do)
        self._later = QTimer(self, singleShot=True, interval=180)
        self._later.timeout.connect(self._preview)
        self.flow_number.valueChanged.connect(self.ask_anew)
        self.sketch = LiveSketch(self.session, self.view)
        for changed in (self.flow_number.valueChanged, self.rise.valueChanged, self.on_plane.toggled):
            changed.connect(self._sketch)
        self.limit.valueChanged.connect(self.tick_below)
        self.rise.valueChanged.connect(self.ask_anew)
        self.tidy.valueChanged.connect(self.ask_anew)
        self.on_plane.toggled.connect(self.ask_anew)
        self.density.currentIndexChanged.connect(self.ask_anew)
        self.session.ticks_changed.connect(self.ask_anew)
        self.looked_at: Finding | None = None
        self.session.fly_to.connect(self._look_at)

    def offer_tools(self, tools: list[Tool]) -> None:
        """Strips, notches and teeth, each with what can be set about it."""
        self.heading("By clicks at an edge")
        super().offer_tools(tools)

    def treatment(self) -> Patch:
        keys, under = self.session.ticked_keys((Kind.HOLE,)), self._limit_kept_to()
        holes = None if keys is None or under is not None else region_of_holes(self.session.mesh, keys)
        return Patch(
            flow=round(self.flow_number.value(), 2),
            on_plane=self.on_plane.isChecked(),
            rise_mm=round(self.rise.value(), 3),
            triangles=self.density.currentData(),
            tidy_rows=int(self.tidy.value()),
            under_mm=under,
            holes=holes,
        )

    def _limit_kept_to(self) -> float | None:
        """The limit, where just the holes below it are ticked: then it is what was asked for, and not these holes."""
        limit = self.limit.value()
        kept = limit > 0 and all(self.session.is_ticked(f) == (f.size < limit) for f in self._holes())
        return limit if kept else None

    def _sketch(self, *_: object) -> None:
        """Show the patches at once while their shape is pulled; what they are exactly follows."""
        if self.isVisible() and not self.why_not:
            self.sketch.show(self.session.ticked_keys((Kind.HOLE,)), self.treatment().style)

    def tick_below(self, limit: float) -> None:
        """Tick the holes that span less than a limit, and no others; 0 leaves all as they are."""
        holes = self._holes() if limit > 0 else []
        self.session.tick([f for f in holes if f.size < limit], True)
        self.session.tick([f for f in holes if f.size >= limit], False)

    def _look_at(self, finding: object) -> None:
        self.looked_at = finding if getattr(finding, "kind", None) in (Kind.HOLE, Kind.RIM) else None
        self.refresh()

    def tell_other(self) -> None:
        """Say of the opening that was gone to last that it is what it was not taken for."""
        finding = self.looked_at
        if finding is not None:
            mesh, are = self.session.mesh, "rim" if finding.kind is Kind.HOLE else "hole"
            self.looked_at = None
            self.session.do_made(
                "Tell holes from rims",
                lambda: TellOpenings(openings=region_of_holes(mesh, (finding.key,)), are=are),
            )

    def _holes(self) -> list[Finding]:
        found = self.session.examination
        return [f for f in found.openings if f.kind is Kind.HOLE] if found else []

    def _count(self) -> tuple[int, int]:
        holes = self._holes()
        return sum(self.session.is_ticked(f) for f in holes), len(holes)

    def refresh(self) -> None:
        value = self.flow_number.value()
        word = "flowing" if value > 0.8 else "taut" if value < 0.2 else "in between"
        self.shape_text.setText(f"Shape of the patches: {'on a plane' if self.on_plane.isChecked() else word}")
        looked = self.looked_at
        if looked is not None and not any(f is looked for f in self.session.findings("Holes")):
            looked = self.looked_at = None
        self.told.setVisible(looked is not None)
        if looked is not None:
            self.told.setText(f"{looked.id} is a {'rim' if looked.kind is Kind.HOLE else 'hole'}")
        chosen, every = self._count()
        found = self.session.examination
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges if found else 0
        self.blocked.setText("Tangled or flipped edges leave the holes without a clear edge.")
        self.blocked.setVisible(knots > 0)
        self.unblock.setVisible(knots > 0)
        self.chosen.setText(f"{chosen} of {every}")
        why = "" if chosen else "tick a hole first" if every else "there is no hole"
        why = "mend and orient first: the button is above" if knots else why
        if found is None:
            why = "the part is still being looked over"
        first = "Preview" if self.is_left else "Patch"
        self.offer(f"{first} {counted(chosen, 'hole')}" if chosen else "No hole to patch", why)
        if not self.isVisible():
            return
        self.show_figures(None)
        if why or self.is_left:
            self._later.stop()
            self.session.cancel_preview()
        else:
            self._later.start()

    def show_figures(self, preview: Preview | None) -> None:
        if preview is not None:
            account = preview.outcome.account
            figures = account.figures
            self.made.setText(f"+{grouped(account.made_triangles or 0)}")
            self.area.setText(f"{figures.get('area_mm2', 0.0):.4g} mm²")
            self.bend.setText(f"{figures.get('seam_deg', 0.0):.0f}°")
            self.least.setText(f"{figures.get('least_deg', 0.0):.0f}°")
            return
        for label in (self.made, self.area, self.bend, self.least):
            label.setText("–" if self.is_left or self.why_not else "…")

    def _preview(self) -> None:
        if not self.isVisible() or self.is_left or self.why_not:
            return
        self.show_or_ask()


def _state(session: Session) -> tuple[str, int | None]:
    openings = session.examination.boundaries
    holes, rims = int(openings.is_hole.sum()), int(openings.is_rim.sum())
    words = [counted(holes, "hole") if holes else "none open"] + [counted(rims, "outer rim")] * (rims > 0)
    return " · ".join(words), holes


def _answers(check: Check, found: Examination) -> bool:
    return check.name == "closed" and bool(found.boundaries.is_hole.any())


HOLES = Station("Holes", HolesTray, _state, lambda found: found.openings, answers=_answers)
