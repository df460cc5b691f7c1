"""The quadrics of an edge collapse (Garland and Heckbert 1997): what it costs, and where the vertex then stands.

Open edges, and lines where the colour changes, carry a quadric of their own: a wall at right angles to the surface.
"""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["best_place", "colour_step", "gather_quadrics"]

_COLOUR_STEP = 0.5
"""What a collapse across a full change of colour costs, as a share of the edge's length squared."""


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
def colour_step(colours, a, b):
    """Difference of two vertices' colours, squared; 0 to 1.

    Parameters
    ----------
    colours : ndarray of uint8, shape (V, 3) or (0, 3)
    a, b : int
        Vertices.
    """
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
def gather_quadrics(P, faces, twins, rim_weight, colour_weight, colours, clear, span, Q, out_of, state):
    """Sum the planes round each vertex, and note an outgoing half-edge of each (the open one on a rim).

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    rim_weight : float
        Of planes through open edges.
    colour_weight : float
        Of edges of colour.
    colours : ndarray of uint8, shape (V, 3) or (0, 3)
    clear : ndarray of int8, shape (V,)
        The part of each vertex.
    span : (int, int, int)
        The part whose triangles are looked at, or -1 for those of no part; their first and last.
    Q : ndarray, shape (V, 10)
        Written.
    out_of : ndarray of int32, shape (V,)
        Written.
    state : ndarray
        Progress and cancelling.
    """
    part, begin, end = span
    for f in range(begin, end):
        if f % 65536 == 0 and state[0]:
            return
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if (clear[a] if clear[a] == clear[b] and clear[a] == clear[c] else -1) != part:
            continue
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
                step = min(colour_step(colours, u, v), colour_step(colours, u, w)) - colour_step(colours, v, w)
                if step > 0.0:
                    _add_wall(P, Q, v, w, nx, ny, nz, colour_weight * step)


@kernel
def best_place(P, Q, a, b, rim_a, rim_b, evenness, colours):
    """Best place for the vertex that a and b become, and its cost.

    The quadric's minimum, drawn a little towards the edge's middle so that it is always defined; a rim
    vertex is not drawn off its rim by one inside.

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        In mm.
    Q : ndarray, shape (V, 10)
    a, b : int
        Vertices.
    rim_a : bool
        Whether a lies on an open edge.
    rim_b : bool
        Whether b does.
    evenness : float
        By how much long edges cost more.
    colours : ndarray of uint8, shape (V, 3) or (0, 3)
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
        s = 1e-5 * weight + 1e-300
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
        extra += _COLOUR_STEP * colour_step(colours, a, b)
    return x, y, z, max(cost, 0.0) + extra * weight * length2
