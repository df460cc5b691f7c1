"""Smooth: noise is taken off, the part keeps its size."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.kernels import kernel
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.regions import Region
from tinsnip.threads import in_chunks
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted

__all__ = ["Smooth"]

_PASS_BAND = 0.1
"""Waves longer than this frequency are left alone; the second step follows from it (Taubin 1995, eq. 8)."""


@kernel
def _count_neighbours(faces, twins, starts, on_rim, state):
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            starts[a + 1] += 1
            if twins[3 * f + k] < 0:
                starts[b + 1] += 1
                on_rim[a] = True
                on_rim[b] = True
    for v in range(starts.shape[0] - 1):
        starts[v + 1] += starts[v]


@kernel
def _fill_neighbours(faces, twins, starts, filled, out, state):
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            out[starts[a] + filled[a]] = b
            filled[a] += 1
            if twins[3 * f + k] < 0:  # an edge with a twin gives the way back by that
                out[starts[b] + filled[b]] = a
                filled[b] += 1


@kernel
def _step(places, starts, neighbours, still, share, out, begin, end):
    for v in range(begin, end):
        count = starts[v + 1] - starts[v]
        x, y, z = places[v, 0], places[v, 1], places[v, 2]
        if count > 0 and not still[v]:
            sx = sy = sz = np.float32(0.0)
            for i in range(starts[v], starts[v + 1]):
                w = neighbours[i]
                sx += places[w, 0]
                sy += places[w, 1]
                sz += places[w, 2]
            part = np.float32(1.0) / np.float32(count)
            x += share * (sx * part - x)
            y += share * (sy * part - y)
            z += share * (sz * part - z)
        out[v, 0], out[v, 1], out[v, 2] = x, y, z


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
        count = len(mesh.vertices)
        starts = np.zeros(count + 1, dtype=np.int32)
        still = np.zeros(count, dtype=np.bool_)
        _count_neighbours(mesh.faces, mesh.twins, starts, still, state)
        if self.only:
            still[mesh.faces[~self.only.resolve(mesh)]] = True
        context.progress.check()
        neighbours = np.empty(starts[-1], dtype=np.int32)
        _fill_neighbours(mesh.faces, mesh.twins, starts, np.zeros(count, dtype=np.int32), neighbours, state)
        context.progress.check()
        back = self.strength / (_PASS_BAND * self.strength - 1.0)
        origin = mesh.box.mean(axis=0)
        # how far each vertex goes is reckoned in single precision: half the memory to walk through
        start = (mesh.vertices - origin).astype(np.float32)
        now, other = start.copy(), np.empty_like(start)
        for i in range(2 * self.iterations):
            share = np.float32(self.strength if i % 2 == 0 else back)

            def work(begin: int, end: int, now=now, other=other, share=share) -> None:
                _step(now, starts, neighbours, still, share, other, begin, end)

            in_chunks(work, count, 100_000)
            context.progress.check()
            state[1] = i + 1
            now, other = other, now
        context.progress.check()
        settled, moved = np.empty_like(mesh.vertices), np.zeros(count, dtype=np.bool_)
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
