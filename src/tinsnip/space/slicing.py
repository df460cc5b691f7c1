"""A surface layer by layer: the outlines that level planes cut out of it, all at once, each followed from triangle to
triangle.

A vertex that lies in a plane counts as above it, so that every outline of a closed surface is closed and none is met
twice.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.threads import in_chunks

__all__ = ["Layers", "slice_layers"]

_AT_ONCE = 4_000_000
"""Pieces of outline that are worked out together."""
_CLOSED, _OPEN = 1, 2


class Layers(NamedTuple):
    """The outlines of all layers.

    Attributes
    ----------
    heights : ndarray, shape (L,)
    points : ndarray, shape (N, 2)
        x and y of the corners, one outline after another, mm.
    start : ndarray of int64, shape (P + 1,)
        Where each outline begins among the points.
    layer : ndarray of int64, shape (P,)
        The layer that each belongs to, in order.
    closed : ndarray of bool, shape (P,)
    area : ndarray, shape (P,)
        What each encloses, mm2: above 0 anticlockwise, as round what is solid; 0 for an open one.
    """

    heights: np.ndarray
    points: np.ndarray
    start: np.ndarray
    layer: np.ndarray
    closed: np.ndarray
    area: np.ndarray

    def outlines_at(self, layer: int) -> list[np.ndarray]:
        """The outlines of one layer, each of shape (K, 2)."""
        first, last = np.searchsorted(self.layer, [layer, layer + 1])
        return [self.points[self.start[i] : self.start[i + 1]] for i in range(first, last)]

    def areas(self) -> np.ndarray:
        """What each layer's closed outlines enclose together, holes taken off, mm2, shape (L,)."""
        return np.bincount(self.layer, self.area, len(self.heights))


@kernel
def _span(V, faces, heights, first, number):
    """The first layer that each triangle reaches through, and how many."""
    count = heights.shape[0]
    step = (heights[count - 1] - heights[0]) / max(count - 1, 1)
    for f in range(faces.shape[0]):
        a, b, c = V[faces[f, 0], 2], V[faces[f, 1], 2], V[faces[f, 2], 2]
        low, high = min(a, b, c), max(a, b, c)
        i = 0
        if step > 0.0:
            i = min(max(np.int64((low - heights[0]) / step), 0), count)
        while i > 0 and heights[i - 1] > low:
            i -= 1
        while i < count and heights[i] <= low:
            i += 1
        first[f] = i
        while i < count and heights[i] <= high:
            i += 1
        number[f] = i - first[f]


@kernel
def _place(V, a, b, z, out, n):
    """Where an edge goes through a height; the same from either side, to the bit."""
    if a > b:
        a, b = b, a
    share = (z - V[a, 2]) / (V[b, 2] - V[a, 2])
    out[n, 0] = V[a, 0] + share * (V[b, 0] - V[a, 0])
    out[n, 1] = V[a, 1] + share * (V[b, 1] - V[a, 1])


@kernel
def _ways(V, faces, f, z):
    """The corners that begin the two edges of a triangle which go through a height, the one that goes up first."""
    up = down = -1
    for k in range(3):
        here, there = V[faces[f, k], 2] >= z, V[faces[f, (k + 1) % 3], 2] >= z
        if there and not here:
            up = k
        elif here and not there:
            down = k
    return up, down


@kernel
def _follow(V, faces, twins, f, way_in, z, seen, offset, first, layer, points, n, heads, mark):
    """Follow an outline from one edge of a triangle until it ends or comes back; how many points there are then."""
    begin = f
    heads[n] = mark
    while True:
        seen[offset[f] + layer - first[f]] = True
        _place(V, faces[f, way_in], faces[f, (way_in + 1) % 3], z, points, n)
        n += 1
        up, down = _ways(V, faces, f, z)
        way_out = down if way_in == up else up
        t = twins[3 * f + way_out]
        if t < 0 or (t // 3 != begin and seen[offset[t // 3] + layer - first[t // 3]]):
            if mark == _OPEN:
                _place(V, faces[f, way_out], faces[f, (way_out + 1) % 3], z, points, n)
                n += 1
            return n
        f, way_in = t // 3, t % 3
        if f == begin:
            return n


@kernel
def _trace(V, faces, twins, heights, first, offset, seen, order, ends, points, heads, counts, begin, end, low, state):
    """Outlines of some layers; those that end somewhere first."""
    for layer in range(begin, end):
        if state[0]:
            return
        z = heights[layer]
        start = ends[layer] - ends[low]
        n = 2 * start
        for closed in range(2):
            for i in range(start, ends[layer + 1] - ends[low]):
                f = order[i]
                if seen[offset[f] + layer - first[f]]:
                    continue
                up, down = _ways(V, faces, f, z)
                # in by the edge that goes down, and what an outward triangle encloses lies to the left
                if closed:
                    n = _follow(V, faces, twins, f, down, z, seen, offset, first, layer, points, n, heads, _CLOSED)
                elif twins[3 * f + up] < 0:
                    n = _follow(V, faces, twins, f, up, z, seen, offset, first, layer, points, n, heads, _OPEN)
                elif twins[3 * f + down] < 0:
                    n = _follow(V, faces, twins, f, down, z, seen, offset, first, layer, points, n, heads, _OPEN)
        counts[layer] = n - 2 * start


@kernel
def _by_layer(first, number, at, low, high, order):
    """The triangles of each layer, one layer after another."""
    for f in range(first.shape[0]):
        for layer in range(max(first[f], low), min(first[f] + number[f], high)):
            order[at[layer]] = f
            at[layer] += 1


@kernel
def _count(first, number, counts):
    for f in range(first.shape[0]):
        for layer in range(first[f], first[f] + number[f]):
            counts[layer] += 1


@kernel
def _pack(points, heads, begins, lengths, packed, marks):
    n = 0
    for i in range(begins.shape[0]):
        for j in range(begins[i], begins[i] + lengths[i]):
            packed[n, 0], packed[n, 1] = points[j, 0], points[j, 1]
            marks[n] = heads[j]
            n += 1


@kernel
def _enclosed(points, start, closed, area):
    """What closed outlines enclose, reckoned from a corner of theirs, so that far-off parts lose nothing."""
    for i in range(closed.shape[0]):
        if closed[i]:
            x, y = points[start[i], 0], points[start[i], 1]
            twice = 0.0
            for j in range(start[i] + 1, start[i + 1] - 1):
                ax, ay = points[j, 0] - x, points[j, 1] - y
                twice += ax * (points[j + 1, 1] - y) - (points[j + 1, 0] - x) * ay
            area[i] = 0.5 * twice


def slice_layers(vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, heights: np.ndarray) -> Layers:
    """The outlines at some heights.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
    heights : ndarray, shape (L,)
        Rising evenly, mm.

    Returns
    -------
    Layers

    Raises
    ------
    Cancelled

    Examples
    --------
    >>> import numpy as np
    >>> from tinsnip.mesh import Mesh
    >>> tip = Mesh([[0, 0, 0], [2, 0, 0], [0, 2, 0], [0, 0, 2]], [[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    >>> slice_layers(tip.vertices, tip.faces, tip.twins, np.array([1.0])).areas().tolist()
    [0.5]
    """
    heights = np.ascontiguousarray(heights, dtype=np.float64)
    first, number = np.zeros(len(faces), dtype=np.int64), np.zeros(len(faces), dtype=np.int64)
    if len(heights) and len(faces):
        _span(vertices, faces, heights, first, number)
    counts = np.zeros(len(heights), dtype=np.int64)
    _count(first, number, counts)
    check_here()
    ends = np.concatenate([[0], np.cumsum(counts)])
    offset = np.concatenate([[0], np.cumsum(number)[:-1]]) if len(faces) else number
    seen = np.zeros(int(ends[-1]), dtype=np.bool_)
    state = polled_here()
    parts, low = [], 0
    while low < len(heights):
        high = max(low + 1, int(np.searchsorted(ends, ends[low] + _AT_ONCE, side="right")) - 1)
        room = int(ends[high] - ends[low])
        order, at = np.empty(room, dtype=np.int64), ends[:-1] - ends[low]
        _by_layer(first, number, at, low, high, order)
        points, heads = np.empty((2 * room, 2)), np.zeros(2 * room, dtype=np.uint8)
        used = np.zeros(len(heights), dtype=np.int64)
        in_chunks(
            lambda i, j, low=low, order=order, points=points, heads=heads, used=used: _trace(
                vertices, faces, twins, heights, first, offset, seen, order, ends, points, heads, used, low + i,
                low + j, low, state,
            ),
            high - low,
            8,
        )  # fmt: skip
        check_here()
        length = used[low:high]
        packed, marks = np.empty((int(length.sum()), 2)), np.empty(int(length.sum()), dtype=np.uint8)
        _pack(points, heads, 2 * (ends[low:high] - ends[low]), length, packed, marks)
        parts.append((packed, marks, np.repeat(np.arange(low, high), length)[marks > 0]))
        low = high
    if not parts:
        return Layers(
            heights, np.empty((0, 2)), np.zeros(1, dtype=np.int64), *(np.empty(0, dtype=t) for t in (int, bool, float))
        )
    points, heads, layer = (np.concatenate(one) for one in zip(*parts, strict=True))
    begin = np.flatnonzero(heads)
    start, closed, area = np.append(begin, len(points)), heads[begin] == _CLOSED, np.zeros(len(begin))
    _enclosed(points, start, closed, area)
    return Layers(heights, points, start, layer, closed, area)
