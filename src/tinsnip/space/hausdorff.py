"""How far one surface lies from another at the most: a bound that holds, not a sample.

The distance to one triangle is a convex function, so over a piece of surface it is nowhere larger than at the piece's
corners. A piece whose corners are all near enough to one triangle of the other surface is done with. So is one that
a patch of the other surface covers at known heights; the patch is gathered from neighbour to neighbour, as far as the
piece reaches. Any other piece is cut in four and looked at again (after Cignoni, Rocchini and Scopigno 1998; Guthe,
Borodin and Klein 2005), until what might still be missed is a small share of what was found.
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.space.tree import Tree, closest_points, nearest, on_triangle
from tinsnip.threads import in_chunks

__all__ = ["far_at_most"]

_DEEPEST = 14
_PATCH = 96
"""Triangles up to which a patch over a piece is gathered; a larger piece is cut."""
_TOUCH = 1e-9
"""Share of a triangle's size within which its corners count as one place, for rounding."""
_LOWER, _UPPER = 0, 1


@kernel
def _from_triangle(V, faces, t, x, y, z):
    fx, fy, fz = on_triangle(V, faces[t, 0], faces[t, 1], faces[t, 2], x, y, z)
    return np.sqrt((fx - x) ** 2 + (fy - y) ** 2 + (fz - z) ** 2)


@kernel
def _reach(V, faces, t, piece, own, most):
    """Largest distance of a piece's corners from one triangle; stops looking beyond `most`. Some are nearest to it."""
    worst = 0.0
    for k in range(3):
        if own[k] == t:
            worst = max(worst, piece[9 + k])
    for k in range(3):
        if worst > most:
            return worst
        if own[k] != t:
            worst = max(worst, _from_triangle(V, faces, t, piece[3 * k], piece[3 * k + 1], piece[3 * k + 2]))
    return worst


@kernel
def _apart(ax, ay, bx, by, cx, cy, length, eps):
    """Whether the segment from a to b keeps clear of the triangle (0, 0), (length, 0), (cx, cy), anticlockwise."""
    if max(ay, by) < -eps:
        return True
    # the other two sides, and the segment's own line
    for side in range(2):
        px, py = (length, 0.0) if side == 0 else (cx, cy)
        dx, dy = (cx - length, cy) if side == 0 else (-cx, -cy)
        reach = eps * np.sqrt(dx * dx + dy * dy)
        if dx * (ay - py) - dy * (ax - px) < -reach and dx * (by - py) - dy * (bx - px) < -reach:
            return True
    dx, dy = bx - ax, by - ay
    reach = eps * np.sqrt(dx * dx + dy * dy)
    s0 = dx * (0.0 - ay) - dy * (0.0 - ax)
    s1 = dx * (0.0 - ay) - dy * (length - ax)
    s2 = dx * (cy - ay) - dy * (cx - ax)
    return (s0 > reach and s1 > reach and s2 > reach) or (s0 < -reach and s1 < -reach and s2 < -reach)


@kernel
def _clipped_height(poly, n, cx, cy, length, spare):
    """Largest height, either way, of what lies over the triangle (0, 0), (length, 0), (cx, cy) of a flat polygon."""
    for side in range(3):
        px, py = 0.0, 0.0
        dx, dy = length, 0.0
        if side == 1:
            px, dx, dy = length, cx - length, cy
        elif side == 2:
            px, py, dx, dy = cx, cy, -cx, -cy
        m = 0
        for i in range(n):
            j = (i + 1) % n
            si = dx * (poly[i, 1] - py) - dy * (poly[i, 0] - px)
            sj = dx * (poly[j, 1] - py) - dy * (poly[j, 0] - px)
            if si >= 0.0:
                for k in range(3):
                    spare[m, k] = poly[i, k]
                m += 1
            if (si > 0.0 and sj < 0.0) or (si < 0.0 and sj > 0.0):
                t = si / (si - sj)
                for k in range(3):
                    spare[m, k] = poly[i, k] + t * (poly[j, k] - poly[i, k])
                m += 1
        n = m
        for i in range(n):
            for k in range(3):
                poly[i, k] = spare[i, k]
    worst = 0.0
    for i in range(n):
        worst = max(worst, abs(poly[i, 2]))
    return worst


@kernel
def _height_over(V, faces, twins, start, piece, most, queue, poly, spare):
    """How high a patch of the surface over all of a piece is at most, or infinity where that is more than `most`.

    Infinity, too, where none lies all across it.

    The patch is what is reached from `start` over edges that lie over the piece, so that its border does not; then it
    covers either all of the piece or, where it turns as often to as fro over one point, none for certain.
    """
    ux, uy, uz = piece[3] - piece[0], piece[4] - piece[1], piece[5] - piece[2]
    wx, wy, wz = piece[6] - piece[0], piece[7] - piece[1], piece[8] - piece[2]
    nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    length = np.sqrt(ux * ux + uy * uy + uz * uz)
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if size <= 1e-9 * length * length or length == 0.0:
        return np.inf
    ux, uy, uz = ux / length, uy / length, uz / length
    nx, ny, nz = nx / size, ny / size, nz / size
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    cx, cy = wx * ux + wy * uy + wz * uz, wx * vx + wy * vy + wz * vz
    eps = _TOUCH * (length + abs(cx) + cy)
    mx, my = (length + cx) / 3.0, cy / 3.0
    queue[0] = start
    n, i, turns = 1, 0, 0
    worst = 0.0
    while i < n:
        t = queue[i]
        i += 1
        for k in range(3):
            v = faces[t, k]
            dx, dy, dz = V[v, 0] - piece[0], V[v, 1] - piece[1], V[v, 2] - piece[2]
            poly[k, 0] = dx * ux + dy * uy + dz * uz
            poly[k, 1] = dx * vx + dy * vy + dz * vz
            poly[k, 2] = dx * nx + dy * ny + dz * nz
        for k in range(3):
            j = (k + 1) % 3
            ax, ay, bx, by = poly[k, 0], poly[k, 1], poly[j, 0], poly[j, 1]
            if (ay <= my) != (by <= my):  # how often the triangle goes round the piece's middle
                side = (bx - ax) * (my - ay) - (by - ay) * (mx - ax)
                if by > ay and side > 0.0:
                    turns += 1
                elif by < ay and side < 0.0:
                    turns -= 1
            if _apart(ax, ay, bx, by, cx, cy, length, eps):
                continue
            twin = twins[3 * t + k]
            if twin < 0:
                return np.inf
            g = twin // 3
            if faces[g, twin - 3 * g] == faces[t, k]:
                return np.inf
            known = False
            for q in range(n - 1, -1, -1):
                if queue[q] == g:
                    known = True
                    break
            if not known:
                if n >= queue.shape[0]:
                    return np.inf
                queue[n] = g
                n += 1
        height = max(abs(poly[0, 2]), abs(poly[1, 2]), abs(poly[2, 2]))
        if height > most:  # it may be less over the piece alone
            height = _clipped_height(poly, 3, cx, cy, length, spare)
        worst = max(worst, height)
        if worst > most:
            return np.inf
    return worst if turns != 0 else np.inf


@kernel
def _within(
    P, triangles, begin, end, away, hit, V, faces, order, boxes, twins, found, precision, floor, limit, state
):  # fmt: skip
    """Bound the distance of some triangles of one surface from the other; raises both of `found`."""
    stack, near = np.empty(128, dtype=np.int64), np.empty(128)
    # pieces: nine coordinates, three distances; the triangles that the corners are nearest to; how often cut
    room = 3 * _DEEPEST + 8
    pieces, owners, depth = np.empty((room, 12)), np.empty((room, 3), dtype=np.int64), np.empty(room, dtype=np.int64)
    queue, poly, spare = np.empty(_PATCH, dtype=np.int64), np.empty((12, 3)), np.empty((12, 3))
    piece, own, middle, at = np.empty(12), np.empty(3, dtype=np.int64), np.empty((3, 4)), np.empty(3, dtype=np.int64)
    for f in range(begin, end):
        if f % 64 == 0 and (state[0] or found[_LOWER] > limit):
            return
        a, b, c = triangles[f, 0], triangles[f, 1], triangles[f, 2]
        if a == b or b == c or c == a:
            continue
        bound = max(away[a], away[b], away[c])
        if hit[a] == hit[b] == hit[c] and bound <= max(found[_LOWER] * (1.0 + precision), floor):
            found[_UPPER] = max(found[_UPPER], bound)  # most of a fine surface lies over one triangle of a coarse one
            continue
        for k in range(3):
            v = triangles[f, k]
            for i in range(3):
                pieces[0, 3 * k + i] = P[v, i]
            pieces[0, 9 + k] = away[v]
            owners[0, k] = hit[v]
        depth[0] = 0
        height = 1
        while height > 0:
            height -= 1
            for i in range(12):
                piece[i] = pieces[height, i]
            for k in range(3):
                own[k] = owners[height, k]
            level = depth[height]
            enough = max(found[_LOWER] * (1.0 + precision), floor)
            largest = max(piece[9], piece[10], piece[11])
            edge = 0.0
            for k in range(3):
                j = (k + 1) % 3
                edge = max(
                    edge,
                    (piece[3 * k] - piece[3 * j]) ** 2
                    + (piece[3 * k + 1] - piece[3 * j + 1]) ** 2
                    + (piece[3 * k + 2] - piece[3 * j + 2]) ** 2,
                )
            bound = largest + np.sqrt(edge / 3.0)  # no place is farther from the nearest corner
            for k in range(3):
                if bound <= enough:
                    break
                if k == 0 or own[k] != own[k - 1]:
                    bound = min(bound, _reach(V, faces, own[k], piece, own, bound))
            if bound > enough:
                bound = min(bound, _height_over(V, faces, twins, own[0], piece, enough, queue, poly, spare))
            if bound > enough:
                x = (piece[0] + piece[3] + piece[6]) / 3.0
                y = (piece[1] + piece[4] + piece[7]) / 3.0
                z = (piece[2] + piece[5] + piece[8]) / 3.0
                best, t, _, _, _ = nearest(V, faces, order, boxes, x, y, z, own[0], stack, near)
                found[_LOWER] = max(found[_LOWER], np.sqrt(best))
                bound = min(bound, _reach(V, faces, t, piece, own, bound))
                enough = max(found[_LOWER] * (1.0 + precision), floor)
                if bound > enough:
                    bound = min(bound, _height_over(V, faces, twins, t, piece, enough, queue, poly, spare))
            if bound <= enough or level >= _DEEPEST:
                found[_UPPER] = max(found[_UPPER], bound)
                continue
            for k in range(3):  # the middle of the edge from corner k to the next
                j = (k + 1) % 3
                for i in range(3):
                    middle[k, i] = 0.5 * (piece[3 * k + i] + piece[3 * j + i])
                best, t, _, _, _ = nearest(
                    V, faces, order, boxes, middle[k, 0], middle[k, 1], middle[k, 2], own[k], stack, near
                )  # fmt: skip
                middle[k, 3] = np.sqrt(best)
                at[k] = t
                found[_LOWER] = max(found[_LOWER], middle[k, 3])
            for k in range(3):  # at each corner one, and one between the middles
                j = (k + 2) % 3
                for i in range(3):
                    pieces[height, i] = piece[3 * k + i]
                    pieces[height, 3 + i] = middle[k, i]
                    pieces[height, 6 + i] = middle[j, i]
                pieces[height, 9], pieces[height, 10], pieces[height, 11] = piece[9 + k], middle[k, 3], middle[j, 3]
                owners[height, 0], owners[height, 1], owners[height, 2] = own[k], at[k], at[j]
                depth[height] = level + 1
                height += 1
            for k in range(3):
                for i in range(3):
                    pieces[height, 3 * k + i] = middle[k, i]
                pieces[height, 9 + k] = middle[k, 3]
                owners[height, k] = at[k]
            depth[height] = level + 1
            height += 1


def far_at_most(
    first: Tree,
    second: Tree,
    twins: tuple[np.ndarray, np.ndarray],
    state: np.ndarray,
    precision: float = 0.01,
    limit: float = np.inf,
) -> tuple[float, float, np.ndarray]:
    """Bounds of the largest distance between two surfaces, both ways (the Hausdorff distance).

    Parameters
    ----------
    first, second : Tree
        Of the two surfaces.
    twins : tuple of two ndarray of int32
        Their twin tables.
    state : ndarray of int64
        Polled for cancelling.
    precision : float
        How far the upper bound may lie above the lower one, as a share.
    limit : float
        Where the distance is found to be more than this, the rest is not looked at.

    Returns
    -------
    lower : float
        A distance that some place has.
    upper : float
        None has more; infinite where the limit was passed.
    distances : ndarray
        Of all vertices in use of both surfaces.
    """
    found = np.zeros(2)
    ways, distances = [], []
    for own, other in ((first, second), (second, first)):
        used = np.zeros(len(own.vertices), dtype=bool)
        used[own.faces] = True
        which = np.flatnonzero(used)
        away, hit = np.zeros(len(own.vertices)), np.zeros(len(own.vertices), dtype=np.int32)
        away[which], hit[which] = closest_points(other, own.vertices[which], state)
        distances.append(away[which])
        found[_LOWER] = max(found[_LOWER], away.max(initial=0.0))
        ways.append((own, other, away, hit, twins[other is second]))
    extent = max(float(np.abs(tree.boxes[0]).max()) for tree in (first, second))
    floor = 1e-9 * extent
    for own, other, away, hit, links in ways:
        in_chunks(
            lambda begin, end, own=own, other=other, away=away, hit=hit, links=links: _within(
                own.vertices, own.faces, begin, end, away, hit, other.vertices, other.faces, other.order, other.boxes,
                links, found, precision, floor, limit, state,
            ),
            len(own.faces),
            4_000,
        )  # fmt: skip
    upper = np.inf if found[_LOWER] > limit else float(found[_UPPER])
    return float(found[_LOWER]), max(upper, float(found[_LOWER])), np.concatenate(distances)
