"""Lids: what would fill a vessel, where only the upper part of its inside was scanned.

An open edge that runs round a cavity, with a thin wall behind it, ends somewhere within the vessel. A base or a patch
there is a lid: all that lies below it would become solid.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import polled_here
from tinsnip.space.tree import first_hits
from tinsnip.survey.enclosing import volumes_closed
from tinsnip.survey.holes import classify_boundaries
from tinsnip.words import counted

__all__ = ["Lid", "describe_lids", "lids_of"]

_FACES_THE_MIDDLE = 0.5
"""The surface along a cavity's edge faces the middle of that edge, by this mean cosine: round a foot it is below 0."""
_THIN = 0.2
"""The wall behind it is thinner than this share of the edge's span: behind an unfinished bore lies far more."""
_NEARLY_ALL = 0.8
_FILLS = 0.5
"""What a lid fills counts from this share of all else that the part encloses."""
_MOST_RAYS = 300
"""About so many rays tell how deep a vessel is."""


class Lid(NamedTuple):
    """What closing an edge would fill.

    Attributes
    ----------
    loop : int
        The number of its boundary loop.
    fills_mm3, else_mm3 : float
        Below it, and in all the rest of the part.
    wall_mm : float
        Thickness of the wall behind the edge, in the middle.
    """

    loop: int
    fills_mm3: float
    else_mm3: float
    wall_mm: float


@remembered
def lids_of(mesh: Mesh) -> tuple[Lid, ...]:
    """The open edges of a mesh whose closing would fill what is plainly a vessel.

    Parameters
    ----------
    mesh : Mesh
    """
    boundaries = classify_boundaries(mesh)
    corner, found, enclosed = mesh.faces.ravel(), [], None
    for i in np.flatnonzero((boundaries.is_rim | boundaries.is_hole) & (boundaries.mouth < 0)):
        half = mesh.loops.loop(i)
        points = mesh.vertices[corner[half]]
        following = np.roll(points, -1, axis=0)
        normals = face_vectors(mesh.vertices, mesh.faces[half // 3])
        normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
        inward = boundaries.centre[i] - points
        inward /= np.maximum(np.linalg.norm(inward, axis=1), 1e-300)[:, None]
        if (normals * inward).sum(axis=1).mean() < _FACES_THE_MIDDLE:
            continue
        wall = _wall_behind(mesh, half // 3, normals)
        if not wall < _THIN * boundaries.span[i]:
            continue
        depth = _depth_below(mesh, points, np.cross(following - points, normals).sum(axis=0), boundaries.centre[i])
        fills = depth * float(np.linalg.norm(boundaries.vector_area[i]))
        enclosed = float(volumes_closed(mesh).sum()) if enclosed is None else enclosed
        others = enclosed - fills
        if fills > _FILLS * max(others, 0.0):
            found.append(Lid(int(i), fills, max(others, 0.0), wall))
    return tuple(found)


def _wall_behind(mesh: Mesh, triangles: np.ndarray, normals: np.ndarray) -> float:
    """Thickness of the wall along an edge, mm, in the middle; infinite where there mostly is none."""
    some = slice(None, None, max(1, len(triangles) // _MOST_RAYS))
    origins = mesh.vertices[mesh.faces[triangles[some]]].mean(axis=1) - 1e-6 * mesh.diagonal * normals[some]
    along, _ = first_hits(mesh.tree, origins, -normals[some], polled_here())
    return float(np.median(along)) if np.isfinite(along).mean() > _NEARLY_ALL else np.inf


def _depth_below(mesh: Mesh, points: np.ndarray, way: np.ndarray, centre: np.ndarray) -> float:
    """How far it is from within an edge to what lies beyond it, mm, in the mean; 0 where mostly nothing does."""
    size = float(np.linalg.norm(way))
    if not size > 0:
        return 0.0
    some = points[:: max(1, 3 * len(points) // _MOST_RAYS)]
    origins = np.concatenate([centre + share * (some - centre) for share in (0.3, 0.6, 0.85)])
    along, hit = first_hits(mesh.tree, origins, np.broadcast_to(way / size, origins.shape), polled_here())
    met = hit >= 0
    return float(along[met].mean()) if met.mean() > _NEARLY_ALL else 0.0


def describe_lids(lids: list[Lid]) -> str:
    """What closing these edges would fill, in one line.

    Parameters
    ----------
    lids : list of Lid
    """
    fills, others = sum(lid.fills_mm3 for lid in lids), min(lid.else_mm3 for lid in lids)
    times = f", {fills / others:.2g} times all the rest" if others > 0 else ""
    what = "an inner wall ends" if len(lids) == 1 else f"{counted(len(lids), 'inner wall')} end"
    return (
        f"{what} within a vessel whose wall is {lids[0].wall_mm:.2g} mm thick: closed there, {fills / 1000:.3g} cm³ "
        f"below would become solid{times}"
    )
