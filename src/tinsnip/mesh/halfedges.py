"""The half-edge twin table, and what is counted from it.

Half-edge ``3 f + k`` runs from corner k of triangle f to its next corner. The table says of each:

* ``t >= 0``: the edge has two triangles and t is the other half-edge (it may run the same way: flipped);
* ``OPEN``: the edge has one triangle;
* ``t <= RING``: the edge is tangled (three or more triangles); the next half-edge round it is ``RING - t``;
* ``ABSENT``: the triangle repeats an index and takes no part.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here

__all__ = ["ABSENT", "OPEN", "RING", "EdgeCounts", "corner_fans", "count_edges", "fans_of", "root_of", "twin_table"]

OPEN = -1
RING = -2
ABSENT = -(2**31)

_SORT_FROM = 48
"""Triangles at a vertex from which its half-edges are sorted, not compared."""


@kernel
def _bucket(faces, start, other, half, state):
    """Counting sort of half-edges into buckets by their smaller vertex; `start` has V + 2 zeros. The largest bucket."""
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if a == b or b == c or c == a:
            continue
        start[min(a, b) + 2] += 1
        start[min(b, c) + 2] += 1
        start[min(c, a) + 2] += 1
    largest = 0
    for v in range(2, start.shape[0]):
        largest = max(largest, start[v])
        start[v] += start[v - 1]
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return largest
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if a == b or b == c or c == a:
            continue
        for k in range(3):
            p, q = (a, b) if k == 0 else ((b, c) if k == 1 else (c, a))
            lo, hi = min(p, q), max(p, q)
            i = start[lo + 1]
            start[lo + 1] = i + 1
            other[i] = hi
            half[i] = 3 * f + k
    return largest


@kernel
def _sink(other, half, begin, at, count):
    """Let what stands at a place of a heap sink until nothing below is larger, by `other` and then `half`."""
    while True:
        child = 2 * at + 1
        if child >= count:
            return
        a, b = begin + child, begin + child + 1
        if child + 1 < count and (other[a] < other[b] or (other[a] == other[b] and half[a] < half[b])):
            child += 1
        a, b = begin + at, begin + child
        if other[a] > other[b] or (other[a] == other[b] and half[a] > half[b]):
            return
        other[a], other[b] = other[b], other[a]
        half[a], half[b] = half[b], half[a]
        at = child


@kernel
def _sort_buckets(start, other, half):
    """Sort the large buckets in place, as heaps, so that partners stand together."""
    for v in range(start.shape[0] - 2):
        begin, count = start[v], start[v + 1] - start[v]
        if count <= _SORT_FROM:
            continue
        for at in range(count // 2 - 1, -1, -1):
            _sink(other, half, begin, at, count)
        for last in range(count - 1, 0, -1):
            a, b = begin, begin + last
            other[a], other[b] = other[b], other[a]
            half[a], half[b] = half[b], half[a]
            _sink(other, half, begin, 0, last)


@kernel
def _match(start, other, half, twins, state):
    """Pair what shares both ends within each bucket."""
    for v in range(start.shape[0] - 2):
        if v % 65536 == 0 and state[0]:
            return
        begin, end = start[v], start[v + 1]
        is_sorted = end - begin > _SORT_FROM
        for i in range(begin, end):
            hi = other[i]
            if hi < 0:
                continue
            first = half[i]
            last = first
            count = 1
            for j in range(i + 1, end):
                if other[j] == hi:
                    other[j] = -1
                    if count == 1:
                        twins[first] = half[j]
                        twins[half[j]] = first
                    else:
                        if count == 2:
                            twins[first] = RING - last
                        twins[last] = RING - half[j]
                        twins[half[j]] = RING - first
                    last = half[j]
                    count += 1
                elif is_sorted:
                    break
            if count == 1:
                twins[first] = OPEN


def twin_table(faces: np.ndarray, vertex_count: int) -> np.ndarray:
    """Find the half-edge across each half-edge.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    vertex_count : int

    Returns
    -------
    ndarray of int32, shape (3 F,)
        Coded as the module's head says.
    """
    start = np.zeros(vertex_count + 2, dtype=np.int32)
    other = np.empty(3 * len(faces), dtype=np.int32)
    half = np.empty(3 * len(faces), dtype=np.int32)
    twins = np.full(3 * len(faces), ABSENT, dtype=np.int32)
    largest = _bucket(faces, start, other, half, polled_here())
    check_here()
    if largest > _SORT_FROM:
        _sort_buckets(start, other, half)
        check_here()
    _match(start, other, half, twins, polled_here())
    check_here()
    twins.setflags(write=False)
    return twins


class EdgeCounts(NamedTuple):
    """Edges by the number and direction of their triangles."""

    shared: int
    open: int
    tangled: int
    flipped: int


@kernel
def _count(corner, twins):
    shared = opened = tangled = flipped = 0
    for h in range(twins.shape[0]):
        t = twins[h]
        if t == OPEN:
            opened += 1
        elif t >= 0:
            if t > h:
                shared += 1
                if corner[h] == corner[t]:
                    flipped += 1
        elif t != ABSENT:
            # each ring is counted once, at its highest half-edge
            i = RING - t
            top = True
            while i != h:
                if i > h:
                    top = False
                    break
                i = RING - twins[i]
            if top:
                tangled += 1
    return shared, opened, tangled, flipped


def count_edges(faces: np.ndarray, twins: np.ndarray) -> EdgeCounts:
    """Count shared, open, tangled and flipped edges.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    """
    check_here()
    return EdgeCounts(*(int(n) for n in _count(faces.ravel(), twins)))


@kernel
def root_of(parent, i):
    """The root of what i has been joined to, by a table of parents that it makes shorter on the way.

    Parameters
    ----------
    parent : ndarray of int
        Written.
    i : int
    """
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@kernel
def _join_corners(corner, links, parent, state):
    for h in range(links.shape[0]):
        if h % 65536 == 0 and state[0]:
            return
        t = links[h]
        if t <= RING and t != ABSENT:
            t = RING - t
        if t < 0 or (t < h and links[t] == h):
            continue
        h_end = h - 2 if h % 3 == 2 else h + 1
        t_end = t - 2 if t % 3 == 2 else t + 1
        if corner[h] != corner[t]:
            t, t_end = t_end, t
        r, s = root_of(parent, h), root_of(parent, t)
        parent[max(r, s)] = min(r, s)
        r, s = root_of(parent, h_end), root_of(parent, t_end)
        parent[max(r, s)] = min(r, s)


@kernel
def _flatten(parent):
    for i in range(parent.shape[0]):
        parent[i] = parent[parent[i]]  # roots come first, so one look is enough


def corner_fans(faces: np.ndarray, links: np.ndarray) -> np.ndarray:
    """Group the corners round each vertex into fans.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    links : ndarray of int32, shape (3 F,)
        A twin table, or one in which some links have been cut (set to `OPEN`).

    Returns
    -------
    ndarray of int32, shape (3 F,)
        For each corner the lowest corner of its fan.
    """
    parent = np.arange(3 * len(faces), dtype=np.int32)
    check_here()
    _join_corners(faces.ravel(), links, parent, polled_here())
    check_here()
    _flatten(parent)
    return parent


@kernel
def _fans(corner, twins, parent, fans):
    for i in range(parent.shape[0]):
        if parent[i] == i and twins[i] != ABSENT:
            fans[corner[i]] += 1


def fans_of(faces: np.ndarray, twins: np.ndarray, vertex_count: int) -> np.ndarray:
    """Number of triangle fans at each vertex, shape (V,): more than one is a pinch, none a loose vertex.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    vertex_count : int
    """
    fans = np.zeros(vertex_count, dtype=np.int32)
    parent = corner_fans(faces, twins)
    check_here()
    _fans(faces.ravel(), twins, parent, fans)
    return fans
