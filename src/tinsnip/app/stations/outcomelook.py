"""What would come of a treatment, shown in place of the part before it is done."""

import time
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers, make_buffers
from tinsnip.app.state.preview import Preview, StandIn
from tinsnip.app.state.session import Session
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.treat import Context, Outcome, Treatment

__all__ = ["OutcomeLook", "worked_out"]


class OutcomeLook(QObject):
    """Shows the part as a treatment would make it; what is shown whole is done at once where it is asked for.

    Attributes
    ----------
    refused : Signal
        It cannot be done, and why.
    """

    refused = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.shown: Treatment | None = None
        """What is shown whole."""
        self.why_not = ""
        """Why what was asked for last cannot be done."""
        self._stand_in: StandIn | None = None
        session.mesh_changed.connect(self.leave)
        session.preview_left.connect(self.leave)

    @property
    def is_on(self) -> bool:
        """Whether something is shown in place of the part."""
        return self._stand_in is not None and self._session.stand_in is self._stand_in

    def leave(self) -> None:
        """Show the part again."""
        self._session.tasks.stop_behind("outcome")
        if self.is_on:
            self._session.show_stand_in(None)
        self.shown = self._stand_in = None
        self.why_not = ""

    def ask(self, treatment: Treatment | Callable[[], Treatment]) -> None:
        """Show the part as a treatment, or one that is made first, would make it, as soon as that is worked out."""
        self.why_not = ""
        piece = self._session.job.piece
        if piece is None:
            return
        mesh, context, begun = piece.mesh, (piece.raw, piece.frame), time.perf_counter()

        def work(progress: Progress) -> tuple[Treatment, Outcome, ViewBuffers] | str:
            made = treatment() if callable(treatment) else treatment
            try:
                return made, *worked_out(made, mesh, Context(progress, *context))
            except BadInput as error:
                return str(error)

        def done(found: tuple[Treatment, Outcome, ViewBuffers] | str) -> None:
            if isinstance(found, str):
                self.leave()
                self.why_not = found
                self.refused.emit(found)
            elif self._session.mesh is mesh:
                self.shown, outcome, buffers = found
                self.show_instead(mesh, outcome, buffers)
                self._session.show_preview(Preview(self.shown, mesh, outcome, time.perf_counter() - begun))

        self._session.tasks.behind("outcome", work, done)

    def show_instead(self, mesh: Mesh, outcome: Outcome, buffers: ViewBuffers) -> None:
        """Show what came of it in place of the part."""
        self._stand_in = StandIn(before=mesh, triangles=len(outcome.mesh.faces), buffers=buffers)
        self._session.show_stand_in(self._stand_in)


def worked_out(treatment: Treatment, mesh: Mesh, context: Context) -> tuple[Outcome, ViewBuffers]:
    """What comes of a treatment, and what draws it."""
    outcome = treatment.apply(mesh, context)
    return outcome, make_buffers(outcome.mesh, context.progress)
