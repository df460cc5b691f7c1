"""Flat polygons with holes within holes, cut into triangles without a new vertex."""

from itertools import pairwise

import mapbox_earcut
import numpy as np

__all__ = ["plane_axes", "triangulate_flat"]


def plane_axes(normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two unit vectors that span a plane, right-handed with its unit normal."""
    helper = np.eye(3)[int(np.argmin(np.abs(normal)))]
    u = np.cross(helper, normal)
    u /= np.linalg.norm(u)
    return u, np.cross(normal, u)


def _signed_area(points: np.ndarray) -> float:
    x, y = points[:, 0] - points[0, 0], points[:, 1] - points[0, 1]
    return 0.5 * float(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y))


def _contains(ring: np.ndarray, point: np.ndarray) -> bool:
    """Even-odd test of one point against a ring."""
    a, b = ring, np.roll(ring, -1, axis=0)
    spans = (a[:, 1] > point[1]) != (b[:, 1] > point[1])
    a, b = a[spans], b[spans]
    x = a[:, 0] + (point[1] - a[:, 1]) / (b[:, 1] - a[:, 1]) * (b[:, 0] - a[:, 0])
    return bool(np.count_nonzero(x > point[0]) % 2)


def _group(rings: list[np.ndarray], points: np.ndarray) -> list[list[int]]:
    """Group rings into polygons: an outer ring followed by the holes directly within it."""
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
            if parent is None:
                return []
            groups[parent].append(i)
    return list(groups.values())


def triangulate_flat(rings: list[np.ndarray], points: np.ndarray) -> np.ndarray | None:
    """Triangulate the region between closed rings (even-odd), using every ring vertex and no other.

    Ear clipping (mapbox-earcut); vertices that it leaves out on straight runs are put back.

    Parameters
    ----------
    rings : list of ndarray of int
        Indices into `points`, each ring once round.
    points : ndarray, shape (N, 2)

    Returns
    -------
    ndarray of int, shape (T, 3), or None
        Anticlockwise triangles; None where the rings cross, so that no sound triangulation was found.
    """
    triangles = []
    groups = _group(rings, points)
    if not groups:
        return None
    for group in groups:
        order = []
        for k, i in enumerate(group):
            ring = rings[i]
            clockwise = _signed_area(points[ring]) < 0
            order.append(ring[::-1] if clockwise == (k == 0) else ring)
        index = np.concatenate(order)
        ends = np.cumsum([len(r) for r in order]).astype(np.uint32)
        flat = mapbox_earcut.triangulate_float64(np.ascontiguousarray(points[index]), ends).reshape(-1, 3)
        found = _put_back(index[flat.astype(np.int64)], order, points)
        if found is None:
            return None
        triangles.append(found)
    return np.concatenate(triangles)


def _edges(triangles: np.ndarray) -> np.ndarray:
    return np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])


def _put_back(triangles: np.ndarray, rings: list[np.ndarray], points: np.ndarray) -> np.ndarray | None:
    """Split triangles along whose edge ring vertices were left out; None if the result is not sound."""
    if len(triangles) == 0:
        return None
    a, b, c = (points[triangles[:, k]] for k in range(3))
    doubled_area = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    triangles = np.where((doubled_area < 0)[:, None], triangles[:, ::-1], triangles)
    following = {int(u): int(v) for ring in rings for u, v in zip(ring, np.roll(ring, -1), strict=True)}
    ring_edges = set(following.items())
    longest_run = max(len(r) for r in rings)
    todo = [tuple(int(v) for v in t) for t in triangles]
    directed = {e for t in todo for e in ((t[0], t[1]), (t[1], t[2]), (t[2], t[0]))}
    lone = {e for e in directed if (e[1], e[0]) not in directed and e not in ring_edges}
    result = []
    while todo:
        t = todo.pop()
        for k in range(3):
            u, v, w = t[k], t[(k + 1) % 3], t[(k + 2) % 3]
            if (u, v) in lone:
                run = [u]
                while run[-1] != v and len(run) <= longest_run:
                    run.append(following.get(run[-1], v))
                if len(run) == 2 or len(run) > longest_run or w in run:
                    return None
                todo.extend((p, q, w) for p, q in pairwise(run))
                break
        else:
            result.append(t)
    done = np.array(result)
    uses: dict[tuple[int, int], int] = {}
    for u, v in _edges(done).tolist():
        uses[u, v] = uses.get((u, v), 0) + 1
    if any(n > 1 for n in uses.values()):
        return None
    outer = {e for e in uses if (e[1], e[0]) not in uses}
    return done if outer == ring_edges else None
