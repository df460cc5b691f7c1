"""How thick walls are, by a cone of rays inward."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import face_vectors, triangle_areas, vertex_normals
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import DONE, TOTAL, check_here, polled_here
from tinsnip.space.tree import first_hits
from tinsnip.survey.finding import Finding, Kind

__all__ = ["find_thin_walls", "thin_places", "walls_of"]

_RAYS = 4
_CONE = 20.0
"""Rays round the one straight inward, and the angle that they make with it, degrees."""
_ALIKE = 0.25
"""Rays count whose walls are within this share of their median."""
_FEWEST = 4
"""Triangles of a thin place; what is smaller is noise."""
_START = 1e-5
"""Share of the diagonal that a ray begins within the surface, so that it does not meet where it starts."""


@remembered
def walls_of(mesh: Mesh) -> np.ndarray:
    """Measure how thick the walls are at every vertex.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    ndarray of float32, shape (V,)
        mm; the mean over a cone of rays inward, without those that meet something quite different. Infinite where there
        is nothing opposite.

    Raises
    ------
    Cancelled

    References
    ----------
    Shapira et al., Consistent mesh partitioning and skeletonisation using the shape diameter function, 2008.
    """
    count = len(mesh.vertices)
    if len(mesh.faces) == 0:
        return np.full(count, np.inf, np.float32)
    tree, state = mesh.tree, polled_here()
    upright = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
    some = np.flatnonzero((upright**2).sum(axis=1) > 0.5)
    places, inward = mesh.vertices[some], -upright[some]
    vectors = face_vectors(mesh.vertices, mesh.faces)
    start = places + _START * mesh.diagonal * inward
    tells = int(state[TOTAL] == 0)  # nobody else says how far it is
    if tells:
        state[DONE], state[TOTAL] = 0, 1 + _RAYS

    def wall(ways: np.ndarray) -> np.ndarray:
        """How far the surface is that rays leave the part through; infinite where they meet none."""
        along, triangle = first_hits(tree, start, ways, state)
        check_here()
        state[DONE] += tells
        hit = triangle >= 0
        leaves = np.zeros(len(along), dtype=bool)
        leaves[hit] = (vectors[triangle[hit]] * ways[hit]).sum(axis=1) > 0
        return np.where(leaves, along + _START * mesh.diagonal, np.inf)

    straight = wall(inward)
    helper = np.eye(3)[np.argmin(np.abs(inward), axis=1)]
    one = np.cross(inward, helper)
    one /= np.linalg.norm(one, axis=1)[:, None]
    other = np.cross(inward, one)
    lean, found = np.radians(_CONE), [straight]
    for turn in np.arange(_RAYS) * 2 * np.pi / _RAYS:
        ways = np.cos(lean) * inward + np.sin(lean) * (np.cos(turn) * one + np.sin(turn) * other)
        found.append(wall(ways) * np.cos(lean))
    rays = np.full(count, np.inf, dtype=np.float32)
    rays[some] = _common(np.stack(found, axis=1))
    return rays


def _common(found: np.ndarray) -> np.ndarray:
    """Mean of what agrees with the median; infinite where most rays meet nothing."""
    median = np.median(np.where(np.isfinite(found), found, 1e300), axis=1)
    alike = np.abs(found - median[:, None]) <= _ALIKE * median[:, None]
    total = np.where(alike, found, 0.0).sum(axis=1)
    return np.where(median < 1e300, total / np.maximum(alike.sum(axis=1), 1), np.inf)


def thin_places(mesh: Mesh, minimum: float) -> tuple[np.ndarray, int]:
    """Where walls are thinner than a minimum, mm: for each triangle the number of its place, or -1, and how many.

    Parameters
    ----------
    mesh : Mesh
    minimum : float
        In mm.
    """
    thin = walls_of(mesh) < minimum
    own = np.flatnonzero(thin[mesh.faces].sum(axis=1) >= 2)
    number = np.full(len(mesh.faces), -1, dtype=np.int64)
    if len(own) == 0:
        return number, 0
    part = parts_over_edges(mesh.twins, own)
    size = np.bincount(part)
    fresh = np.where(size >= _FEWEST, np.cumsum(size >= _FEWEST) - 1, -1)
    number[own] = fresh[part]
    return number, int((size >= _FEWEST).sum())


def find_thin_walls(mesh: Mesh, minimum: float) -> list[Finding]:
    """A finding for each place where the wall is thinner than a minimum, mm; the widest first.

    Parameters
    ----------
    mesh : Mesh
    minimum : float
        In mm.
    """
    number, count = thin_places(mesh, minimum)
    if count == 0:
        return []
    rays, areas = walls_of(mesh), triangle_areas(mesh.vertices, mesh.faces)
    own = np.flatnonzero(number >= 0)
    order = own[np.argsort(number[own], kind="stable")]
    places = np.split(order, np.searchsorted(number[order], np.arange(1, count)))
    wide = [float(areas[triangles].sum()) for triangles in places]
    findings = []
    for rank, i in enumerate(np.argsort(-np.array(wide), kind="stable"), 1):
        triangles = places[i]
        corners = mesh.faces[triangles].ravel()
        points, least = mesh.vertices[corners], float(rays[corners].min())
        findings.append(
            Finding(
                id=f"W{rank}",
                kind=Kind.WALL,
                text=f"wall of {least:.3g} mm",
                place=mesh.vertices[corners[np.argmin(rays[corners])]],
                size=float(np.linalg.norm(np.ptp(points, axis=0))),
                count=len(triangles),
                proposal="select",
                key=int(triangles.min()),
                outline=points[:: max(1, len(points) // 400)],
                about=f"{wide[i]:.4g} mm² thinner than {minimum:g} mm",
            )
        )
    return findings
