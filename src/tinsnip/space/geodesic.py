"""Shortest ways over a surface, straight across its triangles.

A way along edges is found first, by A*; the strip of triangles beside it is laid flat and the shortest way through it
pulled tight (a funnel: Lee and Preparata 1984). Wherever that still bends about a vertex whose other side is shorter,
the strip is led round the other side, until no bend is left to improve (Xin and Wang 2007): then it is a geodesic, a
way than which none near it is shorter, whatever the triangulation.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["Path", "shortest_path"]

_SWEEPS = 400
"""Rounds after which a way counts as straight enough."""
_STRAIGHT = 1e-9
"""Radians by which a way may bend at a vertex and be straight, for rounding."""
_HAIR = 1e-10
"""Share by which an end is drawn within its triangle."""


class Path(NamedTuple):
    """A way over the surface.

    Attributes
    ----------
    halfedges : ndarray of int64, shape (N,)
        The half-edges it leaves triangles by, in order.
    shares : ndarray, shape (N,)
        Where it crosses each: how far from its own beginning.
    length : float
        mm.
    """

    halfedges: np.ndarray
    shares: np.ndarray
    length: float


@kernel
def _passable(faces, twins, h):
    """The half-edge across an edge that two triangles share, wound alike; -1 for any other edge."""
    t = twins[h]
    if t < 0:
        return -1
    a = faces[h // 3, h % 3]
    if faces[t // 3, (t % 3 + 1) % 3] != a:
        return -1
    return t


@kernel
def _push(heap, keys, size, key, item):
    i = size
    while i > 0:
        up = (i - 1) // 2
        if keys[up] <= key:
            break
        keys[i], heap[i] = keys[up], heap[up]
        i = up
    keys[i], heap[i] = key, item
    return size + 1


@kernel
def _pop(heap, keys, size):
    top = heap[0]
    size -= 1
    key, item = keys[size], heap[size]
    i = 0
    while True:
        k = 2 * i + 1
        if k >= size:
            break
        if k + 1 < size and keys[k + 1] < keys[k]:
            k += 1
        if keys[k] >= key:
            break
        keys[i], heap[i] = keys[k], heap[k]
        i = k
    keys[i], heap[i] = key, item
    return top, size


@kernel
def _strip_between(vertices, faces, twins, source, goal, start, target, reached, came, spot, strip, state):
    """A strip of triangles from one to another by A* over edges; the half-edges it leaves them by.

    Each edge is crossed where the way on to the target would be shortest, were the surface flat from there on. Returns
    how many there are, or -1 when there is no way; -2 when `strip` is too short. `reached` (inf), `came` (-1) and
    `spot` hold one number a half-edge.
    """
    heap, keys = np.empty(4096, np.int64), np.empty(4096)
    size = 0
    here, there = np.empty(3), np.empty(3)
    last, best = -1, np.inf
    popped = 0
    f, at, far = source, -1, 0.0
    for k in range(3):
        here[k] = start[k]
    while True:
        for k in range(3):
            h = 3 * f + k
            if at >= 0 and h == twins[at]:
                continue
            t = _passable(faces, twins, h)
            if t < 0:
                continue
            share = _crossing(vertices, faces, h, here, target, there)
            step = np.sqrt((here[0] - there[0]) ** 2 + (here[1] - there[1]) ** 2 + (here[2] - there[2]) ** 2)
            if far + step >= reached[h]:
                continue
            reached[h], came[h], spot[h] = far + step, at, share
            rest = np.sqrt((target[0] - there[0]) ** 2 + (target[1] - there[1]) ** 2 + (target[2] - there[2]) ** 2)
            if t // 3 == goal and far + step + rest < best:
                best, last = far + step + rest, h
            if size == len(heap):
                bigger, more = np.empty(2 * size, np.int64), np.empty(2 * size)
                for i in range(size):
                    bigger[i], more[i] = heap[i], keys[i]
                heap, keys = bigger, more
            size = _push(heap, keys, size, far + step + rest, h)
        if size == 0 or keys[0] >= best:
            break
        at, size = _pop(heap, keys, size)
        popped += 1
        if popped % 65536 == 0 and state[0]:
            return -1
        f, far = twins[at] // 3, reached[at]
        a, b = faces[at // 3, at % 3], faces[at // 3, (at % 3 + 1) % 3]
        for k in range(3):
            here[k] = vertices[a, k] + spot[at] * (vertices[b, k] - vertices[a, k])
    if last < 0:
        return -1
    count, h = 0, last
    while h >= 0:
        if count == len(strip):
            return -2
        strip[count] = h
        count += 1
        h = came[h]
    for i in range(count // 2):
        strip[i], strip[count - 1 - i] = strip[count - 1 - i], strip[i]
    return count


@kernel
def _crossing(V, faces, h, p, t, out):
    """The place on an edge over which the way from p to t is shortest, laid flat; its share along the edge."""
    a, b = faces[h // 3, h % 3], faces[h // 3, (h % 3 + 1) % 3]
    long = dot_p = dot_t = 0.0
    for k in range(3):
        e = V[b, k] - V[a, k]
        long += e * e
        dot_p += e * (p[k] - V[a, k])
        dot_t += e * (t[k] - V[a, k])
    share = 0.5
    if long > 0.0:
        sp, st = dot_p / long, dot_t / long
        off_p = off_t = 0.0
        for k in range(3):
            e = V[b, k] - V[a, k]
            off_p += (p[k] - V[a, k] - sp * e) ** 2
            off_t += (t[k] - V[a, k] - st * e) ** 2
        off_p, off_t = np.sqrt(off_p), np.sqrt(off_t)
        share = (sp * off_t + st * off_p) / (off_p + off_t) if off_p + off_t > 0.0 else sp
        share = min(max(share, 0.02), 0.98)
    for k in range(3):
        out[k] = V[a, k] + share * (V[b, k] - V[a, k])
    return share


@kernel
def _dist(V, a, b):
    return np.sqrt((V[a, 0] - V[b, 0]) ** 2 + (V[a, 1] - V[b, 1]) ** 2 + (V[a, 2] - V[b, 2]) ** 2)


@kernel
def _third(ax, ay, bx, by, la, lb, length):
    """Where a triangle's third corner lies flat, right of the way from a to b, by its distances from both."""
    if length == 0.0:
        return ax, ay
    x = (la * la - lb * lb + length * length) / (2.0 * length)
    y = np.sqrt(max(la * la - x * x, 0.0))
    ux, uy = (bx - ax) / length, (by - ay) / length
    return ax + x * ux + y * uy, ay + x * uy - y * ux


@kernel
def _corner_at(faces, f, v):
    for k in range(3):
        if faces[f, k] == v:
            return k
    return -1


@kernel
def _lay_flat(V, faces, strip, count, begin_uv, end_uv, left, right, ends):
    """Lay a strip flat: the two ends of each edge it crosses, and where it begins and ends."""
    f = strip[0] // 3
    a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
    corner = np.zeros((3, 2))
    ab, ac, bc = _dist(V, a, b), _dist(V, a, c), _dist(V, b, c)
    corner[1, 0] = ab
    # anticlockwise: the third corner lies left of the way from the first to the second
    x, y = _third(0.0, 0.0, ab, 0.0, ac, bc, ab)
    corner[2, 0], corner[2, 1] = x, -y
    for k in range(2):
        ends[0, k] = (
            (1.0 - begin_uv[0] - begin_uv[1]) * corner[0, k] + begin_uv[0] * corner[1, k] + begin_uv[1] * corner[2, k]
        )
    for i in range(count):
        h = strip[i]
        k = h % 3
        right[i, 0], right[i, 1] = corner[k, 0], corner[k, 1]
        left[i, 0], left[i, 1] = corner[(k + 1) % 3, 0], corner[(k + 1) % 3, 1]
        f = h // 3
        p, q = faces[f, k], faces[f, (k + 1) % 3]
        g = strip[i + 1] // 3
        # in the next triangle q and p follow each other, then comes the far corner
        j = _corner_at(faces, g, q)
        if faces[g, (j + 1) % 3] != p:  # a triangle that has the edge twice over
            j = (j + 1) % 3
        far = faces[g, (j + 2) % 3]
        length = _dist(V, p, q)
        x, y = _third(right[i, 0], right[i, 1], left[i, 0], left[i, 1], _dist(V, p, far), _dist(V, q, far), length)
        corner[j, 0], corner[j, 1] = left[i, 0], left[i, 1]
        corner[(j + 1) % 3, 0], corner[(j + 1) % 3, 1] = right[i, 0], right[i, 1]
        corner[(j + 2) % 3, 0], corner[(j + 2) % 3, 1] = x, y
    for k in range(2):
        ends[1, k] = (1.0 - end_uv[0] - end_uv[1]) * corner[0, k] + end_uv[0] * corner[1, k] + end_uv[1] * corner[2, k]


@kernel
def _area(ax, ay, bx, by, cx, cy):
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@kernel
def _pull_tight(left, right, ends, count, bend_at, bend_side):
    """The bends of the shortest way through a strip laid flat: the edge at which each lies, and its side; how many.

    The funnel is kept whole, as a line from its left end over the apex to its right end, and every turn is told from
    neighbours on it, so that a strip may wind over itself.
    """
    room = 2 * count + 4
    px, py = np.empty(room), np.empty(room)
    parent, at, side = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.int8)
    line = np.empty(2 * room + 2, np.int64)
    px[0], py[0], parent[0], at[0] = ends[0, 0], ends[0, 1], -1, -1
    lo = hi = apex = room
    line[room] = 0
    n = 1
    for i in range(count + 1):
        for s in range(2):
            if i == count:
                if s == 1:
                    continue
                x, y = ends[1, 0], ends[1, 1]
            elif s == 0:
                x, y = right[i, 0], right[i, 1]
                if i > 0 and right[i - 1, 0] == x and right[i - 1, 1] == y:
                    continue
            else:
                x, y = left[i, 0], left[i, 1]
                if i > 0 and left[i - 1, 0] == x and left[i - 1, 1] == y:
                    continue
            px[n], py[n], at[n], side[n] = x, y, i, s
            if s == 0:
                while hi > apex:
                    u, v = line[hi - 1], line[hi]
                    if _area(px[u], py[u], px[v], py[v], x, y) < 0.0:
                        break
                    hi -= 1
                if hi == apex:
                    while apex > lo:
                        v, w = line[apex], line[apex - 1]
                        if _area(px[v], py[v], px[w], py[w], x, y) <= 0.0:
                            break
                        apex -= 1
                    hi = apex
                parent[n] = line[hi]
                hi += 1
                line[hi] = n
            else:
                while lo < apex:
                    u, v = line[lo + 1], line[lo]
                    if _area(px[u], py[u], px[v], py[v], x, y) > 0.0:
                        break
                    lo += 1
                if lo == apex:
                    while apex < hi:
                        v, w = line[apex], line[apex + 1]
                        if _area(px[v], py[v], px[w], py[w], x, y) >= 0.0:
                            break
                        apex += 1
                    lo = apex
                parent[n] = line[lo]
                lo -= 1
                line[lo] = n
            n += 1
    bends, v = 0, parent[n - 1]
    while v > 0:
        bend_at[bends], bend_side[bends] = at[v], side[v]
        bends += 1
        v = parent[v]
    for i in range(bends // 2):
        j = bends - 1 - i
        bend_at[i], bend_at[j] = bend_at[j], bend_at[i]
        bend_side[i], bend_side[j] = bend_side[j], bend_side[i]
    return bends


@kernel
def _angle_between(V, v, a, b):
    ux, uy, uz = V[a, 0] - V[v, 0], V[a, 1] - V[v, 1], V[a, 2] - V[v, 2]
    wx, wy, wz = V[b, 0] - V[v, 0], V[b, 1] - V[v, 1], V[b, 2] - V[v, 2]
    cx, cy, cz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    return np.arctan2(np.sqrt(cx * cx + cy * cy + cz * cz), ux * wx + uy * wy + uz * wz)


@kernel
def _round_other(V, faces, twins, f, g, v, is_left, out, room):
    """The half-edges from triangle f to g round v on the other side, and the angle about v between all its triangles.

    The strip has v on its left (or right); on the other side v is on its right. Returns how many, -1 where an open or
    tangled edge bars the way; and the full angle about v, 0 where it is not closed.
    """
    n = 0
    at = f
    total = 0.0
    # once round v beginning in f, leaving each triangle so that v stays on the right (or left) of the way
    count = -1
    for _ in range(room):
        k = _corner_at(faces, at, v)
        if k < 0:
            return -1, 0.0
        total += _angle_between(V, v, faces[at, (k + 1) % 3], faces[at, (k + 2) % 3])
        # v on the right of an edge that is crossed outward: v is where it begins
        h = 3 * at + (k if is_left else (k + 2) % 3)
        t = _passable(faces, twins, h)
        if t < 0:
            return -1, 0.0
        if count < 0:
            if n >= room:
                return -1, 0.0
            out[n] = h
            n += 1
        at = t // 3
        if at == g and count < 0:
            count = n
        if at == f:
            break
    return count, total


@kernel
def _shorten(V, faces, twins, strip, count, begin_uv, end_uv, fresh):
    """Lead a strip round vertices where that straightens the way through it; edges of the one in `fresh`, or -1: none.

    Strips come with the triangle they end in as one more half-edge.
    """
    left, right, ends = np.empty((count + 1, 2)), np.empty((count + 1, 2)), np.empty((2, 2))
    _lay_flat(V, faces, strip, count, begin_uv, end_uv, left, right, ends)
    bend_at, bend_side = np.empty(count + 2, np.int64), np.empty(count + 2, np.int8)
    bends = _pull_tight(left, right, ends, count, bend_at, bend_side)
    n, copied, changed = 0, 0, 0
    other = np.empty(4096, np.int64)
    for b in range(bends):
        i, is_left = bend_at[b], bend_side[b] == 1
        h = strip[i]
        v = faces[h // 3, (h % 3 + 1) % 3] if is_left else faces[h // 3, h % 3]
        # all edges that the strip crosses at this vertex
        low = i
        while low > 0 and _has(faces, strip[low - 1], v, is_left):
            low -= 1
        high = i
        while high + 1 < count and _has(faces, strip[high + 1], v, is_left):
            high += 1
        if low < copied:
            continue
        x, y = (left[i, 0], left[i, 1]) if is_left else (right[i, 0], right[i, 1])
        if b > 0:
            j = bend_at[b - 1]
            px, py = (left[j, 0], left[j, 1]) if bend_side[b - 1] == 1 else (right[j, 0], right[j, 1])
        else:
            px, py = ends[0, 0], ends[0, 1]
        if b + 1 < bends:
            j = bend_at[b + 1]
            qx, qy = (left[j, 0], left[j, 1]) if bend_side[b + 1] == 1 else (right[j, 0], right[j, 1])
        else:
            qx, qy = ends[1, 0], ends[1, 1]
        turn = abs(np.arctan2(_area(px, py, x, y, qx, qy), (x - px) * (qx - x) + (y - py) * (qy - y)))
        f, g = strip[low] // 3, strip[high + 1] // 3
        if f == g:
            continue
        rounds, total = _round_other(V, faces, twins, f, g, v, is_left, other, 4000)
        if rounds < 0 or total - (np.pi + turn) >= np.pi - _STRAIGHT:
            continue
        if n + (low - copied) + rounds + (count - high) + 8 > len(fresh):
            break
        for j in range(copied, low):
            fresh[n] = strip[j]
            n += 1
        for j in range(rounds):
            fresh[n] = other[j]
            n += 1
        copied = high + 1
        changed += 1
    if changed == 0:
        return -1
    for j in range(copied, count + 1):
        fresh[n] = strip[j]
        n += 1
    # a way out and back over the same edge leads nowhere
    m = 0
    for j in range(n - 1):
        if m > 0 and _passable(faces, twins, fresh[m - 1]) == fresh[j]:
            m -= 1
        else:
            fresh[m] = fresh[j]
            m += 1
    fresh[m] = fresh[n - 1]
    return m


@kernel
def _has(faces, h, v, is_left):
    f, k = h // 3, h % 3
    return (faces[f, (k + 1) % 3] if is_left else faces[f, k]) == v


@kernel
def _shares(V, faces, strip, count, begin_uv, end_uv, out):
    """Where the shortest way through a strip crosses each edge, from the edge's beginning; returns its length."""
    left, right, ends = np.empty((count + 1, 2)), np.empty((count + 1, 2)), np.empty((2, 2))
    _lay_flat(V, faces, strip, count, begin_uv, end_uv, left, right, ends)
    bend_at, bend_side = np.empty(count + 2, np.int64), np.empty(count + 2, np.int8)
    bends = _pull_tight(left, right, ends, count, bend_at, bend_side)
    px, py = ends[0, 0], ends[0, 1]
    length = 0.0
    i = 0
    for b in range(bends + 1):
        if b < bends:
            j = bend_at[b]
            qx, qy = (left[j, 0], left[j, 1]) if bend_side[b] == 1 else (right[j, 0], right[j, 1])
            stop = j + 1
        else:
            qx, qy = ends[1, 0], ends[1, 1]
            stop = count
        length += np.sqrt((qx - px) ** 2 + (qy - py) ** 2)
        while i < stop:
            s = _area(px, py, qx, qy, right[i, 0], right[i, 1])
            t = _area(px, py, qx, qy, left[i, 0], left[i, 1])
            out[i] = min(max(s / (s - t), 0.0), 1.0) if s != t else 0.5
            if b < bends and left[i, 0] == qx and left[i, 1] == qy and bend_side[b] == 1:
                out[i] = 1.0
            elif b < bends and right[i, 0] == qx and right[i, 1] == qy and bend_side[b] == 0:
                out[i] = 0.0
            i += 1
        if b < bends:  # the edges after the bend that end in it
            is_left = bend_side[b] == 1
            while i < count:
                x, y = (left[i, 0], left[i, 1]) if is_left else (right[i, 0], right[i, 1])
                if x != qx or y != qy:
                    break
                out[i] = 1.0 if is_left else 0.0
                i += 1
        px, py = qx, qy
    return length


def shortest_path(
    vertices: np.ndarray,
    faces: np.ndarray,
    twins: np.ndarray,
    start: tuple[int, np.ndarray],
    end: tuple[int, np.ndarray],
    state: np.ndarray,
) -> Path | None:
    """A shortest way over the surface between two places on it.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
    start, end : (int, ndarray of shape (2,))
        A triangle, and shares of its second and third corner.
    state : ndarray
        Progress and cancelling.

    Returns
    -------
    Path or None
        None where no way leads from one to the other.
    """
    (source, begin_uv), (goal, end_uv) = start, end
    # a hair within the triangle: on its very edge no side could be told
    begin_uv, end_uv = ((1 - _HAIR) * np.asarray(uv, dtype=float) + _HAIR / 3 for uv in (begin_uv, end_uv))

    def place(face: int, uv: np.ndarray) -> np.ndarray:
        return np.array([1 - uv[0] - uv[1], uv[0], uv[1]]) @ vertices[faces[face]]

    a, b = place(source, begin_uv), place(goal, end_uv)
    if source == goal:
        return Path(np.zeros(0, dtype=np.int64), np.zeros(0), float(np.linalg.norm(a - b)))
    reached, came = np.full(3 * len(faces), np.inf), np.full(3 * len(faces), -1, dtype=np.int32)
    spot = np.empty(3 * len(faces))
    strip = np.empty(len(faces) + 1, dtype=np.int64)
    count = _strip_between(vertices, faces, twins, source, goal, a, b, reached, came, spot, strip, state)
    if count < 0:
        return None
    strip = strip[: count + 1].copy()
    strip[count] = 3 * goal
    for _ in range(_SWEEPS):
        fresh = np.empty(2 * count + 4096, dtype=np.int64)
        fewer = _shorten(vertices, faces, twins, strip, count, begin_uv, end_uv, fresh)
        if fewer < 0:
            break
        strip, count = fresh[: fewer + 1], fewer
        if count == 0 or state[0]:
            break
    shares = np.empty(count)
    length = _shares(vertices, faces, strip, count, begin_uv, end_uv, shares) if count else float(np.linalg.norm(a - b))
    return Path(strip[:count].copy(), shares, float(length))
