"""Smooth: noise is taken off, the part keeps its size."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.kernels import kernel
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.evening import evened
from tinsnip.mesh.measures import triangles_at
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


class Smooth(Treatment):
    """Take noise off without shrinking the part (Taubin 1995): each step inward is followed by one outward.

    Open edges, and edges that are tangled, stay where they are.
    """

    name: ClassVar[str] = "smooth"
    title: ClassVar[str] = "Smooth"
    reshapes: ClassVar[bool] = True

    iterations: int = Field(10, ge=1, le=500, description="how often a vertex is drawn in and let out again")
    strength: float = Field(0.5, gt=0, le=0.7, description="how far towards its neighbours' middle at a time, share")

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
        start, now = evened(mesh, self.iterations, self.strength, held, state)
        context.progress.check()
        settled, moved = np.empty_like(mesh.vertices), np.zeros(len(mesh.vertices), dtype=np.bool_)
        largest = float(np.sqrt(_settle(mesh.vertices, start, now, settled, moved)))
        if not moved.any():
            return Outcome(
                mesh, "Nothing to smooth: every vertex is on an open edge", Account(figures={"largest_mm": 0.0})
            )
        touched = triangles_at(mesh.faces, moved)
        provenance = np.where(touched & (mesh.provenance == 0), SHIFTED, mesh.provenance).astype(np.uint8)
        smoothed = mesh.moved(settled, provenance)
        text = f"Smoothed, {counted(self.iterations, 'pass', 'passes')}: moved by {at_most(largest)} mm at most"
        return Outcome(smoothed, text, Account(figures={"largest_mm": largest, "iterations": self.iterations}))
