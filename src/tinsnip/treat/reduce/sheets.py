"""A tangled mesh cut into clean sheets, so that what lies between the tangles can be worked on."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import ABSENT, OPEN, fans_of
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.subsets import number_used
from tinsnip.treat.kit.edges.fans import cut_fans
from tinsnip.treat.reduce.record import Level

__all__ = ["Sheets", "as_sheets", "cut_into_sheets", "is_clean"]


class Sheets(NamedTuple):
    """A mesh cut along its tangled and flipped edges and at its pinched vertices.

    Attributes
    ----------
    vertices : ndarray, shape (V', 3)
    faces : ndarray of int32, shape (F', 3)
        Without those that repeat an index.
    twins : ndarray of int32, shape (3 F',)
    origin : ndarray of int32, shape (V',)
        The mesh's vertex that each one is.
    triangle : ndarray of int32, shape (F',)
        The mesh's triangle that each one is.
    held : ndarray of bool, shape (V',)
        Vertices along the cuts and next to them: while they stay, the sheets fit together as they did, and no
        edge can come to have more triangles than it had.
    """

    vertices: np.ndarray
    faces: np.ndarray
    twins: np.ndarray
    origin: np.ndarray
    triangle: np.ndarray
    held: np.ndarray

    def join(self, level: Level) -> Level:
        """Put the sheets of a reduced mesh together again along the cuts."""
        source = self.origin[level.source]
        owner = np.full(int(self.origin.max()) + 1 if len(self.origin) else 0, -1, dtype=np.int64)
        index = np.arange(len(source))
        owner[source[::-1]] = index[::-1]  # the first of each vertex's copies
        whole = self.held[level.source]
        joined = np.where(whole, owner[source], index)
        stays = joined == index
        number = np.cumsum(stays, dtype=np.int32) - 1
        faces = number[joined][level.faces].astype(np.int32)
        return Level(level.vertices[stays], faces, source[stays], self.triangle[level.parent])


def is_clean(mesh: Mesh) -> bool:
    """Whether a mesh is manifold and turned one way, so that it need not be cut.

    Parameters
    ----------
    mesh : Mesh
    """
    fans = fans_of(mesh.faces, mesh.twins, len(mesh.vertices))
    return bool((mesh.twins >= OPEN).all() and not mesh.edges.flipped and (fans == 1).all())


def as_sheets(mesh: Mesh) -> Sheets:
    """A mesh as it is where it is clean, and cut into sheets where it is not.

    Parameters
    ----------
    mesh : Mesh
    """
    if not is_clean(mesh):
        return cut_into_sheets(mesh)
    every = (np.arange(len(rows), dtype=np.int32) for rows in (mesh.vertices, mesh.faces))
    return Sheets(mesh.vertices, mesh.faces, mesh.twins, *every, np.zeros(len(mesh.vertices), dtype=bool))


def cut_into_sheets(mesh: Mesh) -> Sheets:
    """Cut a mesh so that each piece is manifold and turned one way.

    Parameters
    ----------
    mesh : Mesh
        Without unused vertices.

    Returns
    -------
    Sheets
    """
    faces, twins = mesh.faces, mesh.twins
    corner = faces.ravel()
    links = twins.copy()
    own = np.flatnonzero(twins >= 0)
    flipped = own[corner[own] == corner[twins[own]]]
    links[flipped] = OPEN
    links[(twins < OPEN) & (twins != ABSENT)] = OPEN
    sheets, origin = cut_fans(mesh, links)
    torn = np.zeros(len(mesh.vertices), dtype=bool)
    half = np.flatnonzero(links != twins)
    torn[corner[half]] = torn[corner[half - half % 3 + (half + 1) % 3]] = True
    torn[origin[len(mesh.vertices) :]] = True
    near = np.zeros(len(origin), dtype=bool)
    near[sheets[triangles_at(sheets, torn[origin])]] = True

    triangle = np.flatnonzero(twins[::3] != ABSENT).astype(np.int32)
    kept = (3 * triangle[:, None] + np.arange(3)).ravel()
    new_half = np.full(3 * len(faces), OPEN, dtype=np.int64)
    new_half[kept] = np.arange(len(kept))
    links = links[kept]
    number = np.full(len(origin), -1, dtype=np.int32)
    number_used(np.ascontiguousarray(sheets[triangle]), number)
    used = np.flatnonzero(number >= 0)
    return Sheets(
        mesh.vertices[origin[used]],
        number[sheets[triangle]],
        np.where(links >= 0, new_half[links], links).astype(np.int32),
        origin[used],
        triangle,
        near[used],
    )
