"""Two closed surfaces divided along the lines where they meet, and what of each lies inside the other.

The arrangement of two meshes (Zhou et al. 2016; Cherchi et al. 2020): where they go through each other, touch, or lie
in one plane, each triangle is divided so that the two surfaces have vertices and edges in common. What meets what, in
which order, and on which side of the other surface a part lies is told by exact signs; only where a new vertex is put
is rounded.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.halfedges import root_of, twin_table
from tinsnip.mesh.measures import triangle_areas
from tinsnip.progress import check_here
from tinsnip.space.crossings import meeting_pairs
from tinsnip.space.delaunay import divided_polygons
from tinsnip.space.meets import FLAT, meets_of
from tinsnip.space.welding import weld_exact
from tinsnip.space.winding import winding_numbers

__all__ = ["INSIDE", "OPPOSITE", "OUTSIDE", "SAME", "Arrangement", "Unclear", "arrange"]

OUTSIDE, INSIDE, SAME, OPPOSITE = 0, 1, 2, 3
_UNCLEAR = 0.2
"""How far a winding number may be from a whole one."""


class Unclear(ValueError):
    """The two surfaces come so near each other that rounding parts them no more, or one is no closed surface."""


class Arrangement(NamedTuple):
    """Two surfaces, divided along the lines where they meet.

    Attributes
    ----------
    faces : ndarray of int64, shape (F', 3)
        Numbers from V on stand for the new vertices; vertices at one place bear the first surface's number.
    parents : ndarray of int64, shape (F',)
        The triangle that each is, or is a part of.
    where : ndarray of int8, shape (F',)
        `OUTSIDE` or `INSIDE` the other surface, or on it, facing the `SAME` way or `OPPOSITE`.
    at : ndarray, shape (N, 3)
        The new vertices.
    edges : ndarray of int64, shape (N, 2)
        An edge that each of them lies on.
    shares : ndarray, shape (N,)
        How far along it.
    meets : int
        How many pairs of triangles meet.
    """

    faces: np.ndarray
    parents: np.ndarray
    where: np.ndarray
    at: np.ndarray
    edges: np.ndarray
    shares: np.ndarray
    meets: int


class _Lines(NamedTuple):
    """Points and pieces of line by their numbers, as `arrange` works with them.

    Attributes
    ----------
    at, edges, shares
        Of the new vertices, as in `Arrangement`.
    on_edge : ndarray of int64, shape (E, 3)
        Edge, the lower end first, and a point on it; by edge, and along it.
    in_face : ndarray of int64, shape (I, 2)
        Triangle, and a point within it.
    lines : ndarray of int64, shape (L, 4)
        First and second triangle, and the two ends.
    along : ndarray of bool, shape (L, 2)
    flat : ndarray of int64, shape (C, 2)
        Pairs of triangles that lie in one plane and meet.
    """

    at: np.ndarray
    edges: np.ndarray
    shares: np.ndarray
    on_edge: np.ndarray
    in_face: np.ndarray
    lines: np.ndarray
    along: np.ndarray
    flat: np.ndarray


def arrange(vertices: np.ndarray, faces: np.ndarray, first: np.ndarray, second: np.ndarray) -> Arrangement:
    """Divide two closed surfaces, neither of which crosses itself, along the lines where they meet.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    first, second : ndarray of int, shape (A,), (B,)
        The triangles of each.

    Returns
    -------
    Arrangement

    Raises
    ------
    Unclear
    Cancelled
    """
    pairs = _near_pairs(vertices, faces, first, second)
    named = _with_common_vertices(vertices, faces, pairs)
    lines = _lines_of(vertices, named, pairs)
    check_here()
    where_all = np.concatenate([vertices, lines.at])
    cut = np.unique(pairs)
    none = np.empty((0, 3), dtype=np.int64), cut
    divided, of = _divided(where_all, named, cut, lines) if len(cut) else none
    rest = np.zeros(len(faces), dtype=bool)
    rest[first] = rest[second] = True
    rest[cut] = False
    whole = np.flatnonzero(rest)
    new_faces = np.concatenate([named[whole].astype(np.int64), divided])
    parents = np.concatenate([whole, of])
    where = _where(where_all, faces, named, new_faces, parents, (first, second), lines)
    return Arrangement(new_faces, parents, where, lines.at, lines.edges, lines.shares, len(pairs))


def _near_pairs(vertices: np.ndarray, faces: np.ndarray, first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """All pairs of a triangle of the one and one of the other that meet, int, shape (P, 2)."""
    if len(first) == 0 or len(second) == 0:
        return np.empty((0, 2), dtype=np.int64)
    boxes = []
    for own in (first, second):
        used = np.zeros(len(vertices), dtype=bool)
        used[faces[own].ravel()] = True
        boxes.append((vertices[used].min(axis=0), vertices[used].max(axis=0)))
    chosen = []
    for own, (low, high) in zip((first, second), boxes[::-1], strict=True):
        beyond = np.zeros(len(vertices), dtype=np.uint8)  # a bit for each side of the other's box it lies beyond
        for k in range(3):
            beyond |= (vertices[:, k] < low[k]).astype(np.uint8) << k
            beyond |= (vertices[:, k] > high[k]).astype(np.uint8) << (3 + k)
        corners = beyond[faces[own]]
        chosen.append(own[(corners[:, 0] & corners[:, 1] & corners[:, 2]) == 0])
    check_here()
    few, many = sorted(chosen, key=len)
    pairs = meeting_pairs(vertices, faces, few, many)
    mine = np.zeros(len(faces), dtype=bool)
    mine[first] = True
    turned = ~mine[pairs[:, 0]]
    pairs[turned] = pairs[turned][:, ::-1]
    return pairs.astype(np.int64)


def _with_common_vertices(vertices: np.ndarray, faces: np.ndarray, pairs: np.ndarray) -> np.ndarray:
    """The triangles, the second surface's vertices numbered as the first's where they are at one place."""
    one, other = np.unique(faces[np.unique(pairs[:, 0])]), np.unique(faces[np.unique(pairs[:, 1])])
    index, first = weld_exact(vertices[np.concatenate([one, other])])
    at = first[index[len(one) :]]
    number = np.arange(len(vertices), dtype=np.int32)
    common = at < len(one)
    if not common.any():
        return faces
    number[other[common]] = one[at[common]]
    return number[faces]


def _lines_of(vertices: np.ndarray, faces: np.ndarray, pairs: np.ndarray) -> _Lines:
    """Number the points in which triangles meet, and sort them along the edges."""
    meets = meets_of(vertices, faces, pairs)
    count = len(vertices)
    pair, end = np.nonzero(np.repeat((meets.kind > 0)[:, None], 2, axis=1) & (meets.kind != FLAT)[:, None])
    names, places, shares = meets.names[pair, end], meets.places[pair, end], meets.shares[pair, end]
    made = np.flatnonzero(names[:, 1] >= 0)
    _, which, number = np.unique(names[made], axis=0, return_index=True, return_inverse=True)
    points = names[:, 0].copy()
    points[made] = count + number.ravel()
    which = made[which]
    at, edges = meets.at[pair[which], end[which]], names[which, :2]
    share = np.where(places[which, 0] < 3, shares[which, 0], shares[which, 1])  # of the edge named first
    rows, along_edge = [], []
    for s in range(2):
        on = np.flatnonzero(places[:, s] < 3)
        side = places[on, s].astype(np.int64)
        corners = faces[pairs[pair[on], s]]
        a, b = corners[np.arange(len(on)), side], corners[np.arange(len(on)), (side + 1) % 3]
        rows.append(np.column_stack([np.minimum(a, b), np.maximum(a, b), points[on]]))
        along_edge.append(shares[on, s])
    on_edge, along_edge = np.concatenate(rows).astype(np.int64), np.concatenate(along_edge)
    on_edge, kept = np.unique(on_edge, axis=0, return_index=True)
    along_edge = along_edge[kept]
    order = np.lexsort((along_edge, on_edge[:, 1], on_edge[:, 0]))
    on_edge, along_edge = on_edge[order], along_edge[order]
    if not ((along_edge > 0) & (along_edge < 1)).all():
        raise Unclear("a point lies at the end of an edge, to rounding")
    same = (on_edge[1:, :2] == on_edge[:-1, :2]).all(axis=1)
    if (along_edge[1:][same] <= along_edge[:-1][same]).any():
        raise Unclear("two points lie at one place of an edge, to rounding")
    within = [np.column_stack([pairs[pair, s], points])[places[:, s] == 6] for s in range(2)]
    in_face = np.unique(np.concatenate(within), axis=0)
    lines = np.flatnonzero(meets.kind == 2)
    number_of = np.full((len(pairs), 2), -1, dtype=np.int64)
    number_of[pair, end] = points
    drawn = np.column_stack([pairs[lines], number_of[lines]])
    return _Lines(at, edges, share, on_edge, in_face, drawn, meets.along[lines], pairs[meets.kind == FLAT])


@kernel
def _rings(faces, cut, starts, edge_points, edge_start, edge_of, out, ring, low):
    """The ring of each triangle: its corners, and between them the points on its sides."""
    for i in range(cut.shape[0]):
        n = starts[i]
        for k in range(3):
            a, b = faces[cut[i], k], faces[cut[i], (k + 1) % 3]
            out[n] = a
            n += 1
            e = edge_of[i, k]
            if e >= 0:
                first, last = edge_start[e], edge_start[e + 1]
                for j in range(last - first):
                    out[n] = edge_points[first + j] if a < b else edge_points[last - 1 - j]
                    n += 1
        ring[i] = n - starts[i]
        low[i] = n


def _divided(places: np.ndarray, faces: np.ndarray, cut: np.ndarray, lines: _Lines) -> tuple[np.ndarray, np.ndarray]:
    """The triangles that others meet, divided, int64, shape (T, 3), and which one each belongs to."""
    total = np.int64(len(places))
    # the points on each side
    keys = lines.on_edge[:, 0] * total + lines.on_edge[:, 1]
    edges, edge_first = np.unique(keys, return_index=True)
    edge_start = np.append(edge_first, len(keys)).astype(np.int64)
    corners = faces[cut].astype(np.int64)
    a, b = corners, np.roll(corners, -1, axis=1)
    own = np.minimum(a, b) * total + np.maximum(a, b)
    at = np.minimum(np.searchsorted(edges, own), max(len(edges) - 1, 0))
    edge_of = np.where(edges[at] == own, at, -1) if len(edges) else np.full(own.shape, -1)
    counts = np.where(edge_of >= 0, np.diff(edge_start)[np.maximum(edge_of, 0)], 0) if len(edges) else 0 * own
    inner = np.bincount(np.searchsorted(cut, lines.in_face[:, 0]), minlength=len(cut))
    starts = np.concatenate([[0], np.cumsum(3 + counts.sum(axis=1) + inner)])
    used = np.empty(starts[-1], dtype=np.int64)
    ring, low = np.empty(len(cut), dtype=np.int64), np.empty(len(cut), dtype=np.int64)
    _rings(faces, cut, starts, lines.on_edge[:, 2].copy(), edge_start, edge_of, used, ring, low)
    offset = np.concatenate([[0], np.cumsum(inner)])[:-1]
    of_inner = np.repeat(np.arange(len(cut)), inner)
    used[low[of_inner] + np.arange(len(of_inner)) - offset[of_inner]] = lines.in_face[:, 1]
    # edges within: lines that do not run along a side
    kept = [
        np.column_stack([np.searchsorted(cut, lines.lines[~lines.along[:, s], s]), lines.lines[~lines.along[:, s], 2:]])
        for s in range(2)
    ]
    kept = np.concatenate(kept)
    kept[:, 1:] = np.sort(kept[:, 1:], axis=1)
    kept = np.unique(kept, axis=0)
    ends_start = np.searchsorted(kept[:, 0], np.arange(len(cut) + 1))
    of_used = np.repeat(np.arange(len(cut)), np.diff(starts))
    order = np.lexsort((used, of_used))
    sorted_keys = of_used[order] * total + used[order]
    ends = np.empty((len(kept), 2), dtype=np.int64)
    for k in range(2):
        want = kept[:, 0] * total + kept[:, 1 + k]
        found = np.minimum(np.searchsorted(sorted_keys, want), len(sorted_keys) - 1)
        if (sorted_keys[found] != want).any():
            raise Unclear("a line ends where a triangle has no point")
        ends[:, k] = order[found] - starts[kept[:, 0]]
    # seen along the axis along which each is widest
    p, q, r = (places[corners[:, k]] for k in range(3))
    normal = np.cross(q - p, r - p)
    drop = np.argmax(np.abs(normal), axis=1)
    i, j = (drop + 1) % 3, (drop + 2) % 3
    back = normal[np.arange(len(cut)), drop] < 0
    i, j = np.where(back, j, i), np.where(back, i, j)
    points = np.column_stack([places[used, i[of_used]], places[used, j[of_used]]])
    check_here()
    made, made_start, failed = divided_polygons(points, starts, ring, ends, ends_start)
    if failed.any():
        raise Unclear(f"{int(failed.sum())} triangles have points too near each other to be divided")
    of = np.repeat(np.arange(len(cut)), np.diff(made_start))
    return used[starts[of][:, None] + made], cut[of]


@kernel
def _parts(faces, twins, on_line, marked, total, parent):
    """Join triangles over edges that are not marked; returns False where an edge has not two."""
    for h in range(twins.shape[0]):
        t = twins[h]
        if t < 0:
            return False
        if t < h:
            continue
        a, b = np.int64(faces[h // 3, h % 3]), np.int64(faces[h // 3, (h + 1) % 3])
        if on_line[a] and on_line[b]:
            key = min(a, b) * total + max(a, b)
            i = np.searchsorted(marked, key)
            if i < marked.shape[0] and marked[i] == key:
                continue
        i, j = root_of(parent, h // 3), root_of(parent, t // 3)
        if i != j:
            parent[max(i, j)] = min(i, j)
    for f in range(parent.shape[0]):
        parent[f] = root_of(parent, f)
    return True


def _where(
    places: np.ndarray, faces: np.ndarray, named: np.ndarray, divided: np.ndarray, parents: np.ndarray,
    sides: tuple[np.ndarray, np.ndarray], lines: _Lines,
) -> np.ndarray:  # fmt: skip
    """Where each triangle lies as regards the other surface, int8; all of a part that lines bound lie alike."""
    total = np.int64(len(places))
    ends = lines.lines[:, 2:]
    keys = ends.min(axis=1) * total + ends.max(axis=1)
    marked, key_number = np.unique(keys, return_inverse=True)
    on_line = np.zeros(total, dtype=bool)
    on_line[ends.ravel()] = True
    where = np.empty(len(divided), dtype=np.int8)
    mine = np.zeros(len(faces), dtype=bool)
    mine[sides[0]] = True
    for s in range(2):
        check_here()
        own = np.flatnonzero(mine[parents] == (s == 0))
        corners = divided[own].astype(np.int32)
        part = np.arange(len(own), dtype=np.int32)
        if not _parts(corners, twin_table(corners, int(total)), on_line, marked, total, part):
            raise Unclear("one of them is open or has tangled edges")
        _, part = np.unique(part, return_inverse=True)
        told = _votes(corners, parents[own], part, on_line, marked, key_number.ravel(), lines, s, total)
        area = triangle_areas(places, corners)
        flat = _lying_flat(places, named, corners, parents[own], lines.flat[:, [s, 1 - s]])
        share = [np.bincount(part[at], weights=area[at], minlength=len(told)) for at in flat]
        whole = np.bincount(part, weights=area, minlength=len(told))
        for state, some in zip((SAME, OPPOSITE), share, strict=True):
            told[(told < 0) & (some > 0.5 * whole)] = state
        rest = np.flatnonzero(told < 0)
        if len(rest):
            largest = np.empty(len(told), dtype=np.int64)
            order = np.argsort(area, kind="stable")
            largest[part[order]] = order
            middle = places[corners[largest[rest]]].mean(axis=1)
            turns = winding_numbers(places, faces[sides[1 - s]], middle)
            if (np.abs(turns - np.rint(turns)) > _UNCLEAR).any():
                raise Unclear("a part of one lies so near the other that its side cannot be told")
            told[rest] = np.where(turns > 0.5, INSIDE, OUTSIDE)
        where[own] = told[part]
    return where


def _votes(
    corners: np.ndarray, parents: np.ndarray, part: np.ndarray, on_line: np.ndarray, marked: np.ndarray,
    key_number: np.ndarray, lines: _Lines, s: int, total: np.int64,
) -> np.ndarray:  # fmt: skip
    """What the lines that go through the middle of the other's triangles say of the parts beside them; -1: nothing.

    Seen from a triangle's front, what lies left of its line with one of the other surface lies behind that one.
    """
    told = np.full(int(part.max()) + 1 if len(part) else 0, -1, dtype=np.int8)
    near = on_line[corners]
    row, k = np.nonzero(near & np.roll(near, -1, axis=1))
    a, b = corners[row, k].astype(np.int64), corners[row, (k + 1) % 3].astype(np.int64)
    own = np.minimum(a, b) * total + np.maximum(a, b)
    at = np.minimum(np.searchsorted(marked, own), max(len(marked) - 1, 0))
    if len(marked) == 0:
        return told
    drawn = marked[at] == own
    row, a, at = row[drawn], a[drawn], at[drawn]
    clear = ~lines.along[:, 1 - s]
    said, starts = lines.lines[clear, s] * np.int64(len(marked)) + key_number[clear], lines.lines[clear, 2 + s]
    if len(said) == 0:
        return told
    order = np.argsort(said, kind="stable")
    said, starts = said[order], starts[order]
    asked = parents[row] * np.int64(len(marked)) + at
    found = np.minimum(np.searchsorted(said, asked), len(said) - 1)
    known = said[found] == asked
    behind = starts[found[known]] == a[known]
    of = part[row[known]]
    inside, outside = (np.bincount(of[w], minlength=len(told)) for w in (behind, ~behind))
    if ((inside > 0) & (outside > 0)).any():
        raise Unclear("a part lies on both sides of the other surface")
    told[inside > 0], told[outside > 0] = INSIDE, OUTSIDE
    return told


def _lying_flat(
    places: np.ndarray, faces: np.ndarray, corners: np.ndarray, parents: np.ndarray, flat: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Which triangles lie on one of the other surface, facing the same way, and the other way."""
    none = np.empty(0, dtype=np.int64)
    if len(flat) == 0:
        return none, none
    order = np.argsort(flat[:, 0], kind="stable")
    flat = flat[order]
    own = np.flatnonzero(np.isin(parents, flat[:, 0]))
    first = np.searchsorted(flat[:, 0], parents[own])
    count = np.searchsorted(flat[:, 0], parents[own], side="right") - first
    rows = np.repeat(own, count)
    other = flat[np.repeat(first - np.cumsum(count) + count, count) + np.arange(len(rows)), 1]
    middle = places[corners[rows]].mean(axis=1)
    p, q, r = (places[faces[other, k]] for k in range(3))
    normal = np.cross(q - p, r - p)
    size = np.einsum("ij,ij->i", normal, normal)
    held = np.ones(len(rows), dtype=bool)
    for a, b in ((p, q), (q, r), (r, p)):
        held &= np.einsum("ij,ij->i", np.cross(b - a, middle - a), normal) >= -1e-9 * size
    a, b, c = (places[corners[rows, k]] for k in range(3))
    same = np.einsum("ij,ij->i", np.cross(b - a, c - a), normal) > 0
    return np.unique(rows[held & same]), np.unique(rows[held & ~same])
