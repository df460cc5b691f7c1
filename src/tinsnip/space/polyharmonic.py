"""Smooth height fields through scattered places: polyharmonic regression splines whose smoothness the data choose."""

from dataclasses import dataclass

import numpy as np
from scipy.linalg import cholesky, eigh, solve_triangular

from tinsnip.kernels import kernel

__all__ = ["HeightField", "fit_heights"]

_MOST_CENTRES = 48
_POWERS = 6
"""Terms of a quadratic in two unknowns: what costs nothing."""
_TRIED = np.logspace(-13, 1, 22)
"""Weights of smoothness that are tried, as shares of the stiffest direction of the data."""
_STEEPEST = 0.95
"""Sine of the steepest slope that the surface of even curvature is followed to."""
_BEND_ROUNDS = 5
_BEND_DATA = 200
_OUTLIER = 6.0
"""Places further off than so many times the middle residual count less."""


@dataclass(frozen=True)
class HeightField:
    """Heights over a plane.

    Attributes
    ----------
    middle : ndarray, shape (2,)
    extent : float
        Places are brought to unit size by these.
    centres : ndarray, shape (C, 2)
    weights : ndarray, shape (C,)
    powers : ndarray, shape (6,)
    bend : ndarray, shape (2, 2)
        Curvature of the surface that the last three powers are of.
    roughness : float
        How far the places it was fitted to lie off it, root mean square.
    """

    middle: np.ndarray
    extent: float
    centres: np.ndarray
    weights: np.ndarray
    powers: np.ndarray
    bend: np.ndarray
    roughness: float

    def at(self, places: np.ndarray) -> np.ndarray:
        """Heights at places, shape (N, 2)."""
        own = (places - self.middle) / self.extent
        return _bumps(own, self.centres) @ self.weights + _round(own, self.bend) @ self.powers


@kernel
def _bumps(places, centres):
    """Green's function of the third power of the Laplacian in the plane, ``r^4 log r``; shape (N, C)."""
    out = np.empty((places.shape[0], centres.shape[0]))
    for i in range(places.shape[0]):
        for j in range(centres.shape[0]):
            square = (places[i, 0] - centres[j, 0]) ** 2 + (places[i, 1] - centres[j, 1]) ** 2
            out[i, j] = 0.5 * square * square * np.log(square) if square > 0.0 else 0.0
    return out


@kernel
def _spread(places, count):
    """Numbers of some places that lie far from each other."""
    n = places.shape[0]
    chosen = np.empty(count, dtype=np.int64)
    far = np.full(n, np.inf)
    now = 0
    for i in range(count):
        chosen[i] = now
        farthest = -1.0
        x, y = places[now, 0], places[now, 1]
        for v in range(n):
            d = (places[v, 0] - x) ** 2 + (places[v, 1] - y) ** 2
            if d < far[v]:
                far[v] = d
            if far[v] > farthest:
                farthest = far[v]
                now = v
    return chosen


def _quadratic(places: np.ndarray) -> np.ndarray:
    x, y = places.T
    return np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=1)


def _round(places: np.ndarray, bend: np.ndarray) -> np.ndarray:
    """The terms of a quadratic, the last three steeper outwards as on a surface whose curvature stays the same.

    With the bend of a ball or a cylinder, half of its terms make the very ball or cylinder.
    """
    terms = _quadratic(places)
    steep = np.minimum(((places @ bend) ** 2).sum(axis=1), _STEEPEST**2)
    terms[:, 3:] *= (2.0 / (1.0 + np.sqrt(1.0 - steep)))[:, None]
    return terms


def _bend_of(places: np.ndarray, heights: np.ndarray, extent: float) -> np.ndarray:
    """The curvature, at unit size, of the surface of that sort which fits best; by repeated least squares."""
    bend = np.zeros((2, 2))
    some = slice(None, None, max(1, len(places) // _BEND_DATA))
    places, heights = places[some], heights[some]
    for _ in range(_BEND_ROUNDS):
        terms = _round(places, bend)
        found = np.linalg.solve(terms.T @ terms, terms.T @ (heights / extent))
        again = np.array([[2 * found[3], found[4]], [found[4], 2 * found[5]]])
        if np.abs(again - bend).max() < 1e-9:
            break
        bend = again
    return bend


def fit_heights(places: np.ndarray, heights: np.ndarray, most: int = _MOST_CENTRES) -> HeightField | None:
    """Fit a field that bends and changes its bend as little as the data let it.

    Minimises the squared third derivatives beside the squared residuals (Duchon 1977); how the two are weighed is
    chosen by generalised cross-validation (Craven and Wahba 1979), so that noise is told from shape. As in regression
    splines there are fewer centres than data.

    Parameters
    ----------
    places : ndarray, shape (N, 2)
    heights : ndarray, shape (N,)
    most : int
        How many centres at most.

    Returns
    -------
    HeightField or None
        None where the places do not determine a quadratic.
    """
    middle = places.mean(axis=0)
    extent = float(np.abs(places - middle).max())
    if len(places) < _POWERS + 2 or not extent > 0:
        return None
    own = (places - middle) / extent
    powers = _quadratic(own)
    if np.linalg.eigvalsh(powers.T @ powers)[0] < 1e-9 * len(own):
        return None
    bend = _bend_of(own, heights, extent)
    centres = own[_spread(own, min(most, len(own) // 2 + 1))]
    if len(centres) <= _POWERS + 1:
        return _fitted(middle, extent, own, bend, heights, np.zeros((0, 2)), np.zeros((len(own), 0)), np.zeros((0, 0)))
    full = np.linalg.qr(_quadratic(centres), mode="complete")[0]
    free = full[:, _POWERS:]
    stiff = -free.T @ _bumps(centres, centres) @ free
    stiff = 0.5 * (stiff + stiff.T)
    stiff += 1e-12 * np.trace(stiff) / len(stiff) * np.eye(len(stiff))
    try:
        root = cholesky(stiff)
    except np.linalg.LinAlgError:
        return None
    ways = solve_triangular(root, (_bumps(own, centres) @ free).T, trans="T").T
    back = free @ solve_triangular(root, np.eye(len(root)))
    return _fitted(middle, extent, own, bend, heights, centres, ways, back)


def _fitted(
    middle: np.ndarray, extent: float, own: np.ndarray, bend: np.ndarray, heights: np.ndarray, centres: np.ndarray,
    ways: np.ndarray, back: np.ndarray,
) -> HeightField:  # fmt: skip
    """Weigh smoothness against residuals; once more where some places lie far off all others."""
    weight, terms = np.ones(len(own)), _round(own, bend)
    for turn in range(2):
        powers, bent, residual = _weighed(terms, heights, ways, weight)
        off = np.abs(residual)
        common = 1.4826 * float(np.median(off))
        if turn or not (off > max(_OUTLIER * common, 1e-6 * extent)).any():
            break
        weight = np.minimum(1.0, 2.5 * max(common, 1e-7 * extent) / np.maximum(off, 1e-300))
    roughness = float(np.sqrt((weight * residual**2).sum() / weight.sum()))
    return HeightField(middle, extent, centres, back @ bent, powers, bend, roughness)


def _weighed(
    terms: np.ndarray, heights: np.ndarray, ways: np.ndarray, weight: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    root = np.sqrt(weight)
    plain, rest = np.linalg.qr(terms * root[:, None])
    target = heights * root
    bends = ways * root[:, None]
    left_target = target - plain @ (plain.T @ target)
    left = bends - plain @ (plain.T @ bends)
    bent = np.zeros(ways.shape[1])
    if ways.shape[1]:
        stiffness, axes = eigh(left.T @ left)
        stiffness = np.maximum(stiffness, 0.0)
        along = axes.T @ (left.T @ left_target)
        every = float(left_target @ left_target)
        smooth = _TRIED * max(float(stiffness[-1]), 1e-300)
        share = 1.0 / (stiffness[:, None] + smooth)
        residual = every - ((2 - stiffness[:, None] * share) * share * along[:, None] ** 2).sum(axis=0)
        freedom = len(terms) - _POWERS - (stiffness[:, None] * share).sum(axis=0)
        score = np.maximum(residual, 1e-15 * every) / np.maximum(freedom, 1e-3) ** 2
        bent = axes @ (share[:, int(np.argmin(score))] * along)
    powers = np.linalg.solve(rest, plain.T @ (target - bends @ bent))
    return powers, bent, heights - ways @ bent - terms @ powers
