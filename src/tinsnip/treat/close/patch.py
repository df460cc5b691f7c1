"""Patch: close holes with a surface of the density and slope round them."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.regions import Region, holes_in
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat.kit.patching import PatchStyle, patch_clear_of_the_part, rings_of
from tinsnip.treat.kit.tidying import tidy_edges
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Patch"]

_MARK = "at a hole that is patched"


def _angles(patched: Mesh, kept: int) -> tuple[float, float]:
    """The largest angle across an edge between what was there and what is made, and the sharpest corner made."""
    made = patched.faces[kept:]
    if len(made) == 0:
        return 0.0, 0.0
    half = np.arange(3 * kept, 3 * len(patched.faces))
    beside = patched.twins[half]
    seam = (beside >= 0) & (beside < 3 * kept)
    normals = face_vectors(patched.vertices, made)
    normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
    old = face_vectors(patched.vertices, patched.faces[beside[seam] // 3])
    old /= np.maximum(np.linalg.norm(old, axis=1), 1e-300)[:, None]
    cosine = (normals[half[seam] // 3 - kept] * old).sum(axis=1)
    corners = patched.vertices[made]
    sides = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
    a, b, c = sides[:, 0], sides[:, 1], sides[:, 2]
    sharp = [(x * x + y * y - z * z) / np.maximum(2 * x * y, 1e-300) for x, y, z in ((a, b, c), (b, c, a), (c, a, b))]
    least = float(np.clip(np.max(sharp), -1, 1))
    return float(np.degrees(np.arccos(np.clip(cosine.min(initial=1.0), -1, 1)))), float(np.degrees(np.arccos(least)))


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
    tidy_rows: int = Field(0, ge=0, le=50, description="rows of triangles from the edge that may be tidied first")
    tidy_strength: float = Field(0.5, ge=0, le=1, description="how much the edge is smoothed then")
    holes: Region | None = Field(None, description="only the holes chosen one by one")

    @property
    def style(self) -> PatchStyle:
        """How each hole is patched."""
        return PatchStyle(self.flow, self.on_plane, self.rise_mm, self.triangles == "fewest")

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
        boundaries = classify_boundaries(mesh)
        chosen = boundaries.is_hole.copy()
        if self.under_mm is not None:
            chosen &= boundaries.span < self.under_mm
        if self.holes is not None and len(chosen):
            chosen &= holes_in(mesh, self.holes)
        numbers = np.flatnonzero(chosen)
        if len(numbers) == 0:
            return Outcome(mesh, "No hole to patch", {"holes": 0, "triangles": 0})
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave the holes without a clear edge; mend and orient first")
        tidied = ""
        if self.tidy_rows:
            mesh, numbers, tidied = self._tidied(mesh, numbers, context)
            if len(numbers) == 0:
                return Outcome(mesh, f"{tidied}; no hole is left to patch", {"holes": 0, "triangles": 0})
        rings = rings_of(mesh, numbers)
        islands = sum(len(ring.bounds) - 2 for ring in rings)
        patched, kept, tauter, crossed = patch_clear_of_the_part(mesh, rings, [self.style] * len(rings), context)
        hung = len(mesh.faces) - kept
        gone = float(mesh.areas.sum() - triangle_areas(patched.vertices, patched.faces[:kept]).sum()) if hung else 0.0
        added = len(patched.faces) - kept
        area = float(np.linalg.norm(face_vectors(patched.vertices, patched.faces[kept:]), axis=1).sum())
        seam, least = _angles(patched, kept)
        figures = {
            "seam_deg": seam, "least_deg": least,
            "holes": len(rings), "islands": islands, "triangles": added, "area_mm2": area, "patched_mm2": area,
            "tauter": tauter, "crossings": crossed.fresh, "gone_mm2": gone,
        }  # fmt: skip
        text = f"Patched {counted(len(rings), 'hole')}"
        if islands:
            text += f", joined {counted(islands, 'island')} in them"
        if tauter:
            text += f", {tauter} of them drawn taut so as not to cross the part"
        if hung:
            text += f", took {counted(hung, 'triangle')} away that hung over a hole"
        text += crossed.said() + (f"; {tidied[0].lower()}{tidied[1:]}" if tidied else "")
        return Outcome(patched, text, figures)

    def _tidied(self, mesh: Mesh, numbers: np.ndarray, context: Context) -> tuple[Mesh, np.ndarray, str]:
        """Tidy the edges of some holes; the mesh then, what is left of these holes, and what was done."""
        half = np.concatenate([mesh.loops.loop(i) for i in numbers])
        mark = np.zeros(len(mesh.vertices), dtype=np.uint8)
        mark[mesh.faces.ravel()[half]] = 1
        marked = mesh.with_attribute(_MARK, Attribute(Domain.VERTEX, mark))
        each = np.repeat(np.arange(len(numbers)), np.diff(mesh.loops.start)[numbers])
        edges = Region.of(marked, half // 3, each)
        tidy = tidy_edges(marked, edges, self.tidy_rows, self.tidy_strength, context)
        on, found = tidy.mesh.attributes[_MARK].values > 0, tidy.mesh.without_attribute(_MARK)
        corner, holes = found.faces.ravel(), classify_boundaries(found).is_hole
        again = [i for i in np.flatnonzero(holes) if on[corner[found.loops.loop(i)]].any()]
        return found, np.array(again, dtype=np.int64), tidy.text
