"""A band of triangles between the edges of two surfaces that run beside each other."""

import numpy as np
from scipy.spatial import cKDTree

__all__ = ["band_between"]


def band_between(points: np.ndarray, rims: list[np.ndarray], edges: list[np.ndarray]) -> np.ndarray | None:
    """Lay a band from each loop of one surface to the loop of the other that runs beside it.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    rims, edges : list of ndarray of int
        Loops, each in the direction of its open half-edges.

    Returns
    -------
    ndarray of int64, shape (T, 3), or None
        None where the loops do not pair off.
    """
    if len(rims) != len(edges):
        return None
    known = cKDTree(points[np.concatenate(rims)])
    owner = np.repeat(np.arange(len(rims)), list(map(len, rims)))
    beside = [int(np.bincount(owner[known.query(points[edge])[1]]).argmax()) for edge in edges]
    if len(set(beside)) < len(edges):
        return None
    return np.concatenate([_zipped(points, rims[i], edge[::-1]) for i, edge in zip(beside, edges, strict=True)])


def _zipped(points: np.ndarray, one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Triangles between two loops that run the same way: each time on along whichever makes the shorter way across."""
    start = int(cKDTree(points[other]).query(points[one[0]])[1])
    one, other = np.append(one, one[0]), np.append(np.roll(other, -start), other[start])
    p, q = points[one], points[other]
    i = j = 0
    made = []
    while i < len(one) - 1 or j < len(other) - 1:
        on = j == len(other) - 1
        if not on and i < len(one) - 1:
            on = ((p[i + 1] - q[j]) ** 2).sum() <= ((p[i] - q[j + 1]) ** 2).sum()
        if on:
            made.append((one[i + 1], one[i], other[j]))
            i += 1
        else:
            made.append((one[i], other[j], other[j + 1]))
            j += 1
    return np.array(made, dtype=np.int64)
