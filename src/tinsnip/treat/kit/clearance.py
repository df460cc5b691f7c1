"""Whether new triangles keep clear of the surface: what they cross, and what was folded there before."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.space.crossings import meeting_pairs

__all__ = ["Crossed", "what_new_triangles_cross"]


class Crossed(NamedTuple):
    """Pairs of triangles that meet and of which one at least is new, shape (P, 2).

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


def what_new_triangles_cross(before: Mesh, after: Mesh) -> Crossed:
    """Look for what the triangles that were appended to a mesh cross.

    Parameters
    ----------
    before : Mesh
    after : Mesh
        Begins with the triangles of `before`.
    """
    old = len(before.faces)
    pairs = meeting_pairs(after.vertices, after.faces, np.arange(old, len(after.faces)))
    folded = np.zeros(len(pairs), dtype=bool)
    met = np.unique(pairs[pairs < old])
    if len(met):
        near = np.zeros(len(after.vertices), dtype=bool)
        near[before.faces[met]] = True
        around = np.flatnonzero(triangles_at(before.faces, near))
        own = meeting_pairs(before.vertices, before.faces, around)
        near[:] = False
        near[before.faces[np.unique(own)]] = True
        at_fold = np.append(triangles_at(before.faces, near), np.zeros(len(after.faces) - old, dtype=bool))
        folded = at_fold[pairs].any(axis=1)
    return Crossed(pairs, folded)
