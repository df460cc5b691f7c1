"""Datums: the planes, cylinders, spheres, cones and tori that a surface is made of, found by themselves."""

from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.datums.datum import Datum, datum_of
from tinsnip.datums.fitting import FACING, lie_on, tolerance_of
from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import spread_by_area, triangle_areas
from tinsnip.progress import Progress, check_here, stoppable
from tinsnip.space.forms import FORMS, Form, distances, fit_form, form_through, normals_of
from tinsnip.space.polygons import plane_axes
from tinsnip.space.registration import Surface, ways_at
from tinsnip.survey.surfaces import surface_of

__all__ = ["Found", "find_datums", "find_forms"]

_POINTS = 24_000
"""Points by which forms are looked for: a form of 1 % of the area has 240 of them."""
_JUDGED_BY = 1_500
_TRIES = 60
"""Tori that are tried in a round, through points next to each other."""
_SEEDS = 120
"""Patches of each size that are looked at in a round: a form of 1 % of the area is met by one of them."""
_KEPT = 60
"""Forms that are kept from round to round."""
_NEAR = (24, 120, 600)
"""Points of a patch."""
_PATCH = 40
"""Of which so many tell its form."""
_FITS = 0.7
"""Share of a patch that has to lie on its form, and to be free."""
_CURVED = 2e-4
"""Mean square of the sine by which normals lean, above which a patch is round, not flat: 0.8 degrees."""
_ACUTE = 0.05
"""Half the angle of a cone, rad, above which it is no cylinder, and below which it is no plane."""
_SIMPLER = 0.95
"""Share of the most points by which a simpler form is taken: a plane before a cylinder of any radius."""
_GROWS, _RING_GROWS = 1.2, 1.08
"""How much larger a form may become with twice the tolerance: one that ends at an edge stays as it is (1.02 to 1.14 on
a cast cover), a patch of a free shape that happens to be nearly flat or round grows by 1.4 and more. A torus bends four
ways, and lies along a flattened ring over a twentieth of a part's area growing by 1.11 to 1.16."""
_SPREADS = 4.0
"""The same with three times the tolerance, before a form is fitted."""
_WIDE = 3.0
"""Edges that a round has to span, each way: sharp edges are rounded over two of them where noise was evened out."""
_MEASURED = 1.6
"""Tolerances that the corners as they were measured may lie off a form (rms): 1.1 on noisy flats and rounds, 1.9 where
evening out made a bevel of a sharp edge."""
_LOOKED_AT = 4
_FITTED_BY = 6_000
_ROUNDS = 80
_VAIN = 3
"""Rounds without a form after which no more is looked for."""
_ALMOST_FLAT = 0.02
"""Sagitta of a form over what it covers, as a share of the extent, below which it is called a plane's business."""


class Found(NamedTuple):
    """A form that a part of the surface has.

    Attributes
    ----------
    form : Form
    triangles : ndarray of bool, shape (F,)
        Those that lie on it.
    share : float
        Their share of the area.
    """

    form: Form
    triangles: np.ndarray
    share: float


class _Seen(NamedTuple):
    points: np.ndarray
    ways: np.ndarray
    of: np.ndarray
    tree: cKDTree
    tolerance: float
    edge: float


def _looked_at(mesh: Mesh, surface: Surface) -> _Seen:
    points, of = spread_by_area(surface.tree.vertices, mesh.faces, _POINTS, seed=5)
    ways = ways_at(surface.normals, mesh.faces, of)
    return _Seen(points, ways, of, cKDTree(points), tolerance_of(surface), surface.edge)


def _tried(seen: _Seen, left: np.ndarray, rng: np.random.Generator) -> list[Form]:
    """Forms of patches of the surface that belong to none yet."""
    numbers = np.flatnonzero(left)
    forms: list[Form] = []
    for wide in _NEAR:
        wide = min(wide, len(seen.points))
        seeds = rng.choice(numbers, min(_SEEDS, len(numbers)), replace=False)
        near = seen.tree.query(seen.points[seeds], k=wide)[1].reshape(len(seeds), wide)[:, :: max(1, wide // _PATCH)]
        near = near[left[near].mean(axis=1) > _FITS]
        if near.shape[1] >= 4 and len(near):
            forms += _patch_forms(seen, near)
        check_here()
    for _ in range(_TRIES):  # a torus has no such direct answer
        near = seen.tree.query(seen.points[int(rng.choice(numbers))], k=min(int(rng.choice(_NEAR)), len(seen.points)))[
            1
        ]
        near = np.atleast_1d(near)[left[np.atleast_1d(near)]]
        if len(near) < 8:
            continue
        chosen = rng.choice(near, 4, replace=False)
        form = form_through("torus", seen.points[chosen], seen.ways[chosen])
        if form is not None and lie_on(form, seen.points[chosen], seen.ways[chosen], seen.tolerance).all():
            forms.append(form)
    check_here()
    return forms


def _patch_forms(seen: _Seen, near: np.ndarray) -> list[Form]:
    """Plane, sphere, cylinder and cone of each patch, by the normals in it, as far as it lies on them.

    Parameters
    ----------
    seen : _Seen
    near : ndarray of int, shape (S, K)
        The points of each patch.
    """
    points, ways = seen.points[near], seen.ways[near]
    middle = points.mean(axis=1)
    off = points - middle[:, None]
    outer = np.einsum("ski,skj->skij", ways, ways)
    spread, axes = np.linalg.eigh(outer.mean(axis=1))
    facing = ways.mean(axis=1)
    facing /= np.maximum(np.linalg.norm(facing, axis=1), 1e-300)[:, None]
    # a sphere's middle lies on all normals, a cone's apex in all tangent planes
    tiny = 1e-12 * np.eye(3)
    across = (np.eye(3) - outer).mean(axis=1) + tiny
    ball = np.linalg.solve(across, np.einsum("skij,skj->si", np.eye(3) - outer, off)[..., None] / near.shape[1])[..., 0]
    apex = np.linalg.solve(outer.mean(axis=1) + tiny, np.einsum("skij,skj->si", outer, off)[..., None] / near.shape[1])[
        ..., 0
    ]
    about = ways - ways.mean(axis=1)[:, None]
    slant = np.linalg.eigh(np.einsum("ski,skj->sij", about, about) / near.shape[1])[1][..., 0]
    size = float(np.ptp(seen.points, axis=0).max())

    def lies(far: np.ndarray, across: np.ndarray) -> np.ndarray:
        """Which patches lie on their forms, by the distances of their points, and by the forms' normals there."""
        on = (np.abs(far) <= seen.tolerance) & (np.abs((across * ways).sum(axis=2)) >= FACING)
        return on.mean(axis=1) >= _FITS

    def unit(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        length = np.linalg.norm(rows, axis=2)
        return length, rows / np.maximum(length, 1e-300)[..., None]

    found: list[Form] = []
    good = lies(np.einsum("ski,si->sk", off, facing), np.broadcast_to(facing[:, None], off.shape))
    found += [Form("plane", middle[s], facing[s]) for s in np.flatnonzero(good)]
    reach, out = unit(off - ball[:, None])
    radius = reach.mean(axis=1)
    good = lies(reach - radius[:, None], out) & (spread[:, 0] > _CURVED)
    found += [Form("sphere", middle[s] + ball[s], np.zeros(3), float(radius[s])) for s in np.flatnonzero(good)]
    # of a cylinder, seen along its axis: its middle lies on all normals
    flat, lines = np.einsum("ski,sij->skj", off, axes[..., 1:]), np.einsum("ski,sij->skj", ways, axes[..., 1:])
    rows = np.stack([lines[..., 1], -lines[..., 0]], axis=2)
    square = np.einsum("ski,skj->sij", rows, rows) + 1e-12 * np.eye(2)
    right = np.einsum("ski,sk->si", rows, (rows * flat).sum(axis=2))
    centre = np.einsum("sij,sj->si", axes[..., 1:], np.linalg.solve(square, right[..., None])[..., 0])
    out = off - centre[:, None]
    reach, out = unit(out - np.einsum("ski,si->sk", out, axes[..., 0])[..., None] * axes[:, None, :, 0])
    radius = reach.mean(axis=1)
    is_round = spread[:, 1] > _CURVED
    good = lies(reach - radius[:, None], out) & is_round & (radius < size)
    found += [Form("cylinder", middle[s] + centre[s], axes[s, :, 0], float(radius[s])) for s in np.flatnonzero(good)]
    rays = off - apex[:, None]
    way = slant * (np.sign(np.einsum("ski,si->s", rays, slant)) + 0.0)[:, None]
    along = np.einsum("ski,si->sk", rays, way)
    reach, out = unit(rays - along[..., None] * way[:, None])
    half = np.arctan2(reach, along).mean(axis=1)
    cosine, sine = np.cos(half)[:, None], np.sin(half)[:, None]
    good = lies(reach * cosine - along * sine, out * cosine[..., None] - way[:, None] * sine[..., None])
    good &= is_round & (half > _ACUTE) & (half < 0.5 * np.pi - _ACUTE) & (along.max(axis=1) < 4 * size)
    found += [Form("cone", middle[s] + apex[s], way[s], 0.0, float(half[s])) for s in np.flatnonzero(good)]
    return found


def _best(forms: list[Form], seen: _Seen, left: np.ndarray, rng: np.random.Generator) -> list[Form]:
    """The forms with the most points that are left, the best first; of nearly as good ones the simpler."""
    numbers = np.flatnonzero(left)
    some = rng.choice(numbers, min(_JUDGED_BY, len(numbers)), replace=False)
    counts = np.array([lie_on(f, seen.points[some], seen.ways[some], seen.tolerance).sum() for f in forms])
    kinds = np.array([FORMS.index(form.kind) for form in forms])
    worth = counts * (1.0 + 0.5 * (1.0 - _SIMPLER)) ** -kinds
    return [forms[i] for i in np.argsort(-worth, kind="stable")[:_KEPT] if counts[i] > 0]


def _part(mesh: Mesh, middles: np.ndarray, ways: np.ndarray, form: Form, free: np.ndarray, within: float) -> np.ndarray:
    """The largest part of the surface that hangs together and lies on a form, bool, shape (F,)."""
    own = free[lie_on(form, middles, ways, within, free)]
    on = np.zeros(len(mesh.faces), dtype=bool)
    if len(own):
        label = parts_over_edges(mesh.twins, own)
        on[own[label == np.bincount(label).argmax()]] = True
    return on


def _curves(points: np.ndarray) -> float:
    """How far a surface bends over what it covers, as a share of the extent."""
    middle = points.mean(axis=0)
    spread = np.linalg.svd((points - middle)[:: max(1, len(points) // 4_000)], full_matrices=False)
    heights = (points - middle) @ spread[2][2]
    return float(np.ptp(heights) / max(np.ptp((points - middle) @ spread[2][0]), 1e-300))


def find_datums(mesh: Mesh, progress: Progress | None = None, least: float = 0.01) -> list[Datum]:
    """The forms that parts of a surface have as datums, D1 the largest; as `find_forms`.

    Parameters
    ----------
    mesh : Mesh
    progress : Progress, optional
    least : float
        Share of the surface, 0 to 1, below which a form is none.
    """
    found = find_forms(mesh, progress, least)
    return [datum_of(f"D{i}", one.form, mesh, one.triangles, "found by itself") for i, one in enumerate(found, 1)]


@stoppable
def find_forms(mesh: Mesh, progress: Progress | None = None, least: float = 0.01) -> list[Found]:
    """The forms that parts of a surface have, the largest first.

    Parameters
    ----------
    mesh : Mesh
    progress : Progress, optional
    least : float
        Share of the area that a form needs.

    Returns
    -------
    list of Found

    References
    ----------
    Schnabel, Wahl and Klein, Efficient RANSAC for point-cloud shape detection, Computer Graphics Forum 26 (2007); each
    form then fitted by its distances, and held against twice the tolerance, so that no free shape passes for one.
    """
    progress = progress or Progress()
    state = progress.step("Looking for forms", 100)
    surface = surface_of(mesh)
    if len(surface.points) == 0:
        return []
    seen, rng = _looked_at(mesh, surface), np.random.default_rng(11)
    evened = surface.tree.vertices
    middles = evened[mesh.faces].mean(axis=1)
    areas = triangle_areas(mesh.vertices, mesh.faces)
    ways = ways_at(surface.normals, mesh.faces, np.arange(len(mesh.faces)))
    whole = float(areas.sum())
    free, left = np.arange(len(mesh.faces)), np.ones(len(seen.points), dtype=bool)
    found: list[tuple[Form, np.ndarray]] = []
    pool: list[Form] = []
    vain = 0
    for _ in range(_ROUNDS):
        if left.sum() < least * len(left) or vain >= _VAIN:
            break
        pool = _best(pool + _tried(seen, left, rng), seen, left, rng)
        taken = None
        for form in pool[:_LOOKED_AT]:
            pool = [other for other in pool if other is not form]
            if _promises(form, seen, left, least):
                taken = _settled(mesh, form, seen, middles, ways, free, areas, least * whole)
            if taken is not None:
                break
        if taken is None:
            vain += 1
            continue
        form, triangles = taken
        vain = 0
        found.append(taken)
        free = free[~triangles[free]]
        # what lies on it beside is its edge and its noise: no form of its own
        left &= ~lie_on(form, seen.points, seen.ways, 2.0 * seen.tolerance) | ~_covers(triangles, seen)
        state[1] = round(100 * (1.0 - left.mean()))
        check_here()
    found.sort(key=lambda pair: -float(areas[pair[1]].sum()))
    settled = [(_by_what_was_measured(mesh, form, own, seen.tolerance), own) for form, own in found]
    return [Found(form, own, float(areas[own].sum()) / whole) for form, own in settled if form is not None]


def _promises(form: Form, seen: _Seen, left: np.ndarray, least: float) -> bool:
    """Whether as many of the points lie on a form as one of its size has, and not many more a little beside."""
    some = np.flatnonzero(left)
    points, ways = seen.points[some], seen.ways[some]
    count = int(lie_on(form, points, ways, seen.tolerance).sum())
    if count < 0.7 * least * len(left):
        return False
    return int(lie_on(form, points, ways, 3.0 * seen.tolerance).sum()) < _SPREADS * count


def _covers(triangles: np.ndarray, seen: _Seen) -> np.ndarray:
    """Which of the points lie on some triangles, bool, shape (F,), or next to one that does."""
    own = triangles[seen.of]
    if not own.any():
        return own
    gap = np.median(seen.tree.query(seen.points[:: max(1, len(seen.points) // 500)], k=2)[0][:, 1])
    near = cKDTree(seen.points[own]).query(seen.points, distance_upper_bound=4 * gap)[0]
    return own | np.isfinite(near)


def _is_wide(form: Form, places: np.ndarray, least: float) -> bool:
    """Whether a round is more than the roundness that evening out gives a sharp edge."""
    if form.kind == "plane":
        return True
    if form.kind in ("sphere", "torus"):
        return (form.radius if form.kind == "sphere" else form.tube) >= least
    along = (places - form.point) @ form.way
    if form.kind == "cylinder":
        return form.radius >= least and float(np.ptp(along)) >= least
    return float(np.ptp(along)) / np.cos(form.tube) >= 1.5 * least and along.max() * np.tan(form.tube) >= least


def _settled(
    mesh: Mesh,
    form: Form,
    seen: _Seen,
    middles: np.ndarray,
    ways: np.ndarray,
    free: np.ndarray,
    areas: np.ndarray,
    least: float,
) -> tuple[Form, np.ndarray] | None:
    """A form fitted to the part of the surface that lies on it, and that part; None where it is none."""
    for wide in (2.0, 1.0, 1.0):
        part = _part(mesh, middles, ways, form, free, wide * seen.tolerance)
        if areas[part].sum() < 0.6 * least:
            return None
        own = np.flatnonzero(part)
        own = own[:: max(1, len(own) // _FITTED_BY)]
        form, _ = fit_form(middles[own], form, areas[own], robust=False, rough=True)
        if not np.isfinite(form.point).all() or form.radius > 50 * np.ptp(middles, axis=0).max():
            return None
    part = _part(mesh, middles, ways, form, free, seen.tolerance)
    area = float(areas[part].sum())
    if area < least:
        return None
    wider = _part(mesh, middles, ways, form, free, 2.0 * seen.tolerance)
    if float(areas[wider].sum()) > (_RING_GROWS if form.kind == "torus" else _GROWS) * area:
        return None
    if form.kind != "plane" and _curves(middles[part]) < _ALMOST_FLAT:
        return None
    if not _is_wide(form, middles[part], _WIDE * seen.edge):
        return None
    return _simplest(mesh, form, part, seen, middles, ways, free, areas)


def _simplest(
    mesh: Mesh,
    form: Form,
    part: np.ndarray,
    seen: _Seen,
    middles: np.ndarray,
    ways: np.ndarray,
    free: np.ndarray,
    areas: np.ndarray,
) -> tuple[Form, np.ndarray]:
    """A form, or a cylinder that does as well: a slight cone, and a piece of a large ring, are no more than that."""
    if form.kind not in ("cone", "torus"):
        return form, part
    own = np.flatnonzero(part)
    own = own[:: max(1, len(own) // _FITTED_BY)]
    places = middles[own]
    normals = normals_of(form, places)
    way = np.linalg.svd(normals, full_matrices=False)[2][2]
    u, v = plane_axes(way)
    # of each normal the line across the axis: the axis meets all of them
    flat, facing = places @ np.stack([u, v], axis=1), normals @ np.stack([u, v], axis=1)
    across = np.stack([-facing[:, 1], facing[:, 0]], axis=1)
    middle = np.linalg.lstsq(across, (across * flat).sum(axis=1), rcond=None)[0]
    radius = float(np.linalg.norm(flat - middle, axis=1).mean())
    start = Form("cylinder", middle[0] * u + middle[1] * v, way, radius)
    simple, _ = fit_form(places, start, areas[own], robust=False, rough=True)
    if not np.isfinite(simple.point).all():
        return form, part
    round_part = _part(mesh, middles, ways, simple, free, seen.tolerance)
    as_well = float(areas[round_part].sum()) > _SIMPLER * float(areas[part].sum())
    return (simple, round_part) if as_well else (form, part)


def _by_what_was_measured(mesh: Mesh, form: Form, own: np.ndarray, tolerance: float) -> Form | None:
    """A form fitted to the corners themselves, not to what was evened out; None where these do not lie on it."""
    corners = mesh.vertices[np.unique(mesh.faces[own])]
    corners = corners[:: max(1, len(corners) // _FITTED_BY)]
    form, _ = fit_form(corners, form)
    off = distances(form, corners)
    return form if float(np.sqrt((off**2).mean())) <= _MEASURED * tolerance else None
