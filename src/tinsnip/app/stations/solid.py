"""Solid: closing the base or, where that ends in no valid solid, the recast; joining with other solids; walls."""

from dataclasses import replace

from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.recasting import RecastPart, why_recast
from tinsnip.app.stations.station import Does, PartedTray, PreviewTray, Station
from tinsnip.app.stations.tooloptions import ToolOptions
from tinsnip.app.tools.base import DragBase
from tinsnip.app.view.hand import Tool
from tinsnip.app.widgets.panels import Column, Section
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import Combine, Mend, MendCrossings, Orient, Patch, Plinth, RecastPlaces, WeldSeams
from tinsnip.treat.kit.joins.joining import How
from tinsnip.words import counted, grouped

__all__ = ["SOLID", "SolidTray"]


_ABOUT = {
    "Close": "Make it a solid: a flat rim gets a flat base, a ragged one walls down to a plane.",
    "Recast": "For what cannot be closed by less: made anew as one skin round all that it encloses.",
    "Foot": "A flat foot under the part, for it to stand on.",
    "Join": "Pieces and simple solids become one, or are cut from each other; exactly.",
    "Hollow": "Hollow, with a wall of one thickness. Q cuts the view open to look in.",
    "Drain": "Holes through the wall of what is hollow, so that powder and resin run out.",
    "Thicken": "A wall for an open sheet, or more of it where an area is selected.",
    "Extrude": "A selected area, or open rims, drawn out with walls round them.",
    "Offset": "The whole surface further out, or further in.",
}
_PLACED = {"Place a solid": "Join", "Drill a drain hole": "Drain"}
"""In which part of the tray an offered tool stands."""
_DOES = {
    "Foot": Does("foot", "Put the foot under the part", "at once"),
    "Hollow": Does("hollow", "Make it hollow", "asked"),
    "Thicken": Does("thicken", "Thicken it", "asked"),
    "Extrude": Does("extrude", "Extrude it", "changed"),
    "Offset": Does("offset", "Offset the surface", "asked"),
}


class SolidTray(PartedTray, PreviewTray):
    """Closing the base, the recast, joining with other solids, and walls."""

    title = "Solid"
    about = _ABOUT
    does = _DOES
    previews = Plinth

    def build(self) -> None:
        self.own_tools: list[Tool] = []
        self.build_parts()
        self._build_closing(self.parts["Close"])
        self._build_joining(self.parts["Join"])
        self.recasting = RecastPart(self.session, self.parts["Recast"])
        self.copper_button("Close the base", self.do)
        self.show_part()

    def _build_closing(self, part: Section) -> None:
        self.small_means = part.button("Close by the smallest means", self.close_by_small_means)
        self.small_means.setToolTip(
            "Weld, mend, orient, untangle, patch holes, close the base, and look again: each a step"
        )
        self.proposal = part.warning()
        self.to_recast = part.button("See what a recast would do", lambda: self.choose("Recast"))
        self.form = part.drop_down("Walls", {"straight": "straight", "flared": "flared", "stepped": "stepped"})
        self.spread = part.number("Wider by", 0.01, 1000, 2, "mm", 0.5)
        self.spread.setValue(2.0)
        self.auto = part.tick("no deeper than the rim needs")
        self.auto.setChecked(True)
        self.depth = part.number("Depth under rim", 0.01, 1000, 2, "mm", 0.5)
        self.depth.setValue(2.0)
        self.drag_button = part.button("Drag the base", self._drag_base)
        self.base = DragBase(self.view)
        self.base.dragged.connect(self._dragged)
        self.blocked = part.warning()
        self.unblock = part.button("Mend and orient first", self.mend)
        part.heading("What the preview shows")
        self.rims = part.figure("Open rims")
        self.made = part.figure("New triangles")
        more = part.more("triangles, tidy the rim")
        self.bottom = more.drop_down("Base in triangles", {"fewest": "fewest", "even": "even"})
        self.tidy = more.number("Tidy the rim first", 0, 50, 0, "rows", 1)
        self.tidy.setToolTip("So many rows of triangles along the rim may be changed: teeth cut, the line smoothed")
        self.auto.toggled.connect(self.ask_anew)
        for number in (self.depth, self.spread, self.tidy):
            number.valueChanged.connect(self.ask_anew)
        for choice in (self.form, self.bottom):
            choice.currentIndexChanged.connect(self.ask_anew)

    def _build_joining(self, part: Section) -> None:
        self.together = part.explain()
        self.combining = [
            part.button("Cut the others from this piece", lambda: self.combine("cut")),
            part.button("Keep what they have in common", lambda: self.combine("intersect")),
        ]
        self.session.pieces_changed.connect(self._show_pieces)

    def _drag_base(self) -> None:
        self.base.depth = 0.0 if self.auto.isChecked() else self.depth.value()
        self.view.hand.take(self.base)

    def _dragged(self, depth: float) -> None:
        self.auto.setChecked(False)
        self.depth.setValue(depth)

    def offer_tools(self, tools: list[Tool]) -> None:
        self.own_tools = tools
        super().offer_tools(tools)
        for options in self.findChildren(ToolOptions):
            if options.act_button is not None:
                options.act_button.hide()  # the copper one does it
        self.view.hand.tool_changed.connect(self._show_in_hand)

    @property
    def _placing(self) -> Tool | None:
        """The solid that is being placed."""
        tool = self.view.hand.tool
        return tool if tool in self.own_tools and tool.act_text else None

    def _show_in_hand(self) -> None:
        if self.part == "Join" and self.isVisible():
            self.refresh()

    def place_for(self, name: str) -> Column:
        return self.parts[_PLACED[name]] if name in _PLACED else super().place_for(name)

    def leave_part(self) -> None:
        if self.view.hand.tool in [*self.own_tools, self.base]:
            self.view.hand.put_away()
        self.part_look.leave()

    def show_part(self) -> None:
        super().show_part()
        if self.part == "Drain" and self.isVisible():
            self.view.hand.take(next(tool for tool in self.own_tools if _PLACED.get(tool.name) == "Drain"))

    def treatment(self) -> Plinth:
        return Plinth(
            depth_mm=None if self.auto.isChecked() else self.depth.value(),
            form=self.form.currentData(),
            spread_mm=self.spread.value(),
            triangles=self.bottom.currentData(),
            tidy_rows=int(self.tidy.value()),
        )

    def combine(self, how: How) -> None:
        """Make one solid of all pieces that are shown."""
        self.session.do(Combine(how=how), self.session.job.shown())

    def _show_pieces(self) -> None:
        count = len(self.session.job.shown())
        if count > 1:
            told = f"{counted(count, 'piece')} shown. Away from where they meet nothing changes."
        else:
            told = "One piece is shown. Open or show another, or place a simple solid."
        self.together.setText(told)
        for button in self.combining:
            button.setEnabled(count > 1)

    def close_by_small_means(self) -> None:
        """All that closes with as little change as can be, in the order in which one helps the next."""
        ends = [Mend(), Orient(), MendCrossings()]
        self.session.do_all([WeldSeams(), *ends, Patch(), self.treatment(), *ends, RecastPlaces()])

    def do(self) -> None:
        if self.part == "Recast":
            self.recasting.recast()
        elif self._placing is not None:
            self._placing.enter()
        elif self.part == "Join":
            self.combine("join")
        elif not self.do_part():
            super().do()

    def leave(self) -> None:
        self.recasting.look.leave()
        self.part_look.leave()

    def put_away(self) -> bool:
        if self.session.stand_in is not None:
            self.recasting.look.leave()
            self.part_look.leave()
            self.session.cancel_preview()
            self.refresh()
            return True
        return super().put_away()

    def refresh(self) -> None:
        self._show_pieces()
        found = self.session.examination
        self.recasting.refresh()
        self._propose(found)
        grows = not self.auto.isChecked()
        self.depth.setEnabled(grows)
        self.spread.parentWidget().setVisible(self.form.currentData() != "straight")
        if self.part != "Close":
            if self.part in self.does:
                self.tell_looked_at()
            elif self.part == "Recast":
                self.offer("Recast the part")
            elif self._placing is not None:
                self.offer(self._placing.act_text)
            elif self.part == "Join":
                alone = "one piece is shown; open or show another" if len(self.session.job.shown()) < 2 else ""
                self.offer("Join the shown pieces", alone)
            else:
                self.offer("Drill a drain hole", "a click on the part does it")
            if self.session.stand_in is None and self.isVisible():
                self.session.cancel_preview()
            return
        if found is None:
            self.offer("Close the base", "the part is still being looked over")
            return
        rims = int(found.boundaries.is_rim.sum())
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges
        self.blocked.setText("Tangled or flipped edges leave the rim without a clear side.")
        self.blocked.setVisible(knots > 0 and rims > 0)
        self.unblock.setVisible(knots > 0 and rims > 0)
        self.rims.setText(str(rims))
        self.drag_button.setEnabled(rims > 0)
        text = "Close the base" if rims == 1 else f"Close {rims} rims" if rims else "No open rim"
        if rims and self.is_left:
            text = "Preview the base" if rims == 1 else f"Preview {rims} bases"
        why = "" if rims else "there is no open rim"
        self.offer(text, "mend and orient first: the button is above" if rims and knots else why)
        if not self.isVisible():
            return
        if self.session.stand_in is not None:
            return
        self.show_figures(None)
        if self.is_left or self.why_not:
            self.session.cancel_preview()
            return
        self.show_or_ask()

    def _propose(self, found: Examination | None) -> None:
        """Say what the smallest means leave, and whether they have been tried."""
        mesh, job = self.session.mesh, self.session.job
        why = why_recast(found) if found is not None else ""
        tried = any(isinstance(step.action, MendCrossings) for step in job.log[: job.cursor])
        first = "The smallest means end here" if tried else "Still amiss"
        last = "A recast would close it." if tried else "Try the smallest means first; a recast mends what they leave."
        self.proposal.setText(f"{first}: {why}. {last}")
        self.proposal.setVisible(bool(why))
        self.to_recast.setVisible(bool(why))
        is_valid = found is not None and found.crossings is not None and not why and mesh.edges.open == 0
        self.small_means.setEnabled(found is not None and not is_valid)

    def _show_preview(self) -> None:
        self.recasting.show_preview()
        super()._show_preview()

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


def _findings(found: Examination) -> list[Finding]:
    return [replace(f, proposal="close") for f in found.openings if f.kind is Kind.RIM] + found.thin_walls


def _answers(check: Check, found: Examination) -> bool:
    return check.name == "closed" and not found.boundaries.is_hole.any()


SOLID = Station("Solid", SolidTray, _state, _findings, answers=_answers)
