"""Snip apart: a straight snip that keeps both sides, as two pieces."""

from collections.abc import Sequence
from typing import Annotated, ClassVar

from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.treat.kit.rings import close_cut, unit_normal
from tinsnip.treat.kit.splitting import split_by_plane
from tinsnip.treat.pieces.assembly import Assembled, Assembly, Part
from tinsnip.treat.treatment import Context
from tinsnip.words import counted

__all__ = ["SnipApart"]

Number = Annotated[float, Field(allow_inf_nan=False)]


class SnipApart(Assembly):
    """Cut a piece along a plane and keep both sides; the points along the cut are the same to the bit."""

    name: ClassVar[str] = "snip-apart"
    title: ClassVar[str] = "Snip apart"

    normal: tuple[Number, Number, Number] = Field((0.0, 0.0, 1.0), description="towards the side that stays this piece")
    offset: Number = Field(0.0, description="distance of the plane from the origin along the normal, mm")
    close: bool = Field(False, description="close both cuts with flat triangles")

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Cut the one piece that goes in.

        Raises
        ------
        BadInput
            When the normal has no length, or all of the piece lies on one side.
        """
        mesh = meshes[0]
        normal = unit_normal(self.normal)
        parts = []
        for i, (sign, named) in enumerate(((1.0, ""), (-1.0, "other side"))):
            with context.progress.part(0.5 * i, 0.5 * i + 0.5):
                split = split_by_plane(mesh, sign * normal, sign * self.offset, context.progress)
                side = split.mesh
                if side is mesh or len(side.faces) == 0:
                    raise BadInput("the plane leaves all of the piece on one side; move it into the piece")
                if self.close:
                    side, _ = close_cut(split, sign * normal)
                parts.append(Part(side, (0,), named))
        counts = [len(part.mesh.faces) for part in parts]
        text = f"Snipped apart: {counted(counts[0], 'triangle')} and {counted(counts[1], 'triangle')}"
        return Assembled(tuple(parts), text, {"triangles": counts[0], "other_triangles": counts[1]})
