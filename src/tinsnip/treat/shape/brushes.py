"""What each brush does at one place: how far the vertices under it move."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from tinsnip.treat.working import Working

__all__ = ["BRUSHES", "Dab", "Under", "under"]

_A_DAB = 0.06
"""How far a place moves at full strength, of the radius: four of them, as far apart as they are, make a quarter."""
_IN, _OUT = 0.6, -0.62
"""Steps towards the neighbours' middle and back, which take off noise and leave the size (Taubin 1995)."""
_PINCH = 0.15
"""Share of the way to the middle that a pinch goes at full strength."""


class Dab(NamedTuple):
    """One place that a brush comes by.

    Attributes
    ----------
    place : ndarray, shape (3,)
        mm.
    before : ndarray, shape (3,), or None
        The place before it in the stroke.
    radius : float
        mm.
    strength : float
        0 to 1, negative where the brush is turned round.
    """

    place: np.ndarray
    before: np.ndarray | None
    radius: float
    strength: float


class Under(NamedTuple):
    """What lies under a brush.

    Attributes
    ----------
    near : ndarray of int, shape (K,)
        Vertices that may move.
    share : ndarray, shape (K,)
        How much the brush reaches each, 0 to 1.
    own : ndarray of int, shape (N,)
        These and their neighbours.
    at : ndarray of int, shape (K,)
        Where each of `near` is among `own`.
    faces : ndarray of int, shape (T, 3)
        The triangles round them, by their places in `own`.
    points : ndarray, shape (N, 3)
        mm.
    """

    near: np.ndarray
    share: np.ndarray
    own: np.ndarray
    at: np.ndarray
    faces: np.ndarray
    points: np.ndarray

    def normals(self) -> np.ndarray:
        """Unit normals of `near`, by the triangles round each."""
        corners = self.points[self.faces]
        facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        total = self._summed(np.repeat(facing, 3, axis=0))[self.at]
        return total / np.maximum(np.linalg.norm(total, axis=1), 1e-300)[:, None]

    def means(self, points: np.ndarray) -> np.ndarray:
        """The middle of the neighbours of each of `near`; its own place where it has none."""
        around = points[np.roll(self.faces, -1, axis=1)] + points[np.roll(self.faces, -2, axis=1)]
        total = self._summed(around.reshape(-1, 3))[self.at]
        count = 2.0 * np.bincount(self.faces.ravel(), minlength=len(self.own))[self.at]
        return np.where(count[:, None] > 0, total / np.maximum(count, 1.0)[:, None], points[self.at])

    def _summed(self, rows: np.ndarray) -> np.ndarray:
        corner = self.faces.ravel()
        return np.stack([np.bincount(corner, rows[:, k], len(self.own)) for k in range(3)], axis=1)

    def facing(self) -> np.ndarray:
        """The way that all of it faces, unit, shape (3,)."""
        total = (self.normals() * self.share[:, None]).sum(axis=0)
        return total / max(float(np.linalg.norm(total)), 1e-300)

    def middle(self) -> np.ndarray:
        """Its middle, by how much the brush reaches each, mm, shape (3,)."""
        return self.share @ self.points[self.at] / max(float(self.share.sum()), 1e-300)


def under(working: Working, near: np.ndarray, share: np.ndarray) -> Under:
    """What lies under a brush, from the vertices that may move and how much it reaches each.

    Parameters
    ----------
    working : Working
    near : ndarray of int, shape (K,)
        Vertices.
    share : ndarray, shape (K,)
        0 to 1.
    """
    round_them = working.before.faces[working.triangles_at(near)]
    own, faces = np.unique(round_them, return_inverse=True)
    at = np.searchsorted(own, near)
    return Under(near, share, own, at, faces.reshape(-1, 3), working.vertices[own])


def _smooth(working: Working, u: Under, dab: Dab) -> np.ndarray:
    now = u.points.copy()
    for step in (_IN, _OUT):
        moved = (u.means(now) - now[u.at]) * (step * abs(dab.strength) * u.share)[:, None]
        now[u.at] += moved
    return now[u.at] - u.points[u.at]


def _even_out(working: Working, u: Under, dab: Dab) -> np.ndarray:
    normals = u.normals()
    step = (u.means(u.points) - u.points[u.at]) * (0.5 * abs(dab.strength) * u.share)[:, None]
    return step - (step * normals).sum(axis=1)[:, None] * normals


def _push(working: Working, u: Under, dab: Dab) -> np.ndarray:
    return (_A_DAB * dab.radius * dab.strength * u.share)[:, None] * u.facing()


def _inflate(working: Working, u: Under, dab: Dab) -> np.ndarray:
    return (_A_DAB * dab.radius * dab.strength * u.share)[:, None] * u.normals()


def _heights(u: Under) -> tuple[np.ndarray, np.ndarray]:
    """How high each stands over the plane of what lies under the brush, and the way that it faces."""
    way = u.facing()
    return (u.points[u.at] - u.middle()) @ way, way


def _flatten(working: Working, u: Under, dab: Dab) -> np.ndarray:
    heights, way = _heights(u)
    return -(0.5 * abs(dab.strength) * u.share * heights)[:, None] * way


def _fill(working: Working, u: Under, dab: Dab) -> np.ndarray:
    heights, way = _heights(u)
    some = heights < 0 if dab.strength > 0 else heights > 0
    return -(0.5 * abs(dab.strength) * u.share * np.where(some, heights, 0.0))[:, None] * way


def _scrape(working: Working, u: Under, dab: Dab) -> np.ndarray:
    return _fill(working, u, dab._replace(strength=-dab.strength))


def _tighten(working: Working, u: Under, dab: Dab) -> np.ndarray:
    normals = u.normals()
    step = dab.place - u.points[u.at]
    step -= (step * normals).sum(axis=1)[:, None] * normals
    if dab.before is not None:  # towards the line that is drawn, not along it
        along = dab.place - dab.before
        length = float(np.linalg.norm(along))
        if length > 0:
            step -= np.outer(step @ (along / length), along / length)
    return step * (_PINCH * dab.strength * u.share)[:, None]


def _bring_back(working: Working, u: Under, dab: Dab) -> np.ndarray:
    return (working.goals(u.points[u.at]) - u.points[u.at]) * (0.6 * abs(dab.strength) * u.share)[:, None]


def _bring_colour_out(working: Working, u: Under, dab: Dab) -> np.ndarray:
    alike = working.likeness[u.near]
    return (_A_DAB * dab.radius * dab.strength * u.share * alike)[:, None] * u.normals()


class Kind(NamedTuple):
    """A brush: its name in words, what it does, what it does turned round, and what works its moves out."""

    title: str
    about: str
    turned: str
    step: Callable[[Working, Under, Dab], np.ndarray]

    @property
    def told(self) -> str:
        """What it does, in a line."""
        return f"{self.title}: {self.about}" + (f"; with Ctrl {self.turned}" if self.turned else "")


BRUSHES: dict[str, Kind] = {
    "smooth": Kind("Smooth", "takes noise off, and keeps the size", "", _smooth),
    "push": Kind("Push", "raises what lies under it", "lowers it", _push),
    "draw": Kind("Draw along", "what is under it follows the pointer", "", _push),
    "inflate": Kind("Inflate", "lets each place grow along its own normal", "lets it shrink", _inflate),
    "flatten": Kind("Flatten", "draws what lies under it to one plane", "", _flatten),
    "fill": Kind("Fill dents", "raises only what lies low", "lowers only what stands out", _fill),
    "scrape": Kind("Scrape bumps", "lowers only what stands out", "raises only what lies low", _scrape),
    "tighten": Kind("Tighten", "draws a crease or an edge together", "spreads it", _tighten),
    "even": Kind("Even out", "makes edges as long as their neighbours, in the surface", "", _even_out),
    "back": Kind("Bring back", "draws towards the raw scan", "", _bring_back),
    "colour": Kind(
        "Bring the colour out", "raises only what has the colour that was pressed on", "lowers it", _bring_colour_out
    ),
}
"""Every brush under its name in the log."""
