"""Open boundaries as loops of half-edges."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.halfedges import OPEN

__all__ = ["Loops", "boundary_loops"]


class Loops(NamedTuple):
    """Open boundaries; loop i is ``halfedges[start[i]:start[i + 1]]``, in order.

    Attributes
    ----------
    start : ndarray of int32, shape (L + 1,)
    halfedges : ndarray of int32
        The open half-edges; on a consistently wound mesh each ends where the next begins.
    """

    start: np.ndarray
    halfedges: np.ndarray

    def __len__(self) -> int:  # type: ignore[override]
        return len(self.start) - 1

    def loop(self, i: int) -> np.ndarray:
        """Half-edges of loop i."""
        return self.halfedges[self.start[i] : self.start[i + 1]]


@kernel
def _round_fan(corner, twins, h, v):
    """From the open half-edge h walk round vertex v, over shared edges, to the fan's other end.

    Winding is not relied on: each step leaves the triangle by its other edge at v. Returns an open
    half-edge, or -1 where a tangled edge bars the way.
    """
    edge = h
    for _ in range(twins.shape[0]):
        base = edge - edge % 3
        for k in range(3):
            other = base + k
            if other == edge:
                continue
            end = base + (k + 1) % 3
            if corner[other] == v or corner[end] == v:
                break
        t = twins[other]
        if t == OPEN:
            return other
        if t < 0:
            return -1
        edge = t
    return -1


@kernel
def _loops(corner, twins, opens, at_vertex, next_at, used, place, path, start, out):
    """Walk every boundary; whenever the walk comes back to a vertex, what lies between is a loop."""
    n_loops = 0
    n_out = 0
    for seed in opens:
        if used[seed]:
            continue
        h = seed
        depth = 0
        a, v = corner[h], corner[h - 2 if h % 3 == 2 else h + 1]
        while True:
            used[h] = True
            place[a] = depth
            path[depth] = h
            depth += 1
            if place[v] >= 0:
                first = place[v]
                for i in range(first, depth):
                    e = path[i]
                    place[corner[e]] = -1
                    place[corner[e - 2 if e % 3 == 2 else e + 1]] = -1
                    out[n_out] = e
                    n_out += 1
                depth = first
                n_loops += 1
                start[n_loops] = n_out
            n = _round_fan(corner, twins, h, v)
            if n < 0 or used[n]:
                # barred by a tangle, or back where the walk began: take any open edge left at this vertex
                n = -1
                i = at_vertex[v]
                while i >= 0 and depth > 0:
                    if not used[opens[i >> 1]]:
                        n = opens[i >> 1]
                        break
                    i = next_at[i]
            if n < 0:
                break
            p, q = corner[n], corner[n - 2 if n % 3 == 2 else n + 1]
            a = v
            v = q if p == a else p
            h = n
        if depth > 0:  # a chain that a tangle cut short
            for i in range(depth):
                e = path[i]
                place[corner[e]] = -1
                place[corner[e - 2 if e % 3 == 2 else e + 1]] = -1
                out[n_out] = e
                n_out += 1
            n_loops += 1
            start[n_loops] = n_out
    return n_loops


@kernel
def _index_open(corner, twins, opens, at_vertex, next_at):
    """List the open half-edges, and link those at each vertex."""
    n = 0
    for h in range(twins.shape[0]):
        if twins[h] == OPEN:
            opens[n] = h
            n += 1
    for i in range(n - 1, -1, -1):
        h = opens[i]
        a, b = corner[h], corner[h - 2 if h % 3 == 2 else h + 1]
        next_at[2 * i] = at_vertex[a]
        at_vertex[a] = 2 * i
        next_at[2 * i + 1] = at_vertex[b]
        at_vertex[b] = 2 * i + 1


def at_open_edges(faces: np.ndarray, twins: np.ndarray, vertex_count: int) -> np.ndarray:
    """Which vertices an open or tangled edge ends at, bool, shape (V,)."""
    found = np.zeros(vertex_count, dtype=np.bool_)
    corner, ends = faces.ravel(), np.flatnonzero(twins < 0)
    found[corner[ends]] = True
    found[corner[ends - ends % 3 + (ends + 1) % 3]] = True
    return found


def boundary_loops(faces: np.ndarray, twins: np.ndarray, vertex_count: int) -> Loops:
    """Follow every open edge round its loop.

    Walks stay with one fan of triangles at a pinched vertex, and are parted wherever they come back to a
    vertex, so that no loop visits one twice and two holes that touch in a point stay two.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
    vertex_count : int

    Returns
    -------
    Loops
    """
    open_count = int(np.count_nonzero(twins == OPEN))
    if open_count == 0:
        return Loops(np.zeros(1, dtype=np.int32), np.empty(0, dtype=np.int32))
    at_vertex = np.full(vertex_count, -1, dtype=np.int32)
    opens = np.empty(open_count, dtype=np.int64)
    next_at = np.empty(2 * open_count, dtype=np.int32)
    _index_open(faces.ravel(), twins, opens, at_vertex, next_at)
    start = np.zeros(open_count + 1, dtype=np.int32)
    out = np.empty(open_count, dtype=np.int32)
    used = np.zeros(len(twins), dtype=np.bool_)
    place = np.full(vertex_count, -1, dtype=np.int32)
    path = np.empty(open_count, dtype=np.int64)
    n = _loops(faces.ravel(), twins, opens, at_vertex, next_at, used, place, path, start, out)
    return Loops(start[: n + 1].copy(), out)
