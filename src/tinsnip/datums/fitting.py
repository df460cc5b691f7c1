"""Fitting a datum: to what was chosen, or to what a click on the surface grows over."""

from typing import NamedTuple

import numpy as np

from tinsnip.datums.datum import Datum, DatumForm, datum_of, upward
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.progress import check_here
from tinsnip.regions import Region
from tinsnip.space.forms import FORMS, Form, Held, Kind, distances, fit_form, form_through, lies_on
from tinsnip.space.registration import Surface, ways_at
from tinsnip.survey.fits import fit_circle
from tinsnip.survey.surfaces import surface_of
from tinsnip.words import counted

__all__ = ["FACING", "Given", "fit_datum", "form_round", "lie_on", "tolerance_of"]

_NOISE, _TRIANGLES, _SIZE = 1.0, 0.03, 2e-5
"""By how much a place may lie off its form: of the noise, of an edge, of the size."""
FACING = np.cos(np.radians(16.0))
"""How a place on a form faces: as the form does, up to this cosine."""
_POINTS = 20_000
"""About so many places are fitted to."""
_TRIES, _FEW_TRIES = 80, 30
_AS_GOOD = 1.25
"""Times the best form's spread up to which a simpler one is taken."""
_LOCAL = 30_000
"""Triangles round a click by which its form is told."""
_PATCHES = (40, 250, 1_500, 8_000)
"""Triangles next to a click through which forms are laid."""
_LARGER = 1.05
"""Times as much that a form has to cover to be taken for a simpler one."""
_MOST = 0.6
"""Share of the surface round a click that is enough of one form: no larger patch tells it better."""
_ROUNDS = 4
"""Rounds in which what lies on a form and the form itself are told in turn."""
_FITTED_BY, _TOLD_BY = 6_000, 800
"""Places by which a form is fitted, and by which it is told which form it is."""
_GROWS = 1.2
"""How much larger a form may become with twice the tolerance, as where forms are found by themselves."""
_NEAR_ENOUGH = 0.7
"""Cosine of how far a form may lie off what it is held to."""
_FEWEST = 6
"""Triangles that a form takes."""
_OFF = 4.0
"""Spreads up to which a corner belongs to the form that was fitted."""


class Given(NamedTuple):
    """What of a datum is given, and not fitted.

    Attributes
    ----------
    radius : float or None
        mm.
    along, square_to : ndarray of shape (3,), or None
        What its way shall be parallel to, or square to; unit.
    """

    radius: float | None = None
    along: np.ndarray | None = None
    square_to: np.ndarray | None = None


def tolerance_of(surface: Surface) -> float:
    """By how much a place on a surface may lie off the form it belongs to, mm.

    Parameters
    ----------
    surface : Surface
    """
    return _NOISE * surface.noise + _TRIANGLES * surface.edge + _SIZE * surface.size


def _corners(mesh: Mesh, chosen: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Corners of some triangles, and how the surface faces there by these triangles alone."""
    faces = mesh.faces[chosen]
    used, own = np.unique(faces, return_inverse=True)
    vectors = np.repeat(face_vectors(mesh.vertices, faces), 3, axis=0)
    ways = np.stack([np.bincount(own.ravel(), vectors[:, k], len(used)) for k in range(3)], axis=1)
    size = np.linalg.norm(ways, axis=1)
    good = size > 0
    points, ways = mesh.vertices[used[good]], ways[good] / size[good, None]
    some = slice(None, None, max(1, len(points) // _POINTS))
    return points[some], ways[some]


def _start(kind: Kind, points: np.ndarray, ways: np.ndarray, rng: np.random.Generator, tries: int) -> Form | None:
    """The best of some forms through few of the points."""
    need = {"plane": 1, "sphere": 2, "cylinder": 2, "cone": 3, "torus": 4}[kind]
    judged = points[:: max(1, len(points) // 2_000)]
    best, least = None, np.inf
    for _ in range(tries):
        own = rng.choice(len(points), need, replace=False)
        form = form_through(kind, points[own], ways[own])
        if form is None or not np.isfinite(form.point).all():
            continue
        off = float(np.median(np.abs(distances(form, judged))))
        if off < least:
            best, least = form, off
    if kind == "plane":  # one normal of a noisy surface tells little
        middle = points.mean(axis=0)
        flat = Form("plane", middle, np.linalg.svd(judged - middle, full_matrices=False)[2][2])
        best = flat if float(np.median(np.abs(distances(flat, judged)))) <= least else best
    return best


def _held(form: Form, given: Given) -> tuple[Form, Held]:
    """A start that has what is given, and what of it stays."""
    if given.radius is not None and form.kind in ("sphere", "cylinder", "torus"):
        form = form._replace(radius=given.radius)
    if form.kind == "sphere":
        return form, Held(given.radius is not None)
    same = given.radius is not None
    if given.along is not None:
        if abs(given.along @ form.way) < _NEAR_ENOUGH:
            raise BadInput("what is chosen does not lie parallel to that datum; choose another")
        return form._replace(way=given.along * np.sign(given.along @ form.way)), Held(same, True)
    if given.square_to is not None:
        way = form.way - (form.way @ given.square_to) * given.square_to
        if np.linalg.norm(way) < _NEAR_ENOUGH:
            raise BadInput("what is chosen does not lie square to that datum; choose another")
        return form._replace(way=way / np.linalg.norm(way)), Held(same, square_to=given.square_to)
    return form, Held(same)


def _fitted(
    kind: Kind, points: np.ndarray, ways: np.ndarray, given: Given, rng: np.random.Generator, rough: bool = False
) -> tuple[Form, float] | None:
    """A form fitted to points, and the spread of their distances; None where none lies near them."""
    try:
        start = _start(kind, points, ways, rng, _FEW_TRIES if rough else _TRIES)
        if start is None:
            return None
        start, held = _held(start, given)
        form, _ = fit_form(points, start, held=held, rough=rough)
    except (BadInput, np.linalg.LinAlgError):
        if any(value is not None for value in given):
            raise
        return None
    size = float(np.ptp(points, axis=0).max())
    if not np.isfinite(form.point).all() or form.radius > 100 * size or form.tube > 100 * max(size, 1.0):
        return None
    return form, 1.4826 * float(np.median(np.abs(distances(form, points))))


def fit_datum(
    mesh: Mesh, chosen: np.ndarray, form: DatumForm | None = None, name: str = "D1", given: Given | None = None
) -> Datum:
    """The datum that lies nearest to chosen triangles, whatever of them does not belong to it.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    form : str, optional
        The simplest that lies as near as the best, unless it is said.
    name : str
    given : Given, optional
        What is not to be fitted.

    Raises
    ------
    BadInput
        When too little is chosen, or no such form lies near it.

    Examples
    --------
    >>> from tests import specimens
    >>> ball = specimens.sphere(40.0, 20).mesh
    >>> fit_datum(ball, np.ones(len(ball.faces), dtype=bool)).form
    'sphere'
    """
    given = given or Given()
    count = int(np.count_nonzero(chosen))
    if count == 0:
        raise BadInput("nothing is chosen; choose some of the surface first")
    if form in ("circle", "line", "point", "axis"):
        return _fit_line_or_circle(mesh, chosen, form, name)
    points, ways = _corners(mesh, chosen)
    if len(points) < _FEWEST:
        raise BadInput(f"{counted(count, 'triangle')} are too few for a form; choose more of the surface")
    rng = np.random.default_rng(3)
    kinds = FORMS if form is None else (form,)
    found = {kind: fit for kind in kinds if (fit := _fitted(kind, points, ways, given, rng)) is not None}
    check_here()
    if not found:
        what = "form" if form is None else form
        raise BadInput(f"no {what} lies near what is chosen; choose less, or another form")
    least = min(spread for _, spread in found.values()) + 1e-7 * float(np.ptp(points, axis=0).max())
    best, spread = next(fit for fit in found.values() if fit[1] <= _AS_GOOD * least)
    own = np.flatnonzero(chosen)
    within = _OFF * spread + 1e-6 * float(np.ptp(points, axis=0).max())
    off = np.abs(distances(best, mesh.vertices[mesh.faces[own]].reshape(-1, 3))).reshape(-1, 3).max(axis=1)
    belongs = np.zeros(len(mesh.faces), dtype=bool)
    belongs[own[off <= within]] = True
    if not belongs.any():
        raise BadInput(f"no {best.kind} lies near what is chosen; choose less, or another form")
    areas = triangle_areas(mesh.vertices, mesh.faces[own])
    used = float(areas[belongs[own]].sum() / max(areas.sum(), 1e-300))
    return datum_of(name, best, mesh, belongs, f"fitted to {counted(count, 'triangle')}", used)


def _fit_line_or_circle(mesh: Mesh, chosen: np.ndarray, form: DatumForm, name: str) -> Datum:
    """A circle, a straight line or a point by the open edges of what is chosen; by all of it, where it has none."""
    own = np.flatnonzero(chosen)
    ends = np.stack([mesh.faces[own], np.roll(mesh.faces[own], -1, axis=1)], axis=2)
    open_ends = ends[mesh.twins.reshape(-1, 3)[own] < 0]
    points = mesh.vertices[np.unique(open_ends if len(open_ends) else mesh.faces[own])]
    told = "fitted to an open edge" if len(open_ends) else f"fitted to {counted(len(own), 'triangle')}"
    region = Region.of(mesh, chosen)
    if form == "circle":
        fit = fit_circle(points)
        off, way = points - fit.centre, upward(fit.normal)
        along = off @ way
        apart = np.hypot(np.linalg.norm(off - along[:, None] * way, axis=1) - fit.radius, along)
        return Datum(
            name=name, form="circle", point=_places(fit.centre), way=_places(way), radius=fit.radius, told=told,
            rms_mm=fit.rms, max_mm=float(apart.max()), region=region,
        )  # fmt: skip
    middle = points.mean(axis=0)
    if form == "point":
        areas = triangle_areas(mesh.vertices, mesh.faces[own])
        middles = mesh.vertices[mesh.faces[own]].mean(axis=1)
        middle = middle if len(open_ends) or areas.sum() == 0 else areas @ middles / areas.sum()
        return Datum(name=name, form="point", point=_places(middle), told=f"middle of {told[10:]}", region=region)
    if len(points) < 2 or np.ptp(points, axis=0).max() == 0:
        raise BadInput("a line takes two places; choose more of the surface")
    way = np.linalg.svd(points - middle, full_matrices=False)[2][0]
    for _ in range(20):  # robust: what lies far off the line counts less
        off = points - middle
        off = np.linalg.norm(off - (off @ way)[:, None] * way, axis=1)
        weight = 1.0 / np.maximum(off, 1e-9 + 1.4826 * float(np.median(off)))
        weight /= weight.sum()
        middle = weight @ points
        way = np.linalg.svd((points - middle) * np.sqrt(weight)[:, None], full_matrices=False)[2][0]
    way = upward(way)
    along = (points - middle) @ way
    off = np.linalg.norm(points - middle - along[:, None] * way, axis=1)
    return Datum(
        name=name, form=form, point=_places(middle), way=_places(way), low=float(along.min()), high=float(along.max()),
        told=told, rms_mm=float(np.sqrt((off**2).mean())), max_mm=float(off.max()), region=region,
    )  # fmt: skip


def _places(values: np.ndarray) -> tuple[float, float, float]:
    return tuple(float(x) for x in values)


def form_round(mesh: Mesh, triangle: int, place: np.ndarray, form: Kind | None = None) -> tuple[Kind, np.ndarray]:
    """The form that the surface has round a place, and how far it reaches.

    Forms are laid through patches of four sizes next to the place; the one that covers most of what hangs together
    round it is taken, of nearly as good ones the simpler.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
    place : ndarray, shape (3,)
        On it, mm.
    form : str, optional
        Only this one is looked for.

    Returns
    -------
    kind : str
    triangles : ndarray of bool, shape (F,)

    Raises
    ------
    BadInput
        When the surface there has no such form.
    """
    surface = surface_of(mesh)
    tolerance = tolerance_of(surface)
    middles = surface.tree.vertices[mesh.faces].mean(axis=1)
    away = ((middles - place) ** 2).sum(axis=1)
    local = np.argsort(away) if len(away) <= _LOCAL else np.argpartition(away, _LOCAL)[:_LOCAL]
    local = local[np.argsort(away[local])]
    if local[0] != triangle:
        local = np.concatenate([[triangle], local[local != triangle]])
    check_here()
    points, ways = middles[local], ways_at(surface.normals, mesh.faces, local)
    areas = triangle_areas(mesh.vertices, mesh.faces[local])
    facing, whole = ways @ ways[0] > 0.2, float(areas.sum())
    rng = np.random.default_rng(5)
    best: tuple[float, Form] | None = None
    for kind in FORMS if form is None else (form,):
        own_best: tuple[float, Form] | None = None
        for size in _PATCHES:
            patch = np.flatnonzero(facing[:size])
            if len(patch) < _FEWEST or (size > 4 * len(local)):
                continue
            some = patch[:: max(1, len(patch) // _TOLD_BY)]
            found = _fitted(kind, points[some], ways[some], Given(), rng, rough=True)
            if found is None:
                continue
            grown = _grown(mesh, found[0], local, points, ways, areas, tolerance)
            if grown is not None and (own_best is None or grown[0] > own_best[0]):
                own_best = grown
            check_here()
            if own_best is not None and own_best[0] > _MOST * whole:
                break
        if own_best is not None and (best is None or own_best[0] > _LARGER * best[0]):
            best = own_best
    if best is None:
        raise BadInput(f"the surface there has no {form or 'form'} that could be told; click another place")
    chosen = _whole(mesh, best[1], middles, surface.normals, triangle, tolerance)
    if form is None:  # a free shape that is nearly flat or round over a patch ends nowhere
        wider = _whole(mesh, best[1], middles, surface.normals, triangle, 2.0 * tolerance)
        now, then = (float(triangle_areas(mesh.vertices, mesh.faces[own]).sum()) for own in (chosen, wider))
        if then > _GROWS * now:
            raise BadInput("the surface there is no plane and no round form; click another place, or say which form")
    return best[1].kind, chosen


def lie_on(
    form: Form, points: np.ndarray, ways: np.ndarray, tolerance: float, chosen: np.ndarray | None = None
) -> np.ndarray:
    """Which places, shape (N, 3), or of them those chosen, lie on a form and face as it does; bool.

    Parameters
    ----------
    form : Form
    points : ndarray, shape (N, 3)
        In mm.
    ways : ndarray, shape (N, 3)
        Unit normals there.
    tolerance : float
        In mm.
    chosen : ndarray of int, optional
        Numbers of the points to be looked at.
    """
    return lies_on(form, points, ways, tolerance, FACING, chosen)


def _grown(
    mesh: Mesh,
    form: Form,
    local: np.ndarray,
    points: np.ndarray,
    ways: np.ndarray,
    areas: np.ndarray,
    tolerance: float,
) -> tuple[float, Form] | None:
    """A form fitted to what hangs together with the first of some triangles, and the area of that."""
    area = 0.0
    for _ in range(_ROUNDS):
        on = lie_on(form, points, ways, tolerance)
        on[0] = True
        own = np.flatnonzero(on)
        label = parts_over_edges(mesh.twins, local[own])
        part = own[label == label[0]]
        now = float(areas[part].sum())
        if len(part) < _FEWEST or now <= 1.001 * area:
            break
        area = now
        some = part[:: max(1, len(part) // _TOLD_BY)]
        try:
            fitted, _ = fit_form(points[some], form, areas[some], robust=False, rough=True)
        except (BadInput, np.linalg.LinAlgError):
            return None
        if not np.isfinite(fitted.point).all() or fitted.radius > 50 * max(float(np.ptp(points, axis=0).max()), 1e-9):
            return None
        form = fitted
    return (area, form) if area > 0 else None


def _whole(
    mesh: Mesh, form: Form, middles: np.ndarray, normals: np.ndarray, triangle: int, tolerance: float
) -> np.ndarray:
    """All of the surface that hangs together with a triangle and lies on a form; which is fitted to it once more."""
    chosen = np.zeros(len(mesh.faces), dtype=bool)
    ways = ways_at(normals, mesh.faces, np.arange(len(mesh.faces)))
    for last in (False, True):
        near = np.flatnonzero(lie_on(form, middles, ways, tolerance))
        own = np.union1d(near, [triangle])
        label = parts_over_edges(mesh.twins, own)
        own = own[label == label[np.searchsorted(own, triangle)]]
        if last:
            chosen[own] = True
        else:
            form, _ = fit_form(middles[own[:: max(1, len(own) // _FITTED_BY)]], form, robust=False)
    return chosen
