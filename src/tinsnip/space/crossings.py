"""Triangles that meet where they have no vertex in common, and neighbours that fold onto each other."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.predicates import fold_at_edge, fold_at_vertex, has_area, triangles_meet
from tinsnip.space.tree import Tree, build_tree
from tinsnip.threads import in_chunks

__all__ = ["crossings_and_folds", "meeting_again", "meeting_lines", "meeting_pairs"]

_PART = 4_000
_UNSURE = 1e-14
"""Share within which rounding may turn the sign of a sum of three products; some thirty times what it can be."""


@kernel
def _proper(V, a, b, c):
    """Whether a triangle has an area at all; one that repeats an index or lies on a line meets nothing."""
    if a == b or b == c or c == a:
        return False
    return has_area(V, a, b, c)


@kernel
def _parted(V, v, a, b, p, q):
    """Whether a plane through v that is easily found parts a and b from p and q beyond any doubt by rounding.

    Round a vertex nearly all triangles that are not neighbours are parted by the plane across the way from one to the
    other.
    """
    x, y, z = V[v, 0], V[v, 1], V[v, 2]
    ax, ay, az = V[a, 0] - x, V[a, 1] - y, V[a, 2] - z
    bx, by, bz = V[b, 0] - x, V[b, 1] - y, V[b, 2] - z
    px, py, pz = V[p, 0] - x, V[p, 1] - y, V[p, 2] - z
    qx, qy, qz = V[q, 0] - x, V[q, 1] - y, V[q, 2] - z
    sx, sy, sz = ax + bx, ay + by, az + bz
    tx, ty, tz = px + qx, py + qy, pz + qz
    s, t = np.sqrt(sx * sx + sy * sy + sz * sz), np.sqrt(tx * tx + ty * ty + tz * tz)
    dx, dy, dz = t * sx - s * tx, t * sy - s * ty, t * sz - s * tz
    far = _UNSURE * (abs(dx) + abs(dy) + abs(dz))
    return (
        ax * dx + ay * dy + az * dz > far * max(abs(ax), abs(ay), abs(az))
        and bx * dx + by * dy + bz * dz > far * max(abs(bx), abs(by), abs(bz))
        and px * dx + py * dy + pz * dz < -far * max(abs(px), abs(py), abs(pz))
        and qx * dx + qy * dy + qz * dz < -far * max(abs(qx), abs(qy), abs(qz))
    )


@kernel
def _folded_at_edge(V, a, b, c, p, q, r):
    """Whether two triangles with two vertices in common have more in common than the edge between these."""
    for _ in range(3):  # turn both until the first corners, and the second ones if need be, are the common ones
        if a in (p, q, r):
            break
        a, b, c = b, c, a
    for _ in range(3):
        if p == a:
            break
        p, q, r = q, r, p
    if b in (q, r):
        return fold_at_edge(V, a, b, c, r if b == q else q)
    return fold_at_edge(V, a, c, b, r if c == q else q)


@kernel
def _pairs(V, faces, first, number, order, boxes, second, folds, begin, end, pairs, state):
    """Pairs of a triangle in the tree and one of `second`; counts beyond the room there is.

    With `folds` also those that have vertices in common and fold onto each other: told by a 1 in the third column.
    """
    leaves = boxes.shape[0] // 2 + 1
    lowest = leaves - 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    low, high = np.empty(3), np.empty(3)
    n = 0
    for i in range(begin, end):
        if i % 1024 == 0 and state[0]:
            return n
        g = second[i]
        p, q, r = faces[g, 0], faces[g, 1], faces[g, 2]
        outside = False
        for k in range(3):
            low[k] = min(V[p, k], V[q, k], V[r, k])
            high[k] = max(V[p, k], V[q, k], V[r, k])
            outside |= boxes[0, k] > high[k] or boxes[0, 3 + k] < low[k]
        if outside:
            continue
        own = number[g]
        stack[0] = 0
        height = 1
        while height > 0:
            height -= 1
            node = stack[height]
            apart = False
            for k in range(3):
                if boxes[node, k] > high[k] or boxes[node, 3 + k] < low[k]:
                    apart = True
            if apart:
                continue
            if node < lowest:
                stack[height], stack[height + 1] = 2 * node + 1, 2 * node + 2
                height += 2
                continue
            leaf = node - lowest
            for t in range(leaf * count // leaves, (leaf + 1) * count // leaves):
                place = order[t]
                if own >= 0 and place >= own:  # both are in the tree: the pair is met once from either side
                    continue
                f = first[place]
                a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
                clear = False
                for k in range(3):
                    x, y, z = V[a, k], V[b, k], V[c, k]
                    if min(x, y, z) > high[k] or max(x, y, z) < low[k]:
                        clear = True
                if clear:
                    continue
                kind = _is_pair(V, faces, f, g, folds)
                if kind:
                    if n < pairs.shape[0]:
                        pairs[n, 0], pairs[n, 1], pairs[n, 2] = f, g, kind - 1
                    n += 1
    return n


@kernel
def _is_pair(V, faces, f, g, folds):
    """1: the two meet without a common vertex; 2: they fold; 0: neither, or folds are not asked for."""
    a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
    p, q, r = faces[g, 0], faces[g, 1], faces[g, 2]
    at_a = (a == p) + 2 * (a == q) + 3 * (a == r)  # which corner of the other it is, from 1
    at_b = (b == p) + 2 * (b == q) + 3 * (b == r)
    at_c = (c == p) + 2 * (c == q) + 3 * (c == r)
    common = (at_a > 0) + (at_b > 0) + (at_c > 0)
    if common == 0:
        if not triangles_meet(V, a, b, c, p, q, r):
            return 0
    elif common == 3 or not folds:
        return 0
    elif common == 2:
        if not _folded_at_edge(V, a, b, c, p, q, r):
            return 0
    else:
        at = at_a + at_b + at_c
        if at_b > 0:
            a, b, c = b, c, a
        elif at_c > 0:
            a, b, c = c, a, b
        if at == 2:
            p, q, r = q, r, p
        elif at == 3:
            p, q, r = r, p, q
        if _parted(V, a, b, c, q, r) or not fold_at_vertex(V, a, b, c, q, r):
            return 0
    if not _proper(V, a, b, c) or not _proper(V, p, q, r):
        return 0
    return 2 if common > 0 else 1


@kernel
def _pairs_within(V, faces, order, boxes, folds, begin, end, pairs, state):
    """Pairs of triangles of one tree, leaf against leaf; counts beyond the room there is.

    A leaf meets those after it: whatever hangs to the right of its way up to the root.
    """
    leaves = boxes.shape[0] // 2 + 1
    lowest = leaves - 1
    count = order.shape[0]
    stack = np.empty(128, dtype=np.int64)
    own, low, high = np.empty(16, dtype=np.int64), np.empty((16, 3)), np.empty((16, 3))
    n = 0
    for leaf in range(begin, end):
        if leaf % 256 == 0 and state[0]:
            return n
        first, last = leaf * count // leaves, (leaf + 1) * count // leaves
        for t in range(first, last):
            f = order[t]
            own[t - first] = f
            for k in range(3):
                x, y, z = V[faces[f, 0], k], V[faces[f, 1], k], V[faces[f, 2], k]
                low[t - first, k], high[t - first, k] = min(x, y, z), max(x, y, z)
        node = lowest + leaf
        x0, y0, z0, x1, y1, z1 = (
            boxes[node, 0], boxes[node, 1], boxes[node, 2], boxes[node, 3], boxes[node, 4], boxes[node, 5]
        )  # fmt: skip
        stack[0] = node
        height = 1
        while node > 0:
            if node % 2 == 1:
                stack[height] = node + 1
                height += 1
            node = (node - 1) // 2
        while height > 0:
            height -= 1
            node = stack[height]
            if boxes[node, 0] > x1 or boxes[node, 3] < x0 or boxes[node, 1] > y1 or boxes[node, 4] < y0:
                continue
            if boxes[node, 2] > z1 or boxes[node, 5] < z0:
                continue
            if node < lowest:
                stack[height], stack[height + 1] = 2 * node + 1, 2 * node + 2
                height += 2
                continue
            other = node - lowest
            for t in range(other * count // leaves, (other + 1) * count // leaves):
                g = order[t]
                gx, gy, gz = faces[g, 0], faces[g, 1], faces[g, 2]
                lx, ly, lz = V[gx, 0], V[gy, 0], V[gz, 0]
                a0, a1 = min(lx, ly, lz), max(lx, ly, lz)
                if a0 > x1 or a1 < x0:
                    continue
                lx, ly, lz = V[gx, 1], V[gy, 1], V[gz, 1]
                b0, b1 = min(lx, ly, lz), max(lx, ly, lz)
                if b0 > y1 or b1 < y0:
                    continue
                lx, ly, lz = V[gx, 2], V[gy, 2], V[gz, 2]
                c0, c1 = min(lx, ly, lz), max(lx, ly, lz)
                if c0 > z1 or c1 < z0:
                    continue
                for i in range(t + 1 - first if other == leaf else 0, last - first):
                    if a0 > high[i, 0] or a1 < low[i, 0] or b0 > high[i, 1] or b1 < low[i, 1]:
                        continue
                    if c0 > high[i, 2] or c1 < low[i, 2]:
                        continue
                    kind = _is_pair(V, faces, own[i], g, folds)
                    if kind:
                        if n < pairs.shape[0]:
                            pairs[n, 0], pairs[n, 1], pairs[n, 2] = own[i], g, kind - 1
                        n += 1
    return n


def meeting_pairs(
    vertices: np.ndarray,
    faces: np.ndarray,
    first: np.ndarray | None = None,
    second: np.ndarray | None = None,
    tree: Tree | None = None,
) -> np.ndarray:
    """Pairs of triangles without a common vertex that meet: cross, touch, or lie on each other. Exact.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    first : ndarray of int, shape (A,), optional
        Triangles of which one has to be in each pair; all by default. A tree is built over these, so they should be
        the fewer.
    second : ndarray of int, shape (B,), optional
        Where the other one is looked for; all by default.
    tree : Tree, optional
        That over all triangles, where `first` is not given.

    Returns
    -------
    ndarray of int32, shape (P, 2)
        Each pair once.

    Raises
    ------
    Cancelled
    """
    return _found(vertices, faces, first, second, tree, False)[:, :2]


def crossings_and_folds(
    vertices: np.ndarray,
    faces: np.ndarray,
    first: np.ndarray | None = None,
    tree: Tree | None = None,
    second: np.ndarray | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """Pairs of triangles that meet without a common vertex, and pairs that meet beyond what they have in common. Exact.

    Parameters
    ----------
    vertices, faces, first, tree, second
        As for `meeting_pairs`.

    Returns
    -------
    crossings, folds : ndarray of int32, shape (P, 2), (Q, 2)
        Triangles over the same three vertices are doubled, not folded.

    Raises
    ------
    Cancelled
    """
    found = _found(vertices, faces, first, second, tree, True)
    return np.ascontiguousarray(found[found[:, 2] == 0, :2]), np.ascontiguousarray(found[found[:, 2] == 1, :2])


def _found(
    vertices: np.ndarray,
    faces: np.ndarray,
    first: np.ndarray | None,
    second: np.ndarray | None,
    tree: Tree | None,
    folds: bool,
) -> np.ndarray:
    within = first is None and second is None
    everything = np.arange(0 if within else len(faces), dtype=np.int32)
    chosen = everything if first is None else np.ascontiguousarray(first, dtype=np.int32)
    others = everything if second is None else np.ascontiguousarray(second, dtype=np.int32)
    if len(faces) == 0 or (not within and (len(chosen) == 0 or len(others) == 0)):
        return np.empty((0, 3), dtype=np.int32)
    if tree is None or first is not None:
        tree = build_tree(vertices, faces if first is None else np.ascontiguousarray(faces[chosen]))
    number = np.full(len(everything), -1, dtype=np.int32)
    number[chosen] = np.arange(len(chosen), dtype=np.int32)
    state = polled_here()
    found: dict[int, np.ndarray] = {}

    def work(begin: int, end: int) -> None:
        room = 256
        while True:
            pairs = np.empty((room, 3), dtype=np.int32)
            if within:
                n = _pairs_within(vertices, faces, tree.order, tree.boxes, folds, begin, end, pairs, state)
            else:
                n = _pairs(
                    vertices, faces, chosen, number, tree.order, tree.boxes, others, folds, begin, end, pairs, state
                )  # fmt: skip
            if n <= room:
                found[begin] = pairs[:n]
                return
            room = int(n)

    in_chunks(work, len(tree.boxes) // 2 + 1 if within else len(others), _PART)
    check_here()
    return np.concatenate([found[b] for b in sorted(found)])


@kernel
def _again(V, faces, pairs, kinds):
    """What `_is_pair` says of each."""
    for i in range(pairs.shape[0]):
        f, g = pairs[i, 0], pairs[i, 1]
        kinds[i] = _is_pair(V, faces, f, g, True)


def meeting_again(vertices: np.ndarray, faces: np.ndarray, pairs: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which of some pairs, int32, shape (N, 2), meet without a common vertex, and which fold; see above.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    pairs : ndarray of int32, shape (N, 2)
        Triangles.
    """
    kinds = np.zeros(len(pairs), dtype=np.uint8)
    pairs = np.ascontiguousarray(pairs, dtype=np.int32).reshape(-1, 2)
    _again(vertices, faces, pairs, kinds)
    return pairs[kinds == 1], pairs[kinds == 2]


def meeting_lines(vertices: np.ndarray, faces: np.ndarray, pairs: np.ndarray) -> np.ndarray:
    """Pieces of line along which pairs of triangles meet, to look at, shape (N, 2, 3).

    The two ends of all places where an edge of one goes through the other; for triangles of one plane, what lies
    between their middles, no further than both reach.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    pairs : ndarray of int, shape (N, 2)
    """
    corners = vertices[faces[np.asarray(pairs).reshape(-1, 2)]]
    count = len(corners)
    places, hits = np.zeros((count, 6, 3)), np.zeros((count, 6), dtype=bool)
    for side in range(2):
        one, other = corners[:, side], corners[:, 1 - side]
        normal = np.cross(other[:, 1] - other[:, 0], other[:, 2] - other[:, 0])
        size = np.linalg.norm(normal, axis=1)
        normal /= np.where(size > 0, size, 1.0)[:, None]
        height = np.einsum("nkc,nc->nk", one - other[:, :1], normal)
        reach = np.abs(corners - corners[:, :1, :1]).max(axis=(1, 2, 3))
        for k in range(3):
            h, g = height[:, k], height[:, (k + 1) % 3]
            apart = np.where(h != g, h - g, 1.0)
            share = np.clip(h / apart, 0.0, 1.0)
            at = one[:, k] + share[:, None] * (one[:, (k + 1) % 3] - one[:, k])
            inside = (h * g <= 0) & (h != g)
            for j in range(3):
                inward = np.cross(normal, other[:, (j + 1) % 3] - other[:, j])
                inside &= np.einsum("nc,nc->n", at - other[:, j], inward) >= -1e-9 * reach * reach
            places[:, 3 * side + k], hits[:, 3 * side + k] = at, inside
    # of one plane: from middle to middle, as far as both reach
    lines = np.clip(
        corners.mean(axis=2), corners.min(axis=2).max(axis=1)[:, None], corners.max(axis=2).min(axis=1)[:, None]
    )
    some = hits.any(axis=1)
    first = places[np.arange(count), hits.argmax(axis=1)]
    away = np.where(hits, np.linalg.norm(places - first[:, None], axis=2), -1.0)
    last = places[np.arange(count), away.argmax(axis=1)]
    lines[some, 0], lines[some, 1] = first[some], last[some]
    return lines
