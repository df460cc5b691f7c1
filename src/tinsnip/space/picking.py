"""Where a ray first meets a mesh, and what lies under a part of the screen."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import polled_here
from tinsnip.space.tree import Tree, first_hits

__all__ = ["first_hit", "first_hit_in", "triangles_within"]


@kernel
def _first_hit(vertices, faces, u, v, w, x, y, begin, end):
    """Nearest triangle, along w, whose projection on the plane of u and v holds the point x, y."""
    best = -np.inf
    hit = -1
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax = vertices[a, 0] * u[0] + vertices[a, 1] * u[1] + vertices[a, 2] * u[2] - x
        bx = vertices[b, 0] * u[0] + vertices[b, 1] * u[1] + vertices[b, 2] * u[2] - x
        cx = vertices[c, 0] * u[0] + vertices[c, 1] * u[1] + vertices[c, 2] * u[2] - x
        if (ax < 0 and bx < 0 and cx < 0) or (ax > 0 and bx > 0 and cx > 0):
            continue
        ay = vertices[a, 0] * v[0] + vertices[a, 1] * v[1] + vertices[a, 2] * v[2] - y
        by = vertices[b, 0] * v[0] + vertices[b, 1] * v[1] + vertices[b, 2] * v[2] - y
        cy = vertices[c, 0] * v[0] + vertices[c, 1] * v[1] + vertices[c, 2] * v[2] - y
        if (ay < 0 and by < 0 and cy < 0) or (ay > 0 and by > 0 and cy > 0):
            continue
        p = bx * cy - by * cx
        q = cx * ay - cy * ax
        r = ax * by - ay * bx
        if (p < 0 or q < 0 or r < 0) and (p > 0 or q > 0 or r > 0):
            continue
        total = p + q + r
        if total == 0.0:
            continue
        az = vertices[a, 0] * w[0] + vertices[a, 1] * w[1] + vertices[a, 2] * w[2]
        bz = vertices[b, 0] * w[0] + vertices[b, 1] * w[1] + vertices[b, 2] * w[2]
        cz = vertices[c, 0] * w[0] + vertices[c, 1] * w[1] + vertices[c, 2] * w[2]
        height = (p * az + q * bz + r * cz) / total
        if height > best:
            best = height
            hit = f
    return hit, best


def first_hit(
    vertices: np.ndarray, faces: np.ndarray, point: np.ndarray, direction: np.ndarray
) -> tuple[int, np.ndarray] | None:
    """The first triangle that a line meets, coming from infinitely far.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    point : ndarray, shape (3,)
        Any point on the line.
    direction : ndarray, shape (3,)
        Unit vector in which the line is travelled.

    Returns
    -------
    tuple of int and ndarray, or None
        The triangle and the point met.
    """
    helper = np.eye(3)[int(np.argmin(np.abs(direction)))]
    u = np.cross(direction, helper)
    u /= np.linalg.norm(u)
    v = np.cross(direction, u)
    w = -np.asarray(direction, dtype=float)
    hit, height = _first_hit(vertices, faces, u, v, w, float(point @ u), float(point @ v), 0, len(faces))
    if hit < 0:
        return None
    return int(hit), (point @ u) * u + (point @ v) * v + height * w


def first_hit_in(tree: Tree, point: np.ndarray, direction: np.ndarray) -> tuple[int, np.ndarray] | None:
    """The same by a tree, in a thousandth of the time where the mesh is large.

    Parameters
    ----------
    tree : Tree
    point : ndarray, shape (3,)
        Any point on the line.
    direction : ndarray, shape (3,)
        Unit vector in which the line is travelled.

    Returns
    -------
    tuple of int and ndarray, or None
        The triangle and the point met.
    """
    low, high = tree.boxes[0, :3], tree.boxes[0, 3:]
    middle = 0.5 * (low + high).astype(np.float64)
    back = float((point - middle) @ direction) + float(np.linalg.norm(high - low))  # to just before the part
    start = point - back * direction
    along, hit = first_hits(tree, start[None], np.asarray(direction, dtype=np.float64)[None], polled_here())
    return None if hit[0] < 0 else (int(hit[0]), start + along[0] * direction)


@kernel
def _is_beyond(boxes, node, plane):
    """Whether a box lies beyond a plane, a normal and an offset along it."""
    nearest = 0.0
    for k in range(3):
        nearest += plane[k] * (boxes[node, k] if plane[k] > 0 else boxes[node, 3 + k])
    return nearest > plane[3]


@kernel
def _within(vertices, faces, order, boxes, planes, found):
    """Triangles that lie beyond none of some planes; counts on past the room there is."""
    leaves = boxes.shape[0] // 2 + 1
    first = leaves - 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    stack[0] = 0
    height = 1
    n = 0
    while height > 0:
        height -= 1
        node = stack[height]
        is_out = False
        for i in range(planes.shape[0]):
            is_out = is_out or _is_beyond(boxes, node, planes[i])
        if is_out:
            continue
        if node < first:
            stack[height], stack[height + 1] = 2 * node + 1, 2 * node + 2
            height += 2
            continue
        leaf = node - first
        for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
            f = order[t]
            is_out = False
            for i in range(planes.shape[0]):
                nearest = np.inf
                for c in range(3):
                    v = faces[f, c]
                    along = (
                        vertices[v, 0] * planes[i, 0] + vertices[v, 1] * planes[i, 1] + vertices[v, 2] * planes[i, 2]
                    )
                    nearest = min(nearest, along)
                is_out = is_out or nearest > planes[i, 3]
            if not is_out:
                if n < found.shape[0]:
                    found[n] = f
                n += 1
    return n


def triangles_within(tree: Tree, planes: np.ndarray) -> np.ndarray:
    """The triangles that may be seen in a part of the view.

    Parameters
    ----------
    tree : Tree
    planes : ndarray, shape (N, 4)
        The view's sides there: normals outward, unit vectors, and their offsets from the origin along them, mm.

    Returns
    -------
    ndarray of int32, shape (K,)
        Ascending: all that lie between them, and a few beside.
    """
    planes = np.ascontiguousarray(planes, dtype=np.float64)
    room = 65_536
    while True:
        found = np.empty(room, dtype=np.int32)
        count = _within(tree.vertices, tree.faces, tree.order, tree.boxes, planes, found)
        if count <= room:
            return np.sort(found[:count])
        room = count
