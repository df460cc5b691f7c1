"""Surface: tangles, noise, even triangles, and brushes."""

from PySide6.QtCore import QSignalBlocker

from tinsnip.app.state.session import Session
from tinsnip.app.stations.recastplaces import RecastPlacesPart
from tinsnip.app.stations.remeshing import RemeshPart
from tinsnip.app.stations.station import Does, PartedTray, Station
from tinsnip.app.stations.tooloptions import ToolOptions
from tinsnip.app.tools.bending import BendTool
from tinsnip.app.tools.brush import OF_LENGTH, BrushTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.panels import Section
from tinsnip.app.widgets.pictograms import PictogramRow
from tinsnip.datums.datum import LINEAR
from tinsnip.mesh import Mesh
from tinsnip.survey.ripple import Ripple, ripple_of
from tinsnip.survey.surfaces import noise_of
from tinsnip.treat import (
    Bend,
    Mend,
    MendCrossings,
    Orient,
    PullIn,
    RecastPlaces,
    Smooth,
    TakeRipple,
    Weld,
)
from tinsnip.treat.shape.brushes import BRUSHES
from tinsnip.words import counted, grouped, millimetres, rounded_up

__all__ = ["SURFACE", "SurfaceTray"]


_NOISES = 4.0
"""Times the noise that a vertex may move: one in 16 000 lies further off by chance."""
_SHORT = {"draw": "Draw", "fill": "Fill", "scrape": "Scrape", "back": "Back", "colour": "Colour", "even": "Even"}
"""Names that are short enough to stand below a pictogram."""
_ABOUT = {
    "Untangle": "Untangle what makes no surface or crosses itself.",
    "Smooth": "Take scanner noise off by rule; the part keeps its size, open edges stay.",
    "Ripple": "Take off the bands of one wavelength that some scanners leave.",
    "Sharpen": "Edges that noise or meshing rounded are brought back to their line.",
    "Remesh": "The same surface in even triangles; edges, rims and colours stay.",
    "Divide": "Each triangle cut in four, for more room to shape; what is selected, or all.",
    "Bend": "Bend, taper or twist the part between two places along an axis.",
    "Brush": "Work the surface by hand; colour and texture stay, every stroke is a step.",
}
_DOES = {
    "Sharpen": Does("sharpen", "Sharpen the edges", "asked"),
    "Divide": Does("subdivide", "Divide the triangles"),
    "Bend": Does("bend", "Bend, taper or twist", "changed"),
}


class SurfaceTray(PartedTray):
    """Untangling, smoothing, meshing anew, and brushes."""

    title = "Surface"
    about = _ABOUT
    across = 4
    does = _DOES

    def __init__(self, session: Session, view: Viewport) -> None:
        self.brush = BrushTool(view)
        super().__init__(session, view)

    def build(self) -> None:
        self.build_parts()
        self._build_untangling(self.parts["Untangle"])
        self._build_smoothing(self.parts["Smooth"])
        self._build_ripple(self.parts["Ripple"])
        self.remeshing = RemeshPart(self.session, self.parts["Remesh"])
        self.remeshing.changed.connect(self.refresh)
        self._build_brushes(self.parts["Brush"])
        self.copper_button("Untangle", self.do)
        self.view.hand.tool_changed.connect(self._show_brush)
        self.show_part()

    def _build_untangling(self, part: Section) -> None:
        names = {
            "Tangled edges": "Edges on which more than two triangles meet",
            "Pinched vertices": "Corners in which the surface touches itself",
            "Flipped edges": "Edges whose triangles face opposite ways",
            "Doubled triangles": "Triangles on the same three corners",
            "Degenerate triangles": "Triangles without height",
            "Spikes": "Vertices far off their neighbours, which may be real tips",
            "Crossings": "Pairs of triangles that go through or touch each other",
            "Folds": "Neighbouring triangles that lie on or go through each other",
        }
        self.values = [part.figure(name) for name in names]
        for label, about in zip(self.values, names.values(), strict=True):
            label.parentWidget().setToolTip(about)
        self.spike_button = part.button("Pull in the spikes", lambda: self.session.apply(PullIn()))
        self.spike_button.setToolTip("Put each between its neighbours; look first whether they are real tips")
        part.button("Weld equal vertices", lambda: self.session.apply(Weld()))
        self.knots = RecastPlacesPart(self.session, part)

    def _build_smoothing(self, part: Section) -> None:
        self.noise = part.figure("Noise")
        self.noise.parentWidget().setToolTip("By how much vertices lie off an even surface, as measured")
        self.edges = part.tick("keep edges", "Flats and rounds are evened out, the edges between them stay sharp")
        self.edges.toggled.connect(self._show_how)
        self.most = part.number("At most", 0.0, 1e6, 4, "mm", 0.01)
        self.most.setToolTip("No vertex moves further than this; 0: as far as it comes")
        self.passes = part.number("Passes", 1, 200, 0, "", 5)
        self.passes.setValue(10)
        self.labels_of_passes = part.labels[self.passes]
        self.strength = part.number("Strength", 0.05, 0.7, 2, "", 0.05)
        self.strength.setValue(0.5)
        self._noise_of: Mesh | None = None

    def _build_ripple(self, part: Section) -> None:
        self.ripple = part.figure("Bands")
        self.ripple.parentWidget().setToolTip("Of one wavelength, which the scanner left square to one way in space")
        self.ripple.setText("not looked for")
        part.button("Look for a ripple", self.look_for_ripple)
        part.explain("Taken off where it stands out; letters, rings and ribs of the part itself stay.")

    def _build_brushes(self, part: Section) -> None:
        self.brushes = PictogramRow(across=4)
        part.add(self.brushes)
        for name, kind in BRUSHES.items():
            short = _SHORT.get(name, kind.title)
            self.brushes.offer(f"brush {name}", short, kind.title, lambda n=name: self.take(n)).setToolTip(kind.told)
        seldom = "mirror", "density", "edge"
        self.options = ToolOptions(self.brush, [o.name for o in self.brush.options if o.name not in seldom])
        part.add(self.options)
        self.seldom = ToolOptions(self.brush, seldom)
        part.more("mirror, triangles").add(self.seldom)
        density, edge = self.seldom.fields["density"], self.seldom.fields["edge"]
        density.setToolTip("Whether what a stroke drew out is meshed anew at its end, with colours and lines kept")
        for widget in (edge, self.seldom.labels[edge]):
            widget.setVisible(False)
            density.currentTextChanged.connect(lambda text, w=widget: w.setVisible(text == OF_LENGTH))
        self.brush_told = part.explain()

    def add_offers(self, station: str) -> None:
        super().add_offers(station)
        self.offered["bend"][0].changed.connect(self._show_bend)
        self.bend_tool = BendTool(self.view, self._bend)
        self.bend_tool.dragged.connect(self._set_bend)
        self.along = self.parts["Bend"].drop_down("Along", {"its axis": ""})
        self.along.setToolTip("A datum with an axis to go along; heights are told from its own place then")
        self.along.currentIndexChanged.connect(self._go_along)
        self.view.datums.changed.connect(self._list_datums)
        self._list_datums()
        self._show_bend()

    def _list_datums(self) -> None:
        """Offer the part's datums that have an axis."""
        kept = [datum for datum in self.view.datums.kept if datum.form in LINEAR]
        if [self.along.itemData(i) for i in range(1, self.along.count())] != [datum.name for datum in kept]:
            with QSignalBlocker(self.along):
                self.along.clear()
                self.along.addItem("its axis", "")
                for datum in kept:
                    self.along.addItem(f"{datum.name} {datum.form} {datum.measure()}".rstrip(), datum.name)
            self._go_along()
        self.along.parentWidget().setVisible(bool(kept))

    def _go_along(self, *_: object) -> None:
        """Let the bend go along a datum, or an axis again."""
        datum = next((d for d in self.view.datums.kept if d.name == self.along.currentData()), None)
        line = () if datum is None else (tuple(datum.place.tolist()), tuple((datum.place + datum.direction).tolist()))
        form = self.offered["bend"][0]
        form.field("axis").setVisible(datum is None)
        form.field("line").put(line)

    def _bend(self) -> Bend | None:
        """What is typed for a bend; None where that does not fit."""
        try:
            return self.offered["bend"][0].action()
        except ValueError:
            return None

    def _set_bend(self, name: str, value: float) -> None:
        """Type what was dragged."""
        row = self.offered["bend"][0].field(name)
        if row.tick is not None:
            row.tick.setChecked(True)
        row.spin.setValue(round(value, 3))

    def enter(self) -> None:
        super().enter()
        self._take_handles()

    def _take_handles(self) -> None:
        """The handles of a bend stand round the part where that is in hand."""
        self.view.hand.set_rest(self.bend_tool if self.part == "Bend" else None)

    def _show_bend(self) -> None:
        """Show what matters for a bend, a taper or a twist."""
        form = self.offered["bend"][0]
        how = form.field("how").value()
        form.field("line").setVisible(False)  # what is chosen below says it
        for name, hows in (("angle_degrees", "bend twist"), ("towards_degrees", "bend"), ("end_size_percent", "taper")):
            form.field(name).setVisible(how in hows.split())
        self.view.update_overlay()

    def part_offer(self) -> str:
        if self.part == "Bend" and self.part_look.is_on:
            return f"{str(self.offered['bend'][0].field('how').value()).title()} it as it is shown"
        return super().part_offer()

    # ---- brushes

    def take(self, name: str) -> None:
        """Take a brush in hand; the one that is there already is put away."""
        hand = self.view.hand
        if hand.tool is self.brush and self.brush.brush == name:
            hand.put_away()
            return
        self.brush.brush = name
        hand.take(self.brush)
        self._show_brush()

    def _show_brush(self) -> None:
        in_hand = self.view.hand.tool is self.brush
        kind = BRUSHES[self.brush.brush]
        self.brushes.check([kind.title] if in_hand else [])
        told = f"{kind.told}." if in_hand else "Take a brush in hand; press and draw over the part."
        self.brush_told.setText(told)
        self.refresh()

    def leave_part(self) -> None:
        self.view.hand.put_away()
        self.part_look.leave()

    def leave(self) -> None:
        self.leave_part()
        self.view.hand.set_rest(None)

    def do(self) -> None:
        """Untangle, smooth, mesh anew, or lay the brush down."""
        if self.part == "Untangle":
            self.untangle()
        elif self.do_part():
            return
        elif self.part == "Smooth":
            self.smooth()
        elif self.part == "Ripple":
            self.take_ripple()
        elif self.part == "Remesh":
            self.session.apply(self.remeshing.treatment())
        elif self.view.hand.tool is self.brush:
            self.view.hand.put_away()
        else:
            self.take(self.brush.brush)

    def refresh(self) -> None:
        self.knots.refresh()
        self.remeshing.refresh()
        if self.part != "Untangle":
            self._offer_by_hand()
        found = self.session.examination
        if found is None:
            for label in self.values:
                label.setText("…")
            if self.part == "Untangle":
                self.offer("Untangle", "the part is still being looked over")
            return
        t = found.tangles
        counts = [t.tangled_edges, t.pinched_vertices, t.flipped_edges, t.duplicates, t.degenerate]
        crossed = found.crossings
        spikes = sum(f.count for f in found.spikes)
        self.spike_button.setVisible(spikes > 0)
        counts += [spikes, *([None, None] if crossed is None else [len(crossed.pairs), len(crossed.folds)])]
        for label, value in zip(self.values, counts, strict=True):
            label.setText("counting…" if value is None else grouped(value))
        places = len(found.crossed)
        if self.part != "Untangle":
            return
        told = counted(t.total + places, "place") if t.total + places else ""
        why = "crossings are still being counted" if crossed is None else "there is nothing to untangle"
        self.offer(f"Untangle {told}" if told else "Nothing to untangle", "" if told else why)

    def _offer_by_hand(self) -> None:
        if self.part == "Smooth":
            self.offer("Smooth the surface")
        elif self.part == "Ripple":
            self.offer("Take the ripple off")
        elif self.part in self.does:
            self.tell_looked_at()
        elif self.part == "Remesh":
            self.offer(*self.remeshing.offer())
        else:
            in_hand = self.view.hand.tool is self.brush
            self.offer("Lay the brush down" if in_hand else f"Take {BRUSHES[self.brush.brush].title} in hand")

    def untangle(self) -> None:
        """Do every mend that loses nothing but what is in the way: tangles, sides, crossings."""
        tangled = self.session.examination.tangles.total > 0
        self.session.do_all([*([Mend(), Orient()] if tangled else []), MendCrossings()])

    def put_away(self) -> bool:
        places = isinstance(getattr(self.session.preview, "treatment", None), RecastPlaces)
        if places or self.part_look.is_on:
            self.session.cancel_preview()
            return True
        return super().put_away()

    def smooth(self) -> None:
        """Smooth."""
        self.session.apply(
            Smooth(
                iterations=int(self.passes.value()),
                strength=self.strength.value(),
                keep_edges=self.edges.isChecked(),
                most_mm=self.most.value() or None,
            )
        )

    def _show_how(self, *_: object) -> None:
        for widget in (self.passes, self.labels_of_passes):
            widget.setVisible(not self.edges.isChecked())

    def show_part(self) -> None:
        super().show_part()
        if self.isVisible():
            self._take_handles()
        if self.part == "Smooth":
            self._measure_noise()

    def take_ripple(self) -> None:
        """Take the ripple off, where there is one."""
        self.session.apply(TakeRipple())

    def look_for_ripple(self) -> None:
        """Look for a ripple beside the window, and say what was found."""
        mesh = self.session.mesh
        if mesh is None:
            return
        self.ripple.setText("looking…")

        def take(found: Ripple | None) -> None:
            if self.session.mesh is mesh:
                self.ripple.setText(
                    f"every {millimetres(found.wavelength)} mm, {millimetres(found.height)} mm high"
                    if found
                    else "none"
                )

        self.session.tasks.behind("ripple", lambda progress: ripple_of(mesh), take)

    def _measure_noise(self) -> None:
        """Measure the noise beside the window, and propose some times of it as the farthest that a vertex may move."""
        mesh = self.session.mesh
        if mesh is None or mesh is self._noise_of:
            return
        self._noise_of = mesh
        self.noise.setText("…")

        def take(noise: float) -> None:
            if self.session.mesh is mesh:
                self.noise.setText(f"{millimetres(noise)} mm")
                self.most.setValue(rounded_up(_NOISES * noise))

        self.session.tasks.behind("noise", lambda progress: noise_of(mesh), take)


def _state(session: Session) -> tuple[str, int | None]:
    found = session.examination
    tangles, crossings, places = found.tangles.total, found.crossings, len(found.crossed)
    spikes = sum(f.count for f in found.spikes)
    told = [counted(tangles, "tangle")] * (tangles > 0) + [counted(places, "crossing")] * (places > 0)
    told += [counted(spikes, "spike")] * (spikes > 0)
    if crossings is None:
        return " · ".join([*told, "counting crossings"]), tangles + spikes or None
    return " · ".join(told) or "no tangles, no crossings", tangles + places + spikes


_CHECKS = ("manifold", "outward", "volume", "crossings")
SURFACE = Station(
    "Surface",
    SurfaceTray,
    _state,
    lambda found: found.knots + found.crossed + found.spikes,
    answers=lambda check, _: check.name in _CHECKS,
)
