"""Holes: patching what the scanner did not see."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QSlider

from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import PartedTray, PreviewTray, Station
from tinsnip.app.stations.tooloptions import ToolOptions
from tinsnip.app.view.hand import Tool
from tinsnip.app.view.livesketch import LiveSketch
from tinsnip.app.widgets.panels import Section
from tinsnip.regions import region_of_holes
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import Patch, TellOpenings
from tinsnip.words import counted, grouped

__all__ = ["HOLES", "HolesTray"]


_ABOUT = {
    "Patch": "Close what the scanner did not see. The outer rim is never patched from here.",
    "Strip": "A band of triangles from edge to edge: it divides a hard hole, or bridges two edges.",
    "Notch": "Close what lies between two clicks at an edge.",
    "Tooth": "Cut off what stands out between two clicks at an edge.",
    "Window": "Close a window through both sides of a wall, along its walls.",
}


class HolesTray(PartedTray, PreviewTray):
    """Patching holes, and what is done by clicks at their edges."""

    title = "Holes"
    about = _ABOUT
    previews = Patch

    def build(self) -> None:
        self.edge_tools: dict[str, Tool] = {}
        self.build_parts()
        self._build_patching(self.parts["Patch"])
        self.copper_button("Patch", self.do)
        self.view.hand.tool_changed.connect(self._show_in_hand)
        self.show_part()
        self._connect()

    def _build_patching(self, part: Section) -> None:
        self.blocked = part.warning()
        self.unblock = part.button("Mend and orient first", self.mend)
        self.shape_text = part.heading("Shape of the patches: flowing")
        self.flow = QSlider(Qt.Orientation.Horizontal)
        self.flow.setRange(0, 100)
        self.flow.setValue(100)
        self.flow.setAccessibleName("Shape of the patches, taut to flowing")
        self.flow.wheelEvent = lambda event: event.ignore()
        part.add(self.flow)
        self.flow_number = part.number("0 taut, 1 flowing", 0, 1, 2, "", 0.1)
        self.flow_number.setToolTip("Taut: as little surface as can be. Flowing: goes on in the slope around it.")
        self.flow_number.setValue(1.0)
        self.flow.valueChanged.connect(lambda v: self.flow_number.setValue(v / 100))
        self.flow_number.valueChanged.connect(lambda v: self.flow.setValue(round(v * 100)))
        self.on_plane = part.tick("On a plane", "Flat, whatever is round it; the shape above does not matter then")
        self.rise = part.number("Rise", -1e4, 1e4, 3, "mm", 0.1)
        self.rise.setToolTip("How far the middle of each patch is pushed out, or in where it is less than nothing")
        self.limit = part.number("Tick what is below", 0, 1e9, 2, "mm", 1.0)
        self.limit.setToolTip("Tick the holes that span less, and no others")
        part.row(*self.tick_buttons("Holes"))
        self.told = part.button("This is a rim", self.tell_other)
        self.told.setToolTip("What you know stands above what was measured; it is a step, and can be undone")
        part.heading("What the preview shows")
        self.chosen = part.figure("Holes ticked")
        self.made = part.figure("New triangles")
        self.area = part.figure("Surface made")
        self.bend = part.figure("Steepest bend at the edge")
        self.least = part.figure("Sharpest corner")
        more = part.more("triangles, tidy the edge")
        self.density = more.drop_down("Triangles", {"even": "even", "fewest": "fewest"})
        self.tidy = more.number("Tidy the edge first", 0, 50, 0, "rows", 1)
        self.tidy.setToolTip("So many rows of triangles along each hole may be changed: teeth cut, the line smoothed")

    def _connect(self) -> None:
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
        """Strips, notches, teeth and windows: each is a part of the tray, and in hand while that is shown."""
        self.edge_tools = {tool.short: tool for tool in tools}
        for part, tool in self.edge_tools.items():
            if tool.options:
                self.parts[part].add(ToolOptions(tool))
            self.parts[part].explain("Click at an edge in the view. Esc: back to the patches.")

    def show_part(self) -> None:
        super().show_part()
        tool = self.edge_tools.get(self.part)
        if tool is not None and self.view.hand.tool is not tool:
            self.view.hand.take(tool)

    def leave_part(self) -> None:
        if self.view.hand.tool in self.edge_tools.values():
            part, self.part = self.part, "Patch"  # it goes on purpose
            self.view.hand.put_away()
            self.part = part

    def leave(self) -> None:
        if self.part != "Patch":
            self.choose("Patch")

    def _show_in_hand(self) -> None:
        """Show the part whose tool is in hand; put away, the patches."""
        tool = self.view.hand.tool
        part = next((name for name, one in self.edge_tools.items() if one is tool), "Patch")
        if part != self.part and (part != "Patch" or self.part in self.edge_tools):
            self.part = part
            self.show_part()
            self.refresh()

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
        if self.isVisible() and self.part == "Patch" and not self.why_not:
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
        if self.part != "Patch":
            self._later.stop()
            self.session.cancel_preview()
            self.offer(self.edge_tools[self.part].name, "a click at an edge in the view does it")
            return
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
