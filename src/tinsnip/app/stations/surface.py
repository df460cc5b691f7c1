"""Surface: tangles and noise."""

from tinsnip.app.state.session import Session
from tinsnip.app.stations.recastplaces import RecastPlacesPart
from tinsnip.app.stations.station import Station, Tray
from tinsnip.treat import Mend, MendCrossings, Orient, PullIn, RecastPlaces, Smooth, Weld
from tinsnip.words import counted, grouped

__all__ = ["SURFACE", "SurfaceTray"]


class SurfaceTray(Tray):
    """Untangling and smoothing."""

    title = "Surface: untangle and smooth"

    def build(self) -> None:
        self.head_text.setText("Untangle what makes no surface or crosses itself, and take scanner noise off.")
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
        self.values = [self.figure(name) for name in names]
        for label, about in zip(self.values, names.values(), strict=True):
            label.parentWidget().setToolTip(about)
        self.spike_button = self.button("Pull in the spikes", lambda: self.session.apply(PullIn()))
        self.spike_button.setToolTip("Put each between its neighbours; look first whether they are real tips")
        self.button("Weld equal vertices", lambda: self.session.apply(Weld()))
        self.knots = RecastPlacesPart(self.session, self)
        self.heading("Smooth")
        self.explain("Takes scanner noise off; the part keeps its size, open edges stay.")
        self.passes = self.number("Passes", 1, 200, 0, "", 5)
        self.passes.setValue(10)
        self.strength = self.number("Strength", 0.05, 0.7, 2, "", 0.05)
        self.strength.setValue(0.5)
        self.smooth_button = self.button("Smooth the surface", self.smooth)
        self.belong(self.smooth_button, self.passes, self.strength)
        self.copper_button("Untangle", self.untangle)

    def refresh(self) -> None:
        self.knots.refresh()
        found = self.session.examination
        if found is None:
            for label in self.values:
                label.setText("…")
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
        told = counted(t.total + places, "place") if t.total + places else ""
        why = "crossings are still being counted" if crossed is None else "there is nothing to untangle"
        self.offer(f"Untangle {told}" if told else "Nothing to untangle", "" if told else why)

    def untangle(self) -> None:
        """Do every mend that loses nothing but what is in the way: tangles, sides, crossings."""
        tangled = self.session.examination.tangles.total > 0
        self.session.do_all([*([Mend(), Orient()] if tangled else []), MendCrossings()])

    def put_away(self) -> bool:
        if isinstance(getattr(self.session.preview, "treatment", None), RecastPlaces):
            self.session.cancel_preview()
            return True
        return super().put_away()

    def smooth(self) -> None:
        """Smooth."""
        self.session.apply(Smooth(iterations=int(self.passes.value()), strength=self.strength.value()))


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
