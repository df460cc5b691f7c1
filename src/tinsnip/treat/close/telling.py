"""Tell openings: what a technician knows of open boundaries stands above what is measured of them."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.regions import Region, holes_in
from tinsnip.survey.holes import TOLD, TOLD_HOLE, TOLD_RIM, classify_boundaries
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["TellOpenings"]


class TellOpenings(Treatment):
    """Say of open boundaries that they are holes, or rims; nothing of the surface changes."""

    name: ClassVar[str] = "tell-openings"
    title: ClassVar[str] = "Tell holes from rims"

    openings: Region = Field(Region(), description="the boundaries, by the triangles round them")
    are: Literal["hole", "rim"] = Field("rim", description="what they are")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Mark the vertices of the boundaries with what they are told to be."""
        context.progress.step("Finding holes")
        chosen = holes_in(mesh, self.openings) if len(mesh.loops) else np.zeros(0, dtype=bool)
        known = classify_boundaries(mesh)
        want = TOLD_RIM if self.are == "rim" else TOLD_HOLE
        other = chosen & ~(known.is_rim if self.are == "rim" else known.is_hole)
        if not other.any():
            return Outcome(mesh, f"No boundary that is not a {self.are} already", Account(figures={"told": 0}))
        now = mesh.attributes.get(TOLD)
        told = np.zeros(len(mesh.vertices), dtype=np.uint8) if now is None else now.values.copy()
        corner = mesh.faces.ravel()
        for i in np.flatnonzero(other):
            told[corner[mesh.loops.loop(i)]] = want
        count = int(other.sum())
        what = f"a {self.are}" if count == 1 else f"{self.are}s"
        text = f"Told: {counted(count, 'boundary is', 'boundaries are')} {what}"
        return Outcome(
            mesh.with_attribute(TOLD, Attribute(Domain.VERTEX, told)), text, Account(figures={"told": count})
        )
