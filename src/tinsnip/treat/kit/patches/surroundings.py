"""The surface round holes: rows of vertices outward from each."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangles_at

__all__ = ["rows_round"]


@kernel
def _widen(faces, near, wider):
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if near[a] or near[b] or near[c]:
            wider[a] = wider[b] = wider[c] = True


@kernel
def _link(faces, number, start, near):
    """Neighbours of each vertex, as rows of a table; `start` holds how many there are, summed, and is moved on."""
    for f in range(faces.shape[0]):
        for k in range(3):
            a = number[faces[f, k]]
            near[start[a]] = number[faces[f, (k + 1) % 3]]
            near[start[a] + 1] = number[faces[f, (k + 2) % 3]]
            start[a] += 2


@kernel
def _grow(start, near, ring, rows, stamp, seen, out):
    """Outward from a ring, row by row, as long as there is room; how many vertices there are."""
    for v in ring:
        seen[v] = stamp
    n, low = 0, 0
    for row in range(rows):
        high = n
        for i in range(ring.shape[0] if row == 0 else high - low):
            v = ring[i] if row == 0 else out[low + i]
            for j in range(start[v], start[v + 1]):
                w = near[j]
                if seen[w] != stamp and n < out.shape[0]:
                    seen[w] = stamp
                    out[n] = w
                    n += 1
        low = high
    return n


def rows_round(mesh: Mesh, rings: list[np.ndarray], rows: int, share: float = 9.0) -> list[np.ndarray]:
    """The vertices round each ring, nearest rows first, without the ring's own.

    Parameters
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices of the mesh.
    rows : int
        How many rows.
    share : float
        At most so many vertices for each one of the ring, and some more.

    Returns
    -------
    list of ndarray of int
    """
    near = np.zeros(len(mesh.vertices), dtype=bool)
    near[np.concatenate(rings)] = True
    for _ in range(rows - 1):
        wider = near.copy()
        _widen(mesh.faces, near, wider)
        near = wider
    faces = mesh.faces[triangles_at(mesh.faces, near)]
    near[faces] = True
    used = np.flatnonzero(near)
    number = np.full(len(mesh.vertices), -1, dtype=np.int32)
    number[used] = np.arange(len(used), dtype=np.int32)
    start = np.zeros(len(used) + 1, dtype=np.int64)
    start[1:] = np.cumsum(2 * np.bincount(number[faces].ravel(), minlength=len(used)))
    table = np.empty(start[-1], dtype=np.int32)
    _link(faces, number, start[:-1].copy(), table)
    found, seen = [], np.zeros(len(used), dtype=np.int32)
    for stamp, ring in enumerate(rings, 1):
        out = np.empty(int(share * len(ring)) + 40, dtype=np.int32)
        count = _grow(start, table, number[ring], rows, stamp, seen, out)
        found.append(used[out[:count]])
    return found
