"""The record of a reduction: every level between the whole mesh and its last few hundred triangles (Hoppe 1996)."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["Level", "Record"]


@kernel
def _trace(log, count, root, last, wants):
    """Follow `count` collapses back: what each vertex became part of, which collapse placed it last, and whose values
    go to whom. One look back over the list is enough, for whoever stays is known by then."""
    for v in range(root.shape[0]):
        root[v] = v
        last[v] = -1
        wants[v] = v
    for i in range(count - 1, -1, -1):
        a, b = log[i, 0], log[i, 1]
        takes = b < 0
        if takes:
            b = ~b
        root[b] = root[a]
        if last[a] < 0:
            last[a] = i
        wants[b] = -1
        if takes:  # whoever wanted the values of a wants those that b had
            wants[b] = wants[a]
            wants[a] = -1


@kernel
def _number(root, number):
    """Number the vertices that are left, in their old order."""
    n = 0
    for v in range(root.shape[0]):
        if root[v] == v:
            number[v] = n
            n += 1
    return n


@kernel
def _gather(vertices, places, root, last, wants, number, out, source):
    for v in range(root.shape[0]):
        if root[v] == v:
            for k in range(3):
                out[number[v], k] = vertices[v, k] if last[v] < 0 else places[last[v], k]
        if wants[v] >= 0:
            source[number[wants[v]]] = v


@kernel
def _living(faces, dies, count, root, number, out, parent):
    """The triangles that are left, over the vertices that are."""
    t = 0
    for f in range(faces.shape[0]):
        if dies[f] >= count:
            for k in range(3):
                out[t, k] = number[root[faces[f, k]]]
            parent[t] = f
            t += 1


@kernel
def _renamed(log, count, number, out):
    """Collapses from `count` on, by the new numbers of their vertices."""
    for i in range(count, log.shape[0]):
        b = log[i, 1]
        out[i - count, 0] = number[log[i, 0]]
        out[i - count, 1] = ~number[~b] if b < 0 else number[b]


@kernel
def _later(dies, count, parent, out):
    """Which of the collapses from `count` on takes each triangle that is left; those that stay keep their number."""
    for f in range(parent.shape[0]):
        d = dies[parent[f]]
        out[f] = d - count if d < 2147483647 else d


class Level(NamedTuple):
    """One level of a record.

    Attributes
    ----------
    vertices : ndarray, shape (V', 3)
    faces : ndarray of int32, shape (F', 3)
    source : ndarray of int32, shape (V',)
        The old vertex each one lies nearest to of those it took in.
    parent : ndarray of int32, shape (F',)
        The old triangle each one was.
    """

    vertices: np.ndarray
    faces: np.ndarray
    source: np.ndarray
    parent: np.ndarray


class Record:
    """Collapses in their order, over the mesh they began with.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    log : ndarray of int32, shape (N, 2)
        The vertex that stays and the one that goes; the second is inverted where the first takes its values.
    places : ndarray, shape (N, 3)
        Where the first then stands.
    dies : ndarray of int32, shape (F,)
        The collapse that takes each triangle away; a number beyond all for those that stay.
    join : callable, optional
        What still has to be done to a level; where the mesh was cut, it puts the pieces together again.
    """

    def __init__(
        self, vertices: np.ndarray, faces: np.ndarray, log: np.ndarray, places: np.ndarray, dies: np.ndarray,
        join: Callable[[Level], Level] | None = None,
    ) -> None:  # fmt: skip
        self.vertices, self.faces, self._join = vertices, faces, join
        self._before: Level | None = None  # what was reduced before this record begins
        self.log, self.places, self.dies = log, places, dies
        gone = np.bincount(dies[dies < len(log)], minlength=len(log)) if len(log) else np.zeros(0, dtype=np.int64)
        self._left = (len(faces) - np.cumsum(gone)).astype(np.int32)

    @property
    def most(self) -> int:
        """Triangles at first."""
        return len(self.faces)

    @property
    def fewest(self) -> int:
        """Triangles after the last collapse."""
        return int(self._left[-1]) if len(self._left) else self.most

    def level(self, triangles: int) -> Level:
        """The mesh at no more than a number of triangles, or at the fewest there are.

        Parameters
        ----------
        triangles : int

        Returns
        -------
        Level
        """
        return self._told(self._rebuilt(triangles)[0])

    def _told(self, level: Level) -> Level:
        """A level in terms of the mesh that was reduced, and in one piece."""
        level = self._since_the_first(level)
        return level if self._join is None else self._join(level)

    def _since_the_first(self, level: Level) -> Level:
        if self._before is None:
            return level
        return level._replace(source=self._before.source[level.source], parent=self._before.parent[level.parent])

    def onwards(self, triangles: int) -> tuple[Level, "Record"]:
        """A level, and the record that goes on from there: coarser levels are the same, and rebuilt for less."""
        level, count, number = self._rebuilt(triangles)
        log, dies = np.empty((len(self.log) - count, 2), dtype=np.int32), np.empty(len(level.faces), dtype=np.int32)
        _renamed(self.log, count, number, log)
        _later(self.dies, count, level.parent, dies)
        rest = Record(level.vertices, level.faces, log, self.places[count:], dies, self._join)
        rest._before = self._since_the_first(level)
        return self._told(level), rest

    def _rebuilt(self, triangles: int) -> tuple[Level, int, np.ndarray]:
        """A level before it is joined, the collapses that lead to it, and the new number of each vertex left."""
        # _left falls: the first entry that is small enough
        count = len(self._left) - int(np.searchsorted(self._left[::-1], triangles, side="right"))
        count = 0 if triangles >= self.most else min(count + 1, len(self._left))
        left = int(self._left[count - 1]) if count else self.most
        root, last, wants, number = (np.empty(len(self.vertices), dtype=np.int32) for _ in range(4))
        _trace(self.log, count, root, last, wants)
        n = _number(root, number)
        vertices, source = np.empty((n, 3)), np.empty(n, dtype=np.int32)
        _gather(self.vertices, self.places, root, last, wants, number, vertices, source)
        faces = np.empty((left, 3), dtype=np.int32)
        parent = np.empty(left, dtype=np.int32)
        _living(self.faces, self.dies, count, root, number, faces, parent)
        return Level(vertices, faces, source, parent), count, number
