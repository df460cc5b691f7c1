"""Smooth height fields through scattered places: polyharmonic regression splines whose smoothness the data choose."""

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
        own = (places - self.middle) / self.extent
        return _heights(own, self.centres, self.weights, self.powers, self.bend)


@kernel
def _bump(x, y):
    """Green's function of the third power of the Laplacian in the plane, ``r^4 log r``."""
    square = x * x + y * y
    return 0.5 * square * square * np.log(square) if square > 0.0 else 0.0


@kernel
def _bumps(places, centres):
    out = np.empty((places.shape[0], centres.shape[0]))
    for i in range(places.shape[0]):
        for j in range(centres.shape[0]):
            out[i, j] = _bump(places[i, 0] - centres[j, 0], places[i, 1] - centres[j, 1])
    return out


@kernel
def _heights(places, centres, weights, powers, bend):
    out = _round(places, bend) @ powers
    for i in range(places.shape[0]):
        for j in range(centres.shape[0]):
            out[i] += weights[j] * _bump(places[i, 0] - centres[j, 0], places[i, 1] - centres[j, 1])
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


@kernel
def _round(places, bend):
    """The terms of a quadratic, the last three steeper outwards as on a surface whose curvature stays the same.

    With the bend of a ball or a cylinder, half of its terms make the very ball or cylinder; with none, they are plain.
    """
    terms = np.empty((places.shape[0], _POWERS))
    for i in range(places.shape[0]):
        x, y = places[i, 0], places[i, 1]
        u, v = bend[0, 0] * x + bend[0, 1] * y, bend[1, 0] * x + bend[1, 1] * y
        grows = 2.0 / (1.0 + np.sqrt(1.0 - min(u * u + v * v, _STEEPEST * _STEEPEST)))
        terms[i, 0], terms[i, 1], terms[i, 2] = 1.0, x, y
        terms[i, 3], terms[i, 4], terms[i, 5] = grows * x * x, grows * x * y, grows * y * y
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
def _bend_of(places, heights, step, bend):
    """The curvature, at unit size, of the surface of that sort which fits best; by repeated least squares."""
    places = np.ascontiguousarray(places[::step])
    heights = np.ascontiguousarray(heights[::step])
    upper = np.empty((_POWERS, _POWERS))
    for _ in range(_BEND_ROUNDS):
        terms = _round(places, bend)
        if not _orthogonal(terms, upper):
            return False
        found = terms.T @ heights
        _back(upper, found)
        change = max(abs(2 * found[3] - bend[0, 0]), abs(found[4] - bend[0, 1]), abs(2 * found[5] - bend[1, 1]))
        if change < 1e-9:
            break
        bend[0, 0], bend[0, 1], bend[1, 0], bend[1, 1] = 2 * found[3], found[4], found[4], 2 * found[5]
    return True


@kernel
def _beside_quadratics(centres):
    """Combinations of the centres that no quadratic has a share in, shape (C, C - 6), by Householder's reflections."""
    n = centres.shape[0]
    rest = _round(centres, np.zeros((2, 2)))
    free = np.zeros((n, n - _POWERS))
    for i in range(n - _POWERS):
        free[i + _POWERS, i] = 1.0
    mirrors = np.zeros((_POWERS, n))
    for j in range(_POWERS):
        size = 0.0
        for i in range(j, n):
            size += rest[i, j] * rest[i, j]
        size = np.sqrt(size)
        for i in range(j, n):
            mirrors[j, i] = rest[i, j]
        mirrors[j, j] += size if rest[j, j] >= 0 else -size
        _mirrored(mirrors[j], rest)
    for j in range(_POWERS - 1, -1, -1):
        _mirrored(mirrors[j], free)
    return free


@kernel
def _mirrored(normal, columns):
    square = 0.0
    for i in range(normal.shape[0]):
        square += normal[i] * normal[i]
    if not square > 0.0:
        return
    for k in range(columns.shape[1]):
        share = 0.0
        for i in range(normal.shape[0]):
            share += normal[i] * columns[i, k]
        share *= 2.0 / square
        for i in range(normal.shape[0]):
            columns[i, k] -= share * normal[i]


@kernel
def _stiff_ways(centres, free):
    """Turn combinations of the centres into ones of unit bending energy, in place; False where that cannot be."""
    stiff = free.T @ (_bumps(centres, centres) @ free)
    n = stiff.shape[0]
    trace = 0.0
    for i in range(n):
        trace -= stiff[i, i]
    root = np.zeros((n, n))  # lower: stiff = root root'
    for j in range(n):
        for i in range(j, n):
            value = -0.5 * (stiff[i, j] + stiff[j, i]) + (1e-12 * trace / n if i == j else 0.0)
            for k in range(j):
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


@kernel
def _weighed(terms, heights, ways, weight, tried, powers, bent):
    """Weigh smoothness against residuals by generalised cross-validation; what is left of the heights."""
    n, m = ways.shape
    plain, bends, target = terms.copy(), ways.copy(), heights.copy()
    for i in range(n):
        if weight[i] != 1.0:
            root = np.sqrt(weight[i])
            plain[i] *= root
            bends[i] *= root
            target[i] *= root
    upper = np.empty((_POWERS, _POWERS))
    if not _orthogonal(plain, upper):
        return np.full(n, np.nan)
    across = np.ascontiguousarray(plain.T)
    whole = target.copy()
    target -= plain @ (across @ target)
    bent[:] = 0.0
    if m:
        left = bends - plain @ (across @ bends)
        back = np.ascontiguousarray(left.T)
        stiffness, axes = np.linalg.eigh(back @ left)
        along = np.ascontiguousarray(axes.T) @ (back @ target)
        every = (target * target).sum()
        best, smooth = np.inf, 0.0
        top = max(stiffness[m - 1], 1e-300)
        for share in tried:
            residual, freedom = every, float(n - _POWERS)
            for j in range(m):
                own = max(stiffness[j], 0.0)
                part = 1.0 / (own + share * top)
                residual -= (2.0 - own * part) * part * along[j] * along[j]
                freedom -= own * part
            score = max(residual, 1e-15 * every) / max(freedom, 1e-3) ** 2
            if score < best:
                best, smooth = score, share * top
        for j in range(m):
            along[j] /= max(stiffness[j], 0.0) + smooth
        bent[:] = axes @ along
    powers[:] = across @ (whole - bends @ bent)
    _back(upper, powers)
    return heights - ways @ bent - terms @ powers


@kernel
def _fit(own, heights, extent, most, tried, bend, powers, numbers, weights):
    """Fit the field to places at unit size; how many centres it has, -1 where the places do not determine it."""
    n = own.shape[0]
    upper = np.empty((_POWERS, _POWERS))
    if not _orthogonal(_round(own, bend), upper):
        return -1
    if not _bend_of(own, heights / extent, max(1, n // _BEND_DATA), bend):
        return -1
    terms, count = _round(own, bend), numbers.shape[0]
    numbers[:] = _spread(own, count)
    centres = own[numbers]
    if count <= _POWERS + 1:
        count, ways, back = 0, np.empty((n, 0)), np.empty((0, 0))
    else:
        back = _beside_quadratics(centres)
        if not _stiff_ways(centres, back):
            return -1
        ways = _bumps(own, centres) @ back
    weight, bent = np.ones(n), np.zeros(ways.shape[1])
    for turn in range(2):
        residual = np.abs(_weighed(terms, heights, ways, weight, tried, powers, bent))
        if not np.isfinite(residual).all():
            return -1
        common = 1.4826 * np.median(residual)
        # once more where some places lie far off all others
        if turn or not residual.max() > max(_OUTLIER * common, 1e-6 * extent):
            break
        for i in range(n):
            weight[i] = min(1.0, 2.5 * max(common, 1e-7 * extent) / max(residual[i], 1e-300))
    if count:
        weights[:] = back @ bent
    return count


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
    bend, powers = np.zeros((2, 2)), np.zeros(_POWERS)
    numbers = np.zeros(min(most, len(own) // 2 + 1), dtype=np.int64)
    weights = np.zeros(len(numbers))
    count = _fit(own, np.ascontiguousarray(heights), extent, most, _TRIED, bend, powers, numbers, weights)
    if count < 0:
        return None
    return HeightField(middle, extent, own[numbers[:count]], weights[:count], powers, bend)
