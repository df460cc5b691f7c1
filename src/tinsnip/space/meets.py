"""Where the triangles of two surfaces meet: points and pieces of line, told by names that no rounding can part.

A point is named after what makes it: a vertex, an edge that goes through a triangle, or two edges. Whether and in which
order things meet is told by the signs of volumes of tetrahedra alone, which are exact (Guigue and Devillers 2003).
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.predicates import orientation, volume_of
from tinsnip.threads import in_chunks

__all__ = ["FLAT", "Meets", "meets_of"]

_WITHIN = 6
"""The place of a point that is neither at a corner of a triangle, 3 to 5, nor on a side, 0 to 2, but within it."""
FLAT = 3
_PART = 2_000
"""Pairs that a thread takes at once."""


class Meets(NamedTuple):
    """What pairs of triangles have in common.

    Attributes
    ----------
    kind : ndarray of int8, shape (P,)
        0: nothing; 1: a point; 2: a piece of line; `FLAT`: they lie in one plane.
    names : ndarray of int64, shape (P, 2, 4)
        The two ends: ``(v, -1, -1, -1)`` for a vertex, ``(a, b, f, -1)`` for the edge a, b through triangle f, and
        ``(a, b, c, d)`` for two edges, the first surface's first; the lower end of an edge comes first. Lines run
        along the normal of the first triangle, times that of the second.
    places : ndarray of int8, shape (P, 2, 2)
        Where each end lies on the first triangle, and on the second: 0 to 2 within a side, 3 to 5 at a corner, 6
        within the triangle.
    shares : ndarray, shape (P, 2, 2)
        How far along that side, from its lower end, where it is one.
    at : ndarray, shape (P, 2, 3)
        Where each end is, to rounding.
    along : ndarray of bool, shape (P, 2)
        Whether the line runs along a side of the first triangle, and of the second.
    """

    kind: np.ndarray
    names: np.ndarray
    places: np.ndarray
    shares: np.ndarray
    at: np.ndarray
    along: np.ndarray


@kernel
def _ends(s):
    """Where the border of a triangle meets a plane: the place where it comes out in front of it, and the other.

    With the triangle seen from its own front, the line from the first to the second runs along its normal, times that
    of the plane.
    """
    zeros = (s[0] == 0) + (s[1] == 0) + (s[2] == 0)
    if zeros == 0:
        start, end = -1, -1
        for k in range(3):
            if s[k] < 0 and s[(k + 1) % 3] > 0:
                start = k
            elif s[k] > 0 and s[(k + 1) % 3] < 0:
                end = k
        return start, end
    if zeros == 1:
        k = 0 if s[0] == 0 else (1 if s[1] == 0 else 2)
        one, other = s[(k + 1) % 3], s[(k + 2) % 3]
        if one * other > 0:
            return 3 + k, 3 + k
        return ((k + 1) % 3, 3 + k) if one < 0 else (3 + k, (k + 1) % 3)
    k = 0 if s[0] != 0 else (1 if s[1] != 0 else 2)
    one, other = 3 + (k + 1) % 3, 3 + (k + 2) % 3
    return (other, one) if s[k] > 0 else (one, other)


@kernel
def _carrier(c, s, place):
    """A side through a place, from behind the other plane to the front."""
    if place < 3:
        a, b = c[place], c[(place + 1) % 3]
        return (a, b) if s[place] < 0 else (b, a)
    k = place - 3
    o = (k + 1) % 3 if s[(k + 1) % 3] != 0 else (k + 2) % 3
    return (c[k], c[o]) if s[o] > 0 else (c[o], c[k])


@kernel
def _order(V, c, s, place, d, t, other):
    """Whether a place of the one triangle comes before (-1), with (0) or after (1) one of the other."""
    a, b = _carrier(c, s, place)
    p, q = _carrier(d, t, other)
    return orientation(V, a, b, p, q)


@kernel
def _middle(s):
    """The place of what lies between the two ends: a side where the triangle lies along the plane, or within."""
    if (s[0] == 0) + (s[1] == 0) + (s[2] == 0) < 2:
        return 6
    return 1 if s[0] != 0 else (2 if s[1] != 0 else 0)


@kernel
def _share(V, a, b, p, q, r):
    """How far from a to b the plane through p, q, r is."""
    one, other = volume_of(V, p, q, r, a), volume_of(V, p, q, r, b)
    return one / (one - other)


@kernel
def _put(V, a, b, share, at, i, e):
    """Where that is; reckoned from the nearer end."""
    for k in range(3):
        x, y = V[a, k], V[b, k]
        at[i, e, k] = x + share * (y - x) if share <= 0.5 else y - (1.0 - share) * (y - x)


@kernel
def _share_at(V, a, b, at, i, e):
    """How far from a to b a point on the line is."""
    k = 0
    for j in range(1, 3):
        if abs(V[b, j] - V[a, j]) > abs(V[b, k] - V[a, k]):
            k = j
    return (at[i, e, k] - V[a, k]) / (V[b, k] - V[a, k])


@kernel
def _name(V, c, d, f, g, place, other, f_along, g_along, names, places, shares, at, i, e):
    """Write down an end of what two triangles have in common."""
    places[i, e, 0], places[i, e, 1] = place, other
    a, b, p, q = -1, -1, -1, -1
    if place < 3:
        a, b = c[place], c[(place + 1) % 3]
        a, b = min(a, b), max(a, b)
    if other < 3:
        p, q = d[other], d[(other + 1) % 3]
        p, q = min(p, q), max(p, q)
    v = c[place - 3] if 3 <= place < 6 else (d[other - 3] if 3 <= other < 6 else -1)
    if v >= 0:
        names[i, e, 0] = v
        for k in range(3):
            at[i, e, k] = V[v, k]
        if place < 3:
            shares[i, e, 0] = _share_at(V, a, b, at, i, e)
        if other < 3:
            shares[i, e, 1] = _share_at(V, p, q, at, i, e)
    elif place < 3 and other < 3:
        names[i, e, 0], names[i, e, 1], names[i, e, 2], names[i, e, 3] = a, b, p, q
        if f_along:  # its plane holds the other triangle's side, which parts nothing
            shares[i, e, 1] = _share(V, p, q, c[0], c[1], c[2])
            _put(V, p, q, shares[i, e, 1], at, i, e)
            shares[i, e, 0] = _share_at(V, a, b, at, i, e)
        else:
            shares[i, e, 0] = _share(V, a, b, d[0], d[1], d[2])
            _put(V, a, b, shares[i, e, 0], at, i, e)
            shares[i, e, 1] = _share_at(V, p, q, at, i, e) if g_along else _share(V, p, q, c[0], c[1], c[2])
    elif place < 3:
        names[i, e, 0], names[i, e, 1], names[i, e, 2] = a, b, g
        shares[i, e, 0] = _share(V, a, b, d[0], d[1], d[2])
        _put(V, a, b, shares[i, e, 0], at, i, e)
    else:
        names[i, e, 0], names[i, e, 1], names[i, e, 2] = p, q, f
        shares[i, e, 1] = _share(V, p, q, c[0], c[1], c[2])
        _put(V, p, q, shares[i, e, 1], at, i, e)


@kernel
def _meet(V, faces, pairs, kind, names, places, shares, at, along, begin, end, state):
    for i in range(begin, end):
        if i % 1024 == 0 and state[0]:
            return
        f, g = pairs[i, 0], pairs[i, 1]
        c = (np.int64(faces[f, 0]), np.int64(faces[f, 1]), np.int64(faces[f, 2]))
        d = (np.int64(faces[g, 0]), np.int64(faces[g, 1]), np.int64(faces[g, 2]))
        s = (
            -orientation(V, d[0], d[1], d[2], c[0]), -orientation(V, d[0], d[1], d[2], c[1]),
            -orientation(V, d[0], d[1], d[2], c[2]),
        )  # fmt: skip
        if s[0] == 0 and s[1] == 0 and s[2] == 0:
            kind[i] = 3
            continue
        t = (
            -orientation(V, c[0], c[1], c[2], d[0]), -orientation(V, c[0], c[1], c[2], d[1]),
            -orientation(V, c[0], c[1], c[2], d[2]),
        )  # fmt: skip
        if min(s[0], s[1], s[2]) > 0 or max(s[0], s[1], s[2]) < 0 or min(t[0], t[1], t[2]) > 0:
            continue
        if max(t[0], t[1], t[2]) < 0:
            continue
        f_start, f_end = _ends(s)
        g_end, g_start = _ends(t)  # seen from the other one, the line runs the other way
        first = _order(V, c, s, f_start, d, t, g_start)
        if first > 0:
            last = _order(V, c, s, f_start, d, t, g_end)
            if last > 0:
                continue
            start = (f_start, g_end if last == 0 else _middle(t))
        elif first < 0:
            last = _order(V, c, s, f_end, d, t, g_start)
            if last < 0:
                continue
            start = (f_end if last == 0 else _middle(s), g_start)
        else:
            start = (f_start, g_start)
        first = _order(V, c, s, f_end, d, t, g_end)
        if first < 0:
            last = _order(V, c, s, f_end, d, t, g_start)
            stop = (f_end, g_start if last == 0 else _middle(t))
        elif first > 0:
            last = _order(V, c, s, f_start, d, t, g_end)
            stop = (f_start if last == 0 else _middle(s), g_end)
        else:
            stop = (f_end, g_end)
        f_along, g_along = _middle(s) < 3, _middle(t) < 3
        _name(V, c, d, f, g, start[0], start[1], f_along, g_along, names, places, shares, at, i, 0)
        _name(V, c, d, f, g, stop[0], stop[1], f_along, g_along, names, places, shares, at, i, 1)
        same = True
        for k in range(4):
            same = same and names[i, 0, k] == names[i, 1, k]
        kind[i] = 1 if same else 2
        along[i, 0], along[i, 1] = f_along, g_along


def meets_of(vertices: np.ndarray, faces: np.ndarray, pairs: np.ndarray) -> Meets:
    """Tell what pairs of triangles have in common.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Of some area each. Vertices at one place bear one number, if both surfaces have one there.
    pairs : ndarray of int, shape (P, 2)
        A triangle of the first surface and one of the second.

    Returns
    -------
    Meets

    Raises
    ------
    Cancelled
    """
    count = len(pairs)
    pairs = np.ascontiguousarray(pairs, dtype=np.int32)
    kind, names = np.zeros(count, dtype=np.int8), np.full((count, 2, 4), -1, dtype=np.int64)
    places, shares = np.full((count, 2, 2), _WITHIN, dtype=np.int8), np.zeros((count, 2, 2))
    at, along, state = np.zeros((count, 2, 3)), np.zeros((count, 2), dtype=bool), polled_here()
    in_chunks(
        lambda b, e: _meet(vertices, faces, pairs, kind, names, places, shares, at, along, b, e, state), count, _PART
    )
    check_here()
    return Meets(kind, names, places, shares, at, along)
