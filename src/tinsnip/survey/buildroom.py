"""Does a part fit into the room that a machine has to build in, and if not as it lies, then how."""

from typing import NamedTuple

import numpy as np
from scipy.optimize import minimize_scalar
from scipy.spatial import ConvexHull, QhullError

from tinsnip.mesh import Mesh
from tinsnip.progress import Progress, stoppable

__all__ = ["Fit", "fit_into"]

_STEP = 1.0
"""Degrees between the turns about the upright that are tried, before the best few are refined."""
_REFINED = 3
_SIDES = 60
"""As many sides of the hull, the largest, are tried as the side it lies on."""
_EXACT = 1e-6
"""mm by which a part may be larger than its room: rounding."""


class Fit(NamedTuple):
    """How a part fits into a room.

    Attributes
    ----------
    as_it_lies : bool
    turn : ndarray, shape (3, 3), or None
        The turn by which it fits otherwise; None: by none that was tried.
    degrees : float
        How far it is turned about the upright then.
    laid : bool
        Whether it is first laid on another side.
    share : float
        Of its size at which it would fit, at most; 1 where it does.
    """

    as_it_lies: bool
    turn: np.ndarray | None
    degrees: float
    laid: bool
    share: float


@stoppable
def fit_into(mesh: Mesh, room: tuple[float, float, float], progress: Progress) -> Fit:
    """Find whether a part fits into an upright room: as it lies, turned about z, or laid on another side and turned.

    Parameters
    ----------
    mesh : Mesh
        With at least one triangle.
    room : tuple of float
        Width, depth and height, mm.
    progress : Progress
    """
    if (mesh.size <= np.array(room) + _EXACT).all():
        return Fit(True, np.eye(3), 0.0, False, 1.0)
    points, ways = _hull(mesh.vertices - mesh.box.mean(axis=0))
    state = progress.step("Fitting into the room", len(ways))
    best = 0.0
    for number, down in enumerate(ways):
        state[1] = number
        progress.check()
        lay = _down_to_bed(down)
        laid = points @ lay.T
        if (room[2] + _EXACT) / max(float(np.ptp(laid[:, 2])), 1e-300) <= best:
            continue  # no turn makes it lower
        degrees, share = _turned(laid, room)
        if share >= 1.0 - 1e-12:
            turn = np.radians(degrees)
            about_z = np.array([[np.cos(turn), -np.sin(turn), 0], [np.sin(turn), np.cos(turn), 0], [0, 0, 1.0]])
            return Fit(False, about_z @ lay, degrees, number > 0, 1.0)
        best = max(best, share)
    return Fit(False, None, 0.0, False, best)


def _hull(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Corners of the convex hull, and the ways that may face down: as it lies first, then its largest sides."""
    axes = np.array([[0, 0, -1.0], [0, 0, 1], [1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0]])
    try:
        hull = ConvexHull(points)
    except (QhullError, ValueError):  # flat, or next to nothing
        return points, axes
    a, b, c = (points[hull.simplices[:, k]] for k in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    sides, which = np.unique(np.round(hull.equations[:, :3], 3), axis=0, return_inverse=True)
    largest = np.argsort(-np.bincount(which.ravel(), area))[:_SIDES]
    found = sides[largest] / np.linalg.norm(sides[largest], axis=1)[:, None]
    return points[hull.vertices], np.concatenate([axes[:1], found, axes[1:]])


def _down_to_bed(down: np.ndarray) -> np.ndarray:
    """The shortest turn that lets a way point to -z."""
    target = np.array([0.0, 0, -1])
    axis, cosine = np.cross(down, target), float(down @ target)
    if cosine < -1 + 1e-12:
        return np.diag([1.0, -1.0, -1.0])
    cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    return np.eye(3) + cross + cross @ cross / (1 + cosine)


def _turned(points: np.ndarray, room: tuple[float, float, float]) -> tuple[float, float]:
    """The turn about z, degrees, at which a part is largest in its room, and the share of its size that fits there."""
    high = (room[2] + _EXACT) / max(float(np.ptp(points[:, 2])), 1e-300)

    def share(degrees: np.ndarray | float) -> np.ndarray:
        turn = np.radians(np.atleast_1d(degrees))
        cos, sin = np.cos(turn)[:, None], np.sin(turn)[:, None]
        wide = np.ptp(cos * points[:, 0] - sin * points[:, 1], axis=1)
        deep = np.ptp(sin * points[:, 0] + cos * points[:, 1], axis=1)
        return np.minimum((room[0] + _EXACT) / np.maximum(wide, 1e-300), (room[1] + _EXACT) / np.maximum(deep, 1e-300))

    tried = np.arange(-90.0, 90.0, _STEP)
    rows = max(1, 4_000_000 // len(points))
    found = np.concatenate([share(tried[i : i + rows]) for i in range(0, len(tried), rows)])
    fitting = tried[found >= 1.0]
    if len(fitting):  # where several fit, what is turned least
        degrees = float(fitting[np.argmin(np.abs(fitting))])
        return degrees, float(min(high, 1.0))
    peaks = np.flatnonzero((found >= np.roll(found, 1)) & (found >= np.roll(found, -1)))
    best = (-90.0, 0.0)
    for at in tried[peaks[np.argsort(-found[peaks])[:_REFINED]]]:
        one = minimize_scalar(lambda d: -share(d)[0], bounds=(at - _STEP, at + _STEP), method="bounded")
        best = max(best, (float(one.x), float(-one.fun)), key=lambda pair: pair[1])
    return best[0], float(min(best[1], high, 1.0))
