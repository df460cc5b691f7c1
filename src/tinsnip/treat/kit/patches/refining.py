"""A patch's own triangles: refined to the density round it, edges swapped until well shaped."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.halfedges import twin_table

__all__ = ["refine_patch"]

_GROWTH = 1.41421356
_EVEN = 0.8660254
"""Twice the area of a triangle with sides of one."""


@kernel
def _joined(T, tw, c_half, d):
    """Whether the vertex at the start of half-edge `c_half` already has an edge to d."""
    for way in range(2):
        h = c_half
        for _ in range(T.shape[0]):
            base = h - h % 3
            if T[base // 3, (h + 1) % 3] == d or T[base // 3, (h + 2) % 3] == d:
                return True
            if way == 0:
                t = tw[base + (h + 2) % 3]
                if t < 0:
                    break
                h = t
            else:
                t = tw[h]
                if t < 0:
                    break
                h = t - t % 3 + (t + 1) % 3
            if h == c_half:
                return False
    return False


@kernel
def _normal(P, a, b, c):
    ux, uy, uz = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
    wx, wy, wz = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@kernel
def _cotangent(P, at, p, q):
    ux, uy, uz = P[p, 0] - P[at, 0], P[p, 1] - P[at, 1], P[p, 2] - P[at, 2]
    wx, wy, wz = P[q, 0] - P[at, 0], P[q, 1] - P[at, 1], P[q, 2] - P[at, 2]
    cx, cy, cz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    size = np.sqrt(cx * cx + cy * cy + cz * cz)
    dot = ux * wx + uy * wy + uz * wz
    scale = np.sqrt((ux * ux + uy * uy + uz * uz) * (wx * wx + wy * wy + wz * wz))
    if size <= 1e-12 * scale:
        return 1e12 if dot > 0 else -1e12
    return dot / size


@kernel
def _swapped(P, T, tw, h, is_flat):
    """Swap an edge against which the opposite angles add up to more than a half turn; whether it was."""
    g = tw[h]
    if g < 0:
        return False
    t, k = h // 3, h % 3
    u, j = g // 3, g % 3
    a, b, c = T[t, k], T[t, (k + 1) % 3], T[t, (k + 2) % 3]
    d = T[u, (j + 2) % 3]
    if c == d or T[u, j] != b:
        return False
    if _cotangent(P, c, a, b) + _cotangent(P, d, a, b) > -1e-7:
        return False
    nx, ny, nz = _normal(P, c, a, d)
    mx, my, mz = _normal(P, d, b, c)
    ox, oy, oz = _normal(P, a, b, c)
    qx, qy, qz = _normal(P, b, a, d)
    sx, sy, sz = ox + qx, oy + qy, oz + qz
    # both new triangles must face the way the pair faced
    if nx * sx + ny * sy + nz * sz <= 0.0 or mx * sx + my * sy + mz * sz <= 0.0:
        return False
    if not is_flat and _joined(T, tw, 3 * t + (k + 2) % 3, d):
        return False
    ca, bc = tw[3 * t + (k + 2) % 3], tw[3 * t + (k + 1) % 3]
    ad, db = tw[3 * u + (j + 1) % 3], tw[3 * u + (j + 2) % 3]
    T[t, 0], T[t, 1], T[t, 2] = c, a, d
    T[u, 0], T[u, 1], T[u, 2] = d, b, c
    tw[3 * t], tw[3 * t + 1], tw[3 * t + 2] = ca, ad, 3 * u + 2
    tw[3 * u], tw[3 * u + 1], tw[3 * u + 2] = db, bc, 3 * t + 2
    if ca >= 0:
        tw[ca] = 3 * t
    if ad >= 0:
        tw[ad] = 3 * t + 1
    if db >= 0:
        tw[db] = 3 * u
    if bc >= 0:
        tw[bc] = 3 * u + 1
    return True


@kernel
def _swap(P, T, tw, n_tri, first, is_flat, state):
    """Swap edges until each is the better one of its pair: those of new triangles, and what lies beside any swapped.

    `first` flags the triangles to begin with. Each edge has its turn a few times at most, for in space there may be no
    end to it.
    """
    stack = np.empty(3 * n_tri + 4, dtype=np.int64)
    waits = np.zeros(3 * n_tri, dtype=np.bool_)
    turns = np.zeros(3 * n_tri, dtype=np.uint8)
    n = 0
    for t in range(n_tri - 1, -1, -1):
        if first[t]:
            for k in range(3):
                stack[n] = 3 * t + k
                waits[3 * t + k] = True
                n += 1
    while n > 0:
        n -= 1
        h = stack[n]
        waits[h] = False
        if turns[h] >= 60 or not _swapped(P, T, tw, h, is_flat):
            continue
        turns[h] += 1
        if state[0]:
            return
        t = h // 3
        u = tw[3 * t + 2] // 3
        for other in (3 * t, 3 * t + 1, 3 * u, 3 * u + 1):
            if not waits[other]:
                waits[other] = True
                stack[n] = other
                n += 1


@kernel
def _split(P, T, tw, sigma, n_pts, n_tri, limit, slope, fresh):
    """Put a point into every triangle that is too large for the density round it.

    Where edges may grow longer, slivers across a wide hole get one point together for the area of one triangle.
    """
    added, waiting = 0, 0.0
    for t in range(n_tri):
        if n_pts + added >= limit:
            break
        a, b, c = T[t, 0], T[t, 1], T[t, 2]
        s = (sigma[a] + sigma[b] + sigma[c]) / 3.0
        x = (P[a, 0] + P[b, 0] + P[c, 0]) / 3.0
        y = (P[a, 1] + P[b, 1] + P[c, 1]) / 3.0
        z = (P[a, 2] + P[b, 2] + P[c, 2]) / 3.0
        large, coarse = True, np.inf
        for v in (a, b, c):
            d = np.sqrt((x - P[v, 0]) ** 2 + (y - P[v, 1]) ** 2 + (z - P[v, 2]) ** 2)
            coarse = min(coarse, sigma[v] + slope * d)
        if slope > 0.0:
            s = coarse
        for v in (a, b, c):
            d = _GROWTH * np.sqrt((x - P[v, 0]) ** 2 + (y - P[v, 1]) ** 2 + (z - P[v, 2]) ** 2)
            if d <= s or d <= sigma[v]:
                large = False
        if not large:
            continue
        if slope > 0.0:
            nx, ny, nz = _normal(P, a, b, c)
            waiting += min(np.sqrt(nx * nx + ny * ny + nz * nz) / (_EVEN * s * s), 1.0)
            if waiting < 1.0:
                continue
            waiting -= 1.0
        v = n_pts + added
        P[v, 0], P[v, 1], P[v, 2] = x, y, z
        sigma[v] = s
        t1 = n_tri + 2 * added
        t2 = t1 + 1
        e1, e2 = tw[3 * t + 1], tw[3 * t + 2]
        T[t, 2] = v
        T[t1, 0], T[t1, 1], T[t1, 2] = b, c, v
        T[t2, 0], T[t2, 1], T[t2, 2] = c, a, v
        tw[3 * t + 1], tw[3 * t1 + 2] = 3 * t1 + 2, 3 * t + 1
        tw[3 * t1 + 1], tw[3 * t2 + 2] = 3 * t2 + 2, 3 * t1 + 1
        tw[3 * t2 + 1], tw[3 * t + 2] = 3 * t + 2, 3 * t2 + 1
        tw[3 * t1], tw[3 * t2] = e1, e2
        if e1 >= 0:
            tw[e1] = 3 * t1
        if e2 >= 0:
            tw[e2] = 3 * t2
        fresh[t] = fresh[t1] = fresh[t2] = True
        added += 1
    return added


def refine_patch(
    points: np.ndarray,
    triangles: np.ndarray,
    sigma: np.ndarray,
    state: np.ndarray,
    is_flat: bool = False,
    slope: float = 0.0,
) -> tuple[np.ndarray, np.ndarray]:
    """Refine a patch to the density of its boundary (Liepa 2003, section 4).

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        The boundary's vertices.
    triangles : ndarray of int, shape (T, 3)
    sigma : ndarray, shape (N,)
        Mean edge length wanted at each of them.
    state : ndarray of int64
        Polled for cancelling.
    is_flat : bool
        Whether it lies in a plane and nowhere on itself, so that no edge can come about twice.
    slope : float
        By how much edges may grow longer for each millimetre from the boundary, so that a long one ends in fewer.

    Returns
    -------
    points : ndarray, shape (N + M, 3)
        The given ones first.
    triangles : ndarray of int32
    """
    n_pts, n_tri = len(points), len(triangles)
    P = np.ascontiguousarray(points, dtype=np.float64).copy()
    T = np.ascontiguousarray(triangles, dtype=np.int32).copy()
    tw = twin_table(T, n_pts).copy()
    s = sigma.astype(np.float64).copy()
    limit = 2_000_000
    for turn in range(60):
        if state[0]:
            break
        # room for every triangle to get a point
        P = np.concatenate([P[:n_pts], np.zeros((n_tri, 3))])
        s = np.concatenate([s[:n_pts], np.zeros(n_tri)])
        T = np.concatenate([T[:n_tri], np.zeros((2 * n_tri, 3), dtype=np.int32)])
        tw = np.concatenate([tw[: 3 * n_tri], np.full(6 * n_tri, -1, dtype=np.int32)])
        fresh = np.zeros(3 * n_tri, dtype=np.bool_)
        fresh[:n_tri] = turn == 0
        added = _split(P, T, tw, s, n_pts, n_tri, limit, slope, fresh)
        n_pts, n_tri = n_pts + added, n_tri + 2 * added
        _swap(P, T, tw, n_tri, fresh[:n_tri], is_flat, state)
        if added == 0:
            break
    return P[:n_pts], T[:n_tri]
