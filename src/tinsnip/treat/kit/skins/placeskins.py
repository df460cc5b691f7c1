"""The skin of one place: what of the part's volume ends there, in cells of about the local edge."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import fans_of, twin_table
from tinsnip.mesh.measures import face_vectors, triangles_at
from tinsnip.mesh.shells import find_shells
from tinsnip.progress import check_here, polled_here
from tinsnip.space.lattice import MARGIN
from tinsnip.space.tree import closest_points
from tinsnip.space.winding import Winding
from tinsnip.treat.kit.skins.recasting import cleared, pulled_back, surface_between

__all__ = ["PlaceSkin", "level_round", "skin_of_place", "turns_beside"]

_MOST_CELLS = 600
"""Cells along the longest side of a place; larger ones get no skin."""
_BESIDE = 0.2
"""How far off a triangle its two sides are asked about, in cells."""
_ALIKE = 0.3
"""Rings whose surfaces' middle winding numbers differ by less lie in one shell of the part."""
_CLEANING = 8
"""Rounds of clearing up after a skin was put in."""


class PlaceSkin(NamedTuple):
    """The piece of skin that replaces a place, open along the rings it is sewn to.

    Attributes
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    seen : ndarray of bool, shape (V,)
        What lies along the surface that was there; all else is made up.
    nearest : ndarray of int32, shape (V,)
        The triangle of the part next to each.
    foot : ndarray, shape (V, 3)
        The place on it.
    away : ndarray, shape (V,)
        How far each lies off it, mm.
    step : float
        Width of its cells, mm.
    """

    vertices: np.ndarray
    faces: np.ndarray
    seen: np.ndarray
    nearest: np.ndarray
    foot: np.ndarray
    away: np.ndarray
    step: float


class _Levelled:
    """Winding numbers of a part, raised so that one level of them becomes a half."""

    def __init__(self, field: Winding, level: float) -> None:
        self.vertices, self.faces, self.tree, self._field = field.vertices, field.faces, field.tree, field
        self._rise = 0.5 - level

    def at(self, points: np.ndarray, *far: float) -> np.ndarray:
        return self._field.at(points, *far) + self._rise


def turns_beside(field: Winding, triangles: np.ndarray, step: float) -> tuple[np.ndarray, np.ndarray]:
    """Winding numbers in front of some triangles and behind them, a little way off, in cells of a width, mm.

    Parameters
    ----------
    field : Winding
    triangles : ndarray of int, shape (K,)
    step : float
        In mm.
    """
    faces = field.faces[triangles]
    normals = face_vectors(field.vertices, faces)
    normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
    middle = field.vertices[faces].mean(axis=1)
    out, within = (field.at(middle + side * _BESIDE * step * normals, 4.0) for side in (1, -1))
    return out, within


def level_round(field: Winding, beside: list[np.ndarray], step: float) -> float | None:
    """The winding number halfway between both sides of the surface round a place.

    It is a half round a closed part, less or more where the part is open, and one more within another shell; of several
    rings the outermost count.

    Parameters
    ----------
    field : Winding
    beside : list of ndarray of int
        The triangles next to each ring.
    step : float
        Width of a cell, mm.

    Returns
    -------
    float or None
        None where the surface has no clear side.
    """
    middles = []
    for own in beside:
        sound = own[np.linalg.norm(face_vectors(field.vertices, field.faces[own]), axis=1) > 0]
        if len(sound):
            out, within = turns_beside(field, sound, step)
            middles.append(float(np.median(0.5 * (out + within))))
    if not middles:
        return None
    lowest = np.array(middles)
    return float(np.median(lowest[lowest < lowest.min() + _ALIKE]))


def skin_of_place(
    mesh: Mesh, field: Winding, own: np.ndarray, inner: np.ndarray, level: float, step: float
) -> PlaceSkin | None:
    """Draw the skin of one place.

    Parameters
    ----------
    mesh : Mesh
    field : Winding
        Of all of it.
    own : ndarray of bool, shape (F,)
        The triangles of the place.
    inner : ndarray of bool, shape (F,)
        Those of them whose skin is wanted; along the others it will be sewn to what stays.
    level : float
        The winding number that parts inside from outside.
    step : float
        Width of a cell, mm.

    Returns
    -------
    PlaceSkin or None
        None where no skin goes through the place, or it crosses itself.
    """
    used = np.unique(mesh.faces[own])
    box = np.stack([mesh.vertices[used].min(axis=0), mesh.vertices[used].max(axis=0)])
    if float((box[1] - box[0]).max()) > _MOST_CELLS * step:
        return None
    made = surface_between(_Levelled(field, level), step, box=box)
    check_here()
    if len(made.faces) == 0:
        return None
    foot = np.empty_like(made.vertices)
    away, nearest = closest_points(field.tree, made.vertices, polled_here(), foot)
    # cut off along the lattice's own border
    low, high = box[0] - 0.5 * MARGIN * step, box[1] + 0.5 * MARGIN * step
    wanted = ((made.vertices > low) & (made.vertices < high)).all(axis=1)
    wanted &= np.where(made.seen, inner[nearest], own[nearest])
    faces = _tidied(made.faces, made.faces[wanted[made.faces].all(axis=1)])
    if len(faces) == 0:
        return None
    kept, local = np.unique(faces, return_inverse=True)
    faces = local.reshape(-1, 3).astype(np.int32)
    made = made._replace(vertices=made.vertices[kept], middles=made.middles[kept], faces=faces, seen=made.seen[kept])
    places, crossings = cleared(made, pulled_back(made, foot[kept], away[kept], step))
    if crossings:
        return None
    return PlaceSkin(places, faces, made.seen, nearest[kept], foot[kept], away[kept], step)


def _tidied(whole: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Some triangles of a closed surface without those that hang by a corner, and without shells that close."""
    count = int(whole.max()) + 1
    for _ in range(_CLEANING):
        if len(faces) == 0:
            break
        twins = twin_table(faces, count)
        pinched = fans_of(faces, twins, count) > 1
        edges = (twins.reshape(-1, 3) < 0).sum(axis=1)
        gone = triangles_at(faces, pinched) | (edges > 1)
        if not gone.any():
            break
        faces = faces[~gone]
    if len(faces) == 0:
        return faces
    twins = twin_table(faces, count)
    label = find_shells(np.zeros((count, 3)), faces, twins).label
    is_open = np.bincount(label, weights=(twins.reshape(-1, 3) < 0).any(axis=1)) > 0
    return np.ascontiguousarray(faces[is_open[label]])
