"""Overhang: what faces down too flatly to be printed without support."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors

__all__ = ["BED_SHARE", "Overhang", "overhang_of"]

BED_SHARE = 1e-4
"""What lies no higher than this share of the part's height above its lowest point stands on the bed."""


class Overhang(NamedTuple):
    """What would want support when the part is printed as it stands, z up.

    Attributes
    ----------
    triangles : ndarray of bool, shape (F,)
    area : float
        Theirs, mm2.
    footprint : float
        As seen from below, mm2.
    on_bed : float
        Area that stands on the bed, mm2.
    """

    triangles: np.ndarray
    area: float
    footprint: float
    on_bed: float


def overhang_of(mesh: Mesh, degrees: float) -> Overhang:
    """Find what leans out further than an angle.

    Parameters
    ----------
    mesh : Mesh
    degrees : float
        From the upright: what leans out no further holds by itself. An upright wall leans by 0, a ceiling by 90.

    Returns
    -------
    Overhang
    """
    vectors = face_vectors(mesh.vertices, mesh.faces)
    size = np.linalg.norm(vectors, axis=1)
    leans = -vectors[:, 2] > np.sin(np.radians(degrees)) * size
    low = mesh.box[0, 2] + BED_SHARE * float(mesh.size[2])
    stands = (mesh.vertices[:, 2] <= low)[mesh.faces].all(axis=1) & (vectors[:, 2] < 0)
    wants = leans & ~stands & (size > 0)
    down = -vectors[:, 2]
    return Overhang(wants, float(size[wants].sum()), float(down[wants].sum()), float(size[stands].sum()))
