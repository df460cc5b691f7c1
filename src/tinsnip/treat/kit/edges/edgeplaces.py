"""Places on open edges: what was clicked there, and what of an edge lies between two of them."""

from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh

__all__ = ["EdgePlace", "arc_between", "arc_round", "place_on_edge"]


class EdgePlace(NamedTuple):
    """A vertex on an open edge: which of the mesh's loops, and the how-manieth there."""

    loop: int
    number: int


def place_on_edge(mesh: Mesh, point: tuple[float, float, float]) -> EdgePlace:
    """The vertex of an open edge that is nearest to a point.

    Parameters
    ----------
    mesh : Mesh
    point : (float, float, float)
        In mm.

    Raises
    ------
    BadInput
        When the mesh has no open edge.
    """
    half = mesh.loops.halfedges
    if len(half) == 0:
        raise BadInput("the part has no open edge; there is nothing to begin at")
    _, at = cKDTree(mesh.vertices[mesh.faces.ravel()[half]]).query(np.array(point, dtype=float))
    loop = int(np.searchsorted(mesh.loops.start, at, side="right")) - 1
    return EdgePlace(loop, int(at - mesh.loops.start[loop]))


def arc_round(mesh: Mesh, place: EdgePlace, edges: int) -> np.ndarray:
    """The open half-edges of so many edges round a place, in their own order.

    Parameters
    ----------
    mesh : Mesh
    place : EdgePlace
    edges : int
        How many.
    """
    half = mesh.loops.loop(place.loop)
    return half[(place.number - edges // 2 + np.arange(edges)) % len(half)]


def arc_between(mesh: Mesh, one: EdgePlace, other: EdgePlace) -> np.ndarray:
    """The open half-edges between two places of one edge, the shorter way round, in their own order.

    Parameters
    ----------
    mesh : Mesh
    one, other : EdgePlace

    Raises
    ------
    BadInput
        When the places lie on different edges, or at one vertex.
    """
    if one.loop != other.loop:
        raise BadInput("the two places lie on different open edges; choose both on one, or lay a strip between them")
    if one.number == other.number:
        raise BadInput("the two places are one and the same vertex of the edge; choose them further apart")
    half = mesh.loops.loop(one.loop)
    first = half[(one.number + np.arange((other.number - one.number) % len(half))) % len(half)]
    second = half[(other.number + np.arange((one.number - other.number) % len(half))) % len(half)]
    return min(first, second, key=lambda h: float(_lengths(mesh, h).sum()))


def _ends(mesh: Mesh, half: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    corner = mesh.faces.ravel()
    return mesh.vertices[corner[half]], mesh.vertices[corner[half - half % 3 + (half + 1) % 3]]


def _lengths(mesh: Mesh, half: np.ndarray) -> np.ndarray:
    a, b = _ends(mesh, half)
    return np.linalg.norm(b - a, axis=1)
