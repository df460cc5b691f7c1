"""Walls from open rims to a flat base beyond them: straight down, flared, or with a step."""

from itertools import pairwise
from typing import Literal, NamedTuple

import numpy as np
import shapely

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.space.polygons import nested_rings, plane_axes, triangulate_flat
from tinsnip.treat.kit.patches.filling import add_triangles, evenly, flat_cap

__all__ = ["Form", "footed"]

Form = Literal["straight", "flared", "stepped"]
_ROUND = 8
"""Straight pieces in a quarter of a round corner."""
_SIMPLER = 0.01
"""How far an outline may be off, as a share of how far it lies outside the rim."""


class _Grown(NamedTuple):
    points: list[np.ndarray]
    triangles: list[np.ndarray]
    start: int

    def add(self, points: np.ndarray) -> np.ndarray:
        """Further points; returns their numbers."""
        first = self.start + sum(map(len, self.points))
        self.points.append(points)
        return first + np.arange(len(points))

    def wall(self, ring: np.ndarray, foot: np.ndarray) -> None:
        """A wall from a ring, in the direction of its open half-edges, to another below it, point by point."""
        after, foot_after = np.roll(ring, -1), np.roll(foot, -1)
        self.triangles.extend([np.column_stack([after, ring, foot]), np.column_stack([after, foot, foot_after])])


def footed(
    mesh: Mesh, rings: list[np.ndarray], outward: np.ndarray, level: float, form: Form, spread: float,
    edge: float | None = None,
) -> Mesh:  # fmt: skip
    """Grow walls from rims to a plane beyond them, and a flat base between the walls.

    Parameters
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices in the direction of the open half-edges; rims within rims stay open shafts, their walls straight.
    outward : ndarray, shape (3,)
        Unit normal of the base.
    level : float
        Where the base lies along it, mm.
    form : {"straight", "flared", "stepped"}
    spread : float
        How far a flared or stepped base reaches beyond the rim, mm.
    edge : float, optional
        Length of the base's edges, mm; as few triangles as may be by default.

    Returns
    -------
    Mesh

    Raises
    ------
    BadInput
        When the base shall be wider, and the rim, seen from below, overlaps itself.
    """
    grown = _Grown([], [], len(mesh.vertices))
    sides = np.column_stack(plane_axes(outward))
    places = mesh.vertices
    wide = list(range(len(rings))) if form != "straight" else []
    if wide:
        every, local = _in_a_row(rings)
        wide = [group[0] for group in nested_rings(local, places[every] @ sides)]
    feet = []
    for i, ring in enumerate(rings):
        if i in wide:
            continue
        foot = grown.add(_at_level(places[ring], outward, level))
        grown.wall(ring, foot)
        feet.append(foot)
    if wide:
        outer = [rings[i] for i in wide]
        low = float(max((places[ring] @ outward).max() for ring in outer))
        middle = 0.5 * (low + level)
        if form == "stepped":
            steps = [grown.add(_at_level(places[ring], outward, middle)) for ring in outer]
            for ring, step in zip(outer, steps, strict=True):
                grown.wall(ring, step)
            outer = steps
        outlines = _outlines([_of(mesh, grown, ring) @ sides for ring in outer], spread)
        above = middle if form == "stepped" else level
        edges = [grown.add(flat @ sides.T + above * outward) for flat in outlines]
        _lay_between(mesh, grown, outer, edges, sides)
        if form == "stepped":
            bottom = [grown.add(flat @ sides.T + level * outward) for flat in outlines]
            for one, other in zip(edges, bottom, strict=True):
                grown.wall(one, other)
            edges = bottom
        feet += edges
    points = np.concatenate([places, *grown.points])
    base = flat_cap(points, feet, outward)
    if edge is not None:
        (base,), fresh = evenly(points, [base], edge)
        grown.add(_at_level(fresh, outward, level))
    return add_triangles(mesh, np.concatenate([*grown.triangles, base]), np.concatenate(grown.points))


def _in_a_row(rings: list[np.ndarray]) -> tuple[np.ndarray, list[np.ndarray]]:
    """All points of some rings, and where each ring's stand among them."""
    return np.concatenate(rings), [np.arange(a, b) for a, b in pairwise(np.cumsum([0, *map(len, rings)]))]


def _at_level(points: np.ndarray, outward: np.ndarray, level: float) -> np.ndarray:
    return points + (level - points @ outward)[:, None] * outward


def _of(mesh: Mesh, grown: _Grown, ring: np.ndarray) -> np.ndarray:
    return np.concatenate([mesh.vertices, *grown.points])[ring]


def _outlines(flats: list[np.ndarray], spread: float) -> list[np.ndarray]:
    """The outlines so far outside some rings, in the direction of the rings' open half-edges."""
    polygons = [shapely.Polygon(flat) for flat in flats]
    if not all(p.is_valid for p in polygons):
        raise BadInput("seen from below the rim overlaps itself, so no wider base can be grown; tidy it first")
    lengths = [np.linalg.norm(np.roll(flat, -1, axis=0) - flat, axis=1).mean() for flat in flats]
    wider = shapely.union_all(polygons).buffer(spread, quad_segs=_ROUND).simplify(_SIMPLER * spread)
    wider = shapely.segmentize(wider, 2 * float(np.mean(lengths)))
    rings = []
    for part in getattr(wider, "geoms", [wider]):
        turned = shapely.geometry.polygon.orient(part, -1.0)
        rings += [np.array(ring.coords)[:-1] for ring in (turned.exterior, *turned.interiors)]
    return rings


def _lay_between(
    mesh: Mesh, grown: _Grown, inner: list[np.ndarray], outer: list[np.ndarray], sides: np.ndarray
) -> None:
    """Surface between rings and the outlines round them, seen from above."""
    every, local = _in_a_row([*inner, *outer])
    found = triangulate_flat(local, _of(mesh, grown, every) @ sides)
    if found is None:
        raise BadInput("seen from below the rim touches itself, so no wider base can be grown; tidy it first")
    grown.triangles.append(every[found][:, ::-1])
