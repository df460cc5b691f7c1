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
def _note(a, b, c, t, x, y, z, from_b, names, parent, log, places, dies, counter):
    """Enter a collapse into the record, by the names that vertices and triangles had at first."""
    n = counter[0]
    counter[0] = n + 1
    if log.shape[0] == 0:
        return
    log[n, 0] = names[a]
    log[n, 1] = ~names[b] if from_b else names[b]
    places[n, 0], places[n, 1], places[n, 2] = x, y, z
    dies[parent[c]] = n
    if t >= 0:
        dies[parent[t]] = n


@kernel
def try_collapse(
    h, x, y, z, P, faces, twins, Q, out_of, stamp, marks, cost, source, hold_rim,
    held, colours, names, parent, log, places, dies, counter,
):  # fmt: skip
    """Collapse the edge of half-edge h onto its start, moved to x, y, z. Returns the triangles that go, 0 if barred."""
    f = h // 3
    k = h - 3 * f
    hn, hp = 3 * f + (k + 1) % 3, 3 * f + (k + 2) % 3
    a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
    t = twins[h]
    rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
    if rim_a and rim_b and (t >= 0 or hold_rim):
        return 0
    if held.shape[0] > 0 and (held[a] or held[b]):
        return 0
    marks[0] += 1
    mark = marks[0]
    n_a = stamp_neighbours(faces, twins, out_of[a], stamp, mark)
    common, n_b = shared_neighbours(faces, twins, out_of[b], stamp, mark)
    if common != (2 if t >= 0 else 1) or n_a + n_b > _MOST_NEIGHBOURS:
        return 0
    if n_a + n_b <= 6 and t >= 0 and not (rim_a or rim_b):  # would fold a tetrahedron flat
        return 0
    if not _fits(P, faces, twins, out_of[a], b, x, y, z):
        return 0
    if not _fits(P, faces, twins, out_of[b], a, x, y, z):
        return 0
    tn, tp = twins[hn], twins[hp]
    d = -1
    gn = gp = -1
    sn = sp = -1
    if t >= 0:
        g = t // 3
        j = t - 3 * g
        d = faces[g, (j + 2) % 3]
        sn, sp = 3 * g + (j + 1) % 3, 3 * g + (j + 2) % 3
        gn, gp = twins[sn], twins[sp]
        if gn < 0 and gp < 0:  # a lone ear: its tip would be left without a triangle
            return 0
    if tn < 0 and tp < 0:
        return 0
    # which way each point is nearer decides whose colour stays
    da = (P[a, 0] - x) ** 2 + (P[a, 1] - y) ** 2 + (P[a, 2] - z) ** 2
    db = (P[b, 0] - x) ** 2 + (P[b, 1] - y) ** 2 + (P[b, 2] - z) ** 2
    if db < da:
        source[a] = source[b]
        if colours.shape[0] > 0:
            for i in range(3):
                colours[a, i] = colours[b, i]
    _note(a, b, f, t // 3 if t >= 0 else -1, x, y, z, db < da, names, parent, log, places, dies, counter)
    # all corners at b become a's
    i = out_of[b]
    while True:
        e = i // 3
        m = i - 3 * e
        faces[e, m] = a
        nxt = twins[3 * e + (m + 2) % 3]
        if nxt < 0 or nxt == out_of[b]:
            break
        i = nxt
    if tn >= 0:
        twins[tn] = tp
        cost[tn] = -1.0
    if tp >= 0:
        twins[tp] = tn
        cost[tp] = -1.0
    if t >= 0:
        if gn >= 0:
            twins[gn] = gp
            cost[gn] = -1.0
        if gp >= 0:
            twins[gp] = gn
            cost[gp] = -1.0
    start_a, start_b = out_of[a], out_of[b]
    gone = t // 3 if t >= 0 else -1
    faces[f, 0] = -1
    removed = 1
    if t >= 0:
        faces[gone, 0] = -1
        removed = 2
    # an outgoing half-edge of each vertex touched: the open one wherever there is one
    if rim_a and start_a // 3 != f and start_a // 3 != gone:
        out_of[a] = start_a
    elif rim_b and start_b // 3 != f and start_b // 3 != gone:
        out_of[a] = start_b
    else:
        out_of[a] = open_side(twins, tp if tp >= 0 else tn - tn % 3 + (tn + 1) % 3)
    if out_of[c] // 3 == f:
        out_of[c] = open_side(twins, tn if tn >= 0 else tp - tp % 3 + (tp + 1) % 3)
    if t >= 0 and out_of[d] // 3 == gone:
        out_of[d] = open_side(twins, gn if gn >= 0 else gp - gp % 3 + (gp + 1) % 3)
    P[a, 0], P[a, 1], P[a, 2] = x, y, z
    for i in range(10):
        Q[a, i] += Q[b, i]
    out_of[b] = -1
    return removed
