"""Sewing: open edges that face each other across a narrow gap are joined by triangles between them."""

import heapq

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.kernels import kernel

__all__ = ["sewn"]

_FACING = 0.3
"""Cosine of the angle that a triangle may have against the surface at each of its corners."""
_NEIGHBOURS = 48
_SMALL = 400
_SEWN = 0.3
"""Nodes up to which a ring that is left inside a seam is closed, and the share of them that was sewn to: others are
outer edges."""


@kernel
def _side(P, N, a, b, c):
    """Twice the area of a triangle as seen against the normals at its corners; the least of the three cosines."""
    ux, uy, uz = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
    wx, wy, wz = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
    x, y, z = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    length = np.sqrt(x * x + y * y + z * z)
    if length <= 0.0:
        return 0.0, -1.0
    least = 1.0
    for v in (a, b, c):
        least = min(least, (x * N[v, 0] + y * N[v, 1] + z * N[v, 2]) / length)
    return length, least


@kernel
def _length(P, a, b):
    return np.sqrt((P[a, 0] - P[b, 0]) ** 2 + (P[a, 1] - P[b, 1]) ** 2 + (P[a, 2] - P[b, 2]) ** 2)


@kernel
def _turn(P, N, at, one, other):
    """The angle from one way to another, anticlockwise as seen against the normal at a vertex, 0 to 2 pi."""
    ux, uy, uz = P[one, 0] - P[at, 0], P[one, 1] - P[at, 1], P[one, 2] - P[at, 2]
    wx, wy, wz = P[other, 0] - P[at, 0], P[other, 1] - P[at, 1], P[other, 2] - P[at, 2]
    nx, ny, nz = N[at, 0], N[at, 1], N[at, 2]
    un, wn = ux * nx + uy * ny + uz * nz, wx * nx + wy * ny + wz * nz
    ux, uy, uz, wx, wy, wz = ux - un * nx, uy - un * ny, uz - un * nz, wx - wn * nx, wy - wn * ny, wz - wn * nz
    across = (uy * wz - uz * wy) * nx + (uz * wx - ux * wz) * ny + (ux * wy - uy * wx) * nz
    along = ux * wx + uy * wy + uz * wz
    angle = np.arctan2(across, along)
    return angle if angle >= 0 else angle + 2 * np.pi


@kernel
def _within(P, N, vertex, before, following, node, target):
    """Whether a vertex lies in the open corner at a node of the front."""
    at = vertex[node]
    out, back = vertex[following[node]], vertex[before[node]]
    if target in (out, back):
        return True
    # the surface lies to the left of the front, what is open to its right
    return _turn(P, N, at, target, out) <= _turn(P, N, at, back, out) + 1e-9


@kernel
def _cross(P, N, a, b, c, d):
    """Whether two lines cross as seen against the surface; a, b, c, d are four vertices."""
    nx, ny, nz = 0.0, 0.0, 0.0
    for v in (a, b, c, d):
        nx, ny, nz = nx + N[v, 0], ny + N[v, 1], nz + N[v, 2]
    signs = np.empty(4)
    for k in range(4):
        p, q, r = (a, b, c) if k == 0 else (a, b, d) if k == 1 else (c, d, a) if k == 2 else (c, d, b)
        ux, uy, uz = P[q, 0] - P[p, 0], P[q, 1] - P[p, 1], P[q, 2] - P[p, 2]
        wx, wy, wz = P[r, 0] - P[p, 0], P[r, 1] - P[p, 1], P[r, 2] - P[p, 2]
        signs[k] = (uy * wz - uz * wy) * nx + (uz * wx - ux * wz) * ny + (ux * wy - uy * wx) * nz
    return signs[0] * signs[1] < 0 and signs[2] * signs[3] < 0


@kernel
def _best_for(P, N, side, vertex, before, following, alive, first, onward, near, start, node, reach, across):
    """The best vertex to join an edge of the front with: its node, and how wide a circle through all three is."""
    a, b = vertex[node], vertex[following[node]]
    best, found = np.inf, -1
    base = _length(P, a, b)
    for i in range(start[a], start[a + 1]):
        c = near[i]
        if c in (a, b) or first[c] < 0:
            continue
        one, other = _length(P, a, c), _length(P, b, c)
        if one > reach or other > reach or (across and side[c] == side[a] and side[c] == side[b]):
            continue
        area, facing = _side(P, N, b, a, c)
        if facing < _FACING:
            continue
        wide = base * one * other / (2 * area)
        if wide >= best:
            continue
        # nothing else of the front inside it, and neither new edge across another
        clear = True
        for j in range(start[a], start[a + 1]):
            v = near[j]
            if not clear:
                break
            if first[v] < 0:
                continue
            if v != a and v != b and v != c:
                inside = _side(P, N, b, a, v)[1] > 0 and _side(P, N, a, c, v)[1] > 0 and _side(P, N, c, b, v)[1] > 0
                if inside:
                    clear = False
            m = first[v]
            while m >= 0 and clear:
                w = vertex[following[m]]
                if v != a and v != c and w != a and w != c and _cross(P, N, a, c, v, w):
                    clear = False
                if v != b and v != c and w != b and w != c and _cross(P, N, b, c, v, w):
                    clear = False
                m = onward[m]
        if not clear:
            continue
        m = first[c]
        while m >= 0:
            fits = alive[m] and (
                (m == following[following[node]] or _within(P, N, vertex, before, following, m, b))
                and (m == before[node] or _within(P, N, vertex, before, following, m, a))
                and _within(P, N, vertex, before, following, node, c)
                and _within(P, N, vertex, before, following, following[node], c)
            )
            if fits:
                best, found = wide, m
                break
            m = onward[m]
    return best, found


@kernel
def _drop(vertex, first, onward, alive, node):
    v = vertex[node]
    alive[node] = False
    if first[v] == node:
        first[v] = onward[node]
        return
    m = first[v]
    while m >= 0:
        if onward[m] == node:
            onward[m] = onward[node]
            return
        m = onward[m]


@kernel
def _sew(P, N, side, vertex, before, following, alive, first, onward, near, start, reach, across, out, joined):
    """Add triangles, the roundest first, until none fits; how many, and how many nodes there are then."""
    count, nodes = 0, joined
    heap = [(0.0, np.int64(-1), np.int64(-1), np.int64(-1))]
    heap.pop()
    for node in range(joined):
        if alive[node]:
            wide, found = _best_for(
                P, N, side, vertex, before, following, alive, first, onward, near, start, node, reach, across
            )
            if found >= 0:
                heapq.heappush(heap, (wide, np.int64(node), np.int64(following[node]), np.int64(found)))
    while len(heap) > 0 and count < out.shape[0] and nodes < vertex.shape[0] - 1:
        _, node, end, found = heapq.heappop(heap)
        if not alive[node] or following[node] != end:
            continue
        wide, again = _best_for(
            P, N, side, vertex, before, following, alive, first, onward, near, start, node, reach, across
        )
        if again < 0:
            continue
        if again != found:
            heapq.heappush(heap, (wide, node, end, np.int64(again)))
            continue
        out[count, 0], out[count, 1], out[count, 2] = vertex[end], vertex[node], vertex[found]
        count += 1
        fresh = (node, -1)
        if found == following[end] and found == before[node]:
            for m in (node, end, found):
                _drop(vertex, first, onward, alive, m)
            continue
        if found == following[end]:
            following[node], before[found] = found, node
            _drop(vertex, first, onward, alive, end)
        elif found == before[node]:
            following[found], before[end] = end, found
            _drop(vertex, first, onward, alive, node)
            fresh = (found, -1)
        else:
            twin = nodes
            nodes += 1
            vertex[twin], alive[twin] = vertex[found], True
            onward[twin] = first[vertex[found]]
            first[vertex[found]] = twin
            following[twin] = following[found]
            before[following[found]] = twin
            following[node], before[twin] = twin, node
            following[found], before[end] = end, found
            fresh = (node, found)
        for m in fresh:
            if m >= 0 and alive[m]:
                wide, best = _best_for(
                    P, N, side, vertex, before, following, alive, first, onward, near, start, m, reach, across
                )
                if best >= 0:
                    heapq.heappush(heap, (wide, np.int64(m), np.int64(following[m]), np.int64(best)))
    return count, nodes


def sewn(points: np.ndarray, normals: np.ndarray, side: np.ndarray, edges: np.ndarray, reach: float) -> np.ndarray:
    """Triangles between open edges that face each other across a narrow gap.

    The roundest triangle comes first, none lies over another or faces away from the surface: a front that closes in
    upon itself, after Bernardini et al., The ball-pivoting algorithm (IEEE TVCG 5, 1999), without the ball.

    Parameters
    ----------
    points, normals : ndarray, shape (V, 3)
    side : ndarray of int, shape (V,)
        What each vertex belongs to: gaps between different ones are closed first, then what is left between.
    edges : ndarray of int, shape (E, 2)
        The open edges, as their triangles run along them; each vertex begins one and ends one at most.
    reach : float
        The longest edge that is made, mm.

    Returns
    -------
    ndarray of int, shape (T, 3)
        What they leave open between them is left so.
    """
    used = np.unique(edges)
    number = np.full(len(points), -1, dtype=np.int64)
    number[used] = np.arange(len(used))
    P, N = np.ascontiguousarray(points[used]), np.ascontiguousarray(normals[used])
    tree = cKDTree(P)
    near = tree.query(P, k=min(_NEIGHBOURS, len(P)), distance_upper_bound=reach)[1].reshape(len(P), -1)
    rows = np.minimum((near < len(P)).sum(axis=1), near.shape[1])
    start = np.concatenate([[0], np.cumsum(rows)]).astype(np.int64)
    near = near[near < len(P)].astype(np.int64)
    count = len(P)
    room = 4 * count + 16
    vertex, before, following = np.zeros((3, room), dtype=np.int64)
    onward = np.full(room, -1, dtype=np.int64)
    alive = np.zeros(room, dtype=np.bool_)
    begin, end = number[edges[:, 0]], number[edges[:, 1]]
    vertex[:count] = np.arange(count)
    following[:count] = before[:count] = -1
    following[begin], before[end] = end, begin
    alive[:count] = (following[:count] >= 0) & (before[:count] >= 0)
    # what has no ring to go round is no place to sew
    whole = alive[:count].copy()
    for _ in range(2):
        whole &= whole[np.maximum(following[:count], 0)] & whole[np.maximum(before[:count], 0)]
    alive[:count] = whole
    first = np.where(whole, np.arange(count), -1).astype(np.int64)
    own = np.ascontiguousarray(side[used]).astype(np.int64)
    made, nodes = [], count
    for across in (True, False):
        out = np.empty((2 * count + 16, 3), dtype=np.int64)
        if not across:
            for node in _outside(vertex, following, alive, nodes, made[0]):
                _drop(vertex, first, onward, alive, node)
        found, nodes = _sew(
            P, N, own, vertex, before, following, alive, first, onward, near, start, reach, across, out, nodes
        )
        made.append(out[:found].copy())
    return used[np.concatenate(made)]


def _rings(following: np.ndarray, alive: np.ndarray, nodes: int) -> list[np.ndarray]:
    rings, seen = [], np.zeros(nodes, dtype=bool)
    for node in range(nodes):
        if not alive[node] or seen[node]:
            continue
        ring = []
        while not seen[node]:
            seen[node] = True
            ring.append(node)
            node = int(following[node])
        rings.append(np.array(ring))
    return rings


def _outside(vertex: np.ndarray, following: np.ndarray, alive: np.ndarray, nodes: int, made: np.ndarray) -> np.ndarray:
    """Nodes of rings that are no gap left within a seam: long ones, and those that nothing was sewn to."""
    touched = np.zeros(int(vertex.max()) + 1, dtype=bool)
    touched[made.ravel()] = True
    rings = _rings(following, alive, nodes)
    outside = [ring for ring in rings if len(ring) > _SMALL or touched[vertex[ring]].mean() < _SEWN]
    return np.concatenate(outside) if outside else np.empty(0, dtype=np.int64)
