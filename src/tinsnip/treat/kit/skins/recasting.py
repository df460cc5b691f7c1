"""A part made anew as one closed skin: from a lattice round it, pulled back onto the raw surface, without crossings."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

import numpy as np
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import MADE, SHIFTED, Lineage, Mesh
from tinsnip.mesh.measures import corner_shares, face_vectors, triangles_at
from tinsnip.progress import Progress, check_here, polled_here
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.space.dualsurface import DualSurface, dual_surface, nodes_to_turn
from tinsnip.space.lattice import lay_into_lattice, spread_lattice
from tinsnip.space.singles import as_files_hold
from tinsnip.space.tree import closest_points
from tinsnip.space.welding import weld_exact
from tinsnip.space.winding import Winding

__all__ = [
    "Skin",
    "blends_at",
    "cleared",
    "pulled_back",
    "recast_surface",
    "sound_triangles",
    "surface_between",
    "with_raw_values",
]

_MOST_TURNS = 40
_PULL = 0.5
"""Vertices go back onto the raw surface where it is closer than this, in steps."""
_SETTLING = 10
"""Rounds in which what was not seen settles."""
_CLEARING = 12
"""Rounds of clearing up."""


class Skin(NamedTuple):
    """A closed skin.

    Attributes
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    seen : ndarray of bool, shape (V,)
        What lies along the raw surface; all else is made up.
    nearest : ndarray of int32, shape (V,)
        The raw triangle next to each.
    foot : ndarray, shape (V, 3)
        The place on it.
    away : ndarray, shape (V,)
        How far each lies off it, mm.
    crossings : int
        How many pairs of its triangles cross all the same.
    """

    vertices: np.ndarray
    faces: np.ndarray
    seen: np.ndarray
    nearest: np.ndarray
    foot: np.ndarray
    away: np.ndarray
    crossings: int


def sound_triangles(mesh: Mesh) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The triangles that span an area, over vertices of which no two lie at one place; and the numbers they had.

    Parameters
    ----------
    mesh : Mesh
    """
    index, first = weld_exact(mesh.vertices)
    faces = index[mesh.faces].astype(np.int32)
    sound = np.flatnonzero(np.linalg.norm(face_vectors(mesh.vertices, mesh.faces), axis=1) > 0)
    return np.ascontiguousarray(mesh.vertices[first]), np.ascontiguousarray(faces[sound]), sound


@kernel
def _settled(faces, places, free, rounds):
    """Free vertices between their neighbours, again and again."""
    total, count = np.empty(places.shape), np.empty(places.shape[0])
    for _ in range(rounds):
        total[:] = 0.0
        count[:] = 0.0
        for t in range(faces.shape[0]):
            for k in range(3):
                v = faces[t, k]
                if free[v]:
                    a, b = faces[t, (k + 1) % 3], faces[t, (k + 2) % 3]
                    count[v] += 2.0
                    for i in range(3):
                        total[v, i] += places[a, i] + places[b, i]
        for v in range(places.shape[0]):
            if free[v] and count[v] > 0:
                for i in range(3):
                    places[v, i] = 0.5 * places[v, i] + 0.5 * total[v, i] / count[v]


def surface_between(
    field: Winding, step: float, progress: Progress | None = None, box: np.ndarray | None = None
) -> DualSurface:
    """The surface between what lies within another and what does not.

    Parameters
    ----------
    field : Winding
        The other surface; what has more than half a turn round it lies within.
    step : float
        Width of a cell, mm.
    progress : Progress, optional
    box : ndarray, shape (2, 3), optional
        Where it is wanted, mm; it is cut off some cells beyond. All of it by default.
    """
    with _part(progress, 0.0, 0.15, "Laying the part into a lattice"):
        lattice, near = lay_into_lattice(field, step, box=box)
    with _part(progress, 0.15, 0.8, "Telling inside from outside"):
        lattice = spread_lattice(lattice, field, near, tells=progress is not None)
    with _part(progress, 0.8, 0.88, "Telling inside from outside"):
        for _ in range(_MOST_TURNS):
            turn = nodes_to_turn(lattice)
            if len(turn) == 0:
                break
            lattice.inside[turn] = True
            lattice = spread_lattice(lattice, field, near, np.unique(turn // 64))
    with _part(progress, 0.88, 1.0, "Drawing the skin"):
        normals = face_vectors(field.vertices, field.faces)
        normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
        return dual_surface(lattice, normals)


@contextmanager
def _part(progress: Progress | None, low: float, high: float, label: str) -> Iterator[None]:
    """A step that takes a share of the time, by how long each took on a scan of 500 thousand triangles."""
    if progress is None:
        yield
        return
    with progress.part(low, high):
        progress.step(label)
        yield


def recast_surface(
    vertices: np.ndarray, faces: np.ndarray, step: float, progress: Progress, invented: np.ndarray | None = None
) -> Skin:
    """Lay a closed skin round what triangles enclose, whatever is wrong with them.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        No two at one place.
    faces : ndarray of int32, shape (F, 3)
    step : float
        Width of a cell, mm.
    progress : Progress
    invented : ndarray of bool, shape (F,), optional
        Triangles that are no raw surface.

    Raises
    ------
    BadInput
        When they enclose nothing.
    """
    field = Winding(vertices, faces)
    with progress.part(0.0, 0.65):
        made = surface_between(field, step, progress)
    if len(made.faces) == 0:
        raise BadInput(
            "the surface encloses nothing that could be recast; give the smallest wall that sheets shall have"
        )
    with progress.part(0.65, 0.77):
        progress.step("Pulling the skin back onto the scan")
        foot = np.empty_like(made.vertices)
        away, nearest = closest_points(field.tree, made.vertices, polled_here(), foot)
        check_here()
    seen = made.seen if invented is None else made.seen & ~invented[nearest]
    with progress.part(0.77, 1.0):
        progress.step("Looking for crossings")
        places, crossings = cleared(made, pulled_back(made, foot, away, step))
    size = float(np.linalg.norm(np.ptp(vertices, axis=0)))
    return Skin(as_files_hold(places, size), made.faces, seen, nearest, foot, away, crossings)


def pulled_back(made: DualSurface, foot: np.ndarray, away: np.ndarray, step: float) -> np.ndarray:
    """Where the vertices of a skin come to lie: on the raw surface where that is near, else between their neighbours.

    Parameters
    ----------
    made : DualSurface
    foot : ndarray, shape (V, 3)
        The place on the raw surface next to each of its vertices.
    away : ndarray, shape (V,)
        How far off that lies, mm.
    step : float
        Width of a cell, mm.

    Returns
    -------
    ndarray, shape (V, 3)
    """
    pulled = made.vertices.copy()
    back = made.seen & (away <= _PULL * step)
    pulled[back] = foot[back]
    _settled(made.faces, pulled, ~made.seen, _SETTLING)
    return pulled


def cleared(made: DualSurface, places: np.ndarray, asked: np.ndarray | None = None) -> tuple[np.ndarray, int]:
    """Put vertices of triangles that cross back to plainer places, then between their neighbours, until none does.

    Parameters
    ----------
    made : DualSurface
    places : ndarray, shape (V, 3)
        Where its vertices were brought, mm.
    asked : ndarray of int, optional
        Triangles that are looked at for what they cross; by default all.

    Returns
    -------
    places : ndarray, shape (V, 3)
    crossings : int
        How many pairs of triangles cross all the same.
    """
    size = float(np.linalg.norm(np.ptp(places, axis=0)))
    places = as_files_hold(places, size)
    level = np.zeros(len(places), dtype=np.int8)
    pairs = np.concatenate(crossings_and_folds(places, made.faces, asked))
    for _ in range(_CLEARING):
        if len(pairs) == 0:
            break
        bad = np.unique(made.faces[pairs.ravel()])
        level[bad] += 1
        for step, plain in ((1, made.vertices), (2, made.middles)):
            some = bad[level[bad] == step]
            places[some] = plain[some]
        moved = np.zeros(len(places), dtype=bool)
        moved[bad[level[bad] > 2]] = True
        if moved.any():
            own = made.faces[triangles_at(made.faces, moved)]
            _settled(own, places, moved, 1)
        moved[bad] = True
        places[bad] = as_files_hold(places[bad], size)
        touched = np.flatnonzero(triangles_at(made.faces, moved))
        pairs = np.concatenate(crossings_and_folds(places, made.faces, touched))
    return places, len(pairs)


def blends_at(mesh: Mesh, sound: np.ndarray, foot: np.ndarray, nearest: np.ndarray) -> sparse.csr_matrix:
    """What values at places on the surface are mixed from: the corners of the triangle each lies on.

    Parameters
    ----------
    mesh : Mesh
    sound : ndarray of int, shape (F,)
        Its triangle that each raw triangle is.
    foot : ndarray, shape (N, 3)
    nearest : ndarray of int, shape (N,)
        The raw triangle that each place lies on.

    Returns
    -------
    csr_matrix, shape (N, V)
    """
    count, corners = len(foot), mesh.faces[sound[nearest]].astype(np.int64)
    share = corner_shares(foot, *(mesh.vertices[corners[:, k]] for k in range(3)))
    rows = np.repeat(np.arange(count), 3)
    return sparse.csr_matrix((share.ravel(), (rows, corners.ravel())), shape=(count, len(mesh.vertices)))


def with_raw_values(mesh: Mesh, sound: np.ndarray, cast: Skin) -> Mesh:
    """The skin as a successor of the mesh it was made of: colours from there, and what was made said.

    Parameters
    ----------
    mesh : Mesh
    sound : ndarray of int, shape (F,)
        Its triangle that each raw triangle is.
    cast : Skin
    """
    nearest = np.minimum(cast.nearest, len(sound) - 1)
    blends, own = blends_at(mesh, sound, cast.foot, nearest), sound[nearest]
    parents = own[cast.faces[:, 0]]
    nowhere = np.full(3 * len(cast.faces), -1, dtype=np.int64)
    lineage = Lineage(np.empty(0, dtype=np.int64), parents, blends, nowhere)
    provenance = np.where(cast.seen[cast.faces].all(axis=1), SHIFTED, MADE).astype(np.uint8)
    provenance = np.maximum(provenance, np.where(mesh.provenance[parents] == MADE, MADE, 0)).astype(np.uint8)
    return mesh.derive(cast.faces, lineage, cast.vertices, provenance)
