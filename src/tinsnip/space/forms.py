"""Forms: planes, spheres, cylinders, cones and tori nearest to points, by their distances, whatever does not belong."""

from typing import Literal, NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.space.polygons import plane_axes

__all__ = ["FORMS", "FREE", "Form", "Held", "Kind", "distances", "fit_form", "form_through", "lies_on", "normals_of"]

Kind = Literal["plane", "sphere", "cylinder", "cone", "torus"]
FORMS: tuple[Kind, ...] = ("plane", "sphere", "cylinder", "cone", "torus")
_NUMBERS = {"plane": 3, "sphere": 4, "cylinder": 5, "cone": 6, "torus": 7}
"""By how many numbers each is told, and so how many points it takes at least."""
_STEPS, _ROUGH_STEPS, _FEW_STEPS = 60, 8, 4
_ROUNDS, _FEW_ROUNDS = 24, 5
_GAIN, _ENOUGH = 1e-15, 1e-5
"""Share of the squares below which a step gains nothing: to the last digit, and to tell which form it is."""
_TUKEY = 4.685
"""Spreads of the distances at which a point counts for nothing; 95 % as sharp as least squares where all belongs."""


class Form(NamedTuple):
    """A form in space; lengths in mm.

    Attributes
    ----------
    kind : str
    point : ndarray, shape (3,)
        On a plane; the middle of a sphere or torus; on the axis of a cylinder; the apex of a cone.
    way : ndarray, shape (3,)
        Unit normal of a plane; axis of a cylinder, a torus, and of a cone from its apex into it. Zero for a sphere.
    radius : float
        Of a sphere or cylinder; of the ring of a torus. Zero for a plane and a cone.
    tube : float
        Radius of a torus' tube; half the angle of a cone, rad. Zero for others.
    """

    kind: Kind
    point: np.ndarray
    way: np.ndarray
    radius: float = 0.0
    tube: float = 0.0


class Held(NamedTuple):
    """What of a form is given, and not fitted.

    Attributes
    ----------
    radius : bool
        Its radius stays as the start has it.
    way : bool
        So does its way.
    square_to : ndarray of shape (3,), or None
        Its way stays square to this unit vector, as the start's is.
    """

    radius: bool = False
    way: bool = False
    square_to: np.ndarray | None = None


FREE = Held()
"""Nothing of it is given."""

_LEANS = {"plane": (1, 2), "sphere": (), "cylinder": (2, 3), "cone": (3, 4), "torus": (3, 4)}
"""Which of its numbers lean a form's way."""
_WIDENS = {"plane": (), "sphere": (3,), "cylinder": (4,), "cone": (), "torus": (5,)}
"""And which change its radius."""


def _fitted_numbers(kind: Kind, held: Held) -> list[int]:
    """Those of a form's numbers that are fitted."""
    given = set(_WIDENS[kind] if held.radius else ())
    if held.way:
        given |= set(_LEANS[kind])
    elif held.square_to is not None:
        given |= set(_LEANS[kind][1:])
    return [k for k in range(_NUMBERS[kind]) if k not in given]


def distances(form: Form, points: np.ndarray) -> np.ndarray:
    """Signed distance of points, shape (N, 3), from a form, mm: positive where a plane's normal points, or outside.

    Parameters
    ----------
    form : Form
    points : ndarray, shape (N, 3)
        In mm.
    """
    off = points - form.point
    if form.kind == "sphere":
        return np.linalg.norm(off, axis=1) - form.radius
    along = off @ form.way
    if form.kind == "plane":
        return along
    out = np.linalg.norm(off - along[:, None] * form.way, axis=1)
    if form.kind == "cylinder":
        return out - form.radius
    if form.kind == "cone":
        return out * np.cos(form.tube) - along * np.sin(form.tube)
    return np.hypot(out - form.radius, along) - form.tube


def normals_of(form: Form, points: np.ndarray) -> np.ndarray:
    """Unit normals of a form, the way that its distance grows, at the places next to points, shape (N, 3).

    Parameters
    ----------
    form : Form
    points : ndarray, shape (N, 3)
        In mm.
    """
    off = points - form.point
    if form.kind == "plane":
        return np.broadcast_to(form.way, points.shape)
    if form.kind == "sphere":
        return off / np.maximum(np.linalg.norm(off, axis=1), 1e-300)[:, None]
    along = off @ form.way
    out = off - along[:, None] * form.way
    reach = np.maximum(np.linalg.norm(out, axis=1), 1e-300)[:, None]
    out = out / reach
    if form.kind == "cylinder":
        return out
    if form.kind == "cone":
        return out * np.cos(form.tube) - form.way * np.sin(form.tube)
    bent = out * (reach - form.radius) + along[:, None] * form.way
    return bent / np.maximum(np.linalg.norm(bent, axis=1), 1e-300)[:, None]


@kernel
def _lie_on(kind, numbers, points, ways, chosen, tolerance, facing, out):
    """Which places lie on a form and face as it does; `numbers`: its point, its way, radius, tube."""
    px, py, pz = numbers[0], numbers[1], numbers[2]
    wx, wy, wz = numbers[3], numbers[4], numbers[5]
    radius, tube = numbers[6], numbers[7]
    cosine, sine = np.cos(tube), np.sin(tube)
    for n in range(chosen.shape[0]):
        i = chosen[n]
        x, y, z = points[i, 0] - px, points[i, 1] - py, points[i, 2] - pz
        nx, ny, nz = ways[i, 0], ways[i, 1], ways[i, 2]
        if kind == 0:
            off, across = x * wx + y * wy + z * wz, nx * wx + ny * wy + nz * wz
        elif kind == 1:
            reach = np.sqrt(x * x + y * y + z * z)
            off = reach - radius
            across = (nx * x + ny * y + nz * z) / max(reach, 1e-300)
        else:
            along = x * wx + y * wy + z * wz
            x, y, z = x - along * wx, y - along * wy, z - along * wz
            reach = np.sqrt(x * x + y * y + z * z)
            out_facing = (nx * x + ny * y + nz * z) / max(reach, 1e-300)
            along_facing = nx * wx + ny * wy + nz * wz
            if kind == 2:
                off, across = reach - radius, out_facing
            elif kind == 3:
                off = reach * cosine - along * sine
                across = out_facing * cosine - along_facing * sine
            else:
                bend = np.sqrt((reach - radius) ** 2 + along * along)
                off = bend - tube
                across = (out_facing * (reach - radius) + along_facing * along) / max(bend, 1e-300)
        out[n] = abs(off) <= tolerance and abs(across) >= facing


def lies_on(
    form: Form, points: np.ndarray, ways: np.ndarray, tolerance: float, facing: float, chosen: np.ndarray | None = None
) -> np.ndarray:
    """Which places lie on a form and face as it does.

    Parameters
    ----------
    form : Form
    points, ways : ndarray of float64, shape (N, 3)
        With unit normals.
    tolerance : float
        mm.
    facing : float
        Cosine of the angle by which they may lean from its normal, either way.
    chosen : ndarray of int64, shape (M,), optional
        Only these are asked of.

    Returns
    -------
    ndarray of bool, shape (N,) or (M,)
    """
    chosen = np.arange(len(points)) if chosen is None else chosen
    numbers = np.array([*form.point, *form.way, form.radius, form.tube])
    out = np.empty(len(chosen), dtype=np.bool_)
    points, ways = np.ascontiguousarray(points), np.ascontiguousarray(ways, dtype=np.float64)
    _lie_on(FORMS.index(form.kind), numbers, points, ways, chosen, float(tolerance), float(facing), out)
    return out


# ---- the fit: each form as numbers about a frame of its own, improved by Gauss and Newton


def _leans(form: Form, held: Held) -> tuple[np.ndarray, np.ndarray]:
    """The two ways that a form's way leans; the first keeps it square to what it is held to."""
    if form.kind == "sphere":
        return np.zeros(3), np.zeros(3)
    if held.square_to is None:
        return plane_axes(form.way)
    u = np.cross(held.square_to, form.way)
    return u, np.cross(form.way, u)


def _slopes(form: Form, points: np.ndarray, held: Held) -> np.ndarray:
    """How each distance changes with each number of a form, shape (N, K)."""
    normals, off = normals_of(form, points), points - form.point
    if form.kind == "sphere":
        return np.column_stack([-normals, np.full(len(points), -1.0)])
    along = off @ form.way
    u, v = _leans(form, held)
    facing = normals @ form.way
    leans = [facing * (off @ way) - (normals @ way) * along for way in (u, v)]
    if form.kind == "plane":
        return np.column_stack([np.full(len(points), -1.0), *leans])
    if form.kind == "cylinder":
        return np.column_stack([-normals @ u, -normals @ v, *leans, np.full(len(points), -1.0)])
    out = np.linalg.norm(off - along[:, None] * form.way, axis=1)
    if form.kind == "cone":
        return np.column_stack([-normals, *leans, -out * np.sin(form.tube) - along * np.cos(form.tube)])
    ring = (out - form.radius) / np.maximum(np.hypot(out - form.radius, along), 1e-300)
    return np.column_stack([-normals, *leans, -ring, np.full(len(points), -1.0)])


def _moved(form: Form, step: np.ndarray, held: Held = FREE) -> Form:
    """A form after a small step: shift of its point, lean of its way, radius, tube; what it has of these."""
    u, v = _leans(form, held)
    if form.kind == "sphere":
        return form._replace(point=form.point + step[:3], radius=form.radius + step[3])
    if form.kind == "plane":
        way = form.way + step[1] * u + step[2] * v
        return form._replace(point=form.point + step[0] * form.way, way=way / np.linalg.norm(way))
    if form.kind == "cylinder":
        way = form.way + step[2] * u + step[3] * v
        point = form.point + step[0] * u + step[1] * v
        return form._replace(point=point, way=way / np.linalg.norm(way), radius=form.radius + step[4])
    way = form.way + step[3] * u + step[4] * v
    point, way = form.point + step[:3], way / np.linalg.norm(way)
    if form.kind == "cone":
        return form._replace(point=point, way=way, tube=form.tube + step[5])
    return form._replace(point=point, way=way, radius=form.radius + step[5], tube=form.tube + step[6])


def _improved(form: Form, points: np.ndarray, weights: np.ndarray, steps: int, held: Held, gain: float) -> Form:
    """Least squares of the distances, by steps of Levenberg and Marquardt."""
    root, count, fitted = np.sqrt(weights), _NUMBERS[form.kind], _fitted_numbers(form.kind, held)
    damping, off = 1e-6, distances(form, points) * root
    best = float(off @ off)
    for _ in range(steps):
        rows = _slopes(form, points, held)[:, fitted] * root[:, None]
        square, right = rows.T @ rows, -(rows.T @ off)
        for _ in range(12):
            step = np.zeros(count)
            step[fitted] = np.linalg.lstsq(square + damping * np.diag(np.diag(square) + 1e-12), right, rcond=None)[0]
            tried = _moved(form, step, held)
            ahead = distances(tried, points) * root
            now = float(ahead @ ahead)
            if np.isfinite(now) and now <= best:
                break
            damping *= 8.0
        else:
            return form
        gained = best - now
        form, off, best, damping = tried, ahead, now, max(damping / 8.0, 1e-12)
        if np.abs(step).max() < 1e-12 or gained <= gain * best:
            break
    return form


def fit_form(
    points: np.ndarray,
    start: Form,
    weights: np.ndarray | None = None,
    robust: bool = True,
    held: Held = FREE,
    rough: bool = False,
) -> tuple[Form, np.ndarray]:
    """The form nearest to points, from about where it is.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    start : Form
        About the form; `form_through` gives one.
    weights : ndarray, shape (N,), optional
        The area that each point stands for.
    robust : bool
        Whether points that do not belong are found, and left out (Tukey's biweight).
    held : Held
        What of the start is given.
    rough : bool
        To three figures or so, which is a tenth of the work.

    Returns
    -------
    form : Form
    share : ndarray, shape (N,)
        How much each point counted, 0 to 1.

    Raises
    ------
    BadInput
        When there are too few points.

    References
    ----------
    Forbes, Least-squares best-fit geometric elements, NPL report DITC 140/89 (1989); distances, not algebraic ones.

    Examples
    --------
    >>> points = np.random.default_rng(0).normal(size=(200, 3))
    >>> points = 5.0 * points / np.linalg.norm(points, axis=1)[:, None]
    >>> form, share = fit_form(points, Form("sphere", np.ones(3), np.zeros(3), 4.0))
    >>> round(form.radius, 9)
    5.0
    """
    if len(points) < _NUMBERS[start.kind]:
        raise BadInput(f"{len(points)} points are too few for a {start.kind}; choose more of the surface")
    middle = points.mean(axis=0)
    size = max(float(np.sqrt(((points - middle) ** 2).sum(axis=1).mean())), 1e-300)
    own = (points - middle) / size
    flat = start.kind in ("plane", "cone")
    form = start._replace(point=(start.point - middle) / size, radius=start.radius / size)
    form = form._replace(tube=start.tube / size if start.kind == "torus" else start.tube)
    weights = np.ones(len(points)) if weights is None else weights / weights.mean()
    share = _share(form, own) if robust else np.ones(len(points))
    rounds, gain = (_FEW_ROUNDS, _ENOUGH) if rough else (_ROUNDS, _GAIN)
    steps = _FEW_STEPS if robust else _ROUGH_STEPS if rough else _STEPS
    for _ in range(rounds if robust else 1):
        form = _improved(form, own, weights * share, steps, held, gain)
        if not robust:
            break
        before, share = share, _share(form, own)
        if np.abs(share - before).mean() < 1e-4:
            break
    form = form._replace(point=form.point * size + middle, radius=0.0 if flat else abs(form.radius) * size)
    if start.kind == "torus":
        form = form._replace(tube=abs(form.tube) * size)
    if start.kind == "cone" and form.tube < 0:
        form = form._replace(way=-form.way, tube=-form.tube)
    if start.kind in ("plane", "cylinder"):  # the place on it that is next to the middle of the points
        off = middle - form.point
        along = (off @ form.way) * form.way
        form = form._replace(point=middle - along if start.kind == "plane" else form.point + along)
    return form, share


def _share(form: Form, points: np.ndarray) -> np.ndarray:
    """How much each point counts for a form, by how far off it lies among the others."""
    off = np.abs(distances(form, points))
    return np.maximum(0.0, 1.0 - (off / (_TUKEY * max(1.4826 * float(np.median(off)), 1e-12))) ** 2) ** 2


# ---- from few points and their normals


def form_through(kind: Kind, points: np.ndarray, ways: np.ndarray) -> Form | None:
    """A form through few points by their normals; None where they give none.

    Parameters
    ----------
    kind : str
        A plane takes one point, a sphere and a cylinder two, a cone three, a torus four.
    points, ways : ndarray, shape (N, 3)
        With unit normals, the way that the surface faces, inward or outward.

    References
    ----------
    Schnabel, Wahl and Klein, Efficient RANSAC for point-cloud shape detection, Computer Graphics Forum 26 (2007).
    """
    if kind == "plane":
        return Form("plane", points[0], ways[0])
    if kind == "sphere":
        found = _nearest_of_lines(points[0], ways[0], points[1], ways[1])
        if found is None:
            return None
        radii = np.linalg.norm(points[:2] - found, axis=1)
        return Form("sphere", found, np.zeros(3), float(radii.mean()))
    if kind == "cylinder":
        way = np.cross(ways[0], ways[1])
        size = float(np.linalg.norm(way))
        if size < 0.1:
            return None
        way /= size
        flat = [x - (x @ way) * way for x in (points[0], ways[0], points[1], ways[1])]
        found = _nearest_of_lines(*flat)
        if found is None:
            return None
        found = found + (points[0] @ way) * way
        out = points[:2] - found
        radius = float(np.linalg.norm(out - (out @ way)[:, None] * way, axis=1).mean())
        return Form("cylinder", found, way, radius)
    if kind == "cone":
        try:
            apex = np.linalg.solve(ways[:3], (ways[:3] * points[:3]).sum(axis=1))
        except np.linalg.LinAlgError:
            return None
        rays = points[:3] - apex
        length = np.linalg.norm(rays, axis=1)
        if not np.isfinite(length).all() or (length < 1e-12).any():
            return None
        rays /= length[:, None]
        way = np.cross(rays[1] - rays[0], rays[2] - rays[0])
        size = float(np.linalg.norm(way))
        if size < 1e-3:
            return None
        way *= np.sign(way @ rays.sum(axis=0)) / size
        angle = float(np.arccos(np.clip(rays @ way, -1, 1)).mean())
        return Form("cone", apex, way, 0.0, angle) if 0.05 < angle < 1.45 else None
    return _torus_through(points, ways)


def _nearest_of_lines(a: np.ndarray, u: np.ndarray, b: np.ndarray, v: np.ndarray) -> np.ndarray | None:
    """The place that comes nearest to two lines, each by a point and a way; None where they run alongside."""
    uu, vv, uv, off = u @ u, v @ v, u @ v, b - a
    under = uu * vv - uv * uv
    if under < 0.01 * uu * vv:
        return None
    s, t = (off @ u * vv - off @ v * uv) / under, (off @ u * uv - off @ v * uu) / under
    return 0.5 * (a + s * u + b + t * v)


def _torus_through(points: np.ndarray, ways: np.ndarray) -> Form | None:
    """A torus by its axis, which all its normals meet: the line through four others, found step by step."""
    if len(points) < 4:
        return None
    # lines in Plücker's coordinates: the axis meets each, so that it lies in what is left of six by four of them
    lines = np.concatenate([np.cross(points[:4], ways[:4]), ways[:4]], axis=1)
    left = np.linalg.svd(lines)[2][4:]
    one, other = left
    # of their mixes those that are lines: way and moment stand square to each other
    a = one[:3] @ one[3:]
    b = one[:3] @ other[3:] + other[:3] @ one[3:]
    c = other[:3] @ other[3:]
    roots = np.roots([a, b, c]) if abs(a) > 1e-15 else np.array([])
    best, least = None, np.inf
    for mix in roots:
        if abs(mix.imag) > 1e-6:
            continue
        line = mix.real * one + other
        way, moment = line[:3], line[3:]
        size = float(np.linalg.norm(way))
        if size < 1e-9:
            continue
        way, moment = way / size, moment / size
        on = np.cross(way, moment)
        off = points[:4] - on
        along = off @ way
        out = np.linalg.norm(off - along[:, None] * way, axis=1)
        # in the half plane round the axis the section is a circle: its middle lies on each normal
        slope_out = np.array(
            [w @ ((o - h * way) / max(r, 1e-12)) for w, o, h, r in zip(ways[:4], off, along, out, strict=True)]
        )
        slope = ways[:4] @ way
        rows = np.column_stack([slope, -slope_out])
        right = slope * out - slope_out * along
        middle, *_ = np.linalg.lstsq(rows, right, rcond=None)
        reach = np.hypot(out - middle[0], along - middle[1])
        spread = float(reach.std())
        if middle[0] > 0 and spread < least:
            least = spread
            best = Form("torus", on + middle[1] * way, way, float(middle[0]), float(reach.mean()))
    return best
