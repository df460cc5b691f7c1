"""Whether new triangles keep clear of the surface: what they cross, and what was folded there before."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.space.crossings import crossings_and_folds

__all__ = ["Crossed", "what_new_triangles_cross"]


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
        second = np.concatenate([np.arange(old), old + np.flatnonzero(~_alone(after, old, sheets))])
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
