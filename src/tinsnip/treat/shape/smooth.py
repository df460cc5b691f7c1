"""Smooth: noise is taken off, the part keeps its size, and its edges where that is asked for."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.kernels import kernel
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.evening import evened
from tinsnip.mesh.measures import triangles_at, vertex_normals
from tinsnip.mesh.normalfilter import evened_by_normals
from tinsnip.regions import Region
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted

__all__ = ["Smooth"]


@kernel
def _settle(vertices, start, now, out, moved):
    """Move vertices by what was reckoned for them, those that stay to the bit; returns the farthest move, squared."""
    farthest = 0.0
    for v in range(vertices.shape[0]):
        far = 0.0
        for k in range(3):
            step = np.float64(now[v, k] - start[v, k])
            out[v, k] = vertices[v, k] + step
            far += (out[v, k] - vertices[v, k]) ** 2
            if step != 0.0:
                moved[v] = True
        farthest = max(farthest, far)
    return farthest


def _as_large(mesh: Mesh, settled: np.ndarray) -> np.ndarray:
    """Vertices of a closed mesh let out evenly, so that it encloses what it did: noise on rounds draws them in."""
    after = mesh.moved(settled)
    normals = vertex_normals(settled, mesh.faces).astype(np.float64)
    area = float(after.areas.sum())
    return settled + (mesh.volume - after.volume) / max(area, 1e-300) * normals


def _capped(vertices: np.ndarray, settled: np.ndarray, most: float) -> float:
    """Let no vertex move further than it may, in place; how far one moves at most."""
    step = settled - vertices
    off = np.linalg.norm(step, axis=1)
    far = off > most
    settled[far] = vertices[far] + step[far] * (most / off[far])[:, None]
    return float(np.linalg.norm(settled - vertices, axis=1).max(initial=0.0))


class Smooth(Treatment):
    """Take noise off without shrinking the part (Taubin 1995): each step inward is followed by one outward.

    Or, keeping edges: like normals are evened out, and vertices follow them. Open edges, and edges that are tangled,
    stay where they are; no vertex moves further than it may.
    """

    name: ClassVar[str] = "smooth"
    title: ClassVar[str] = "Smooth"
    reshapes: ClassVar[bool] = True

    iterations: int = Field(10, ge=1, le=500, description="how often a vertex is drawn in and let out again")
    strength: float = Field(0.5, gt=0, le=0.7, description="how far towards its neighbours' middle at a time, share")

    keep_edges: bool = Field(
        False, description="flats and rounds are evened out, and the edges between them stay sharp"
    )
    most_mm: float | None = Field(None, gt=0, allow_inf_nan=False, description="how far a vertex may move, mm")
    only: Region = Field(Region(), description="what is smoothed, up to its border; by default all")

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> "Smooth":
        chosen = self.only.resolve(mesh) & ~protected if self.only else ~protected
        return self.model_copy(update={"only": Region.of(mesh, chosen)}) if chosen.any() else self

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Smooth the mesh; the same triangles over moved vertices."""
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to smooth", Account(figures={"largest_mm": 0.0}))
        state = context.progress.step("Smoothing", 2 * self.iterations)
        held = ~self.only.resolve(mesh) if self.only else None
        most = np.inf if self.most_mm is None else self.most_mm
        if self.keep_edges:
            settled = evened_by_normals(mesh, most, held, state, 2.0 * self.strength)
            if held is None and mesh.edges.open == 0 and mesh.edges.tangled == 0:
                settled = _as_large(mesh, settled)
                _capped(mesh.vertices, settled, most)
            off = np.linalg.norm(settled - mesh.vertices, axis=1)
            moved, largest = off > 0, float(off.max(initial=0.0))
        else:
            start, now = evened(mesh, self.iterations, self.strength, held, state)
            context.progress.check()
            settled, moved = np.empty_like(mesh.vertices), np.zeros(len(mesh.vertices), dtype=np.bool_)
            largest = float(np.sqrt(_settle(mesh.vertices, start, now, settled, moved)))
            if largest > most:
                largest = _capped(mesh.vertices, settled, most)
        context.progress.check()
        if not moved.any():
            return Outcome(
                mesh, "Nothing to smooth: every vertex is on an open edge", Account(figures={"largest_mm": 0.0})
            )
        touched = triangles_at(mesh.faces, moved)
        provenance = np.where(touched & (mesh.provenance == 0), SHIFTED, mesh.provenance).astype(np.uint8)
        smoothed = mesh.moved(settled, provenance)
        how = "edges kept" if self.keep_edges else counted(self.iterations, "pass", "passes")
        text = f"Smoothed, {how}: moved by {at_most(largest)} mm at most"
        return Outcome(smoothed, text, Account(figures={"largest_mm": largest, "iterations": self.iterations}))
