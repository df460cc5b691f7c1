"""Constrained Delaunay triangulation of flat polygons, with exact orientation tests.

Points are put on a whole-number grid fine enough for any scan, on which the side a point lies on is exact in 64 bits.
They are inserted one by one (Lawson 1977); then the polygon's edges are forced in by swapping what crosses them
(Sloan 1993), and the inside is what an odd number of them encloses.
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.morton import morton_order
from tinsnip.threads import in_chunks

__all__ = ["constrained_triangles", "divided_polygons"]

_GRID = 2**27
_ATTEMPTS = 6
"""How often a polygon is tried, its points put off by more and more places of the grid, where some share one."""


@kernel
def _side(X, a, b, c):
    """Twice the area of a, b, c on the grid, exactly; positive anticlockwise."""
    return (X[b, 0] - X[a, 0]) * (X[c, 1] - X[a, 1]) - (X[b, 1] - X[a, 1]) * (X[c, 0] - X[a, 0])


@kernel
def _in_circle(X, a, b, c, d):
    """Whether d lies within the circle through a, b, c by more than rounding could make up."""
    ax, ay = np.float64(X[a, 0] - X[d, 0]), np.float64(X[a, 1] - X[d, 1])
    bx, by = np.float64(X[b, 0] - X[d, 0]), np.float64(X[b, 1] - X[d, 1])
    cx, cy = np.float64(X[c, 0] - X[d, 0]), np.float64(X[c, 1] - X[d, 1])
    a2, b2, c2 = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    det = a2 * (bx * cy - by * cx) - b2 * (ax * cy - ay * cx) + c2 * (ax * by - ay * bx)
    bound = a2 * (abs(bx * cy) + abs(by * cx)) + b2 * (abs(ax * cy) + abs(ay * cx)) + c2 * (abs(ax * by) + abs(ay * bx))
    return det > 1e-14 * bound


@kernel
def _relink(N, t, old, new):
    if t >= 0:
        for k in range(3):
            if N[t, k] == old:
                N[t, k] = new
                return


@kernel
def _swap(T, N, C, at, t, k):
    """Swap the edge opposite corner k of t; afterwards t is (p, a, d) and its old neighbour (p, d, b)."""
    u = N[t, k]
    p, a, b = T[t, k], T[t, (k + 1) % 3], T[t, (k + 2) % 3]
    j = 0
    while N[u, j] != t:
        j += 1
    d = T[u, j]
    pa, pb = N[t, (k + 2) % 3], N[t, (k + 1) % 3]
    c_pa, c_pb = C[t, (k + 2) % 3], C[t, (k + 1) % 3]
    ad, bd = N[u, (j + 1) % 3], N[u, (j + 2) % 3]
    c_ad, c_bd = C[u, (j + 1) % 3], C[u, (j + 2) % 3]
    T[t, 0], T[t, 1], T[t, 2] = p, a, d
    N[t, 0], N[t, 1], N[t, 2] = ad, u, pa
    C[t, 0], C[t, 1], C[t, 2] = c_ad, False, c_pa
    T[u, 0], T[u, 1], T[u, 2] = p, d, b
    N[u, 0], N[u, 1], N[u, 2] = bd, pb, t
    C[u, 0], C[u, 1], C[u, 2] = c_bd, c_pb, False
    _relink(N, ad, u, t)
    _relink(N, pb, t, u)
    at[p], at[a], at[d], at[b] = t, t, t, u
    return u


@kernel
def _settle(X, T, N, C, at, stack, height):
    """Swap edges opposite the first corner of the triangles on the stack until all are Delaunay."""
    while height > 0:
        height -= 1
        t = stack[height]
        u = N[t, 0]
        if u < 0 or C[t, 0]:
            continue
        j = 0
        while N[u, j] != t:
            j += 1
        if _in_circle(X, T[t, 0], T[t, 1], T[t, 2], T[u, j]) and height + 2 <= stack.shape[0]:
            if _side(X, T[t, 0], T[t, 1], T[u, j]) > 0 and _side(X, T[t, 0], T[u, j], T[t, 2]) > 0:
                _swap(T, N, C, at, t, 0)
                stack[height], stack[height + 1] = t, u
                height += 2


@kernel
def _locate(X, T, N, t, v, count):
    """The triangle that holds a point, and the corner opposite the edge it lies on, or -1; walks from t."""
    for _ in range(4 * count + 64):
        moved = False
        on = -1
        for k in range(3):
            side = _side(X, T[t, (k + 1) % 3], T[t, (k + 2) % 3], v)
            if side < 0:
                t = N[t, k]
                moved = True
                break
            if side == 0:
                on = k
        if not moved:
            return t, on
    return -1, -1


@kernel
def _insert(X, order, T, N, C, at):
    """Insert all points; returns the triangles there are, or minus one where two are at one place."""
    n = X.shape[0] - 3
    T[0, 0], T[0, 1], T[0, 2] = n, n + 1, n + 2
    N[0, 0] = N[0, 1] = N[0, 2] = -1
    at[n] = at[n + 1] = at[n + 2] = 0
    count = 1
    stack = np.empty(4 * n + 64, dtype=np.int64)
    t = 0
    for i in range(n):
        v = order[i]
        t, on = _locate(X, T, N, t, v, count)
        if t < 0:
            return -1
        for k in range(3):
            w = T[t, k]
            if X[w, 0] == X[v, 0] and X[w, 1] == X[v, 1]:
                return -1
        if on < 0:
            a, b, c = T[t, 0], T[t, 1], T[t, 2]
            na, nb, nc = N[t, 0], N[t, 1], N[t, 2]
            t1, t2 = count, count + 1
            count += 2
            T[t, 0], T[t, 1], T[t, 2] = v, b, c
            T[t1, 0], T[t1, 1], T[t1, 2] = v, c, a
            T[t2, 0], T[t2, 1], T[t2, 2] = v, a, b
            N[t, 0], N[t, 1], N[t, 2] = na, t1, t2
            N[t1, 0], N[t1, 1], N[t1, 2] = nb, t2, t
            N[t2, 0], N[t2, 1], N[t2, 2] = nc, t, t1
            _relink(N, nb, t, t1)
            _relink(N, nc, t, t2)
            at[v], at[a], at[b], at[c] = t, t1, t, t
            stack[0], stack[1], stack[2] = t, t1, t2
            _settle(X, T, N, C, at, stack, 3)
        else:
            u = N[t, on]
            p, a, b = T[t, on], T[t, (on + 1) % 3], T[t, (on + 2) % 3]
            pa, pb = N[t, (on + 2) % 3], N[t, (on + 1) % 3]
            j = 0
            while N[u, j] != t:
                j += 1
            d = T[u, j]
            ad, bd = N[u, (j + 1) % 3], N[u, (j + 2) % 3]
            t1, u1 = count, count + 1
            count += 2
            T[t, 0], T[t, 1], T[t, 2] = v, p, a
            T[t1, 0], T[t1, 1], T[t1, 2] = v, b, p
            T[u, 0], T[u, 1], T[u, 2] = v, a, d
            T[u1, 0], T[u1, 1], T[u1, 2] = v, d, b
            N[t, 0], N[t, 1], N[t, 2] = pa, u, t1
            N[t1, 0], N[t1, 1], N[t1, 2] = pb, t, u1
            N[u, 0], N[u, 1], N[u, 2] = ad, u1, t
            N[u1, 0], N[u1, 1], N[u1, 2] = bd, t1, u
            _relink(N, pb, t, t1)
            _relink(N, bd, u, u1)
            at[v], at[p], at[a], at[b], at[d] = t, t, t, t1, u
            stack[0], stack[1], stack[2], stack[3] = t, t1, u, u1
            _settle(X, T, N, C, at, stack, 4)
        t = at[v]
    return count


@kernel
def _corner_of(T, t, v):
    for k in range(3):
        if T[t, k] == v:
            return k
    return -1


@kernel
def _mark(T, N, C, at, a, b):
    """Mark the edge a, b as one of the polygon's, if it is there."""
    start = at[a]
    t = start
    while True:
        k = _corner_of(T, t, a)
        if T[t, (k + 1) % 3] == b:
            e = (k + 2) % 3
            u = N[t, e]
            C[t, e] = True
            for j in range(3):
                if N[u, j] == t:
                    C[u, j] = True
            return True
        t = N[t, (k + 1) % 3]
        if t == start or t < 0:
            return False


@kernel
def _force(X, T, N, C, at, a, b, queue):
    """Swap away what crosses a, b, then mark it; returns how it went."""
    if _mark(T, N, C, at, a, b) or _mark(T, N, C, at, b, a):
        return 0
    # the triangle at a through which the way to b leads
    start = at[a]
    t = start
    n = 0
    while True:
        k = _corner_of(T, t, a)
        p, q = T[t, (k + 1) % 3], T[t, (k + 2) % 3]
        right, left = _side(X, a, b, p), _side(X, a, b, q)
        if right < 0 and left > 0 and _side(X, p, q, a) > 0 and _side(X, p, q, b) < 0:
            break
        if right == 0:
            ahead = (X[p, 0] - X[a, 0]) * (X[b, 0] - X[a, 0]) + (X[p, 1] - X[a, 1]) * (X[b, 1] - X[a, 1])
            if ahead > 0:
                return 2  # a vertex lies on the edge
        t = N[t, (k + 1) % 3]
        if t == start or t < 0:
            return 2
    # all edges crossed on the way
    e = _corner_of(T, t, a)
    while True:
        if C[t, e] or n >= queue.shape[0]:
            return 2
        p, q = T[t, (e + 1) % 3], T[t, (e + 2) % 3]
        queue[n, 0], queue[n, 1] = p, q
        n += 1
        u = N[t, e]
        j = 0
        while N[u, j] != t:
            j += 1
        d = T[u, j]
        if d == b:
            break
        side = _side(X, a, b, d)
        if side == 0:
            return 2
        # leave through the edge between d and whichever of p, q lies on the other side
        e = _corner_of(T, u, q if side > 0 else p)
        t = u
    first, tries = 0, 0
    size = queue.shape[0]
    while n > 0:
        tries += 1
        if tries > 50 * size:
            return 2
        p, q = queue[first, 0], queue[first, 1]
        first = (first + 1) % size
        n -= 1
        # the triangle with p, q in this order; round the corners of the whole, which are open, one cannot go
        v = p if p < X.shape[0] - 3 else q
        t = at[v]
        while True:
            k = _corner_of(T, t, v)
            if T[t, (k + 1) % 3] == q or T[t, (k + 2) % 3] == p:
                break
            t = N[t, (k + 1) % 3]
        k = (_corner_of(T, t, p) + 2) % 3
        u = N[t, k]
        j = 0
        while N[u, j] != t:
            j += 1
        c, d = T[t, k], T[u, j]
        if _side(X, c, p, d) > 0 and _side(X, c, d, q) > 0:
            _swap(T, N, C, at, t, k)
            if c in (a, b) or d in (a, b):
                continue
            sc, sd = _side(X, a, b, c), _side(X, a, b, d)
            if (sc > 0) != (sd > 0):
                end = (first + n) % size
                if sc < 0:
                    queue[end, 0], queue[end, 1] = c, d
                else:
                    queue[end, 0], queue[end, 1] = d, c
                n += 1
        else:
            end = (first + n) % size
            queue[end, 0], queue[end, 1] = p, q
            n += 1
    if _mark(T, N, C, at, a, b) or _mark(T, N, C, at, b, a):
        return 0
    return 2


@kernel
def _improve(X, T, N, C, at, count):
    """Swap what forcing the edges has left badly shaped."""
    for _ in range(30):
        swapped = 0
        for t in range(count):
            for k in range(3):
                u = N[t, k]
                if u < t or C[t, k]:
                    continue
                j = 0
                while N[u, j] != t:
                    j += 1
                p, a, b, d = T[t, k], T[t, (k + 1) % 3], T[t, (k + 2) % 3], T[u, j]
                if _side(X, p, a, d) > 0 and _side(X, p, d, b) > 0 and _in_circle(X, p, a, b, d):
                    _swap(T, N, C, at, t, k)
                    swapped += 1
                    break
        if swapped == 0:
            return


@kernel
def _inside(X, T, N, C, at, count, rings, out):
    """Gather the triangles that an odd number of polygon edges parts from the outside; returns how many.

    Edges that are kept but belong to no polygon part nothing: `rings` has the polygons' edges alone, or is empty where
    there are no others.
    """
    depth = np.full(count, -1, dtype=np.int8)
    stack = np.empty(count, dtype=np.int64)
    start = at[X.shape[0] - 1]
    depth[start] = 0
    stack[0] = start
    height = 1
    while height > 0:
        height -= 1
        t = stack[height]
        for k in range(3):
            u = N[t, k]
            if u >= 0 and depth[u] < 0:
                parts = C[t, k]
                if parts and rings.shape[0] > 0:
                    a, b = T[t, (k + 1) % 3], T[t, (k + 2) % 3]
                    parts = rings[a, 0] == b or rings[a, 1] == b
                depth[u] = depth[t] ^ 1 if parts else depth[t]
                stack[height] = u
                height += 1
    n = 0
    for t in range(count):
        if depth[t] == 1:
            for k in range(3):
                out[n, k] = T[t, k]
            n += 1
    return n


@kernel
def _triangulate(X, order, ends, rings, out):
    """Returns how many triangles, or minus the reason there are none."""
    n = X.shape[0] - 3
    T = np.empty((2 * n + 8, 3), dtype=np.int64)
    N = np.empty((2 * n + 8, 3), dtype=np.int64)
    C = np.zeros((2 * n + 8, 3), dtype=np.bool_)
    at = np.zeros(n + 3, dtype=np.int64)
    count = _insert(X, order, T, N, C, at)
    if count < 0:
        return -1
    queue = np.empty((2 * n + 8, 2), dtype=np.int64)
    for i in range(ends.shape[0]):
        if _force(X, T, N, C, at, ends[i, 0], ends[i, 1], queue) != 0:
            return -2
    _improve(X, T, N, C, at, count)
    return _inside(X, T, N, C, at, count, rings, out)


@kernel
def _shuffle(order, n):
    """Put 0 ... n - 1 in an order that is none, the same each time (Durstenfeld 1964)."""
    seed = np.uint64(88172645463325252)
    for i in range(n):
        order[i] = i
    for i in range(n - 1, 0, -1):
        seed ^= seed << np.uint64(13)
        seed ^= seed >> np.uint64(7)
        seed ^= seed << np.uint64(17)
        j = np.int64(seed % np.uint64(i + 1))
        order[i], order[j] = order[j], order[i]


@kernel
def _divide_many(points, start, ring, ends, ends_start, out, out_start, failed, begin, end, state):
    """Triangulate many small polygons with points and edges within; see `divided_polygons`."""
    for i in range(begin, end):
        if i % 64 == 0 and state[0]:
            return
        first, n, m = start[i], start[i + 1] - start[i], ring[i]
        low0, low1 = points[first, 0], points[first, 1]
        high0, high1 = low0, low1
        for j in range(first, first + n):
            low0, high0 = min(low0, points[j, 0]), max(high0, points[j, 0])
            low1, high1 = min(low1, points[j, 1]), max(high1, points[j, 1])
        extent = max(high0 - low0, high1 - low1)
        failed[i] = True
        if not extent > 0.0:
            continue
        X = np.empty((n + 3, 2), dtype=np.int64)
        far = 2 * _GRID
        X[n, 0], X[n, 1] = -far, -far
        X[n + 1, 0], X[n + 1, 1] = 3 * far, -far
        X[n + 2, 0], X[n + 2, 1] = -far, 3 * far
        inner = ends_start[i + 1] - ends_start[i]
        edges = np.empty((m + inner, 2), dtype=np.int64)
        rings = np.full((n + 3, 2), -1, dtype=np.int64)
        for j in range(m):
            k = j + 1 if j + 1 < m else 0
            edges[j, 0], edges[j, 1] = j, k
            rings[j, 0], rings[k, 1] = k, j
        for j in range(inner):
            edges[m + j, 0], edges[m + j, 1] = ends[ends_start[i] + j, 0], ends[ends_start[i] + j, 1]
        order = np.empty(n, dtype=np.int64)
        _shuffle(order, n)
        found = np.empty((2 * n + 8, 3), dtype=np.int64)
        seed = np.uint64(2463534242)
        for attempt in range(_ATTEMPTS):
            wide = np.int64(0) if attempt == 0 else np.int64(1) << np.int64(attempt - 1)
            for j in range(n):
                for k in range(2):
                    low = low0 if k == 0 else low1
                    X[j, k] = np.int64(np.rint((points[first + j, k] - low) * (_GRID / extent)))
                    if wide > 0:  # points that share a place of the grid are put beside each other
                        seed ^= seed << np.uint64(13)
                        seed ^= seed >> np.uint64(7)
                        seed ^= seed << np.uint64(17)
                        X[j, k] += np.int64(seed % np.uint64(2 * wide + 1)) - wide
            count = _triangulate(X, order, edges, rings, found)
            if count == out_start[i + 1] - out_start[i]:
                for j in range(count):
                    for k in range(3):
                        out[out_start[i] + j, k] = found[j, k]
                failed[i] = False
                break


def divided_polygons(
    points: np.ndarray, start: np.ndarray, ring: np.ndarray, ends: np.ndarray, ends_start: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangulate many polygons at once, each with points and edges within.

    Parameters
    ----------
    points : ndarray, shape (N, 2)
        For each polygon its ring, anticlockwise, then the points within.
    start : ndarray of int, shape (P + 1,)
        Where each polygon's points begin.
    ring : ndarray of int, shape (P,)
        How many of them are its ring.
    ends : ndarray of int, shape (E, 2)
        Edges within that are kept, by the number of the point within the polygon's.
    ends_start : ndarray of int, shape (P + 1,)

    Returns
    -------
    triangles : ndarray of int64, shape (T, 3)
        By the number of the point within the polygon's.
    starts : ndarray of int, shape (P + 1,)
        Where each polygon's triangles begin.
    failed : ndarray of bool, shape (P,)
        Polygons of which points lie too near each other or edges cross; their triangles mean nothing.

    Raises
    ------
    Cancelled
    """
    counts = ring - 2 + 2 * (np.diff(start) - ring)
    out_start = np.concatenate([[0], np.cumsum(counts)])
    out, failed = np.zeros((out_start[-1], 3), dtype=np.int64), np.zeros(len(ring), dtype=bool)
    state = polled_here()
    in_chunks(
        lambda b, e: _divide_many(points, start, ring, ends, ends_start, out, out_start, failed, b, e, state),
        len(ring),
        500,
    )
    check_here()
    return out, out_start, failed


def _insertion_order(points: np.ndarray) -> np.ndarray:
    """Some points all over first, then twice as many between them, and so on, each lot along a curve that fills space.

    Along the curve alone, points that lie on one line would be fanned from far away (Amenta, Choi and Rote 2003).
    """
    n = len(points)
    along = np.empty(n, dtype=np.int64)
    along[morton_order(np.column_stack([points, np.zeros(n)]))] = np.arange(n)
    lot = np.random.default_rng(0).geometric(0.5, n)
    return np.lexsort((along, -lot))


def constrained_triangles(points: np.ndarray, ends: np.ndarray, inner: np.ndarray | None = None) -> np.ndarray | None:
    """Triangulate what closed polygons enclose (even-odd), using all their vertices and no other.

    Parameters
    ----------
    points : ndarray, shape (N, 2)
        Every one an end of some edge.
    ends : ndarray of int, shape (E, 2)
        The polygons' edges.
    inner : ndarray of int, shape (I, 2), optional
        Further edges to keep, within the polygons. Where there are any, each point may be an end of two edges of
        polygons at most.

    Returns
    -------
    ndarray of int64, shape (T, 3), or None
        Anticlockwise triangles, each of more than no area; None where two points are at one place (to a
        hundred-millionth of the extent), an edge passes through a point, or edges cross.
    """
    n = len(points)
    low = points.min(axis=0)
    extent = float((points.max(axis=0) - low).max())
    if n < 3 or not extent > 0:
        return None
    grid = np.empty((n + 3, 2), dtype=np.int64)
    grid[:n] = np.rint((points - low) * (_GRID / extent)).astype(np.int64)
    far = 2 * _GRID
    grid[n:] = [[-far, -far], [3 * far, -far], [-far, 3 * far]]
    order = _insertion_order(points)
    out = np.empty((2 * n + 8, 3), dtype=np.int64)
    ends = np.ascontiguousarray(ends, dtype=np.int64)
    rings = np.empty((0, 2), dtype=np.int64)
    if inner is not None and len(inner):
        rings = np.full((n + 3, 2), -1, dtype=np.int64)
        rings[ends[:, 0], 0], rings[ends[:, 1], 1] = ends[:, 1], ends[:, 0]
        ends = np.concatenate([ends, np.asarray(inner, dtype=np.int64)])
    count = _triangulate(grid, order, ends, rings, out)
    return out[:count].copy() if count > 0 else None
