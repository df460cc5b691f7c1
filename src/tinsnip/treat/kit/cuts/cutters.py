"""Cutters: bodies with a smooth or cornered wall, and where their wall meets the edges of a mesh.

Each has a frame of its own: a cylinder stands on its z axis, a box has its sides square to its axes, an outline lies in
the x y plane and runs along z without end. A round body or a box is reckoned with larger by a hair, so that vertices
exactly on its wall count as inside and no edge along the wall is crossed; an outline a hair aside.
"""

from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import ABSENT, RING
from tinsnip.progress import Progress
from tinsnip.space.outlines import CELLS, inside_outline, left_of, outline_cells

__all__ = [
    "BOX",
    "OUTLINE",
    "ROUND",
    "SNAP",
    "TRACED",
    "VARIANTS",
    "Crossings",
    "Cutter",
    "crossings_of",
    "inside_of",
    "lowest_half",
    "tell_others",
]

ROUND, BOX, OUTLINE, TRACED = range(4)

_HAIR = 1e-10
"""By this share of the diagonal the inside is more than the body."""
SNAP = 2e-8
"""A crossing this near an edge's end, as a share of the diagonal, is that end."""
VARIANTS = 4
_BEGINS = 0.0123, 0.0271, 0.0042, 0.0388
"""Where the facets of a cylinder begin, rad: at no likely place."""


@dataclass(frozen=True)
class Cutter:
    """A body that divides a mesh.

    Attributes
    ----------
    kind : int
        `ROUND`, `BOX`, `OUTLINE`, or `TRACED`: a line over the surface, whose inside lies on its left.
    axes : ndarray, shape (3, 3)
        Rows: unit vectors of its frame, right-handed.
    middle : ndarray, shape (3,)
        Origin of its frame, mm.
    size : ndarray, shape (3,)
        Half the extent of a box; the radius of a cylinder, first; mm.
    corners : ndarray, shape (N, 2)
        The corners of an outline, anticlockwise, mm.
    turn : int
        See `varied`.
    """

    kind: int
    axes: np.ndarray
    middle: np.ndarray
    size: np.ndarray = field(default_factory=lambda: np.zeros(3))
    corners: np.ndarray = field(default_factory=lambda: np.zeros((0, 2)))
    turn: int = 0

    def varied(self, turn: int) -> "Cutter":
        """The same body with the places chosen another way that are nobody's choice: where a cylinder's facets begin,
        and to which side an outline is off by a hair."""
        if self.kind != ROUND:
            return replace(self, turn=turn)
        c, s = np.cos(_BEGINS[turn]), np.sin(_BEGINS[turn])
        return replace(self, axes=np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]]) @ self.axes, turn=turn)

    def to_own(self, points: np.ndarray) -> np.ndarray:
        """Points, shape (N, 3), in its frame."""
        return (points - self.middle) @ self.axes.T


class Crossings(NamedTuple):
    """Where the wall meets edges; those of half-edge h are ``first[h]`` to ``first[h] + count[h]``.

    Both half-edges of an edge name the same ones, in the order from its lower-numbered end.

    Attributes
    ----------
    first, count : ndarray of int32, shape (3 F,)
    ends : ndarray of int32, shape (N, 2)
        The edge's ends, the lower-numbered first.
    share : ndarray, shape (N,)
        How far along the edge.
    key : ndarray, shape (N,)
        The box's side, the place along the outline, or the number of the crossing along a traced line.
    enters : ndarray of bool, shape (N,)
        Whether it leads inside, from the lower-numbered end on.
    node : ndarray of int32, shape (N,)
        The vertex it is, or V and more for a new one.
    new : int
        How many new ones.
    around : ndarray of int64
        Triangles within which the wall runs round whole.
    """

    first: np.ndarray
    count: np.ndarray
    ends: np.ndarray
    share: np.ndarray
    key: np.ndarray
    enters: np.ndarray
    node: np.ndarray
    new: int
    around: np.ndarray


@kernel
def _is_inside(kind, p, size):
    if kind == ROUND:
        return p[0] * p[0] + p[1] * p[1] < size[0] * size[0]
    return abs(p[0]) < size[0] and abs(p[1]) < size[1] and abs(p[2]) < size[2]


@kernel
def _inside_convex(kind, P, size, inside):
    for v in range(P.shape[0]):
        inside[v] = _is_inside(kind, P[v], size)


@kernel
def _span(kind, p, q, in_p, in_q, size, t, key):
    """Where the way from p to q is inside: its shares into t (0 and 1 for ends that are), and which side; or False."""
    t[0], t[1] = 0.0, 1.0
    if in_p and in_q:
        return True
    if kind == ROUND:
        dx, dy = q[0] - p[0], q[1] - p[1]
        a, b = dx * dx + dy * dy, p[0] * dx + p[1] * dy
        c = p[0] * p[0] + p[1] * p[1] - size[0] * size[0]
        if a == 0.0:
            return False
        # the discriminant from the distance of the line to the axis, against cancellation
        cross = p[0] * dy - p[1] * dx
        disc = a * size[0] * size[0] - cross * cross
        if disc <= 0.0:
            if not (in_p or in_q):
                return False
            disc = 0.0
        root = np.sqrt(disc)
        one, two = (-b - root) / a, (-b + root) / a
        far = -(b + root) if b > 0 else -(b - root)
        if far != 0.0:
            if b > 0:
                one, two = far / a, c / far
            else:
                one, two = c / far, far / a
        if not in_p:
            t[0] = one
        if not in_q:
            t[1] = two
    else:
        for k in range(3):
            d = q[k] - p[k]
            if d == 0.0:
                if abs(p[k]) >= size[k]:
                    return False
                continue
            near, far = (-size[k] - p[k]) / d, (size[k] - p[k]) / d
            low, high = 2 * k, 2 * k + 1
            if d < 0.0:
                near, far, low, high = far, near, high, low
            if not in_p and near > t[0]:
                t[0], key[0] = near, low
            if not in_q and far < t[1]:
                t[1], key[1] = far, high
    if in_p != in_q:
        t[0], t[1] = min(max(t[0], 0.0), 1.0), min(max(t[1], 0.0), 1.0)
        return True
    return 0.0 < t[0] < t[1] < 1.0


@kernel
def lowest_half(twins, h):
    """The lowest half-edge of an edge.

    Parameters
    ----------
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    h : int
        A half-edge.
    """
    t = twins[h]
    if t >= 0:
        return min(h, t)
    if t <= RING and t != ABSENT:
        low, i = h, RING - t
        while i != h:
            low = min(low, i)
            i = RING - twins[i]
        return low
    return h


@kernel
def tell_others(twins, h, first, count):
    """Let all half-edges of an edge name the same crossings as one does.

    Parameters
    ----------
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    h : int
        A half-edge.
    first, count : ndarray of int32, shape (3 F,)
        Written.
    """
    t = twins[h]
    if t >= 0:
        first[t], count[t] = first[h], count[h]
    elif t <= RING and t != ABSENT:
        i = RING - t
        while i != h:
            first[i], count[i] = first[h], count[h]
            i = RING - twins[i]


@kernel
def _holds_origin(P, a, b, c):
    """Whether the triangle, seen along z, holds the origin."""
    s = P[a, 0] * P[b, 1] - P[a, 1] * P[b, 0]
    t = P[b, 0] * P[c, 1] - P[b, 1] * P[c, 0]
    u = P[c, 0] * P[a, 1] - P[c, 1] * P[a, 0]
    return (s > 0 and t > 0 and u > 0) or (s < 0 and t < 0 and u < 0)


@kernel
def _is_pierced(P, a, b, c, size):
    """Whether one of a box's edges goes through a triangle."""
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        for m in range(4):
            x = size[i] if m & 1 else -size[i]
            y = size[j] if m & 2 else -size[j]
            s = (P[a, i] - x) * (P[b, j] - y) - (P[a, j] - y) * (P[b, i] - x)
            t = (P[b, i] - x) * (P[c, j] - y) - (P[b, j] - y) * (P[c, i] - x)
            u = (P[c, i] - x) * (P[a, j] - y) - (P[c, j] - y) * (P[a, i] - x)
            if (s > 0 and t > 0 and u > 0) or (s < 0 and t < 0 and u < 0):
                z = (t * P[a, k] + u * P[b, k] + s * P[c, k]) / (s + t + u)
                if abs(z) < size[k]:
                    return True
    return False


@kernel
def _meet_convex(
    kind, faces, twins, P, inside, size, snap, first, count, ends, share, key, enters, node, around, state
):
    """Crossings with a cylinder or a box; how many, new ones, and triangles it runs round within; -1: no room."""
    t, side = np.zeros(2), np.zeros(2)
    n = new = rounds = 0
    vertices = P.shape[0]
    room = share.shape[0] - 6
    for f in range(faces.shape[0]):
        if f % 65536 == 0:
            if state[0]:
                return 0, 0, 0
            state[1] = f
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if a == b or b == c or c == a:
            continue
        inner = int(inside[a]) + int(inside[b]) + int(inside[c])
        if inner == 3:
            continue
        if inner == 0:
            away = False
            for k in range(3):
                reach = size[0] if kind == ROUND else size[k]
                if kind == ROUND and k == 2:
                    break
                low, high = min(P[a, k], P[b, k], P[c, k]), max(P[a, k], P[b, k], P[c, k])
                if low >= reach or high <= -reach:
                    away = True
                    break
            if away:
                continue
        if n > room:
            return -1, 0, 0
        met = False
        for k in range(3):
            h = 3 * f + k
            if first[h] == -1:
                low = lowest_half(twins, h)
                p, q = faces[f, k], faces[f, (k + 1) % 3]
                if p > q:
                    p, q = q, p
                first[low], count[low] = n, 0
                if _span(kind, P[p], P[q], inside[p], inside[q], size, t, side):
                    long = np.sqrt((P[p, 0] - P[q, 0]) ** 2 + (P[p, 1] - P[q, 1]) ** 2 + (P[p, 2] - P[q, 2]) ** 2)
                    both = not inside[p] and not inside[q]
                    if not (both and (t[1] - t[0]) * long < snap):
                        for i in range(2):
                            if (i == 0 and inside[p]) or (i == 1 and inside[q]):
                                continue
                            ends[n, 0], ends[n, 1], share[n], key[n], enters[n] = p, q, t[i], side[i], i == 0
                            if t[i] * long < snap:
                                node[n] = p
                            elif (1.0 - t[i]) * long < snap:
                                node[n] = q
                            else:
                                node[n] = vertices + new
                                new += 1
                            count[low] += 1
                            n += 1
                tell_others(twins, low, first, count)
            met = met or count[h] > 0
        if not met and inner == 0:
            if (kind == ROUND and _holds_origin(P, a, b, c)) or (kind == BOX and _is_pierced(P, a, b, c, size)):
                around[rounds] = f
                rounds += 1
                if rounds == len(around):
                    return -1, 0, 0
    return n, new, rounds


@kernel
def _meet_outline(
    faces, twins, P, inside, C, low, cell, start, held, taken, snap,
    first, count, ends, share, key, enters, node, around, state,
):  # fmt: skip
    """Crossings with an outline; how many, new ones, triangles it runs round within; -1: no room, -2: two ways to
    reckon what is inside disagree."""
    n = new = rounds = 0
    vertices, corners = P.shape[0], C.shape[0]
    room = share.shape[0] - 3 * corners - 3
    stamp = np.full(corners, -1, dtype=np.int64)
    for f in range(faces.shape[0]):
        if f % 65536 == 0:
            if state[0]:
                return 0, 0, 0
            state[1] = f
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if a == b or b == c or c == a:
            continue
        x0, x1 = min(P[a, 0], P[b, 0], P[c, 0]), max(P[a, 0], P[b, 0], P[c, 0])
        y0, y1 = min(P[a, 1], P[b, 1], P[c, 1]), max(P[a, 1], P[b, 1], P[c, 1])
        i0, i1 = int(np.floor((x0 - low[0]) / cell)), int(np.floor((x1 - low[0]) / cell))
        j0, j1 = int(np.floor((y0 - low[1]) / cell)), int(np.floor((y1 - low[1]) / cell))
        if i1 < 0 or j1 < 0 or i0 >= CELLS or j0 >= CELLS:
            continue
        i0, j0, i1, j1 = max(i0, 0), max(j0, 0), min(i1, CELLS - 1), min(j1, CELLS - 1)
        # taken holds sums over all cells to the lower left
        near = taken[i1 + 1, j1 + 1] - taken[i0, j1 + 1] - taken[i1 + 1, j0] + taken[i0, j0]
        if near == 0:
            continue
        if n > room:
            return -1, 0, 0
        met = False
        for k in range(3):
            h = 3 * f + k
            if first[h] == -1:
                h_low = lowest_half(twins, h)
                p, q = faces[f, k], faces[f, (k + 1) % 3]
                if p > q:
                    p, q = q, p
                begin = n
                px, py, qx, qy = P[p, 0], P[p, 1], P[q, 0], P[q, 1]
                e0, e1 = int(np.floor((min(px, qx) - low[0]) / cell)), int(np.floor((max(px, qx) - low[0]) / cell))
                g0, g1 = int(np.floor((min(py, qy) - low[1]) / cell)), int(np.floor((max(py, qy) - low[1]) / cell))
                for i in range(max(e0, 0), min(e1, CELLS - 1) + 1):
                    for j in range(max(g0, 0), min(g1, CELLS - 1) + 1):
                        at = i * CELLS + j
                        for m in range(start[at], start[at + 1]):
                            s = held[m]
                            if stamp[s] == h_low:
                                continue
                            stamp[s] = h_low
                            e = s + 1 if s + 1 < corners else 0
                            l_p = left_of(C[s, 0], C[s, 1], C[e, 0], C[e, 1], px, py)
                            l_q = left_of(C[s, 0], C[s, 1], C[e, 0], C[e, 1], qx, qy)
                            if l_p == l_q:
                                continue
                            if left_of(px, py, qx, qy, C[s, 0], C[s, 1]) == left_of(px, py, qx, qy, C[e, 0], C[e, 1]):
                                continue
                            sx, sy = C[e, 0] - C[s, 0], C[e, 1] - C[s, 1]
                            d_p = sx * (py - C[s, 1]) - sy * (px - C[s, 0])
                            d_q = sx * (qy - C[s, 1]) - sy * (qx - C[s, 0])
                            t = min(max(d_p / (d_p - d_q), 0.0), 1.0)
                            x, y = px + t * (qx - px) - C[s, 0], py + t * (qy - py) - C[s, 1]
                            along = (x * sx + y * sy) / (sx * sx + sy * sy)
                            ends[n, 0], ends[n, 1], share[n] = p, q, t
                            key[n] = s + min(max(along, 0.0), 1.0 - 1e-15)
                            enters[n] = l_q
                            n += 1
                # in the order along the edge
                for i in range(begin + 1, n):
                    j = i
                    while j > begin and share[j] < share[j - 1]:
                        share[j], share[j - 1] = share[j - 1], share[j]
                        key[j], key[j - 1] = key[j - 1], key[j]
                        enters[j], enters[j - 1] = enters[j - 1], enters[j]
                        j -= 1
                long = np.sqrt((px - qx) ** 2 + (py - qy) ** 2 + (P[p, 2] - P[q, 2]) ** 2)
                # what only grazes the edge does not cross it
                out = begin
                i = begin
                while i < n:
                    if i + 1 < n and (share[i + 1] - share[i]) * long < snap and enters[i] != enters[i + 1]:
                        gap = abs(key[i + 1] - key[i])
                        if min(gap, corners - gap) < 2.0:
                            i += 2
                            continue
                    share[out], key[out], enters[out] = share[i], key[i], enters[i]
                    ends[out, 0], ends[out, 1] = p, q
                    out += 1
                    i += 1
                n = out
                now = inside[p]
                for i in range(begin, n):
                    if enters[i] == now:
                        return -2, 0, 0
                    now = not now
                    if share[i] * long < snap:
                        node[i] = p
                    elif (1.0 - share[i]) * long < snap:
                        node[i] = q
                    else:
                        node[i] = vertices + new
                        new += 1
                if now != inside[q]:
                    return -2, 0, 0
                first[h_low], count[h_low] = begin, n - begin
                tell_others(twins, h_low, first, count)
            met = met or count[h] > 0
        if not met and not inside[a] and not inside[b] and not inside[c]:
            whole = True
            for s in range(corners):
                l1 = left_of(P[a, 0], P[a, 1], P[b, 0], P[b, 1], C[s, 0], C[s, 1])
                l2 = left_of(P[b, 0], P[b, 1], P[c, 0], P[c, 1], C[s, 0], C[s, 1])
                l3 = left_of(P[c, 0], P[c, 1], P[a, 0], P[a, 1], C[s, 0], C[s, 1])
                if l1 != l2 or l2 != l3:
                    whole = False
                    break
            if whole:
                around[rounds] = f
                rounds += 1
                if rounds == len(around):
                    return -1, 0, 0
    return n, new, rounds


class _Disagree(Exception):
    """Two ways to reckon what is inside came to different ends."""


def _room(mesh: Mesh, count: int) -> list[np.ndarray]:
    halves = 3 * len(mesh.faces)
    return [
        np.full(halves, -1, dtype=np.int32), np.zeros(halves, dtype=np.int32), np.empty((count, 2), dtype=np.int32),
        np.empty(count), np.empty(count), np.empty(count, dtype=np.bool_), np.empty(count, dtype=np.int32),
        np.empty(max(64, count // 16), dtype=np.int64),
    ]  # fmt: skip


def crossings_of(mesh: Mesh, cutter: Cutter, progress: Progress) -> tuple[Cutter, np.ndarray, np.ndarray, Crossings]:
    """Where a cutter's wall meets the edges of a mesh.

    Parameters
    ----------
    mesh : Mesh
    cutter : Cutter
    progress : Progress

    Returns
    -------
    cutter : Cutter
        The very body that was reckoned with: off by a hair from what was asked for.
    own : ndarray, shape (V, 3)
        The vertices in its frame.
    inside : ndarray of bool, shape (V,)
        Which of them are within it.
    crossings : Crossings

    Raises
    ------
    BadInput
        When an outline crosses itself in so tight a place that no inside can be told.
    Cancelled
    """
    own = cutter.to_own(mesh.vertices)
    scale = max(mesh.diagonal, 1e-300)
    if cutter.kind != OUTLINE:
        moved = replace(cutter, size=cutter.size + _HAIR * scale)
        return moved, own, *_with_room(mesh, moved, own, scale, progress)
    for turn in range(6 * cutter.turn, 6 * cutter.turn + 6):
        # a little off, so that nothing lies exactly on it; another way each time
        angle = 0.7 + 2.399963 * turn
        shifted = cutter.corners + 2 * _HAIR * scale * np.array([np.cos(angle), np.sin(angle)])
        moved = replace(cutter, corners=np.ascontiguousarray(shifted))
        try:
            return moved, own, *_with_room(mesh, moved, own, scale, progress)
        except _Disagree:
            continue
    raise BadInput("the outline cannot be told from its own lines somewhere; draw it anew")


def _with_room(
    mesh: Mesh, cutter: Cutter, own: np.ndarray, scale: float, progress: Progress
) -> tuple[np.ndarray, Crossings]:
    """Find the crossings, with more room where it was too little."""
    state = progress.step("Finding the cut", len(mesh.faces))
    inside = np.zeros(len(own), dtype=np.bool_)
    snap = SNAP * scale
    if cutter.kind == OUTLINE:
        low, cell, start, held, taken, *_ = outline_cells(cutter.corners)
        inside = inside_outline(own[:, :2], cutter.corners)
    else:
        _inside_convex(cutter.kind, own, cutter.size, inside)
    count = 4096 + 8 * int(np.sqrt(len(mesh.faces))) + 6 * len(cutter.corners)
    while True:
        room = _room(mesh, count)
        if cutter.kind == OUTLINE:
            n, new, rounds = _meet_outline(
                mesh.faces, mesh.twins, own, inside, cutter.corners, low, cell, start, held, taken, snap, *room, state
            )
        else:
            n, new, rounds = _meet_convex(
                cutter.kind, mesh.faces, mesh.twins, own, inside, cutter.size, snap, *room, state
            )
        progress.check()
        if n == -2:
            raise _Disagree
        if n >= 0:
            break
        count *= 4
    first, met, ends, share, key, enters, node, around = room
    return inside, Crossings(
        first, met, ends[:n].copy(), share[:n].copy(), key[:n].copy(), enters[:n].copy(), node[:n].copy(), new,
        around[:rounds].copy(),
    )  # fmt: skip


def inside_of(cutter: Cutter, points: np.ndarray) -> np.ndarray:
    """Which points, shape (N, 3), lie within a body, bool.

    Parameters
    ----------
    cutter : Cutter
    points : ndarray, shape (N, 3)
        In mm.
    """
    own, inside = np.ascontiguousarray(cutter.to_own(points)), np.zeros(len(points), dtype=np.bool_)
    if cutter.kind == OUTLINE:
        inside = inside_outline(own[:, :2], cutter.corners)
    else:
        _inside_convex(cutter.kind, own, cutter.size, inside)
    return inside
