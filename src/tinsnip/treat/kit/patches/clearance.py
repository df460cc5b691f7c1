"""Whether new triangles keep clear of the surface: what they cross, and what was folded there before."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.threads import in_chunks

__all__ = ["Crossed", "what_new_triangles_cross"]

_CELLS = 256
"""Cells along the longest side of the grid by which what is far from new triangles is left out."""


class Crossed(NamedTuple):
    """Pairs of triangles that cross or fold onto each other and of which one at least is new, shape (P, 2).

    Attributes
    ----------
    pairs : ndarray of int32, shape (P, 2)
    folded : ndarray of bool, shape (P,)
        Where the surface crossed itself before, at the old triangle or next to it: nothing keeps clear there.
    """

    pairs: np.ndarray
    folded: np.ndarray

    @property
    def fresh(self) -> int:
        """Crossings where there was none."""
        return int((~self.folded).sum())

    def said(self) -> str:
        """What a log line says of them; empty where there is nothing to say."""
        if self.fresh:
            return f", crossing the part in {self.fresh} place{'s' * (self.fresh != 1)}"
        return ", where the part crosses itself" if len(self.pairs) else ""


@kernel
def _ends(V, faces, t, low, cell, ends):
    """The cells that a triangle's box reaches into, lowest and highest."""
    for k in range(3):
        a, b, c = V[faces[t, 0], k], V[faces[t, 1], k], V[faces[t, 2], k]
        ends[k] = int((min(a, b, c) - low[k]) / cell)
        ends[3 + k] = int((max(a, b, c) - low[k]) / cell)


@kernel
def _mark_cells(V, faces, begin, end, low, cell, marked):
    ends = np.empty(6, dtype=np.int64)
    for t in range(begin, end):
        _ends(V, faces, t, low, cell, ends)
        marked[ends[0] : ends[3] + 1, ends[1] : ends[4] + 1, ends[2] : ends[5] + 1] = True


@kernel
def _reach(V, faces, begin, end, low, cell, marked, near):
    """Flag the triangles that reach into a marked cell."""
    ends = np.empty(6, dtype=np.int64)
    for t in range(begin, end):
        _ends(V, faces, t, low, cell, ends)
        found = False
        for x in range(ends[0], ends[3] + 1):
            for y in range(ends[1], ends[4] + 1):
                for z in range(ends[2], ends[5] + 1):
                    found |= marked[x, y, z]
        near[t] = found


def _near_new(after: Mesh, old: int) -> np.ndarray:
    """Old triangles that may meet a new one, shape (N,)."""
    low, high = after.box
    cell = float((high - low).max()) / _CELLS
    near = np.ones(old, dtype=bool)
    if cell > 0:
        marked = np.zeros(((high - low) / cell).astype(np.int64) + 1, dtype=bool)
        _mark_cells(after.vertices, after.faces, old, len(after.faces), low, cell, marked)
        in_chunks(lambda a, b: _reach(after.vertices, after.faces, a, b, low, cell, marked, near), old, 200_000)
    return np.flatnonzero(near)


@kernel
def _boxes_of(V, faces, old, index, boxes):
    """Boxes of sheets, lowest corner and highest one turned round, from those of their triangles."""
    for t in range(index.shape[0]):
        for i in range(3):
            v = faces[old + t, i]
            for k in range(3):
                boxes[index[t], k] = min(boxes[index[t], k], V[v, k])
                boxes[index[t], 3 + k] = min(boxes[index[t], 3 + k], -V[v, k])


def _alone(after: Mesh, old: int, sheets: np.ndarray) -> np.ndarray:
    """New triangles of sheets whose box meets that of no other new ones; bool."""
    number, index = np.unique(sheets, return_inverse=True)
    boxes = np.full((len(number), 6), np.inf)
    _boxes_of(after.vertices, after.faces, old, index, boxes)
    meets = (boxes[:, None, :3] <= -boxes[None, :, 3:]).all(axis=2)
    alone = ((meets & meets.T).sum(axis=1) == 1) & (number >= 0)
    return alone[index]


def what_new_triangles_cross(before: Mesh, after: Mesh, sheets: np.ndarray | None = None) -> Crossed:
    """Look for what the triangles that were appended to a mesh cross.

    Parameters
    ----------
    before : Mesh
    after : Mesh
        Begins with the triangles of `before`.
    sheets : ndarray of int, shape (N,), optional
        For each of the new ones which sheet over a plane it belongs to, rising; -1 for none. Those of one sheet cannot
        cross each other.
    """
    old, count = len(before.faces), len(after.faces)
    fresh = np.arange(old, count)
    second = None
    if sheets is not None and len(sheets) == count - old:
        second = np.concatenate([_near_new(after, old), old + np.flatnonzero(~_alone(after, old, sheets))])
    pairs = np.concatenate(crossings_and_folds(after.vertices, after.faces, fresh, second=second))
    folded = np.zeros(len(pairs), dtype=bool)
    met = np.unique(pairs[pairs < old])
    if len(met):
        near = np.zeros(len(after.vertices), dtype=bool)
        near[before.faces[met]] = True
        around = np.flatnonzero(triangles_at(before.faces, near))
        own = np.concatenate(crossings_and_folds(before.vertices, before.faces, around))
        near[:] = False
        near[before.faces[np.unique(own)]] = True
        at_fold = np.append(triangles_at(before.faces, near), np.zeros(len(after.faces) - old, dtype=bool))
        folded = at_fold[pairs].any(axis=1)
    return Crossed(pairs, folded)
