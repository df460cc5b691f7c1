"""Shells: pieces of a mesh connected over edges, and their measures."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.halfedges import ABSENT, RING
from tinsnip.progress import check_here, polled_here

__all__ = ["Shells", "find_shells", "vertices_of_shells"]


class Shells(NamedTuple):
    """One row a shell, in the order of their first triangles.

    Attributes
    ----------
    label : ndarray of int32, shape (F,)
        The shell of each triangle; -1 for one that repeats an index.
    triangles : ndarray of int64, shape (S,)
    area, volume : ndarray of float64, shape (S,)
        mm2, and signed mm3 about the shell's first vertex (meaningful for a closed one).
    vector_area : ndarray of float64, shape (S, 3)
        Sum of the triangles' vector areas, mm2; zero for a closed shell.
    box : ndarray of float64, shape (S, 2, 3)
    open_edges : ndarray of int64, shape (S,)
    first : ndarray of int32, shape (S,)
        The lowest triangle, which names the shell.
    """

    label: np.ndarray
    triangles: np.ndarray
    area: np.ndarray
    volume: np.ndarray
    vector_area: np.ndarray
    box: np.ndarray
    open_edges: np.ndarray
    first: np.ndarray

    def __len__(self) -> int:  # type: ignore[override]
        return len(self.triangles)

    @property
    def spans(self) -> np.ndarray:
        """Diagonal of each shell's box, mm, shape (S,)."""
        return np.linalg.norm(self.box[:, 1] - self.box[:, 0], axis=1)


@kernel
def _label(twins, label, state):
    """Union-find over twins, lowest triangle as root; then consecutive numbers. Returns their count."""
    n = label.shape[0]
    for f in range(n):
        label[f] = f
    for f in range(n):
        if f % 65536 == 0 and state[0]:
            return 0
        root = f
        while label[root] != root:
            label[root] = label[label[root]]
            root = label[root]
        for k in range(3):
            t = twins[3 * f + k]
            if t <= RING and t != ABSENT:
                t = RING - t
            if t < 0:
                continue
            g = t // 3
            if g > f and label[g] == g:  # the common case: not reached yet
                label[g] = root
                continue
            while label[g] != g:
                label[g] = label[label[g]]
                g = label[g]
            if g < root:
                label[root] = g
                root = g
            elif root < g:
                label[g] = root
    count = 0
    for f in range(n):
        if twins[3 * f] == ABSENT:
            label[f] = -1
        elif label[f] == f:
            label[f] = -2 - count
            count += 1
        else:
            label[f] = label[label[f]]  # roots come first and already carry their number
    for f in range(n):
        if label[f] <= -2:
            label[f] = -2 - label[f]
    return count


@kernel
def _measure(vertices, faces, twins, label, first, triangles, area, volume, vector_area, box, open_edges, state):
    for s in range(first.shape[0]):
        first[s] = -1
        for k in range(3):
            box[s, 0, k] = np.inf
            box[s, 1, k] = -np.inf
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        s = label[f]
        if s < 0:
            continue
        if first[s] < 0:
            first[s] = f
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        o = faces[first[s], 0]
        ax, ay, az = vertices[a, 0], vertices[a, 1], vertices[a, 2]
        bx, by, bz = vertices[b, 0], vertices[b, 1], vertices[b, 2]
        cx, cy, cz = vertices[c, 0], vertices[c, 1], vertices[c, 2]
        ux, uy, uz = bx - ax, by - ay, bz - az
        wx, wy, wz = cx - ax, cy - ay, cz - az
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        triangles[s] += 1
        area[s] += 0.5 * np.sqrt(nx * nx + ny * ny + nz * nz)
        vector_area[s, 0] += 0.5 * nx
        vector_area[s, 1] += 0.5 * ny
        vector_area[s, 2] += 0.5 * nz
        px, py, pz = ax - vertices[o, 0], ay - vertices[o, 1], az - vertices[o, 2]
        volume[s] += (px * nx + py * ny + pz * nz) / 6.0
        box[s, 0, 0] = min(box[s, 0, 0], ax, bx, cx)
        box[s, 0, 1] = min(box[s, 0, 1], ay, by, cy)
        box[s, 0, 2] = min(box[s, 0, 2], az, bz, cz)
        box[s, 1, 0] = max(box[s, 1, 0], ax, bx, cx)
        box[s, 1, 1] = max(box[s, 1, 1], ay, by, cy)
        box[s, 1, 2] = max(box[s, 1, 2], az, bz, cz)
        for k in range(3):
            if twins[3 * f + k] == -1:
                open_edges[s] += 1


@kernel
def _flag(faces, label, chosen, flags):
    for f in range(faces.shape[0]):
        if chosen[label[f]]:
            for k in range(3):
                flags[faces[f, k]] = True


def vertices_of_shells(shells: Shells, faces: np.ndarray, count: int, chosen: np.ndarray) -> np.ndarray:
    """Which vertices some shells have, bool, shape (V,).

    Parameters
    ----------
    shells : Shells
    faces : ndarray of int32, shape (F, 3)
        What they are of.
    count : int
        How many vertices there are.
    chosen : ndarray of bool, shape (S,)
    """
    flags = np.zeros(count, dtype=bool)
    _flag(faces, shells.label, np.append(chosen, False), flags)  # the last one is for triangles without a shell
    return flags


def find_shells(vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray) -> Shells:
    """Label the shells of a mesh and measure them.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        Tangled edges connect; a triangle that repeats an index belongs to no shell.

    Returns
    -------
    Shells
    """
    label = np.empty(len(faces), dtype=np.int32)
    count = _label(twins, label, polled_here())
    check_here()
    shells = Shells(
        label=label,
        triangles=np.zeros(count, dtype=np.int64),
        area=np.zeros(count),
        volume=np.zeros(count),
        vector_area=np.zeros((count, 3)),
        box=np.zeros((count, 2, 3)),
        open_edges=np.zeros(count, dtype=np.int64),
        first=np.empty(count, dtype=np.int32),
    )
    _measure(
        vertices,
        faces,
        twins,
        label,
        shells.first,
        shells.triangles,
        shells.area,
        shells.volume,
        shells.vector_area,
        shells.box,
        shells.open_edges,
        polled_here(),
    )
    check_here()
    return shells
