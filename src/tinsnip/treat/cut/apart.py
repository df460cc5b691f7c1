"""Snip apart: a snip that keeps both sides, as two pieces."""

from collections.abc import Sequence
from typing import Annotated, Any, ClassVar

from pydantic import BeforeValidator, Field, PlainSerializer, model_validator

from tinsnip.mesh import Mesh
from tinsnip.treat.account import Account
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.cut.box import BoxSnip
from tinsnip.treat.cut.outline import OutlineSnip
from tinsnip.treat.cut.round import RoundSnip
from tinsnip.treat.cut.straight import StraightSnip
from tinsnip.treat.cut.traced import TracedSnip
from tinsnip.treat.treatment import Context, Treatment
from tinsnip.words import counted

__all__ = ["SnipApart"]

_SNIPS = {snip.name: snip for snip in (StraightSnip, RoundSnip, BoxSnip, OutlineSnip, TracedSnip)}
_OLD = {"normal", "offset", "close"}
"""Fields by which jobs of before say a straight snip."""


def _read(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    named = dict(value)
    known = _SNIPS.get(named.pop("snip", None))
    if known is None:
        raise ValueError(f"a snip is one of {', '.join(_SNIPS)}")
    return known(**named)


def _write(snip: Treatment) -> dict[str, Any]:
    return {"snip": snip.name, **snip.model_dump(mode="json")}


AnySnip = Annotated[
    StraightSnip | RoundSnip | BoxSnip | OutlineSnip | TracedSnip, BeforeValidator(_read), PlainSerializer(_write)
]


class SnipApart(Assembly):
    """Cut a piece and keep both sides; the points along the cut are the same to the bit."""

    name: ClassVar[str] = "snip-apart"
    title: ClassVar[str] = "Snip apart"

    snip: AnySnip = Field(StraightSnip(), description="the cut; the side that is not its waste stays this piece")

    @model_validator(mode="before")
    @classmethod
    def _from_plane(cls, values: Any) -> Any:
        """Take the fields of a straight snip for one."""
        if isinstance(values, dict) and values.keys() & _OLD:
            values = dict(values)
            values["snip"] = StraightSnip(**{name: values.pop(name) for name in _OLD & values.keys()})
        return values

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Cut the one piece that goes in.

        Raises
        ------
        BadInput
            When the snip describes no cut, or all of the piece lies on one side of it.
        """
        sides = self.snip.both(meshes[0], context.progress)
        parts = [Part(side, (0,), named) for side, named in zip(sides, ("", "other side"), strict=True)]
        counts = [len(part.mesh.faces) for part in parts]
        text = f"Snipped apart: {counted(counts[0], 'triangle')} and {counted(counts[1], 'triangle')}"
        return Assembled(tuple(parts), text, Account(figures={"triangles": counts[0], "other_triangles": counts[1]}))
