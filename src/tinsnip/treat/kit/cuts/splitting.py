"""Splitting triangles exactly along a plane; what lies off it stays to the bit."""

from typing import NamedTuple

import numpy as np
from scipy import sparse

from tinsnip.kernels import kernel
from tinsnip.mesh import Domain, Lineage, Mesh
from tinsnip.mesh.halfedges import ABSENT, RING
from tinsnip.mesh.subsets import number_used
from tinsnip.progress import Progress

__all__ = ["Split", "split_by_plane"]

_ON_PLANE = 1e-9
"""Vertices within this share of the diagonal lie on the plane."""


class Split(NamedTuple):
    """What is left above a plane.

    Attributes
    ----------
    mesh : Mesh
        The mesh above; the very one that was given where the plane meets nothing.
    on_plane : ndarray of bool, shape (V,)
        Its vertices that lie on the plane.
    gone, divided : int
        How many of the triangles before went whole, and how many were divided.
    """

    mesh: Mesh
    on_plane: np.ndarray
    gone: int
    divided: int


@kernel
def _heights(vertices, n, offset, tolerance, height):
    for v in range(vertices.shape[0]):
        d = vertices[v, 0] * n[0] + vertices[v, 1] * n[1] + vertices[v, 2] * n[2] - offset
        height[v] = 0.0 if abs(d) <= tolerance else d


@kernel
def _count(faces, twins, height, normal, vertices, cut_of, keep, state):
    """Classify triangles (1 stays, 2 is split, 0 goes) and number the cut edges. Returns both counts."""
    n_cut = n_out = 0
    for f in range(faces.shape[0]):
        if f % 65536 == 0:
            if state[0]:
                return -1, -1
            state[1] = f
        ha, hb, hc = height[faces[f, 0]], height[faces[f, 1]], height[faces[f, 2]]
        low, high = min(ha, hb, hc), max(ha, hb, hc)
        if low >= 0:
            keep[f] = 1
            if high == 0:
                # lies in the plane: it bounds the kept side only if it faces the waste side
                a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
                ux, uy, uz = (
                    vertices[b, 0] - vertices[a, 0],
                    vertices[b, 1] - vertices[a, 1],
                    vertices[b, 2] - vertices[a, 2],
                )
                wx, wy, wz = (
                    vertices[c, 0] - vertices[a, 0],
                    vertices[c, 1] - vertices[a, 1],
                    vertices[c, 2] - vertices[a, 2],
                )
                up = normal[0] * (uy * wz - uz * wy) + normal[1] * (uz * wx - ux * wz) + normal[2] * (ux * wy - uy * wx)
                keep[f] = 1 if up < 0 else 0
            n_out += keep[f]
        elif high <= 0:
            keep[f] = 0
        else:
            keep[f] = 2
            below = (ha < 0) + (hb < 0) + (hc < 0)
            zeros = (ha == 0) + (hb == 0) + (hc == 0)
            n_out += 1 if below == 2 or zeros == 1 else 2
            for k in range(3):
                p, q = height[faces[f, k]], height[faces[f, (k + 1) % 3]]
                if (p < 0 and q > 0) or (p > 0 and q < 0):
                    h = 3 * f + k
                    if cut_of[h] < 0:
                        cut_of[h] = n_cut
                        t = twins[h]
                        if t >= 0:
                            cut_of[t] = n_cut
                        elif t <= RING and t != ABSENT:
                            i = RING - t
                            while i != h:
                                cut_of[i] = n_cut
                                i = RING - twins[i]
                        n_cut += 1
    return n_cut, n_out


@kernel
def _cut_points(corner, vertices, height, cut_of, n, offset, ends, share, points):
    """Where the cut edges meet the plane, reckoned from the lower-numbered end."""
    for h in range(cut_of.shape[0]):
        i = cut_of[h]
        if i < 0 or ends[i, 0] >= 0:
            continue
        a, b = corner[h], corner[h - 2 if h % 3 == 2 else h + 1]
        if a > b:
            a, b = b, a
        t = height[a] / (height[a] - height[b])
        ends[i, 0], ends[i, 1], share[i] = a, b, t
        for k in range(3):
            points[i, k] = vertices[a, k] + t * (vertices[b, k] - vertices[a, k])
        # once more onto the plane, against rounding
        off = points[i, 0] * n[0] + points[i, 1] * n[1] + points[i, 2] * n[2] - offset
        for k in range(3):
            points[i, k] -= off * n[k]


@kernel
def _build(faces, height, cut_of, keep, share, base, out, parent, corner_from, corner_to, corner_share):
    """Emit the kept triangles; cut points are numbered from `base`.

    The value of each corner lies between those of two old corners of its triangle, by a share.
    """
    n = 0
    for f in range(faces.shape[0]):
        if keep[f] == 1:
            for k in range(3):
                out[n, k] = faces[f, k]
                corner_from[3 * n + k] = corner_to[3 * n + k] = 3 * f + k
                corner_share[3 * n + k] = 0.0
            parent[n] = f
            n += 1
        elif keep[f] == 2:
            # walk round, keeping corners that are not below and adding the cut points
            ring = np.empty(4, dtype=np.int32)
            source = np.empty((4, 2), dtype=np.int64)
            lean = np.zeros(4)
            m = 0
            for k in range(3):
                v = faces[f, k]
                if height[v] >= 0:
                    ring[m] = v
                    source[m, 0] = source[m, 1] = 3 * f + k
                    m += 1
                if cut_of[3 * f + k] >= 0:
                    ring[m] = base + cut_of[3 * f + k]
                    here, there = 3 * f + k, 3 * f + (k + 1) % 3
                    if v > faces[f, (k + 1) % 3]:  # the share counts from the lower-numbered end
                        here, there = there, here
                    source[m, 0], source[m, 1] = here, there
                    lean[m] = share[cut_of[3 * f + k]]
                    m += 1
            for i in range(1, m - 1):
                for k in range(3):
                    j = 0 if k == 0 else i + k - 1
                    out[n, k] = ring[j]
                    corner_from[3 * n + k], corner_to[3 * n + k] = source[j, 0], source[j, 1]
                    corner_share[3 * n + k] = lean[j]
                parent[n] = f
                n += 1
    return n


def split_by_plane(mesh: Mesh, normal: np.ndarray, offset: float, progress: Progress) -> Split:
    """Keep what lies above a plane; triangles that it crosses are divided exactly on it.

    The same plane the other way round gives the rest, with the very same points along the cut.

    Parameters
    ----------
    mesh : Mesh
    normal : ndarray, shape (3,)
        Unit normal towards what is kept.
    offset : float
        Distance of the plane from the origin along it, mm.
    progress : Progress

    Returns
    -------
    Split
        With an empty mesh where nothing lies above.

    Raises
    ------
    Cancelled
    """
    state = progress.step("Cutting", len(mesh.faces))
    height = np.empty(len(mesh.vertices))
    _heights(mesh.vertices, normal, offset, _ON_PLANE * max(mesh.diagonal, 1e-300), height)
    cut_of = np.full(3 * len(mesh.faces), -1, dtype=np.int32)
    keep = np.zeros(len(mesh.faces), dtype=np.uint8)
    n_cut, n_out = _count(mesh.faces, mesh.twins, height, normal, mesh.vertices, cut_of, keep, state)
    progress.check()
    if n_out == len(mesh.faces) and n_cut == 0:
        return Split(mesh, height == 0, 0, 0)
    ends = np.full((n_cut, 2), -1, dtype=np.int32)
    share = np.empty(n_cut)
    points = np.empty((n_cut, 3))
    if n_cut:
        _cut_points(mesh.faces.ravel(), mesh.vertices, height, cut_of, normal, offset, ends, share, points)
    progress.check()
    out = np.empty((n_out, 3), dtype=np.int32)
    parent = np.empty(n_out, dtype=np.int32)
    corners, towards = np.empty((2, 3 * n_out), dtype=np.int64)
    lean = np.empty(3 * n_out)
    _build(mesh.faces, height, cut_of, keep, share, len(mesh.vertices), out, parent, corners, towards, lean)
    progress.check()
    number = np.full(len(mesh.vertices) + n_cut, -1, dtype=np.int32)
    number_used(out, number)
    out = number[out]
    old = np.flatnonzero(number[: len(mesh.vertices)] >= 0).astype(np.int32)
    rows = np.repeat(np.arange(n_cut), 2)
    weights = np.column_stack([1 - share, share]).ravel()
    blends = sparse.csr_matrix((weights, (rows, ends.ravel())), shape=(n_cut, len(mesh.vertices)))
    progress.check()
    vertices = np.concatenate([mesh.vertices[old], points])
    lineage = Lineage(old, parent, blends)
    if any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
        lineage = Lineage(old, parent, blends, corners, ((towards, lean),))
    above = mesh.derive(out, lineage, vertices)
    on_plane = np.concatenate([height[old] == 0, np.ones(n_cut, dtype=bool)])
    return Split(above, on_plane, int(np.count_nonzero(keep == 0)), int(np.count_nonzero(keep == 2)))
