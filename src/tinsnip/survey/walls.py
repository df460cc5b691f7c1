"""How thick walls are: by a cone of rays inward, and by the largest sphere within that touches a place."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import face_vectors, triangle_areas, vertex_normals
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here, polled_here
from tinsnip.space.spheres import shrunk_spheres
from tinsnip.space.tree import build_tree, first_hits
from tinsnip.survey.finding import Finding, Kind

__all__ = ["Walls", "find_thin_walls", "thin_places", "walls_of"]

_RAYS = 4
_CONE = 20.0
"""Rays round the one straight inward, and the angle that they make with it, degrees."""
_ALIKE = 0.25
"""Rays count whose walls are within this share of their median."""
_DONE = 0.02
"""Spheres are right to this share: nothing reaches further into them."""
_BESIDE = 30.0
"""What a sphere touches within this angle of the place, seen from its middle, is the noise round the place."""
_FEWEST = 4
_START = 1e-5


class Walls(NamedTuple):
    """Thickness at each vertex, mm, shape (V,), float32; infinite where there is nothing opposite.

    Attributes
    ----------
    rays : ndarray
        Mean over a cone of rays inward, without those that meet something quite different.
    spheres : ndarray
        Diameter of the largest sphere within that touches the vertex; next to nothing at sharp edges.
    """

    rays: np.ndarray
    spheres: np.ndarray


@remembered
def walls_of(mesh: Mesh) -> Walls:
    """Measure how thick the walls are at every vertex.

    Rays as in the shape diameter function (Shapira et al. 2008), spheres by shrinking them until nothing is within
    (Ma, Bae and Choi 2012).
    """
    count = len(mesh.vertices)
    if len(mesh.faces) == 0:
        return Walls(np.full(count, np.inf, np.float32), np.full(count, np.inf, np.float32))
    tree, state = build_tree(mesh.vertices, mesh.faces), polled_here()
    upright = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
    some = np.flatnonzero((upright**2).sum(axis=1) > 0.5)
    places, inward = mesh.vertices[some], -upright[some]
    vectors = face_vectors(mesh.vertices, mesh.faces)
    start = places + _START * mesh.diagonal * inward

    def wall(ways: np.ndarray) -> np.ndarray:
        """How far the surface is that rays leave the part through; infinite where they meet none."""
        along, triangle = first_hits(tree, start, ways, state)
        check_here()
        hit = triangle >= 0
        leaves = np.zeros(len(along), dtype=bool)
        leaves[hit] = (vectors[triangle[hit]] * ways[hit]).sum(axis=1) > 0
        return np.where(leaves, along + _START * mesh.diagonal, np.inf)

    straight = wall(inward)
    helper = np.eye(3)[np.argmin(np.abs(inward), axis=1)]
    one = np.cross(inward, helper)
    one /= np.linalg.norm(one, axis=1)[:, None]
    other = np.cross(inward, one)
    lean, found, most = np.radians(_CONE), [straight], 0.5 * straight
    for turn in np.arange(_RAYS) * 2 * np.pi / _RAYS:
        ways = np.cos(lean) * inward + np.sin(lean) * (np.cos(turn) * one + np.sin(turn) * other)
        slant = wall(ways)
        found.append(slant * np.cos(lean))
        # no sphere reaches further than through what a ray has met
        most = np.minimum(most, slant / (2 * np.cos(lean)))
    rays, spheres = (np.full(count, np.inf, dtype=np.float32) for _ in range(2))
    rays[some] = _common(np.stack(found, axis=1))
    met = np.flatnonzero(np.isfinite(straight))  # where nothing is opposite there is no wall
    beside = np.cos(np.radians(_BESIDE))
    spheres[some[met]] = 2 * shrunk_spheres(tree, places[met], inward[met], most[met], beside, _DONE)
    return Walls(rays, spheres)


def _common(found: np.ndarray) -> np.ndarray:
    """Mean of what agrees with the median; infinite where most rays meet nothing."""
    median = np.median(np.where(np.isfinite(found), found, 1e300), axis=1)
    alike = np.abs(found - median[:, None]) <= _ALIKE * median[:, None]
    total = np.where(alike, found, 0.0).sum(axis=1)
    return np.where(median < 1e300, total / np.maximum(alike.sum(axis=1), 1), np.inf)


def thin_places(mesh: Mesh, minimum: float) -> tuple[np.ndarray, int]:
    """Where walls are thinner than a minimum, mm: for each triangle the number of its place, or -1, and how many."""
    thin = walls_of(mesh).rays < minimum
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
    """A finding for each place where the wall is thinner than a minimum, mm; the widest first."""
    number, count = thin_places(mesh, minimum)
    if count == 0:
        return []
    rays, areas = walls_of(mesh).rays, triangle_areas(mesh.vertices, mesh.faces)
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
