"""Splits, collapses and flips of edges on half-edges, by length and by how many edges meet (Botsch and Kobbelt 2004).

Edges are `PLAIN`, on a `CREASE`, which may be divided and run together but not leave its line, or `LOCKED`. Vertices
are `FREE`, on a `LINE` of creases, at a `CORNER` of lines, or `FIXED`.
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.treat.kit.edges.fanwalks import open_side, shared_neighbours, stamp_neighbours

__all__ = [
    "CORNER", "CREASE", "FIXED", "FREE", "LINE", "LOCKED", "LONGEST", "PLAIN", "SHORTEST", "collapse_edge",
    "collapse_short", "count_long", "flip_edges", "split_long",
]  # fmt: skip

PLAIN, CREASE, LOCKED = 0, 1, 2
FREE, LINE, CORNER, FIXED = 0, 1, 2, 3
_NEAR = 0.05
"""Corners of lines that lie nearer to each other than so much of an edge are one."""
LONGEST, SHORTEST = 4.0 / 3.0, 4.0 / 5.0
"""Shares of the wanted length beyond which an edge is divided, or run together: a divided one is not run together
again, nor the other way round."""
_LOCKED_SHORT, _LOCKED_LONG = 0.6, 1.6
"""An edge this short may make others this long: rows of long thin triangles would never come apart otherwise, and the
halves of what it makes are longer than it."""
_MOST_ROUND = 40
_FACING = 0.5
"""Cosine of the most that a triangle may turn by when a corner of it moves along with an edge that is run together."""
_LEAST_SHAPE = 0.02
"""Least area over squared sides of a triangle that a collapse leaves, but where it was a worse one before."""
_NEEDLE = 1e-6
"""Squared area over the square of squared sides of a triangle some thousand times as long as high."""
_FLAT = 0.7
"""Cosine of the largest angle between two triangles whose edge is flipped."""


@kernel
def _length2(P, a, b):
    return (P[a, 0] - P[b, 0]) ** 2 + (P[a, 1] - P[b, 1]) ** 2 + (P[a, 2] - P[b, 2]) ** 2


@kernel
def _has_longer(P, faces, kind, f, length2):
    """Whether a triangle has a locked edge that is longer: dividing others there makes slivers without end."""
    for k in range(3):
        if kind[3 * f + k] == LOCKED and _length2(P, faces[f, k], faces[f, (k + 1) % 3]) > length2:
            return True
    return False


@kernel
def count_long(P, faces, twins, kind, size, n_f, share):
    """How many edges are longer than a share of what is wanted there.

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    kind : ndarray of uint8, shape (3 F,)
        `PLAIN`, `CREASE` or `LOCKED`, of the edge of each half-edge.
    size : ndarray, shape (V,)
        Length wanted at each vertex, mm.
    n_f : int
        Triangles in use.
    share : float
        Of that length.
    """
    n = 0
    for h in range(3 * n_f):
        if kind[h] == LOCKED or (twins[h] >= 0 and twins[h] < h):
            continue
        a, b = faces[h // 3, h % 3], faces[h // 3, (h + 1) % 3]
        wanted = share * 0.5 * (size[a] + size[b])
        n += _length2(P, a, b) > wanted * wanted
    return n


@kernel
def split_long(
    P, faces, twins, kind, out_of, standing, size, near, origin, label, n_v, n_f, share, held_from, touched, counter,
    state,
):  # fmt: skip
    """Divide edges that are longer than a share of what is wanted there, but none that comes about by that; how many
    vertices there are then.

    There must be room for a vertex and two triangles for each edge; they follow the others. Triangles with labels of
    `held_from` or more are only cut along what is divided at their border.

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    kind : ndarray of uint8, shape (3 F,)
        `PLAIN`, `CREASE` or `LOCKED`, of the edge of each half-edge.
    out_of : ndarray of int32, shape (V,)
        A half-edge out of each vertex.
    standing : ndarray of uint8, shape (V,)
        `FREE`, `LINE`, `CORNER` or `FIXED`.
    size : ndarray, shape (V,)
        Length wanted at each vertex, mm.
    near : ndarray of int32, shape (V,)
        The triangle of the old surface next to each vertex.
    origin : ndarray of int32, shape (V,)
        The old vertex that each is; -1 for one that is new.
    label : ndarray of int32, shape (F,)
        The area that each triangle belongs to.
    n_v : int
        Vertices in use.
    n_f : int
        Triangles in use.
    share : float
        Of that length.
    held_from : int
    touched : ndarray of bool, shape (F,)
        Written.
    counter : ndarray of int
        Written: how many were done.
    state : ndarray
        Progress and cancelling.
    """
    old = n_v
    for h in range(3 * n_f):
        t = twins[h]
        if kind[h] == LOCKED or (t >= 0 and t < h):
            continue
        f, k = h // 3, h % 3
        h1 = 3 * f + (k + 1) % 3
        a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        wanted = share * 0.5 * (size[a] + size[b])
        length2 = _length2(P, a, b)
        if a >= old or b >= old or length2 <= wanted * wanted:
            continue
        if _has_longer(P, faces, kind, f, length2) or (t >= 0 and _has_longer(P, faces, kind, t // 3, length2)):
            continue
        if state[0]:
            break
        m = n_v
        n_v += 1
        touched[f] = touched[counter[0]] = True
        for i in range(3):
            P[m, i] = 0.5 * (P[a, i] + P[b, i])
        size[m] = 0.5 * (size[a] + size[b])
        near[m], origin[m] = near[a], -1
        standing[m] = LINE if kind[h] == CREASE else FREE
        # (a, b, c) becomes (a, m, c), with (m, b, c) new
        g = counter[0]
        counter[0] += 1
        faces[g, 0], faces[g, 1], faces[g, 2] = m, b, c
        faces[f, (k + 1) % 3] = m
        label[g] = label[f]
        inner = LOCKED if label[f] >= held_from else PLAIN
        kind[3 * g], kind[3 * g + 1], kind[3 * g + 2] = kind[h], kind[h1], inner
        kind[h1] = inner
        far = twins[h1]
        twins[3 * g + 1] = far
        if far >= 0:
            twins[far] = 3 * g + 1
        twins[3 * g + 2], twins[h1] = h1, 3 * g + 2
        twins[3 * g] = -1
        if out_of[b] == h1:
            out_of[b] = 3 * g + 1
        out_of[m] = 3 * g
        if t < 0:
            continue
        # and (b, a, d) becomes (b, m, d), with (m, a, d) new
        e, j = t // 3, t % 3
        touched[e] = touched[counter[0]] = True
        t1 = 3 * e + (j + 1) % 3
        d = faces[e, (j + 2) % 3]
        w = counter[0]
        counter[0] += 1
        faces[w, 0], faces[w, 1], faces[w, 2] = m, a, d
        faces[e, (j + 1) % 3] = m
        label[w] = label[e]
        inner = LOCKED if label[e] >= held_from else PLAIN
        kind[3 * w], kind[3 * w + 1], kind[3 * w + 2] = kind[t], kind[t1], inner
        kind[t1] = inner
        far = twins[t1]
        twins[3 * w + 1] = far
        if far >= 0:
            twins[far] = 3 * w + 1
        twins[3 * w + 2], twins[t1] = t1, 3 * w + 2
        if out_of[a] == t1:
            out_of[a] = 3 * w + 1
        twins[h], twins[3 * w] = 3 * w, h
        twins[t], twins[3 * g] = 3 * g, t
    return n_v


@kernel
def _normal(P, a, b, c):
    ux, uy, uz = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
    wx, wy, wz = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@kernel
def _fits(P, faces, twins, size, start, other, x, y, z, wanted, longest):
    """Whether the triangles round a vertex, but those with `other`, keep side and shape, and their edges are not long,
    when it moves."""
    h = start
    while True:
        f, k = h // 3, h % 3
        v, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        for w in (b, c):
            if w != other:
                most = longest * 0.5 * (wanted + size[w])
                if (P[w, 0] - x) ** 2 + (P[w, 1] - y) ** 2 + (P[w, 2] - z) ** 2 > most * most:
                    return False
        if b != other and c != other:
            nx, ny, nz = _normal(P, v, b, c)
            ex, ey, ez = P[c, 0] - P[b, 0], P[c, 1] - P[b, 1], P[c, 2] - P[b, 2]
            wx, wy, wz = x - P[b, 0], y - P[b, 1], z - P[b, 2]
            mx, my, mz = ey * wz - ez * wy, ez * wx - ex * wz, ex * wy - ey * wx
            n2, m2 = nx * nx + ny * ny + nz * nz, mx * mx + my * my + mz * mz
            dot = nx * mx + ny * my + nz * mz
            e2 = ex * ex + ey * ey + ez * ez
            sides = e2 + wx * wx + wy * wy + wz * wz
            sides += (x - P[c, 0]) ** 2 + (y - P[c, 1]) ** 2 + (z - P[c, 2]) ** 2
            before = e2 + _length2(P, v, b) + _length2(P, v, c)
            shape, was = m2 / (sides * sides), n2 / (before * before)
            sound = was >= _NEEDLE  # one that is none faces nowhere, and must not keep others from going
            if sound and (dot <= 0.0 or dot * dot < _FACING * _FACING * n2 * m2):
                return False
            if sound and shape < _LEAST_SHAPE * _LEAST_SHAPE and shape <= was:
                return False
        t = twins[3 * f + (k + 2) % 3]
        if t < 0 or t == start:
            return True
        h = t


@kernel
def _ties_anew(faces, twins, standing, fixed, other, stamp, mark):
    """Whether an edge would come about between fixed vertices, which elsewhere may be there already.

    `fixed` and `other` are ways out of the vertex that stays and the one that is run together with it.
    """
    stamp_neighbours(faces, twins, fixed, stamp, mark)
    stay = faces[fixed // 3, fixed % 3]
    h = other
    while True:
        f, k = h // 3, h % 3
        b, c = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        if standing[b] == FIXED and b != stay and stamp[b] != mark:
            return True
        t = twins[3 * f + (k + 2) % 3]
        if t < 0:
            return standing[c] == FIXED and c != stay and stamp[c] != mark
        if t == other:
            return False
        h = t


@kernel
def collapse_edge(h, x, y, z, wanted, longest, P, faces, twins, kind, out_of, standing, size, stamp, counter):
    """Run an edge together onto its start, moved to x, y, z; the triangles that go, 0 where that would not be sound."""
    f, k = h // 3, h % 3
    hn, hp = 3 * f + (k + 1) % 3, 3 * f + (k + 2) % 3
    a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
    t = twins[h]
    rim_a, rim_b = twins[out_of[a]] < 0, twins[out_of[b]] < 0
    if rim_a and rim_b and t >= 0:
        return 0
    tn, tp = twins[hn], twins[hp]
    if (kind[hn] != PLAIN and kind[hp] != PLAIN) or (tn < 0 and tp < 0):
        return 0
    d = gn = gp = sn = sp = -1
    if t >= 0:
        g, j = t // 3, t % 3
        d = faces[g, (j + 2) % 3]
        sn, sp = 3 * g + (j + 1) % 3, 3 * g + (j + 2) % 3
        gn, gp = twins[sn], twins[sp]
        if (kind[sn] != PLAIN and kind[sp] != PLAIN) or (gn < 0 and gp < 0):
            return 0
    counter[1] += 1
    mark = counter[1]
    n_a = stamp_neighbours(faces, twins, out_of[a], stamp, mark)
    common, n_b = shared_neighbours(faces, twins, out_of[b], stamp, mark)
    if common != (2 if t >= 0 else 1) or n_a + n_b > _MOST_ROUND:
        return 0
    if n_a + n_b <= 6 and t >= 0 and not (rim_a or rim_b):  # would fold a tetrahedron flat
        return 0
    for way in range(2):
        fixed, other = (a, b) if way == 0 else (b, a)
        if standing[fixed] == FIXED:
            counter[1] += 1
            if _ties_anew(faces, twins, standing, out_of[fixed], out_of[other], stamp, counter[1]):
                return 0
    if not _fits(P, faces, twins, size, out_of[a], b, x, y, z, wanted, longest):
        return 0
    if not _fits(P, faces, twins, size, out_of[b], a, x, y, z, wanted, longest):
        return 0
    i = out_of[b]
    while True:
        e, m = i // 3, i % 3
        faces[e, m] = a
        following = twins[3 * e + (m + 2) % 3]
        if following < 0 or following == out_of[b]:
            break
        i = following
    together = max(kind[hn], kind[hp])
    if tn >= 0:
        twins[tn], kind[tn] = tp, together
    if tp >= 0:
        twins[tp], kind[tp] = tn, together
    gone = -1
    if t >= 0:
        together = max(kind[sn], kind[sp])
        if gn >= 0:
            twins[gn], kind[gn] = gp, together
        if gp >= 0:
            twins[gp], kind[gp] = gn, together
        gone = t // 3
        faces[gone, 0] = -1
    start_a, start_b = out_of[a], out_of[b]
    faces[f, 0] = -1
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
    out_of[b] = -1
    return 2 if t >= 0 else 1


@kernel
def collapse_short(P, faces, twins, kind, out_of, standing, size, near, origin, stamp, n_f, share, counter, state):
    """Run together every edge that is shorter than a share of what is wanted there, where that is sound; how many.

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    kind : ndarray of uint8, shape (3 F,)
        `PLAIN`, `CREASE` or `LOCKED`, of the edge of each half-edge.
    out_of : ndarray of int32, shape (V,)
        A half-edge out of each vertex.
    standing : ndarray of uint8, shape (V,)
        `FREE`, `LINE`, `CORNER` or `FIXED`.
    size : ndarray, shape (V,)
        Length wanted at each vertex, mm.
    near : ndarray of int32, shape (V,)
        The triangle of the old surface next to each vertex.
    origin : ndarray of int32, shape (V,)
        The old vertex that each is; -1 for one that is new.
    stamp : ndarray of int64, shape (V,)
        Marks so far.
    n_f : int
        Triangles in use.
    share : float
        Of that length.
    counter : ndarray of int
        Written: how many were done.
    state : ndarray
        Progress and cancelling.
    """
    done = 0
    for h in range(3 * n_f):
        f, k = h // 3, h % 3
        if faces[f, 0] < 0 or kind[h] == LOCKED or (twins[h] >= 0 and twins[h] < h):
            continue
        if h % 1024 == 0 and state[0]:
            return done
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        short = share * 0.5 * (size[a] + size[b])
        length2 = _length2(P, a, b)
        if length2 >= short * short:
            continue
        sa, sb = standing[a], standing[b]
        if (sa == FIXED and sb == FIXED) or (sa != FREE and sb != FREE and kind[h] != CREASE):
            continue
        near_by = _NEAR * 0.5 * (size[a] + size[b])
        if sa >= CORNER and sb >= CORNER and length2 > near_by * near_by:
            continue
        share_b = 1.0 if sb > sa else (0.0 if sa > sb or sa == CORNER else 0.5)
        x = P[a, 0] + share_b * (P[b, 0] - P[a, 0])
        y = P[a, 1] + share_b * (P[b, 1] - P[a, 1])
        z = P[a, 2] + share_b * (P[b, 2] - P[a, 2])
        if share_b == 1.0:
            x, y, z = P[b, 0], P[b, 1], P[b, 2]
        wanted = size[a] + share_b * (size[b] - size[a])
        locked = length2 < (_LOCKED_SHORT * 0.5 * (size[a] + size[b])) ** 2
        longest = _LOCKED_LONG if locked else LONGEST
        if (
            collapse_edge(h, x, y, z, wanted, longest, P, faces, twins, kind, out_of, standing, size, stamp, counter)
            == 0
        ):
            continue
        size[a] = wanted
        if sb > sa:
            standing[a], near[a], origin[a] = sb, near[b], origin[b]
        done += 1
    return done


@kernel
def _has_edge(faces, twins, start, d):
    """Whether a vertex, by an edge out of it at its open side, has an edge to d."""
    h = start
    while True:
        f, k = h // 3, h % 3
        if faces[f, (k + 1) % 3] == d or faces[f, (k + 2) % 3] == d:
            return True
        t = twins[3 * f + (k + 2) % 3]
        if t < 0 or t == start:
            return False
        h = t


@kernel
def _cotangent(P, at, p, q):
    ux, uy, uz = P[p, 0] - P[at, 0], P[p, 1] - P[at, 1], P[p, 2] - P[at, 2]
    wx, wy, wz = P[q, 0] - P[at, 0], P[q, 1] - P[at, 1], P[q, 2] - P[at, 2]
    cx, cy, cz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    size = np.sqrt(cx * cx + cy * cy + cz * cz)
    dot = ux * wx + uy * wy + uz * wz
    return dot / max(size, 1e-12 * (abs(dot) + 1e-300))


@kernel
def _least_shape(P, a, b, c):
    """Twice the area over the sum of squared sides: 0.577 for a triangle with equal sides."""
    nx, ny, nz = _normal(P, a, b, c)
    sides = _length2(P, a, b) + _length2(P, b, c) + _length2(P, c, a)
    return np.sqrt(nx * nx + ny * ny + nz * nz) / max(sides, 1e-300)


@kernel
def flip_edges(P, faces, twins, kind, out_of, standing, valence, wanted, touched, n_f, by_angle, state):
    """Flip edges so that vertices come nearer to the number of edges they want, or by angles so that opposite ones add
    up to less than a half turn; how many.

    Only edges of triangles that are touched have their turn; so are those that are flipped.

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    kind : ndarray of uint8, shape (3 F,)
        `PLAIN`, `CREASE` or `LOCKED`, of the edge of each half-edge.
    out_of : ndarray of int32, shape (V,)
        A half-edge out of each vertex.
    standing : ndarray of uint8, shape (V,)
        `FREE`, `LINE`, `CORNER` or `FIXED`.
    valence : ndarray of int32, shape (V,)
        Edges at each vertex.
    wanted : ndarray of int32, shape (V,)
    touched : ndarray of bool, shape (F,)
        Written.
    n_f : int
        Triangles in use.
    by_angle : bool
    state : ndarray
        Progress and cancelling.
    """
    done = 0
    for h in range(3 * n_f):
        g = twins[h]
        if kind[h] != PLAIN or g < h:
            continue
        if h % 1024 == 0 and state[0]:
            return done
        t, k = h // 3, h % 3
        u, j = g // 3, g % 3
        if not (touched[t] or touched[u]):
            continue
        a, b, c = faces[t, k], faces[t, (k + 1) % 3], faces[t, (k + 2) % 3]
        d = faces[u, (j + 2) % 3]
        if standing[c] == FIXED and standing[d] == FIXED:  # elsewhere they may have an edge already
            continue
        if c == d or valence[a] <= 3 or valence[b] <= 3:
            continue
        if by_angle:
            if _cotangent(P, c, a, b) + _cotangent(P, d, a, b) > -1e-3:
                continue
        before = after = 0
        for v, step in ((a, -1), (b, -1), (c, 1), (d, 1)):
            off = valence[v] - wanted[v]
            before += off * off
            after += (off + step) * (off + step)
        if not by_angle and after >= before:
            continue
        ox, oy, oz = _normal(P, a, b, c)
        qx, qy, qz = _normal(P, b, a, d)
        o2, q2 = ox * ox + oy * oy + oz * oz, qx * qx + qy * qy + qz * qz
        dot = ox * qx + oy * qy + oz * qz
        thin = min(_least_shape(P, a, b, c), _least_shape(P, b, a, d))
        if thin > 0.02 and dot < _FLAT * np.sqrt(o2 * q2):
            continue
        nx, ny, nz = _normal(P, c, a, d)
        mx, my, mz = _normal(P, d, b, c)
        sx, sy, sz = ox + qx, oy + qy, oz + qz
        s2 = sx * sx + sy * sy + sz * sz
        n2, m2 = nx * nx + ny * ny + nz * nz, mx * mx + my * my + mz * mz
        ns, ms = nx * sx + ny * sy + nz * sz, mx * sx + my * sy + mz * sz
        if ns <= 0.0 or ms <= 0.0 or ns * ns < _FLAT * _FLAT * n2 * s2 or ms * ms < _FLAT * _FLAT * m2 * s2:
            continue
        shape = min(_least_shape(P, c, a, d), _least_shape(P, d, b, c))
        if shape < thin and shape < (thin if by_angle else 0.2):
            continue
        if _has_edge(faces, twins, out_of[c], d):
            continue
        h1, h2 = 3 * t + (k + 1) % 3, 3 * t + (k + 2) % 3
        g1, g2 = 3 * u + (j + 1) % 3, 3 * u + (j + 2) % 3
        bc, ca, ad, db = twins[h1], twins[h2], twins[g1], twins[g2]
        k_bc, k_ca, k_ad, k_db = kind[h1], kind[h2], kind[g1], kind[g2]
        # the ways out that are given new places; an open one stays open
        if out_of[a] == h or out_of[a] == g1:
            out_of[a] = 3 * t + 1
        if out_of[b] == g or out_of[b] == h1:
            out_of[b] = 3 * u + 1
        if out_of[c] == h2:
            out_of[c] = 3 * t
        if out_of[d] == g2:
            out_of[d] = 3 * u
        faces[t, 0], faces[t, 1], faces[t, 2] = c, a, d
        faces[u, 0], faces[u, 1], faces[u, 2] = d, b, c
        twins[3 * t], twins[3 * t + 1], twins[3 * t + 2] = ca, ad, 3 * u + 2
        twins[3 * u], twins[3 * u + 1], twins[3 * u + 2] = db, bc, 3 * t + 2
        kind[3 * t], kind[3 * t + 1], kind[3 * t + 2] = k_ca, k_ad, PLAIN
        kind[3 * u], kind[3 * u + 1], kind[3 * u + 2] = k_db, k_bc, PLAIN
        if ca >= 0:
            twins[ca] = 3 * t
        if ad >= 0:
            twins[ad] = 3 * t + 1
        if db >= 0:
            twins[db] = 3 * u
        if bc >= 0:
            twins[bc] = 3 * u + 1
        touched[t] = touched[u] = True
        valence[a] -= 1
        valence[b] -= 1
        valence[c] += 1
        valence[d] += 1
        done += 1
    return done
