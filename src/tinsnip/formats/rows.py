"""Triangles of a large file, some at a time: what a file that is not read as a whole can be asked for."""

from typing import Protocol

import numpy as np

from tinsnip.mesh import Mesh

__all__ = ["NAME", "Rows"]

NAME = "number in the file"
"""An attribute of vertices: by it those are known that several parts of a file have in common."""


class Rows(Protocol):
    """The triangles of one file, which stays open on the disk."""

    @property
    def count(self) -> int:
        """How many triangles there are."""
        ...

    def places(self, begin: int, end: int) -> np.ndarray:
        """Where the first corner of each triangle of a range is, shape (N, 3), in the file's unit."""
        ...

    def mesh(self, chosen: np.ndarray) -> Mesh:
        """Some triangles, int, shape (N,), as a mesh; with `NAME` where places alone do not tell vertices apart."""
        ...
