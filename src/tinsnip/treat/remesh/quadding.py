"""Quads out of the two fields that they follow: vertices of one corner of the lattice run together, triangles paired.

Only edges are run together and diagonals taken out, as remeshing does it, so that what is closed stays closed and no
handle comes or goes.
"""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.kernels import kernel
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress
from tinsnip.space.tree import Tree, closest_points
from tinsnip.treat.remesh.creases import Creases
from tinsnip.treat.remesh.edits import CORNER, CREASE, FIXED, FREE, LINE, LOCKED, PLAIN, collapse_edge
from tinsnip.treat.remesh.quadfields import lattice_fields
from tinsnip.treat.remesh.quadsteps import closed_steps
from tinsnip.treat.remesh.remeshing import Remeshed, Work, tree_of_lines

__all__ = ["Quadded", "quad_steps", "quadded"]

_PASSES, _IDLE = 24, 4
"""Passes in which edges are run together, and in how many none was before it ends: between two the triangles are evened
out, and what was not sound may be."""
_LONGEST = 3.5
"""Edges that come about by it are no longer than so many of the wanted ones."""
_WORST_CORNER = 70.0
"""How far a quad's corner may be from a right angle, degrees, for two triangles to be paired."""
_DIAGONAL = 1.0
"""What it counts for that an edge is a diagonal of the lattice, against a quad with right angles, which counts 1."""
_ACROSS = 8.0
"""How much the sides of a line go by each other, against two neighbours on one side."""
_REACH = 2
"""Triangles between two that are left over, over which the pairs between them are exchanged."""
_RELAXED, _STEP = 12, 0.5
_ROUNDS, _FACING, _HEIGHT = 8, 0.4, 0.05
"""Rounds in which vertices are left where they are until no triangle turns away from the surface by more than the angle
of this cosine, nor becomes so much smaller."""


class Quadded(NamedTuple):
    """A surface in quads.

    Attributes
    ----------
    made : Remeshed
        Its triangles.
    pair : ndarray of int32, shape (F',)
        The other triangle of the quad that each is half of; -1 where it is by itself.
    """

    made: Remeshed
    pair: np.ndarray


@kernel
def _run_together(P, faces, twins, kind, out_of, standing, size, near, origin, count, same, stamp, n_f, longest,
                  counter, state):  # fmt: skip
    """Run together edges whose ends are the same corner of the lattice; how many."""
    done = 0
    for h in range(3 * n_f):
        f, k = h // 3, h % 3
        if faces[f, 0] < 0 or not same[h] or kind[h] == LOCKED or (twins[h] >= 0 and twins[h] < h):
            continue
        if h % 1024 == 0 and state[0]:
            return done
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        sa, sb = standing[a], standing[b]
        if (sa != FREE and sb != FREE and kind[h] != CREASE) or (sa >= CORNER and sb >= CORNER):
            continue
        if (sa == FREE and sb == FREE) or (sa == LINE and sb == LINE):
            share_b = count[b] / (count[a] + count[b])
        else:
            share_b = 1.0 if sb > sa else 0.0
        x = P[a, 0] + share_b * (P[b, 0] - P[a, 0])
        y = P[a, 1] + share_b * (P[b, 1] - P[a, 1])
        z = P[a, 2] + share_b * (P[b, 2] - P[a, 2])
        if share_b == 1.0:
            x, y, z = P[b, 0], P[b, 1], P[b, 2]
        if collapse_edge(h, x, y, z, size[a], longest, P, faces, twins, kind, out_of, standing, size, stamp,
                         counter) == 0:  # fmt: skip
            continue
        count[a] += count[b]
        if sb > sa:
            standing[a], near[a], origin[a] = sb, near[b], origin[b]
        done += 1
    return done


@kernel
def _pair_off(order, half, twins, pair):
    """Pair triangles over edges, in an order."""
    for k in range(order.shape[0]):
        h = half[order[k]]
        f, g = h // 3, twins[h] // 3
        if pair[f] < 0 and pair[g] < 0:
            pair[f], pair[g] = g, f


@kernel
def _exchange(twins, score, pair, reach, before, stamp):
    """Bring triangles that are left over together, over pairs that are exchanged on the way; how many found one."""
    queue = np.empty(4096, dtype=np.int64)
    depth = np.empty(4096, dtype=np.int64)
    found = 0
    for start in range(pair.shape[0]):
        if pair[start] >= 0:
            continue
        head, tail = 0, 1
        queue[0], depth[0] = start, 0
        stamp[start] = start + 1
        before[start] = -1
        last = -1
        while head < tail and last < 0:
            f, d = queue[head], depth[head]
            head += 1
            if d >= reach:
                continue
            for k in range(3):
                h = 3 * f + k
                t = twins[h]
                if t < 0 or score[h] < 0.0:
                    continue
                g = t // 3
                if stamp[g] == start + 1 or g == pair[f]:
                    continue
                if pair[g] < 0:
                    before[g] = f
                    last = g
                    break
                mate = pair[g]
                if stamp[mate] == start + 1:
                    continue
                stamp[g] = stamp[mate] = start + 1
                before[g] = f
                before[mate] = g
                if tail < queue.shape[0]:
                    queue[tail], depth[tail] = mate, d + 1
                    tail += 1
        while last >= 0:
            f = before[last]
            onward = before[f]
            pair[last], pair[f] = f, last
            last = onward
            if last < 0:
                found += 1
    return found


def quad_steps(
    vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, size: float, creases: Creases, progress: Progress
) -> np.ndarray:  # fmt: skip
    """How many edges of the quads lie along each half-edge, the lesser of the two ways first, int64, shape (3 F, 2).

    Parameters
    ----------
    vertices, faces, twins : ndarray
        Triangles with edges of a third of the wanted length, manifold and turned one way.
    size : float
        Edge length of the quads, mm.
    creases : Creases
        Lines that they follow.
    progress : Progress

    Raises
    ------
    Cancelled
    """
    none = np.zeros(len(faces), dtype=np.int32)
    work = Work(vertices, faces, twins, np.full(len(vertices), size), none, creases, 1)
    _let_ends_go(work)
    sides = _sides(work)
    points = work.P[sides.origin]
    normals, areas = _normals(points, sides.faces)
    standing, along = _line_kind(work)[sides.origin], _along(work)[sides.origin]
    fields = lattice_fields(points, normals, areas, sides.edges, sides.weights, standing, along, size, progress)
    progress.check()
    state = progress.step("Laying out the quads")
    steps, _ = closed_steps(points, normals, sides.faces, work.twins, work.kind, fields, size, state)
    progress.check()
    return np.sort(np.abs(steps), axis=1)


def quadded(
    surface: Tree, vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, size: float, steps: np.ndarray,
    label: np.ndarray, creases: Creases, held_from: int, progress: Progress,
) -> Quadded:  # fmt: skip
    """Mesh a surface in quads of one edge length.

    Parameters
    ----------
    surface : Tree
        Of the surface to lie on.
    vertices, faces, twins : ndarray
        Triangles over it, as for `quad_steps`, which all have to be used.
    size : float
        Edge length, mm.
    steps : ndarray of int64, shape (3 F, 2)
        As of `quad_steps`.
    label : ndarray of int, shape (F,)
        Handed on to the triangles; where it changes there must be a crease.
    creases : Creases
    held_from : int
        Triangles with this label or more stay as they are.
    progress : Progress

    Returns
    -------
    Quadded

    Raises
    ------
    Cancelled
    """
    work = Work(vertices, faces, twins, np.full(len(vertices), size), label, creases, held_from)
    _let_ends_go(work)
    lines = tree_of_lines(vertices, faces, twins, creases.kind)
    state = progress.step("Running corners together", _PASSES)
    count = np.ones(len(work.P))
    idle = 0
    for turn in range(_PASSES):
        state[1] = turn
        same = (steps == 0).all(axis=1) | _out_of_three(work)
        work.counter[1] = 0
        done = _run_together(
            work.P, work.faces, work.twins, work.kind, work.out_of, work.standing, work.size, work.near, work.origin,
            count, same, np.zeros(len(work.P), dtype=np.int64), len(work.faces), _LONGEST, work.counter, state,
        )  # fmt: skip
        progress.check()
        idle = idle + 1 if done == 0 else 0
        if idle == _IDLE:
            break
        alive, left = work.out_of >= 0, np.repeat(work.faces[:, 0] >= 0, 3)
        work.squeeze()
        count, steps = count[alive], steps[left]
        work.relax(surface, lines, 0.5)
    half = _edges(work)[1]
    pair = _paired(work, half, steps[half])
    progress.check()
    _relax(work, pair, surface, lines, progress)
    on_line = work.standing == LINE
    work.near[on_line] = closest_points(surface, work.P[on_line], state)[1]
    return Quadded(Remeshed(work.P, work.faces, work.origin, work.near, work.label), pair)


def _let_ends_go(work: Work) -> None:
    """Let lines that end within the surface end anywhere along themselves: no corner of a quad has to lie there."""
    edges, half = _edges(work)
    met = np.bincount(edges[work.kind[half] != PLAIN].ravel(), minlength=len(work.P))
    work.standing[(work.standing == CORNER) & (met == 1)] = LINE


def _out_of_three(work: Work) -> np.ndarray:
    """A half-edge out of each free vertex in which three edges meet, both ways, bool, shape (3 F,).

    It lies within a triangle, and would keep that from running together.
    """
    met = np.bincount(work.faces.ravel(), minlength=len(work.P))
    one = work.out_of[(met == 3) & (work.standing == FREE) & (work.out_of >= 0)]
    chosen = np.zeros(len(work.twins), dtype=np.bool_)
    chosen[one] = True
    chosen[work.twins[one][work.twins[one] >= 0]] = True
    return chosen


class _Sides(NamedTuple):
    """The surface cut along its lines, so that each side of one has a tangent plane of its own.

    Attributes
    ----------
    origin : ndarray of int, shape (S,)
        The vertex that each is.
    faces : ndarray of int32, shape (F, 3)
    edges : ndarray of int64, shape (E, 2)
        Those of the triangles, and between the sides of a vertex.
    weights : ndarray, shape (E,)
    """

    origin: np.ndarray
    faces: np.ndarray
    edges: np.ndarray
    weights: np.ndarray


def _sides(work: Work) -> _Sides:
    half = np.flatnonzero((work.kind == PLAIN) & (work.twins > np.arange(len(work.twins))))
    twin = work.twins[half]
    after, twin_after = (h - h % 3 + (h + 1) % 3 for h in (half, twin))
    corners = work.faces.size
    joined = coo_matrix(
        (np.ones(2 * len(half), dtype=np.int8), (np.r_[half, after], np.r_[twin_after, twin])), shape=(corners, corners)
    )
    _, side = connected_components(joined, directed=False)
    origin = np.empty(int(side.max(initial=-1)) + 1, dtype=np.int64)
    origin[side] = work.faces.ravel()
    faces = side.reshape(-1, 3).astype(np.int32)
    ends = np.sort(np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    edges = np.unique(ends, axis=0).astype(np.int64)
    order = np.argsort(origin, kind="stable")
    same = origin[order][1:] == origin[order][:-1]
    links = np.column_stack([order[:-1][same], order[1:][same]])
    weights = np.concatenate([np.ones(len(edges)), np.full(len(links), _ACROSS)])
    return _Sides(origin, faces, np.concatenate([edges, links]), weights)


def _edges(work: Work) -> tuple[np.ndarray, np.ndarray]:
    """The ends of each edge, shape (E, 2), and one of its half-edges."""
    half = np.flatnonzero(work.twins < np.arange(len(work.twins)))
    corner = work.faces.ravel()
    return np.column_stack([corner[half], corner[half - half % 3 + (half + 1) % 3]]).astype(np.int64), half


def _normals(points: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Unit normals of vertices, and a third of the area round each."""
    vectors = face_vectors(points, faces)
    areas = 0.5 * np.linalg.norm(vectors, axis=1) / 3.0
    corner = faces.ravel()
    own = np.stack([np.bincount(corner, np.repeat(vectors[:, k], 3), len(points)) for k in range(3)], axis=1)
    own /= np.maximum(np.linalg.norm(own, axis=1), 1e-300)[:, None]
    return own, np.bincount(corner, np.repeat(areas, 3), len(points))


def _line_kind(work: Work) -> np.ndarray:
    """1 on a line, 2 at the end or a corner of one; what is fixed for itself has no say."""
    return np.where(work.standing == LINE, 1, np.where(work.standing == CORNER, 2, 0)).astype(np.uint8)


def _along(work: Work) -> np.ndarray:
    """How the line runs at each vertex on one, unit; nothing elsewhere."""
    edges, half = _edges(work)
    a, b = edges[work.kind[half] != PLAIN].T
    ways = work.P[b] - work.P[a]
    ways /= np.maximum(np.linalg.norm(ways, axis=1), 1e-300)[:, None]
    # its edges may run either way: what they have in common is the first axis of their squares
    squares = np.zeros((len(work.P), 3, 3))
    for ends in (a, b):
        np.add.at(squares, ends, ways[:, :, None] * ways[:, None, :])
    along = np.tile((1.0, 0.0, 0.0), (len(work.P), 1))
    on = np.unique(np.concatenate([a, b]))
    along[on] = np.linalg.eigh(squares[on])[1][:, :, 2]
    return along


def _corner_off(points: np.ndarray) -> np.ndarray:
    """How far the corners of quads are from right angles at most, degrees; 180 where one is folded.

    Parameters
    ----------
    points : ndarray, shape (Q, 4, 3)
        In order round each.
    """
    out, back = np.roll(points, -1, axis=1) - points, np.roll(points, 1, axis=1) - points
    cross = np.cross(out, back)
    middle = cross.sum(axis=1)
    size = np.linalg.norm(out, axis=2) * np.linalg.norm(back, axis=2)
    cosine = (out * back).sum(axis=2) / np.maximum(size, 1e-300)
    angle = np.degrees(np.arccos(np.clip(cosine, -1, 1)))
    angle = np.where((cross * middle[:, None]).sum(axis=2) > 0, angle, 360.0 - angle)
    return np.minimum(np.abs(angle - 90.0).max(axis=1), 180.0)


def _quads_over(work: Work, half: np.ndarray) -> np.ndarray:
    """The corners of the quads of both triangles at edges, in order round each, int, shape (K, 4)."""
    twin, corner = work.twins[half], work.faces.ravel()
    a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
    c, d = corner[half - half % 3 + (half + 2) % 3], corner[twin - twin % 3 + (twin + 2) % 3]
    return np.stack([a, d, b, c], axis=1)


def _paired(work: Work, half: np.ndarray, steps: np.ndarray) -> np.ndarray:
    """The other triangle of each one's quad; -1 where it is by itself."""
    inner = (work.twins[half] >= 0) & (work.kind[half] == PLAIN)
    half, steps = half[inner], steps[inner]
    off = _corner_off(work.P[_quads_over(work, half)])
    is_diagonal = (steps == 1).all(axis=1)
    score = 1.0 - off / 90.0 + _DIAGONAL * is_diagonal
    fits = off < _WORST_CORNER
    pair = np.full(len(work.faces), -1, dtype=np.int32)
    order = np.argsort(-score, kind="stable")
    _pair_off(order[fits[order]], half, work.twins, pair)
    own = np.full(len(work.twins), -1.0)
    own[half[fits]] = own[work.twins[half[fits]]] = 1.0
    before, stamp = np.full(len(pair), -1, dtype=np.int64), np.zeros(len(pair), dtype=np.int64)
    for reach in (1, _REACH):
        _exchange(work.twins, own, pair, reach, before, stamp)
        stamp[:] = 0
    return pair


def _relax(work: Work, pair: np.ndarray, surface: Tree, lines: Tree | None, progress: Progress) -> None:
    """Draw vertices to the middle of their neighbours along the quads' edges, and lay them onto the surface."""
    state = progress.step("Evening out the quads", _RELAXED)
    edges, half = _edges(work)
    twin = np.maximum(work.twins[half], 0)
    is_diagonal = (work.twins[half] >= 0) & (pair[half // 3] == twin // 3)
    on_line = work.kind[half] != PLAIN
    count = len(work.P)

    def mean_of(some: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        a, b = edges[some].T
        graph = coo_matrix((np.ones(2 * len(a)), (np.r_[a, b], np.r_[b, a])), shape=(count, count)).tocsr()
        met = np.asarray(graph.sum(axis=1)).ravel()
        return graph @ work.P / np.maximum(met, 1)[:, None], met

    for turn in range(_RELAXED):
        state[1] = turn
        progress.check()
        P, goal = work.P, work.P.copy()
        free, line = work.standing == FREE, work.standing == LINE
        middle, met = mean_of(~is_diagonal)
        free &= met > 0
        step = _STEP * (middle - P)
        normals, _ = _normals(P, work.faces)
        step -= (step * normals).sum(axis=1)[:, None] * normals  # or they would climb out of every hollow
        goal[free] += step[free]
        along, met = mean_of(on_line)
        line &= met == 2
        goal[line] = P[line] + _STEP * (along[line] - P[line])
        for which, tree in ((free, surface), (line, lines)):
            if tree is not None and which.any():
                laid = np.empty((int(which.sum()), 3))
                _, hit = closest_points(tree, goal[which], state, laid)
                goal[which] = laid
                if tree is surface:
                    work.near[which] = hit
        _put_where_sound(work, goal, surface)
    moved = work.standing != FIXED
    work.origin[moved & (work.standing != CORNER)] = -1


def _put_where_sound(work: Work, goal: np.ndarray, surface: Tree) -> None:
    """Put vertices at their goals, but where a triangle would turn away from the surface, or lose its height."""
    _, hit = closest_points(surface, goal[work.faces].mean(axis=1), np.zeros(2, dtype=np.int64))
    facing = face_vectors(surface.vertices, surface.faces[hit])
    facing /= np.maximum(np.linalg.norm(facing, axis=1), 1e-300)[:, None]

    def off(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        own = face_vectors(points, work.faces)
        size = np.linalg.norm(own, axis=1)
        return (own * facing).sum(axis=1) / np.maximum(size, 1e-300), size

    along, size = off(work.P)
    for _ in range(_ROUNDS):
        along_then, size_then = off(goal)
        bad = (along_then < _FACING) & (along_then < along)
        bad |= (size_then < _HEIGHT * size) & (size_then < _HEIGHT * work.size[0] ** 2)
        if not bad.any():
            work.P = goal
            return
        corner = np.unique(work.faces[bad])
        goal[corner] = work.P[corner]
