"""A band of triangles between the edges of two surfaces that run beside each other."""

import numpy as np
from scipy.spatial import cKDTree

__all__ = ["band_between", "zipped"]

_THIN = 0.1
"""How much the square of an edge across counts beside the area of the triangles, so that bands get no slivers."""
_MOST_EDGES = 2_000_000
"""Edges across that are all looked at, some 300 MB."""


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
    return np.concatenate([zipped(points, rims[i], edge[::-1]) for i, edge in zip(beside, edges, strict=True)])


def zipped(points: np.ndarray, one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """The band between two loops that run the same way whose triangles are smallest all together.

    The shortest way through the grid of all edges across (Fuchs, Kedem and Uselton 1977), from the nearest two vertices
    round to them again; of long loops only step by step.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    one, other : ndarray of int
        The first in the direction of the open half-edges that the band hangs on there.

    Returns
    -------
    ndarray of int64, shape (T, 3)
    """
    away, nearest = cKDTree(points[other]).query(points[one])
    start = int(np.argmin(away))
    one, other = np.roll(one, -start), np.roll(other, -int(nearest[start]))
    one, other = np.append(one, one[0]), np.append(other, other[0])
    p, q = points[one], points[other]
    if len(p) * len(q) > _MOST_EDGES:
        return _zipped_step_by_step(one, other, p, q)
    across = q[None] - p[:, None]
    square = _THIN * (across**2).sum(axis=2)
    # on along the first loop, into row i + 1, and along the second, into column j + 1
    down = 0.5 * np.linalg.norm(np.cross(across[:-1], (p[1:] - p[:-1])[:, None]), axis=2) + square[1:]
    right = 0.5 * np.linalg.norm(np.cross(across[:, :-1], (q[1:] - q[:-1])[None]), axis=2) + square[:, 1:]
    along = np.concatenate([np.zeros((len(p), 1)), np.cumsum(right, axis=1)], axis=1)
    cost, from_above = along[0], np.zeros((len(p), len(q)), dtype=bool)
    for i in range(1, len(p)):
        entered = cost + down[i - 1] - along[i]
        least = np.minimum.accumulate(entered)
        from_above[i] = entered <= least
        cost = least + along[i]
    i, j = len(p) - 1, len(q) - 1
    made = []
    while i or j:
        if i and (from_above[i, j] or j == 0):
            made.append((one[i], one[i - 1], other[j]))
            i -= 1
        else:
            made.append((one[i], other[j - 1], other[j]))
            j -= 1
    return np.array(made[::-1], dtype=np.int64)


def _zipped_step_by_step(one: np.ndarray, other: np.ndarray, p: np.ndarray, q: np.ndarray) -> np.ndarray:
    """Each time on along whichever makes the shorter way across."""
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
