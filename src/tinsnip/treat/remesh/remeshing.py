"""A surface meshed anew with edges of a wanted length, whole or where it is not held.

After Botsch and Kobbelt, A remeshing approach to multiresolution modeling (SGP 2004): edges that are long are divided,
those that are short run together, and flipped so that six meet in a vertex; vertices are drawn to the middle of their
neighbours and laid back onto the surface. Lines are kept: what lies on one stays on it.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.halfedges import OPEN
from tinsnip.progress import DONE, Progress
from tinsnip.space.tree import Tree, build_tree, closest_points
from tinsnip.treat.kit.edges.fanwalks import ways_out
from tinsnip.treat.remesh.creases import Creases
from tinsnip.treat.remesh.edits import (
    CREASE,
    LINE,
    LONGEST,
    SHORTEST,
    collapse_short,
    count_long,
    flip_edges,
    split_long,
)  # fmt: skip
from tinsnip.treat.remesh.relaxing import relaxed

__all__ = ["Remeshed", "Work", "remeshed", "tree_of_lines"]

_SOME = 100_000
"""Edges whose lengths are looked at to tell how dense a mesh is."""
_ROUNDS, _ROUNDS_RESIZED = 4, 10
_RELAXED = 3
"""How often vertices are drawn to the middle of their neighbours, a round."""
_SPLITS = 12
"""Passes until no edge is long: those whose triangles changed in one have their turn in the next."""
_GROWTH = 1.5
"""How much longer the shortest edges that are run together become from one pass to the next, on a dense mesh."""


class Remeshed(NamedTuple):
    """A surface meshed anew.

    Attributes
    ----------
    vertices : ndarray, shape (V', 3)
    faces : ndarray of int32, shape (F', 3)
    origin : ndarray of int32, shape (V',)
        The old vertex that each one is, to the bit; -1 for one that was moved or is new.
    near : ndarray of int32, shape (V',)
        The old triangle that each lies on.
    label : ndarray of int32, shape (F',)
        That of the old triangles where each one is.
    """

    vertices: np.ndarray
    faces: np.ndarray
    origin: np.ndarray
    near: np.ndarray
    label: np.ndarray


@kernel
def _meeting(faces, twins, valence, wanted):
    """How many edges meet in each vertex, and how many are wanted: six, or four at a rim."""
    valence[:] = 0
    wanted[:] = 6
    for h in range(twins.shape[0]):
        f, k = h // 3, h % 3
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        valence[a] += 1
        if twins[h] < 0:
            valence[b] += 1
            wanted[a] = wanted[b] = 4


@kernel
def _squeeze(P, faces, twins, kind, out_of, standing, size, near, origin, label, new_vertex, new_face):
    """Close the gaps that are left by edges run together, in place; how many vertices and triangles there are."""
    n_v = n_f = 0
    for v in range(out_of.shape[0]):
        new_vertex[v] = -1
        if out_of[v] >= 0:
            new_vertex[v] = n_v
            n_v += 1
    for f in range(faces.shape[0]):
        new_face[f] = -1
        if faces[f, 0] >= 0:
            new_face[f] = n_f
            n_f += 1
    for v in range(out_of.shape[0]):
        w = new_vertex[v]
        if w >= 0:
            for k in range(3):
                P[w, k] = P[v, k]
            out_of[w] = 3 * new_face[out_of[v] // 3] + out_of[v] % 3
            standing[w], size[w], near[w], origin[w] = standing[v], size[v], near[v], origin[v]
    for f in range(faces.shape[0]):
        g = new_face[f]
        if g >= 0:
            label[g] = label[f]
            for k in range(3):
                faces[g, k] = new_vertex[faces[f, k]]
                t = twins[3 * f + k]
                twins[3 * g + k] = 3 * new_face[t // 3] + t % 3 if t >= 0 else t
                kind[3 * g + k] = kind[3 * f + k]
    return n_v, n_f


class Work:
    """The arrays of a surface that is meshed anew."""

    _VERTEX = ("P", "out_of", "standing", "size", "near", "origin")
    _FACE = ("faces", "label")
    _HALF = ("twins", "kind")

    def __init__(
        self, vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, size: np.ndarray, label: np.ndarray,
        creases: Creases, held_from: int,
    ) -> None:  # fmt: skip
        self.held_from = held_from
        self.P, self.faces = vertices.copy(), faces.copy()
        self.twins = np.where(twins < 0, OPEN, twins).astype(np.int32)
        self.kind, self.standing = creases.kind.copy(), creases.standing.copy()
        self.size, self.label = size.astype(np.float64), label.astype(np.int32)
        self.out_of = np.empty(len(vertices), dtype=np.int32)
        ways_out(self.faces, self.twins, self.out_of)
        self.origin = np.arange(len(vertices), dtype=np.int32)
        self.near = np.maximum(self.out_of // 3, 0).astype(np.int32)
        self.counter = np.zeros(2, dtype=np.int64)
        self.squeeze()

    def squeeze(self) -> None:
        """Close the gaps."""
        n_v, n_f = _squeeze(
            self.P, self.faces, self.twins, self.kind, self.out_of, self.standing, self.size, self.near, self.origin,
            self.label, np.empty(len(self.P), dtype=np.int32), np.empty(len(self.faces), dtype=np.int32),
        )  # fmt: skip
        self._cut(n_v, n_f)

    def _cut(self, n_v: int, n_f: int) -> None:
        for names, count in ((self._VERTEX, n_v), (self._FACE, n_f), (self._HALF, 3 * n_f)):
            for name in names:
                setattr(self, name, getattr(self, name)[:count])

    def _grow(self, n_v: int, n_f: int) -> None:
        for names, count in ((self._VERTEX, n_v), (self._FACE, n_f), (self._HALF, 3 * n_f)):
            for name in names:
                old = getattr(self, name)
                new = np.empty((count, *old.shape[1:]), dtype=old.dtype)
                new[: len(old)] = old
                setattr(self, name, new)

    def split(self, share: float, state: np.ndarray, passes: int = _SPLITS) -> None:
        """Divide edges until none is longer than a share of what is wanted, or for some passes."""
        for _ in range(passes):
            old, n_f = len(self.P), len(self.faces)
            count = int(count_long(self.P, self.faces, self.twins, self.kind, self.size, n_f, share))
            if count == 0 or state[0]:
                return
            self._grow(old + count, n_f + 2 * count)
            self.counter[0] = n_f
            touched = np.zeros(len(self.faces), dtype=np.bool_)
            n_v = split_long(
                self.P, self.faces, self.twins, self.kind, self.out_of, self.standing, self.size, self.near,
                self.origin, self.label, old, n_f, share, self.held_from, touched,
                self.counter, state,
            )  # fmt: skip
            self._cut(n_v, int(self.counter[0]))
            if n_v == old:
                return
            self.flip(True, state, touched=touched[: len(self.faces)])

    def collapse(self, share: float, state: np.ndarray) -> int:
        """Run short edges together; how many."""
        self.counter[1] = 0
        done = collapse_short(
            self.P, self.faces, self.twins, self.kind, self.out_of, self.standing, self.size, self.near, self.origin,
            np.zeros(len(self.P), dtype=np.int64), len(self.faces), share, self.counter, state,
        )  # fmt: skip
        if done:
            self.squeeze()
        return int(done)

    def flip(self, by_angle: bool, state: np.ndarray, times: int = 2, touched: np.ndarray | None = None) -> None:
        """Flip edges, of touched triangles alone where they are told."""
        touched = np.ones(len(self.faces), dtype=np.bool_) if touched is None else touched
        valence, wanted = np.empty(len(self.P), dtype=np.int32), np.empty(len(self.P), dtype=np.int32)
        _meeting(self.faces, self.twins, valence, wanted)
        for _ in range(times):
            done = flip_edges(
                self.P, self.faces, self.twins, self.kind, self.out_of, self.standing, valence, wanted, touched,
                len(self.faces), by_angle, state,
            )  # fmt: skip
            if done == 0:
                break

    def relax(self, surface: Tree | None, lines: Tree | None, share: float) -> None:
        """Draw vertices to the middle of their neighbours, within the surface."""
        moved = relaxed(
            self.P, self.faces, self.twins, self.kind, self.out_of, self.standing, self.size, self.near, surface,
            lines, share,
        )  # fmt: skip
        self.origin[(moved != self.P).any(axis=1)] = -1
        self.P = moved

    def edges(self, most: int) -> np.ndarray:
        """Length of edges, about so many at most, over what is wanted."""
        half = np.arange(0, len(self.twins), max(1, len(self.twins) // most))
        corner = self.faces.ravel()
        a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
        return np.linalg.norm(self.P[a] - self.P[b], axis=1) / (0.5 * (self.size[a] + self.size[b]))


def tree_of_lines(vertices: np.ndarray, faces: np.ndarray, twins: np.ndarray, kind: np.ndarray) -> Tree | None:
    half = np.flatnonzero((kind == CREASE) & (twins < np.arange(len(twins))))
    if len(half) == 0:
        return None
    corner = faces.ravel()
    a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
    return build_tree(vertices, np.ascontiguousarray(np.column_stack([a, b, b])).astype(np.int32))


def remeshed(
    surface: Tree, twins: np.ndarray, size: np.ndarray, label: np.ndarray, creases: Creases, held_from: int,
    progress: Progress,
    resize: Callable[[np.ndarray, np.ndarray, np.ndarray, np.ndarray], np.ndarray] | None = None,
) -> Remeshed:  # fmt: skip
    """Mesh a surface anew.

    Parameters
    ----------
    surface : Tree
        Of the surface, whose triangles are manifold and turned one way.
    twins : ndarray of int32, shape (3 F,)
    size : ndarray, shape (V,)
        Edge length wanted at each vertex, mm.
    label : ndarray of int, shape (F,)
        Handed on to the triangles; where it changes there must be a crease.
    creases : Creases
    held_from : int
        Triangles with this label or more stay as they are, but for cuts where edges at their border are divided.
    progress : Progress
    resize : callable, optional
        From vertices, faces, the lengths wanted at the vertices and the old triangles they lie on, at the beginning of
        each round, to the lengths wanted from then on.

    Returns
    -------
    Remeshed

    Raises
    ------
    Cancelled
    """
    rounds = _ROUNDS if resize is None else _ROUNDS_RESIZED
    state = progress.step("Meshing anew", rounds + 2)
    vertices, faces = surface.vertices, surface.faces
    lines = tree_of_lines(vertices, faces, twins, creases.kind)
    work = Work(vertices, faces, twins, size, label, creases, held_from)
    progress.check()
    share = float(work.edges(len(work.twins)).max(initial=0.0))
    while share > LONGEST:  # the longest first, or long thin triangles become many more
        share = max(0.5 * share, LONGEST)
        work.split(share, state)
        progress.check()
    share = float(np.median(work.edges(_SOME))) if len(work.faces) else 1.0
    while share < SHORTEST:
        share = min(_GROWTH * share, SHORTEST)
        if work.collapse(share, state):
            work.flip(False, state)
            work.relax(surface, lines, 0.5)
        progress.check()
    for i in range(rounds):
        state[DONE] = i + 1
        if resize is not None:
            work.size = resize(work.P, work.faces, work.size, work.near)
        work.split(LONGEST, state, 2)
        work.collapse(SHORTEST, state)
        work.flip(False, state)
        for j in range(_RELAXED):
            work.relax(surface if j == _RELAXED - 1 else None, lines, 0.7)
        progress.check()
    work.flip(True, state)
    for j in range(_RELAXED):
        work.relax(surface if j == _RELAXED - 1 else None, lines, 0.7)
    progress.check()
    on_line = work.standing == LINE  # these went along their lines
    work.near[on_line] = closest_points(surface, work.P[on_line], state)[1]
    return Remeshed(work.P, work.faces, work.origin, work.near, work.label)
