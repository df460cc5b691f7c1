"""Patch: close holes with a surface of the density and slope round them."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.regions import Region, holes_in
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat.kit.patching import PatchStyle, patch_clear_of_the_part
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Patch"]


class Patch(Treatment):
    """Close holes; never the rim. Least-area triangles, refined and faired (Liepa 2003)."""

    name: ClassVar[str] = "patch"
    title: ClassVar[str] = "Patch holes"
    changes_area: ClassVar[bool] = True

    under_mm: float | None = Field(None, gt=0, description="only holes that span less than this, mm")
    flow: float = Field(1.0, ge=0, le=1, description="0 taut like a drum skin, 1 flowing on from the surroundings")
    on_plane: bool = Field(False, description="on the plane of the hole instead, whatever its shape")
    rise_mm: float = Field(0.0, description="how far the middle of each patch is pushed out, mm; in where less than 0")
    triangles: Literal["even", "fewest"] = Field(
        "even", description="even: as dense as the surface round it; fewest: no vertex within"
    )
    holes: Region | None = Field(None, description="only the holes chosen one by one")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Patch the holes chosen.

        Every triangle that was there stays as it is, but for a few at the edge of a hole, hanging over it so that no
        patch could keep clear of them; these go, and it is said.

        Raises
        ------
        BadInput
            When the mesh has tangled or flipped edges.
        """
        progress = context.progress
        progress.step("Finding holes")
        loops = mesh.loops
        boundaries = classify_boundaries(mesh)
        chosen = boundaries.is_hole.copy()
        if self.under_mm is not None:
            chosen &= boundaries.span < self.under_mm
        if self.holes is not None and len(chosen):
            chosen &= holes_in(mesh, self.holes)
        numbers = np.flatnonzero(chosen)
        if len(numbers) == 0:
            return Outcome(mesh, "No hole to patch", {"holes": 0, "triangles": 0})
        corner = mesh.faces.ravel()
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave the holes without a clear edge; mend and orient first")
        # a patch runs against the open half-edges
        rings = [corner[loops.loop(i)][::-1] for i in numbers]
        style = PatchStyle(self.flow, self.on_plane, self.rise_mm, self.triangles == "fewest")
        patched, kept, tauter, crossed = patch_clear_of_the_part(mesh, rings, [style] * len(rings), context)
        hung = len(mesh.faces) - kept
        gone = float(mesh.areas.sum() - triangle_areas(patched.vertices, patched.faces[:kept]).sum()) if hung else 0.0
        added = len(patched.faces) - kept
        area = float(np.linalg.norm(face_vectors(patched.vertices, patched.faces[kept:]), axis=1).sum())
        figures = {
            "holes": len(rings), "triangles": added, "area_mm2": area, "patched_mm2": area, "tauter": tauter,
            "crossings": crossed.fresh, "gone_mm2": gone,
        }  # fmt: skip
        text = f"Patched {counted(len(rings), 'hole')}"
        if tauter:
            text += f", {tauter} of them drawn taut so as not to cross the part"
        if hung:
            text += f", took {counted(hung, 'triangle')} away that hung over a hole"
        return Outcome(patched, text + crossed.said(), figures)
