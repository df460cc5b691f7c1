"""What every treatment is."""

import functools
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Self

import numpy as np
from pydantic import BaseModel, ConfigDict

from tinsnip.mesh import MADE, Mesh
from tinsnip.progress import Progress, stoppable
from tinsnip.words import percent

__all__ = ["Context", "Outcome", "Treatment"]


@dataclass
class Context:
    """What a treatment may use besides the mesh and its own parameters."""

    progress: Progress = field(default_factory=Progress)
    raw: Mesh | None = None


@dataclass(frozen=True)
class Outcome:
    """The new mesh, a line for the log, and figures under their names.

    A treatment that met something it must not decide alone leaves it as it is and asks a `question`.
    """

    mesh: Mesh
    text: str
    figures: dict[str, Any] = field(default_factory=dict)
    question: str = ""


class Treatment(BaseModel):
    """One operation that changes a mesh: parameters, and a pure function.

    The same mesh and parameters give the same bits. A treatment that cannot keep its promise on a mesh
    raises `BadInput` and changes nothing; one with nothing to do returns the very mesh it was given.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: ClassVar[str]
    title: ClassVar[str]
    station: ClassVar[str] = ""
    """The station that offers it with a form of its fields; none where a tray does so in its own way."""
    changes_area: ClassVar[bool] = False
    """Whether surface goes or is made, so that the outcome has to say how much."""
    named_points: ClassVar[tuple[str, ...]] = ()
    """Fields that are places on one scan, mm: they go along when it is moved, and fit no other scan."""

    def __init_subclass__(cls, **named: Any) -> None:
        super().__init_subclass__(**named)
        if "apply" in cls.__dict__:
            cls.apply = stoppable(_accounted(cls.apply) if cls.changes_area else cls.apply)

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Treat a mesh."""
        raise NotImplementedError

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> Self:
        """The same, set so as to leave some triangles alone, bool, shape (F,); as it is where it cannot be so set."""
        return self


def _accounted(apply: Callable[..., Outcome]) -> Callable[..., Outcome]:
    """Let an outcome say how much of the area went, and how much was made, mm2 and as shares.

    What went is told as a share of the surface before, what was made as one of the surface after. A treatment that
    knows how much went better than the two areas tell puts ``gone_mm2`` into its figures itself.
    """

    @functools.wraps(apply)
    def wrapped(self: Treatment, mesh: Mesh, context: Context) -> Outcome:
        outcome = apply(self, mesh, context)
        figures = {**outcome.figures}
        if outcome.mesh is mesh:
            return replace(outcome, figures={**figures, **_SHARES})
        before, after = mesh.areas, outcome.mesh.areas
        made = max(0.0, float(after[MADE] - before[MADE]))
        gone = figures.setdefault("gone_mm2", max(0.0, float(before.sum() + made - after.sum())))
        if gone <= 1e-9 * before.sum():
            gone = figures["gone_mm2"] = 0.0
        figures |= {
            "made_mm2": made,
            "gone_share": gone / max(float(before.sum()), 1e-300),
            "made_share": made / max(float(after.sum()), 1e-300),
        }
        told = [
            f"{percent(figures[f'{what}_share'])} of the area {verb}"
            for what, verb in _TOLD
            if figures[f"{what}_share"]
        ]
        return replace(outcome, text=", ".join([outcome.text, *told]), figures=figures)

    return wrapped


_SHARES = {"gone_mm2": 0.0, "made_mm2": 0.0, "gone_share": 0.0, "made_share": 0.0}
_TOLD = (("gone", "went"), ("made", "was made"))
