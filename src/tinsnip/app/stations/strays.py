"""Strays: shells beside the part, and voids within it."""

import numpy as np

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.sizeplot import SizePlot
from tinsnip.mesh import Mesh
from tinsnip.regions import region_of_shells
from tinsnip.survey import Finding, Kind
from tinsnip.survey.seams import seams_of, shells_that_touch
from tinsnip.treat import Sweep, WeldSeams
from tinsnip.words import at_most, counted, grouped

__all__ = ["STRAYS", "StraysTray"]


_KINDS = Kind.CRUMB, Kind.CHUNK, Kind.VOID, Kind.INNER, Kind.SKIN
_ALWAYS = Kind.CRUMB, Kind.CHUNK, Kind.VOID
"""Counted in any case; the others only where there are any."""


class StraysTray(Tray):
    """Sweeping strays and voids."""

    title = "Strays: sweep"

    def build(self) -> None:
        self.head_text.setText("Sweep away shells that are not the part. The main shell always stays.")
        self.seam_note = self.warning()
        self.seam_gap = self.number("Widest gap", 0.0, 1e4, 5, "mm", 0.01)
        self.seam_gap.setToolTip("Edges farther from each other stay open; nothing is moved farther than this")
        self.welded_shells, self.welded_edges = self.figure("Shells after welding"), self.figure("Open edges left")
        self._seams_of: Mesh | None = None
        self.question = self.warning()
        kinds = {
            "Crumbs": "Stray shells too small to be part of it",
            "Chunks": "Stray shells large enough to be part of it: ticked by you alone",
            "Voids": "Closed skins inside the part, which face inwards",
            "Inner solids": "Closed shells within the part, in its matter or loose in a void of it",
            "Doubled skins": "Second layers that lie along the part's surface",
        }
        self.counts = {kind: self.figure(name) for kind, name in zip(_KINDS, kinds, strict=True)}
        for label, about in zip(self.counts.values(), kinds.values(), strict=True):
            label.parentWidget().setToolTip(about)
        self.explain("A crumb is a tiny stray, a chunk one that may be part of it, a void a skin inside the part.")
        self.measure = self.drop_down("By", {"extent": "size", "triangles": "count"})
        self.plot = SizePlot()
        self.add(self.plot)
        self.limit = self.number("Tick what is below", 0.0, 1e9, 3, "mm", 1.0)
        self.goes = self.figure("Triangles that go")
        self.row(*self.tick_buttons("Strays"))
        self.sweep_now = self.button("Sweep", self.sweep)
        self.sweep_now.setToolTip("Shells that only need welding may be among them: look at each first")
        self.copper_button("Sweep", self.do)
        self.session.ticks_changed.connect(self.refresh)
        self.session.preview_changed.connect(self._show_welded)
        self.seam_gap.valueChanged.connect(self._preview_weld)
        self.plot.limited.connect(self.tick_below)
        self.limit.valueChanged.connect(lambda value: self.tick_below(value) if value > 0 else None)
        self.measure.currentIndexChanged.connect(self._measure_anew)
        self._measured_of: Mesh | None = None

    def _chosen(self) -> list:
        found = self.session.examination
        return [f for f in found.strays if self.session.is_ticked(f)] if found else []

    def _sized(self) -> list[tuple[float, Finding]]:
        """What is ticked by size, and how large each is as it is measured; chunks are ticked one by one."""
        found, by = self.session.examination, self.measure.currentData()
        return [(float(getattr(f, by)), f) for f in found.strays if f.kind is not Kind.CHUNK] if found else []

    def tick_below(self, limit: float) -> None:
        """Tick what is smaller than a limit, and nothing that is larger."""
        sized = self._sized()
        self._show_limit(limit)
        self.session.tick([f for size, f in sized if size < limit], True)
        self.session.tick([f for size, f in sized if size >= limit], False)

    def _show_limit(self, limit: float) -> None:
        by_count = self.measure.currentData() == "count"
        self.plot.show_sizes(np.array([size for size, _ in self._sized()]), limit, "triangles" if by_count else "mm")
        self.limit.blockSignals(True)
        self.limit.setSuffix("" if by_count else " mm")
        self.limit.setDecimals(0 if by_count else 3)
        self.limit.setValue(limit)
        self.limit.blockSignals(False)

    def _measure_anew(self, *_: object) -> None:
        """Another part, or another measure: the limit stands above all there is, as all of it is ticked at first."""
        sizes = [size for size, _ in self._sized()]
        self._show_limit(1.05 * max(sizes, default=0.0))
        many = len(sizes) > 1
        for widget in (self.measure.parentWidget(), self.plot, self.limit.parentWidget()):
            widget.setVisible(many)

    def _show_seams(self) -> None:
        """Say what there is to weld, and propose how wide a gap."""
        mesh, found = self.session.mesh, self.session.examination
        finding = found.seams[0] if found is not None and found.seams else None
        if finding is not None:
            touching, shells = shells_that_touch(mesh), len(mesh.shells)
            which = (
                f"{grouped(touching)} of {counted(shells, 'shell')} touch" if touching > 1 else "The part has cracks"
            )
            common = float(np.quantile(seams_of(mesh).gaps, 0.98))
            gap = f"{at_most(common)} mm apart" if common > 0 else "with no gap between"
            self.seam_note.setText(f"{which}: weld the seams? {counted(finding.count, 'open edge')}, {gap}.")
            if self._seams_of is not mesh:
                self._seams_of = mesh
                self.seam_gap.setValue(seams_of(mesh).tolerance)
        for widget in (self.seam_note, self.seam_gap.parentWidget(), self.sweep_now):
            widget.setVisible(finding is not None)
        for label in (self.welded_shells, self.welded_edges):
            label.parentWidget().setVisible(finding is not None)
        if finding is not None:
            self._preview_weld()

    def enter(self) -> None:
        self.refresh()

    def _preview_weld(self, *_: object) -> None:
        """Work out what welding would leave, while one looks at the seams."""
        found = self.session.examination
        if self.isVisible() and found is not None and found.seams and not self.session.tasks.busy:
            self._show_welded()
            self.session.ask_preview(self._weld_treatment())

    def _show_welded(self) -> None:
        if self.welded_shells.parentWidget().isHidden():
            return
        preview = self.session.preview
        if preview is None or preview.before is not self.session.mesh or preview.treatment != self._weld_treatment():
            self.welded_shells.setText("…")
            self.welded_edges.setText("…")
            return
        after = preview.outcome.mesh
        self.welded_shells.setText(grouped(len(after.shells)))
        self.welded_edges.setText(grouped(after.edges.open))

    def _weld_treatment(self) -> WeldSeams:
        """As proposed, where the gap was left as it is."""
        typed, proposed = self.seam_gap.value(), seams_of(self.session.mesh).tolerance
        return WeldSeams() if typed <= 0 or abs(typed - proposed) <= 1e-5 else WeldSeams(tolerance_mm=typed)

    def do(self) -> None:
        """What comes first: weld the seams within the gap that is typed; where there is none, sweep what is ticked."""
        found = self.session.examination
        if found is not None and found.seams:
            self.session.apply(self._weld_treatment())
        else:
            self.sweep()

    def refresh(self) -> None:
        chosen = self._chosen()
        found = self.session.examination
        self._show_seams()
        if found is not None and self._measured_of is not found.mesh:
            self._measured_of = found.mesh
            self._measure_anew()
        chunks = int(found.roles.chunk.sum()) if found else 0
        seams = bool(found and found.seams)
        if chunks:
            check = next(c for c in found.readiness.checks if c.name == "shells")
            self.question.setText(f"{check.reason}\nChunks are ticked by you alone: look at each first.")
        self.question.setVisible(chunks > 0 and not seams)  # one question at a time
        for kind, label in self.counts.items():
            every = sum(f.kind is kind for f in found.strays) if found else 0
            label.parentWidget().setVisible(every > 0 or kind in _ALWAYS)
            label.setText(f"{grouped(sum(f.kind is kind for f in chosen))} of {grouped(every)} ticked")
        self.goes.setText(grouped(sum(f.count for f in chosen)))
        voids = sum(f.kind is Kind.VOID for f in chosen)
        parts = [counted(len(chosen) - voids, "stray")] * (len(chosen) > voids) + [counted(voids, "void")] * (voids > 0)
        why = "" if parts else "tick a stray or a void first" if found and found.strays else "there are no strays"
        text = "Sweep " + " and ".join(parts) if parts else "Nothing ticked"
        self.sweep_now.setText(f"{text} before that")
        self.sweep_now.setEnabled(bool(parts))
        self.offer(*(("Weld the seams",) if seams else (text, why)))

    def sweep(self) -> None:
        """Sweep what is ticked."""
        found = self.session.examination.strays
        ticks = [self.session.is_ticked(f) for f in found if f.kind is Kind.CHUNK]
        rest = self.session.ticked_keys(tuple(k for k in _KINDS if k is not Kind.CHUNK))
        limit = self.limit.value() if self.measure.currentData() == "size" else 0.0
        below = limit > 0 and all(self.session.is_ticked(f) == (size < limit) for size, f in self._sized())
        # whole kinds, and what is smaller than a limit, are named by a rule, which fits the next scan too
        if rest is None and (not any(ticks) or all(ticks)):
            self.session.apply(Sweep(chunks="ask" if not ticks else "sweep" if all(ticks) else "keep"))
        elif below and not any(ticks):
            self.session.apply(Sweep(chunks="keep" if ticks else "ask", under_mm=limit))
        else:
            keys = self.session.ticked_keys(_KINDS) or ()
            mesh = self.session.mesh
            self.session.do_made("Sweep strays", lambda: Sweep(shells=region_of_shells(mesh, keys)))


def _state(session: Session) -> tuple[str, int | None]:
    roles = session.examination.roles
    counts = [int(x.sum()) for x in (roles.crumb, roles.chunk, roles.void, roles.inner, roles.skin)]
    names = "crumb", "chunk", "void", "inner solid", "doubled skin"
    words = [counted(n, w) for n, w in zip(counts, names, strict=True) if n]
    words = ["seams to weld"] * bool(session.examination.seams) + words
    return " · ".join(words) or "none", sum(counts)


STRAYS = Station(
    "Strays",
    StraysTray,
    _state,
    lambda found: found.seams + found.strays,
    True,
    lambda check, _: check.name in ("shells", "voids"),
)
