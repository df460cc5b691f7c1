"""Winding numbers: how often a surface, open or not, goes round a point."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import DONE, check_here, polled_here
from tinsnip.space.tree import Tree, build_tree
from tinsnip.threads import in_chunks

__all__ = ["Winding", "winding_numbers"]

_DIRECT = 4_000_000
"""Pairs of point and triangle up to which all are summed one by one."""
_FAR = 2.0
"""Radii from which a node stands for its triangles as one dipole."""


@kernel
def _solid_angle(V, a, b, c, x, y, z):
    ax, ay, az = V[a, 0] - x, V[a, 1] - y, V[a, 2] - z
    bx, by, bz = V[b, 0] - x, V[b, 1] - y, V[b, 2] - z
    cx, cy, cz = V[c, 0] - x, V[c, 1] - y, V[c, 2] - z
    la = np.sqrt(ax * ax + ay * ay + az * az)
    lb = np.sqrt(bx * bx + by * by + bz * bz)
    lc = np.sqrt(cx * cx + cy * cy + cz * cz)
    top = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
    ab = ax * bx + ay * by + az * bz
    bc = bx * cx + by * cy + bz * cz
    ca = cx * ax + cy * ay + cz * az
    return 2.0 * np.arctan2(top, la * lb * lc + ab * lc + bc * la + ca * lb)


@kernel
def _directly(V, faces, points, begin, end, turns, state):
    for i in range(begin, end):
        total = 0.0
        for f in range(faces.shape[0]):
            if f % 65536 == 0 and state[0]:
                return
            total += _solid_angle(
                V, faces[f, 0], faces[f, 1], faces[f, 2], points[i, 0], points[i, 1], points[i, 2]
            )  # fmt: skip
        turns[i] = total / (4.0 * np.pi)


@kernel
def _dipoles(V, faces, order, boxes, dipole):
    """For each node: vector area, centre by area, squared radius about it, and area; children before parents."""
    leaves = boxes.shape[0] // 2 + 1
    count = order.shape[0]
    for node in range(boxes.shape[0] - 1, -1, -1):
        for k in range(8):
            dipole[node, k] = 0.0
        if node >= leaves - 1:
            leaf = node - leaves + 1
            for i in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                a, b, c = faces[order[i], 0], faces[order[i], 1], faces[order[i], 2]
                ux, uy, uz = V[b, 0] - V[a, 0], V[b, 1] - V[a, 1], V[b, 2] - V[a, 2]
                wx, wy, wz = V[c, 0] - V[a, 0], V[c, 1] - V[a, 1], V[c, 2] - V[a, 2]
                nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
                area = 0.5 * np.sqrt(nx * nx + ny * ny + nz * nz)
                dipole[node, 0] += 0.5 * nx
                dipole[node, 1] += 0.5 * ny
                dipole[node, 2] += 0.5 * nz
                for k in range(3):
                    dipole[node, 3 + k] += area * (V[a, k] + V[b, k] + V[c, k]) / 3.0
                dipole[node, 7] += area
        else:
            for child in (2 * node + 1, 2 * node + 2):
                area = dipole[child, 7]
                for k in range(3):
                    dipole[node, k] += dipole[child, k]
                    dipole[node, 3 + k] += area * dipole[child, 3 + k]
                dipole[node, 7] += area
        for k in range(3):
            middle = 0.5 * (np.float64(boxes[node, k]) + np.float64(boxes[node, 3 + k]))
            dipole[node, 3 + k] = dipole[node, 3 + k] / dipole[node, 7] if dipole[node, 7] > 0.0 else middle
            reach = max(dipole[node, 3 + k] - boxes[node, k], boxes[node, 3 + k] - dipole[node, 3 + k])
            dipole[node, 6] += reach * reach


@kernel
def _by_tree(V, faces, order, boxes, dipole, far, points, begin, end, turns, state):
    leaves = boxes.shape[0] // 2 + 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    for i in range(begin, end):
        if i % 256 == 0 and state[0]:
            return
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        total = 0.0
        stack[0] = 0
        height = 1
        while height > 0:
            height -= 1
            node = stack[height]
            dx, dy, dz = dipole[node, 3] - x, dipole[node, 4] - y, dipole[node, 5] - z
            away2 = dx * dx + dy * dy + dz * dz
            if away2 > far * far * dipole[node, 6]:
                total += (dipole[node, 0] * dx + dipole[node, 1] * dy + dipole[node, 2] * dz) / (away2 * np.sqrt(away2))
            elif node < leaves - 1:
                stack[height], stack[height + 1] = 2 * node + 1, 2 * node + 2
                height += 2
            else:
                leaf = node - leaves + 1
                for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                    f = order[t]
                    total += _solid_angle(V, faces[f, 0], faces[f, 1], faces[f, 2], x, y, z)
        turns[i] = total / (4.0 * np.pi)


def winding_numbers(
    vertices: np.ndarray, faces: np.ndarray, points: np.ndarray, tree: Tree | None = None
) -> np.ndarray:
    """Generalised winding numbers of a surface about points (Jacobson et al. 2013).

    The solid angles of the triangles (Van Oosterom and Strackee 1983): 1 inside a closed outward surface, 0 outside,
    in between where it is open. Where points and triangles are many, far parts of the surface stand in as one dipole
    each (Barill et al. 2018), to about two hundredths.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    points : ndarray, shape (N, 3)
    tree : Tree, optional
        Of these triangles, where it is there already.

    Returns
    -------
    ndarray, shape (N,)

    Raises
    ------
    Cancelled
    """
    points = np.ascontiguousarray(points, dtype=np.float64)
    turns = np.zeros(len(points))
    if len(faces) == 0 or len(points) == 0:
        return turns
    state = polled_here()
    if len(points) * len(faces) <= _DIRECT or len(points) < 3:
        in_chunks(lambda b, e: _directly(vertices, faces, points, b, e, turns, state), len(points), 1)
    else:
        return Winding(vertices, faces, tree).at(points)
    check_here()
    return turns


class Winding:
    """The winding numbers of one surface, asked for again and again; far parts always stand in as dipoles.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        At least one.
    tree : Tree, optional
        Of these triangles, where it is there already.
    """

    def __init__(self, vertices: np.ndarray, faces: np.ndarray, tree: Tree | None = None) -> None:
        self.vertices, self.faces = vertices, faces
        self.tree = tree or build_tree(vertices, faces)
        self._dipole = np.empty((len(self.tree.boxes), 8))
        _dipoles(vertices, faces, self.tree.order, self.tree.boxes, self._dipole)

    def at(self, points: np.ndarray, far: float = _FAR, tells: bool = False) -> np.ndarray:
        """Winding numbers about points, shape (N, 3); whoever watches is told of each that is done, where asked for.

        To about two hundredths; more exactly, and more slowly, where parts stand in as dipoles only from further off,
        told in radii of theirs.
        """
        points = np.ascontiguousarray(points, dtype=np.float64)
        turns, state, tree = np.zeros(len(points)), polled_here(), self.tree

        def work(begin: int, end: int) -> None:
            _by_tree(
                self.vertices, self.faces, tree.order, tree.boxes, self._dipole, far, points, begin, end, turns, state
            )  # fmt: skip
            if tells:
                state[DONE] += end - begin

        in_chunks(work, len(points), 1_000)
        check_here()
        return turns
