"""Forms: planes, spheres, cylinders, cones and tori nearest to points, by their distances, whatever does not belong."""

from typing import Literal, NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.space.polygons import plane_axes

__all__ = ["FORMS", "Form", "Kind", "distances", "fit_form", "form_through", "normals_of"]

Kind = Literal["plane", "sphere", "cylinder", "cone", "torus"]
FORMS: tuple[Kind, ...] = ("plane", "sphere", "cylinder", "cone", "torus")
_NUMBERS = {"plane": 3, "sphere": 4, "cylinder": 5, "cone": 6, "torus": 7}
"""By how many numbers each is told, and so how many points it takes at least."""
_STEPS, _FEW_STEPS = 60, 4
_ROUNDS = 24
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


def distances(form: Form, points: np.ndarray) -> np.ndarray:
    """Signed distance of points, shape (N, 3), from a form, mm: positive where a plane's normal points, or outside."""
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
    """Unit normals of a form, the way that its distance grows, at the places next to points, shape (N, 3)."""
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


# ---- the fit: each form as numbers about a frame of its own, improved by Gauss and Newton


def _moved(form: Form, step: np.ndarray) -> Form:
    """A form after a small step: shift of its point, lean of its way, radius, tube; what it has of these."""
    u, v = plane_axes(form.way) if form.kind != "sphere" else (np.zeros(3), np.zeros(3))
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


def _improved(form: Form, points: np.ndarray, weights: np.ndarray, steps: int) -> Form:
    """Least squares of the distances, by steps of Levenberg and Marquardt; the derivatives are differences."""
    root, count = np.sqrt(weights), _NUMBERS[form.kind]
    damping, off = 1e-6, distances(form, points) * root
    best = float(off @ off)
    for _ in range(steps):
        rows = np.empty((len(points), count))
        for k in range(count):
            step = np.zeros(count)
            step[k] = 1e-6
            ahead = distances(_moved(form, step), points)
            step[k] = -1e-6
            rows[:, k] = (ahead - distances(_moved(form, step), points)) * root / 2e-6
        square, right = rows.T @ rows, -(rows.T @ off)
        for _ in range(12):
            step = np.linalg.lstsq(square + damping * np.diag(np.diag(square) + 1e-12), right, rcond=None)[0]
            tried = _moved(form, step)
            ahead = distances(tried, points) * root
            now = float(ahead @ ahead)
            if np.isfinite(now) and now <= best:
                break
            damping *= 8.0
        else:
            return form
        gained = best - now
        form, off, best, damping = tried, ahead, now, max(damping / 8.0, 1e-12)
        if np.abs(step).max() < 1e-12 or gained <= 1e-15 * best:
            break
    return form


def fit_form(
    points: np.ndarray, start: Form, weights: np.ndarray | None = None, robust: bool = True
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
    for _ in range(_ROUNDS if robust else 1):
        form = _improved(form, own, weights * share, _FEW_STEPS if robust else _STEPS)
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
