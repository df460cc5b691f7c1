"""What is hidden stays protected: found again on each new mesh, and in the way of what would touch it."""

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from tinsnip.app.state.selected import Selected
from tinsnip.app.state.tasks import Tasks
from tinsnip.errors import HiddenInTheWay
from tinsnip.job import Action, Piece, Step, perform_all
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions.protected import found_again

__all__ = ["Plan", "find_hidden", "performer"]

Plan = Sequence[tuple[Action | Callable[[], Action], tuple[int, ...]]]
"""What is done to which pieces, one after another."""


def find_hidden(selected: Selected, tasks: Tasks) -> None:
    """Find what is hidden on the mesh that is there now, beside the window."""
    mesh, hidden_on = selected.mesh, selected.hidden_on
    if mesh is None or hidden_on is None:
        return

    def take(hidden: np.ndarray) -> None:
        if selected.hidden_on is hidden_on:
            selected.found(mesh, hidden)

    tasks.behind("hidden", lambda progress: found_again(*hidden_on, mesh), take)


def performer(
    plan: Plan, pieces: Mapping[int, Piece], next_id: int, active: int, hidden_on: tuple[Mesh, np.ndarray] | None
) -> Callable[[Progress], list[Step] | HiddenInTheWay]:
    """What does a plan off the window's thread, and says so where something hidden is in its way."""

    def work(progress: Progress) -> list[Step] | HiddenInTheWay:
        protected = {}
        if hidden_on is not None and active in pieces:
            protected[active] = found_again(*hidden_on, pieces[active].mesh)
        try:
            steps = perform_all(plan, pieces, next_id, progress, protected)
        except HiddenInTheWay as met:
            return met
        for change in (change for step in steps for change in step.changes):
            if change.after is not None:
                change.after.mesh.box  # noqa: B018  the view asks for it at once, and should not have to wait
        return steps

    return work
