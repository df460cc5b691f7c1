"""A closed manifold between the inside and the outside of a lattice, that keeps sharp edges.

Dual contouring (Ju et al. 2002), with a vertex of its own for each polygon in which a cell is cut (Nielson 2004;
Schaefer, Ju and Warren 2007). Where two cells join two such polygons in more than one way a node changes its side, so
that every edge has two triangles.
"""

from functools import cache
from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here
from tinsnip.space.isosurface import CUBE_EDGES, polygons_of_case
from tinsnip.space.lattice import INSIDE, SIDE, Lattice
from tinsnip.threads import in_chunks

__all__ = ["DualSurface", "dual_surface", "nodes_to_turn"]

_NODES = SIDE**3
_STIFF = 0.05
"""How strongly a vertex is held at the middle of its crossings, where the planes there do not determine it."""
_PART = 1_000
"""Blocks that a thread takes at once."""
_OFF_WALLS = 0.02
"""How far vertices stay off the walls of their cells, in cells."""


class DualSurface(NamedTuple):
    """Triangles of the surface between inside and outside.

    Attributes
    ----------
    vertices : ndarray, shape (V, 3)
        mm; each within its cell.
    middles : ndarray, shape (V, 3)
        The means of the places where the cells' edges are cut: a plainer position for each.
    faces : ndarray of int32, shape (F, 3)
    seen : ndarray of bool, shape (V,)
        Where triangles of the raw surface cut an edge of the cell; elsewhere the surface is made up.
    """

    vertices: np.ndarray
    middles: np.ndarray
    faces: np.ndarray
    seen: np.ndarray


@cache
def _tables() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Polygon of each case and cube edge, or -1; how many polygons a case has; edge between two corners."""
    polygon = np.full((256, 12), -1, dtype=np.int8)
    count = np.zeros(256, dtype=np.int8)
    for case in range(256):
        found = polygons_of_case(case)
        count[case] = len(found)
        for i, edges in enumerate(found):
            polygon[case, edges] = i
    between = np.full((8, 8), -1, dtype=np.int8)
    for e, (a, b) in enumerate(CUBE_EDGES):
        between[a, b] = between[b, a] = e
    return polygon, count, between


@kernel
def _node(number, x, y, z):
    """The number of the node at a place; -1 where no block is."""
    side = np.int64(SIDE)
    if x < 0 or y < 0 or z < 0:
        return np.int64(-1)
    i, j, k = x // side, y // side, z // side
    if i >= number.shape[0] or j >= number.shape[1] or k >= number.shape[2] or number[i, j, k] < 0:
        return np.int64(-1)
    return np.int64(number[i, j, k]) * _NODES + ((x % side) * side + y % side) * side + z % side


@kernel
def _cases(number, blocks, inside, begin, end, case):
    """The case of the cell above each node; 0 where it is cut by nothing, -1 where corners are not there."""
    side = np.int64(SIDE)
    for b in range(begin, end):
        for n in range(_NODES):
            x = blocks[b, 0] * side + n // (side * side)
            y = blocks[b, 1] * side + n // side % side
            z = blocks[b, 2] * side + n % side
            bits, here = 0, True
            for c in range(8):
                at = _node(number, x + (c & 1), y + (c >> 1 & 1), z + (c >> 2))
                if at < 0:
                    here = False
                elif inside[at]:
                    bits |= 1 << c
            case[b * _NODES + n] = (0 if bits == 255 else bits) if here else -1


@kernel
def _doubtful(number, blocks, case, polygon, between, inside, turns, out):
    """Nodes beside walls through which two cells join one polygon each twice; the likelier to be inside of each."""
    side, n_out = np.int64(SIDE), 0
    corner = np.empty(4, dtype=np.int64)
    for b in range(blocks.shape[0]):
        for n in range(_NODES):
            x = blocks[b, 0] * side + n // (side * side)
            y = blocks[b, 1] * side + n // side % side
            z = blocks[b, 2] * side + n % side
            here = b * _NODES + n
            for axis in range(3):
                below = _node(number, x - (axis == 0), y - (axis == 1), z - (axis == 2))
                if below < 0 or case[here] <= 0 or case[below] <= 0:
                    continue
                u, v = 1 << (axis + 1) % 3, 1 << (axis + 2) % 3
                corner[0], corner[1], corner[2], corner[3] = 0, u, u | v, v  # round the wall
                bits = case[here]
                first = bits & 1
                if (bits >> u & 1) == first or (bits >> (u | v) & 1) != first or (bits >> v & 1) == first:
                    continue
                same = True
                for k in range(4):
                    p, q = corner[k], corner[(k + 1) % 4]
                    up = 1 << axis
                    one, other = polygon[case[here], between[p, q]], polygon[case[below], between[p | up, q | up]]
                    if one != polygon[case[here], between[0, u]] or other != polygon[case[below], between[up, u | up]]:
                        same = False
                if not same:
                    continue
                best = np.int64(-1)
                for k in range(4):
                    c = corner[k]
                    at = _node(number, x + (c & 1), y + (c >> 1 & 1), z + (c >> 2))
                    if not inside[at] and (best < 0 or turns[at] > turns[best]):
                        best = at
                out[n_out] = best
                n_out += 1
                if n_out == out.shape[0]:
                    return n_out
    return n_out


def _all_cases(lattice: Lattice) -> np.ndarray:
    case = np.empty(len(lattice.inside), dtype=np.int16)

    def work(begin: int, end: int) -> None:
        _cases(lattice.number, lattice.blocks, lattice.inside, begin, end, case)

    in_chunks(work, len(lattice.blocks), _PART)
    return case


def nodes_to_turn(lattice: Lattice) -> np.ndarray:
    """Nodes that have to be inside so that the surface between is a manifold; none once it is.

    Parameters
    ----------
    lattice : Lattice
    """
    polygon, _, between = _tables()
    case = _all_cases(lattice)
    out = np.empty(max(1000, len(case) // 100), dtype=np.int64)
    found = _doubtful(
        lattice.number, lattice.blocks, case, polygon, between, lattice.inside, lattice.turns, out
    )  # fmt: skip
    check_here()
    return np.unique(out[:found])


@kernel
def _count(case, count, base):
    total = 0
    for i in range(case.shape[0]):
        base[i] = total
        if case[i] > 0:
            total += count[case[i]]
    return total


@kernel
def _solve(a, b, x):
    """Three equations with a positive definite matrix, by Cramer's rule."""
    c00 = a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1]
    c01 = a[1, 2] * a[2, 0] - a[1, 0] * a[2, 2]
    c02 = a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0]
    det = a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02
    c11, c12, c22 = (
        a[0, 0] * a[2, 2] - a[0, 2] ** 2,
        a[0, 1] * a[0, 2] - a[0, 0] * a[1, 2],
        a[0, 0] * a[1, 1] - a[0, 1] ** 2,
    )
    x[0] = (c00 * b[0] + c01 * b[1] + c02 * b[2]) / det
    x[1] = (c01 * b[0] + c11 * b[1] + c12 * b[2]) / det
    x[2] = (c02 * b[0] + c12 * b[1] + c22 * b[2]) / det


@kernel
def _place(number, blocks, case, base, polygon, edges, inside, turns, cut, first, last, share, triangle, normals,
           begin, end, vertices, middles, seen):  # fmt: skip
    """Where each vertex lies, in nodes: nearest to the planes at the crossings round it."""
    side = np.int64(SIDE)
    at, way, real = np.empty((12, 3)), np.empty((12, 3)), np.empty(12, dtype=np.bool_)
    which = np.empty(12, dtype=np.int64)
    A, B, X = np.empty((3, 3)), np.empty(3), np.empty(3)
    for cell in range(begin, end):
        bits = case[cell]
        if bits <= 0:
            continue
        b, n = cell // _NODES, cell % _NODES
        x = blocks[b, 0] * side + n // (side * side)
        y = blocks[b, 1] * side + n // side % side
        z = blocks[b, 2] * side + n % side
        polygons = 0
        for e in range(12):
            which[e] = polygon[bits, e]
            if which[e] < 0:
                continue
            polygons = max(polygons, which[e] + 1)
            c, d = min(edges[e, 0], edges[e, 1]), max(edges[e, 0], edges[e, 1])
            axis = 0 if d - c == 1 else (1 if d - c == 2 else 2)
            low = _node(number, x + (c & 1), y + (c >> 1 & 1), z + (c >> 2))
            high = _node(number, x + (d & 1), y + (d >> 1 & 1), z + (d >> 2))
            for k in range(3):
                at[e, k] = c >> k & 1
            i = cut[low, axis]
            real[e] = i >= 0
            if i >= 0:  # the outermost of several
                j = last[i] if inside[low] else first[i]
                at[e, axis] = share[j]
                for k in range(3):
                    way[e, k] = normals[triangle[j], k]
            else:
                rise = turns[high] - turns[low]
                t = (INSIDE - turns[low]) / rise if rise != 0.0 else 0.5
                at[e, axis] = t if 0.0 < t < 1.0 else 0.5
        for p in range(polygons):
            v = base[cell] + p
            many = 0
            for k in range(3):
                middles[v, k] = 0.0
                B[k] = 0.0
                for m in range(3):
                    A[k, m] = _STIFF if k == m else 0.0
            seen[v] = False
            for e in range(12):
                if which[e] == p:
                    many += 1
                    seen[v] |= real[e]
                    for k in range(3):
                        middles[v, k] += at[e, k]
            for k in range(3):
                middles[v, k] /= many
            for e in range(12):
                if which[e] == p and real[e]:
                    off = 0.0
                    for k in range(3):
                        off += way[e, k] * (at[e, k] - middles[v, k])
                    for k in range(3):
                        B[k] += way[e, k] * off
                        for m in range(3):
                            A[k, m] += way[e, k] * way[e, m]
            _solve(A, B, X)
            for k in range(3):
                corner = x if k == 0 else (y if k == 1 else z)
                own = min(max(middles[v, k] + X[k], _OFF_WALLS), 1.0 - _OFF_WALLS)
                vertices[v, k] = corner + own
                middles[v, k] += corner


@kernel
def _quads(number, blocks, case, base, polygon, between, inside, vertices, begin, end, faces):
    """Two triangles round each edge whose ends lie on either side; without room only count them."""
    side, n_out, counting = np.int64(SIDE), 0, faces.shape[0] == 0
    q = np.empty(4, dtype=np.int64)
    for b in range(begin, end):
        for n in range(_NODES):
            x = blocks[b, 0] * side + n // (side * side)
            y = blocks[b, 1] * side + n // side % side
            z = blocks[b, 2] * side + n % side
            here = b * _NODES + n
            for axis in range(3):
                beyond = _node(number, x + (axis == 0), y + (axis == 1), z + (axis == 2))
                if beyond < 0 or inside[here] == inside[beyond]:
                    continue
                if counting:
                    n_out += 2
                    continue
                u, v = (axis + 1) % 3, (axis + 2) % 3
                for k in range(4):  # the cells round the edge, anticlockwise about its axis
                    du, dv = (k == 1 or k == 2) * 1, (k >= 2) * 1
                    cell = _node(
                        number,
                        x - (du if u == 0 else 0) - (dv if v == 0 else 0),
                        y - (du if u == 1 else 0) - (dv if v == 1 else 0),
                        z - (du if u == 2 else 0) - (dv if v == 2 else 0),
                    )  # fmt: skip
                    if cell < 0 or case[cell] <= 0:
                        return -1
                    low = du << u | dv << v
                    q[k] = base[cell] + polygon[case[cell], between[low, low | 1 << axis]]
                if not inside[here]:
                    q[1], q[3] = q[3], q[1]
                one = other = 0.0
                for k in range(3):
                    one += (vertices[q[0], k] - vertices[q[2], k]) ** 2
                    other += (vertices[q[1], k] - vertices[q[3], k]) ** 2
                s = 0 if one <= other else 1
                for t in range(2):
                    faces[n_out, 0] = q[s]
                    faces[n_out, 1] = q[(s + 1 + t) % 4]
                    faces[n_out, 2] = q[(s + 2 + t) % 4]
                    n_out += 1
    return n_out


def dual_surface(lattice: Lattice, normals: np.ndarray) -> DualSurface:
    """The surface between inside and outside; see `nodes_to_turn`, which has to find none.

    Parameters
    ----------
    lattice : Lattice
        Signed and spread.
    normals : ndarray, shape (F, 3)
        Unit normals of the triangles laid into it.
    """
    polygon, count, between = _tables()
    case = _all_cases(lattice)
    base = np.empty(len(case), dtype=np.int64)
    total = _count(case, count, base)
    vertices, middles, seen = np.empty((total, 3)), np.empty((total, 3)), np.empty(total, dtype=bool)
    crossings = lattice.crossings
    edges = np.array(CUBE_EDGES)

    def place(begin: int, end: int) -> None:
        _place(
            lattice.number, lattice.blocks, case, base, polygon, edges, lattice.inside, lattice.turns, lattice.cut,
            crossings.first, crossings.last, crossings.share, crossings.triangle, normals, begin * _NODES, end * _NODES,
            vertices, middles, seen,
        )  # fmt: skip

    in_chunks(place, len(lattice.blocks), _PART)
    check_here()
    args = lattice.number, lattice.blocks, case, base, polygon, between, lattice.inside, vertices
    found: dict[int, np.ndarray] = {}

    def quads(begin: int, end: int) -> None:
        faces = np.empty((_quads(*args, begin, end, np.empty((0, 3), dtype=np.int32)), 3), dtype=np.int32)
        if len(faces) and _quads(*args, begin, end, faces) < 0:
            raise AssertionError("the lattice was not spread to where the surface goes")
        found[begin] = faces

    in_chunks(quads, len(lattice.blocks), _PART)
    check_here()
    faces = np.concatenate([found[begin] for begin in sorted(found)]) if found else np.empty((0, 3), dtype=np.int32)
    vertices, middles = (lattice.low + lattice.step * places for places in (vertices, middles))
    return DualSurface(vertices, middles, faces, seen)
