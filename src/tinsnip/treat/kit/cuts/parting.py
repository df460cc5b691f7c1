"""The ways of a cutter's wall through triangles, and the triangles that they part these into.

Each triangle that the wall meets is a ring of corners and crossings. Every way of the wall through it, from where it
leaves the inside to where it enters it again, parts the ring in two; what is left are rings that lie on one side, which
are cut into triangles by their ears. All is told by the order of the crossings round the triangle and along the wall,
so that neighbours always agree.
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.treat.kit.cuts.cutters import BOX, OUTLINE, ROUND, TRACED

__all__ = ["FACETS", "TURN", "divide_triangles"]

FACETS = 120
"""Flat strips that the wall of a cylinder is made of where a cut is closed; its cut edge has a corner at each."""
TURN = 2 * np.pi / FACETS


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
    first = int(np.ceil(start / TURN - slack)) if way > 0 else int(np.floor(start / TURN + slack))
    for i in range(FACETS + 1):
        number = first + i if way > 0 else first - i
        angle = number * TURN
        if way * (angle - start) > dist + slack * TURN:
            break
        if at >= room:
            return -1
        seam = number % FACETS
        angle = seam * TURN
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
        return int(_angle(pos[i, 0] + pos[j, 0], pos[i, 1] + pos[j, 1]) / TURN) % FACETS
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
def _walk_border(f, faces, P, crossings, ring):
    """Enter a triangle's corners and crossings, in their order round it; returns how many, or -1 when there is no room.

    Their kind is 0 for a corner, 1 where the wall enters the triangle and -1 where it leaves it.
    """
    first, count, share, key, enters, node = crossings
    pos, ids, uvs, seams, kinds, keys = ring
    m = 0
    for k in range(3):
        u0, v0 = (1.0 if k == 1 else 0.0), (1.0 if k == 2 else 0.0)
        u1, v1 = (1.0 if k == 0 else 0.0), (1.0 if k == 1 else 0.0)
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        ids[m], kinds[m], seams[m] = a, 0, -1
        uvs[m, 0], uvs[m, 1] = u0, v0
        for c in range(3):
            pos[m, c] = P[a, c]
        m += 1
        h = 3 * f + k
        if m + count[h] + 4 > ids.shape[0]:
            return -1
        for i in range(count[h]):
            forward = a < b
            j = first[h] + (i if forward else count[h] - 1 - i)
            s = share[j]
            t = s if forward else 1.0 - s
            ids[m], seams[m], keys[m] = node[j], -1, key[j]
            kinds[m] = 1 if enters[j] == forward else -1
            uvs[m, 0], uvs[m, 1] = u0 + t * (u1 - u0), v0 + t * (v1 - v0)
            lo, hi = (a, b) if forward else (b, a)
            for c in range(3):
                pos[m, c] = P[lo, c] + s * (P[hi, c] - P[lo, c])
            m += 1
    return m


@kernel
def _way_ends(kind, x, border, turned, corners, between, kinds, keys):
    """Where on the border the wall's way ends that begins at x; -1: nowhere."""
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
    return y if y >= 0 and kinds[y] == 1 else -1


@kernel
def _lead_way(cutter, at, x, y, turned, A, B, C, ring):
    """Enter the points of the wall's way from x to y; returns where they end, or -1 when there is no room."""
    kind, size, corners, between = cutter
    pos, ids, uvs, seams, _, keys = ring
    room = ids.shape[0] - 2
    if kind == ROUND:
        return _round_way(at, x, y, turned, A, B, C, pos, ids, uvs, seams, room)
    if kind == BOX:
        return _box_way(at, x, y, keys, size, A, B, C, pos, ids, uvs, seams, room)
    if kind == OUTLINE:
        return _outline_way(at, x, y, turned, keys, corners, A, B, C, pos, ids, uvs, seams, room)
    for p in range(between[int(keys[x])], between[int(keys[x]) + 1]):
        if at >= room:
            return -1
        at = _add(at, corners[p, 0], corners[p, 1], 0, pos, ids, uvs, seams, A, B, C)
    return at


@kernel
def _number_way(kind, x, y, border, begin, end, f, snap, vertices, n_points, ring, way, point_face, point_uv):
    """Number the points of a way; one that is as good as its neighbour is that one.

    Returns how many the way has, both ends with it, and how many points within triangles there are.
    """
    pos, ids, uvs, seams, kinds, keys = ring
    way[0] = x
    n_way = 1
    for i in range(begin, end):
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
    return n_way + 1, n_points


@kernel
def _part_along(way, n_way, border, rings, fresh, begin, side, n_rings):
    """Part the ring that holds a way; where it goes through a corner, one part of it after another."""
    low = 0
    while low < n_way - 1:
        high = low + 1
        while way[high] >= border:
            high += 1
        n_rings = _part(rings, fresh, begin, side, n_rings, way, low, high)
        if n_rings < 0:
            break
        low = high
    return n_rings


@kernel
def _lay_flat(A, B, C, uvs, count, flat):
    """Places on a triangle laid flat, to tell the shapes of its ears."""
    L = np.sqrt((B[0] - A[0]) ** 2 + (B[1] - A[1]) ** 2 + (B[2] - A[2]) ** 2)
    dot = (B[0] - A[0]) * (C[0] - A[0]) + (B[1] - A[1]) * (C[1] - A[1]) + (B[2] - A[2]) * (C[2] - A[2])
    cx = dot / L if L > 0 else 0.0
    cc = (C[0] - A[0]) ** 2 + (C[1] - A[1]) ** 2 + (C[2] - A[2]) ** 2
    cy = np.sqrt(max(cc - cx * cx, 0.0))
    for i in range(count):
        flat[i, 0], flat[i, 1] = uvs[i, 0] * L + uvs[i, 1] * cx, uvs[i, 1] * cy


@kernel
def _without_doubles(ring, begin, end, ids, out):
    """A ring with each place once where it stands several times in a row; returns how many are left."""
    n = 0
    for j in range(begin, end):
        if n == 0 or ids[out[n - 1]] != ids[ring[j]]:
            out[n] = ring[j]
            n += 1
    while n > 1 and ids[out[n - 1]] == ids[out[0]]:
        n -= 1
    return n


@kernel
def divide_triangles(cutter, faces, P, touched, inside, crossings, snap, vertices, scratch, made, points, segments):
    """Divide the triangles that the wall meets.

    Parameters
    ----------
    cutter : tuple
        Its kind, half sizes of a box, corners of an outline or of what was traced, and where these begin between one
        crossing and the next.
    faces, P : ndarray, shapes (F, 3) and (V, 3)
        Places in the cutter's frame.
    touched : ndarray of int, shape (T,)
        The triangles that the wall meets.
    inside : ndarray of bool, shape (V,)
    crossings : tuple of ndarrays
        Of each half-edge the first and their number; of each crossing its share along the edge, its key along the
        wall, whether it enters, and its number.
    snap : float
        How near two points are one, in mm.
    vertices : int
        The number that the first point within a triangle gets.
    scratch : int
        Places that one triangle may come to.
    made, points, segments : tuples of ndarrays, and ndarray
        Written: corners, triangle come from, side and shares of each triangle made; triangle and shares of each point
        within one; both ends of each piece of the wall's way, and the flat of the wall it lies on.

    Returns
    -------
    triangles, points, pieces : int
        How many there are; -1 first when there is no room, -2 when the ways do not fit together.
    """
    kind, _, corners, between = cutter
    out, parent, label, weights = made
    point_face, point_uv = points
    pos, uvs, flat = np.empty((scratch, 3)), np.empty((scratch, 2)), np.empty((scratch, 2))
    ids, seams, kinds = np.empty(scratch, np.int32), np.empty(scratch, np.int32), np.empty(scratch, np.int8)
    keys = np.empty(scratch)
    ring = (pos, ids, uvs, seams, kinds, keys)
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
        border = m = _walk_border(f, faces, P, crossings, ring)
        if border < 0:
            return -1, 0, 0
        for i in range(border):
            rings[i] = i
        n_rings = 1
        begin[0], begin[1] = 0, border
        side[0] = 0
        turned = (B[0] - A[0]) * (C[1] - A[1]) - (B[1] - A[1]) * (C[0] - A[0]) < 0.0
        for x in range(border):
            if kinds[x] != -1:
                continue
            y = _way_ends(kind, x, border, turned, corners, between, kinds, keys)
            if y < 0:
                return -2, 0, 0
            end = _lead_way(cutter, m, x, y, turned, A, B, C, ring)
            if end < 0:
                return -1, 0, 0
            n_way, n_points = _number_way(
                kind, x, y, border, m, end, f, snap, vertices, n_points, ring, way, point_face, point_uv
            )
            m = end
            for i in range(n_way - 1):
                if ids[way[i]] != ids[way[i + 1]]:
                    segments[n_segments, 0], segments[n_segments, 1] = ids[way[i]], ids[way[i + 1]]
                    segments[n_segments, 2] = _face_between(
                        kind, keys, pos, way[i], way[i + 1], turned, corners.shape[0]
                    )
                    n_segments += 1
            n_rings = _part_along(way, n_way, border, rings, fresh, begin, side, n_rings)
            if n_rings < 0:
                return n_rings, 0, 0
        _lay_flat(A, B, C, uvs, m, flat)
        for r in range(n_rings):
            n = _without_doubles(rings, begin[r], begin[r + 1], ids, fresh)
            if n < 3:
                continue
            n_ears = _cut_ears(fresh, n, uvs, flat, ids, ears, 0)
            for i in range(n_ears):
                for k in range(3):
                    e = ears[i, k]
                    out[n_out, k] = ids[e]
                    weights[n_out, k, 0], weights[n_out, k, 1] = uvs[e, 0], uvs[e, 1]
                parent[n_out] = f
                label[n_out] = side[r] if n_rings > 1 else int(inside[faces[f, 0]])
                n_out += 1
    return n_out, n_points, n_segments
