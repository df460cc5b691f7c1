"""Exact signs: on which side of a plane a point lies, and whether two triangles meet.

A sign is worked out in floating point first and taken when it is larger than rounding can make it (Shewchuk 1997);
else with expansions, sums of numbers that do not overlap, whose sign is exact. No tolerance decides.
"""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["fold_at_edge", "fold_at_vertex", "has_area", "orientation", "triangles_meet", "volume_of"]

_BOUND_3 = 7.77156117237609e-16  # (7 + 56 eps) eps, eps = 2^-53
_BOUND_2 = 3.33066907387547e-16  # (3 + 16 eps) eps
_SPLITTER = 134217729.0
_SURE = 1e-3
"""Share of its terms from which a sum of products is right to thirteen digits in floating point."""


@kernel
def _two_product(a, b):
    x = a * b
    c = _SPLITTER * a
    ah = c - (c - a)
    al = a - ah
    c = _SPLITTER * b
    bh = c - (c - b)
    bl = b - bh
    return x, al * bl - (((x - ah * bh) - al * bh) - ah * bl)


@kernel
def _add_to(e, n, b):
    """Add a number to an expansion of n parts; returns how many there are."""
    q = b
    m = 0
    for i in range(n):
        x = q + e[i]
        v = x - q
        low = (q - (x - v)) + (e[i] - v)
        q = x
        if low != 0.0:
            e[m] = low
            m += 1
    if q != 0.0 or m == 0:
        e[m] = q
        m += 1
    return m


@kernel
def _difference(a, b):
    x = a - b
    v = a - x
    return x, (a - (x + v)) + (v - b)


@kernel
def _add_triple(e, n, p, q, r):
    """Add the product of three differences, each of two parts (high, low)."""
    for i in range(2):
        for j in range(2):
            high, low = _two_product(p[i], q[j])
            for k in range(2):
                x, y = _two_product(high, r[k])
                n = _add_to(e, n, y)
                n = _add_to(e, n, x)
                x, y = _two_product(low, r[k])
                n = _add_to(e, n, y)
                n = _add_to(e, n, x)
    return n


@kernel
def _negative(p):
    return -p[0], -p[1]


@kernel
def _expanded_3(V, a, b, c, d, e):
    """Six times the volume of a, b, c, d as an expansion; returns how many parts it has."""
    ax, ay, az = _difference(V[a, 0], V[d, 0]), _difference(V[a, 1], V[d, 1]), _difference(V[a, 2], V[d, 2])
    bx, by, bz = _difference(V[b, 0], V[d, 0]), _difference(V[b, 1], V[d, 1]), _difference(V[b, 2], V[d, 2])
    cx, cy, cz = _difference(V[c, 0], V[d, 0]), _difference(V[c, 1], V[d, 1]), _difference(V[c, 2], V[d, 2])
    n = _add_triple(e, 0, ax, by, cz)
    n = _add_triple(e, n, _negative(ax), bz, cy)
    n = _add_triple(e, n, bx, cy, az)
    n = _add_triple(e, n, _negative(bx), cz, ay)
    n = _add_triple(e, n, cx, ay, bz)
    return _add_triple(e, n, _negative(cx), az, by)


@kernel
def _exact_3(V, a, b, c, d):
    e = np.empty(400)
    top = e[_expanded_3(V, a, b, c, d, e) - 1]
    return 1 if top > 0.0 else (-1 if top < 0.0 else 0)


@kernel
def volume_of(V, a, b, c, d):
    """Six times the volume of a, b, c, d, with the sign of `orientation`, right in all but its last digits.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    a, b, c, d : int
        Vertices.
    """
    ax, ay, az = V[a, 0] - V[d, 0], V[a, 1] - V[d, 1], V[a, 2] - V[d, 2]
    bx, by, bz = V[b, 0] - V[d, 0], V[b, 1] - V[d, 1], V[b, 2] - V[d, 2]
    cx, cy, cz = V[c, 0] - V[d, 0], V[c, 1] - V[d, 1], V[c, 2] - V[d, 2]
    bc, cb, ca, ac, ab, ba = by * cz, bz * cy, cy * az, cz * ay, ay * bz, az * by
    det = ax * (bc - cb) + bx * (ca - ac) + cx * (ab - ba)
    bound = (abs(bc) + abs(cb)) * abs(ax) + (abs(ca) + abs(ac)) * abs(bx) + (abs(ab) + abs(ba)) * abs(cx)
    if abs(det) > _SURE * bound:
        return det
    e = np.empty(400)
    n = _expanded_3(V, a, b, c, d, e)
    total = 0.0
    for i in range(n):
        total += e[i]
    return total


@kernel
def orientation(V, a, b, c, d):
    """Sign of the volume of a, b, c, d: 1 where a, b, c run anticlockwise seen from the side d is not on; exact.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    a, b, c, d : int
        Vertices.
    """
    ax, ay, az = V[a, 0] - V[d, 0], V[a, 1] - V[d, 1], V[a, 2] - V[d, 2]
    bx, by, bz = V[b, 0] - V[d, 0], V[b, 1] - V[d, 1], V[b, 2] - V[d, 2]
    cx, cy, cz = V[c, 0] - V[d, 0], V[c, 1] - V[d, 1], V[c, 2] - V[d, 2]
    bc, cb, ca, ac, ab, ba = by * cz, bz * cy, cy * az, cz * ay, ay * bz, az * by
    det = ax * (bc - cb) + bx * (ca - ac) + cx * (ab - ba)
    bound = (abs(bc) + abs(cb)) * abs(ax) + (abs(ca) + abs(ac)) * abs(bx) + (abs(ab) + abs(ba)) * abs(cx)
    if det > _BOUND_3 * bound:
        return 1
    if det < -_BOUND_3 * bound:
        return -1
    if bound == 0.0:
        return 0
    return _exact_3(V, a, b, c, d)


@kernel
def _exact_2(V, a, b, c, i, j):
    e = np.empty(64)
    ax, ay = _difference(V[a, i], V[c, i]), _difference(V[a, j], V[c, j])
    bx, by = _difference(V[b, i], V[c, i]), _difference(V[b, j], V[c, j])
    n = 0
    for k in range(2):
        for m in range(2):
            x, y = _two_product(ax[k], by[m])
            n = _add_to(e, n, y)
            n = _add_to(e, n, x)
            x, y = _two_product(-ay[k], bx[m])
            n = _add_to(e, n, y)
            n = _add_to(e, n, x)
    top = e[n - 1]
    return 1 if top > 0.0 else (-1 if top < 0.0 else 0)


@kernel
def _orientation_2(V, a, b, c, i, j):
    """Sign of the area of a, b, c seen along the third axis; exact."""
    left = (V[a, i] - V[c, i]) * (V[b, j] - V[c, j])
    right = (V[a, j] - V[c, j]) * (V[b, i] - V[c, i])
    det = left - right
    bound = abs(left) + abs(right)
    if det > _BOUND_2 * bound:
        return 1
    if det < -_BOUND_2 * bound:
        return -1
    if bound == 0.0:
        return 0
    return _exact_2(V, a, b, c, i, j)


@kernel
def _between(V, a, b, c, i, j):
    """Whether c, on the line through a and b, lies between them."""
    return min(V[a, i], V[b, i]) <= V[c, i] <= max(V[a, i], V[b, i]) and (
        min(V[a, j], V[b, j]) <= V[c, j] <= max(V[a, j], V[b, j])
    )


@kernel
def _segments_meet(V, a, b, c, d, i, j):
    s1, s2 = _orientation_2(V, a, b, c, i, j), _orientation_2(V, a, b, d, i, j)
    s3, s4 = _orientation_2(V, c, d, a, i, j), _orientation_2(V, c, d, b, i, j)
    if s1 * s2 < 0 and s3 * s4 < 0:
        return True
    return (
        (s1 == 0 and _between(V, a, b, c, i, j))
        or (s2 == 0 and _between(V, a, b, d, i, j))
        or (s3 == 0 and _between(V, c, d, a, i, j))
        or (s4 == 0 and _between(V, c, d, b, i, j))
    )


@kernel
def _holds(V, p, q, r, a, i, j):
    """Whether a triangle holds a point of its plane, its border included."""
    s1, s2, s3 = (
        _orientation_2(V, p, q, a, i, j), _orientation_2(V, q, r, a, i, j), _orientation_2(V, r, p, a, i, j)
    )  # fmt: skip
    return (s1 >= 0 and s2 >= 0 and s3 >= 0) or (s1 <= 0 and s2 <= 0 and s3 <= 0)


@kernel
def _axes(V, p, q, r):
    """The two axes along which a triangle is seen widest."""
    ux, uy, uz = V[q, 0] - V[p, 0], V[q, 1] - V[p, 1], V[q, 2] - V[p, 2]
    wx, wy, wz = V[r, 0] - V[p, 0], V[r, 1] - V[p, 1], V[r, 2] - V[p, 2]
    nx, ny, nz = abs(uy * wz - uz * wy), abs(uz * wx - ux * wz), abs(ux * wy - uy * wx)
    i, j = (1, 2) if nx >= ny and nx >= nz else ((2, 0) if ny >= nz else (0, 1))
    for _ in range(3):  # a sliver's normal may be lost in rounding
        if _orientation_2(V, p, q, r, i, j) != 0:
            break
        i, j = j, 3 - i - j
    return i, j


@kernel
def has_area(V, a, b, c):
    """Whether three points do not lie on a line; exact.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    a, b, c : int
        Vertices.
    """
    return (
        _orientation_2(V, a, b, c, 0, 1) != 0
        or _orientation_2(V, a, b, c, 1, 2) != 0
        or _orientation_2(V, a, b, c, 2, 0) != 0
    )


@kernel
def _segment_meets(V, a, b, sa, sb, p, q, r):
    """Whether a segment meets a triangle, of whose plane its ends lie on the sides sa and sb."""
    if sa * sb > 0:
        return False
    if sa == 0 and sb == 0:
        i, j = _axes(V, p, q, r)
        if _holds(V, p, q, r, a, i, j):
            return True
        return (
            _segments_meet(V, a, b, p, q, i, j) or _segments_meet(V, a, b, q, r, i, j)
            or _segments_meet(V, a, b, r, p, i, j)
        )  # fmt: skip
    s1, s2, s3 = orientation(V, a, b, p, q), orientation(V, a, b, q, r), orientation(V, a, b, r, p)
    return not ((s1 > 0 or s2 > 0 or s3 > 0) and (s1 < 0 or s2 < 0 or s3 < 0))


@kernel
def triangles_meet(V, a, b, c, p, q, r):
    """Whether two triangles of some area have a point in common; exact, lying in one plane or touching included.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    a, b, c, p, q, r : int
        Vertices.
    """
    sa, sb, sc = orientation(V, p, q, r, a), orientation(V, p, q, r, b), orientation(V, p, q, r, c)
    if (sa > 0 and sb > 0 and sc > 0) or (sa < 0 and sb < 0 and sc < 0):
        return False
    sp, sq, sr = orientation(V, a, b, c, p), orientation(V, a, b, c, q), orientation(V, a, b, c, r)
    if (sp > 0 and sq > 0 and sr > 0) or (sp < 0 and sq < 0 and sr < 0):
        return False
    return (
        _segment_meets(V, a, b, sa, sb, p, q, r)
        or _segment_meets(V, b, c, sb, sc, p, q, r)
        or _segment_meets(V, c, a, sc, sa, p, q, r)
        or _segment_meets(V, p, q, sp, sq, a, b, c)
        or _segment_meets(V, q, r, sq, sr, a, b, c)
        or _segment_meets(V, r, p, sr, sp, a, b, c)
    )


@kernel
def fold_at_edge(V, a, b, c, d):
    """Whether two triangles of some area over a common edge ab, with the corners c and d, lie on one another; exact.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    a, b, c, d : int
        Vertices.
    """
    if orientation(V, a, b, c, d) != 0:
        return False
    i, j = _axes(V, a, b, c)
    return _orientation_2(V, a, b, c, i, j) == _orientation_2(V, a, b, d, i, j)


@kernel
def fold_at_vertex(V, v, a, b, p, q):
    """Whether two triangles of some area, v a b and v p q, have more in common than their vertex v; exact.

    What they have in common is convex and holds v: where it is more, it ends on a side that lies across from v.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    v : int
        The common vertex.
    a, b, p, q : int
        Vertices.
    """
    sa, sb = orientation(V, v, p, q, a), orientation(V, v, p, q, b)
    if _segment_meets(V, a, b, sa, sb, v, p, q):
        return True
    sp, sq = orientation(V, v, a, b, p), orientation(V, v, a, b, q)
    return _segment_meets(V, p, q, sp, sq, v, a, b)
