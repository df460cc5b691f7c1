"""A light stand-in for a dense mesh, to draw while the view moves."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.subsets import number_used
from tinsnip.progress import check_here, polled_here

__all__ = ["Proxy", "light_proxy"]

_WORTH_FROM = 160_000
"""Triangles from which a light stand-in is worth making."""
_CELLS = 120
"""Cells along the longest side: some 70 thousand triangles, which a software renderer on two cores draws in 37 ms;
170 cells took 60."""


@kernel
def _cluster(places, normals, low, scale, cells, chosen, of, state):
    """Represent each grid cell by its first vertex, and what faces the other way by the first that does.

    So the two sides of a thin wall stay apart.
    """
    for v in range(places.shape[0]):
        if v % 65536 == 0 and state[0]:
            return
        i = int((places[v, 0] - low[0]) * scale)
        j = int((places[v, 1] - low[1]) * scale)
        k = int((places[v, 2] - low[2]) * scale)
        cell = (i * cells + j) * cells + k
        first = chosen[cell, 0]
        if first < 0:
            chosen[cell, 0] = first = v
        side = 0
        if len(normals) > 0:
            along = 0.0
            for d in range(3):
                along += normals[v, d] * normals[first, d]
            side = 1 if along < 0.0 else 0
        if chosen[cell, side] < 0:
            chosen[cell, side] = v
        of[v] = chosen[cell, side]


@kernel
def _proxy_faces(faces, of, out, source):
    n = 0
    for f in range(faces.shape[0]):
        a, b, c = of[faces[f, 0]], of[faces[f, 1]], of[faces[f, 2]]
        if a != b and b != c and c != a:
            out[n, 0], out[n, 1], out[n, 2] = a, b, c
            source[n] = f
            n += 1
    return n


class Proxy(NamedTuple):
    """A light stand-in.

    Attributes
    ----------
    vertices : ndarray of int32, shape (V',)
        The mesh's vertices that it uses.
    faces : ndarray of int32, shape (P, 3)
        Its triangles, over those.
    source : ndarray of int32, shape (P,)
        The mesh's triangle that each one was.
    """

    vertices: np.ndarray
    faces: np.ndarray
    source: np.ndarray


def light_proxy(
    places: np.ndarray, faces: np.ndarray, worth_from: int = _WORTH_FROM, normals: np.ndarray | None = None
) -> Proxy | None:
    """Coarser triangles over some of a mesh's own vertices, by clustering (Rossignac and Borrel 1993).

    Parameters
    ----------
    places : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    worth_from : int
        Up to how many triangles the mesh is light enough as it is.
    normals : ndarray of float32, shape (V, 3), optional
        Of the vertices: with them the two sides of a thin wall are kept apart.

    Returns
    -------
    Proxy or None
        None where the mesh is light enough itself.
    """
    if len(faces) <= worth_from:
        return None
    low = places.min(axis=0)
    extent = float((places.max(axis=0) - low).max()) or 1.0
    cells = _CELLS
    chosen = np.full(((cells + 1) ** 3, 2), -1, dtype=np.int32)
    of = np.empty(len(places), dtype=np.int32)
    facing = np.empty((0, 3), dtype=np.float32) if normals is None else normals
    _cluster(places, facing, low, cells * 0.9999 / extent, cells + 1, chosen, of, polled_here())
    check_here()
    out, source = np.empty((len(faces), 3), dtype=np.int32), np.empty(len(faces), dtype=np.int32)
    count = _proxy_faces(faces, of, out, source)
    check_here()
    out, source = out[:count].copy(), source[:count].copy()
    # numbered anew, so that what is drawn lies close together
    number = np.full(len(places), -1, dtype=np.int32)
    used = number_used(out, number)
    vertices = np.empty(used, dtype=np.int32)
    known = np.flatnonzero(number >= 0)
    vertices[number[known]] = known
    return Proxy(vertices, number[out], source)
