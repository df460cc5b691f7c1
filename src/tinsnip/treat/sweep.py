"""Sweep: take away strays and voids."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.strays import shell_roles
from tinsnip.treat.treatment import Context, Outcome, Treatment, counted

__all__ = ["Sweep"]


class Sweep(Treatment):
    """Take away whole shells: by rule, or the ones named. The main shell always stays."""

    name: ClassVar[str] = "sweep"
    title: ClassVar[str] = "Sweep strays"

    crumbs: bool = Field(True, description="sweep strays under a twentieth of the main shell's span")
    chunks: bool = Field(True, description="sweep larger strays")
    voids: bool = Field(True, description="sweep closed inner skins")
    under_mm: float | None = Field(None, gt=0, description="only what spans less than this, mm")
    shells: tuple[int, ...] | None = Field(None, description="only these shells, by their lowest triangle")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Sweep; what stays is bit-identical."""
        context.progress.step("Sweeping")
        roles = shell_roles(mesh)
        go = (roles.crumb & self.crumbs) | (roles.chunk & self.chunks) | (roles.void & self.voids)
        if self.under_mm is not None:
            go &= mesh.shells.spans < self.under_mm
        if self.shells is not None:
            go &= np.isin(mesh.shells.first, self.shells)
        if not go.any():
            return Outcome(mesh, "Nothing to sweep", {"strays": 0, "voids": 0, "triangles": 0})
        keep = ~go[mesh.shells.label] | (mesh.shells.label < 0)
        voids = int((go & roles.void).sum())
        strays = int(go.sum()) - voids
        parts = [counted(strays, "stray")] * (strays > 0) + [counted(voids, "void")] * (voids > 0)
        swept = keep_triangles(mesh, keep)
        gone = len(mesh.faces) - len(swept.faces)
        return Outcome(swept, "Swept " + " and ".join(parts), {"strays": strays, "voids": voids, "triangles": gone})
