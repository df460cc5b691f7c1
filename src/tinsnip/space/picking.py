"""Where a ray first meets a mesh, and what lies under a part of the screen."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import polled_here
from tinsnip.space.tree import Tree, first_hits

__all__ = ["first_hit", "first_hit_in", "triangles_in_prism"]


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
def _overlaps(boxes, node, way, low, high):
    """Whether a box reaches into the slab between two places along a direction."""
    middle = half = 0.0
    for k in range(3):
        middle += 0.5 * way[k] * (np.float64(boxes[node, k]) + np.float64(boxes[node, 3 + k]))
        half += 0.5 * abs(way[k]) * (np.float64(boxes[node, 3 + k]) - np.float64(boxes[node, k]))
    return middle + half >= low and middle - half <= high


@kernel
def _in_prism(vertices, faces, order, boxes, right, up, span, found):
    """Triangles whose box on the screen overlaps a rectangle; counts beyond the room there is."""
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
        if not _overlaps(boxes, node, right, span[0], span[1]) or not _overlaps(boxes, node, up, span[2], span[3]):
            continue
        if node < first:
            stack[height], stack[height + 1] = 2 * node + 1, 2 * node + 2
            height += 2
            continue
        leaf = node - first
        for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
            f = order[t]
            x_low = y_low = np.inf
            x_high = y_high = -np.inf
            for c in range(3):
                x = y = 0.0
                for k in range(3):
                    x += vertices[faces[f, c], k] * right[k]
                    y += vertices[faces[f, c], k] * up[k]
                x_low, x_high = min(x_low, x), max(x_high, x)
                y_low, y_high = min(y_low, y), max(y_high, y)
            if x_high >= span[0] and x_low <= span[1] and y_high >= span[2] and y_low <= span[3]:
                if n < found.shape[0]:
                    found[n] = f
                n += 1
    return n


def triangles_in_prism(tree: Tree, right: np.ndarray, up: np.ndarray, span: np.ndarray) -> np.ndarray:
    """The triangles that may be seen within a rectangle, looking along its normal.

    Parameters
    ----------
    tree : Tree
    right, up : ndarray, shape (3,)
        Directions of the rectangle's sides, unit vectors.
    span : ndarray, shape (4,)
        Where it begins and ends along `right`, then along `up`, mm from the origin.

    Returns
    -------
    ndarray of int32, shape (K,)
        Ascending: all that overlap it, and a few beside it.
    """
    right, up, span = (np.ascontiguousarray(one, dtype=np.float64) for one in (right, up, span))
    room = 65_536
    while True:
        found = np.empty(room, dtype=np.int32)
        count = _in_prism(tree.vertices, tree.faces, tree.order, tree.boxes, right, up, span, found)
        if count <= room:
            return np.sort(found[:count])
        room = count
