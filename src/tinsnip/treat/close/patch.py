"""Patch: close holes with a surface of the density and slope round them."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.regions import Region, holes_in
from tinsnip.survey.holes import classify_boundaries
from tinsnip.survey.lids import describe_lids, lids_of
from tinsnip.treat.account import Account
from tinsnip.treat.close.lids import LIDS, LIDS_ANSWERS, LIDS_ASKED
from tinsnip.treat.kit.edges.clearsides import clear_loops
from tinsnip.treat.kit.edges.tidying import tidy_edges
from tinsnip.treat.kit.patches.patching import PatchStyle, patch_clear_of_the_part, rings_of
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Patch"]

_MARK = "at a hole that is patched"


@kernel
def _cosines(V, faces, twins, kept):
    """Least cosine across an edge between old and new triangles, and the largest one of a new triangle's corner."""
    normal, other = np.empty(3), np.empty(3)
    seam, sharp = 1.0, -1.0
    for t in range(kept, faces.shape[0]):
        _unit_normal(V, faces, t, normal)
        for k in range(3):
            a, b, c = faces[t, k], faces[t, (k + 1) % 3], faces[t, (k + 2) % 3]
            dot = u = w = 0.0
            for i in range(3):
                dot += (V[b, i] - V[a, i]) * (V[c, i] - V[a, i])
                u += (V[b, i] - V[a, i]) ** 2
                w += (V[c, i] - V[a, i]) ** 2
            sharp = max(sharp, dot / max(np.sqrt(u * w), 1e-300))
            beside = twins[3 * t + k]
            if 0 <= beside < 3 * kept:
                _unit_normal(V, faces, beside // 3, other)
                seam = min(seam, normal[0] * other[0] + normal[1] * other[1] + normal[2] * other[2])
    return seam, sharp


@kernel
def _unit_normal(V, faces, t, normal):
    a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
    ux, uy, uz = V[b, 0] - V[a, 0], V[b, 1] - V[a, 1], V[b, 2] - V[a, 2]
    wx, wy, wz = V[c, 0] - V[a, 0], V[c, 1] - V[a, 1], V[c, 2] - V[a, 2]
    normal[0], normal[1], normal[2] = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    normal /= max(np.sqrt((normal * normal).sum()), 1e-300)


def _angles(patched: Mesh, kept: int) -> tuple[float, float]:
    """The largest angle across an edge between what was there and what is made, and the sharpest corner made."""
    if kept == len(patched.faces):
        return 0.0, 0.0
    seam, sharp = _cosines(patched.vertices, patched.faces, patched.twins, kept)
    return tuple(float(np.degrees(np.arccos(np.clip(c, -1, 1)))) for c in (seam, sharp))


class Patch(Treatment):
    """Close holes; never the rim. Least-area triangles, refined and faired (Liepa 2003)."""

    name: ClassVar[str] = "patch"
    title: ClassVar[str] = "Patch holes"
    answers: ClassVar[str] = LIDS_ANSWERS
    answers_asked: ClassVar[tuple[tuple[str, str], ...]] = LIDS_ASKED

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
    lids: Literal["ask", "close"] = Field("close", description=LIDS)

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
        lids = [lid for lid in lids_of(mesh) if chosen[lid.loop]]
        question = describe_lids(lids) if lids and self.lids == "ask" else ""
        if question:
            chosen[[lid.loop for lid in lids]] = False
        numbers = np.flatnonzero(chosen)
        if len(numbers) == 0:
            told = f"Left open: {question}" if question else "No hole to patch"
            return Outcome(mesh, told, Account(figures={"holes": 0}), question)
        clear = clear_loops(mesh)[numbers]
        if not clear.any():
            raise BadInput("tangled or flipped edges leave the holes without a clear edge; mend and orient first")
        numbers, unclear = numbers[clear], int((~clear).sum())
        tidied = ""
        if self.tidy_rows:
            mesh, numbers, tidied = self._tidied(mesh, numbers, context)
            if len(numbers) == 0:
                return Outcome(mesh, f"{tidied}; no hole is left to patch", Account(figures={"holes": 0}))
        rings = rings_of(mesh, numbers)
        edges = sum(ring.is_band for ring in rings)
        islands = sum(len(ring.bounds) - 2 for ring in rings) - edges
        # the edge of a wall is closed straight across
        styles = [self.style._replace(flow=0.0) if ring.is_band else self.style for ring in rings]
        patched, kept, tauter, crossed = patch_clear_of_the_part(mesh, rings, styles, context)
        hung = len(mesh.faces) - kept
        gone = float(mesh.areas.sum() - triangle_areas(patched.vertices, patched.faces[:kept]).sum()) if hung else 0.0
        added = len(patched.faces) - kept
        area = float(triangle_areas(patched.vertices, patched.faces[kept:]).sum())
        seam, least = _angles(patched, kept)
        figures = {
            "seam_deg": seam, "least_deg": least, "holes": len(rings), "islands": islands, "area_mm2": area,
            "tauter": tauter,
        }  # fmt: skip
        account = Account(
            made_triangles=added, gone_mm2=gone, guessed_mm2=area, crossings=crossed.fresh, figures=figures
        )
        told = [f"patched {counted(len(rings) - edges, 'hole')}"] * (len(rings) > edges)
        told += [f"closed {counted(edges, 'open edge')} of a wall straight across"] * (edges > 0)
        text = " and ".join(told).capitalize()
        if islands:
            text += f", joined {counted(islands, 'island')} in them"
        if tauter:
            text += f", {tauter} of them drawn taut so as not to cross the part"
        if hung:
            text += f", took {counted(hung, 'triangle')} away that hung over a hole"
        text += crossed.said() + (f"; {tidied[0].lower()}{tidied[1:]}" if tidied else "")
        if unclear:
            text += f"; left {counted(unclear, 'hole')} open, which tangled or flipped edges leave without a clear edge"
        text += f"; {describe_lids(lids)}" if lids else ""
        return Outcome(patched, text, account, question)

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
