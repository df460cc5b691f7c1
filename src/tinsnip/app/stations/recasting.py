"""The recast: what it would make and cost, a rough look at once and a sharp one after it, then the step."""

import time

from PySide6.QtCore import QObject

from tinsnip.app.state.buffers import ViewBuffers, make_buffers
from tinsnip.app.state.preview import Preview, StandIn
from tinsnip.app.state.session import Session
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Examination
from tinsnip.treat import Context, Outcome, Recast

__all__ = ["RecastLook", "why_recast"]

_ROUGH_CELLS = 72
_MENDS = "closed", "manifold", "outward", "volume", "crossings"


def why_recast(found: Examination) -> str:
    """Why local means do not end in a valid solid; empty as long as they have not been tried, or where they do."""
    left = found.boundaries.is_hole.any() or found.boundaries.is_rim.any()
    wrong = [c for c in found.readiness.checks if c.passed is False and c.name in _MENDS]
    if left or not wrong:
        return ""
    return " · ".join(c.brief or c.reason for c in wrong)


class RecastLook(QObject):
    """Shows a recast in place of the part before it is done: in large cells first, then as it will be."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.shown: Recast | None = None
        """What is shown whole."""
        session.mesh_changed.connect(self.leave)

    def leave(self) -> None:
        """Show the part again."""
        self._session.tasks.stop_behind("rough recast", "recast")
        if self._session.stand_in is not None and isinstance(self._session.stand_in, _Skin):
            self._session.show_stand_in(None)
        self.shown = None

    def ask(self, treatment: Recast) -> None:
        """Show the part as a treatment would make it."""
        session, mesh = self._session, self._session.mesh
        if mesh is None:
            return
        self.leave()
        rough = max(float(mesh.size.max()) / _ROUGH_CELLS / 2, treatment.deviation_mm or 0.0)
        coarse = Recast(deviation_mm=rough, wall_mm=None, only_if_needed=treatment.only_if_needed)
        begun = time.perf_counter()

        def first(progress: Progress) -> tuple[Outcome, ViewBuffers] | None:
            try:
                return _worked_out(coarse, mesh, progress)
            except BadInput:  # what cannot be done is said by the whole one
                return None

        def rough_done(found: tuple[Outcome, ViewBuffers] | None) -> None:
            if session.mesh is mesh and self.shown is None and found is not None:
                self._show(mesh, *found)
            session.tasks.behind("recast", lambda p: _worked_out(treatment, mesh, p), done)

        def done(found: tuple[Outcome, ViewBuffers]) -> None:
            if session.mesh is mesh:
                self.shown = treatment
                self._show(mesh, *found)
                session.show_preview(Preview(treatment, mesh, found[0], time.perf_counter() - begun))

        session.tasks.behind("rough recast", first, rough_done)

    def _show(self, mesh: Mesh, outcome: Outcome, buffers: ViewBuffers) -> None:
        self._session.show_stand_in(_Skin(before=mesh, triangles=len(outcome.mesh.faces), buffers=buffers))


class _Skin(StandIn):
    """A recast that is looked at."""


def _worked_out(treatment: Recast, mesh: Mesh, progress: Progress) -> tuple[Outcome, ViewBuffers]:
    outcome = treatment.apply(mesh, Context(progress))
    return outcome, make_buffers(outcome.mesh, progress)
