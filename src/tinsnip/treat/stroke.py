"""What every brush is as a treatment: a row of places it came by, each of which it touches in turn."""

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, Self

import numpy as np
from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.treat.working import Working
from tinsnip.words import at_most

__all__ = ["Stroke"]


class Stroke(Treatment):
    """A brush drawn over the surface.

    What a brush does at one place is `touch`; the window calls it place by place while the button is down, and
    `apply` does the same from the first place to the last, so that both come to the same bits.
    """

    reshapes: ClassVar[bool] = True
    named_points: ClassVar[tuple[str, ...]] = ("places",)

    places: tuple[tuple[float, float, float], ...] = Field((), description="where the brush came by, mm, in order")
    radius_mm: float = Field(5.0, gt=0, allow_inf_nan=False, description="how far it reaches, mm")

    def begin(self, working: Working, context: Context) -> None:
        """Make ready what the brush goes by, before the first place.

        Raises
        ------
        BadInput
            When it cannot do its work on this part.
        """

    def along(self, places: Sequence[tuple[float, float, float]], told: Sequence[Mapping[str, Any]]) -> Self:
        """The same along some places, of each of which more may be told.

        Parameters
        ----------
        places : sequence of (float, float, float)
            mm.
        told : sequence of mapping
            What `touch` was told besides, at each.
        """
        del told
        return self.model_copy(update={"places": tuple(places)})

    def told_at(self, number: int) -> Mapping[str, Any]:
        """What `touch` is told besides, at one of the places."""
        del number
        return {}

    def touch(self, working: Working, place: np.ndarray) -> np.ndarray:
        """Do what the brush does at one place.

        Parameters
        ----------
        working : Working
        place : ndarray, shape (3,)
            mm.

        Returns
        -------
        ndarray of int, shape (K,)
            The vertices that moved.
        """
        raise NotImplementedError

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Touch each place in turn; the same triangles over moved vertices."""
        if len(mesh.faces) == 0 or not self.places:
            return self.outcome_of(None, mesh)
        working = Working(mesh)
        self.begin(working, context)
        state = context.progress.step(self.title, len(self.places))
        for number, place in enumerate(self.places):
            context.progress.check()
            state[1] = number
            self.touch(working, np.array(place), **self.told_at(number))
        return self.outcome_of(working, mesh)

    def outcome_of(self, working: Working | None, mesh: Mesh) -> Outcome:
        """What a stroke has come to that has touched all of its places; None where there was nothing to touch."""
        after = mesh if working is None else working.finished()
        if after is mesh:
            return Outcome(mesh, f"{self.title}: nothing moved", Account(figures={"largest_mm": 0.0}))
        largest = working.farthest()
        return Outcome(
            after, f"{self.title}: moved by {at_most(largest)} mm at most", Account(figures={"largest_mm": largest})
        )
