"""Parts of a mesh whose edges can be collapsed side by side: what is done in one neither reads nor writes another.

A part is a run of triangles in memory, which lie together in space where a mesh is in any sensible order. What is done
depends on the parts alone, never on how many of them are worked at at a time.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["SEAM", "Parts", "parts_of"]

SEAM = -1
"""What a vertex near two parts is in."""
_TRIANGLES = 150_000
"""So many at least make a part; below that the rows along the seams are a share of it that counts."""
_MOST = 8
_MOST_AT_SEAMS = 0.3
"""Share of the triangles; more, where they stand in no order, is not worth dividing."""


@kernel
def _own(faces, bounds, part):
    """The part that all triangles at a vertex are in, or `SEAM`."""
    for p in range(bounds.shape[0] - 1):
        for f in range(bounds[p], bounds[p + 1]):
            if faces[f, 0] < 0:
                continue
            for k in range(3):
                v = faces[f, k]
                if part[v] == -2:
                    part[v] = p
                elif part[v] != p:
                    part[v] = -1


@kernel
def _keep_off_seams(faces, part, clear):
    """Take vertices with a neighbour on a seam to the seams, too: walks round their neighbours would lead across."""
    for f in range(faces.shape[0]):
        if faces[f, 0] < 0:
            continue
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if part[a] < 0 or part[b] < 0 or part[c] < 0:
            clear[a] = -1
            clear[b] = -1
            clear[c] = -1


@kernel
def _at_seams(faces, clear, out):
    n = 0
    for f in range(faces.shape[0]):
        if faces[f, 0] >= 0 and (clear[faces[f, 0]] < 0 or clear[faces[f, 1]] < 0 or clear[faces[f, 2]] < 0):
            if n < out.shape[0]:
                out[n] = f
            n += 1
    return n


class Parts(NamedTuple):
    """Parts of a mesh.

    Attributes
    ----------
    bounds : ndarray of int64, shape (K + 1,)
        Part k has the triangles ``bounds[k]`` to ``bounds[k + 1]``.
    clear : ndarray of int8, shape (V,)
        For each vertex the part that all triangles at its neighbours are in, or `SEAM`.
    seams : ndarray of int32, shape (S,)
        Triangles with a corner on a seam; collapses make no others so.
    """

    bounds: np.ndarray
    clear: np.ndarray
    seams: np.ndarray


def parts_of(faces: np.ndarray, vertices: int) -> Parts:
    """Divide a mesh into parts.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
        A first vertex below zero: not there.
    vertices : int
        How many.
    """
    count = min(max(len(faces) // _TRIANGLES, 1), _MOST)
    bounds = np.arange(count + 1, dtype=np.int64) * len(faces) // count
    whole = Parts(bounds[[0, -1]], np.zeros(vertices, dtype=np.int8), np.empty(0, dtype=np.int32))
    if count == 1:
        return whole
    part = np.full(vertices, -2, dtype=np.int8)
    _own(faces, bounds, part)
    clear = part.copy()
    _keep_off_seams(faces, part, clear)
    seams = np.empty(int(_MOST_AT_SEAMS * len(faces)), dtype=np.int32)
    found = _at_seams(faces, clear, seams)
    return whole if found > len(seams) else Parts(bounds, clear, seams[:found])
