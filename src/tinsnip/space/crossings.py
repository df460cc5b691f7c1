"""Triangles that meet where they have no vertex in common."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.predicates import triangles_meet
from tinsnip.space.tree import Tree, build_tree
from tinsnip.threads import in_chunks

__all__ = ["meeting_pairs"]

_PART = 4_000


@kernel
def _proper(V, a, b, c):
    """Whether a triangle has an area at all; one that repeats an index or lies on a line meets nothing."""
    if a == b or b == c or c == a:
        return False
    ux, uy, uz = V[b, 0] - V[a, 0], V[b, 1] - V[a, 1], V[b, 2] - V[a, 2]
    wx, wy, wz = V[c, 0] - V[a, 0], V[c, 1] - V[a, 1], V[c, 2] - V[a, 2]
    nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    return nx != 0.0 or ny != 0.0 or nz != 0.0


@kernel
def _pairs(V, faces, first, number, order, boxes, second, begin, end, pairs, state):
    """Pairs of a triangle in the tree and one of `second`; counts beyond the room there is."""
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
        if outside or not _proper(V, p, q, r):
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
                if a in (p, q, r) or b in (p, q, r) or c in (p, q, r):
                    continue
                clear = False
                for k in range(3):
                    x, y, z = V[a, k], V[b, k], V[c, k]
                    if min(x, y, z) > high[k] or max(x, y, z) < low[k]:
                        clear = True
                if clear or not _proper(V, a, b, c):
                    continue
                if triangles_meet(V, a, b, c, p, q, r):
                    if n < pairs.shape[0]:
                        pairs[n, 0], pairs[n, 1] = f, g
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
    everything = np.arange(len(faces), dtype=np.int32)
    chosen = everything if first is None else np.ascontiguousarray(first, dtype=np.int32)
    others = everything if second is None else np.ascontiguousarray(second, dtype=np.int32)
    if len(chosen) == 0 or len(others) == 0:
        return np.empty((0, 2), dtype=np.int32)
    if tree is None or first is not None:
        tree = build_tree(vertices, faces if first is None else np.ascontiguousarray(faces[chosen]))
    number = np.full(len(faces), -1, dtype=np.int32)
    number[chosen] = np.arange(len(chosen), dtype=np.int32)
    state = polled_here()
    found: dict[int, np.ndarray] = {}

    def work(begin: int, end: int) -> None:
        room = 256
        while True:
            pairs = np.empty((room, 2), dtype=np.int32)
            n = _pairs(
                vertices, faces, chosen, number, tree.order, tree.boxes, others, begin, end, pairs, state
            )  # fmt: skip
            if n <= room:
                found[begin] = pairs[:n]
                return
            room = int(n)

    in_chunks(work, len(others), _PART)
    check_here()
    return np.concatenate([found[b] for b in sorted(found)])
