"""The planes that open rims are closed onto: which rims lie in one, and which way the base there faces."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.survey.holes import ROUGH, SHEET_LIKE, WITHIN_ROUGHNESS, Boundaries, classify_boundaries
from tinsnip.treat.kit.edges.footing import footed

__all__ = ["FLAT", "base_facing", "height_along", "rims_by_plane", "with_feet_closed"]

FLAT = 1e-6
"""Share of the part's size within which a rim lies in a plane."""
_UPRIGHT = 0.966  # within 15 degrees of straight down the base is level
_RAGGED = 0.1
"""Share of its span within which a rim lies along its plane, if it is a foot."""
_MOST_FEET = 50
"""More rims than that are no feet, but what is left of a torn surface."""


def height_along(points: np.ndarray, normal: np.ndarray) -> float:
    """How far points, shape (N, 3), reach along a unit normal, mm.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In mm.
    normal : ndarray, shape (3,)
        Unit.
    """
    return float(np.ptp(points @ normal))


def base_facing(vector_area: np.ndarray, is_level: bool = True) -> np.ndarray:
    """The way the base of a rim faces, unit, by the rim's vector area; straight down where it is nearly so.

    Parameters
    ----------
    vector_area : ndarray, shape (3,)
        In mm2.
    is_level : bool
        Whether bases that are nearly level are to be level.
    """
    size = float(np.linalg.norm(vector_area))
    outward = -vector_area / size if size > 0 else np.array([0.0, 0.0, -1.0])
    return np.array([0.0, 0.0, -1.0]) if is_level and -outward[2] > _UPRIGHT else outward


def rims_by_plane(
    mesh: Mesh, rings: dict[int, np.ndarray], boundaries: Boundaries
) -> list[tuple[list[int], np.ndarray]]:
    """Group rims of one cut, the widest first; each group with the outward normal of its base.

    A flat rim takes the rims in its very plane along, a ragged one those of its shell within its own roughness.

    Parameters
    ----------
    mesh : Mesh
    rings : dict of int to ndarray of int
        Vertices of each loop, in order.
    boundaries : Boundaries
    """
    left = sorted(rings, key=lambda i: -boundaries.span[i])
    groups = []
    while left:
        first = left.pop(0)
        area = boundaries.vector_area[first]
        outward = base_facing(area, is_level=False)
        group = [first]
        level = float(mesh.vertices[rings[first]].mean(axis=0) @ outward)
        rough = float(np.abs(mesh.vertices[rings[first]] @ outward - level).max())
        flat = height_along(mesh.vertices[rings[first]], outward) <= FLAT * mesh.diagonal
        if flat or rough <= ROUGH * boundaries.span[first]:
            allowed = FLAT * mesh.diagonal if flat else WITHIN_ROUGHNESS * rough
            for i in list(left):
                same = flat or boundaries.shell[i] == boundaries.shell[first]
                if same and np.abs(mesh.vertices[rings[i]] @ outward - level).max() <= allowed:
                    group.append(i)
                    left.remove(i)
        if not flat:
            outward = base_facing(area)
        groups.append((group, outward))
    return groups


def with_feet_closed(mesh: Mesh) -> Mesh:
    """A mesh whose open feet are closed onto planes, however it is tangled elsewhere; what is new comes last.

    It bounds what the part encloses, and need be no sound surface. Edges of sheets stay open.

    Parameters
    ----------
    mesh : Mesh
    """
    measured = classify_boundaries(mesh)
    rims = np.flatnonzero(measured.is_rim & (measured.facing < SHEET_LIKE))
    if len(rims) == 0 or len(rims) > _MOST_FEET:
        return mesh
    corner = mesh.faces.ravel()
    rings = {int(i): corner[mesh.loops.loop(i)] for i in rims}
    for group, outward in rims_by_plane(mesh, rings, measured):
        loops = [rings[i] for i in group]
        points = mesh.vertices[np.concatenate(loops)]
        if height_along(points, outward) > _RAGGED * measured.span[group].max():
            continue
        level = float((points @ outward).max())
        mesh = footed(mesh, loops, outward, level, "straight", 0.0)
    return mesh
