"""How far one surface lies from another, and how far a treated part lies from its raw scan."""

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import spread_by_area, triangle_areas
from tinsnip.mesh.remembered import remembered
from tinsnip.mesh.subdivide import halve_edges
from tinsnip.progress import Progress, check_here, stoppable
from tinsnip.space.forms import Form
from tinsnip.space.forms import distances as distances_from
from tinsnip.space.hausdorff import far_at_most
from tinsnip.space.tree import closest_points

__all__ = [
    "Deviation",
    "FromRaw",
    "compare",
    "deviation_from_form",
    "deviation_from_raw",
    "deviation_from_reference",
    "largest_deviation",
    "share_within",
    "signed_distance",
    "spread_points",
    "summed_up",
    "telling_points",
    "triangles_outside",
    "vertex_areas",
]

_FINE_ENOUGH = 400_000
"""Triangles up to which a coarse mesh's edges are halved, so that its deviation shows between its corners."""


class Deviation(NamedTuple):
    """Distances of one surface's points from another surface, mm."""

    max: float
    p99: float
    rms: float
    mean: float
    samples: int


def spread_points(mesh: Mesh, count: int, seed: int = 0) -> np.ndarray:
    """Points spread evenly by area over a mesh's surface, and its vertices up to as many again; deterministic.

    Parameters
    ----------
    mesh : Mesh
    count : int
    seed : int
        The same gives the same points.
    """
    spread, _ = spread_by_area(mesh.vertices, mesh.faces, count, seed)
    # every so many corners: each vertex about as often as another, and none that no triangle uses
    corners = mesh.faces.ravel()
    some = np.unique(corners[:: max(1, len(corners) // (3 * count))])
    return np.concatenate([spread, mesh.vertices[some[:: max(1, -(-len(some) // count))]]])


def summed_up(distance: np.ndarray) -> Deviation:
    if len(distance) == 0:
        return Deviation(0.0, 0.0, 0.0, 0.0, 0)
    return Deviation(
        float(distance.max()),
        float(np.quantile(distance, 0.99)),
        float(np.sqrt((distance**2).mean())),
        float(distance.mean()),
        len(distance),
    )


def _one_way(points: np.ndarray, surface: Mesh, progress: Progress) -> Deviation:
    state = progress.step("Comparing", 1)
    distance, _ = closest_points(surface.tree, points, state)
    progress.check()
    return summed_up(distance)


@stoppable
def compare(a: Mesh, b: Mesh, samples: int = 200_000, progress: Progress | None = None) -> tuple[Deviation, Deviation]:
    """Deviation of a from b and of b from a, by exact distances from points spread over the surfaces.

    Parameters
    ----------
    a, b : Mesh
    samples : int
        Points by area on each surface; vertices, up to as many, come on top.
    progress : Progress, optional

    Returns
    -------
    tuple of two Deviation

    Raises
    ------
    BadInput
        When one of them has no triangles.
    """
    progress = progress or Progress()
    if len(a.faces) == 0 or len(b.faces) == 0:
        raise BadInput("one of the meshes has no triangles to compare; choose another")
    with progress.part(0.0, 0.5):
        there = _one_way(spread_points(a, samples), b, progress)
    with progress.part(0.5, 1.0):
        back = _one_way(spread_points(b, samples), a, progress)
    return there, back


@kernel
def _middles(vertices, faces, twins, chosen, inside, used, out):
    """Vertices and edge middles, each once, and centroids of some triangles; how many."""
    n = 0
    for i in range(chosen.shape[0]):
        f = chosen[i]
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            if not used[a]:
                used[a] = True
                for j in range(3):
                    out[n, j] = vertices[a, j]
                n += 1
            twin = twins[3 * f + k]
            if twin >= 0 and twin < 3 * f + k and inside[twin // 3]:
                continue  # its middle was taken from the other side
            for j in range(3):
                out[n, j] = 0.5 * (vertices[a, j] + vertices[b, j])
            n += 1
        for j in range(3):
            out[n, j] = (vertices[faces[f, 0], j] + vertices[faces[f, 1], j] + vertices[faces[f, 2], j]) / 3.0
        n += 1
    return n


def telling_points(mesh: Mesh, triangles: np.ndarray) -> np.ndarray:
    """All vertices, edge midpoints and centroids of some triangles, shape (N, 3).

    Parameters
    ----------
    mesh : Mesh
    triangles : ndarray of int, shape (K,)
    """
    out = np.empty((7 * len(triangles), 3))
    used = np.zeros(len(mesh.vertices), dtype=np.bool_)
    inside = np.zeros(len(mesh.faces), dtype=np.bool_)
    inside[triangles] = True
    chosen = np.flatnonzero(inside).astype(np.int32)
    return out[: _middles(mesh.vertices, mesh.faces, mesh.twins, chosen, inside, used, out)]


@stoppable
def largest_deviation(treated: Mesh, before: Mesh, progress: Progress, limit: float = np.inf) -> Deviation:
    """Deviation of a treated mesh from what it was, and back: no place of either surface has more.

    Parameters
    ----------
    treated, before : Mesh
    progress : Progress
    limit : float
        Where a deviation of more than this is found, mm, no more is looked for; the largest is then one that was found.

    Returns
    -------
    Deviation
        The largest is a bound that holds, at most a hundredth above what some place has; the rest is over all vertices
        of both.
    """
    state = progress.step("Measuring the deviation", 1)
    if len(treated.faces) == 0 or len(before.faces) == 0:
        return summed_up(np.zeros(0))
    lower, upper, distances = far_at_most(
        treated.tree, before.tree, (treated.twins, before.twins), state, limit=limit
    )  # fmt: skip
    progress.check()
    return summed_up(distances)._replace(max=lower if np.isinf(upper) else upper)


@dataclass(frozen=True, eq=False)
class FromRaw:
    """How far the present mesh lies from the raw scan, or from another reference.

    Attributes
    ----------
    mesh : Mesh
        The present mesh.
    places : Mesh
        The mesh itself, or where it is coarse the same surface with its edges halved: the middle of a large
        triangle may lie elsewhere than its corners tell. The mesh's own vertices come first.
    signed : ndarray of float32, shape (P,)
        Distance of each vertex of `places` from the raw surface, mm: positive outside it. Exactly 0 where nothing
        but measured triangles meet, not a number where nothing but made ones do: those have nothing to be measured
        against. Infinite where it is no part of what is measured.
    overall : Deviation
        Over all vertices, edge midpoints and centroids of the shifted triangles; zeros where there are none. The
        largest is over `places` too.
    shares : ndarray, shape (3,)
        Share of the area that is measured, shifted, made.
    """

    mesh: Mesh
    places: Mesh
    signed: np.ndarray
    overall: Deviation
    shares: np.ndarray


@kernel
def _provenance_at_vertices(faces, provenance, shifted, only_made):
    """Which vertices meet a shifted triangle, and which meet only made ones."""
    for v in range(only_made.shape[0]):
        only_made[v] = True
    for f in range(faces.shape[0]):
        for k in range(3):
            if provenance[f] == 1:
                shifted[faces[f, k]] = True
            if provenance[f] != 2:
                only_made[faces[f, k]] = False


@kernel
def _signs(points, feet, triangles, vertices, faces, distance):
    """Give distances the sign of the side of the nearest triangle that each point lies on."""
    for i in range(points.shape[0]):
        f = triangles[i]
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        x, y, z = vertices[a, 0], vertices[a, 1], vertices[a, 2]
        ux, uy, uz = vertices[b, 0] - x, vertices[b, 1] - y, vertices[b, 2] - z
        wx, wy, wz = vertices[c, 0] - x, vertices[c, 1] - y, vertices[c, 2] - z
        side = (points[i, 0] - feet[i, 0]) * (uy * wz - uz * wy)
        side += (points[i, 1] - feet[i, 1]) * (uz * wx - ux * wz)
        side += (points[i, 2] - feet[i, 2]) * (ux * wy - uy * wx)
        if side < 0.0:
            distance[i] = -distance[i]


def _signed(points: np.ndarray, surface: Mesh, state: np.ndarray) -> np.ndarray:
    """Distances of points, shape (N, 3), from a surface, mm: positive on the side that it faces."""
    feet = np.empty_like(points)
    distance, triangle = closest_points(surface.tree, points, state, feet)
    check_here()
    _signs(points, feet, triangle, surface.vertices, surface.faces, distance)
    return distance


@stoppable
def deviation_from_raw(mesh: Mesh, raw: Mesh, frame: np.ndarray, progress: Progress, chunk: int = 150_000) -> FromRaw:
    """Deviation of a treated mesh from its raw scan.

    Measured triangles lie on the raw scan by definition, and made ones have nothing to be measured against; the
    shifted ones are measured at every vertex, edge midpoint and centroid.

    Parameters
    ----------
    mesh, raw : Mesh
    frame : ndarray, shape (4, 4)
        What took the raw scan to where the part stands now: turns, shifts and an even scale.
    progress : Progress
    chunk : int
        Triangles measured at once, which bounds the memory.

    Raises
    ------
    Cancelled
    """
    state = progress.step("Measuring the deviation from raw", max(1, len(mesh.faces)))
    areas = mesh.areas
    shares = areas / areas.sum() if areas.sum() > 0 else np.array([1.0, 0.0, 0.0])
    chosen = np.flatnonzero(mesh.provenance == SHIFTED).astype(np.int32)
    nothing = len(chosen) == 0 or len(raw.faces) == 0
    places = mesh if nothing else halve_edges(mesh, max(0, int(np.log(_FINE_ENOUGH / len(mesh.faces)) / np.log(4))))
    progress.check()
    signed = np.zeros(len(places.vertices), dtype=np.float32)
    shifted, only_made = np.zeros((2, len(places.vertices)), dtype=np.bool_)
    _provenance_at_vertices(places.faces, places.provenance, shifted, only_made)
    signed[only_made] = np.nan
    if nothing:
        return FromRaw(mesh, places, signed, summed_up(np.zeros(0)), shares)
    back = np.linalg.inv(frame)
    scale = float(np.cbrt(abs(np.linalg.det(frame[:3, :3]))))

    def in_raw(points: np.ndarray) -> np.ndarray:
        return points if np.array_equal(frame, np.eye(4)) else points @ back[:3, :3].T + back[:3, 3]

    which = np.flatnonzero(shifted)
    distances = []
    for begin in range(0, len(which), 3 * chunk):
        some = which[begin : begin + 3 * chunk]
        signed[some] = _signed(in_raw(places.vertices[some]), raw, state) * scale
        progress.check()
    for begin in range(0, len(chosen), chunk):
        points = in_raw(telling_points(mesh, chosen[begin : begin + chunk]))
        distances.append(closest_points(raw.tree, points, state)[0] * scale)
        state[1] = begin
        progress.check()
    overall = summed_up(np.concatenate(distances))
    farthest = float(np.abs(signed[which]).max(initial=0.0))  # what is painted lies closer together on coarse meshes
    return FromRaw(mesh, places, signed, overall._replace(max=max(overall.max, farthest)), shares)


@stoppable
def deviation_from_reference(mesh: Mesh, reference: Mesh, progress: Progress, chunk: int = 150_000) -> FromRaw:
    """Deviation of a whole mesh from another surface, such as its nominal shape, both as they stand.

    Parameters
    ----------
    mesh, reference : Mesh
    progress : Progress
    chunk : int
        Triangles measured at once, which bounds the memory.

    Raises
    ------
    BadInput
        When the reference has no triangles.
    """
    if len(reference.faces) == 0:
        raise BadInput("the reference has no triangles to measure against; choose another")
    state = progress.step("Measuring against the reference", max(1, len(mesh.faces)))
    areas = mesh.areas
    shares = areas / areas.sum() if areas.sum() > 0 else np.array([1.0, 0.0, 0.0])
    places = halve_edges(mesh, max(0, int(np.log(_FINE_ENOUGH / max(1, len(mesh.faces))) / np.log(4))))
    signed = np.empty(len(places.vertices), dtype=np.float32)
    for begin in range(0, len(signed), 3 * chunk):
        points = np.ascontiguousarray(places.vertices[begin : begin + 3 * chunk])
        signed[begin : begin + 3 * chunk] = _signed(points, reference, state)
        progress.check()
    distances = []
    for begin in range(0, len(mesh.faces), chunk):
        points = telling_points(mesh, np.arange(begin, min(begin + chunk, len(mesh.faces)), dtype=np.int32))
        distances.append(closest_points(reference.tree, points, state)[0])
        state[1] = begin
        progress.check()
    _ = vertex_areas(places)
    return FromRaw(mesh, places, signed, summed_up(np.concatenate(distances or [np.zeros(0)])), shares)


def deviation_from_form(mesh: Mesh, form: Form, triangles: np.ndarray) -> FromRaw:
    """Deviation of a part of a mesh, bool, shape (F,), from the form it should have; infinite elsewhere.

    Parameters
    ----------
    mesh : Mesh
    form : Form
    triangles : ndarray of bool, shape (F,)
    """
    signed = np.full(len(mesh.vertices), np.inf, dtype=np.float32)
    own = np.unique(mesh.faces[triangles])
    signed[own] = off = distances_from(form, mesh.vertices[own])
    areas = mesh.areas
    shares = areas / areas.sum() if areas.sum() > 0 else np.array([1.0, 0.0, 0.0])
    _ = vertex_areas(mesh)
    return FromRaw(mesh, mesh, signed, summed_up(np.abs(off)), shares)


@remembered
def vertex_areas(mesh: Mesh) -> np.ndarray:
    """A third of the area of the triangles round each vertex, mm2, float32, shape (V,).

    Parameters
    ----------
    mesh : Mesh
    """
    thirds = np.repeat(triangle_areas(mesh.vertices, mesh.faces) / 3.0, 3)
    return np.bincount(mesh.faces.ravel(), thirds, len(mesh.vertices)).astype(np.float32)


def share_within(found: FromRaw, tolerance: float) -> float:
    """Share of what was measured that lies within a tolerance, mm, by area; 0 to 1.

    Parameters
    ----------
    found : FromRaw
    tolerance : float
        In mm.

    Examples
    --------
    >>> flat = Mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]])
    >>> off = FromRaw(flat, flat, np.array([0.0, 0.1, 0.3], dtype=np.float32), summed_up(np.zeros(0)), np.zeros(3))
    >>> round(share_within(off, 0.2), 3)
    0.667
    """
    weights = vertex_areas(found.places)
    finite = np.isfinite(found.signed)
    whole = float(weights[finite].sum())
    return float(weights[finite & (np.abs(found.signed) <= tolerance)].sum()) / whole if whole > 0 else 1.0


def triangles_outside(found: FromRaw, tolerance: float) -> np.ndarray:
    """Triangles of which a corner lies further off than a tolerance, mm; bool, shape (F,).

    Parameters
    ----------
    found : FromRaw
    tolerance : float
        In mm.
    """
    own = found.signed[: len(found.mesh.vertices)]  # the mesh's own vertices come first
    return (np.isfinite(own) & (np.abs(own) > tolerance))[found.mesh.faces].any(axis=1)


def signed_distance(point: np.ndarray, raw: Mesh, frame: np.ndarray, state: np.ndarray) -> float:
    """Distance of one point, shape (3,), from a raw scan that `frame` has moved, mm; positive outside it.

    Parameters
    ----------
    point : ndarray, shape (3,)
        In mm.
    raw : Mesh
    frame : ndarray, shape (4, 4)
    state : ndarray
        Progress and cancelling.
    """
    back = np.linalg.inv(frame)
    points = (point @ back[:3, :3].T + back[:3, 3])[None]
    return float(_signed(points, raw, state)[0] * np.cbrt(abs(np.linalg.det(frame[:3, :3]))))
