"""Stand on the found bed: what the scan stood on comes to z = 0, the part above it."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.space.rigid import turn_between
from tinsnip.survey.bed import beds_of
from tinsnip.treat.account import Account, Undone
from tinsnip.treat.stand.moves import moved_outcome
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import degrees_told

__all__ = ["StandOnBed"]


class StandOnBed(Treatment):
    """Lay the plane of the bed that was scanned with the part on z = 0, so that the part stands as it stood."""

    name: ClassVar[str] = "stand-on-bed"
    title: ClassVar[str] = "Stand on the found bed"
    reshapes: ClassVar[bool] = True

    number: int = Field(1, ge=1, le=8, description="which bed or wall, the largest is the first")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Find the bed, and lay it down."""
        context.progress.step("Looking for the bed")
        beds = beds_of(mesh)
        if len(beds) < self.number:
            why = "no bed found" if not beds else f"only {len(beds)} found"
            undone = Undone("bed", f"the part was not stood on a bed: {why}", "no bed", "set {step}.enabled=false")
            return Outcome(mesh, f"Not stood on a bed: {why}", Account(undone=(undone,)))
        bed = beds[self.number - 1]
        linear, degrees = turn_between(bed.normal, np.array([0.0, 0.0, 1.0]))
        text = f"Stood on the bed, turned by {degrees_told(degrees)}°"
        return moved_outcome(mesh, linear, np.array([0.0, 0.0, -bed.offset]), text)
