"""Dividing a mesh along a closed line that was traced over its surface."""

from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.geodesic import shortest_path
from tinsnip.space.nearest import nearest_on
from tinsnip.treat.kit.cuts.cutters import SNAP, TRACED, Crossings, Cutter, lowest_half, tell_others
from tinsnip.treat.kit.cuts.dividing import Division, divided_at

__all__ = ["Loop", "divide_along", "trace"]

LEFT, RIGHT, REST = 1, 0, 2
_WITHIN = 0.01
"""Share by which a place that was picked is drawn towards the middle of its triangle."""


class Loop(NamedTuple):
    """A closed line over a surface.

    Attributes
    ----------
    halfedges : ndarray of int64, shape (N,)
        The half-edges it leaves triangles by, in order.
    shares : ndarray, shape (N,)
        Where it crosses each, from the half-edge's beginning.
    picked : ndarray, shape (P, 2)
        The places it was led through: shares of the second and third corner of their triangles.
    between : ndarray of int64, shape (N + 1,)
        Those between crossing i and the next are ``between[i]`` to ``between[i + 1]``.
    line : ndarray, shape (N + P, 3)
        All of it, in space, mm.
    """

    halfedges: np.ndarray
    shares: np.ndarray
    picked: np.ndarray
    between: np.ndarray
    line: np.ndarray


def trace(mesh: Mesh, points: np.ndarray, progress: Progress, closed: bool = True) -> Loop:
    """Lead a line over the surface through points, by the shortest way from each to the next.

    Parameters
    ----------
    mesh : Mesh
    points : ndarray, shape (P, 3)
        Near the surface, mm.
    progress : Progress
    closed : bool
        Lead it back to the first point.

    Raises
    ------
    BadInput
        When no way over the surface leads from one point to the next.
    Cancelled
    """
    state = progress.step("Tracing", len(mesh.faces))
    face, place = nearest_on(mesh.vertices, mesh.faces, points)
    # a hair within their triangles, so that no way turns back on an edge
    place = (1 - _WITHIN) * place + _WITHIN / 3
    twins = mesh.twins
    progress.check()
    count = len(points)
    halves, shares, picked, after, line = [], [], [], [], []
    crossed = 0
    for i in range(count if closed else count - 1):
        j = (i + 1) % count
        path = shortest_path(
            mesh.vertices, mesh.faces, twins, (int(face[i]), place[i]), (int(face[j]), place[j]), state
        )
        progress.check()
        if path is None:
            raise BadInput(f"no way over the surface leads from point {i + 1} to point {j + 1}; pick them on one shell")
        picked.append(place[i])
        after.append(crossed - 1)
        line.append((np.array([1 - place[i].sum(), *place[i]]) @ mesh.vertices[mesh.faces[face[i]]])[None])
        halves.append(path.halfedges)
        shares.append(path.shares)
        a, b = _ends(mesh, path.halfedges)
        line.append(mesh.vertices[a] + path.shares[:, None] * (mesh.vertices[b] - mesh.vertices[a]))
        crossed += len(path.halfedges)
    if not closed:
        last = place[-1]
        line.append((np.array([1 - last.sum(), *last]) @ mesh.vertices[mesh.faces[face[-1]]])[None])
    # those before the first crossing come after the last
    where = np.array(after) % max(crossed, 1)
    order = np.argsort(where * count + (np.arange(count)[: len(where)] if crossed else 0), kind="stable")
    if crossed:
        lead = np.flatnonzero(np.array(after) < 0)
        tail = np.flatnonzero(np.array(after) == crossed - 1)
        order = np.concatenate([[k for k in order if k not in lead and k not in tail], tail, lead]).astype(int)
    between = np.searchsorted(where[order], np.arange(crossed + 1))
    return Loop(
        np.concatenate(halves), np.concatenate(shares), np.array(picked)[order], between.astype(np.int64),
        np.concatenate(line),
    )  # fmt: skip


def _ends(mesh: Mesh, halves: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    corner = mesh.faces.ravel()
    return corner[halves], corner[np.where(halves % 3 == 2, halves - 2, halves + 1)]


@kernel
def _lowest_of(twins, halves, low):
    for i in range(halves.shape[0]):
        low[i] = lowest_half(twins, halves[i])


@kernel
def _tell(twins, low, first, count):
    for i in range(low.shape[0]):
        tell_others(twins, low[i], first, count)


@kernel
def _spread(faces, twins, stopped, side, stack, size):
    """Spread sides over triangles from those on the stack; those that are stopped at take none. False: they clash."""
    while size > 0:
        size -= 1
        f = stack[size]
        for k in range(3):
            t = twins[3 * f + k]
            if t < 0:
                continue
            g = t // 3
            if stopped[g]:
                continue
            if side[g] == 2:
                side[g] = side[f]
                stack[size] = g
                size += 1
            elif side[g] != side[f]:
                return False
    return True


def divide_along(mesh: Mesh, loop: Loop, progress: Progress) -> Division:
    """Divide a mesh along a closed line; what lies left of it is the inside.

    Parameters
    ----------
    mesh : Mesh
    loop : Loop
    progress : Progress

    Raises
    ------
    BadInput
        When the line crosses itself, does not part the surface, or lies within one triangle.
    Cancelled
    """
    crossed = len(loop.halfedges)
    if crossed < 2:
        raise BadInput("the traced line lies within one triangle; draw it larger")
    twins, vertices = mesh.twins, mesh.vertices
    a, b = _ends(mesh, loop.halfedges)
    forward = a < b
    low, high = np.where(forward, a, b), np.where(forward, b, a)
    share = np.where(forward, loop.shares, 1 - loop.shares)
    edge = np.empty(crossed, dtype=np.int64)
    _lowest_of(twins, loop.halfedges, edge)
    order = np.lexsort((share, edge))
    long = np.linalg.norm(vertices[high] - vertices[low], axis=1)
    snap = SNAP * max(mesh.diagonal, 1e-300)
    node = np.full(crossed, -1, dtype=np.int64)
    node[share * long < snap] = low[share * long < snap]
    far = ((1 - share) * long < snap) & (node < 0)
    node[far] = high[far]
    fresh = node[order] < 0
    new = int(fresh.sum())
    ordered = node[order]
    ordered[fresh] = len(vertices) + np.arange(new)
    first, count = np.full(3 * len(mesh.faces), -1, dtype=np.int32), np.zeros(3 * len(mesh.faces), dtype=np.int32)
    edges, begin, many = np.unique(edge[order], return_index=True, return_counts=True)
    first[edges], count[edges] = begin, many
    _tell(twins, edges, first, count)
    met = Crossings(
        first, count, np.column_stack([low, high])[order].astype(np.int32), share[order], order.astype(float),
        forward[order], ordered.astype(np.int32), new, np.zeros(0, dtype=np.int64),
    )  # fmt: skip
    own = np.ascontiguousarray(vertices - mesh.box.mean(axis=0))
    cutter = Cutter(TRACED, np.eye(3), mesh.box.mean(axis=0), corners=np.ascontiguousarray(loop.picked.reshape(-1, 2)))
    inside = np.zeros(len(vertices), dtype=np.bool_)
    pieces = divided_at(mesh, cutter, own, inside, met, loop.between, progress)
    if pieces is None:
        raise BadInput("the traced line crosses itself; move its points apart")
    side = _sides(mesh, pieces)
    if side is None:
        raise BadInput("the traced line does not part the surface: one side leads round to the other; trace another")
    return Division(mesh, cutter, side, pieces, met)


def _sides(mesh: Mesh, pieces: object) -> np.ndarray | None:
    """Which side of the line each triangle lies on that it does not meet; None where it parts nothing."""
    faces, twins, count = mesh.faces, mesh.twins, len(mesh.vertices)
    stopped = np.zeros(len(faces), dtype=np.bool_)
    stopped[pieces.touched] = True
    side = np.full(len(faces), REST, dtype=np.int8)
    # whole edges of pieces: what lies across is on the same side, or on the other across the line itself
    a = pieces.faces.ravel()
    b = pieces.faces[:, [1, 2, 0]].ravel()
    parent = np.repeat(pieces.parent, 3)
    label = np.repeat(pieces.label, 3)
    old = (a < count) & (b < count)
    a, b, parent, label = a[old].astype(np.int64), b[old].astype(np.int64), parent[old].astype(np.int64), label[old]
    ways = pieces.segments[(pieces.segments[:, :2] < count).all(axis=1), :2]
    cut = np.concatenate([ways, ways[:, ::-1]]) @ [count, 1]
    across = np.full(len(a), -1, dtype=np.int64)
    for k in range(3):
        here = (faces[parent, k] == a) & (faces[parent, (k + 1) % 3] == b)
        across[here] = twins[3 * parent[here] + k]
    good = across >= 0
    g, label, code = across[good] // 3, label[good], (a * count + b)[good]
    label = np.where(np.isin(code, cut), ~label, label)
    free = ~stopped[g]
    g, label = g[free], label[free]
    side[g] = label
    if (side[g] != label).any():
        return None
    stack = np.empty(len(faces) + 1, dtype=np.int64)
    seeds = np.unique(g)
    stack[: len(seeds)] = seeds
    return side if _spread(faces, twins, stopped, side, stack, len(seeds)) else None
