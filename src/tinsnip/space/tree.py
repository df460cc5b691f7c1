"""A spatial tree over triangles: closest points, first hits of rays, triangles within a box.

Triangles are halved again and again at the median of the longest axis (Kay and Kajiya 1986) into leaves of a few;
these carry a complete binary tree of bounding boxes in heap order, so that no links are stored. Boxes are
single precision, rounded outward. The tree keeps no copy of the corners: it looks them up in the mesh.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.morton import morton_codes, morton_order
from tinsnip.threads import in_chunks

__all__ = [
    "Tree",
    "build_tree",
    "closest_points",
    "first_hits",
    "fit_leaf_boxes",
    "nearest",
    "on_triangle",
    "triangles_in_boxes",
]

_MOST_IN_LEAF = 5
"""Triangles of a leaf."""
_MANY = 500
"""Triangles from which a pivot is looked for among more than three."""
_DRAWN = 25
_PARTS = 16
"""Parts from which halving goes on side by side."""


class Tree(NamedTuple):
    """The tree of one mesh.

    Attributes
    ----------
    vertices : ndarray of float64, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Those of the mesh itself.
    order : ndarray of int32, shape (F,)
        Which triangle of the mesh stands where in the tree's order.
    boxes : ndarray of float32, shape (2 L - 1, 6)
        Lower and upper corners; node i has the children 2 i + 1 and 2 i + 2, and the last L are leaves. Leaf j
        holds the places j F // L to (j + 1) F // L of the order.
    """

    vertices: np.ndarray
    faces: np.ndarray
    order: np.ndarray
    boxes: np.ndarray


@kernel
def _centres(vertices, faces, out, order, begin, end):
    for f in range(begin, end):
        order[f] = f
        for k in range(3):
            out[f, k] = (vertices[faces[f, 0], k] + vertices[faces[f, 1], k] + vertices[faces[f, 2], k]) / 3.0


@kernel
def _swap(centres, order, i, j):
    for k in range(3):
        centres[i, k], centres[j, k] = centres[j, k], centres[i, k]
    order[i], order[j] = order[j], order[i]


@kernel
def _select(centres, order, low, high, nth, axis):
    """Let what belongs before place nth along an axis stand there (Hoare 1961, quickselect).

    Where there are many, the pivot is the one of a few, drawn at random, that is most likely next to the place sought
    (Floyd and Rivest 1975). Halves that an earlier pass left in order need dozens of passes with the median of three.
    """
    high -= 1
    drawn = np.empty(_DRAWN, dtype=np.float32)
    seed = np.uint32(nth)
    while low < high:
        if high - low >= _MANY:
            for i in range(_DRAWN):
                seed = np.uint32(seed * np.uint32(1664525) + np.uint32(1013904223))
                x = centres[low + np.int64(seed) % (high - low + 1), axis]
                k = i
                while k > 0 and drawn[k - 1] > x:
                    drawn[k] = drawn[k - 1]
                    k -= 1
                drawn[k] = x
            pivot = drawn[(nth - low) * _DRAWN // (high - low + 1)]
        else:
            middle = (low + high) // 2
            a, b, c = centres[low, axis], centres[middle, axis], centres[high, axis]
            pivot = max(min(a, b), min(max(a, b), c))
        i, j = low, high
        while i <= j:
            while centres[i, axis] < pivot:
                i += 1
            while centres[j, axis] > pivot:
                j -= 1
            if i <= j:
                _swap(centres, order, i, j)
                i += 1
                j -= 1
        if nth <= j:
            high = j
        elif nth >= i:
            low = i
        else:
            return


@kernel
def _arrange(centres, order, leaves, begin, end, whole, state):
    """Halve the places of the leaves begin to end along their longest axis; all the way down, or once."""
    count = order.shape[0]
    stack = np.empty((64, 2), dtype=np.int64)
    stack[0, 0], stack[0, 1] = begin, end
    height = 1
    while height > 0:
        height -= 1
        first, last = stack[height, 0], stack[height, 1]
        if state[0]:
            return
        if last - first < 2:
            continue
        low, high = first * count // leaves, last * count // leaves
        middle = (first + last) // 2
        nth = middle * count // leaves
        if high - low > 1 and nth > low:
            axis = 0
            widest = np.float32(-1.0)
            for k in range(3):
                least = most = centres[low, k]
                for i in range(low + 1, high):
                    least = min(least, centres[i, k])
                    most = max(most, centres[i, k])
                if most - least > widest:
                    widest = most - least
                    axis = k
            _select(centres, order, low, high, nth, axis)
        if whole:
            stack[height, 0], stack[height, 1] = first, middle
            stack[height + 1, 0], stack[height + 1, 1] = middle, last
            height += 2


@kernel
def fit_leaf_boxes(vertices, faces, order, boxes, begin, end):
    """Let the boxes of the leaves begin to end just hold their triangles.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    order : ndarray of int32, shape (F,)
        Triangles, leaf by leaf.
    boxes : ndarray of float32, shape (B, 6)
        Written.
    begin, end : int
    """
    leaves = boxes.shape[0] // 2 + 1
    count = order.shape[0]
    for leaf in range(begin, end):
        node = leaves - 1 + leaf
        for k in range(3):
            boxes[node, k] = np.inf
            boxes[node, 3 + k] = -np.inf
        for i in range(leaf * count // leaves, (leaf + 1) * count // leaves):
            f = order[i]
            for c in range(3):
                for k in range(3):
                    x = np.float32(vertices[faces[f, c], k])
                    pad = np.float32(abs(x) * np.float32(1.2e-7))
                    boxes[node, k] = min(boxes[node, k], x - pad)
                    boxes[node, 3 + k] = max(boxes[node, 3 + k], x + pad)


@kernel
def _inner_boxes(boxes):
    for node in range(boxes.shape[0] // 2 - 1, -1, -1):
        for k in range(3):
            boxes[node, k] = min(boxes[2 * node + 1, k], boxes[2 * node + 2, k])
            boxes[node, 3 + k] = max(boxes[2 * node + 1, 3 + k], boxes[2 * node + 2, 3 + k])


def build_tree(vertices: np.ndarray, faces: np.ndarray) -> Tree:
    """Build the tree of a mesh with at least one triangle.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    """
    count, state = len(faces), polled_here()
    centres = np.empty((count, 3), dtype=np.float32)
    order = np.empty(count, dtype=np.int32)
    in_chunks(lambda begin, end: _centres(vertices, faces, centres, order, begin, end), count, 100_000)
    leaves = 1 << max(0, int(np.ceil(np.log2(max(1, -(-count // _MOST_IN_LEAF))))))
    parts = 1
    while parts < _PARTS and parts < leaves:  # the first halvings one after another, the rest side by side
        span = leaves // parts
        in_chunks(lambda i, _, s=span: _arrange(centres, order, leaves, i * s, (i + 1) * s, False, state), parts, 1)
        parts *= 2
    span = leaves // parts
    in_chunks(lambda i, _: _arrange(centres, order, leaves, i * span, (i + 1) * span, True, state), parts, 1)
    check_here()
    boxes = np.empty((2 * leaves - 1, 6), dtype=np.float32)
    in_chunks(lambda begin, end: fit_leaf_boxes(vertices, faces, order, boxes, begin, end), leaves, 50_000)
    check_here()
    _inner_boxes(boxes)
    return Tree(vertices, faces, order, boxes)


@kernel
def on_triangle(V, a, b, c, px, py, pz):
    """Closest point of a triangle, by the region of its plane that the point lies over (Ericson 2005, 5.1.5).

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    a, b, c : int
        Vertices.
    px, py, pz : float
    """
    ax, ay, az = V[a, 0], V[a, 1], V[a, 2]
    bx, by, bz = V[b, 0], V[b, 1], V[b, 2]
    cx, cy, cz = V[c, 0], V[c, 1], V[c, 2]
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0.0 and d2 <= 0.0:
        return ax, ay, az
    bpx, bpy, bpz = px - bx, py - by, pz - bz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0.0 and d4 <= d3:
        return bx, by, bz
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0 and d1 - d3 > 0.0:
        v = d1 / (d1 - d3)
        return ax + v * abx, ay + v * aby, az + v * abz
    cpx, cpy, cpz = px - cx, py - cy, pz - cz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0.0 and d5 <= d6:
        return cx, cy, cz
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0 and d2 - d6 > 0.0:
        w = d2 / (d2 - d6)
        return ax + w * acx, ay + w * acy, az + w * acz
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and (d4 - d3) >= 0.0 and (d5 - d6) >= 0.0 and (d4 - d3) + (d5 - d6) > 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return bx + w * (cx - bx), by + w * (cy - by), bz + w * (cz - bz)
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
def nearest(V, faces, order, boxes, x, y, z, guess, stack, near):
    """Squared distance of one point, the triangle that is closest, and the closest point on it.

    A triangle that may be close is a good `guess`; -1 for none. `stack` and `near` are room for 128 nodes.

    Parameters
    ----------
    V : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    order : ndarray of int32, shape (F,)
        Triangles, leaf by leaf.
    boxes : ndarray of float32, shape (B, 6)
    x : float
        Of the point, mm.
    y, z : float
    guess : int
    stack : ndarray of int
    near : ndarray of float
    """
    return _nearest_within(V, faces, order, boxes, x, y, z, guess, np.inf, stack, near)


@kernel
def _nearest_within(V, faces, order, boxes, x, y, z, guess, most, stack, near):
    """As `nearest`, where there is a triangle closer than a squared distance; that, and -1, where there is none."""
    leaves = boxes.shape[0] // 2 + 1
    first = leaves - 1
    count = order.shape[0]
    best = most
    bx, by, bz = x, y, z
    hit = -1
    if guess >= 0:
        cx, cy, cz = on_triangle(V, faces[guess, 0], faces[guess, 1], faces[guess, 2], x, y, z)
        d = (cx - x) ** 2 + (cy - y) ** 2 + (cz - z) ** 2
        if d < best:
            best = d
            hit = guess
            bx, by, bz = cx, cy, cz
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
            for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                f = order[t]
                cx, cy, cz = on_triangle(V, faces[f, 0], faces[f, 1], faces[f, 2], x, y, z)
                d = (cx - x) ** 2 + (cy - y) ** 2 + (cz - z) ** 2
                if d < best:
                    best = d
                    hit = f
                    bx, by, bz = cx, cy, cz
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
    return best, hit, bx, by, bz


@kernel
def _closest(V, faces, order, boxes, points, which, begin, end, most, distance2, triangle, foot, state):
    stack = np.empty(128, dtype=np.int64)
    near = np.empty(128, dtype=np.float64)
    hit = -1
    for i in range(begin, end):
        if i % 2048 == 0:
            if state[0]:
                return
        q = which[i]
        # the query before, a neighbour in Morton order, bounds this one
        best, hit, bx, by, bz = _nearest_within(
            V, faces, order, boxes, points[q, 0], points[q, 1], points[q, 2], hit, most, stack, near
        )  # fmt: skip
        distance2[q] = best
        triangle[q] = hit
        if foot.shape[0] > 0:
            foot[q, 0], foot[q, 1], foot[q, 2] = bx, by, bz


def closest_points(
    tree: Tree, points: np.ndarray, state: np.ndarray, foot: np.ndarray | None = None, within: float = np.inf
) -> tuple[np.ndarray, np.ndarray]:
    """Distance of points to the surface, and the triangle that is closest.

    Parameters
    ----------
    tree : Tree
    points : ndarray, shape (N, 3)
    state : ndarray of int64
        Polled for cancelling.
    foot : ndarray, shape (N, 3), optional
        Filled with the closest points themselves.
    within : float
        Distance beyond which none is looked for.

    Returns
    -------
    distance : ndarray of float64, shape (N,)
        `within` where there is none so close.
    triangle : ndarray of int32, shape (N,)
        Of the mesh the tree was built for; -1 where there is none so close.
    """
    points = np.ascontiguousarray(points, dtype=np.float64)
    distance2 = np.zeros(len(points))
    triangle = np.zeros(len(points), dtype=np.int32)
    if len(points) == 0:
        return distance2, triangle
    which = morton_order(points)
    feet = np.empty((0, 3)) if foot is None else foot

    def work(begin: int, end: int) -> None:
        _closest(
            tree.vertices, tree.faces, tree.order, tree.boxes, points, which, begin, end, within * within, distance2,
            triangle, feet, state,
        )  # fmt: skip

    in_chunks(work, len(points), 4_000)
    return np.sqrt(distance2, out=distance2), triangle


@kernel
def _inverse(x):
    """1 / x, finite for a ray that lies square to an axis, so that no product is undefined."""
    return 1.0 / x if abs(x) > 1e-290 else (1e290 if x >= 0.0 else -1e290)


@kernel
def _meets_box(boxes, node, ox, oy, oz, ix, iy, iz, most):
    """Where a ray enters a box, or infinity."""
    a, b = (boxes[node, 0] - ox) * ix, (boxes[node, 3] - ox) * ix
    low, high = min(a, b), max(a, b)
    a, b = (boxes[node, 1] - oy) * iy, (boxes[node, 4] - oy) * iy
    low, high = max(low, min(a, b)), min(high, max(a, b))
    a, b = (boxes[node, 2] - oz) * iz, (boxes[node, 5] - oz) * iz
    low, high = max(low, min(a, b)), min(high, max(a, b))
    # a little wider than it comes out, so that rounding never loses a hit
    if low <= high * (1.0 + 1e-12) and high >= 0.0 and low <= most:
        return max(low, 0.0)
    return np.inf


@kernel
def _rays(V, faces, order, boxes, origins, ways, which, begin, end, along, triangle, state):
    """Watertight ray and triangle test (Woop, Benthin and Wald 2013): an edge is hit by one of its sides at least."""
    leaves = boxes.shape[0] // 2 + 1
    first = leaves - 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    enter = np.empty(128, dtype=np.float64)
    for i in range(begin, end):
        if i % 2048 == 0:
            if state[0]:
                return
        q = which[i]
        ox, oy, oz = origins[q, 0], origins[q, 1], origins[q, 2]
        dx, dy, dz = ways[q, 0], ways[q, 1], ways[q, 2]
        ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
        kz = 0
        if abs(dy) > abs(dx):
            kz = 1
        if abs(dz) > max(abs(dx), abs(dy)):
            kz = 2
        kx, ky = (kz + 1) % 3, (kz + 2) % 3
        pivot = ways[q, kz]
        sx, sy, sz = ways[q, kx] / pivot, ways[q, ky] / pivot, 1.0 / pivot
        best = np.inf
        hit = -1
        stack[0] = 0
        enter[0] = _meets_box(boxes, 0, ox, oy, oz, ix, iy, iz, best)
        height = 1
        while height > 0:
            height -= 1
            if enter[height] > best or enter[height] == np.inf:
                continue
            node = stack[height]
            if node >= first:
                leaf = node - first
                for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                    f = order[t]
                    a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
                    az, bz, cz = V[a, kz] - origins[q, kz], V[b, kz] - origins[q, kz], V[c, kz] - origins[q, kz]
                    ax, ay = V[a, kx] - origins[q, kx] - sx * az, V[a, ky] - origins[q, ky] - sy * az
                    bx, by = V[b, kx] - origins[q, kx] - sx * bz, V[b, ky] - origins[q, ky] - sy * bz
                    cx, cy = V[c, kx] - origins[q, kx] - sx * cz, V[c, ky] - origins[q, ky] - sy * cz
                    u, v, w = cx * by - cy * bx, ax * cy - ay * cx, bx * ay - by * ax
                    if (u < 0.0 or v < 0.0 or w < 0.0) and (u > 0.0 or v > 0.0 or w > 0.0):
                        continue
                    total = u + v + w
                    if total == 0.0:
                        continue
                    reach = (u * az + v * bz + w * cz) * sz / total
                    if 0.0 <= reach < best:
                        best = reach
                        hit = f
                continue
            left, right = 2 * node + 1, 2 * node + 2
            el = _meets_box(boxes, left, ox, oy, oz, ix, iy, iz, best)
            er = _meets_box(boxes, right, ox, oy, oz, ix, iy, iz, best)
            if el < er:
                left, right, el, er = right, left, er, el
            if el != np.inf:
                stack[height], enter[height] = left, el
                height += 1
            if er != np.inf:
                stack[height], enter[height] = right, er
                height += 1
        along[q] = best
        triangle[q] = hit


def first_hits(tree: Tree, origins: np.ndarray, ways: np.ndarray, state: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """First triangle that each ray meets, from either side.

    Parameters
    ----------
    tree : Tree
    origins, ways : ndarray, shape (N, 3)
        Start and direction of each ray; a direction need not be a unit, but must not be zero.
    state : ndarray of int64
        Polled for cancelling.

    Returns
    -------
    along : ndarray of float64, shape (N,)
        The hit is at ``origin + along * way``; infinite where nothing is met.
    triangle : ndarray of int32, shape (N,)
        -1 where nothing is met.
    """
    origins = np.ascontiguousarray(origins, dtype=np.float64)
    ways = np.ascontiguousarray(ways, dtype=np.float64)
    along = np.full(len(origins), np.inf)
    triangle = np.full(len(origins), -1, dtype=np.int32)
    if len(origins) == 0:
        return along, triangle
    which = _ray_order(origins, ways)

    def work(begin: int, end: int) -> None:
        _rays(
            tree.vertices, tree.faces, tree.order, tree.boxes, origins, ways, which, begin, end, along, triangle, state
        )

    in_chunks(work, len(origins), 4_000)
    return along, triangle


def _ray_order(origins: np.ndarray, ways: np.ndarray) -> np.ndarray:
    """Rays by the octant they point into, and along a Z curve of their starts: neighbours meet the same boxes."""
    octant = (ways[:, 0] < 0) + 2 * (ways[:, 1] < 0) + 4 * (ways[:, 2] < 0)
    return np.argsort((octant.astype(np.uint64) << np.uint64(61)) | (morton_codes(origins) >> np.uint64(3)))


@kernel
def _in_boxes(V, faces, order, boxes, lows, highs, pairs, state):
    """Pairs of a query box and a triangle whose own box overlaps it; counts beyond the room there is."""
    leaves = boxes.shape[0] // 2 + 1
    first = leaves - 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    n = 0
    for q in range(lows.shape[0]):
        if q % 2048 == 0:
            if state[0]:
                return n
        stack[0] = 0
        height = 1
        while height > 0:
            height -= 1
            node = stack[height]
            apart = False
            for k in range(3):
                if boxes[node, k] > highs[q, k] or boxes[node, 3 + k] < lows[q, k]:
                    apart = True
            if apart:
                continue
            if node < first:
                stack[height], stack[height + 1] = 2 * node + 1, 2 * node + 2
                height += 2
                continue
            leaf = node - first
            for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                f = order[t]
                clear = False
                for k in range(3):
                    x, y, z = V[faces[f, 0], k], V[faces[f, 1], k], V[faces[f, 2], k]
                    if min(x, y, z) > highs[q, k] or max(x, y, z) < lows[q, k]:
                        clear = True
                if not clear:
                    if n < pairs.shape[0]:
                        pairs[n, 0], pairs[n, 1] = q, f
                    n += 1
    return n


def triangles_in_boxes(tree: Tree, lows: np.ndarray, highs: np.ndarray, state: np.ndarray) -> np.ndarray:
    """Which triangles' bounding boxes overlap which of the given boxes.

    Parameters
    ----------
    tree : Tree
    lows, highs : ndarray, shape (N, 3)
        Corners of the boxes; touching counts.
    state : ndarray of int64
        Polled for cancelling.

    Returns
    -------
    ndarray of int32, shape (M, 2)
        Number of the box and of the triangle.
    """
    lows = np.ascontiguousarray(lows, dtype=np.float64)
    highs = np.ascontiguousarray(highs, dtype=np.float64)
    room = max(1024, 8 * len(lows))
    while True:
        pairs = np.empty((room, 2), dtype=np.int32)
        found = _in_boxes(tree.vertices, tree.faces, tree.order, tree.boxes, lows, highs, pairs, state)
        if found <= room:
            return pairs[:found].copy()
        room = found
