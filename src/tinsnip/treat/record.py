"""The record of a reduction: every level between the whole mesh and its last few hundred triangles (Hoppe 1996)."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["Level", "Record"]


@kernel
def _replay(log, places, count, vertices, source, root):
    """Run `count` collapses over the vertices: where each ends, whose values it takes, what it has become part of."""
    for v in range(root.shape[0]):
        root[v] = v
        source[v] = v
    for i in range(count):
        a, b = log[i, 0], log[i, 1]
        if b < 0:
            source[a] = source[~b]
        vertices[a, 0], vertices[a, 1], vertices[a, 2] = places[i, 0], places[i, 1], places[i, 2]
    for i in range(count - 1, -1, -1):
        b = log[i, 1]
        root[b if b >= 0 else ~b] = root[log[i, 0]]


@kernel
def _living(faces, dies, count, root, number, out, parent):
    """The triangles that are left over the vertices that are, numbered in their old order; how many vertices."""
    n = 0
    for v in range(root.shape[0]):
        if root[v] == v:
            number[v] = n
            n += 1
    t = 0
    for f in range(faces.shape[0]):
        if dies[f] >= count:
            for k in range(3):
                out[t, k] = number[root[faces[f, k]]]
            parent[t] = f
            t += 1
    return n


@kernel
def _gather_alive(root, vertices, source, out, out_source):
    n = 0
    for v in range(root.shape[0]):
        if root[v] == v:
            for k in range(3):
                out[n, k] = vertices[v, k]
            out_source[n] = source[v]
            n += 1


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
    """

    def __init__(
        self, vertices: np.ndarray, faces: np.ndarray, log: np.ndarray, places: np.ndarray, dies: np.ndarray
    ) -> None:
        self.vertices, self.faces = vertices, faces
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

    @property
    def nbytes(self) -> int:
        """Memory held besides the mesh itself."""
        return self.log.nbytes + self.places.nbytes + self.dies.nbytes + self._left.nbytes

    def level(self, triangles: int) -> Level:
        """The mesh at no more than a number of triangles, or at the fewest there are.

        Parameters
        ----------
        triangles : int

        Returns
        -------
        Level
        """
        # _left falls: the first entry that is small enough
        count = len(self._left) - int(np.searchsorted(self._left[::-1], triangles, side="right"))
        count = 0 if triangles >= self.most else min(count + 1, len(self._left))
        left = int(self._left[count - 1]) if count else self.most
        vertices = self.vertices.copy()
        source, root, number = (np.empty(len(vertices), dtype=np.int32) for _ in range(3))
        _replay(self.log, self.places, count, vertices, source, root)
        faces = np.empty((left, 3), dtype=np.int32)
        parent = np.empty(left, dtype=np.int32)
        n = _living(self.faces, self.dies, count, root, number, faces, parent)
        out, out_source = np.empty((n, 3)), np.empty(n, dtype=np.int32)
        _gather_alive(root, vertices, source, out, out_source)
        return Level(out, faces, out_source, parent)
