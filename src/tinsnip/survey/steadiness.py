"""How a part stands: how far above the bed, and from what tilt on it would tip over."""

from typing import NamedTuple

import numpy as np
import shapely

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors

__all__ = ["STANDS", "Steadiness", "centre_of_mass", "steadiness_of"]

STANDS = 2e-3
"""Share of its size by which a part may be off the bed, and its foot uneven: scanned feet are not flat."""


class Steadiness(NamedTuple):
    """How a part stands on its lowest points, z up.

    Attributes
    ----------
    height : float
        Of its lowest point above z = 0, mm.
    footprint : float
        Area of the convex outline of what it stands on, mm2.
    inside : float
        How far its centre of mass lies within that outline, seen from above, mm; below 0 outside.
    tips_degrees : float
        The tilt from which on it falls over; below 0 where it falls as it is.
    centre : ndarray, shape (3,)
        Its centre of mass, mm.
    """

    height: float
    footprint: float
    inside: float
    tips_degrees: float
    centre: np.ndarray


def centre_of_mass(mesh: Mesh) -> np.ndarray:
    """Centre of mass of a closed solid of one material, mm, shape (3,): a sum over tetrahedra from its middle.

    Parameters
    ----------
    mesh : Mesh
    """
    middle = mesh.box.mean(axis=0)
    a, b, c = (mesh.vertices[mesh.faces[:, k]] - middle for k in range(3))
    volume = (a * face_vectors(mesh.vertices, mesh.faces)).sum(axis=1)
    total = volume.sum()
    if total == 0:
        return middle
    return middle + (volume[:, None] * (a + b + c)).sum(axis=0) / (4 * total)


def steadiness_of(mesh: Mesh) -> Steadiness:
    """Find how a closed part stands.

    Parameters
    ----------
    mesh : Mesh
        Closed, with at least one triangle.
    """
    low = float(mesh.box[0, 2])
    foot = mesh.vertices[mesh.vertices[:, 2] <= low + STANDS * mesh.diagonal, :2]
    outline = shapely.multipoints(foot).convex_hull
    centre = centre_of_mass(mesh)
    middle = shapely.points(centre[:2])
    inside = -shapely.distance(outline, middle)
    if shapely.covers(outline, middle) and outline.area > 0:
        inside = shapely.distance(shapely.boundary(outline), middle)
    tips = np.degrees(np.arctan2(inside, max(centre[2] - low, 1e-300)))
    return Steadiness(low, float(outline.area), float(inside), float(tips), centre)
