"""One collapse of an edge on half-edges: whether it is sound, and what it changes.

It must keep the link condition (Dey et al. 1999), turn no triangle over and make no sliver.
"""

from tinsnip.kernels import kernel
from tinsnip.treat.kit.edges.fanwalks import open_side, shared_neighbours, stamp_neighbours

__all__ = ["try_collapse"]

_MOST_NEIGHBOURS = 30
"""Edges that may meet where an edge goes."""


@kernel
def _fits(P, faces, twins, start, other, x, y, z):
    """Whether the triangles round a vertex, but those with `other`, keep their side and shape when it moves."""
    h = start
    while True:
        f = h // 3
        k = h - 3 * f
        b, c = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        if b != other and c != other:
            v = faces[f, k]
            ex, ey, ez = P[c, 0] - P[b, 0], P[c, 1] - P[b, 1], P[c, 2] - P[b, 2]
            ux, uy, uz = P[v, 0] - P[b, 0], P[v, 1] - P[b, 1], P[v, 2] - P[b, 2]
            wx, wy, wz = x - P[b, 0], y - P[b, 1], z - P[b, 2]
            nx, ny, nz = ey * uz - ez * uy, ez * ux - ex * uz, ex * uy - ey * ux
            mx, my, mz = ey * wz - ez * wy, ez * wx - ex * wz, ex * wy - ey * wx
            n2, m2 = nx * nx + ny * ny + nz * nz, mx * mx + my * my + mz * mz
            dot = nx * mx + ny * my + nz * mz
            if dot <= 0.0 or dot * dot < 0.08 * n2 * m2:
                return False
            e2 = ex * ex + ey * ey + ez * ez
            cx, cy, cz = x - P[c, 0], y - P[c, 1], z - P[c, 2]
            spread = e2 + wx * wx + wy * wy + wz * wz + cx * cx + cy * cy + cz * cz
            if m2 < 0.0036 * spread * spread:  # a sliver, unless it was one before and becomes hardly a worse one
                dx, dy, dz = P[v, 0] - P[c, 0], P[v, 1] - P[c, 1], P[v, 2] - P[c, 2]
                before = e2 + ux * ux + uy * uy + uz * uz + dx * dx + dy * dy + dz * dz
                was, now = n2 / (before * before), m2 / (spread * spread)
                if now < was and (was >= 0.0036 or now < 0.3 * was or now < 1e-6):
                    return False
                if now < 1e-12:
                    return False
        t = twins[3 * f + (k + 2) % 3]
        if t < 0 or t == start:
            return True
        h = t


@kernel
def _note(a, b, c, t, x, y, z, from_b, record):
    """Enter a collapse into the record, by the names that vertices and triangles had at first."""
    names, parent, log, places, counter = record
    n = counter[0]
    counter[0] = n + 1
    if log.shape[0] == 0:
        return
    log[n, 0] = names[a]
    log[n, 1] = ~names[b] if from_b else names[b]
    places[n, 0], places[n, 1], places[n, 2] = x, y, z
    log[n, 2] = parent[c]
    log[n, 3] = parent[t] if t >= 0 else -1


@kernel
def _is_sound(h, x, y, z, sheet, fans, holds):
    """Whether the edge of a half-edge may go, with its start moved to x, y, z."""
    P, faces, twins, out_of = sheet
    stamp, marks = fans
    hold_rim, held = holds
    f = h // 3
    k = h - 3 * f
    a, b = faces[f, k], faces[f, (k + 1) % 3]
    t = twins[h]
    rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
    if rim_a and rim_b and (t >= 0 or hold_rim):
        return False
    if held.shape[0] > 0 and (held[a] or held[b]):
        return False
    marks[0] += 1
    mark = marks[0]
    n_a = stamp_neighbours(faces, twins, out_of[a], stamp, mark)
    common, n_b = shared_neighbours(faces, twins, out_of[b], stamp, mark)
    if common != (2 if t >= 0 else 1) or n_a + n_b > _MOST_NEIGHBOURS:
        return False
    if n_a + n_b <= 6 and t >= 0 and not (rim_a or rim_b):  # would fold a tetrahedron flat
        return False
    if not _fits(P, faces, twins, out_of[a], b, x, y, z) or not _fits(P, faces, twins, out_of[b], a, x, y, z):
        return False
    if t >= 0:
        g = t // 3
        j = t - 3 * g
        if twins[3 * g + (j + 1) % 3] < 0 and twins[3 * g + (j + 2) % 3] < 0:
            return False  # a lone ear: its tip would be left without a triangle
    return twins[3 * f + (k + 1) % 3] >= 0 or twins[3 * f + (k + 2) % 3] >= 0


@kernel
def _give_corners(faces, twins, out_of, a, b):
    """Let all corners at b be a's."""
    i = out_of[b]
    while True:
        e = i // 3
        m = i - 3 * e
        faces[e, m] = a
        following = twins[3 * e + (m + 2) % 3]
        if following < 0 or following == out_of[b]:
            break
        i = following


@kernel
def _join(twins, cost, one, other):
    """Let two half-edges be each other's twins; what their edge costs is no longer known."""
    if one >= 0:
        twins[one] = other
        cost[one] = -1.0
    if other >= 0:
        twins[other] = one
        cost[other] = -1.0


@kernel
def _way_out(twins, one, other):
    """A half-edge out of the vertex that was across an edge, by the two sides of the triangle that went."""
    return open_side(twins, one if one >= 0 else other - other % 3 + (other + 1) % 3)


@kernel
def try_collapse(h, x, y, z, sheet, Q, cost, fans, holds, carried, record):
    """Collapse the edge of half-edge h onto its start, moved to x, y, z. Returns the triangles that go, 0 if barred.

    Parameters
    ----------
    h : int
    x, y, z : float
    sheet : tuple of ndarrays
        Places, triangles, twins, and a half-edge out of each vertex, the open one on a rim.
    Q : ndarray, shape (V, 10)
        Quadrics.
    cost : ndarray of float32, shape (3 F,)
        Written: -1 where it is no longer known.
    fans : tuple of ndarrays
        Marks of vertices, and the last mark that was used.
    holds : (bool, ndarray)
        Whether rims stay, and which vertices.
    carried : tuple of ndarrays
        The vertex whose attributes each has, and colours.
    record : tuple of ndarrays
        First names of vertices and triangles, and what is written down of each collapse.
    """
    if not _is_sound(h, x, y, z, sheet, fans, holds):
        return 0
    P, faces, twins, out_of = sheet
    source, colours = carried
    f = h // 3
    k = h - 3 * f
    a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
    t = twins[h]
    rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
    tn, tp = twins[3 * f + (k + 1) % 3], twins[3 * f + (k + 2) % 3]
    gone = t // 3 if t >= 0 else -1
    j = t - 3 * gone if t >= 0 else 0
    d = faces[gone, (j + 2) % 3] if t >= 0 else -1
    gn = twins[3 * gone + (j + 1) % 3] if t >= 0 else -1
    gp = twins[3 * gone + (j + 2) % 3] if t >= 0 else -1
    # which way each point is nearer decides whose colour stays
    da = (P[a, 0] - x) ** 2 + (P[a, 1] - y) ** 2 + (P[a, 2] - z) ** 2
    db = (P[b, 0] - x) ** 2 + (P[b, 1] - y) ** 2 + (P[b, 2] - z) ** 2
    if db < da:
        source[a] = source[b]
        if colours.shape[0] > 0:
            for i in range(3):
                colours[a, i] = colours[b, i]
    _note(a, b, f, gone, x, y, z, db < da, record)
    _give_corners(faces, twins, out_of, a, b)
    _join(twins, cost, tn, tp)
    if t >= 0:
        _join(twins, cost, gn, gp)
        faces[gone, 0] = -1
    faces[f, 0] = -1
    # an outgoing half-edge of each vertex touched: the open one wherever there is one
    start_a, start_b = out_of[a], out_of[b]
    if rim_a and start_a // 3 != f and start_a // 3 != gone:
        out_of[a] = start_a
    elif rim_b and start_b // 3 != f and start_b // 3 != gone:
        out_of[a] = start_b
    else:
        out_of[a] = _way_out(twins, tp, tn)
    if out_of[c] // 3 == f:
        out_of[c] = _way_out(twins, tn, tp)
    if t >= 0 and out_of[d] // 3 == gone:
        out_of[d] = _way_out(twins, gn, gp)
    P[a, 0], P[a, 1], P[a, 2] = x, y, z
    for i in range(10):
        Q[a, i] += Q[b, i]
    out_of[b] = -1
    return 2 if t >= 0 else 1
