"""The nearest places of a surface to a few points, in one walk over its triangles and with no tree."""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["nearest_on"]


@kernel
def _nearest(vertices, faces, points, best, face, place):
    """The nearest triangle to each point, and the nearest place on it."""
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        for n in range(points.shape[0]):
            gap = 0.0
            for k in range(3):
                low = min(vertices[a, k], vertices[b, k], vertices[c, k])
                high = max(vertices[a, k], vertices[b, k], vertices[c, k])
                d = max(low - points[n, k], points[n, k] - high, 0.0)
                gap += d * d
            if gap >= best[n]:
                continue
            u, v = _closest(vertices, a, b, c, points, n)
            d2 = 0.0
            for k in range(3):
                x = (1.0 - u - v) * vertices[a, k] + u * vertices[b, k] + v * vertices[c, k] - points[n, k]
                d2 += x * x
            if d2 < best[n]:
                best[n], face[n] = d2, f
                place[n, 0], place[n, 1] = u, v


@kernel
def _closest(V, a, b, c, P, n):
    """Shares of the second and third corner in the place of a triangle nearest to a point (Ericson 2005)."""
    d1 = d2 = d3 = d4 = d5 = d6 = 0.0
    for k in range(3):
        ab, ac = V[b, k] - V[a, k], V[c, k] - V[a, k]
        ap, bp, cp = P[n, k] - V[a, k], P[n, k] - V[b, k], P[n, k] - V[c, k]
        d1 += ab * ap
        d2 += ac * ap
        d3 += ab * bp
        d4 += ac * bp
        d5 += ab * cp
        d6 += ac * cp
    if d1 <= 0.0 and d2 <= 0.0:
        return 0.0, 0.0
    if d3 >= 0.0 and d4 <= d3:
        return 1.0, 0.0
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 1.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        return d1 / (d1 - d3), 0.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        return 0.0, d2 / (d2 - d6)
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 1.0 - w, w
    total = va + vb + vc
    if total == 0.0:
        return 0.0, 0.0
    return vb / total, vc / total


def nearest_on(vertices: np.ndarray, faces: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The triangle nearest to each point, and shares of its second and third corner in the place on it.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    points : ndarray, shape (N, 3)

    Returns
    -------
    face : ndarray of int64, shape (N,)
    place : ndarray, shape (N, 2)
    """
    best = np.full(len(points), np.inf)
    face, place = np.zeros(len(points), dtype=np.int64), np.zeros((len(points), 2))
    _nearest(vertices, faces, np.ascontiguousarray(points, dtype=float), best, face, place)
    return face, place
