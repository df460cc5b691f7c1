"""Islands: pieces of measured surface that lie free within a hole, and belong to the surface round it.

The second edge of a mouth lies in the first as an island's edge does in its hole.
"""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here
from tinsnip.space.polygons import plane_axes
from tinsnip.survey.holes import SHEET_EDGE, classify_boundaries

__all__ = ["islands_of", "shells_that_are_islands"]

_FEWEST = 12
_FACING = 0.7
"""An island faces as the surface round its hole, by this cosine; and its own triangles face one way."""
_OFF = 0.15
"""It lies within the heights of the hole's edge, and this share of the hole's span beyond."""
_CLEAR = 0.1
"""It is clear of the hole's edge by this share of an edge; what lies along it is a seam, not an island."""


@remembered
def islands_of(mesh: Mesh) -> dict[int, tuple[int, ...]]:
    """The islands in each hole that has some.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    dict of int to tuple of int
        Numbers of loops: that of a hole, and those of the islands in it.
    """
    boundaries, loops, shells = classify_boundaries(mesh), mesh.loops, mesh.shells
    holes = np.flatnonzero(boundaries.is_hole)
    if len(holes) == 0 or len(shells) < 2:
        return {}
    mouths = {int(i): (int(boundaries.mouth[i]),) for i in holes if boundaries.mouth[i] >= 0}
    # a sheet's own edge
    free = ~boundaries.is_hole & (boundaries.mouth < 0) & (boundaries.facing > SHEET_EDGE)
    free &= shells.triangles[boundaries.shell] >= _FEWEST
    free = np.flatnonzero(free)
    if len(free) == 0:
        return mouths
    holes = holes[boundaries.mouth[holes] < 0]
    corner, found, taken = mesh.faces.ravel(), {}, np.zeros(len(loops), dtype=bool)
    for hole in holes[np.argsort(boundaries.span[holes], kind="stable")]:  # the smallest that goes round it has it
        near = np.abs(boundaries.centre[free] - boundaries.centre[hole]).max(axis=1) < boundaries.span[hole]
        near &= (boundaries.span[free] < boundaries.span[hole]) & ~taken[free]
        near &= shells.area[boundaries.shell[free]] < shells.area[boundaries.shell[hole]]
        if not near.any():
            continue
        check_here()
        edge = mesh.vertices[corner[loops.loop(hole)]]
        within = [i for i in free[near] if _lies_within(mesh, edge, boundaries.vector_area[hole], i)]
        if within:
            taken[within] = True
            found[int(hole)] = tuple(int(i) for i in within)
    return mouths | found


def _lies_within(mesh: Mesh, edge: np.ndarray, vector_area: np.ndarray, loop: int) -> bool:
    """Whether the sheet that a loop goes round lies in the hole that has this edge, as if cut out of it."""
    size = float(np.linalg.norm(vector_area))
    if not size > 0:
        return False
    half = mesh.loops.loop(loop)
    points = mesh.vertices[mesh.faces.ravel()[half]]
    normal, middle = -vector_area / size, edge.mean(axis=0)  # the surface's own side
    axes = np.stack([*plane_axes(normal), normal], axis=1)
    round_it, own = (edge - middle) @ axes, (points - middle) @ axes
    span = float(np.linalg.norm(np.ptp(round_it[:, :2], axis=0)))
    low, high = round_it[:, 2].min() - _OFF * span, round_it[:, 2].max() + _OFF * span
    if own[:, 2].min() < low or own[:, 2].max() > high or not _inside(round_it[:, :2], own[:, :2]).all():
        return False
    step = float(np.linalg.norm(np.roll(edge, -1, axis=0) - edge, axis=1).mean())
    nearest = min(float(((edge - p) ** 2).sum(axis=1).min()) for p in points)
    if nearest < (_CLEAR * step) ** 2:
        return False
    shell = mesh.shells.label[half[0] // 3]
    vectors = face_vectors(mesh.vertices, mesh.faces[mesh.shells.label == shell])
    return float((vectors @ normal).sum()) > _FACING * float(np.linalg.norm(vectors, axis=1).sum())


def _inside(ring: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Even-odd test of points against a ring, both in a plane; bool."""
    a, b = ring, np.roll(ring, -1, axis=0)
    spans = (a[:, 1] > points[:, 1:]) != (b[:, 1] > points[:, 1:])
    rise = np.where(b[:, 1] != a[:, 1], b[:, 1] - a[:, 1], 1.0)
    at = a[:, 0] + (points[:, 1:] - a[:, 1]) / rise * (b[:, 0] - a[:, 0])
    return (spans & (at > points[:, :1])).sum(axis=1) % 2 == 1


def shells_that_are_islands(mesh: Mesh) -> np.ndarray:
    """Which shells are islands, or the second side of a wall, bool, shape (S,).

    Parameters
    ----------
    mesh : Mesh
    """
    flags = np.zeros(len(mesh.shells), dtype=bool)
    loops = [i for own in islands_of(mesh).values() for i in own]
    boundaries = classify_boundaries(mesh)
    flags[boundaries.shell[loops]] = True
    flags[boundaries.wall_shells] = True
    return flags
