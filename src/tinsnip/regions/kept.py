"""Triangles that must stay as they are: found again, to the bit, on what a treatment made of their mesh."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh

__all__ = ["found_again", "lost_of"]


@kernel
def _codes(vertices, faces, chosen, out):
    """A number for each triangle by where its corners lie and which way round, whichever comes first."""
    bits = vertices.view(np.uint64)
    code = np.empty(3, dtype=np.uint64)
    n = 0
    for f in range(faces.shape[0]):
        if len(chosen) and not chosen[f]:
            continue
        for k in range(3):
            h = np.uint64(14695981039346656037)
            for i in range(3):
                h = (h ^ bits[faces[f, k], i]) * np.uint64(1099511628211)
                h = (h ^ (h >> np.uint64(29))) * np.uint64(13787848793156543929)
            code[k] = h
        first = 0
        for k in range(1, 3):
            if code[k] < code[first]:
                first = k
        h = code[first]
        for k in range(1, 3):
            h = (h ^ code[(first + k) % 3]) * np.uint64(1099511628211)
            h = h ^ (h >> np.uint64(31))
        out[n] = h
        n += 1
    return n


def _codes_of(mesh: Mesh, chosen: np.ndarray | None = None) -> np.ndarray:
    chosen = np.zeros(0, dtype=np.bool_) if chosen is None else chosen
    out = np.empty(len(mesh.faces), dtype=np.uint64)
    vertices = mesh.vertices + 0.0  # minus nought is nought
    return out[: _codes(vertices, mesh.faces, chosen, out)].copy()


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
    return np.isin(_codes_of(after), _codes_of(before, chosen))


def lost_of(before: Mesh, chosen: np.ndarray, *after: Mesh) -> int:
    """How many of some triangles none of other meshes has, to the bit and wound the same way."""
    if any(mesh is before for mesh in after):
        return 0
    there = np.concatenate([np.zeros(0, dtype=np.uint64), *(_codes_of(mesh) for mesh in after)])
    return int(np.count_nonzero(~np.isin(_codes_of(before, chosen), there)))
