"""What shells enclose once their openings are closed straight across."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.survey.holes import classify_boundaries

__all__ = ["volumes_closed"]


def volumes_closed(mesh: Mesh) -> np.ndarray:
    """The volume of each shell with every opening closed by a fan from its middle, mm3, shape (S,).

    Below zero for a shell that faces inward.

    Parameters
    ----------
    mesh : Mesh

    Examples
    --------
    >>> from tinsnip.demo.meshes import grid_torus
    >>> ring = Mesh(*grid_torus(2_000))
    >>> holed = Mesh(ring.vertices, ring.faces[7:])
    >>> round(float(volumes_closed(holed)[0] / ring.shells.volume[0]), 2)
    1.0
    """
    shells, volume, loops = mesh.shells, mesh.shells.volume.copy(), mesh.loops
    if len(loops) == 0:
        return volume
    boundaries = classify_boundaries(mesh)
    corner, half = mesh.faces.ravel(), loops.halfedges
    a, b = mesh.vertices[corner[half]], mesh.vertices[corner[half - half % 3 + (half + 1) % 3]]
    count = np.diff(loops.start)
    middle, own = np.repeat(boundaries.centre, count, axis=0), np.repeat(boundaries.shell, count)
    origin = mesh.vertices[mesh.faces[shells.first[own], 0]]
    fans = np.einsum("ij,ij->i", b - origin, np.cross(a - origin, middle - origin)) / 6.0
    return volume + np.bincount(own, weights=fans, minlength=len(shells))
