"""Smooth height fields through scattered places: polyharmonic regression splines whose smoothness the data choose.

What goes over single numbers is compiled; products of matrices and their eigenvalues are left to NumPy, as they would
take ten seconds to compile within kernels.
"""

from dataclasses import dataclass

import numpy as np

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
_DEPENDS = 1e-5
"""Terms depend on each other where less than this share of one is its own."""


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
    """

    middle: np.ndarray
    extent: float
    centres: np.ndarray
    weights: np.ndarray
    powers: np.ndarray
    bend: np.ndarray

    def at(self, places: np.ndarray) -> np.ndarray:
        """Heights at places, shape (N, 2)."""
        own = np.ascontiguousarray((places - self.middle) / self.extent)
        heights = _round(own, self.bend) @ self.powers
        _add_bumps(own, self.centres, self.weights, heights)
        return heights


@kernel
def _bump(x, y):
    """Green's function of the third power of the Laplacian in the plane, ``r^4 log r``."""
    square = x * x + y * y
    return 0.5 * square * square * np.log(square) if square > 0.0 else 0.0


@kernel
def _fill_bumps(places, centres, out):
    for i in range(places.shape[0]):
        for j in range(centres.shape[0]):
            out[i, j] = _bump(places[i, 0] - centres[j, 0], places[i, 1] - centres[j, 1])


def _bumps(places: np.ndarray, centres: np.ndarray) -> np.ndarray:
    out = np.empty((len(places), len(centres)))
    _fill_bumps(places, centres, out)
    return out


@kernel
def _add_bumps(places, centres, weights, heights):
    for i in range(places.shape[0]):
        for j in range(centres.shape[0]):
            heights[i] += weights[j] * _bump(places[i, 0] - centres[j, 0], places[i, 1] - centres[j, 1])


@kernel
def _spread(places, far, chosen):
    """Numbers of some places that lie far from each other; `far` begins at infinity."""
    now = 0
    for i in range(chosen.shape[0]):
        chosen[i] = now
        farthest = -1.0
        x, y = places[now, 0], places[now, 1]
        for v in range(places.shape[0]):
            d = (places[v, 0] - x) ** 2 + (places[v, 1] - y) ** 2
            if d < far[v]:
                far[v] = d
            if far[v] > farthest:
                farthest = far[v]
                now = v


@kernel
def _fill_round(places, bend, terms):
    """The terms of a quadratic, the last three steeper outwards as on a surface whose curvature stays the same.

    With the bend of a ball or a cylinder, half of its terms make the very ball or cylinder; with none, they are plain.
    """
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        u, v = bend[0, 0] * x + bend[0, 1] * y, bend[1, 0] * x + bend[1, 1] * y
        grows = 2.0 / (1.0 + np.sqrt(1.0 - min(u * u + v * v, _STEEPEST * _STEEPEST)))
        terms[i, 0], terms[i, 1], terms[i, 2] = 1.0, x, y
        terms[i, 3], terms[i, 4], terms[i, 5] = grows * x * x, grows * x * y, grows * y * y


def _round(places: np.ndarray, bend: np.ndarray) -> np.ndarray:
    terms = np.empty((len(places), _POWERS))
    _fill_round(places, bend, terms)
    return terms


@kernel
def _orthogonal(columns, upper):
    """Make columns orthonormal in place, each gone over twice; their parts go to `upper`. False where they depend."""
    n, m = columns.shape
    upper[:] = 0.0
    for j in range(m):
        before = 0.0
        for i in range(n):
            before += columns[i, j] * columns[i, j]
        for _ in range(2):
            for k in range(j):
                share = 0.0
                for i in range(n):
                    share += columns[i, k] * columns[i, j]
                upper[k, j] += share
                for i in range(n):
                    columns[i, j] -= share * columns[i, k]
        size = 0.0
        for i in range(n):
            size += columns[i, j] * columns[i, j]
        if not size > _DEPENDS * _DEPENDS * before:
            return False
        size = np.sqrt(size)
        upper[j, j] = size
        for i in range(n):
            columns[i, j] /= size
    return True


@kernel
def _back(upper, right):
    """Solve an upper triangular system in place."""
    for j in range(upper.shape[0] - 1, -1, -1):
        for k in range(j + 1, upper.shape[0]):
            right[j] -= upper[j, k] * right[k]
        right[j] /= upper[j, j]


@kernel
def _bend_of(places, heights, terms, upper, found, bend):
    """The curvature, at unit size, of the surface of that sort which fits best; by repeated least squares."""
    for _ in range(_BEND_ROUNDS):
        _fill_round(places, bend, terms)
        if not _orthogonal(terms, upper):
            return False
        for k in range(_POWERS):
            found[k] = 0.0
            for i in range(places.shape[0]):
                found[k] += terms[i, k] * heights[i]
        _back(upper, found)
        change = max(abs(2 * found[3] - bend[0, 0]), abs(found[4] - bend[0, 1]), abs(2 * found[5] - bend[1, 1]))
        if change < 1e-9:
            break
        bend[0, 0], bend[0, 1], bend[1, 0], bend[1, 1] = 2 * found[3], found[4], found[4], 2 * found[5]
    return True


@kernel
def _beside_quadratics(rest, mirrors, free):
    """Combinations of the centres that no quadratic has a share in, by Householder's reflections.

    `rest` is the quadratic's terms at the centres; `mirrors` and `free`, shape (C, C - 6), are zero to begin with.
    """
    n = rest.shape[0]
    for i in range(n - _POWERS):
        free[i + _POWERS, i] = 1.0
    for j in range(_POWERS):
        size = 0.0
        for i in range(j, n):
            size += rest[i, j] * rest[i, j]
        size = np.sqrt(size)
        for i in range(j, n):
            mirrors[j, i] = rest[i, j]
        mirrors[j, j] += size if rest[j, j] >= 0 else -size
        _mirrored(mirrors, j, rest)
    for j in range(_POWERS - 1, -1, -1):
        _mirrored(mirrors, j, free)


@kernel
def _mirrored(mirrors, j, columns):
    square = 0.0
    for i in range(mirrors.shape[1]):
        square += mirrors[j, i] * mirrors[j, i]
    if not square > 0.0:
        return
    for k in range(columns.shape[1]):
        share = 0.0
        for i in range(mirrors.shape[1]):
            share += mirrors[j, i] * columns[i, k]
        share *= 2.0 / square
        for i in range(mirrors.shape[1]):
            columns[i, k] -= share * mirrors[j, i]


@kernel
def _stiff_ways(stiff, root, free):
    """Turn combinations of the centres into ones of unit bending energy, in place; False where that cannot be."""
    n = stiff.shape[0]
    trace = 0.0
    for i in range(n):
        trace -= stiff[i, i]
    for j in range(n):
        for i in range(j, n):
            value = -0.5 * (stiff[i, j] + stiff[j, i]) + (1e-12 * trace / n if i == j else 0.0)
            for k in range(j):  # lower: stiff = root root'
                value -= root[i, k] * root[j, k]
            if i == j:
                if not value > 0.0:
                    return False
                root[j, j] = np.sqrt(value)
            else:
                root[i, j] = value / root[j, j]
    for c in range(free.shape[0]):  # free times the inverse of root'
        for j in range(n):
            for k in range(j):
                free[c, j] -= free[c, k] * root[j, k]
            free[c, j] /= root[j, j]
    return True


@dataclass
class _Weighed:
    """A fit at the smoothness that was chosen: weights of the ways, of the powers, and what is left of the heights."""

    bent: np.ndarray
    powers: np.ndarray
    left: np.ndarray


def _weighed(terms: np.ndarray, heights: np.ndarray, ways: np.ndarray, weight: np.ndarray | None) -> _Weighed | None:
    """Weigh smoothness against residuals by generalised cross-validation; None where the terms depend on each other."""
    n, m = ways.shape
    plain, bends, whole = terms.copy(), ways, heights
    if weight is not None:
        root = np.sqrt(weight)
        plain, bends, whole = terms * root[:, None], ways * root[:, None], heights * root
    upper = np.empty((_POWERS, _POWERS))
    if not _orthogonal(plain, upper):
        return None
    target = whole - plain @ (plain.T @ whole)
    bent = np.zeros(m)
    if m:
        left = bends - plain @ (plain.T @ bends)
        stiffness, axes = np.linalg.eigh(left.T @ left)
        along = axes.T @ (left.T @ target)
        every = float(target @ target)
        own = np.maximum(stiffness, 0.0)
        smooth = _TRIED * max(float(stiffness[-1]), 1e-300)
        part = 1.0 / (own + smooth[:, None])
        freed = own * part
        residual = every - ((2.0 - freed) * part) @ (along * along)
        score = np.maximum(residual, 1e-15 * every) / np.maximum(n - _POWERS - freed.sum(axis=1), 1e-3) ** 2
        bent = axes @ (along / (own + smooth[score.argmin()]))
    powers = plain.T @ (whole - bends @ bent)
    _back(upper, powers)
    return _Weighed(bent, powers, heights - ways @ bent - terms @ powers)


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
    own = np.ascontiguousarray((places - middle) / extent)
    heights = np.ascontiguousarray(heights, dtype=np.float64)
    bend, upper, found = np.zeros((2, 2)), np.empty((_POWERS, _POWERS)), np.empty(_POWERS)
    some = np.ascontiguousarray(own[:: max(1, len(own) // _BEND_DATA)])
    near = heights[:: max(1, len(own) // _BEND_DATA)] / extent
    if not _orthogonal(_round(own, bend), upper):
        return None
    if not _bend_of(some, near, np.empty((len(some), _POWERS)), upper, found, bend):
        return None
    terms = _round(own, bend)
    numbers = np.zeros(min(most, len(own) // 2 + 1), dtype=np.int64)
    _spread(own, np.full(len(own), np.inf), numbers)
    centres = own[numbers]
    count = len(centres)
    if count <= _POWERS + 1:
        centres, ways, back = centres[:0], np.empty((len(own), 0)), np.empty((0, 0))
    else:
        back = np.zeros((count, count - _POWERS))
        _beside_quadratics(_round(centres, np.zeros((2, 2))), np.zeros((_POWERS, count)), back)
        if not _stiff_ways(back.T @ (_bumps(centres, centres) @ back), np.zeros((back.shape[1],) * 2), back):
            return None
        ways = _bumps(own, centres) @ back
    weight = None
    for turn in range(2):
        fit = _weighed(terms, heights, ways, weight)
        if fit is None or not np.isfinite(fit.left).all():
            return None
        residual = np.abs(fit.left)
        half = len(residual) // 2
        common = 1.4826 * float(np.partition(residual, half)[half])
        # once more where some places lie far off all others
        if turn or not residual.max() > max(_OUTLIER * common, 1e-6 * extent):
            break
        weight = np.minimum(1.0, 2.5 * max(common, 1e-7 * extent) / np.maximum(residual, 1e-300))
    return HeightField(middle, extent, centres, back @ fit.bent, fit.powers, bend)
