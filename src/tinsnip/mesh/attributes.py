"""Values that travel with the mesh, and the one mechanism that carries them through a treatment."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from typing import Any

import numpy as np
from scipy import sparse

__all__ = ["HOLLOW", "RELIEF", "Attribute", "Domain", "Lineage", "carry", "hollow_at"]

HOLLOW = "hollow"
"""An attribute of vertices: 1 on the inner skins of what was hollowed on purpose, 0 elsewhere."""

RELIEF = "relief"
"""An attribute of triangles that has a normal map beside it, by the number of the texture whose places it shares."""


class Domain(Enum):
    """What one value of an attribute belongs to."""

    VERTEX = "vertex"
    TRIANGLE = "triangle"
    CORNER = "corner"


@dataclass(frozen=True, eq=False)
class Attribute:
    """Named values on the vertices ``(V, ...)``, triangles ``(F, ...)`` or corners ``(3 F, ...)`` of a mesh.

    Parameters
    ----------
    domain : Domain
        What one row belongs to.
    values : ndarray
        One row each; numbers on vertices and corners are blended, those on triangles are only copied.
    beside : object, optional
        What belongs to the values as a whole, such as the texture image or the list of group names.
    """

    domain: Domain
    values: np.ndarray
    beside: Any = None

    def __post_init__(self) -> None:
        self.values.setflags(write=False)


@dataclass(frozen=True, eq=False)
class Lineage:
    """Where each vertex and triangle of a treated mesh comes from.

    Parameters
    ----------
    vertices : ndarray of int, shape (K,)
        The old vertex each of the first K new ones is; -1 for one that has no ancestor.
    triangles : ndarray of int, shape (F',)
        The old triangle each new one is, or is a part of; -1 for a new one.
    blends : csr_matrix, shape (N, V), optional
        Rows of weights for N further vertices: between two, or a blend of several. An empty row is a new
        vertex.
    corners : ndarray of int, shape (3 F',), optional
        The old corner whose value each new corner takes; -1 for none. By default a triangle with an
        ancestor takes its ancestor's three corners in order.
    towards : tuple of (ndarray of int, ndarray of float), shapes (3 F',)
        Further old corners that the value of each new corner leans towards, one after another, and by what share.
    """

    vertices: np.ndarray
    triangles: np.ndarray
    blends: sparse.csr_matrix | None = None
    corners: np.ndarray | None = None
    towards: tuple[tuple[np.ndarray, np.ndarray], ...] = ()


def _copied(values: np.ndarray, index: np.ndarray) -> np.ndarray:
    if len(index) == 0 or index.min() >= 0:
        return values[index]
    out = np.zeros((len(index), *values.shape[1:]), dtype=values.dtype)
    known = index >= 0
    out[known] = values[index[known]]
    return out


def _blended(values: np.ndarray, blends: sparse.csr_matrix) -> np.ndarray:
    flat = values.reshape(len(values), -1).astype(np.float64)
    mixed = blends @ flat
    if np.issubdtype(values.dtype, np.integer):
        mixed = np.rint(mixed)
    return mixed.astype(values.dtype).reshape(-1, *values.shape[1:])


def _leaning(new: np.ndarray, values: np.ndarray, towards: np.ndarray, share: np.ndarray) -> np.ndarray:
    some = np.flatnonzero(share)
    weight = share[some].reshape(-1, *[1] * (values.ndim - 1))
    mixed = (1 - weight) * new[some] + weight * values[towards[some]]
    out = new.copy()
    out[some] = (np.rint(mixed) if np.issubdtype(values.dtype, np.integer) else mixed).astype(values.dtype)
    return out


def hollow_at(corners: np.ndarray, count: int) -> Attribute:
    """The attribute `HOLLOW` of `count` vertices, set at the corners of the triangles of inner skins.

    Parameters
    ----------
    corners : ndarray of int, shape (K, 3)
    count : int
        Vertices of the mesh.
    """
    within = np.zeros(count, dtype=np.uint8)
    within[corners.ravel()] = 1
    return Attribute(Domain.VERTEX, within)


def carry(attributes: Mapping[str, Attribute], lineage: Lineage) -> dict[str, Attribute]:
    """Take all attributes of a mesh over to its successor.

    Parameters
    ----------
    attributes : mapping of str to Attribute
        The old mesh's.
    lineage : Lineage
        Where the successor's vertices and triangles come from.

    Returns
    -------
    dict of str to Attribute
    """
    carried = {}
    for name, attribute in attributes.items():
        values = attribute.values
        if attribute.domain is Domain.VERTEX:
            new = _copied(values, lineage.vertices)
            if lineage.blends is not None:
                new = np.concatenate([new, _blended(values, lineage.blends)])
        elif attribute.domain is Domain.TRIANGLE:
            new = _copied(values, lineage.triangles)
        else:
            corners = lineage.corners
            if corners is None:
                old = lineage.triangles.astype(np.int64)[:, None]
                corners = np.where(old < 0, -1, 3 * old + np.arange(3)).ravel()
            new = _copied(values, corners)
            for towards, share in lineage.towards:
                new = _leaning(new, values, towards, share)
        carried[name] = Attribute(attribute.domain, new, attribute.beside)
    return carried
