"""Vertices drawn to the middle of their neighbours within the surface, and laid back onto the one that there was."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.space.tree import Tree, nearest
from tinsnip.threads import in_chunks
from tinsnip.treat.remesh.edits import CREASE, FREE, LINE

__all__ = ["relaxed"]

_LEAST_FACING = 0.34
"""Cosine of the most that a triangle may turn by at a time, about 70 degrees."""
_ROUNDS = 8
"""Rounds in which vertices are put back until no triangle turns over; one or two do as a rule."""


@kernel
def _drawn(P, faces, twins, kind, out_of, standing, size, share, out, begin, end):
    """Where free vertices want to go within their tangent plane, and those on lines along them."""
    for v in range(begin, end):
        x, y, z = P[v, 0], P[v, 1], P[v, 2]
        start = out_of[v]
        if start >= 0 and standing[v] == FREE:
            sx = sy = sz = nx = ny = nz = total = 0.0
            h = start
            while True:
                f, k = h // 3, h % 3
                b, c = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
                ux, uy, uz = P[b, 0] - x, P[b, 1] - y, P[b, 2] - z
                wx, wy, wz = P[c, 0] - x, P[c, 1] - y, P[c, 2] - z
                ax, ay, az = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
                nx += ax
                ny += ay
                nz += az
                wanted = (size[v] + size[b] + size[c]) / 3.0
                w = np.sqrt(ax * ax + ay * ay + az * az) / (wanted * wanted)
                sx += w * (ux + wx) / 3.0
                sy += w * (uy + wy) / 3.0
                sz += w * (uz + wz) / 3.0
                total += w
                t = twins[3 * f + (k + 2) % 3]
                if t < 0 or t == start:
                    break
                h = t
            n2 = nx * nx + ny * ny + nz * nz
            if total > 0.0 and n2 > 0.0:
                # the triangles' middle moves by a third of what the vertex does
                sx, sy, sz = 1.5 * sx / total, 1.5 * sy / total, 1.5 * sz / total
                along = (sx * nx + sy * ny + sz * nz) / n2
                x += share * (sx - along * nx)
                y += share * (sy - along * ny)
                z += share * (sz - along * nz)
        elif start >= 0 and standing[v] == LINE:
            sx = sy = sz = 0.0
            met = 0
            h = start
            while True:
                f, k = h // 3, h % 3
                hp = 3 * f + (k + 2) % 3
                t = twins[hp]
                if kind[h] == CREASE:
                    b = faces[f, (k + 1) % 3]
                    sx += P[b, 0]
                    sy += P[b, 1]
                    sz += P[b, 2]
                    met += 1
                if t < 0 and kind[hp] == CREASE:
                    c = faces[f, (k + 2) % 3]
                    sx += P[c, 0]
                    sy += P[c, 1]
                    sz += P[c, 2]
                    met += 1
                if t < 0 or t == start:
                    break
                h = t
            if met == 2:
                x += share * (0.5 * sx - x)
                y += share * (0.5 * sy - y)
                z += share * (0.5 * sz - z)
        out[v, 0], out[v, 1], out[v, 2] = x, y, z


@kernel
def _laid(out, standing, which, near, V, faces, order, boxes, begin, end):
    """Lay the vertices of one standing onto the nearest place of a surface, or of lines."""
    stack, far = np.empty(128, dtype=np.int64), np.empty(128)
    for v in range(begin, end):
        if standing[v] == which:
            guess = near[v] if which == FREE else -1
            _, hit, x, y, z = nearest(V, faces, order, boxes, out[v, 0], out[v, 1], out[v, 2], guess, stack, far)
            out[v, 0], out[v, 1], out[v, 2] = x, y, z
            if which == FREE:
                near[v] = hit


@kernel
def _turned(P, Q, faces, bad, begin, end):
    """Flag the corners of triangles that would turn over or lose their height."""
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = P[b, 0] - P[a, 0], P[b, 1] - P[a, 1], P[b, 2] - P[a, 2]
        wx, wy, wz = P[c, 0] - P[a, 0], P[c, 1] - P[a, 1], P[c, 2] - P[a, 2]
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        ux, uy, uz = Q[b, 0] - Q[a, 0], Q[b, 1] - Q[a, 1], Q[b, 2] - Q[a, 2]
        wx, wy, wz = Q[c, 0] - Q[a, 0], Q[c, 1] - Q[a, 1], Q[c, 2] - Q[a, 2]
        mx, my, mz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        n2, m2 = nx * nx + ny * ny + nz * nz, mx * mx + my * my + mz * mz
        dot = nx * mx + ny * my + nz * mz
        if dot <= 0.0 or dot * dot < _LEAST_FACING * _LEAST_FACING * n2 * m2 or m2 < 1e-4 * n2:
            bad[a] = bad[b] = bad[c] = True


def relaxed(
    P: np.ndarray, faces: np.ndarray, twins: np.ndarray, kind: np.ndarray, out_of: np.ndarray, standing: np.ndarray,
    size: np.ndarray, near: np.ndarray, surface: Tree | None, lines: Tree | None, share: float,
) -> np.ndarray:  # fmt: skip
    """Where vertices lie once each was drawn towards its neighbours' middle and laid back; triangles keep their side.

    Parameters
    ----------
    P : ndarray, shape (V, 3)
        Where they lie, mm.
    faces, twins, kind : ndarray of int
        The triangles, their twins and the kind of each half-edge.
    out_of, standing, size, near : ndarray, shape (V,)
        A half-edge out of each vertex, its standing, the edge length wanted there, and the surface's triangle that it
        lies on, which is written anew.
    surface : Tree, optional
        Of the surface to lie on; where none is given they stay in their tangent planes.
    lines : Tree, optional
        Of the creases, each edge a triangle without height.
    share : float
        How far they go at a time; 0 only lays them back.

    Returns
    -------
    ndarray, shape (V, 3)
    """
    count = len(P)
    Q = np.empty_like(P)
    in_chunks(
        lambda i, j: _drawn(P, faces, twins, kind, out_of, standing, size, share, Q, i, j), count, 20_000
    )  # fmt: skip
    for which, tree in ((FREE, surface), (LINE, lines)):
        if tree is not None:
            in_chunks(
                lambda i, j, w=which, t=tree: _laid(
                    Q, standing, w, near, t.vertices, t.faces, t.order, t.boxes, i, j
                ),
                count,
                8_000,
            )  # fmt: skip
    for _ in range(_ROUNDS):
        bad = np.zeros(count, dtype=np.bool_)
        in_chunks(lambda i, j, bad=bad: _turned(P, Q, faces, bad, i, j), len(faces), 50_000)
        if not bad.any():
            return Q
        Q[bad] = P[bad]
    return P
