"""Triangles of an implicit surface: marching cubes over sparse blocks (Lorensen and Cline 1987).

The case table is derived, not listed: on each face of the cube the cut edges are joined so that corners
inside are cut off one by one, which two neighbouring cubes always agree on; the joins close to polygons, and
each is cut into triangles by diagonals that lie on no face, so that no edge gets more than two triangles.
"""

from collections.abc import Callable
from functools import cache
from itertools import combinations, pairwise

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.space.welding import weld_exact

__all__ = ["CUBE_EDGES", "march", "polygons_of_case"]

_CORNERS = np.array([[i & 1, (i >> 1) & 1, i >> 2] for i in range(8)])
CUBE_EDGES = [(a, b) for a, b in combinations(range(8), 2) if bin(a ^ b).count("1") == 1]
"""A cube's edges, as numbers of corners: bit 0 of a corner is its x, bit 1 its y, bit 2 its z."""
_FACES = [[0, 4, 6, 2], [1, 3, 7, 5], [0, 1, 5, 4], [2, 6, 7, 3], [0, 2, 3, 1], [4, 5, 7, 6]]
_BLOCK = 8
"""Cells along a block that is looked at as one."""


def _edge_number(a: int, b: int) -> int:
    return CUBE_EDGES.index((min(a, b), max(a, b)))


def _share_a_face(e: int, f: int) -> bool:
    corners = {*CUBE_EDGES[e], *CUBE_EDGES[f]}
    return any(corners <= set(face) for face in _FACES)


def _cut_polygon(polygon: list[int]) -> list[tuple[int, int, int]] | None:
    """Triangles of a polygon of cut edges without a diagonal on a face of the cube; None if there is none."""
    if len(polygon) == 3:
        return [tuple(polygon)]
    first, last = polygon[0], polygon[-1]
    for i in range(1, len(polygon) - 1):
        sides = [(first, polygon[i])] if i > 1 else []
        sides += [(polygon[i], last)] if i < len(polygon) - 2 else []
        if any(_share_a_face(*side) for side in sides):
            continue
        left = _cut_polygon(polygon[: i + 1]) if i > 1 else []
        right = _cut_polygon(polygon[i:]) if i < len(polygon) - 2 else []
        if left is not None and right is not None:
            return [(first, polygon[i], last), *left, *right]
    return None


def polygons_of_case(case: int) -> list[list[int]]:
    """The polygons that cut a cube's inside corners off, as numbers of the edges they go through, round each.

    Parameters
    ----------
    case : int
        One bit a corner, 0 to 255.
    """
    inside = [bool(case >> c & 1) for c in range(8)]
    following: dict[int, int] = {}
    for face in _FACES:
        cuts = [
            (_edge_number(face[k], face[(k + 1) % 4]), inside[face[k]])
            for k in range(4)
            if inside[face[k]] != inside[face[(k + 1) % 4]]
        ]
        for k, (edge, leaves) in enumerate(cuts):
            if leaves:  # the run of inside corners that ends here began at the cut before
                following[cuts[k - 1][0]] = edge
    polygons = []
    while following:
        edge, polygon = next(iter(following)), []
        while edge in following:
            polygon.append(edge)
            edge = following.pop(edge)
        polygons.append(polygon)
    return polygons


@cache
def _table() -> np.ndarray:
    """Triangles of each of the 256 cases as numbers of cube edges, padded with -1."""
    cases = []
    for case in range(256):
        triangles: list[tuple[int, int, int]] = []
        for polygon in polygons_of_case(case):
            found = None
            for turn in range(len(polygon)):
                found = _cut_polygon(polygon[turn:] + polygon[:turn])
                if found is not None:
                    break
            triangles += found or [(polygon[0], b, c) for b, c in pairwise(polygon[1:])]
        cases.append([e for t in triangles for e in t])
    table = np.full((256, max(map(len, cases)) + 1), -1, dtype=np.int8)
    for case, edges in enumerate(cases):
        table[case, : len(edges)] = edges
    return table


@kernel
def _triangulate(values, origins, h, low, table, edges, corners, out):
    """Emit triangle corners of a batch of blocks; with an empty `out` only count them."""
    n = 0
    side = values.shape[1]
    counting = out.shape[0] == 0
    for b in range(values.shape[0]):
        for i in range(side - 1):
            for j in range(side - 1):
                for k in range(side - 1):
                    case = 0
                    for c in range(8):
                        if values[b, i + corners[c, 0], j + corners[c, 1], k + corners[c, 2]] < 0:
                            case |= 1 << c
                    m = 0
                    while table[case, m] >= 0:
                        if not counting:
                            p, q = edges[table[case, m], 0], edges[table[case, m], 1]
                            vp = values[b, i + corners[p, 0], j + corners[p, 1], k + corners[p, 2]]
                            vq = values[b, i + corners[q, 0], j + corners[q, 1], k + corners[q, 2]]
                            # kept off the ends: slivers are no use, the points are moved onto the surface later
                            t = min(max(vp / (vp - vq), 0.1), 0.9)
                            for axis in range(3):
                                base = origins[b, axis] + (i, j, k)[axis]
                                g = base + corners[p, axis] + t * (corners[q, axis] - corners[p, axis])
                                out[n, axis] = low[axis] + g * h
                        n += 1
                        m += 1
    return n


def march(
    field: Callable[[np.ndarray], np.ndarray], box: np.ndarray, h: float, progress: Callable[[float], None]
) -> tuple[np.ndarray, np.ndarray]:
    """Triangulate the zero surface of a field inside a box.

    Parameters
    ----------
    field : callable
        Signed distances (N,) of points (N, 3); must not change faster than 1.3 per unit length.
    box : ndarray, shape (2, 3)
    h : float
        Width of a cube.
    progress : callable
        Told the share done.

    Returns
    -------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Outward from the field's negative side.
    """
    cells = np.ceil((box[1] - box[0]) / h / _BLOCK).astype(int)
    blocks = np.stack(np.meshgrid(*(np.arange(n) for n in cells), indexing="ij"), -1).reshape(-1, 3)
    centres = box[0] + (blocks + 0.5) * _BLOCK * h
    active = blocks[np.abs(field(centres)) < 1.3 * np.sqrt(3) / 2 * _BLOCK * h]
    steps = np.arange(_BLOCK + 1)
    offsets = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), -1).reshape(-1, 3)
    edges = np.array(CUBE_EDGES)
    soup = []
    batch = 512
    for begin in range(0, len(active), batch):
        origins = active[begin : begin + batch] * _BLOCK
        points = box[0] + (origins[:, None, :] + offsets).reshape(-1, 3) * h
        values = field(points).reshape(-1, _BLOCK + 1, _BLOCK + 1, _BLOCK + 1)
        args = (values, origins, h, box[0], _table(), edges, _CORNERS)
        out = np.empty((_triangulate(*args, np.empty((0, 3))), 3))
        _triangulate(*args, out)
        soup.append(out)
        progress(min(1.0, (begin + batch) / len(active)))
    corners = np.concatenate(soup)
    index, first = weld_exact(corners)
    return corners[first], index.reshape(-1, 3)
