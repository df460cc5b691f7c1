"""Find the bed: what a scan stands on, or in front of, is cut away just above its surface."""

from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.bed import Bed, beds_of
from tinsnip.treat.account import Account, Undone
from tinsnip.treat.kit.cuts.rings import close_cut
from tinsnip.treat.kit.cuts.splitting import split_by_plane
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import millimetres, percent

__all__ = ["FindBed"]

_OWN = 0.95
"""Share of the area up to which a bed that is a shell of its own goes unasked."""
_MOST = 3
"""Planes that are cut away one after another: a bed, and walls."""
Height = Annotated[float, Field(ge=0, allow_inf_nan=False)]


class FindBed(Treatment):
    """Cut the bed away, and walls behind the part; where no bed is found, nothing is done.

    The part keeps its foot: the cut lies no higher over the bed than the bed's own unevenness asks for. A bed that is
    a shell of its own goes as a shell, and the part is not cut at all.
    """

    name: ClassVar[str] = "find-bed"
    title: ClassVar[str] = "Find the bed"
    takes_what_was_asked: ClassVar[bool] = True

    above_mm: Height | None = Field(None, description="height of the cut over the bed, mm; by default just above it")
    most_share: float = Field(
        0.65, gt=0, le=1, description="share of the area from which it may be the part itself, a panel, and is not cut"
    )
    close: bool = Field(False, description="close the cut with flat triangles")

    def height(self, bed: Bed) -> float:
        """How far over a bed's plane it is cut, mm."""
        return bed.above if self.above_mm is None else self.above_mm

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Look for the bed, and cut it away."""
        now, told, doubt = mesh, [], ""
        figures: dict[str, Any] = {"beds": 0}
        while len(told) < _MOST:
            context.progress.step("Looking for the bed")
            beds = beds_of(now)
            share = beds[0].area / max(now.area, 1e-300) if beds else 0.0
            # a shell of its own, apart from the rest, is hardly the part; what the part grows out of may be
            if share > (max(self.most_share, _OWN) if beds and beds[0].shells else self.most_share):
                doubt = f"what looks like a bed is {percent(share)} of the area and may be the part"
                break
            left = self._without(now, beds[0], context) if beds else now
            if not beds or len(left.faces) == 0:
                break
            bed, height = beds[0], self.height(beds[0])
            told.append("the bed" if not told else "a wall")
            told[-1] += ", a shell of its own" if bed.shells else f" {millimetres(height)} mm above it"
            if len(told) == 1:
                figures |= {"normal": bed.normal.tolist(), "offset": bed.offset, "above": height}
            figures["beds"] = len(told)
            now = left
        ways = "set {step}.most_share=1 to cut it, {step}.enabled=false to keep it"
        left = (Undone("bed", doubt, "a bed?", ways),) if doubt else ()
        account = Account(undone=left, figures=figures)
        if now is mesh:
            return Outcome(mesh, f"No bed cut: {doubt}; look at it in Trim" if doubt else "No bed found", account)
        return Outcome(now, f"Cut away {' and '.join(told)}", account)

    def _without(self, mesh: Mesh, bed: Bed, context: Context) -> Mesh:
        """The mesh without a bed."""
        if bed.shells:
            return keep_triangles(mesh, ~np.isin(mesh.shells.label, bed.shells))
        split = split_by_plane(mesh, bed.normal, bed.offset + self.height(bed), context.progress)
        if self.close and len(split.mesh.faces):
            return close_cut(split, bed.normal)[0]
        return split.mesh
