"""Reduce: fewer triangles, as little deviation as can be."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Lineage, Mesh
from tinsnip.mesh.halfedges import fans_of
from tinsnip.mesh.subsets import compact
from tinsnip.treat.collapsing import collapse_to
from tinsnip.treat.treatment import Context, Outcome, Treatment, counted

__all__ = ["Reduce"]


class Reduce(Treatment):
    """Reduce to a number of triangles, or to a share of them, by quadric edge collapse."""

    name: ClassVar[str] = "reduce"
    title: ClassVar[str] = "Reduce"

    triangles: int | None = Field(None, ge=4, description="how many triangles to keep")
    percent: float | None = Field(None, gt=0, le=100, description="share of the triangles to keep, %")
    hold_rims: bool = Field(False, description="leave open edges exactly as they are")

    def target(self, count: int) -> int | None:
        """Triangles to keep of `count`; None when no budget is given."""
        goals = [self.triangles] if self.triangles is not None else []
        if self.percent is not None:
            goals.append(max(4, round(count * self.percent / 100.0)))
        return min(goals) if goals else None

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Reduce the mesh.

        Raises
        ------
        BadInput
            When it has tangles: a collapse would tear there.
        """
        target = self.target(len(mesh.faces))
        if target is None or target >= len(mesh.faces):
            return Outcome(mesh, "Nothing to reduce", {"triangles": len(mesh.faces)})
        context.progress.step("Preparing to reduce")
        mesh = compact(mesh)
        if mesh.edges.tangled or mesh.edges.flipped or (fans_of(mesh.faces, mesh.twins, len(mesh.vertices)) > 1).any():
            raise BadInput("tangles or flipped triangles would tear while reducing; mend and orient first")
        done = collapse_to(mesh.vertices, mesh.faces, mesh.twins, target, self.hold_rims, context.progress)
        provenance = mesh.provenance[done.parent]
        moved = (done.vertices != mesh.vertices[done.source]).any(axis=1)
        touched = moved[done.faces].any(axis=1) | (done.source[done.faces] != mesh.faces[done.parent]).any(axis=1)
        provenance = np.where(touched & (provenance == 0), SHIFTED, provenance).astype(np.uint8)
        reduced = mesh.derive(done.faces, Lineage(done.source, done.parent), done.vertices, provenance)
        text = f"Reduced to {counted(len(reduced.faces), 'triangle')}"
        if len(reduced.faces) > target * 1.02 + 4:
            text += f" ({counted(target, 'was', 'were')} asked; the shape allows no fewer)"
        return Outcome(reduced, text, {"triangles": len(reduced.faces), "before": len(mesh.faces)})
