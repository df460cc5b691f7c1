"""Quads: pairs of triangles that share an edge and are meant as one face."""

import numpy as np

from tinsnip.mesh.attributes import Attribute, Domain, Lineage
from tinsnip.mesh.mesh import Mesh

__all__ = ["QUAD", "edges_without_diagonals", "of_polygons", "quad_numbers", "quad_runs", "quads_first", "quads_of"]

QUAD = "quad"
"""An attribute of triangles: a number over 0 that the two of a quad share; 0 for one that is by itself."""


def quad_numbers(pair: np.ndarray) -> Attribute:
    """The attribute `QUAD` of triangles.

    Parameters
    ----------
    pair : ndarray of int, shape (F,)
        The other triangle of the quad that each is half of; below zero where there is none.
    """
    number = np.where(pair < 0, 0, np.minimum(np.arange(len(pair)), pair) + 1)
    return Attribute(Domain.TRIANGLE, number.astype(np.int32))


def of_polygons(sizes: np.ndarray, polygon: np.ndarray) -> Attribute | None:
    """The attribute `QUAD` of triangles that polygons were cut into; None where none has four corners.

    Parameters
    ----------
    sizes : ndarray of int, shape (P,)
        Corners of each polygon.
    polygon : ndarray of int, shape (F,)
        The one that each triangle is a part of.
    """
    four = sizes[polygon] == 4
    return Attribute(Domain.TRIANGLE, np.where(four, polygon + 1, 0).astype(np.int32)) if four.any() else None


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
    same = (number[one] > 0) & (number[one] == number[other])
    pairs = np.column_stack([one[same], other[same]]).astype(np.int64)
    # numbers that came together from two pieces, or triangles that were divided, may leave more than two
    met = np.bincount(pairs.ravel(), minlength=len(mesh.faces))
    return pairs[(met[pairs] == 1).all(axis=1)]


def quads_first(mesh: Mesh) -> Mesh:
    """The same with the triangles of quads ahead of all others, so that corners 0, 1, 2 of the first and 2 of the
    second go round each; itself where there are none, or they stand so.

    Parameters
    ----------
    mesh : Mesh
    """
    pairs = quads_of(mesh)
    pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
    half = 3 * pairs[:, :1] + np.arange(3)
    begin = half[mesh.twins[half] // 3 == pairs[:, 1:]]  # along the diagonal
    twin = mesh.twins[begin].astype(np.int64)
    after, before = (begin - begin % 3 + (begin + k) % 3 for k in (1, 2))
    # a, b, c and a, c, d with the diagonal from a to c; the second triangle of a pair lies left of it
    first = np.column_stack([after, before, begin])
    second = np.column_stack([twin, *(twin - twin % 3 + (twin + k) % 3 for k in (1, 2))])
    rest = np.ones(len(mesh.faces), dtype=bool)
    rest[pairs.ravel()] = False
    rest = 3 * np.flatnonzero(rest)[:, None] + np.arange(3)
    corners = np.concatenate([np.stack([first, second], axis=1).reshape(-1, 3), rest]).ravel()
    if (corners == np.arange(len(corners))).all():
        return mesh
    triangles = corners[::3] // 3
    lineage = Lineage(np.arange(len(mesh.vertices)), triangles, corners=corners)
    faces = mesh.faces.ravel()[corners].reshape(-1, 3)
    return mesh.derive(faces, lineage, provenance=mesh.provenance[triangles])


def quad_runs(mesh: Mesh, corners: np.ndarray) -> list[tuple[int, int, bool]]:
    """Where quads and triangles follow each other in a mesh as of `quads_first`: first and last triangle, and whether
    they are the halves of quads.

    Parameters
    ----------
    mesh : Mesh
    corners : ndarray of int, shape (F, 3, K)
        What is written of each corner: both halves of a quad must say the same of those they share.
    """
    count = len(mesh.faces)
    known = mesh.attributes.get(QUAD)
    if known is None or known.domain is not Domain.TRIANGLE or count < 2:
        return [(0, count, False)]
    number = known.values
    one = number[:-1] > 0
    one &= number[:-1] == number[1:]
    one &= (corners[:-1, 0] == corners[1:, 0]).all(axis=1) & (corners[:-1, 2] == corners[1:, 1]).all(axis=1)
    one[1:] &= ~one[:-1]  # a third with the same number would be none of it
    half = np.zeros(count, dtype=bool)
    half[:-1] = one
    half[1:] |= one
    ends = np.flatnonzero(half[1:] != half[:-1]) + 1
    return [
        (int(begin), int(end), bool(half[begin])) for begin, end in zip(np.r_[0, ends], np.r_[ends, count], strict=True)
    ]


def edges_without_diagonals(mesh: Mesh) -> np.ndarray | None:
    """The edges of a mesh but those within quads, int32, shape (E, 2); None where there are no quads.

    Parameters
    ----------
    mesh : Mesh
    """
    pairs = quads_of(mesh)
    if len(pairs) == 0:
        return None
    other = np.full(len(mesh.faces), -1, dtype=np.int64)
    other[pairs[:, 0]], other[pairs[:, 1]] = pairs[:, 1], pairs[:, 0]
    half = np.flatnonzero(mesh.twins < np.arange(len(mesh.twins)))
    twin = mesh.twins[half]
    half = half[(twin < 0) | (other[half // 3] != twin // 3)]
    corner = mesh.faces.ravel()
    return np.column_stack([corner[half], corner[half - half % 3 + (half + 1) % 3]]).astype(np.int32)
