"""Subdivide: each triangle becomes four."""

from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Lineage, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.quads import QUAD
from tinsnip.progress import DONE, check_here
from tinsnip.regions import Region
from tinsnip.space.singles import as_files_hold
from tinsnip.survey.crossings import new_crossings
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted, grouped

__all__ = ["Subdivide"]

_MOST_TRIANGLES = 40_000_000
"""Triangles that may come of it."""

_CUT = {
    (): ((0, 1, 2),),
    (0,): ((0, 3, 2), (3, 1, 2)),
    (0, 1): ((0, 3, 2), (3, 4, 2), (3, 1, 4)),
    (0, 1, 2): ((0, 3, 5), (3, 1, 4), (5, 4, 2), (3, 4, 5)),
}
"""What a triangle is cut into, by which of its edges are divided: corners 0 to 2, and 3 to 5 in the middle of the edges
that begin there."""


class Subdivide(Treatment):
    """Cut each triangle in four, the neighbours of those as their edges ask for, so that no crack opens.

    Smooth ones are rounded out by the rule of Loop; the border of what is subdivided, and open edges, stay in place.
    """

    name: ClassVar[str] = "subdivide"
    title: ClassVar[str] = "Subdivide"
    station: ClassVar[str] = "Surface"
    reshapes: ClassVar[bool] = True

    times: int = Field(1, ge=1, le=6, description="how often each triangle is cut in four")
    smooth: bool = Field(False, description="round it out; otherwise the surface stays as it is")
    only: Region = Field(Region(), description="what is subdivided; by default all")

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> "Subdivide":
        chosen = self.only.resolve(mesh) & ~protected if self.only else ~protected
        return self.model_copy(update={"only": Region.of(mesh, chosen)}) if chosen.any() else self

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Subdivide.

        Raises
        ------
        BadInput
            When so many triangles would be made that no machine holds them.

        References
        ----------
        Loop, Smooth subdivision surfaces based on triangles, University of Utah 1987; the weights of Warren 1995.
        """
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to subdivide")
        chosen = self.only.resolve(mesh) if self.only else np.ones(len(mesh.faces), dtype=bool)
        count = len(mesh.faces) + int(chosen.sum()) * (4**self.times - 1)
        if count > _MOST_TRIANGLES:
            raise BadInput(f"{grouped(count)} triangles would be made, {grouped(_MOST_TRIANGLES)} are the most")
        state = context.progress.step("Subdividing", self.times)
        result, farthest = mesh.without_attribute(QUAD), 0.0
        for i in range(self.times):
            result, chosen, moved = _once(result, chosen, self.smooth)
            farthest += moved
            state[DONE] = i + 1
            check_here()
        crossed = len(new_crossings(mesh, result)) if self.smooth else 0
        text = f"Subdivided to {counted(len(result.faces), 'triangle')}"
        text += f", rounded by {at_most(farthest)} mm" * self.smooth
        text += f", crossing itself in {counted(crossed, 'place')}" * (crossed > 0)
        return Outcome(result, text, Account(crossings=crossed, figures={"largest_mm": farthest}))


def _edges(faces: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    """The edges by their two vertices, shape (E, 2), and which one each half-edge is, shape (F, 3)."""
    ends = np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2).astype(np.int64)
    ends.sort(axis=1)
    key, which = np.unique(ends[:, 0] * count + ends[:, 1], return_inverse=True)
    return np.column_stack([key // count, key % count]), which.reshape(-1, 3)


def _once(mesh: Mesh, chosen: np.ndarray, smooth: bool) -> tuple[Mesh, np.ndarray, float]:
    """The mesh with the chosen triangles in four, which those are, and how far a vertex moved at most."""
    count = len(mesh.vertices)
    ends, edge_of = _edges(mesh.faces, count)
    divided = np.zeros(len(ends), dtype=bool)
    chosen = chosen & (mesh.faces != np.roll(mesh.faces, 1, axis=1)).all(axis=1)
    divided[edge_of[chosen]] = True
    number = np.where(divided, count + np.cumsum(divided) - 1, -1)
    middle = np.arange(int(divided.sum()))
    pairs = ends[divided]
    rows = np.repeat(middle, 2)
    blends = sparse.csr_matrix((np.full(len(rows), 0.5), (rows, pairs.ravel())), shape=(len(pairs), count))
    faces, parents, corners, towards = _cut(mesh.faces, edge_of, divided, number)
    new = as_files_hold(blends @ mesh.vertices, mesh.diagonal)
    vertices = np.concatenate([mesh.vertices, new])
    moved = np.zeros(len(vertices), dtype=bool)
    farthest = 0.0
    if smooth:
        rounded = _rounded(mesh, chosen, ends, edge_of, divided)
        rounded = np.where(rounded == vertices, vertices, as_files_hold(rounded, mesh.diagonal))
        off = np.linalg.norm(rounded - vertices, axis=1)
        vertices, moved, farthest = rounded, off > 0, float(off.max(initial=0.0))
    provenance = mesh.provenance[parents]
    provenance = np.where(triangles_at(faces, moved) & (provenance == 0), SHIFTED, provenance).astype(np.uint8)
    share = np.where(towards == corners, 0.0, 0.5)
    lineage = Lineage(np.arange(count), parents, blends, corners, ((towards, share),))
    return mesh.derive(faces, lineage, vertices, provenance), chosen[parents], farthest


def _cut(
    faces: np.ndarray, edge_of: np.ndarray, divided: np.ndarray, number: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The triangles cut along divided edges: their corners, parents, and the two old corners that each lies between."""
    cut = divided[edge_of]
    cut[(faces == np.roll(faces, 1, axis=1)).any(axis=1)] = False  # what repeats a corner is no surface
    # turned so that an only divided edge is the first, and an only whole one the last
    turn = np.zeros(len(faces), dtype=np.int64)
    for first in (1, 2):
        turn[(cut.sum(axis=1) == 1) & cut[:, first]] = first
    for whole in (0, 1):
        turn[(cut.sum(axis=1) == 2) & ~cut[:, whole]] = whole + 1
    order = (turn[:, None] + np.arange(3)) % 3
    every = np.arange(len(faces))[:, None]
    ends = faces[every, order]
    middles = number[edge_of[every, order]]
    six = np.concatenate([ends, middles], axis=1)
    old = 3 * every + order
    begin = np.concatenate([old, old], axis=1)
    following = np.concatenate([old, np.roll(old, -1, axis=1)], axis=1)
    parts = []
    for edges, triangles in _CUT.items():
        some = np.flatnonzero(cut.sum(axis=1) == len(edges))
        for triangle in triangles:
            which = list(triangle)
            parts.append((some, six[some][:, which], begin[some][:, which], following[some][:, which]))
    parents, new, begins, ends = (np.concatenate(one) for one in zip(*parts, strict=True))
    rank = np.argsort(parents, kind="stable")
    return new[rank].astype(np.int32), parents[rank], begins[rank].ravel(), ends[rank].ravel()


def _rounded(mesh: Mesh, chosen: np.ndarray, ends: np.ndarray, edge_of: np.ndarray, divided: np.ndarray) -> np.ndarray:
    """Where old and new vertices lie by Loop's rule; those at a border of what is chosen, or of the part, stay."""
    V, count = mesh.vertices, len(mesh.vertices)
    met = np.bincount(edge_of[chosen].ravel(), minlength=len(ends))
    inner = met == 2
    border = np.zeros(count, dtype=bool)
    border[ends[divided & ~inner]] = True
    border[mesh.faces[~chosen]] = True
    free = np.zeros(count, dtype=bool)
    free[mesh.faces[chosen]] = True
    free &= ~border
    both = np.concatenate([ends[inner], ends[inner, ::-1]])
    valence = np.bincount(both[:, 0], minlength=count)
    graph = sparse.csr_matrix((np.ones(len(both)), (both[:, 0], both[:, 1])), shape=(count, count))
    beta = np.where(valence > 3, 3.0 / (8.0 * np.maximum(valence, 1)), 3.0 / 16.0)[:, None]
    even = np.where(free[:, None], (1 - valence[:, None] * beta) * V + beta * (graph @ V), V)
    # the corner of each chosen triangle that is opposite to an edge
    opposite = np.zeros((len(ends), 3))
    for k in range(3):
        np.add.at(opposite, edge_of[chosen, k], V[mesh.faces[chosen, (k + 2) % 3]])
    pair = V[ends].sum(axis=1)
    odd = np.where(inner[:, None], 0.375 * pair + 0.125 * opposite, 0.5 * pair)
    return np.concatenate([even, odd[divided]])
