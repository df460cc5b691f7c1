"""A spatial tree over triangles: closest points.

Triangles are put in Morton order (Lauterbach et al. 2009) and taken four to a leaf; the leaves carry a complete
binary tree of bounding boxes in heap order, so that no links are stored. Boxes are single precision, rounded
outward.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.mesh import Mesh
from tinsnip.mesh.subsets import morton_order
from tinsnip.threads import in_chunks

__all__ = ["Tree", "build_tree", "closest_points"]

_LEAF = 4


class Tree(NamedTuple):
    """The tree of one mesh.

    Attributes
    ----------
    corners : ndarray of float64, shape (F, 9)
        The triangles' corners in the tree's order.
    order : ndarray of int32, shape (F,)
        Which triangle of the mesh each one is.
    boxes : ndarray of float32, shape (2 L - 1, 6)
        Lower and upper corners; node i has the children 2 i + 1 and 2 i + 2, and the last L are leaves.
    """

    corners: np.ndarray
    order: np.ndarray
    boxes: np.ndarray


@kernel
def _centres(vertices, faces, out):
    for f in range(faces.shape[0]):
        for k in range(3):
            out[f, k] = (vertices[faces[f, 0], k] + vertices[faces[f, 1], k] + vertices[faces[f, 2], k]) / 3.0


@kernel
def _gather(vertices, faces, order, corners):
    for i in range(order.shape[0]):
        f = order[i]
        for c in range(3):
            for k in range(3):
                corners[i, 3 * c + k] = vertices[faces[f, c], k]


@kernel
def _fill_boxes(corners, boxes, leaves):
    first = leaves - 1
    for leaf in range(leaves):
        node = first + leaf
        for k in range(3):
            boxes[node, k] = np.inf
            boxes[node, 3 + k] = -np.inf
        for i in range(leaf * 4, min(leaf * 4 + 4, corners.shape[0])):
            for c in range(3):
                for k in range(3):
                    x = corners[i, 3 * c + k]
                    low, high = np.float32(x), np.float32(x)
                    pad = np.float32(abs(low) * np.float32(1.2e-7))
                    boxes[node, k] = min(boxes[node, k], low - pad)
                    boxes[node, 3 + k] = max(boxes[node, 3 + k], high + pad)
    for node in range(first - 1, -1, -1):
        for k in range(3):
            boxes[node, k] = min(boxes[2 * node + 1, k], boxes[2 * node + 2, k])
            boxes[node, 3 + k] = max(boxes[2 * node + 1, 3 + k], boxes[2 * node + 2, 3 + k])


def build_tree(mesh: Mesh) -> Tree:
    """Build the tree of a mesh with at least one triangle."""
    centres = np.empty((len(mesh.faces), 3))
    _centres(mesh.vertices, mesh.faces, centres)
    order = morton_order(centres).astype(np.int32)
    corners = np.empty((len(order), 9))
    _gather(mesh.vertices, mesh.faces, order, corners)
    leaves = 1 << max(0, int(np.ceil(np.log2(max(1, -(-len(order) // _LEAF))))))
    boxes = np.empty((2 * leaves - 1, 6), dtype=np.float32)
    _fill_boxes(corners, boxes, leaves)
    return Tree(corners, order, boxes)


@kernel
def _on_triangle(t, px, py, pz):
    """Closest point of a triangle, by the region of its plane that the point lies over (Ericson 2005, 5.1.5)."""
    ax, ay, az = t[0], t[1], t[2]
    abx, aby, abz = t[3] - ax, t[4] - ay, t[5] - az
    acx, acy, acz = t[6] - ax, t[7] - ay, t[8] - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0.0 and d2 <= 0.0:
        return ax, ay, az
    bpx, bpy, bpz = px - t[3], py - t[4], pz - t[5]
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0.0 and d4 <= d3:
        return t[3], t[4], t[5]
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0 and d1 - d3 > 0.0:
        v = d1 / (d1 - d3)
        return ax + v * abx, ay + v * aby, az + v * abz
    cpx, cpy, cpz = px - t[6], py - t[7], pz - t[8]
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0.0 and d5 <= d6:
        return t[6], t[7], t[8]
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0 and d2 - d6 > 0.0:
        w = d2 / (d2 - d6)
        return ax + w * acx, ay + w * acy, az + w * acz
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and (d4 - d3) >= 0.0 and (d5 - d6) >= 0.0 and (d4 - d3) + (d5 - d6) > 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return t[3] + w * (t[6] - t[3]), t[4] + w * (t[7] - t[4]), t[5] + w * (t[8] - t[5])
    total = va + vb + vc
    if total <= 0.0:  # a triangle that is a point
        return ax, ay, az
    v, w = vb / total, vc / total
    return ax + abx * v + acx * w, ay + aby * v + acy * w, az + abz * v + acz * w


@kernel
def _box_distance2(boxes, node, x, y, z):
    dx = max(boxes[node, 0] - x, 0.0, x - boxes[node, 3])
    dy = max(boxes[node, 1] - y, 0.0, y - boxes[node, 4])
    dz = max(boxes[node, 2] - z, 0.0, z - boxes[node, 5])
    return dx * dx + dy * dy + dz * dz


@kernel
def _closest(corners, boxes, points, which, begin, end, distance2, triangle, state):
    first = boxes.shape[0] // 2
    stack = np.empty(128, dtype=np.int64)
    near = np.empty(128, dtype=np.float64)
    guess = -1
    for i in range(begin, end):
        if i % 4096 == 0 and state[0]:
            return
        q = which[i]
        x, y, z = points[q, 0], points[q, 1], points[q, 2]
        best = np.inf
        hit = -1
        if guess >= 0:  # the query before, a neighbour in Morton order, bounds this one
            cx, cy, cz = _on_triangle(corners[guess], x, y, z)
            best = (cx - x) ** 2 + (cy - y) ** 2 + (cz - z) ** 2
            hit = guess
        stack[0] = 0
        near[0] = _box_distance2(boxes, 0, x, y, z)
        height = 1
        while height > 0:
            height -= 1
            if near[height] >= best:
                continue
            node = stack[height]
            if node >= first:
                leaf = node - first
                for t in range(leaf * 4, min(leaf * 4 + 4, corners.shape[0])):
                    cx, cy, cz = _on_triangle(corners[t], x, y, z)
                    d = (cx - x) ** 2 + (cy - y) ** 2 + (cz - z) ** 2
                    if d < best:
                        best = d
                        hit = t
                continue
            left, right = 2 * node + 1, 2 * node + 2
            dl, dr = _box_distance2(boxes, left, x, y, z), _box_distance2(boxes, right, x, y, z)
            if dl < dr:
                left, right, dl, dr = right, left, dr, dl
            if dl < best:
                stack[height], near[height] = left, dl
                height += 1
            if dr < best:
                stack[height], near[height] = right, dr
                height += 1
        distance2[q] = best
        triangle[q] = hit
        guess = hit


def closest_points(tree: Tree, points: np.ndarray, state: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distance of points to the surface, and the triangle that is closest.

    Parameters
    ----------
    tree : Tree
    points : ndarray, shape (N, 3)
    state : ndarray of int64
        Polled for cancelling.

    Returns
    -------
    distance : ndarray of float64, shape (N,)
    triangle : ndarray of int32, shape (N,)
        Of the mesh the tree was built for.
    """
    points = np.ascontiguousarray(points, dtype=np.float64)
    distance2 = np.empty(len(points))
    triangle = np.zeros(len(points), dtype=np.int32)
    if len(points) == 0:
        return distance2, triangle
    which = morton_order(points)

    def work(begin: int, end: int) -> None:
        _closest(tree.corners, tree.boxes, points, which, begin, end, distance2, triangle, state)

    in_chunks(work, len(points), 20_000)
    return np.sqrt(distance2), tree.order[triangle]
