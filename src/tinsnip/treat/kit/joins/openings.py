"""Places taken out of a surface, with rows round them, and the openings that are left."""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN, fans_of
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import check_here

__all__ = ["Openings", "joined", "rows_about", "taken_out"]


class Openings(NamedTuple):
    """A mesh without some parts of its surface.

    Attributes
    ----------
    mesh : Mesh
    stays : ndarray of int
        The triangle before that each of its triangles is.
    rings : list of ndarray of int
        Vertices round each opening, against the open half-edges.
    ring_part : ndarray of int
        The part of the surface that was taken out within each ring.
    part : ndarray of int, shape (F,)
        Which part each triangle before belongs to; -1 for one that stays.
    at_rim : ndarray of bool
        Parts that reach an edge that was open before.
    """

    mesh: Mesh
    stays: np.ndarray
    rings: list[np.ndarray]
    ring_part: np.ndarray
    part: np.ndarray
    at_rim: np.ndarray


def rows_about(mesh: Mesh, seeds: np.ndarray, count: int) -> np.ndarray:
    """Some triangles and as many rows round them, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    seeds : ndarray of int, shape (K,)
        Triangles.
    count : int
        Rows.
    """
    own = seeds
    for _ in range(count):
        at = np.zeros(len(mesh.vertices), dtype=bool)
        at[mesh.faces[own]] = True
        own = triangles_at(mesh.faces, at)
    return own


def taken_out(mesh: Mesh, chosen: np.ndarray) -> Openings:
    """Take triangles out, bool, shape (F,), with what would hang by a corner or be cut off as a scrap then.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    """
    chosen = chosen.copy()
    was_pinched = fans_of(mesh.faces, mesh.twins, len(mesh.vertices)) > 1
    for _ in range(20):
        check_here()
        stays = np.flatnonzero(~chosen)
        rest = keep_triangles(mesh, stays)
        old = mesh.faces[stays]  # the same triangles over the old vertices
        number = np.full(len(rest.vertices), -1, dtype=np.int64)
        number[rest.faces.ravel()] = old.ravel()
        pinched = np.zeros(len(mesh.vertices), dtype=bool)
        pinched[number[fans_of(rest.faces, rest.twins, len(rest.vertices)) > 1]] = True
        more = triangles_at(mesh.faces, pinched & ~was_pinched) & ~chosen
        shells, count = rest.shells, int(chosen.sum())
        before = mesh.shells
        came_from = before.label[stays[shells.first]]
        scrap = (shells.triangles < before.triangles[came_from]) & (shells.triangles <= max(8, count))
        scrap &= shells.triangles < 0.01 * before.triangles[came_from] + 8
        more[stays[np.append(scrap, False)[shells.label]]] = True
        if not more.any():
            break
        chosen |= more
    part = _parts_of(mesh, chosen)
    rings, ring_part = [], []
    corner, was_open = rest.faces.ravel(), mesh.twins[(3 * stays[:, None] + np.arange(3)).ravel()] == OPEN
    loops = rest.loops
    part_at = np.full(len(mesh.vertices), -1, dtype=np.int64)
    part_at[mesh.faces[chosen]] = part[chosen][:, None]
    at_rim = np.zeros(int(part.max()) + 1, dtype=bool)
    for i in range(len(loops)):
        half = loops.loop(i)
        if was_open[half].all():
            continue
        owner = part_at[number[corner[half]]]
        owner = owner[owner >= 0]
        if was_open[half].any():
            at_rim[owner] = True
            continue
        rings.append(corner[half][::-1])
        ring_part.append(owner[0])
    return Openings(rest, stays, rings, np.array(ring_part, dtype=np.int64), part, at_rim)


def _parts_of(mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
    """The part of the surface that each chosen triangle belongs to, int, shape (F,): touching ones to one; else -1."""
    own = np.flatnonzero(chosen)
    corners, at = np.unique(mesh.faces[own], return_inverse=True)
    touch = np.column_stack([np.repeat(np.arange(len(own)), 3), len(own) + at.ravel()])
    part = np.full(len(mesh.faces), -1, dtype=np.int64)
    part[own] = np.unique(joined(touch, len(own) + len(corners))[: len(own)], return_inverse=True)[1]
    return part


def joined(links: np.ndarray, count: int) -> np.ndarray:
    """The lot that each of some things belongs to, int, by pairs of them that belong together, shape (L, 2).

    Parameters
    ----------
    links : ndarray of int, shape (L, 2)
    count : int
        Things.
    """
    graph = coo_matrix((np.ones(len(links)), (links[:, 0], links[:, 1])), shape=(count, count))
    return connected_components(graph, directed=False)[1]
