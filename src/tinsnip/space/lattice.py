"""A surface laid into a lattice: where its triangles cut the lattice's edges, and which nodes lie inside.

Only what lies near the surface is kept, in blocks of 4 x 4 x 4 nodes. What is inside is told by winding numbers
(Jacobson et al. 2013), so that holes, overlaps and inner skins mislead nobody. Between two nodes that no triangle
parts, and far from open edges, winding numbers hardly differ, and across a triangle they differ by one: a few are
asked in each block and carried on to the others along the lattice's edges, by what goes through these. Where that leads
to two answers, or close to a half, every node is asked for itself.
"""

from typing import NamedTuple

import numpy as np
from scipy import ndimage

from tinsnip.kernels import kernel
from tinsnip.progress import DONE, TOTAL, check_here, polled_here
from tinsnip.space.tree import triangles_in_boxes
from tinsnip.space.winding import Winding
from tinsnip.threads import in_chunks

__all__ = ["INSIDE", "MARGIN", "SHIFT", "SIDE", "Crossings", "Lattice", "lay_into_lattice", "spread_lattice"]

SIDE = 4
"""Nodes along a block's side."""
_NODES = SIDE**3
MARGIN = 2 * SIDE
"""Steps that a lattice reaches beyond what is laid into it."""
_BORDER = 2
"""Nodes at the lattice's own border whose edges no triangle is laid into."""
SHIFT = np.array([0.3819660113, 0.2360679775, 0.1458980338])
"""Puts the lattice where no vertex of a modelled part lies on its lines."""
_SURE = 0.2
"""A winding number is carried on where it comes out further than this from a half."""
_DRIFT = 0.1
"""How far answers may differ from what lies between them: dipoles tell to 0.02."""
_REACH = 1
"""Blocks round an open edge in which one node of eight is asked, not one of a block."""
INSIDE = 0.52
"""Winding number from which a node is inside; right beside a lone open sheet it is a half, and that is outside."""
_CLOSE, _FAR = 0.05, 4.0
"""What is closer to that is asked again, with dipoles only from so many radii."""


class Crossings(NamedTuple):
    """Where lattice edges go through triangles, in order along each edge.

    Attributes
    ----------
    first, last : ndarray of int32, shape (E,)
        For each edge that is cut the lowest and the highest place.
    rise : ndarray of float32, shape (E,)
        By how much the winding number rises along it, at the triangles.
    share : ndarray, shape (C,)
        Where along the edge, 0 to 1.
    triangle : ndarray of int32, shape (C,)
    """

    first: np.ndarray
    last: np.ndarray
    rise: np.ndarray
    share: np.ndarray
    triangle: np.ndarray


class Lattice(NamedTuple):
    """Blocks of nodes near a surface; node n of block b has the number ``64 b + n``.

    Attributes
    ----------
    low : ndarray, shape (3,)
        Place of the first node, mm.
    step : float
        Distance of neighbours, mm.
    number : ndarray of int32, shape (X, Y, Z)
        Of the block there, or -1.
    blocks : ndarray of int64, shape (N, 3)
        Where each block lies.
    inside : ndarray of bool, shape (64 N,)
    turns : ndarray of float32, shape (64 N,)
        Winding numbers, most of them carried on from a node near by.
    cut : ndarray of int32, shape (64 N, 3)
        For the edge from each node along each axis its place in `crossings`, or -1.
    crossings : Crossings
    """

    low: np.ndarray
    step: float
    number: np.ndarray
    blocks: np.ndarray
    inside: np.ndarray
    turns: np.ndarray
    cut: np.ndarray
    crossings: Crossings


@kernel
def _side(P, p, q, x, y, u, v):
    """Whether (x, y) lies left of the line from p to q; the same number for either way round, turned."""
    turned = p > q
    if turned:
        p, q = q, p
    left = (P[q, u] - P[p, u]) * (y - P[p, v]) - (P[q, v] - P[p, v]) * (x - P[p, u]) > 0.0
    return left != turned


@kernel
def _scan(P, faces, begin, end, shape, keys, shares, triangles, rises):
    """Cut lattice lines with triangles; without room only count them."""
    n, counting = 0, keys.shape[0] == 0
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        for axis in range(3):
            u, v = (axis + 1) % 3, (axis + 2) % 3
            lu, hu = min(P[a, u], P[b, u], P[c, u]), max(P[a, u], P[b, u], P[c, u])
            lv, hv = min(P[a, v], P[b, v], P[c, v]), max(P[a, v], P[b, v], P[c, v])
            if np.ceil(lu) > hu or np.ceil(lv) > hv:
                continue
            ux, uy, uz = P[b, axis] - P[a, axis], P[b, u] - P[a, u], P[b, v] - P[a, v]
            wx, wy, wz = P[c, axis] - P[a, axis], P[c, u] - P[a, u], P[c, v] - P[a, v]
            nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
            low = min(P[a, axis], P[b, axis], P[c, axis])
            high = max(P[a, axis], P[b, axis], P[c, axis])
            lu, hu = max(lu, _BORDER), min(hu, shape[u] - 1 - _BORDER)
            lv, hv = max(lv, _BORDER), min(hv, shape[v] - 1 - _BORDER)
            for j in range(int(np.ceil(lu)), int(np.floor(hu)) + 1):
                for k in range(int(np.ceil(lv)), int(np.floor(hv)) + 1):
                    one = _side(P, a, b, j, k, u, v)
                    if one != _side(P, b, c, j, k, u, v) or one != _side(P, c, a, j, k, u, v):
                        continue
                    at = low
                    if nx != 0.0:
                        at = P[a, axis] - (ny * (j - P[a, u]) + nz * (k - P[a, v])) / nx
                    at = min(max(at, low), high)
                    i = int(np.floor(at))
                    if i < _BORDER or i >= shape[axis] - 1 - _BORDER:
                        continue
                    if not counting:
                        x = i if axis == 0 else (k if axis == 1 else j)
                        y = j if axis == 0 else (i if axis == 1 else k)
                        z = k if axis == 0 else (j if axis == 1 else i)
                        keys[n] = ((axis * shape[0] + x) * shape[1] + y) * shape[2] + z
                        shares[n] = at - i
                        triangles[n] = f
                        rises[n] = -1.0 if one else 1.0  # out of it, where its front looks along the line
                    n += 1
    return n


@kernel
def _mark_round(keys, shape, number):
    """Note the blocks of all nodes of the cells round each cut edge."""
    side = np.int64(SIDE)
    for e in range(keys.shape[0]):
        key = keys[e]
        z = key % shape[2]
        y = key // shape[2] % shape[1]
        x = key // (shape[2] * shape[1]) % shape[0]
        axis = key // (shape[2] * shape[1] * shape[0])
        for i in range(x if axis == 0 else x - 1, x + 2):
            for j in range(y if axis == 1 else y - 1, y + 2):
                for k in range(z if axis == 2 else z - 1, z + 2):
                    number[i // side, j // side, k // side] = 0


@kernel
def _note_cuts(keys, shape, number, cut):
    side = np.int64(SIDE)
    for e in range(keys.shape[0]):
        key = keys[e]
        z = key % shape[2]
        y = key // shape[2] % shape[1]
        x = key // (shape[2] * shape[1]) % shape[0]
        axis = key // (shape[2] * shape[1] * shape[0])
        b = np.int64(number[x // side, y // side, z // side])
        cut[b * _NODES + ((x % side) * side + y % side) * side + z % side, axis] = e


@kernel
def _doubt_round(doubt, i, n, stride):
    """Doubt all nodes of a block that were carried on from the same one as a node."""
    side = np.int64(SIDE)
    x, y, z = n // (side * side) // stride, n // side % side // stride, n % side // stride
    for m in range(_NODES):
        if m // (side * side) // stride == x and m // side % side // stride == y and m % side // stride == z:
            doubt[i, m] = True


@kernel
def _carry(cut, rise, fresh, stride, turns, doubt):
    """Carry winding numbers on to the nodes of each block from those asked; note where that is in doubt."""
    side = np.int64(SIDE)
    for i in range(fresh.shape[0]):
        base = fresh[i] * _NODES
        for n in range(_NODES):
            if n % side % stride[i]:
                axis, before = 2, n - 1
            elif n // side % side % stride[i]:
                axis, before = 1, n - side
            elif n // (side * side) % stride[i]:
                axis, before = 0, n - side * side
            else:
                continue
            e = cut[base + before, axis]
            turns[base + n] = turns[base + before] + (rise[e] if e >= 0 else np.float32(0.0))
        for n in range(_NODES):
            if abs(turns[base + n] - INSIDE) < _SURE:
                if stride[i] == side:
                    doubt[i, :] = True
                doubt[i, n] = True
            for axis in range(3):
                far = side * side if axis == 0 else (side if axis == 1 else 1)
                if n // far % side < side - 1:
                    e = cut[base + n, axis]
                    off = turns[base + n + far] - turns[base + n] - (rise[e] if e >= 0 else np.float32(0.0))
                    if abs(off) > _DRIFT:
                        _doubt_round(doubt, i, n, stride[i])
                        _doubt_round(doubt, i, n + far, stride[i])


@kernel
def _compare(number, blocks, cut, rise, fresh, place, stride, turns, doubt):
    """Note blocks in doubt whose winding numbers do not go on in those beside them; `place` is that among the fresh."""
    side = np.int64(SIDE)
    for i in range(fresh.shape[0]):
        for axis in range(3):
            far = side * side if axis == 0 else (side if axis == 1 else 1)
            for way in range(2):
                u, v, w = blocks[fresh[i], 0], blocks[fresh[i], 1], blocks[fresh[i], 2]
                step = 1 if way else -1
                u, v, w = u + (step if axis == 0 else 0), v + (step if axis == 1 else 0), w + (step if axis == 2 else 0)
                if u < 0 or v < 0 or w < 0:
                    continue
                if u >= number.shape[0] or v >= number.shape[1] or w >= number.shape[2] or number[u, v, w] < 0:
                    continue
                other = np.int64(number[u, v, w])
                low, high = (fresh[i], other) if way else (other, fresh[i])
                for n in range(_NODES):
                    if n // far % side == 0:
                        last = n + (side - 1) * far
                        p, q = low * _NODES + last, high * _NODES + n
                        e = cut[p, axis]
                        off = turns[q] - turns[p] - (rise[e] if e >= 0 else np.float32(0.0))
                        if abs(off) > _DRIFT:
                            _doubt_round(doubt, i, last if way else n, stride[i])
                            if place[other] >= 0:
                                _doubt_round(doubt, place[other], n if way else last, stride[place[other]])


@kernel
def _wanted(number, blocks, look, inside, out):
    """Blocks that are not there but hold a node of a cell round an edge whose ends lie on either side."""
    side, n_out = np.int64(SIDE), 0
    for i in range(look.shape[0]):
        b = look[i]
        for n in range(_NODES):
            x = blocks[b, 0] * side + n // (side * side)
            y = blocks[b, 1] * side + n // side % side
            z = blocks[b, 2] * side + n % side
            for axis in range(3):
                p, q, r = x + (axis == 0), y + (axis == 1), z + (axis == 2)
                if p >= number.shape[0] * side or q >= number.shape[1] * side or r >= number.shape[2] * side:
                    continue
                other = np.int64(number[p // side, q // side, r // side])
                if other < 0:
                    continue
                at = other * _NODES + ((p % side) * side + q % side) * side + r % side
                if inside[b * _NODES + n] == inside[at]:
                    continue
                for u in range(x if axis == 0 else x - 1, x + 2):
                    for v in range(y if axis == 1 else y - 1, y + 2):
                        for w in range(z if axis == 2 else z - 1, z + 2):
                            k, j, m = u // side, v // side, w // side
                            if u < 0 or v < 0 or w < 0:
                                continue
                            if k >= number.shape[0] or j >= number.shape[1] or m >= number.shape[2]:
                                continue
                            if number[k, j, m] == -1:
                                number[k, j, m] = -2
                                out[n_out, 0], out[n_out, 1], out[n_out, 2] = k, j, m
                                n_out += 1
                                if n_out == out.shape[0]:
                                    return n_out
    return n_out


def _cut(vertices: np.ndarray, faces: np.ndarray, low: np.ndarray, step: float, shape: np.ndarray) -> tuple:
    """Keys of the cut edges, rising, and the crossings on them."""
    places = (vertices - low) / step
    found: dict[int, tuple] = {}

    def work(begin: int, end: int) -> None:
        count = _scan(places, faces, begin, end, shape, *_room(0))
        some = _room(count)
        if count:
            _scan(places, faces, begin, end, shape, *some)
        found[begin] = some

    in_chunks(work, len(faces))
    check_here()
    keys, share, triangle, rise = (np.concatenate([found[b][i] for b in sorted(found)]) for i in range(4))
    order = np.lexsort((share, keys)) if len(keys) < 1000 else _sorted(keys, share)
    keys, share, triangle = keys[order], share[order], triangle[order]
    begins = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]])) if len(keys) else np.empty(0, np.int64)
    first = begins.astype(np.int32)
    last = np.append(first[1:], len(keys)).astype(np.int32) - 1 if len(first) else first
    rise = np.add.reduceat(rise[order], begins) if len(begins) else rise
    return keys[begins], Crossings(first, last, rise, share, triangle)


def _room(count: int) -> tuple[np.ndarray, ...]:
    """For the keys, shares, triangles and rises of so many crossings."""
    return np.empty(count, np.int64), np.empty(count), np.empty(count, np.int32), np.empty(count, np.float32)


def _sorted(keys: np.ndarray, share: np.ndarray) -> np.ndarray:
    """Order by key, then by share; few edges are cut more than once."""
    order = np.argsort(keys, kind="stable")
    same = np.flatnonzero(keys[order][1:] == keys[order][:-1])
    if len(same):
        some = np.unique(np.concatenate([same, same + 1]))
        order[some] = order[some][np.lexsort((share[order[some]], keys[order[some]]))]
    return order


def lay_into_lattice(
    field: Winding, step: float, room: float = 0.0, box: np.ndarray | None = None
) -> tuple[Lattice, np.ndarray]:
    """Lay a surface into a lattice, with all blocks its triangles cut lattice edges in.

    Parameters
    ----------
    field : Winding
        The surface.
    step : float
        Distance of neighbouring nodes, mm.
    room : float
        How much further than the surface the lattice reaches, mm.
    box : ndarray, shape (2, 3), optional
        Lower and upper corner of what is laid in, mm: the surface's own by default. The lattice reaches `MARGIN` steps
        further, and what is inside is cut off along its border.

    Returns
    -------
    lattice : Lattice
        Nothing in it is signed yet: see `spread_lattice`.
    near : ndarray of bool, shape (X, Y, Z)
        Blocks that lie near open edges.
    """
    near_by = box is not None
    if not near_by:
        used = np.zeros(len(field.vertices), dtype=bool)
        used[field.faces] = True
        some = field.vertices[used]
        box = np.stack([some.min(axis=0), some.max(axis=0)])
    low = box[0] - room - (MARGIN + SHIFT) * step
    shape = np.ceil((box[1] + room - low) / step).astype(np.int64) + 1 + MARGIN
    shape = -(-shape // SIDE) * SIDE
    faces = field.faces
    if near_by:
        corners = np.stack([low, low + (shape - 1) * step])
        chosen = np.unique(triangles_in_boxes(field.tree, corners[:1], corners[1:], polled_here())[:, 1])
        faces = faces[chosen]
    keys, crossings = _cut(field.vertices, faces, low, step, shape)
    if near_by:
        crossings = crossings._replace(triangle=chosen[crossings.triangle].astype(np.int32))
    number = np.full(shape // SIDE, -1, dtype=np.int32)
    _mark_round(keys, shape, number)
    blocks = np.ascontiguousarray(np.argwhere(number == 0))
    number[tuple(blocks.T)] = np.arange(len(blocks), dtype=np.int32)
    cut = np.full((_NODES * len(blocks), 3), -1, dtype=np.int32)
    _note_cuts(keys, shape, number, cut)
    inside, turns = np.zeros(len(cut), dtype=bool), np.zeros(len(cut), dtype=np.float32)
    lattice = Lattice(low, step, number, blocks, inside, turns, cut, crossings)
    return lattice, _near_open_edges(field.vertices, faces, lattice)


def _near_open_edges(vertices: np.ndarray, faces: np.ndarray, lattice: Lattice) -> np.ndarray:
    near = np.zeros(lattice.number.shape, dtype=bool)
    faces = faces.astype(np.int64)
    ends = np.sort(np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    key = np.sort(ends[:, 0] * len(vertices) + ends[:, 1])
    fresh = np.concatenate([[True], key[1:] != key[:-1]])
    count = np.diff(np.append(np.flatnonzero(fresh), len(key)))
    odd = key[fresh][count != 2]  # tangled edges count too: what hangs together there is open in its own way
    if len(odd) == 0:
        return near
    a, b = vertices[odd // len(vertices)], vertices[odd % len(vertices)]
    width = SIDE * lattice.step
    steps = int(np.ceil(np.linalg.norm(b - a, axis=1).max() / width)) + 1
    for part in np.linspace(0.0, 1.0, steps + 1):
        at = ((a + part * (b - a) - lattice.low) / width).astype(np.int64)
        near[tuple(np.clip(at, 0, np.array(near.shape) - 1).T)] = True
    return ndimage.binary_dilation(near, np.ones((3, 3, 3), dtype=bool), _REACH)


def _places(lattice: Lattice, nodes: np.ndarray) -> np.ndarray:
    """Where nodes lie, given by their numbers."""
    own = nodes % _NODES
    own = np.stack([own // (SIDE * SIDE), own // SIDE % SIDE, own % SIDE], axis=-1)
    return lattice.low + lattice.step * (lattice.blocks[nodes // _NODES] * SIDE + own)


def _signed(lattice: Lattice, field: Winding, near: np.ndarray, fresh: np.ndarray, tells: bool) -> None:
    """Tell what is inside in some blocks."""
    blocks, rise, turns = lattice.blocks[fresh], lattice.crossings.rise, lattice.turns
    nodes = fresh[:, None] * _NODES + np.arange(_NODES)
    is_near = near[tuple(blocks.T)]
    stride = np.where(is_near, SIDE // 2, SIDE)
    own = np.stack(np.unravel_index(np.arange(_NODES), (SIDE,) * 3))
    one_of_eight, one = ((own % step == 0).all(axis=0) for step in (SIDE // 2, SIDE))
    ask = np.where(is_near[:, None], one_of_eight, one)

    def answer(which: np.ndarray, turn: int) -> None:
        asked = nodes[which]
        places = _places(lattice, asked)
        if tells:
            state = polled_here()
            state[DONE], state[TOTAL] = turn * len(places), 2 * len(places)  # each turn takes about half of the time
        found = field.at(places, tells=True) if tells else field.at(places)
        close = np.flatnonzero(np.abs(found - INSIDE) < _CLOSE)
        found[close] = field.at(places[close], _FAR)
        turns[asked] = found

    answer(ask, 0)
    doubt = np.zeros(ask.shape, dtype=bool)
    _carry(lattice.cut, rise, fresh, stride, turns, doubt)
    place = np.full(len(lattice.blocks), -1, dtype=np.int64)
    place[fresh] = np.arange(len(fresh))
    _compare(lattice.number, lattice.blocks, lattice.cut, rise, fresh, place, stride, turns, doubt)
    doubt &= ~ask
    if doubt.any():
        answer(doubt, 1)
    lattice.inside[nodes] = turns[nodes] > INSIDE
    rim = ((blocks == 0) | (blocks == np.array(lattice.number.shape) - 1)).any(axis=1)
    lattice.inside[nodes[rim]] = False  # nothing of the surface comes near the lattice's own border


def spread_lattice(
    lattice: Lattice, field: Winding, near: np.ndarray, fresh: np.ndarray | None = None, tells: bool = False
) -> Lattice:
    """Sign the nodes, and follow the surface between inside and outside where no triangles are, until it closes.

    Parameters
    ----------
    lattice : Lattice
    field : Winding
    near : ndarray of bool
        As from `lay_into_lattice`.
    fresh : ndarray of int, optional
        Blocks whose nodes were signed otherwise meanwhile; by default none is signed yet.
    tells : bool
        Whether whoever watches is told how far the first look at all nodes is, which takes nearly all of the time.

    Returns
    -------
    Lattice
        With further blocks.
    """
    if fresh is None:
        fresh = np.arange(len(lattice.blocks))
        _signed(lattice, field, near, fresh, tells)
    while len(fresh):
        check_here()
        look = _at_or_below(lattice, fresh)
        out = np.empty((max(27 * len(look), 1), 3), dtype=np.int64)
        count = _wanted(lattice.number, lattice.blocks, look, lattice.inside, out)
        old, more = len(lattice.blocks), out[:count]
        lattice.number[tuple(more.T)] = np.arange(old, old + count, dtype=np.int32)
        lattice = lattice._replace(
            blocks=np.concatenate([lattice.blocks, more]),
            inside=np.concatenate([lattice.inside, np.zeros(_NODES * count, dtype=bool)]),
            turns=np.concatenate([lattice.turns, np.zeros(_NODES * count, dtype=np.float32)]),
            cut=np.concatenate([lattice.cut, np.full((_NODES * count, 3), -1, dtype=np.int32)]),
        )
        fresh = np.arange(old, old + count)
        if count:
            _signed(lattice, field, near, fresh, False)
    return lattice


def _at_or_below(lattice: Lattice, fresh: np.ndarray) -> np.ndarray:
    """Some blocks and those that touch them from below along any axis, as far as there are any."""
    flags = np.zeros(lattice.number.shape, dtype=bool)
    blocks = lattice.blocks[fresh]
    for below in np.ndindex(2, 2, 2):
        some = blocks - below
        flags[tuple(some[(some >= 0).all(axis=1)].T)] = True
    look = lattice.number[flags]
    return look[look >= 0].astype(np.int64)
