"""Triangles of one mesh that are those of another, to the bit."""

from typing import TYPE_CHECKING

import numpy as np

from tinsnip.kernels import kernel

if TYPE_CHECKING:
    from tinsnip.mesh.mesh import Mesh

__all__ = ["triangle_codes"]


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


def triangle_codes(mesh: "Mesh", chosen: np.ndarray | None = None) -> np.ndarray:
    """A number for each triangle, or each chosen one, bool, shape (F,): the same for the same corners, wound alike.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,), optional

    Returns
    -------
    ndarray of uint64
    """
    chosen = np.zeros(0, dtype=np.bool_) if chosen is None else chosen
    out = np.empty(len(mesh.faces), dtype=np.uint64)
    vertices = mesh.vertices + 0.0  # minus nought is nought
    return out[: _codes(vertices, mesh.faces, chosen, out)].copy()
