"""Quads: pairs of triangles that share an edge and are meant as one face."""

import numpy as np

from tinsnip.mesh.attributes import Domain
from tinsnip.mesh.mesh import Mesh

__all__ = ["QUAD", "corners_of_quads", "quads_of"]

QUAD = "quad"
"""An attribute of triangles: a number that the two of a quad share; below zero for one that is by itself."""


def quads_of(mesh: Mesh) -> np.ndarray:
    """The two triangles of each quad, int, shape (Q, 2), where both are still there and still share an edge.

    Parameters
    ----------
    mesh : Mesh
    """
    known = mesh.attributes.get(QUAD)
    if known is None or known.domain is not Domain.TRIANGLE:
        return np.empty((0, 2), dtype=np.int64)
    number = known.values
    half = np.flatnonzero(mesh.twins > np.arange(len(mesh.twins)))
    one, other = half // 3, mesh.twins[half] // 3
    same = (number[one] >= 0) & (number[one] == number[other])
    pairs = np.column_stack([one[same], other[same]]).astype(np.int64)
    # numbers that came together from two pieces, or triangles that were divided, may leave more than two
    met = np.bincount(pairs.ravel(), minlength=len(mesh.faces))
    return pairs[(met[pairs] == 1).all(axis=1)]


def corners_of_quads(mesh: Mesh, pairs: np.ndarray) -> np.ndarray:
    """The corners of quads in order round each, as places in the list of all corners, int, shape (Q, 4).

    Parameters
    ----------
    mesh : Mesh
    pairs : ndarray of int, shape (Q, 2)
        As of `quads_of`.
    """
    half = 3 * pairs[:, :1] + np.arange(3)
    shared = half[mesh.twins[half] // 3 == pairs[:, 1:]].reshape(-1)
    twin = mesh.twins[shared]
    far = twin - twin % 3 + (twin + 2) % 3
    after, before = shared - shared % 3 + (shared + 1) % 3, shared - shared % 3 + (shared + 2) % 3
    return np.stack([shared, far, after, before], axis=1)
