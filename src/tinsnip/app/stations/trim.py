"""Trim: what is cut away."""

import numpy as np
from PySide6.QtCore import QTimer

from tinsnip.app.state.session import Session
from tinsnip.app.stations.snips import (
    BoxSection,
    OutlineSection,
    RoundSection,
    SnipSection,
    StraightSection,
    TracedSection,
)
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.stations.tooloptions import ToolOptions
from tinsnip.app.tools.cutting import CutPlan, CutTool
from tinsnip.app.view.hand import Tool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.panels import Section
from tinsnip.app.widgets.pictograms import PictogramRow
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.regions import Region
from tinsnip.survey.bed import Bed, beds_of
from tinsnip.survey.rags import ragged_rims
from tinsnip.treat import BoxSnip, FindBed, OutlineSnip, RoundSnip, SnipApart, StraightSnip, Tidy, TracedSnip
from tinsnip.words import counted, grouped, percent

__all__ = ["TRIM", "TrimTray"]

_SECTIONS = StraightSection, RoundSection, BoxSection, OutlineSection, TracedSection
_AWAY = "Cut the bed away"
_ROWS = 8
"""As many as a rim may be ragged by; only what has to be is changed."""
_MOST_PLANS = 20
"""Plans that have cut, and stand again where the cut is undone."""


class TrimTray(Tray):
    """The snips, and tools to select."""

    title = "Trim"
    can_swap = True

    def __init__(self, session: Session, view: Viewport) -> None:
        self.sections = [make(session, view) for make in _SECTIONS]
        self.straight = self.sections[0]
        self.section: SnipSection = self.straight
        self.select_tools: list[Tool] = []
        self._options: dict[Tool, ToolOptions] = {}
        self._past: list[tuple[SnipSection, CutPlan]] = []
        self._is_as_set_up = False
        super().__init__(session, view)
        self._later = QTimer(self, singleShot=True, interval=60)
        self._later.timeout.connect(self._count)
        for section in self.sections:
            section.changed.connect(self._edited)
        view.hand.tool_changed.connect(self._show_in_hand)
        session.selected.changed.connect(self._offer_selected)

    def build(self) -> None:
        self.head_text.setText("Cut off the bed, the backdrop, what was not wanted. The hatched side goes.")
        self.bed_note = self.warning()
        self.bed_button = self.button(_AWAY, self._cut_bed)
        self.rag_note = self.warning()
        self.rag_button = self.button("Tidy the ragged edge", self._tidy_rags)
        self.heading("Cut")
        self.tool_row = PictogramRow()
        self.add(self.tool_row)
        self.heading("Select and mend the edge")
        self.select_row = PictogramRow()
        self.add(self.select_row)
        for section in self.sections:
            self.tool_row.offer(section.picture, section.short, section.name, lambda s=section: self.choose(s))
            self.add(section)
            section.setVisible(section is self.section)
        self.offset, self.tilts = self.straight.offset, self.straight.tilts
        self.two_points, self.axis = self.straight.two_points, self.straight.axis
        self.cutting = Section()
        self.add(self.cutting)
        self.swap_button = self.cutting.button("Swap the waste side", self.swap, "X")
        self.goes = self.cutting.figure("Triangles that go")
        self.stays = self.cutting.figure("Triangles that stay")
        more = self.cutting.more("close the cut, keep both sides")
        self.close_box = more.tick("close the cut")
        self.close_box.setToolTip("Where it runs through the solid, its wall is made")
        self.close_box.toggled.connect(self._ticked)
        self.edge = more.number("Edges that close it", 0.0, 1e4, 2, "mm", 0.1)
        self.edge.setToolTip("Length of the edges of the triangles that close the cut; 0: as few triangles as may be")
        self.edge.valueChanged.connect(self._ticked)
        self.edge.parentWidget().hide()
        self.close_box.toggled.connect(self.edge.parentWidget().setVisible)
        self.both_box = more.tick("keep both sides, as two pieces")
        self.both_box.toggled.connect(self._ticked)
        self.copper_button(self.section.set_up_text, self.cut)

    @property
    def tool(self) -> CutTool:
        """The snip that is in hand here."""
        return self.section.tool

    @property
    def plan(self) -> CutPlan | None:
        """The snip that is set up."""
        return self.section.plan

    def offer_tools(self, tools: list[Tool]) -> None:
        at = self.column.indexOf(self.select_row) + 1
        self.select_tools = tools
        for tool in tools:
            self.select_row.offer(tool.picture, tool.short or tool.name, tool.name, lambda t=tool: self.take(t))
            if tool.options:
                options = ToolOptions(tool)
                options.hide()
                self.column.insertWidget(at, options)
                self._options[tool] = options

    def take(self, tool: Tool) -> None:
        """Take a tool for selecting in hand, or put it away again."""
        if self.view.hand.tool is tool:
            self.view.hand.put_away()
        else:
            self.view.hand.take(tool)
        self._show_in_hand()

    def _show_in_hand(self) -> None:
        tool = self.view.hand.tool
        self.tool_row.check([self.section.name] if tool is None else [])
        self.select_row.check([tool.name] if tool is not None else [])
        for one, options in self._options.items():
            options.setVisible(one is tool)
        own = self._own_tool
        self.section.setVisible(own is None)  # what is in hand is all there is a button for
        self.cutting.setVisible(own is None)
        if own is not None:
            self.view.show_waste(None)
            self._offer_selected()
        elif self.isVisible() and self.view.hand.rest is self.tool:
            self.tool.show_waste()
            self._show_plan()
        self._show_bed_button()

    @property
    def _own_tool(self) -> Tool | None:
        """What is in hand, where it is of the second row."""
        tool = self.view.hand.tool
        return tool if tool is not None and tool.station == "Trim" else None

    def _offer_selected(self) -> None:
        own = self._own_tool
        if own is not None and not own.selects:
            self.offer(own.name, "a click in the view does it")
        elif own is not None:
            count = self.session.selected.count
            why = "" if count else "select something first"
            self.offer(f"Delete {counted(count, 'triangle')}" if count else "Delete what is selected", why)

    def _show_bed_button(self) -> None:
        """The bed has a button of its own where the copper one does something else."""
        self.bed_button.setVisible(self._bed is not None and (self._own_tool is not None or not self._cuts_bed))

    @property
    def _cuts_bed(self) -> bool:
        """Whether the cut that stands is the one that was set up for the bed."""
        bed, plan = self._bed, self.plan
        if bed is None or plan is None or self.section is not self.straight:
            return False
        normal, offset = plan.waste_plane()
        stands = np.allclose(normal, bed.normal) and np.isclose(offset, bed.offset + bed.above)
        return bool(stands) and not (self.close_box.isChecked() or self.both_box.isChecked())

    def _cut_bed(self) -> None:
        self.session.apply(FindBed(most_share=1.0))

    def choose(self, section: SnipSection) -> None:
        """Cut in another way."""
        self.view.hand.put_away()
        if section is not self.section:
            self.tool.show(None)
            self.section.setVisible(False)
            self.section = section
            section.setVisible(True)
            self.view.hand.set_rest(None)
        self.enter()

    def enter(self) -> None:
        mesh = self.session.mesh
        self._show_in_hand()
        if mesh is not None and len(mesh.faces):
            self.view.hand.set_rest(self.tool)
            self._show_findings()
            if self.plan is None or not self._fits(self.plan, mesh):
                self.tool.show(None)
                self._set_up()
            self.tool.show(self.plan)
            self._show_plan()

    def _set_up(self) -> None:
        """Set a plan up where none is; what is ticked goes for every cut."""
        mesh = self.session.mesh
        if mesh is not None and len(mesh.faces):
            plan = self.section.new_plan(mesh.box)
            self._is_as_set_up = plan is not None
            self.tool.show(plan)
            self._place_above_bed()
            self._show_plan()

    @property
    def _bed(self) -> Bed | None:
        """The bed that was found, if one was."""
        mesh, found = self.session.mesh, self.session.examination
        beds = beds_of(mesh) if found is not None and is_known(mesh, beds_of) else ()
        return beds[0] if beds else None

    def _place_above_bed(self) -> None:
        """Let the plane stand just above the bed, as long as it was not moved by hand."""
        bed = self._bed
        if self.section is not self.straight or self.plan is None:
            return
        if self._is_as_set_up and bed is not None:
            self.plan.set_bed(bed)
            self._is_as_set_up = False

    def _show_findings(self) -> None:
        mesh, bed = self.session.mesh, self._bed
        rags = []
        if bed is None and self.session.examination is not None and is_known(mesh, ragged_rims):
            rags = self.session.examination.rags  # what a bed has goes with it
        if rags:
            which = "An open edge is ragged" if len(rags) == 1 else f"{counted(len(rags), 'open edge')} are ragged"
            turns = counted(sum(rag.count for rag in rags), "sharp turn")
            self.rag_note.setText(f"{which}: {turns}. Spikes are cut, notches filled and the line is smoothed.")
        self.rag_note.setVisible(bool(rags))
        self.rag_button.setVisible(bool(rags))
        if bed is not None:
            share = percent(bed.area / max(self.session.mesh.area, 1e-300))
            where = "It is a shell of its own." if bed.shells else "The straight snip stands just above it."
            self.bed_note.setText(f"The part stands on a bed: {share} of the area. {where}")
        self.bed_note.setVisible(bed is not None)
        self._show_bed_button()

    def _tidy_rags(self) -> None:
        mesh = self.session.mesh

        def make() -> Tidy:
            ragged, loops = ragged_rims(mesh)[0], mesh.loops
            chosen = np.repeat(ragged, np.diff(loops.start))
            return Tidy(edges=Region.of(mesh, np.unique(loops.halfedges[chosen] // 3)), rows=_ROWS)

        self.session.do_made("Tidy the ragged edge", make)

    def put_away(self) -> bool:
        if self.plan is None:
            return False
        self.tool.show(None)
        self._show_plan()
        return True

    def leave(self) -> None:
        plan = self.plan
        self.view.hand.set_rest(None)
        self.tool.plan = plan  # it stands again when one comes back; nothing of it is drawn meanwhile

    def refresh(self) -> None:
        mesh = self.session.mesh
        if not self.isVisible() or self.view.hand.rest is not self.tool or mesh is None:
            return
        plan = self.plan
        if plan is not None and not self._fits(plan, mesh):
            self._past = [*self._past, (self.section, plan)][-_MOST_PLANS:]
            plan = None  # what has cut does not stand ready for the next cut
        if plan is None:  # gone back to it, it does
            plan = next((p for s, p in self._past if s is self.section and self._fits(p, mesh)), None)
            self.tool.show(plan)
        self._place_above_bed()
        self._show_findings()
        self.tool.show(self.plan)
        self._show_plan()

    @staticmethod
    def _fits(plan: CutPlan, mesh: Mesh) -> bool:
        """Whether a plan still is for this mesh: one that has cut for the very same only, else for one as large."""
        return np.array_equal(plan.box, mesh.box) and plan.cut_from in (0, len(mesh.faces))

    def _ticked(self, *_: object) -> None:
        self._is_as_set_up = False
        for section in self.sections:
            section.tool.keeps_both = self.both_box.isChecked()
        self.tool.show_waste()
        self._show_plan()

    def swap(self) -> None:
        """Let the other side go."""
        self._is_as_set_up = False
        if self.plan is not None:
            self.plan.swap()
            self.tool.show_waste()
            self._show_plan()

    def _edited(self) -> None:
        self._is_as_set_up = False
        self._show_plan()

    def _show_plan(self) -> None:
        plan = self.plan
        self.section.fill()
        self.swap_button.setEnabled(plan is not None)
        self._show_bed_button()
        if self._own_tool is not None:
            return
        if plan is None:
            for label in (self.goes, self.stays):
                label.setText("–")
            self.offer(self.section.set_up_text, self.section.why_none)
            drawing = getattr(self.tool, "drawing", None)
            if drawing is not None and drawing.can_finish:
                self.offer("Close the outline")
        else:
            plan.close = self.close_box.isChecked()
            plan.edge = self.edge.value() or None
            self._later.start()

    def _count(self) -> None:
        mesh, plan = self.session.mesh, self.plan
        if plan is None or mesh is None:
            return
        frozen = plan.copy()
        self.session.tasks.behind("snip", lambda progress: (mesh, frozen.goes(mesh)), self._show_count)

    def _show_count(self, result: tuple[Mesh, int]) -> None:
        mesh, count = result
        if self.plan is None or mesh is not self.session.mesh or self._own_tool is not None:
            return
        both, body = self.tool.keeps_both, self.section.body
        self.goes.setText("0" if both else grouped(count))
        self.stays.setText(grouped(len(mesh.faces) - (0 if both else count)))
        if self._cuts_bed:
            self.offer(_AWAY)
            return
        why = self.plan.why_not
        if not why and self.plan.waste() is None:
            why = "trace a line round what is meant: three points or more"
        if count == len(mesh.faces):
            why = f"the whole part lies on the hatched side; move the {body} or swap the waste side"
        elif both and count == 0 and not why:
            why = f"the {body} does not pass through the part"
        self.offer("Cut into two pieces" if both else "Cut the hatched side away", why)

    def cut(self) -> None:
        """Make the cut, or set one up where none is; with a tool that selects, delete what is selected."""
        if self._own_tool is not None:
            self.asked.emit("delete selected")
            return
        drawing = getattr(self.tool, "drawing", None)
        if drawing is not None and drawing.can_finish:
            drawing.finish()
        elif self.plan is None:
            self._set_up()
        elif self._cuts_bed:
            self._cut_bed()
        else:
            self.plan.cut_from = len(self.session.mesh.faces)
            if self.tool.keeps_both:
                self.session.do(self.plan.apart())
            else:
                self.session.apply(self.plan.treatment())


_CUTS = StraightSnip, RoundSnip, BoxSnip, OutlineSnip, TracedSnip, SnipApart, FindBed


def _state(session: Session) -> tuple[str, int | None]:
    job, concerned = session.job, {session.job.active}
    cuts = 0
    for step in reversed(job.log[: job.cursor]):  # back through the pieces that the active one came from
        changed = {change.id for change in step.changes}
        if not concerned & changed:
            continue
        cuts += isinstance(
            step.action, StraightSnip | RoundSnip | BoxSnip | OutlineSnip | TracedSnip | SnipApart | FindBed
        )
        if any(change.id in concerned and change.before is None for change in step.changes):
            concerned |= set(step.on)
    beds = len(session.examination.beds) if session.examination is not None else 0
    if beds:
        return "stands on a bed", beds
    rags = len(session.examination.rags) if cuts and session.examination is not None else 0
    if rags:
        return f"{counted(cuts, 'cut')} made, {counted(rags, 'ragged edge')}", rags
    return (counted(cuts, "cut") + " made" if cuts else "nothing cut yet"), (0 if cuts else None)


TRIM = Station("Trim", TrimTray, _state, lambda found: found.beds or found.rags, waits=False)
