"""The recast: what it would make and cost, a rough look at once and a sharp one after it, then the step."""

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.app.state.session import Session
from tinsnip.app.stations.outcomelook import OutcomeLook, worked_out
from tinsnip.app.widgets.panels import Section
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Examination
from tinsnip.treat import Context, Outcome, Recast
from tinsnip.treat.close.recast import forecast
from tinsnip.words import grouped

__all__ = ["RecastLook", "RecastPart", "why_recast"]

_ROUGH_CELLS = 72
_MENDS = "closed", "manifold", "outward", "volume", "crossings"


def why_recast(found: Examination) -> str:
    """Why local means do not end in a valid solid; empty as long as they have not been tried, or where they do."""
    left = found.boundaries.is_hole.any() or found.boundaries.is_rim.any()
    wrong = [c for c in found.readiness.checks if c.passed is False and c.name in _MENDS]
    if left or not wrong:
        return ""
    return " · ".join(c.brief or c.reason for c in wrong)


class RecastLook(OutcomeLook):
    """Shows a recast in place of the part before it is done: in large cells first, then as it will be."""

    def leave(self) -> None:
        self._session.tasks.stop_behind("rough recast")
        super().leave()

    def ask(self, treatment: Recast) -> None:
        """Show the part as a recast would make it."""
        session, mesh = self._session, self._session.mesh
        if mesh is None:
            return
        self.leave()
        rough = max(float(mesh.size.max()) / _ROUGH_CELLS / 2, treatment.deviation_mm or 0.0)
        coarse = Recast(deviation_mm=rough, wall_mm=None, only_if_needed=treatment.only_if_needed)

        def first(progress: Progress) -> tuple[Outcome, ViewBuffers] | None:
            try:
                return worked_out(coarse, mesh, Context(progress))
            except BadInput:  # what cannot be done is said by the whole one
                return None

        def rough_done(found: tuple[Outcome, ViewBuffers] | None) -> None:
            if session.mesh is mesh and self.shown is None and found is not None:
                self.show_instead(mesh, *found)
            ask_whole(treatment)

        ask_whole = super().ask
        session.tasks.behind("rough recast", first, rough_done)


class RecastPart:
    """The part of a tray that sets a recast up, tells what it would cost, shows it, and does it.

    Parameters
    ----------
    session : Session
    part : Section
        Where it puts its controls.
    """

    def __init__(self, session: Session, part: Section) -> None:
        self._session = session
        self._sized_for: Mesh | None = None
        part.explain("All surface shifts, by up to what you allow.")
        self.deviation = part.number("Deviation allowed", 1e-6, 1e6, 3, "mm", 0.05)
        self.wall = part.number("Sheets become", 0.0, 1e4, 2, "mm", 0.5)
        self.wall.setToolTip("Surface with nothing inside becomes a wall so thick; 0: it goes")
        self.gap = part.number("Widest gap", 0.0, 1e6, 2, "mm", 1.0)
        self.gap.setToolTip("A wider one is refused, and said; 0: whatever there is")
        self.cells, self.skin = part.figure("Cells, longest side"), part.figure("Triangles then")
        self.cost = part.figure("Time, memory")
        self.bridged = part.figure("Gaps bridged up to")
        self.look_button = part.button("Look at the recast", self.look_at_it)
        part.belong(self.look_button, self.deviation, self.wall, self.gap)
        self.look = RecastLook(session)
        self.look.refused.connect(lambda why: session.message.emit(why, True))
        for field in (self.deviation, self.wall, self.gap):
            field.valueChanged.connect(self._show_cost)

    def treatment(self) -> Recast:
        """The recast as it is set up."""
        return Recast(
            deviation_mm=self.deviation.value(),
            wall_mm=self.wall.value() or None,
            gap_mm=self.gap.value() or None,
            only_if_needed=False,
        )

    def look_at_it(self) -> None:
        """Show the part as it would be, roughly at once."""
        self._session.cancel_preview()
        self.bridged.setText("…")
        self.look.ask(self.treatment())

    def recast(self) -> None:
        """Do it."""
        self._session.apply(self.treatment())

    def _show_cost(self, *_: object) -> None:
        mesh = self._session.mesh
        if mesh is None or len(mesh.faces) == 0 or not mesh.area > 0:
            return
        plan = forecast(mesh, self.deviation.value(), self.wall.value() or None)
        self.cells.setText(grouped(round(float(mesh.size.max()) / plan.step)))
        self.skin.setText(f"~{grouped(plan.triangles)}")
        self.cost.setText(f"~{max(1, round(plan.seconds))} s, {max(1, round(plan.megabytes))} MB")

    def refresh(self) -> None:
        """Fit what is set up to the part as it is."""
        mesh = self._session.mesh
        if mesh is not None and self._sized_for is not mesh and float(mesh.size.max(initial=0.0)) > 0:
            if self._sized_for is None or abs(float(self._sized_for.size.max() / mesh.size.max()) - 1) > 0.2:
                self.deviation.setValue(float(f"{float(mesh.size.max()) / 512:.2g}"))
            self._sized_for = mesh
            self.bridged.setText("–")
            self._show_cost()
        self.look_button.setEnabled(mesh is not None and len(mesh.faces) > 0)

    def show_preview(self) -> None:
        """Tell what a recast that was worked out has bridged."""
        preview = self._session.preview
        if preview is not None and isinstance(preview.treatment, Recast):
            figures = preview.outcome.account.figures
            self.bridged.setText(f"{figures['bridged_mm']:.3g} mm" if figures.get("bridged_share") else "none")
            self.skin.setText(grouped(len(preview.outcome.mesh.faces) if figures.get("cell_mm") else 0))
