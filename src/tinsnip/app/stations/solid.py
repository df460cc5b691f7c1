"""Solid: closing the base; and where closing ends in no valid solid, the recast."""

from dataclasses import replace

from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.app.stations.recasting import RecastLook, why_recast
from tinsnip.app.stations.station import PreviewTray, Station
from tinsnip.mesh import Mesh
from tinsnip.survey import Examination, Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.treat import Combine, Mend, MendCrossings, Orient, Patch, Plinth, Recast
from tinsnip.treat.close.recast import forecast
from tinsnip.treat.kit.joining import How
from tinsnip.words import counted, grouped

__all__ = ["SOLID", "SolidTray"]


class SolidTray(PreviewTray):
    """Closing the base, and the recast."""

    title = "Solid: close the base"
    previews = Plinth

    def build(self) -> None:
        self.head_text.setText("Make it a solid: a flat rim gets a flat base, a ragged one walls down to a plane.")
        self.small_means = self.button("Close by the smallest means", self.close_by_small_means)
        self.small_means.setToolTip("Mend, orient, untangle, patch holes, close the base, and look again: each a step")
        self.auto = self.tick("as thin as can be")
        self.auto.setChecked(True)
        self.depth = self.number("Depth under rim", 0.01, 1000, 2, "mm", 0.5)
        self.depth.setValue(2.0)
        self.blocked = self.warning()
        self.unblock = self.button("Mend and orient first", self.mend)
        self.heading("What the preview shows")
        self.rims = self.figure("Open rims")
        self.made = self.figure("New triangles")
        self.heading("Recast as one new skin")
        self.proposal = self.warning()
        self.explain("For what cannot be closed by less. All surface shifts, by up to what you allow.")
        self.deviation = self.number("Deviation allowed", 1e-6, 1e6, 3, "mm", 0.05)
        self.wall = self.number("Sheets become", 0.0, 1e4, 2, "mm", 0.5)
        self.wall.setToolTip("Surface with nothing inside becomes a wall so thick; 0: it goes")
        self.gap = self.number("Widest gap", 0.0, 1e6, 2, "mm", 1.0)
        self.gap.setToolTip("A wider one is refused, and said; 0: whatever there is")
        self.cells, self.skin = self.figure("Cells, longest side"), self.figure("Triangles then")
        self.cost = self.figure("Time, memory")
        self.bridged = self.figure("Gaps bridged up to")
        self.look_button = self.button("Look at the recast", self.look_at_recast)
        self.recast_button = self.button("Recast", self.recast)
        self.belong(self.look_button, self.deviation, self.wall, self.gap)
        self.look = RecastLook(self.session)
        for field in (self.deviation, self.wall, self.gap):
            field.valueChanged.connect(self._show_cost)
        self._sized_for: Mesh | None = None
        self.heading("Join, cut, intersect")
        self.together = self.explain()
        self.combining = [
            self.button("Join the shown pieces", lambda: self.combine("join")),
            self.button("Cut the others from this piece", lambda: self.combine("cut")),
            self.button("Keep what they have in common", lambda: self.combine("intersect")),
        ]
        self.session.pieces_changed.connect(self._show_pieces)
        self.copper_button("Close the base", self.do)
        self.auto.toggled.connect(self.ask_anew)
        self.depth.valueChanged.connect(self.ask_anew)

    def treatment(self) -> Plinth:
        return Plinth(depth_mm=None if self.auto.isChecked() else self.depth.value())

    def combine(self, how: How) -> None:
        """Make one solid of all pieces that are shown."""
        self.session.do(Combine(how=how), self.session.job.shown())

    def _show_pieces(self) -> None:
        count = len(self.session.job.shown())
        if count > 1:
            told = f"{counted(count, 'piece')} shown. Away from where they meet nothing changes."
        else:
            told = "One piece is shown. Open or show another, or place a simple solid below."
        self.together.setText(told)
        for button in self.combining:
            button.setEnabled(count > 1)

    def close_by_small_means(self) -> None:
        """All that closes with as little change as can be, in the order in which one helps the next."""
        ends = [Mend(), Orient(), MendCrossings()]
        self.session.do_all([*ends, Patch(), self.treatment(), *ends])

    def recast_treatment(self) -> Recast:
        """The recast as it is set up."""
        return Recast(
            deviation_mm=self.deviation.value(),
            wall_mm=self.wall.value() or None,
            gap_mm=self.gap.value() or None,
            only_if_needed=False,
        )

    def look_at_recast(self) -> None:
        """Show the part as it would be, roughly at once."""
        self.session.cancel_preview()
        self.bridged.setText("…")
        self.look.ask(self.recast_treatment())

    def recast(self) -> None:
        """Do it."""
        self.session.apply(self.recast_treatment())

    def leave(self) -> None:
        self.look.leave()

    def put_away(self) -> bool:
        if self.session.stand_in is not None:
            self.look.leave()
            self.session.cancel_preview()
            self.refresh()
            return True
        return super().put_away()

    def _show_cost(self, *_: object) -> None:
        mesh = self.session.mesh
        if mesh is None or len(mesh.faces) == 0 or not mesh.area > 0:
            return
        plan = forecast(mesh, self.deviation.value(), self.wall.value() or None)
        self.cells.setText(grouped(round(float(mesh.size.max()) / plan.step)))
        self.skin.setText(f"~{grouped(plan.triangles)}")
        self.cost.setText(f"~{max(1, round(plan.seconds))} s, {max(1, round(plan.megabytes))} MB")

    def _refresh_recast(self, found: Examination | None) -> None:
        mesh = self.session.mesh
        if mesh is not None and self._sized_for is not mesh and float(mesh.size.max(initial=0.0)) > 0:
            if self._sized_for is None or abs(float(self._sized_for.size.max() / mesh.size.max()) - 1) > 0.2:
                self.deviation.setValue(float(f"{float(mesh.size.max()) / 512:.2g}"))
            self._sized_for = mesh
            self.bridged.setText("–")
            self._show_cost()
        why = why_recast(found) if found is not None else ""
        job = self.session.job
        tried = any(isinstance(step.action, MendCrossings) for step in job.log[: job.cursor])
        first = "The smallest means end here" if tried else "Still amiss"
        last = "A recast would close it." if tried else "Try the smallest means first; a recast mends what they leave."
        self.proposal.setText(f"{first}: {why}. {last}")
        self.proposal.setVisible(bool(why))
        is_valid = found is not None and found.crossings is not None and not why and mesh.edges.open == 0
        self.small_means.setEnabled(found is not None and not is_valid)
        for button in (self.look_button, self.recast_button):
            button.setEnabled(mesh is not None and len(mesh.faces) > 0)

    def refresh(self) -> None:
        self._show_pieces()
        self._refresh_recast(self.session.examination)
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
        if self.session.stand_in is not None:
            return
        self.show_figures(None)
        if self.is_left or self.why_not:
            self.session.cancel_preview()
            return
        self.show_or_ask()

    def _show_preview(self) -> None:
        preview = self.session.preview
        if preview is not None and isinstance(preview.treatment, Recast):
            figures = preview.outcome.figures
            self.bridged.setText(f"{figures['bridged_mm']:.3g} mm" if figures.get("bridged_share") else "none")
            self.skin.setText(grouped(figures["triangles"]))
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
