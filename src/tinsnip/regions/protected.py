"""Triangles that must stay as they are: found again, to the bit, on what a treatment made of their mesh."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.sameness import triangle_codes

__all__ = ["found_again", "lost_of"]


def found_again(before: Mesh, chosen: np.ndarray, after: Mesh) -> np.ndarray:
    """Which triangles of a mesh are some of another's, with the same corners to the bit, wound the same way.

    Parameters
    ----------
    before : Mesh
    chosen : ndarray of bool, shape (F,)
        Triangles of it.
    after : Mesh

    Returns
    -------
    ndarray of bool, shape (F',)
    """
    if after is before:
        return chosen.copy()
    return np.isin(triangle_codes(after), triangle_codes(before, chosen))


def lost_of(before: Mesh, chosen: np.ndarray, *after: Mesh) -> int:
    """How many of some triangles none of other meshes has, to the bit and wound the same way.

    Parameters
    ----------
    before : Mesh
    chosen : ndarray of bool, shape (F,)
    """
    if any(mesh is before for mesh in after):
        return 0
    there = np.concatenate([np.zeros(0, dtype=np.uint64), *(triangle_codes(mesh) for mesh in after)])
    return int(np.count_nonzero(~np.isin(triangle_codes(before, chosen), there)))
