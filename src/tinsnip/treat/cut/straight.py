"""Straight snip: cut along a plane, splitting triangles exactly."""

from dataclasses import replace
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.treat.account import Account
from tinsnip.treat.kit.cuts.rings import close_cut, unit_normal
from tinsnip.treat.kit.cuts.splitting import split_by_plane
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["StraightSnip"]

Number = Annotated[float, Field(allow_inf_nan=False)]


class StraightSnip(Treatment):
    """Cut along a plane; the side the normal points away from is waste.

    Triangles off the plane stay bit-identical; those it crosses are split exactly on it.
    """

    name: ClassVar[str] = "snip-straight"
    title: ClassVar[str] = "Straight snip"
    takes_what_was_asked: ClassVar[bool] = True

    normal: tuple[Number, Number, Number] = Field((0.0, 0.0, 1.0), description="towards what is kept")
    offset: Number = Field(0.0, description="distance of the plane from the origin along the normal, mm")
    waste: Literal["below", "above"] = Field("below", description="which side of the plane goes")
    close: bool = Field(False, description="close the cut with flat triangles")
    edge_mm: Annotated[float, Field(gt=0, allow_inf_nan=False)] | None = Field(
        None,
        description="length of the edges of the triangles that close it, mm; by default the fewest triangles",
    )

    def plane(self) -> tuple[np.ndarray, float]:
        """Unit normal towards the kept side, and the plane's distance from the origin along it.

        Raises
        ------
        BadInput
            When the normal has no length.
        """
        sign = 1.0 if self.waste == "below" else -1.0
        return sign * unit_normal(self.normal), sign * self.offset

    def goes(self, mesh: Mesh) -> int:
        """How many triangles lie whole on the waste side."""
        normal, offset = self.plane()
        return int(np.count_nonzero((mesh.vertices @ normal < offset)[mesh.faces].all(axis=1)))

    def both(self, mesh: Mesh, progress: Progress) -> tuple[Mesh, Mesh]:
        """What stays and what is waste.

        Raises
        ------
        BadInput
            When the normal has no length, or all of the mesh lies on one side.
        """
        normal, offset = self.plane()
        sides = []
        for i, sign in enumerate((1.0, -1.0)):
            with progress.part(0.5 * i, 0.5 * i + 0.5):
                split = split_by_plane(mesh, sign * normal, sign * offset, progress)
                if split.mesh is mesh or len(split.mesh.faces) == 0:
                    raise BadInput("the plane leaves all of the piece on one side; move it into the piece")
                sides.append(close_cut(split, sign * normal, self.edge_mm)[0] if self.close else split.mesh)
        return sides[0], sides[1]

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Cut the mesh.

        Raises
        ------
        BadInput
            When nothing would be left.
        """
        normal, offset = self.plane()
        if len(mesh.faces) == 0:
            return Outcome(mesh, "No snip")
        split = split_by_plane(mesh, normal, offset, context.progress)
        cut = split.mesh
        if cut is mesh:
            return Outcome(mesh, "The snip meets nothing")
        if len(cut.faces) == 0:
            raise BadInput("the snip would cut everything away; swap the waste side or move the plane")
        account = Account(gone_triangles=split.gone, guessed_mm2=0.0, figures={"split": split.divided})
        if not self.close:
            return Outcome(cut, f"Cut away {counted(split.gone, 'triangle')}", account)
        context.progress.step("Closing the cut")
        closed, bridges = close_cut(split, normal, self.edge_mm)
        account = replace(account, made_triangles=len(closed.faces) - len(cut.faces)).with_figures(bridges=bridges)
        return Outcome(closed, f"Cut away {counted(split.gone, 'triangle')}, closed the cut", account)
