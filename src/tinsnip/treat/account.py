"""What a treatment did, counted: the one record that log, routine, preview and report read."""

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from typing import Any, Self

import numpy as np

from tinsnip.mesh import MADE, SHIFTED, Mesh
from tinsnip.words import percent

__all__ = ["BUDGET", "Account", "Undone"]

BUDGET = "budget"
"""The check that fails where more triangles are left than were asked for."""

_LEAST = 1e-9
"""Share of the area below which what seems to have gone is rounding: sums over millions are off by less."""


@dataclass(frozen=True)
class Undone:
    """Something that was left undone.

    Attributes
    ----------
    check : str
        The check of a routine that fails by it.
    why : str
    short : str
        The same in a few words.
    ways : str
        What to set in a routine to have it done, or left for good; ``{step}`` stands for the step's name.
    """

    check: str
    why: str
    short: str = ""
    ways: str = ""


@dataclass(frozen=True)
class Account:
    """What was made, what went, what was shifted, and what was left undone.

    A treatment fills in what it knows better than the two meshes tell; `completed` works out the rest.

    Attributes
    ----------
    made_triangles, gone_triangles, shifted_triangles : int or None
    made_mm2, gone_mm2, shifted_mm2 : float or None
        Areas, mm2.
    gone_share, made_share : float
        What went as a share of the surface before, and what was made as one of the surface after; 0 to 1.
    guessed_mm2 : float or None
        How much of what was made guesses at what was there: all of it, unless said otherwise.
    crossings : int
        Pairs of triangles that cross where none did before.
    matrix : ndarray or None, shape (4, 4)
        What moved all of the mesh.
    undone : tuple of Undone
        What was left undone, and why.
    figures : mapping of str to number or text
        What else there is to read; the names of lengths, areas and angles end in their unit.
    """

    made_triangles: int | None = None
    made_mm2: float | None = None
    gone_triangles: int | None = None
    gone_mm2: float | None = None
    shifted_triangles: int | None = None
    shifted_mm2: float | None = None
    gone_share: float = 0.0
    made_share: float = 0.0
    guessed_mm2: float | None = None
    crossings: int = 0
    matrix: np.ndarray | None = field(default=None, compare=False)
    undone: tuple[Undone, ...] = ()
    figures: Mapping[str, Any] = field(default_factory=dict)

    def completed(self, before: Mesh, after: Mesh, reshapes: bool) -> Self:
        """With all that can be told from the meshes before and after.

        Parameters
        ----------
        before, after : Mesh
        reshapes : bool
            Whether surface was moved or made anew as a whole, so that areas do not tell what went.
        """
        if after is before:
            return replace(
                self, made_triangles=0, made_mm2=0.0, gone_triangles=0, gone_mm2=0.0, shifted_triangles=0,
                shifted_mm2=0.0, guessed_mm2=0.0,
            )  # fmt: skip
        was, now = before.areas, after.areas
        counts = [np.bincount(np.minimum(m.provenance, MADE), minlength=MADE + 1) for m in (before, after)]
        grown = np.maximum(counts[1] - counts[0], 0)
        more = np.maximum(now - was, 0.0)
        if reshapes:  # the same triangles, only larger, are not made
            more = np.where(grown > 0, more, 0.0)
        made, made_mm2 = _or(self.made_triangles, int(grown[MADE])), _or(self.made_mm2, float(more[MADE]))
        gone_mm2 = self.gone_mm2
        if gone_mm2 is None:
            gone_mm2 = 0.0 if reshapes else max(0.0, float(was.sum() + made_mm2 - now.sum()))
        gone_mm2 = gone_mm2 if gone_mm2 > _LEAST * float(was.sum()) else 0.0
        return replace(
            self,
            made_triangles=made,
            made_mm2=made_mm2,
            gone_triangles=_or(self.gone_triangles, max(0, len(before.faces) + made - len(after.faces))),
            gone_mm2=gone_mm2,
            shifted_triangles=_or(self.shifted_triangles, int(grown[SHIFTED])),
            shifted_mm2=_or(self.shifted_mm2, float(more[SHIFTED])),
            gone_share=gone_mm2 / max(float(was.sum()), 1e-300),
            made_share=made_mm2 / max(float(now.sum()), 1e-300),
            guessed_mm2=_or(self.guessed_mm2, made_mm2),
        )

    def shares_told(self) -> list[str]:
        """How much of the area went and was made, in words; nothing where none did."""
        told = ((self.gone_share, "went"), (self.made_share, "was made"))
        return [f"{percent(share)} of the area {verb}" for share, verb in told if share]

    def with_figures(self, **figures: Any) -> Self:
        """With more to read."""
        return replace(self, figures={**self.figures, **figures})

    def facts(self) -> dict[str, Any]:
        """All of it under plain names, as JSON can hold it."""
        own = {one.name: getattr(self, one.name) for one in fields(self)}
        figures, undone, matrix = own.pop("figures"), own.pop("undone"), own.pop("matrix")
        found = {name: value for name, value in own.items() if value is not None}
        if matrix is not None:
            found["matrix"] = np.asarray(matrix).tolist()
        if undone:
            found["undone"] = [[one.check, one.why, one.short, one.ways] for one in undone]
        return {**figures, **found}

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> Self:
        """From what `facts` gave; names that are not its own are figures to read.

        Raises
        ------
        ValueError
            When one is of another kind than it should be.
        """
        own = {one.name for one in fields(cls)} - {"figures"}
        known = {name: value for name, value in facts.items() if name in own}
        for name, value in known.items():
            if name not in ("matrix", "undone") and (isinstance(value, bool) or not isinstance(value, int | float)):
                raise ValueError(f"{name} is no number")
        try:
            if "matrix" in known:
                known["matrix"] = np.array(known["matrix"], dtype=float).reshape(4, 4)
            if "undone" in known:
                known["undone"] = tuple(Undone(*map(str, one)) for one in known["undone"])
        except TypeError as error:
            raise ValueError(str(error)) from error
        return cls(**known, figures={name: value for name, value in facts.items() if name not in own})


def _or(known: Any, otherwise: Any) -> Any:
    return otherwise if known is None else known
