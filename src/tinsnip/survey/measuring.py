"""Measuring: distances, angles, diameters, sections, and what the whole part comes to."""

from typing import NamedTuple

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import corner_shares, face_vectors
from tinsnip.progress import check_here, polled_here
from tinsnip.space.geodesic import shortest_path
from tinsnip.space.polygons import plane_axes
from tinsnip.survey.fits import FittedCylinder, FittedPlane, fit_circle, fit_cylinder, fit_plane

__all__ = [
    "Reading", "Section", "Whole", "angle_reading", "circle_reading", "diameter_reading", "distance_reading",
    "ring_about", "round_about", "section_of", "section_reading", "straight_reading", "whole_of",
]  # fmt: skip

_TURNS = 5
_ASKEW = 0.9
"""Cosine of how far a triangle of a round surface may lean."""
_OFF = 4.0
"""How far off the fit it may lie, in its mean deviation."""
_PARALLEL = 1e-6
"""Sine of the angle up to which planes count as parallel, whose edge lies anywhere."""
_ARC = 0.4
"""Radius of the arc that shows an angle, as a share of its shorter side."""
_RING = 72
"""Pieces that a ring is drawn in."""
_MOST_POINTS = 400
"""Points of a line that are drawn."""

Places = tuple[tuple[float, float, float], ...]


class Reading(BaseModel):
    """Something that was measured: what, a text and a short one, the lines that show it, where its label stands, mm.

    Attributes
    ----------
    step : int
        After how many steps of the log it was measured.
    part : str
        A fingerprint of the mesh it was measured on.
    further : str
        And of another piece's, where it was measured between two.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    kind: str = Field(max_length=40)
    text: str = Field(max_length=160)
    label: str = Field(max_length=60)
    lines: tuple[Places, ...] = ()
    at: tuple[float, float, float]
    values: dict[str, float] = {}
    step: int = 0
    part: str = Field("", max_length=80)
    further: str = Field("", max_length=80)


class Section(NamedTuple):
    """What a plane cuts out of a surface.

    Attributes
    ----------
    ends : ndarray, shape (N, 2, 3)
        Pieces of its outline, each with the inside on its left, seen against the normal; mm.
    length : float
        Of the outline, mm.
    area : float
        That it encloses, mm2; of a closed surface to rounding.
    loops : int
    is_open : bool
        Whether the outline ends somewhere, so that the area means little.
    """

    ends: np.ndarray
    length: float
    area: float
    loops: int
    is_open: bool


class Whole(NamedTuple):
    """Size, mm, shape (3,); area, mm2; volume, mm3, None where the part is open; mass, g, likewise."""

    size: np.ndarray
    area: float
    volume: float | None
    mass: float | None


def _places(points: np.ndarray) -> Places:
    return tuple(tuple(float(x) for x in p) for p in points)


def distance_reading(mesh: Mesh, start: tuple[int, np.ndarray], end: tuple[int, np.ndarray]) -> Reading:
    """The distance between two places, straight and along the surface.

    Parameters
    ----------
    mesh : Mesh
    start, end : (int, ndarray of shape (3,))
        A triangle, and a place on it, mm.
    """
    straight = float(np.linalg.norm(end[1] - start[1]))
    ends = [(t, corner_shares(p, *mesh.vertices[mesh.faces[t]])[1:]) for t, p in (start, end)]
    path = shortest_path(mesh.vertices, mesh.faces, mesh.twins, *ends, polled_here())
    check_here()
    text, values = f"{straight:.3f} mm straight", {"straight_mm": straight}
    label = f"{straight:.2f} mm"
    way = np.array([start[1], end[1]])
    if path is not None:
        corner = mesh.faces.ravel()
        half = path.halfedges
        a, b = mesh.vertices[corner[half]], mesh.vertices[corner[half - half % 3 + (half + 1) % 3]]
        way = np.concatenate([start[1][None], a + path.shares[:, None] * (b - a), end[1][None]])
        along = float(np.linalg.norm(np.diff(way, axis=0), axis=1).sum())
        text += f", {along:.3f} mm along the surface"
        values["along_mm"] = along
        label += f" · {along:.2f} along"
    way = way[:: max(1, len(way) // _MOST_POINTS)] if len(way) > _MOST_POINTS else way
    lines = (_places(np.array([start[1], end[1]])), _places(np.concatenate([way, end[1][None]])))
    return Reading(kind="distance", text=text, label=label, lines=lines, at=_places(end[1][None])[0], values=values)


def straight_reading(start: np.ndarray, end: np.ndarray) -> Reading:
    """The distance between two places, mm, shape (3,), that lie on two pieces.

    Parameters
    ----------
    start, end : ndarray, shape (3,)
        In mm.
    """
    straight = float(np.linalg.norm(end - start))
    ends = _places(np.array([start, end]))
    text, values = f"{straight:.3f} mm straight, from piece to piece", {"straight_mm": straight}
    return Reading(kind="distance", text=text, label=f"{straight:.2f} mm", lines=(ends,), at=ends[1], values=values)


def angle_reading(
    one: tuple[Mesh, np.ndarray], other: tuple[Mesh, np.ndarray], places: tuple[np.ndarray, np.ndarray]
) -> Reading:
    """The angle between two flats: between the planes fitted to them.

    Parameters
    ----------
    one, other : (Mesh, ndarray of int)
        The mesh of each, and its triangles.
    places : tuple of ndarray, shape (3,)
        Where each was clicked.

    Raises
    ------
    BadInput
        When one of them has no area.
    """
    fits = []
    for mesh, own in (one, other):
        chosen = np.zeros(len(mesh.faces), dtype=bool)
        chosen[own] = True
        fits.append(fit_plane(mesh, chosen))
    cosine = float(np.clip(fits[0].normal @ fits[1].normal, -1.0, 1.0))
    between = float(np.degrees(np.arccos(cosine)))
    text = f"{between:.3f}° between the facings, {180 - between:.3f}° inside"
    values = {"facings_deg": between, "inside_deg": 180 - between}
    if between < 1.0 or between > 179.0:  # parallel: how far apart they lie is what one wants to know
        apart = abs(float((fits[1].point - fits[0].point) @ fits[0].normal))
        text += f", {apart:.3f} mm apart"
        values["apart_mm"] = apart
    rms = max(f.rms for f in fits)
    text += f" (flat within {rms:.2g} mm)"
    lines = tuple(_places(line) for line in _angle_lines(fits[0], fits[1], *places))
    at, label = _places(places[1][None])[0], f"{180 - between:.2f}°"
    return Reading(kind="angle", text=text, label=label, lines=lines, at=at, values=values)


def _angle_lines(one: FittedPlane, other: FittedPlane, start: np.ndarray, end: np.ndarray) -> list[np.ndarray]:
    """From each place to the edge where the planes meet, and an arc between; of parallel ones the way across."""
    along = np.cross(one.normal, other.normal)
    if np.linalg.norm(along) < _PARALLEL:
        return [np.array([start, end])]
    # the place of the edge that is nearest to the middle between the two
    rows = np.array([one.normal, other.normal, along])
    offsets = [one.normal @ one.point, other.normal @ other.point, along @ (0.5 * (start + end))]
    apex = np.linalg.solve(rows, np.array(offsets))
    ways = [start - apex, end - apex]
    lengths = [float(np.linalg.norm(way)) for way in ways]
    if min(lengths) == 0.0:
        return [np.array([start, end])]
    u, v = (way / length for way, length in zip(ways, lengths, strict=True))
    turn = float(np.arccos(np.clip(u @ v, -1.0, 1.0)))
    across = v - (u @ v) * u
    size = float(np.linalg.norm(across))
    if size < _PARALLEL:
        return [np.array([start, apex, end])]
    t = np.linspace(0.0, turn, 24)[:, None]
    arc = apex + _ARC * min(lengths) * (np.cos(t) * u + np.sin(t) * across / size)
    return [np.array([start, apex, end]), arc]


def round_about(mesh: Mesh, triangle: int, point: np.ndarray, brushed: np.ndarray) -> np.ndarray:
    """The triangles round a place that lie on one cylinder with it, bool, shape (F,).

    From some that are on it, as far as what hangs together with them keeps to the cylinder that fits best, which is
    fitted anew as more come to it.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
    point : ndarray, shape (3,)
    brushed : ndarray of int
        Triangles to begin with.

    Raises
    ------
    BadInput
        When they are flat.
    """
    chosen = np.zeros(len(mesh.faces), dtype=bool)
    chosen[brushed] = True
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    normals = face_vectors(mesh.vertices, mesh.faces)
    normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
    edge = float(np.sqrt(mesh.area / max(1, len(mesh.faces))))
    for _ in range(_TURNS):
        check_here()
        fit = fit_cylinder(mesh, chosen)
        off = middles - fit.point
        off -= (off @ fit.axis)[:, None] * fit.axis
        reach = np.linalg.norm(off, axis=1)
        sagitta = edge * edge / (4 * fit.radius)  # by which middles of triangles lie within the cylinder
        fits = np.abs(reach - fit.radius) <= _OFF * fit.rms + sagitta
        fits &= np.abs((off * normals).sum(axis=1)) >= _ASKEW * np.maximum(reach, 1e-300)
        fits[triangle] = True
        now = _connected(mesh, fits, triangle)
        if now.sum() < 3 or (now == chosen).all():
            break
        chosen = now
    return chosen


def _connected(mesh: Mesh, chosen: np.ndarray, triangle: int) -> np.ndarray:
    own = np.flatnonzero(chosen)
    label = parts_over_edges(mesh.twins, own)
    found = np.zeros(len(chosen), dtype=bool)
    found[own[label == label[np.searchsorted(own, triangle)]]] = True
    return found


def diameter_reading(mesh: Mesh, chosen: np.ndarray, place: np.ndarray) -> Reading:
    """The diameter of the cylinder fitted to some triangles.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    place : ndarray, shape (3,)
        Where it was clicked.

    Raises
    ------
    BadInput
        When they are too few, or flat.
    """
    fit = fit_cylinder(mesh, chosen)
    # corners lie on the surface; middles of triangles, which the axis is found by, lie within the round of it
    off = mesh.vertices[np.unique(mesh.faces[chosen])] - fit.point
    reach = np.linalg.norm(off - (off @ fit.axis)[:, None] * fit.axis, axis=1)
    fit = fit._replace(radius=float(reach.mean()), rms=float(reach.std()))
    text = f"⌀ {2 * fit.radius:.3f} mm (round within {fit.rms:.2g} mm)"
    values = {"diameter_mm": 2 * fit.radius, "rms_mm": fit.rms}
    lines, (at,), label = _rings(mesh, chosen, fit), _places(place[None]), f"⌀ {2 * fit.radius:.2f} mm"
    return Reading(kind="diameter", text=text, label=label, lines=lines, at=at, values=values)


def ring_about(axis: np.ndarray, radius: float) -> np.ndarray:
    """A ring about the origin, square to a unit axis, back to its beginning; shape (N, 3).

    Parameters
    ----------
    axis : ndarray, shape (3,)
        Unit.
    radius : float
        In mm.
    """
    u, v = plane_axes(axis)
    angle = np.linspace(0.0, 2 * np.pi, _RING + 1)
    return radius * (np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * v)


def _rings(mesh: Mesh, chosen: np.ndarray, fit: FittedCylinder) -> tuple[Places, ...]:
    """Rings at both ends of what a cylinder was fitted to, and its axis between them."""
    along = (mesh.vertices[mesh.faces[chosen]].reshape(-1, 3) - fit.point) @ fit.axis
    ring = ring_about(fit.axis, fit.radius)
    ends = [fit.point + t * fit.axis for t in (float(along.min()), float(along.max()))]
    return (*(_places(end + ring) for end in ends), _places(np.array(ends)))


def circle_reading(points: np.ndarray) -> Reading:
    """The diameter of the circle fitted to an open edge, shape (N, 3).

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In mm.

    Raises
    ------
    BadInput
        When the points are fewer than three, or lie on a line.
    """
    fit = fit_circle(points)
    ring = fit.centre + ring_about(fit.normal, fit.radius)
    (at,), label = _places(ring[:1]), f"⌀ {2 * fit.radius:.2f} mm"
    text = f"⌀ {2 * fit.radius:.3f} mm of the edge (round within {fit.rms:.2g} mm)"
    values = {"diameter_mm": 2 * fit.radius, "rms_mm": fit.rms}
    return Reading(kind="circle", text=text, label=label, lines=(_places(ring),), at=at, values=values)


def section_of(mesh: Mesh, normal: np.ndarray, offset: float) -> Section:
    """What a plane cuts out of a mesh.

    Parameters
    ----------
    mesh : Mesh
    normal : ndarray, shape (3,)
        Unit.
    offset : float
        Distance of the plane from the origin along it, mm.

    Returns
    -------
    Section
    """
    height = mesh.vertices @ normal - offset
    above = height >= 0
    upper = above[mesh.faces]
    count = upper.sum(axis=1)
    cut = np.flatnonzero((count == 1) | (count == 2))
    if len(cut) == 0:
        return Section(np.zeros((0, 2, 3)), 0.0, 0.0, 0, False)
    check_here()
    faces, upper = mesh.faces[cut], upper[cut]
    alone = np.where(upper.sum(axis=1) == 1, upper.argmax(axis=1), upper.argmin(axis=1))
    rows = np.arange(len(cut))
    a, b, c = (faces[rows, (alone + k) % 3].astype(np.int64) for k in range(3))

    def through(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        low, high = np.minimum(p, q), np.maximum(p, q)  # the same bits from either triangle
        share = height[low] / (height[low] - height[high])
        return mesh.vertices[low] + share[:, None] * (mesh.vertices[high] - mesh.vertices[low])

    one, other = through(a, b), through(a, c)
    up = above[a][:, None]
    ends = np.stack([np.where(up, one, other), np.where(up, other, one)], axis=1)
    length = float(np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1).sum())
    middle = ends.reshape(-1, 3).mean(axis=0)
    area = 0.5 * float((np.cross(ends[:, 0] - middle, ends[:, 1] - middle) @ normal).sum())
    total = np.int64(len(mesh.vertices))
    keys = np.concatenate([np.minimum(a, q) * total + np.maximum(a, q) for q in (b, c)])
    _, node, times = np.unique(keys, return_inverse=True, return_counts=True)
    graph = coo_matrix((np.ones(len(cut)), (node[: len(cut)], node[len(cut) :])), shape=(len(times), len(times)))
    loops, _ = connected_components(graph, directed=False)
    return Section(ends, length, abs(area), int(loops), bool((times != 2).any()))


def section_reading(mesh: Mesh, normal: np.ndarray, offset: float) -> Reading:
    """Length and area of a section's outline.

    Parameters
    ----------
    mesh : Mesh
    normal : ndarray, shape (3,)
        Unit.
    offset : float
        Of the plane along its normal, mm.

    Raises
    ------
    BadInput
        When the plane misses the part.
    """
    found = section_of(mesh, normal, offset)
    if len(found.ends) == 0:
        raise BadInput("the plane misses the part; move the section")
    text = f"outline {found.length:.2f} mm in {found.loops} loop{'s' * (found.loops != 1)}"
    values = {"length_mm": found.length}
    label = f"{found.length:.1f} mm round"
    if found.is_open:
        text += ", open, so that it has no area"
    else:
        text += f", area {found.area:.2f} mm²"
        values["area_mm2"] = found.area
        label += f" · {found.area:.1f} mm²"
    some = found.ends[:: max(1, -(-len(found.ends) // _MOST_POINTS))]
    (at,), lines = _places(found.ends[0, :1]), tuple(_places(line) for line in some)
    return Reading(kind="section", text=text, label=label, lines=lines, at=at, values=values)


def whole_of(mesh: Mesh, density: float | None = None) -> Whole:
    """Size, area, volume and mass of the whole part.

    Parameters
    ----------
    mesh : Mesh
    density : float, optional
        g/cm3.
    """
    closed = len(mesh.faces) > 0 and mesh.edges.open == 0 and mesh.edges.tangled == 0
    volume = mesh.volume if closed else None
    mass = volume * density / 1000.0 if volume is not None and density else None
    return Whole(mesh.size, mesh.area, volume, mass)
