"""Dividing triangles exactly along the wall of a cutter; what it does not meet stays to the bit.

Each triangle that the wall meets is a ring of corners and crossings. Every way of the wall through it, from where it
leaves the inside to where it enters it again, parts the ring in two; what is left are rings that lie on one side, which
are cut into triangles by their ears. All is told by the order of the crossings round the triangle and along the wall,
so that neighbours always agree.
"""

from typing import NamedTuple

import numpy as np
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Domain, Lineage, Mesh
from tinsnip.mesh.subsets import number_used
from tinsnip.progress import Progress
from tinsnip.space.delaunay import constrained_triangles
from tinsnip.treat.kit.cutters import BOX, OUTLINE, ROUND, SNAP, TRACED, Crossings, Cutter, crossings_of

__all__ = ["FACETS", "Division", "Pieces", "Side", "divide", "divided_at"]

FACETS = 120
"""Flat strips that the wall of a cylinder is made of where a cut is closed; its cut edge has a corner at each."""
_TURN = 2 * np.pi / FACETS


@kernel
def _angle(x, y):
    a = np.arctan2(y, x)
    return a + 2 * np.pi if a < 0.0 else a


@kernel
def _weights(ax, ay, bx, by, cx, cy, x, y, uv):
    """Shares of the second and third corner by which a flat triangle holds a point; brought within it."""
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    if area == 0.0:
        uv[0] = uv[1] = 1.0 / 3.0
        return 0.0
    u = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
    v = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
    worst = min(u, v, 1.0 - u - v)
    u, v = max(u, 0.0), max(v, 0.0)
    total = max(u + v, 1.0)
    uv[0], uv[1] = u / total, v / total
    return worst


@kernel
def _add(at, u, v, seam, pos, ids, uvs, seams, A, B, C):
    """Append a point of the way to the scratch arrays; returns how many there are."""
    ids[at] = -1
    uvs[at, 0], uvs[at, 1] = u, v
    seams[at] = seam
    for k in range(3):
        pos[at, k] = (1.0 - u - v) * A[k] + u * B[k] + v * C[k]
    return at + 1


@kernel
def _round_way(at, x, y, turned, A, B, C, pos, ids, uvs, seams, room):
    """The points of a cylinder's wall between two places on a triangle, one at each corner of its facets."""
    uv = np.empty(2)
    start, stop = _angle(pos[x, 0], pos[x, 1]), _angle(pos[y, 0], pos[y, 1])
    radius = np.sqrt(pos[x, 0] ** 2 + pos[x, 1] ** 2)
    way = -1.0 if turned else 1.0
    dist = (way * (stop - start)) % (2 * np.pi)
    if dist > 2 * np.pi - 1e-9:
        dist = 0.0
    if dist > np.pi:
        # seen nearly along its plane a triangle does not tell which way round: the one that lies in it
        for again in range(2):
            mid = start + way * 0.5 * dist
            worst = _weights(A[0], A[1], B[0], B[1], C[0], C[1], radius * np.cos(mid), radius * np.sin(mid), uv)
            if worst > -1e-6:
                break
            way, dist = -way, 2 * np.pi - dist
            if again == 1:
                dist = 0.0
    if dist == 0.0:
        return at
    slack = 1e-9
    first = int(np.ceil(start / _TURN - slack)) if way > 0 else int(np.floor(start / _TURN + slack))
    for i in range(FACETS + 1):
        number = first + i if way > 0 else first - i
        angle = number * _TURN
        if way * (angle - start) > dist + slack * _TURN:
            break
        if at >= room:
            return -1
        seam = number % FACETS
        angle = seam * _TURN
        _weights(A[0], A[1], B[0], B[1], C[0], C[1], radius * np.cos(angle), radius * np.sin(angle), uv)
        at = _add(at, uv[0], uv[1], seam, pos, ids, uvs, seams, A, B, C)
    return at


@kernel
def _outline_way(at, x, y, turned, key, corners, A, B, C, pos, ids, uvs, seams, room):
    """The corners of an outline between two places on a triangle."""
    uv = np.empty(2)
    count = corners.shape[0]
    way = -1.0 if turned else 1.0
    dist = (way * (key[y] - key[x])) % count
    if dist > count - 1e-9:
        dist = 0.0
    number = int(np.floor(key[x])) + 1 if way > 0 else int(np.floor(key[x]))
    while way * (number - key[x]) <= dist:
        if at >= room:
            return -1
        m = number % count
        _weights(A[0], A[1], B[0], B[1], C[0], C[1], corners[m, 0], corners[m, 1], uv)
        at = _add(at, uv[0], uv[1], m, pos, ids, uvs, seams, A, B, C)
        number += 1 if way > 0 else -1
    return at


@kernel
def _box_way(at, x, y, key, size, A, B, C, pos, ids, uvs, seams, room):
    """The points at which the plane of a triangle meets a box's edges, on the way round from one place to another."""
    n = np.empty(3)
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        n[k] = (B[i] - A[i]) * (C[j] - A[j]) - (B[j] - A[j]) * (C[i] - A[i])
    # the flattest view of the triangle, to find places in it
    flat = 0
    for k in range(3):
        if abs(n[k]) > abs(n[flat]):
            flat = k
    fi, fj = (flat + 1) % 3, (flat + 2) % 3
    uv = np.empty(2)
    here, goal = int(key[x]), int(key[y])
    p = pos[x].copy()
    for step in range(7):
        if here == goal and step > 0:
            return at
        axis, sign = here // 2, 1.0 if here % 2 else -1.0
        d0, d1, d2 = _along(n, axis, sign)
        if here == goal:  # on the side it goes to: there already, unless that lies behind
            ahead = d0 * (pos[y, 0] - p[0]) + d1 * (pos[y, 1] - p[1]) + d2 * (pos[y, 2] - p[2])
            if ahead >= 0.0:
                return at
        d = (d0, d1, d2)
        best, side = np.inf, -1
        for k in range(3):
            if k == axis or d[k] == 0.0:
                continue
            edge = size[k] if d[k] > 0.0 else -size[k]
            far = (edge - p[k]) / d[k]
            if far < best:
                best, side = max(far, 0.0), 2 * k + (1 if d[k] > 0.0 else 0)
        if side < 0:
            return at
        for k in range(3):
            p[k] += best * d[k]
        p[axis] = sign * size[axis]
        p[side // 2] = size[side // 2] if side % 2 else -size[side // 2]
        if at >= room:
            return -1
        _weights(A[fi], A[fj], B[fi], B[fj], C[fi], C[fj], p[fi], p[fj], uv)
        at = _add(at, uv[0], uv[1], 6 * min(here, side) + max(here, side), pos, ids, uvs, seams, A, B, C)
        here = side
    return at


@kernel
def _along(n, axis, sign):
    """The way round a box's side in the plane with normal n, with the box on its left."""
    if axis == 0:
        return 0.0, n[2] * sign, -n[1] * sign
    if axis == 1:
        return -n[2] * sign, 0.0, n[0] * sign
    return n[1] * sign, -n[0] * sign, 0.0


@kernel
def _face_between(kind, keys, pos, i, j, turned, corners):
    """Which flat of the wall lies between two points of a way that follow each other."""
    if kind == ROUND:
        return int(_angle(pos[i, 0] + pos[j, 0], pos[i, 1] + pos[j, 1]) / _TURN) % FACETS
    if kind == OUTLINE:
        return int(keys[j] if turned else keys[i]) % corners
    return int(keys[i])


@kernel
def _cut_ears(ring, count, uvs, flat, ids, out, at):
    """Cut a ring into triangles of scratch numbers, the best shaped ear first; returns how many there are."""
    while count > 3:
        best, which = -1.0, -1
        for i in range(count):
            a, b, c = ring[i - 1 if i > 0 else count - 1], ring[i], ring[i + 1 if i + 1 < count else 0]
            area = (uvs[b, 0] - uvs[a, 0]) * (uvs[c, 1] - uvs[a, 1]) - (uvs[b, 1] - uvs[a, 1]) * (uvs[c, 0] - uvs[a, 0])
            if area <= 1e-14:
                continue
            ab = (flat[a, 0] - flat[b, 0]) ** 2 + (flat[a, 1] - flat[b, 1]) ** 2
            bc = (flat[c, 0] - flat[b, 0]) ** 2 + (flat[c, 1] - flat[b, 1]) ** 2
            ca = (flat[a, 0] - flat[c, 0]) ** 2 + (flat[a, 1] - flat[c, 1]) ** 2
            score = area / (ab + bc + ca)
            if score <= best:
                continue
            free = True
            for j in range(count):
                d = ring[j]
                if ids[d] == ids[a] or ids[d] == ids[b] or ids[d] == ids[c]:
                    continue
                if _turns(uvs, a, b, d) >= 0.0 and _turns(uvs, b, c, d) >= 0.0 and _turns(uvs, c, a, d) >= 0.0:
                    free = False
                    break
            if free:
                best, which = score, i
        if which < 0:  # nothing but a sliver is left
            which = 1
        a, b = ring[which - 1 if which > 0 else count - 1], ring[which]
        c = ring[which + 1 if which + 1 < count else 0]
        if ids[a] != ids[b] and ids[b] != ids[c] and ids[c] != ids[a]:
            out[at, 0], out[at, 1], out[at, 2] = a, b, c
            at += 1
        for i in range(which, count - 1):
            ring[i] = ring[i + 1]
        count -= 1
    a, b, c = ring[0], ring[1], ring[2]
    if ids[a] != ids[b] and ids[b] != ids[c] and ids[c] != ids[a]:
        out[at, 0], out[at, 1], out[at, 2] = a, b, c
        at += 1
    return at


@kernel
def _turns(uvs, a, b, c):
    return (uvs[b, 0] - uvs[a, 0]) * (uvs[c, 1] - uvs[a, 1]) - (uvs[b, 1] - uvs[a, 1]) * (uvs[c, 0] - uvs[a, 0])


@kernel
def _part(rings, fresh, begin, side, n_rings, way, low, high):
    """Part the ring that both ends of a stretch of the way lie on; returns how many rings there are.

    -1: no room, -2: there is none.
    """
    x, y = way[low], way[high]
    r = -1
    for i in range(n_rings):
        has_x = has_y = False
        for j in range(begin[i], begin[i + 1]):
            has_x = has_x or rings[j] == x
            has_y = has_y or rings[j] == y
        if has_x and has_y:
            r = i
            break
    if r < 0:
        return -2
    if begin[n_rings] + 2 * (high - low) + 4 > rings.shape[0] or n_rings + 2 > side.shape[0]:
        return -1
    length = begin[r + 1] - begin[r]
    at_x = at_y = 0
    for j in range(length):
        if rings[begin[r] + j] == x:
            at_x = j
        if rings[begin[r] + j] == y:
            at_y = j
    n_fresh = 0
    j = at_x
    while True:  # outside: from x round to y, and back along the way
        fresh[n_fresh] = rings[begin[r] + j]
        n_fresh += 1
        if j == at_y:
            break
        j = (j + 1) % length
    for i in range(high - 1, low, -1):
        fresh[n_fresh] = way[i]
        n_fresh += 1
    cut = n_fresh
    j = at_y
    while True:  # inside: from y round to x, and on along the way
        fresh[n_fresh] = rings[begin[r] + j]
        n_fresh += 1
        if j == at_x:
            break
        j = (j + 1) % length
    for i in range(low + 1, high):
        fresh[n_fresh] = way[i]
        n_fresh += 1
    # the two take the place of the one, at the end of the list
    for j in range(begin[r + 1], begin[n_rings]):
        rings[j - length] = rings[j]
    for i in range(r, n_rings):
        begin[i] = begin[i + 1] - length
        if i + 1 < n_rings:
            side[i] = side[i + 1]
    last = n_rings - 1
    for j in range(n_fresh):
        rings[begin[last] + j] = fresh[j]
    begin[last + 1] = begin[last] + cut
    begin[last + 2] = begin[last] + n_fresh
    side[last], side[last + 1] = 0, 1
    return n_rings + 1


@kernel
def _divide(
    kind, faces, P, touched, inside, first, count, share, key, enters, node, size, corners, between, snap, vertices,
    scratch, out, parent, label, weights, point_face, point_uv, segments,
):  # fmt: skip
    """Divide the triangles that the wall meets.

    Returns how many triangles, points within triangles, and pieces of the wall's way there are; -1 first when there is
    no room, -2 when the ways do not fit together.
    """
    pos, uvs, flat = np.empty((scratch, 3)), np.empty((scratch, 2)), np.empty((scratch, 2))
    ids, seams, kinds = np.empty(scratch, np.int32), np.empty(scratch, np.int32), np.empty(scratch, np.int8)
    keys = np.empty(scratch)
    rings, fresh = np.empty(4 * scratch, np.int32), np.empty(4 * scratch, np.int32)
    begin, side = np.empty(scratch + 2, np.int32), np.empty(scratch + 2, np.int8)
    ears = np.empty((scratch, 3), np.int32)
    way = np.empty(scratch, np.int32)
    n_out = n_points = n_segments = 0
    for f in touched:
        if (
            n_out + scratch > out.shape[0]
            or n_points + scratch > point_face.shape[0]
            or n_segments + scratch > segments.shape[0]
        ):
            return -1, 0, 0
        A, B, C = P[faces[f, 0]], P[faces[f, 1]], P[faces[f, 2]]
        m = 0
        for k in range(3):
            u0, v0 = (1.0 if k == 1 else 0.0), (1.0 if k == 2 else 0.0)
            u1, v1 = (1.0 if k == 0 else 0.0), (1.0 if k == 1 else 0.0)
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            ids[m], kinds[m], seams[m] = a, 0, -1
            uvs[m, 0], uvs[m, 1] = u0, v0
            pos[m] = P[a]
            m += 1
            h = 3 * f + k
            if m + count[h] + 4 > scratch:
                return -1, 0, 0
            for i in range(count[h]):
                forward = a < b
                j = first[h] + (i if forward else count[h] - 1 - i)
                t = share[j] if forward else 1.0 - share[j]
                ids[m], seams[m], keys[m] = node[j], -1, key[j]
                kinds[m] = 1 if enters[j] == forward else -1
                uvs[m, 0], uvs[m, 1] = u0 + t * (u1 - u0), v0 + t * (v1 - v0)
                s = share[j]
                lo, hi = (a, b) if forward else (b, a)
                for c in range(3):
                    pos[m, c] = P[lo, c] + s * (P[hi, c] - P[lo, c])
                m += 1
        border = m
        for i in range(border):
            rings[i] = i
        n_rings = 1
        begin[0], begin[1] = 0, border
        side[0] = 0
        turned = (B[0] - A[0]) * (C[1] - A[1]) - (B[1] - A[1]) * (C[0] - A[0]) < 0.0
        for x in range(border):
            if kinds[x] != -1:
                continue
            y = -1
            if kind == OUTLINE:
                nearest = np.inf
                total = float(corners.shape[0])
                for j in range(border):
                    if j == x or kinds[j] == 0:
                        continue
                    d = ((keys[x] - keys[j]) if turned else (keys[j] - keys[x])) % total
                    if d > total - 1e-9:
                        d = 0.0
                    if d < nearest or (d == nearest and kinds[j] == 1):
                        nearest, y = d, j
            elif kind == TRACED:
                for j in range(border):
                    if kinds[j] == 1 and int(keys[j]) == (int(keys[x]) + 1) % (between.shape[0] - 1):
                        y = j
            else:
                for i in range(1, border):
                    j = (x + i) % border
                    if kinds[j] != 0:
                        y = j
                        break
            if y < 0 or kinds[y] != 1:
                return -2, 0, 0
            if kind == ROUND:
                end = _round_way(m, x, y, turned, A, B, C, pos, ids, uvs, seams, scratch - 2)
            elif kind == BOX:
                end = _box_way(m, x, y, keys, size, A, B, C, pos, ids, uvs, seams, scratch - 2)
            elif kind == TRACED:
                end = m
                for p in range(between[int(keys[x])], between[int(keys[x]) + 1]):
                    if end >= scratch - 2:
                        return -1, 0, 0
                    end = _add(end, corners[p, 0], corners[p, 1], 0, pos, ids, uvs, seams, A, B, C)
            else:
                end = _outline_way(m, x, y, turned, keys, corners, A, B, C, pos, ids, uvs, seams, scratch - 2)
            if end < 0:
                return -1, 0, 0
            # number the points between; one that is as good as its neighbour is that one
            n_way = 0
            way[0] = x
            n_way = 1
            for i in range(m, end):
                keys[i] = float(seams[i])
                if kind == BOX:  # on along the other of the two sides that meet there
                    low, high = seams[i] // 6, seams[i] % 6
                    keys[i] = float(high if int(keys[way[n_way - 1]]) == low else low)
                merged = -1
                for other in range(border + 1):
                    j = way[n_way - 1] if other == border else np.int32(other)
                    if j != y and other != border and kinds[j] != 0:
                        continue
                    if abs(pos[i, 0] - pos[j, 0]) + abs(pos[i, 1] - pos[j, 1]) + abs(pos[i, 2] - pos[j, 2]) < snap:
                        merged = j
                        break
                if merged < 0:
                    ids[i] = vertices + n_points
                    point_face[n_points] = f
                    point_uv[n_points, 0], point_uv[n_points, 1] = uvs[i, 0], uvs[i, 1]
                    n_points += 1
                if merged < 0 or (kinds[merged] == 0 and ids[merged] != ids[way[n_way - 1]] and ids[merged] != ids[y]):
                    way[n_way] = i if merged < 0 else merged
                    n_way += 1
                if merged >= 0:
                    keys[merged] = keys[i]
                    if ids[merged] == ids[way[n_way - 1]]:
                        keys[way[n_way - 1]] = keys[i]
                    if ids[merged] == ids[y] and kind == OUTLINE:
                        keys[y] = keys[i]
            way[n_way] = y
            n_way += 1
            for i in range(n_way - 1):
                if ids[way[i]] != ids[way[i + 1]]:
                    segments[n_segments, 0], segments[n_segments, 1] = ids[way[i]], ids[way[i + 1]]
                    segments[n_segments, 2] = _face_between(
                        kind, keys, pos, way[i], way[i + 1], turned, corners.shape[0]
                    )
                    n_segments += 1
            m = end
            # part the ring that has both ends; where the way goes through a corner, one part of it after another
            low = 0
            while low < n_way - 1:
                high = low + 1
                while way[high] >= border:
                    high += 1
                n_rings = _part(rings, fresh, begin, side, n_rings, way, low, high)
                if n_rings < 0:
                    return n_rings, 0, 0
                low = high
        # the triangle laid flat, to tell the shapes of its ears
        L = np.sqrt((B[0] - A[0]) ** 2 + (B[1] - A[1]) ** 2 + (B[2] - A[2]) ** 2)
        dot = (B[0] - A[0]) * (C[0] - A[0]) + (B[1] - A[1]) * (C[1] - A[1]) + (B[2] - A[2]) * (C[2] - A[2])
        cx = dot / L if L > 0 else 0.0
        cc = (C[0] - A[0]) ** 2 + (C[1] - A[1]) ** 2 + (C[2] - A[2]) ** 2
        cy = np.sqrt(max(cc - cx * cx, 0.0))
        for i in range(m):
            flat[i, 0], flat[i, 1] = uvs[i, 0] * L + uvs[i, 1] * cx, uvs[i, 1] * cy
        for r in range(n_rings):
            n = 0
            for j in range(begin[r], begin[r + 1]):
                if n == 0 or ids[fresh[n - 1]] != ids[rings[j]]:
                    fresh[n] = rings[j]
                    n += 1
            while n > 1 and ids[fresh[n - 1]] == ids[fresh[0]]:
                n -= 1
            if n < 3:
                continue
            whose = side[r] if n_rings > 1 else int(inside[faces[f, 0]])
            n_ears = _cut_ears(fresh, n, uvs, flat, ids, ears, 0)
            for i in range(n_ears):
                for k in range(3):
                    e = ears[i, k]
                    out[n_out, k] = ids[e]
                    weights[n_out, k, 0], weights[n_out, k, 1] = uvs[e, 0], uvs[e, 1]
                parent[n_out], label[n_out] = f, whose
                n_out += 1
    return n_out, n_points, n_segments


class Side(NamedTuple):
    """What lies on one side of a cutter's wall.

    Attributes
    ----------
    mesh : Mesh
        The very one that was given where the wall meets nothing.
    segments : ndarray of int64, shape (N, 3)
        The cut edge: two vertices that follow each other, the inside on the left, and the flat of the wall they lie on.
    """

    mesh: Mesh
    segments: np.ndarray


class Division:
    """A mesh, divided along a cutter's wall.

    Attributes
    ----------
    mesh : Mesh
        As it was.
    cutter : Cutter
        The very body it was divided by.
    side : ndarray of int8, shape (F,)
        Of each triangle that the wall does not meet: 1 inside, 0 outside, 2 connected with neither.
    divided : int
        Triangles that the wall runs through.
    """

    def __init__(self, mesh: Mesh, cutter: Cutter, side: np.ndarray, pieces: "Pieces", crossings: Crossings) -> None:
        self.mesh, self.cutter = mesh, cutter
        self._side, self._pieces, self._crossings = side, pieces, crossings
        self.divided = len(pieces.touched)

    @property
    def meets_nothing(self) -> bool:
        """Whether the wall does not pass through the surface."""
        return self.divided == 0

    @property
    def sides(self) -> np.ndarray:
        """Of each triangle: 1 inside, 0 outside, 2 connected with neither; what is divided, as most of its parts."""
        sides, pieces = self._side.copy(), self._pieces
        votes = np.bincount(pieces.parent, weights=np.where(pieces.label, 1.0, -1.0), minlength=len(sides))
        sides[pieces.touched] = votes[pieces.touched] > 0
        return sides

    def count(self, inside: bool) -> int:
        """How many triangles lie whole on one side."""
        whole = self._side == int(inside)
        whole[self._pieces.touched] = False
        return int(np.count_nonzero(whole))

    def side(self, inside: bool, progress: Progress, with_rest: bool = True) -> Side:
        """The mesh on one side, with what is on neither or without; the cut edge is the same to the bit on both.

        Raises
        ------
        Cancelled
        """
        progress.step("Cutting")
        mesh, pieces, met = self.mesh, self._pieces, self._crossings
        whole = self._side == int(inside)
        if with_rest:
            whole |= self._side == 2
        whole[pieces.touched] = False
        if len(mesh.faces) == int(whole.sum()) + self.divided and (pieces.label == inside).all():
            # nothing lies on the other side
            return Side(mesh, np.zeros((0, 3), np.int64))
        kept = np.flatnonzero(whole).astype(np.int32)
        progress.check()
        own = pieces.label == inside
        faces = np.concatenate([mesh.faces[kept], pieces.faces[own]])
        count = len(mesh.vertices)
        number = np.full(count + met.new + len(pieces.point_face), -1, dtype=np.int32)
        number_used(faces, number)
        faces = number[faces]
        old = np.flatnonzero(number[:count] >= 0).astype(np.int32)
        progress.check()
        blends = self._blends()[number[count:] >= 0]
        parent = np.concatenate([kept, pieces.parent[own]])
        lineage = Lineage(old, parent, blends)
        if any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
            lineage = Lineage(old, parent, blends, *_corner_values(parent, len(kept), pieces.weights[own]))
        derived = mesh.derive(faces, lineage)
        segments = pieces.segments.copy()
        segments[:, :2] = number[segments[:, :2]]
        return Side(derived, segments[(segments[:, :2] >= 0).all(axis=1)])

    def _blends(self) -> sparse.csr_matrix:
        """What each new vertex is mixed from: those on edges, then those within triangles."""
        mesh, pieces, met = self.mesh, self._pieces, self._crossings
        fresh = met.node >= len(mesh.vertices)
        two = np.column_stack([1 - met.share[fresh], met.share[fresh]])
        u, v = pieces.point_uv.T
        three = np.column_stack([1 - u - v, u, v])
        weights = np.concatenate([two.ravel(), three.ravel()])
        columns = np.concatenate([met.ends[fresh].ravel(), mesh.faces[pieces.point_face].ravel()])
        start = np.concatenate([2 * np.arange(len(two)), 2 * len(two) + 3 * np.arange(len(three) + 1)])
        return sparse.csr_matrix((weights, columns, start), shape=(len(two) + len(three), len(mesh.vertices)))


def _corner_values(parent: np.ndarray, whole: int, weights: np.ndarray) -> tuple:
    """Of each corner: the old corner it begins from, and how far it leans towards the two others of its triangle."""
    first = 3 * parent.astype(np.int64)
    corners = np.repeat(first, 3)
    corners[: 3 * whole] += np.tile(np.arange(3), whole)
    second, third = corners.copy(), corners.copy()
    second[3 * whole :] += 1
    third[3 * whole :] += 2
    u, v = weights.reshape(-1, 2).T
    lean = np.zeros((2, len(corners)))
    lean[0, 3 * whole :] = np.where(v < 1, u / np.where(v < 1, 1 - v, 1.0), 0.0)
    lean[1, 3 * whole :] = v
    return corners, ((second, lean[0]), (third, lean[1]))


class Pieces(NamedTuple):
    """What the triangles that the wall meets were divided into; vertices from V on are new ones.

    Attributes
    ----------
    touched : ndarray of int64
        These triangles.
    faces : ndarray of int32, shape (N, 3)
    parent : ndarray of int32, shape (N,)
    label : ndarray of bool, shape (N,)
        Inside.
    weights : ndarray, shape (N, 3, 2)
        Shares of the parent's second and third corner in each corner.
    point_face : ndarray of int32, shape (P,)
    point_uv : ndarray, shape (P, 2)
        New vertices within triangles.
    segments : ndarray of int64, shape (S, 3)
        As in `Side`.
    """

    touched: np.ndarray
    faces: np.ndarray
    parent: np.ndarray
    label: np.ndarray
    weights: np.ndarray
    point_face: np.ndarray
    point_uv: np.ndarray
    segments: np.ndarray


def divide(mesh: Mesh, cutter: Cutter, progress: Progress) -> Division:
    """Divide a mesh along a cutter's wall.

    Parameters
    ----------
    mesh : Mesh
    cutter : Cutter
    progress : Progress

    Returns
    -------
    Division

    Raises
    ------
    BadInput
        When the wall passes the mesh in a way that cannot be told apart in floating point.
    Cancelled
    """
    cutter, own, inside, met = crossings_of(mesh, cutter, progress)
    pieces = divided_at(mesh, cutter, own, inside, met, np.zeros(1, dtype=np.int64), progress)
    if pieces is None:
        raise BadInput("the cut passes too close along an edge of the mesh; move it a little")
    return Division(mesh, cutter, inside[mesh.faces[:, 0]].astype(np.int8), pieces, met)


def divided_at(
    mesh: Mesh,
    cutter: Cutter,
    own: np.ndarray,
    inside: np.ndarray,
    met: Crossings,
    between: np.ndarray,
    progress: Progress,
) -> Pieces | None:
    """What the triangles that a wall meets are divided into; None where its ways do not fit together.

    Parameters
    ----------
    mesh : Mesh
    cutter : Cutter
    own, inside, met
        As `crossings_of` gives them.
    between : ndarray of int64, shape (N + 1,)
        Of a traced line: which of its corners lie between a crossing and the next.
    progress : Progress
    """
    touched = np.flatnonzero((met.count.reshape(-1, 3) > 0).any(axis=1))
    progress.check()
    base = len(mesh.vertices) + met.new
    snap = SNAP * max(mesh.diagonal, 1e-300)
    scratch, room = 512 + 4 * len(cutter.corners), 8 * len(touched)
    while True:
        scratch, room = 2 * scratch, room + 32 * scratch
        arrays = (
            np.empty((room, 3), np.int32), np.empty(room, np.int32), np.empty(room, np.int8), np.empty((room, 3, 2)),
            np.empty(room, np.int32), np.empty((room, 2)), np.empty((room, 3), np.int64),
        )  # fmt: skip
        n, points, segments = _divide(
            cutter.kind, mesh.faces, own, touched, inside, met.first, met.count, met.share, met.key, met.enters,
            met.node, cutter.size, cutter.corners, between, snap, base, scratch, *arrays,
        )  # fmt: skip
        if n == -2:
            return None
        if n >= 0:
            break
        room *= 2
    progress.check()
    faces, parent, label, weights, point_face, point_uv, rows = arrays
    pieces = Pieces(
        touched, faces[:n], parent[:n], label[:n] == 1, weights[:n], point_face[:points], point_uv[:points],
        rows[:segments],
    )  # fmt: skip
    for f in met.around:
        pieces = _with_ring(mesh, own, cutter, int(f), base, pieces)
    return pieces


def _with_ring(mesh: Mesh, own: np.ndarray, cutter: Cutter, f: int, base: int, pieces: Pieces) -> Pieces:
    """Divide a triangle within which the wall runs round whole."""
    corners = own[mesh.faces[f]]
    uv, flats = _ring_in(cutter, corners)
    if len(uv) < 3:
        return pieces
    area = 0.5 * float((uv[:, 0] * np.roll(uv[:, 1], -1) - uv[:, 1] * np.roll(uv[:, 0], -1)).sum())
    n = len(uv)
    if area < 0:
        uv, flats = uv[::-1], np.roll(flats[::-1], -1)
    ring = np.column_stack([np.arange(n), np.roll(np.arange(n), -1)])
    inner = constrained_triangles(uv, ring)
    both = np.concatenate([uv, [[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]])
    outer = constrained_triangles(both, np.concatenate([ring, [[n, n + 1], [n + 1, n + 2], [n + 2, n]]]))
    if inner is None or outer is None:
        raise BadInput("the cut meets a triangle of the mesh in too small a place; move it a little")
    at = base + len(pieces.point_face)
    ids = np.concatenate([at + np.arange(n), mesh.faces[f]])
    fresh = np.concatenate([inner, outer])
    return pieces._replace(
        touched=np.append(pieces.touched, f),
        faces=np.concatenate([pieces.faces, ids[fresh].astype(np.int32)]),
        parent=np.concatenate([pieces.parent, np.full(len(fresh), f, dtype=np.int32)]),
        label=np.concatenate([pieces.label, np.repeat([True, False], [len(inner), len(outer)])]),
        weights=np.concatenate([pieces.weights, both[fresh]]),
        point_face=np.concatenate([pieces.point_face, np.full(n, f, dtype=np.int32)]),
        point_uv=np.concatenate([pieces.point_uv, uv]),
        segments=np.concatenate([pieces.segments, np.column_stack([at + ring, flats])]),
    )


def _ring_in(cutter: Cutter, corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The wall round whole within a triangle: shares of its corners, and the flat after each."""
    if cutter.kind == BOX:
        points = _clipped_to_box(corners, cutter.size)
        edges = corners[1:] - corners[0]
        uv = np.linalg.lstsq(edges.T, (points - corners[0]).T, rcond=None)[0].T
        sides = [
            {2 * k + int(p[k] > 0) for k in range(3) if abs(abs(p[k]) - cutter.size[k]) < 1e-9 * cutter.size.max()}
            for p in points
        ]
        flats = [next(iter(a & b), -1) for a, b in zip(sides, sides[1:] + sides[:1], strict=True)]
        return uv, np.array(flats, dtype=np.int64)
    if cutter.kind == ROUND:
        angle = _TURN * np.arange(FACETS)
        places = cutter.size[0] * np.column_stack([np.cos(angle), np.sin(angle)])
    else:
        places = cutter.corners
    edges = (corners[1:] - corners[0])[:, :2]
    uv = np.linalg.solve(edges.T, (places - corners[0, :2]).T).T
    return uv, np.arange(len(uv))


def _clipped_to_box(corners: np.ndarray, size: np.ndarray) -> np.ndarray:
    """What of a triangle lies within a box, as a polygon, shape (N, 3) (Sutherland and Hodgman 1974)."""
    polygon = list(corners)
    for k in range(3):
        for sign in (1.0, -1.0):
            out = []
            for p, q in zip(polygon, polygon[1:] + polygon[:1], strict=True):
                hp, hq = size[k] - sign * p[k], size[k] - sign * q[k]
                if hp >= 0:
                    out.append(p)
                if hp * hq < 0:
                    r = p + hp / (hp - hq) * (q - p)
                    r[k] = sign * size[k]
                    out.append(r)
            polygon = out
    return np.array(polygon).reshape(-1, 3)
