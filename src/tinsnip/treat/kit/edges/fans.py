"""Splitting vertices whose triangles form several fans."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import MEASURED, SHIFTED, Lineage, Mesh
from tinsnip.mesh.halfedges import ABSENT, corner_fans
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.shells import find_shells
from tinsnip.space.singles import as_files_hold

__all__ = ["cut_fans", "split_fans"]

_PART = 0.02
"""Share of the way into its triangles that a parted vertex is drawn back."""


class _Separated(NamedTuple):
    """Triangles of which each fan has a vertex of its own, and how the fans at shared vertices were told apart."""

    faces: np.ndarray
    kept: np.ndarray
    roots: np.ndarray
    members: np.ndarray
    place: np.ndarray
    size: np.ndarray
    moving: np.ndarray


def _separate(mesh: Mesh, links: np.ndarray) -> _Separated | None:
    corner = mesh.faces.ravel()
    fan = corner_fans(mesh.faces, links)
    roots = np.flatnonzero((fan == np.arange(len(fan))) & (links != ABSENT))
    at = corner[roots]
    fans_at = np.bincount(at, minlength=len(mesh.vertices))
    roots = roots[fans_at[at] > 1]
    if len(roots) == 0:
        return None
    # only the corners at pinched vertices matter from here on
    members = np.flatnonzero(fans_at[corner] > 1)
    members = members[links[members] != ABSENT]
    place = np.searchsorted(roots, fan[members])
    size = np.bincount(place, minlength=len(roots))
    # the fan of the largest surface keeps the vertex, so that a crumb that hangs there does not move it
    sheets = find_shells(mesh.vertices, mesh.faces, links)
    whole = sheets.triangles[sheets.label[roots // 3]]
    order = np.lexsort((roots, -size, -whole, corner[roots]))
    is_first = np.concatenate([[True], corner[roots[order]][1:] != corner[roots[order]][:-1]])
    moving = np.sort(order[~is_first])
    fresh = np.full(len(roots), -1, dtype=np.int64)
    fresh[moving] = len(mesh.vertices) + np.arange(len(moving))
    faces = corner.copy()
    changed = fresh[place] >= 0
    faces[members[changed]] = fresh[place][changed]
    kept = np.concatenate([np.arange(len(mesh.vertices)), corner[roots[moving]]]).astype(np.int32)
    return _Separated(faces.reshape(-1, 3), kept, roots, members, place, size, moving)


def cut_fans(mesh: Mesh, links: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Give every fan of triangles a vertex of its own, all at the same place.

    Parameters
    ----------
    mesh : Mesh
    links : ndarray of int32, shape (3 F,)
        A twin table in which further links may have been cut.

    Returns
    -------
    faces : ndarray of int32, shape (F, 3)
    kept : ndarray of int32, shape (V',)
        The old vertex that each one is.
    """
    found = _separate(mesh, links)
    if found is None:
        return mesh.faces, np.arange(len(mesh.vertices), dtype=np.int32)
    return found.faces, found.kept


def split_fans(mesh: Mesh, links: np.ndarray) -> tuple[Mesh, int]:
    """Give every fan of triangles a vertex of its own.

    The fan of the largest surface keeps the vertex; of several there, the largest. The others draw back from it by a
    fiftieth of an edge, so that a format that welds by place (STL) does not join them again.

    Parameters
    ----------
    mesh : Mesh
    links : ndarray of int32, shape (3 F,)
        A twin table in which further links may have been cut.

    Returns
    -------
    mesh : Mesh
    count : int
        How many vertices were added.
    """
    found = _separate(mesh, links)
    if found is None:
        return mesh, 0
    _, _, roots, members, place, size, moving = found
    corner = mesh.faces.ravel()
    origin = mesh.vertices[corner[roots]]
    following = members - members % 3 + (members + 1) % 3
    preceding = members - members % 3 + (members + 2) % 3
    spokes = 0.5 * (mesh.vertices[corner[following]] + mesh.vertices[corner[preceding]]) - origin[place]
    normals = np.cross(
        mesh.vertices[corner[following]] - origin[place], mesh.vertices[corner[preceding]] - origin[place]
    )
    inward = np.zeros_like(origin)
    normal = np.zeros_like(origin)
    np.add.at(inward, place, spokes)
    np.add.at(normal, place, normals)
    inward /= size[:, None]
    reach = np.zeros(len(roots))
    np.add.at(reach, place, np.linalg.norm(spokes, axis=1))
    reach /= size
    flat = np.linalg.norm(inward, axis=1) < 0.1 * reach
    length = np.linalg.norm(normal, axis=1)
    inward[flat] = -(normal * (reach / np.where(length > 0, length, 1.0))[:, None])[flat]
    drawn_back = as_files_hold((origin + _PART * inward)[moving], mesh.diagonal)
    vertices = np.concatenate([mesh.vertices, drawn_back])
    lineage = Lineage(found.kept, np.arange(len(mesh.faces), dtype=np.int32))
    provenance = mesh.provenance.copy()
    drawn = triangles_at(found.faces, np.arange(len(vertices)) >= len(mesh.vertices))
    provenance[drawn & (provenance == MEASURED)] = SHIFTED
    return mesh.derive(found.faces, lineage, vertices, provenance), len(moving)
