"""Flat polygons with holes within holes, cut into triangles without a new vertex."""

from itertools import pairwise

import numpy as np

from tinsnip.space.delaunay import constrained_triangles

__all__ = ["nested_rings", "plane_axes", "triangulate_flat"]


def plane_axes(normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two unit vectors that span a plane, right-handed with its unit normal.

    Parameters
    ----------
    normal : ndarray, shape (3,)
        Unit.
    """
    helper = np.eye(3)[int(np.argmin(np.abs(normal)))]
    u = _cross(helper, normal)
    u /= np.linalg.norm(u)
    return u, _cross(normal, u)


def _cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """As ``np.cross`` of two vectors, without what it looks at first, which takes ten times as long."""
    (ax, ay, az), (bx, by, bz) = a.tolist(), b.tolist()
    return np.array([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])


def _contains(ring: np.ndarray, point: np.ndarray) -> bool:
    """Even-odd test of one point against a ring."""
    a, b = ring, np.roll(ring, -1, axis=0)
    spans = (a[:, 1] > point[1]) != (b[:, 1] > point[1])
    a, b = a[spans], b[spans]
    x = a[:, 0] + (point[1] - a[:, 1]) / (b[:, 1] - a[:, 1]) * (b[:, 0] - a[:, 0])
    return bool(np.count_nonzero(x > point[0]) % 2)


def nested_rings(rings: list[np.ndarray], points: np.ndarray) -> list[list[int]]:
    """Group rings into polygons: an outer ring followed by the holes directly within it.

    Parameters
    ----------
    rings : list of ndarray of int
        Indices into `points`.
    points : ndarray, shape (N, 2)
    """
    n = len(rings)
    boxes = [(points[r].min(axis=0), points[r].max(axis=0)) for r in rings]
    inside = np.zeros((n, n), dtype=bool)
    for i in range(n):
        for j in range(n):
            fits = i != j and (boxes[j][0] <= boxes[i][0]).all() and (boxes[j][1] >= boxes[i][1]).all()
            if fits:
                inside[i, j] = _contains(points[rings[j]], points[rings[i][0]])
    depth = inside.sum(axis=1)
    groups = {i: [i] for i in range(n) if depth[i] % 2 == 0}
    for i in range(n):
        if depth[i] % 2 == 1:
            parent = next((j for j in range(n) if inside[i, j] and depth[j] == depth[i] - 1), None)
            groups.setdefault(i if parent is None else parent, []).append(i)
    return list(groups.values())


def triangulate_flat(rings: list[np.ndarray], points: np.ndarray) -> np.ndarray | None:
    """Triangulate the region between closed rings (even-odd), using every ring vertex and no other.

    Constrained Delaunay, so that vertices on straight runs, rings within rings and grids all come out whole.

    Parameters
    ----------
    rings : list of ndarray of int
        Indices into `points`, each ring once round.
    points : ndarray, shape (N, 2)

    Returns
    -------
    ndarray of int, shape (T, 3), or None
        Anticlockwise triangles; None where rings cross or touch, so that there is no sound triangulation.
    """
    used = np.concatenate(rings)
    starts = np.cumsum([0, *map(len, rings)])
    ends = [np.column_stack([np.arange(a, b), np.roll(np.arange(a, b), -1)]) for a, b in pairwise(starts)]
    found = constrained_triangles(points[used], np.concatenate(ends))
    if found is None or len(np.unique(found)) != len(used):
        return None
    return used[found]
