"""Quadric edge collapse (Garland and Heckbert 1997) on half-edges.

Two phases, both cheap on memory. While the mesh is large, passes in memory order collapse every edge under
a cost that rises from pass to pass: neighbours in the mesh are neighbours in memory, which is worth more
than a strict order. Then a bucket queue keyed by the bits of the cost takes over; an entry's cost is worked
out again only when it comes up, since quadrics only grow and an old cost is a lower bound.

The order of the collapses depends on the mesh and the options alone, never on where they stop. So a mesh
reduced to fewer triangles is the same run carried further, and one record holds every level (Hoppe 1996).
A pass visits its blocks of memory in strides, so that a level in the middle of a pass is even all over.

Open edges carry a quadric of their own at right angles to the surface. A collapse must keep the link
condition (Dey et al. 1999), turn no triangle over and make no sliver.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.progress import Progress
from tinsnip.threads import in_chunks
from tinsnip.treat.record import Level, Record

__all__ = ["Holds", "collapse_to", "record_collapses"]

_RIM_WEIGHT = 30.0
_EVENNESS = 1e-6
_EVEN_ALL_OVER = 0.02
_COLOUR_WEIGHT = 20.0
_COLOUR_STEP = 0.5
"""What a collapse across a full change of colour costs, as a share of the edge's length squared."""
_QUEUE_FROM = 0.05
"""Share of the triangles at which the queue takes over from the passes; a small mesh is left to it altogether."""
_QUEUE_AT_LEAST = 40_000
_PASS_SHARE = 0.35
"""Share of the edges, the cheapest, that a pass may collapse; more is faster and no worse up to here."""
_MOST_NEIGHBOURS = 30


@kernel
def _add_plane(Q, v, nx, ny, nz, d, w):
    Q[v, 0] += w * nx * nx
    Q[v, 1] += w * nx * ny
    Q[v, 2] += w * nx * nz
    Q[v, 3] += w * nx * d
    Q[v, 4] += w * ny * ny
    Q[v, 5] += w * ny * nz
    Q[v, 6] += w * ny * d
    Q[v, 7] += w * nz * nz
    Q[v, 8] += w * nz * d
    Q[v, 9] += w * d * d


@kernel
def _colour_step(colours, a, b):
    """Difference of two vertices' colours, squared; 0 to 1."""
    step = 0.0
    for i in range(3):
        step += (np.float64(colours[a, i]) - np.float64(colours[b, i])) ** 2
    return step / 195075.0


@kernel
def _add_wall(P, Q, v, w, nx, ny, nz, weight):
    """Add to both ends of an edge the plane that stands on it, square to the surface of normal n."""
    ex, ey, ez = P[w, 0] - P[v, 0], P[w, 1] - P[v, 1], P[w, 2] - P[v, 2]
    px, py, pz = ey * nz - ez * ny, ez * nx - ex * nz, ex * ny - ey * nx
    length2 = px * px + py * py + pz * pz
    if length2 > 0.0:
        length = np.sqrt(length2)
        px, py, pz = px / length, py / length, pz / length
        d = -(px * P[v, 0] + py * P[v, 1] + pz * P[v, 2])
        _add_plane(Q, v, px, py, pz, d, weight * length2)
        _add_plane(Q, w, px, py, pz, d, weight * length2)


@kernel
def _quadrics(P, faces, twins, rim_weight, colour_weight, colours, Q, out_of, state):
    """Sum the planes round each vertex, and note an outgoing half-edge of each (the open one on a rim)."""
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
        wx, wy, wz = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        if size > 0.0:
            nx, ny, nz = nx / size, ny / size, nz / size
            d = -(nx * P[a, 0] + ny * P[a, 1] + nz * P[a, 2])
            for v in (a, b, c):
                _add_plane(Q, v, nx, ny, nz, d, 0.5 * size)
        for k in range(3):
            h = 3 * f + k
            v, w = faces[f, k], faces[f, (k + 1) % 3]
            if twins[h] < 0:
                out_of[v] = h
                if size > 0.0:
                    _add_wall(P, Q, v, w, nx, ny, nz, rim_weight)
            elif out_of[v] < 0:
                out_of[v] = h
            if colours.shape[0] > 0 and size > 0.0:
                # an edge of one colour with another colour across the triangle: the line between them runs along it
                u = faces[f, (k + 2) % 3]
                step = min(_colour_step(colours, u, v), _colour_step(colours, u, w)) - _colour_step(colours, v, w)
                if step > 0.0:
                    _add_wall(P, Q, v, w, nx, ny, nz, colour_weight * step)


@kernel
def _place(P, Q, a, b, rim_a, rim_b, evenness, colours):
    """Best place for the vertex that a and b become, and its cost.

    The quadric's minimum, drawn a little towards the edge's middle so that it is always defined; a rim
    vertex is not drawn off its rim by one inside.
    """
    q0, q1, q2, q3 = Q[a, 0] + Q[b, 0], Q[a, 1] + Q[b, 1], Q[a, 2] + Q[b, 2], Q[a, 3] + Q[b, 3]
    q4, q5, q6 = Q[a, 4] + Q[b, 4], Q[a, 5] + Q[b, 5], Q[a, 6] + Q[b, 6]
    q7, q8, q9 = Q[a, 7] + Q[b, 7], Q[a, 8] + Q[b, 8], Q[a, 9] + Q[b, 9]
    ax, ay, az = P[a, 0], P[a, 1], P[a, 2]
    bx, by, bz = P[b, 0], P[b, 1], P[b, 2]
    weight = q0 + q4 + q7
    dx, dy, dz = bx - ax, by - ay, bz - az
    length2 = dx * dx + dy * dy + dz * dz
    if rim_a and not rim_b:
        x, y, z = ax, ay, az
    elif rim_b and not rim_a:
        x, y, z = bx, by, bz
    elif rim_a:
        # along the rim's own line, so that a flat rim stays flat
        ux, uy, uz = q0 * dx + q1 * dy + q2 * dz, q1 * dx + q4 * dy + q5 * dz, q2 * dx + q5 * dy + q7 * dz
        bend = dx * ux + dy * uy + dz * uz
        slope = ax * ux + ay * uy + az * uz + dx * q3 + dy * q6 + dz * q8
        t = 0.5
        if bend > 1e-9 * weight * length2:
            t = min(max(-slope / bend, 0.0), 1.0)
        x, y, z = ax + t * dx, ay + t * dy, az + t * dz
    else:
        mx, my, mz = 0.5 * (ax + bx), 0.5 * (ay + by), 0.5 * (az + bz)
        s = 1e-3 * weight + 1e-300
        # gradient at the middle
        gx = q0 * mx + q1 * my + q2 * mz + q3
        gy = q1 * mx + q4 * my + q5 * mz + q6
        gz = q2 * mx + q5 * my + q7 * mz + q8
        A, B, C, D, E, F = q0 + s, q1, q2, q4 + s, q5, q7 + s
        c00, c01, c02 = D * F - E * E, C * E - B * F, B * E - C * D
        det = A * c00 + B * c01 + C * c02
        x, y, z = mx, my, mz
        if det > 0.0:
            c11, c12, c22 = A * F - C * C, B * C - A * E, A * D - B * B
            ox = -(c00 * gx + c01 * gy + c02 * gz) / det
            oy = -(c01 * gx + c11 * gy + c12 * gz) / det
            oz = -(c02 * gx + c12 * gy + c22 * gz) / det
            if ox * ox + oy * oy + oz * oz <= 4.0 * length2:
                x, y, z = mx + ox, my + oy, mz + oz
    cost = (
        x * (q0 * x + 2.0 * (q1 * y + q2 * z + q3)) + y * (q4 * y + 2.0 * (q5 * z + q6)) + z * (q7 * z + 2.0 * q8) + q9
    )
    extra = evenness
    if colours.shape[0] > 0:
        extra += _COLOUR_STEP * _colour_step(colours, a, b)
    return x, y, z, max(cost, 0.0) + extra * weight * length2


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
            if m2 < 0.0036 * spread * spread:  # a sliver, unless it was a worse one before
                dx, dy, dz = P[v, 0] - P[c, 0], P[v, 1] - P[c, 1], P[v, 2] - P[c, 2]
                before = e2 + ux * ux + uy * uy + uz * uz + dx * dx + dy * dy + dz * dz
                if m2 * before * before < n2 * spread * spread or m2 < 1e-12 * spread * spread:
                    return False
        t = twins[3 * f + (k + 2) % 3]
        if t < 0 or t == start:
            return True
        h = t


@kernel
def _mark(faces, twins, start, stamp, mark):
    """Stamp the neighbours of a vertex; returns how many."""
    n = 0
    h = start
    while True:
        f = h // 3
        k = h - 3 * f
        stamp[faces[f, (k + 1) % 3]] = mark
        n += 1
        t = twins[3 * f + (k + 2) % 3]
        if t < 0:
            stamp[faces[f, (k + 2) % 3]] = mark
            return n + 1
        if t == start:
            return n
        h = t


@kernel
def _shared(faces, twins, start, stamp, mark):
    """How many neighbours of a vertex are stamped, and how many it has."""
    n = 0
    common = 0
    h = start
    while True:
        f = h // 3
        k = h - 3 * f
        common += stamp[faces[f, (k + 1) % 3]] == mark
        n += 1
        t = twins[3 * f + (k + 2) % 3]
        if t < 0:
            common += stamp[faces[f, (k + 2) % 3]] == mark
            return common, n + 1
        if t == start:
            return common, n
        h = t


@kernel
def _open_side(twins, h):
    """Turn clockwise about the start of h to its open half-edge; h itself where the fan is closed."""
    i = h
    while True:
        t = twins[i]
        if t < 0:
            return i
        i = t - t % 3 + (t + 1) % 3
        if i == h:
            return h


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
def _try_collapse(
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
    n_a = _mark(faces, twins, out_of[a], stamp, mark)
    common, n_b = _shared(faces, twins, out_of[b], stamp, mark)
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
        out_of[a] = _open_side(twins, tp if tp >= 0 else tn - tn % 3 + (tn + 1) % 3)
    if out_of[c] // 3 == f:
        out_of[c] = _open_side(twins, tn if tn >= 0 else tp - tp % 3 + (tp + 1) % 3)
    if t >= 0 and out_of[d] // 3 == gone:
        out_of[d] = _open_side(twins, gn if gn >= 0 else gp - gp % 3 + (gp + 1) % 3)
    P[a, 0], P[a, 1], P[a, 2] = x, y, z
    for i in range(10):
        Q[a, i] += Q[b, i]
    out_of[b] = -1
    return removed


@kernel
def _price_all(P, Q, faces, twins, out_of, cost, evenness, colours, state, begin, end):
    for h in range(begin, end):
        if h % 65536 == 0 and state[0]:
            return
        t = twins[h]
        f = h // 3
        if faces[f, 0] < 0 or (t >= 0 and t < h):
            continue
        k = h - 3 * f
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
        _, _, _, cost[h] = _place(P, Q, a, b, rim_a, rim_b, evenness, colours)


@kernel
def _sample_costs(faces, twins, cost, step, out):
    n = 0
    for h in range(0, twins.shape[0], step):
        t = twins[h]
        if faces[h // 3, 0] < 0 or (t >= 0 and t < h) or cost[h] < 0.0:
            continue
        if n < out.shape[0]:
            out[n] = cost[h]
            n += 1
    return n


@kernel
def _common_divisor(a, b):
    while b:
        a, b = b, a % b
    return a


@kernel
def _pass(
    P, Q, faces, twins, out_of, stamp, marks, cost, source, hold_rim, evenness,
    held, colours, names, parent, log, places, dies, counter, threshold, live, stop, state,
):  # fmt: skip
    """Collapse what costs less than the threshold, in memory order within blocks; returns the triangles left."""
    begun = live
    blocks = (twins.shape[0] + 12287) // 12288
    stride = max(1, int(0.618 * blocks)) | 1
    while blocks > 1 and _common_divisor(stride, blocks) > 1:
        stride += 2
    for i in range(blocks * 12288):
        h = (i // 12288 * stride) % blocks * 12288 + i % 12288
        if h >= twins.shape[0]:
            continue
        if i % 12288 == 0:
            if state[0]:
                return live
            state[1] += begun - live
            begun = live
        if cost[h] > threshold:
            continue
        t = twins[h]
        f = h // 3
        if faces[f, 0] < 0 or (t >= 0 and t < h):
            continue
        k = h - 3 * f
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
        x, y, z, c = _place(P, Q, a, b, rim_a, rim_b, evenness, colours)
        cost[h] = c
        if c > threshold:
            continue
        gone = _try_collapse(
            h, x, y, z, P, faces, twins, Q, out_of, stamp, marks, cost, source, hold_rim,
            held, colours, names, parent, log, places, dies, counter,
        )  # fmt: skip
        if gone == 0:
            cost[h] = 3.0 * threshold  # looked at again when the threshold has passed that
        live -= gone
        if live <= stop:
            break
    return live


@kernel
def _queue(
    P, Q, faces, twins, out_of, stamp, marks, cost, source, hold_rim, evenness,
    held, colours, names, parent, log, places, dies, counter, live, stop, state,
):  # fmt: skip
    """Collapse the cheapest edge again and again; returns the triangles left."""
    head = np.full(65536, -1, dtype=np.int32)
    nxt = np.full(twins.shape[0], -1, dtype=np.int32)
    waiting = np.zeros(twins.shape[0], dtype=np.uint8)
    box = np.empty(1, dtype=np.float32)
    bits = box.view(np.uint32)
    for h in range(twins.shape[0] - 1, -1, -1):
        t = twins[h]
        if faces[h // 3, 0] < 0 or (t >= 0 and t < h):
            continue
        box[0] = max(cost[h], 0.0)
        i = bits[0] >> np.uint32(15)
        nxt[h] = head[i]
        head[i] = h
        waiting[h] = 1
    at = 0
    polls = 0
    begun = live
    while live > stop:
        while at < 65536 and head[at] < 0:
            at += 1
        if at >= 65536:
            break
        polls += 1
        if polls % 8192 == 0:
            if state[0]:
                return live
            state[1] += begun - live
            begun = live
        h = head[at]
        head[at] = nxt[h]
        waiting[h] = 0
        f = h // 3
        if faces[f, 0] < 0:
            continue
        k = h - 3 * f
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
        x, y, z, c = _place(P, Q, a, b, rim_a, rim_b, evenness, colours)
        box[0] = c
        i = bits[0] >> np.uint32(15)
        if i > at:
            nxt[h] = head[i]
            head[i] = h
            waiting[h] = 1
            continue
        t = twins[h]
        gone = _try_collapse(
            h, x, y, z, P, faces, twins, Q, out_of, stamp, marks, cost, source, hold_rim,
            held, colours, names, parent, log, places, dies, counter,
        )  # fmt: skip
        if gone == 0:
            box[0] = max(4.0 * c, 1e-30)
            i = max(bits[0] >> np.uint32(15), np.uint32(at + 1))
            if i < 65000 and cost[h] < 1e25:
                cost[h] = max(4.0 * cost[h], 1e-30)
                nxt[h] = head[i]
                head[i] = h
                waiting[h] = 1
            continue
        live -= gone
        # two pairs of edges have become one each; see that each still has an entry
        start = out_of[a]
        i2 = start
        while True:
            e = i2 // 3
            m = i2 - 3 * e
            tw = twins[i2]
            if waiting[i2] == 0 and (tw < 0 or waiting[tw] == 0):
                nxt[i2] = head[at]
                head[at] = i2
                waiting[i2] = 1
            s = twins[3 * e + (m + 2) % 3]
            if s < 0:
                last = 3 * e + (m + 2) % 3
                if waiting[last] == 0:
                    nxt[last] = head[at]
                    head[at] = last
                    waiting[last] = 1
                break
            if s == start:
                break
            i2 = s
    return live


@kernel
def _squeeze(P, Q, faces, twins, out_of, cost, source, names, held, colours, parent, new_vertex, new_face):
    """Close the gaps that collapses left, in place; returns how many vertices and triangles there are."""
    n_v = 0
    for v in range(new_vertex.shape[0]):
        new_vertex[v] = -1
        if out_of[v] >= 0:
            new_vertex[v] = n_v
            n_v += 1
    n_f = 0
    for f in range(new_face.shape[0]):
        new_face[f] = -1
        if faces[f, 0] >= 0:
            new_face[f] = n_f
            n_f += 1
    for v in range(new_vertex.shape[0]):
        w = new_vertex[v]
        if w >= 0:
            for k in range(3):
                P[w, k] = P[v, k]
            for k in range(10):
                Q[w, k] = Q[v, k]
            source[w] = source[v]
            names[w] = names[v]
            if held.shape[0] > 0:
                held[w] = held[v]
            if colours.shape[0] > 0:
                for k in range(3):
                    colours[w, k] = colours[v, k]
            out_of[w] = 3 * new_face[out_of[v] // 3] + out_of[v] % 3
    for f in range(new_face.shape[0]):
        g = new_face[f]
        if g >= 0:
            parent[g] = parent[f]
            for k in range(3):
                faces[g, k] = new_vertex[faces[f, k]]
                t = twins[3 * f + k]
                twins[3 * g + k] = 3 * new_face[t // 3] + t % 3 if t >= 0 else t
                cost[3 * g + k] = cost[3 * f + k]
    # an edge's cost stands at its lower half-edge, and squeezing keeps the order
    return n_v, n_f


@kernel
def _shift_back(names, places, vertices, origin):
    """Put places back into the mesh's own frame; one that has not moved gets exactly its old coordinates."""
    for i in range(names.shape[0]):
        for k in range(3):
            old = vertices[names[i], k]
            places[i, k] = old if places[i, k] == old - origin[k] else places[i, k] + origin[k]


class Holds(NamedTuple):
    """What a reduction must leave alone, and how it spreads its triangles.

    Attributes
    ----------
    rims : bool
        Leave open edges exactly as they are.
    colours : ndarray of uint8, shape (V, 3), or None
        Vertex colours whose edges are to be held.
    vertices : ndarray of bool, shape (V,), or None
        Vertices that neither move nor go.
    even : bool
        Triangles of one size all over, rather than fewer where the surface is flat.
    """

    rims: bool = False
    colours: np.ndarray | None = None
    vertices: np.ndarray | None = None
    even: bool = False


class _Work:
    """The arrays of a reduction under way."""

    def __init__(self, vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, holds: Holds, keep_log: bool):
        if (twins < -1).any():
            raise BadInput("tangled edges cannot be reduced; mend them first")
        self.origin = 0.5 * (vertices.min(axis=0) + vertices.max(axis=0))
        self.n_v, self.n_f = len(vertices), len(faces)
        self.P = vertices - self.origin
        self.faces, self.twins = faces.copy(), twins.copy()
        self.Q = np.zeros((self.n_v, 10))
        self.out_of = np.full(self.n_v, -1, dtype=np.int32)
        self.stamp = np.zeros(self.n_v, dtype=np.int32)
        self.marks = np.zeros(1, dtype=np.int32)
        self.cost = np.zeros(len(twins), dtype=np.float32)
        self.source = np.arange(self.n_v, dtype=np.int32)
        self.names = np.arange(self.n_v, dtype=np.int32)
        self.parent = np.arange(self.n_f, dtype=np.int32)
        self.rims = bool(holds.rims)
        self.evenness = _EVEN_ALL_OVER if holds.even else _EVENNESS
        colours, held = holds.colours, holds.vertices
        self.colours = np.empty((0, 3), dtype=np.uint8) if colours is None else colours.astype(np.uint8)
        self.held = np.empty(0, dtype=np.uint8) if held is None else held.astype(np.uint8)
        self.log = np.empty((self.n_v if keep_log else 0, 2), dtype=np.int32)
        self.places = np.empty((len(self.log), 3))
        self.dies = np.full(self.n_f if keep_log else 0, np.iinfo(np.int32).max, dtype=np.int32)
        self.counter = np.zeros(1, dtype=np.int64)

    def _shared(self) -> tuple:
        """What passes and queue are both given."""
        return (
            self.P, self.Q, self.faces, self.twins, self.out_of, self.stamp, self.marks, self.cost, self.source,
            self.rims, self.evenness, self.held, self.colours, self.names, self.parent, self.log, self.places,
            self.dies, self.counter,
        )  # fmt: skip

    def squeeze(self) -> None:
        """Close the gaps that collapses have left."""
        n_v, n_f = self.n_v, self.n_f
        n_v, n_f = _squeeze(
            self.P, self.Q, self.faces, self.twins, self.out_of, self.cost, self.source, self.names, self.held,
            self.colours, self.parent, np.empty(n_v, dtype=np.int32), np.empty(n_f, dtype=np.int32),
        )  # fmt: skip
        self.n_v, self.n_f = n_v, n_f
        for name in ("P", "Q", "out_of", "source", "names", "stamp", "held", "colours"):
            setattr(self, name, getattr(self, name)[:n_v])
        self.faces, self.twins = self.faces[:n_f], self.twins[: 3 * n_f]
        self.cost, self.parent = self.cost[: 3 * n_f], self.parent[:n_f]

    def reduce(self, target: int, progress: Progress) -> int:
        """Collapse down to a number of triangles; returns how many are left."""
        live = self.n_f
        queue_from = max(_QUEUE_FROM * self.n_f, _QUEUE_AT_LEAST)
        state = progress.step("Reducing", max(1, live - target))
        _quadrics(self.P, self.faces, self.twins, _RIM_WEIGHT, _COLOUR_WEIGHT, self.colours, self.Q, self.out_of, state)
        progress.check()
        given = self.P, self.Q, self.faces, self.twins, self.out_of, self.cost, self.evenness, self.colours, state
        in_chunks(lambda begin, end: _price_all(*given, begin, end), len(self.twins), 300_000)
        sample = np.empty(40000, dtype=np.float32)
        stalled = 0
        while live > max(queue_from, target) and stalled < 30:
            progress.check()
            n = _sample_costs(self.faces, self.twins, self.cost, max(1, len(self.twins) // 60000) | 1, sample)
            if n == 0:
                break
            threshold = np.float32(np.quantile(sample[:n], _PASS_SHARE))
            before = live
            live = _pass(*self._shared(), threshold, live, max(int(queue_from), target), state)
            stalled = stalled + 1 if before - live < 0.002 * before else 0
            if live < 0.7 * self.n_f:
                self.squeeze()
        progress.check()
        if live > target:
            self.squeeze()
            live = _queue(*self._shared(), live, target, state)
            progress.check()
        return live


def collapse_to(
    vertices: np.ndarray,
    faces: np.ndarray,
    twins: np.ndarray,
    target: int,
    holds: Holds,
    progress: Progress,
) -> Level:
    """Reduce a mesh to a number of triangles.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Without tangled or flipped edges, pinched or unused vertices.
    twins : ndarray of int32, shape (3 F,)
    target : int
        Triangles wanted; more are left where no collapse is sound.
    holds : Holds
    progress : Progress

    Raises
    ------
    BadInput
        When an edge is tangled.
    Cancelled
    """
    work = _Work(vertices, faces, twins, holds, keep_log=False)
    work.reduce(target, progress)
    work.squeeze()
    _shift_back(work.names, work.P, vertices, work.origin)
    return Level(work.P.copy(), work.faces.copy(), work.source.copy(), work.parent.copy())


def record_collapses(
    vertices: np.ndarray,
    faces: np.ndarray,
    twins: np.ndarray,
    holds: Holds,
    progress: Progress,
    fewest: int = 300,
) -> Record:
    """Reduce a mesh as far as `fewest` triangles and record how, so that any level can be rebuilt.

    Parameters are those of `collapse_to`; the record's level of n triangles is what that gives for n.
    """
    work = _Work(vertices, faces, twins, holds, keep_log=True)
    work.reduce(min(fewest, len(faces)), progress)
    count = int(work.counter[0])
    log, places = work.log[:count].copy(), work.places[:count].copy()
    _shift_back(log[:, 0].copy(), places, vertices, work.origin)
    return Record(vertices, faces, log, places, work.dies)
