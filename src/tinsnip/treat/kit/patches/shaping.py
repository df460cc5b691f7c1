"""The shape of a patch that lies over a plane: taut, flowing on from its surroundings, or flat."""

from itertools import pairwise
from typing import NamedTuple

import numpy as np
from scipy import ndimage

from tinsnip.kernels import kernel
from tinsnip.space.polygons import plane_axes, triangulate_flat
from tinsnip.space.polyharmonic import fit_heights
from tinsnip.treat.kit.patches.refining import refine_patch

__all__ = ["Laid", "heights_over", "laid_over_plane", "taut_over"]

_FACING = 0.3
"""Cosine that the triangles at an edge make with the plane's normal at least where a patch lies over the plane."""
_MOST_STEEP = 0.03
_CELLS = 32
"""Cells along the longer side of the grid on which a taut patch is reckoned first."""
_FIELD_CELLS = 24
_SWEEPS = 80
_FADING = 0.75
"""What is left of the ring's own roughness from one row of a patch to the next."""
_DATA = 8
"""Places of the surface round about for each vertex of the patch."""
_LEAST_DATA, _MOST_DATA = 200, 800
_DATA_FOR_EACH = 16
"""Places that the field is fitted to: so many for each vertex of the ring, and a centre for so many of them."""
_LONG = 1500
"""Edges from which a rim's patch grows coarser inward."""
_GRADED = 0.6
"""By how much edges may grow from one to the next there."""


class Laid(NamedTuple):
    """A patch over a plane, its ring's vertices first.

    Attributes
    ----------
    flat : ndarray, shape (N, 2)
        In the plane, mm.
    triangles : ndarray of int, shape (T, 3)
    middle : ndarray, shape (3,)
    axes : ndarray, shape (3, 3)
        Two axes of the plane and its normal, as rows.
    following : ndarray of int
        The ring's vertex after each.
    """

    flat: np.ndarray
    triangles: np.ndarray
    middle: np.ndarray
    axes: np.ndarray
    following: np.ndarray


def _newell(points: np.ndarray, following: np.ndarray) -> np.ndarray:
    own = points - points.mean(axis=0)
    return 0.5 * np.cross(own, own[following]).sum(axis=0)


def _following(bounds: np.ndarray) -> np.ndarray:
    """The number after each, round the loop that it is of."""
    following = np.arange(bounds[-1]) + 1
    following[bounds[1:] - 1] = bounds[:-1]
    return following


def laid_over_plane(
    points: np.ndarray,
    normals: np.ndarray,
    sigma: np.ndarray,
    fewest: bool,
    state: np.ndarray,
    bounds: np.ndarray | None = None,
) -> Laid | None:
    """Lay a patch over the plane of its ring.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        Round the hole, as the patch will be wound.
    normals : ndarray, shape (M, 3)
        Unit normals of the triangles at its edge.
    sigma : ndarray, shape (N,)
        Mean length of the edges at each vertex, mm.
    fewest : bool
        Without inner vertices.
    state : ndarray of int64
        Polled for cancelling.
    bounds : ndarray of int, optional
        Where the loops begin that the ring is of, and N: the outer one, and those of islands in it. One by default.

    Returns
    -------
    Laid or None
        None where the ring does not lie over one plane without folding, or the surface there is too steep for it.
    """
    around = normals.sum(axis=0)
    bounds = np.array([0, len(points)]) if bounds is None else bounds
    following, loops = _following(bounds), [np.arange(a, b) for a, b in pairwise(bounds)]
    for way in (_newell(points, following), around):
        size = float(np.linalg.norm(way))
        if not size > 0:
            continue
        normal = way / size
        if (normals @ normal < _FACING).mean() > _MOST_STEEP:
            continue
        middle = points.mean(axis=0)
        axes = np.stack([*plane_axes(normal), normal])
        flat = (points - middle) @ axes[:2].T
        found = triangulate_flat(loops, flat)
        if found is None or len(found) != len(points) - 4 + 2 * len(loops):
            continue
        if fewest:
            return Laid(flat, found, middle, axes, following)
        long = np.linalg.norm(points[following] - points, axis=1)
        short = np.linalg.norm(flat[following] - flat, axis=1)
        before = np.argsort(following)
        share = (short + short[before]) / np.maximum(long + long[before], 1e-300)
        level = np.column_stack([flat, np.zeros(len(flat))])
        # long loops are graded, or the triangles would grow with the square of their edges
        slope = _GRADED * min(max((len(points) - _LONG) / (8 * _LONG), 0.0), 1.0)
        level, found = refine_patch(level, found, sigma * np.maximum(share, 0.3), state, True, slope)
        return Laid(level[:, :2], found, middle, axes, following)
    return None


@kernel
def _relax(triangles, values, fixed, share, sweeps):
    """Each free value goes to the mean of its neighbours', times a share; the values before `fixed` stay."""
    n, m = values.shape
    total, count = np.empty((n, m)), np.empty(n)
    for _ in range(sweeps):
        total[:] = 0.0
        count[:] = 0.0
        for t in range(triangles.shape[0]):
            for k in range(3):
                v, a, b = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
                if v < fixed:
                    continue
                count[v] += 2.0
                for i in range(m):
                    total[v, i] += values[a, i] + values[b, i]
        for v in range(fixed, n):
            if count[v] > 0:
                for i in range(m):
                    values[v, i] = share * total[v, i] / count[v]


@kernel
def _membrane_grid(grid, held, sweeps):
    """Laplace's equation on a grid by over-relaxation; the nodes that are held stay."""
    rows, columns = held.shape
    pull = 2.0 / (1.0 + np.sin(np.pi / max(rows, columns)))
    for _ in range(sweeps):
        for i in range(rows):
            for j in range(columns):
                if held[i, j]:
                    continue
                for c in range(grid.shape[2]):
                    up = grid[i - 1 if i > 0 else 1, j, c]
                    down = grid[i + 1 if i + 1 < rows else rows - 2, j, c]
                    left = grid[i, j - 1 if j > 0 else 1, c]
                    right = grid[i, j + 1 if j + 1 < columns else columns - 2, c]
                    grid[i, j, c] += pull * (0.25 * (up + down + left + right) - grid[i, j, c])


def _membrane(flat: np.ndarray, following: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Values that hang between those on the ring like a drum skin, first guess; shape (N, M)."""
    count = len(following)
    ring = flat[:count]
    low = ring.min(axis=0)
    cell = float((ring.max(axis=0) - low).max()) / _CELLS
    # the ring, closely enough that it leaves no gap between nodes
    ends = ring[following]
    steps = int(np.ceil(np.linalg.norm(ends - ring, axis=1).max() / (0.5 * cell))) if cell > 0 else 1
    part = (np.arange(steps) / steps)[:, None, None]
    places = ((1 - part) * ring + part * ends).reshape(-1, 2)
    held_values = ((1 - part) * values + part * values[following]).reshape(-1, values.shape[1])
    shape = np.maximum(np.ceil((ring.max(axis=0) - low) / cell).astype(int) + 3, 3)
    at = np.rint((places - low) / cell).astype(int) + 1
    number = np.clip(at[:, 0], 0, shape[0] - 1) * shape[1] + np.clip(at[:, 1], 0, shape[1] - 1)
    many = np.bincount(number, minlength=shape.prod())
    grid = np.stack([np.bincount(number, v, shape.prod()) for v in held_values.T], axis=1)
    held = many > 0
    grid[held] /= many[held, None]
    grid[~held] = values.mean(axis=0)
    grid = grid.reshape(*shape, -1)
    _membrane_grid(grid, held.reshape(shape), _SWEEPS)
    where = ((flat[count:] - low) / cell + 1).T
    columns = [ndimage.map_coordinates(values, where, order=1, mode="nearest") for values in np.moveaxis(grid, 2, 0)]
    return np.stack(columns, axis=1)


def taut_over(laid: Laid, count: int, values: np.ndarray) -> np.ndarray:
    """Values at all vertices of a patch, hung between those on its ring like a drum skin; shape (N, M).

    Parameters
    ----------
    laid : Laid
    count : int
        How many vertices the ring has.
    values : ndarray, shape (count, M)
    """
    found = np.concatenate([values, np.empty((len(laid.flat) - count, values.shape[1]))])
    if len(found) > count:
        found[count:] = _membrane(laid.flat, laid.following, values)
        _relax(laid.triangles, found, count, 1.0, 12)
    return found


def flowing_over(laid: Laid, count: int, heights: np.ndarray, around: np.ndarray) -> np.ndarray | None:
    """Heights of a patch that goes on from its surroundings in place, slope and curvature; shape (N,).

    Parameters
    ----------
    laid : Laid
    count : int
    heights : ndarray, shape (count,)
        Of the ring.
    around : ndarray, shape (A, 3)
        The surface round it, in the plane's own axes.
    """
    data = np.concatenate([np.column_stack([laid.flat[:count], heights]), around])
    most = min(max(_DATA * count, _LEAST_DATA), _MOST_DATA)
    if len(data) > most:
        data = data[np.linspace(0, len(data) - 1, most).astype(int)]
    field = fit_heights(data[:, :2], data[:, 2], most // _DATA_FOR_EACH)
    if field is None:
        return None
    low, high = laid.flat.min(axis=0), laid.flat.max(axis=0)
    cell = float((high - low).max()) / _FIELD_CELLS
    if len(laid.flat) < 2 * _FIELD_CELLS**2:
        smooth = field.at(laid.flat)
    else:
        # the field is far smoother than the triangles are small: from a grid, by cubic splines
        sides = [low[k] + cell * (np.arange(int(np.ceil((high[k] - low[k]) / cell)) + 5) - 2) for k in range(2)]
        grid = field.at(np.stack(np.meshgrid(*sides, indexing="ij"), axis=-1).reshape(-1, 2))
        where = ((laid.flat - low) / cell + 2).T
        smooth = ndimage.map_coordinates(grid.reshape(len(sides[0]), len(sides[1])), where, order=3, mode="nearest")
    # what the ring's own vertices lie off it fades within a few rows
    off = np.zeros((len(smooth), 1))
    off[:count, 0] = heights - smooth[:count]
    _relax(laid.triangles, off, count, _FADING, 8)
    return smooth + off[:, 0]


def heights_over(
    laid: Laid, points: np.ndarray, around: np.ndarray, flow: float, flat: bool, rise: float
) -> np.ndarray:
    """Heights of a patch over its plane, mm, shape (N,).

    Parameters
    ----------
    laid : Laid
    points : ndarray, shape (R, 3)
        The ring.
    around : ndarray, shape (A, 3)
        Vertices of the surface round it.
    flow : float
        0 taut to 1 flowing.
    flat : bool
        On a plane instead.
    rise : float
        How far its middle is pushed out, mm.
    """
    count, normal = len(points), laid.axes[2]
    own = (points - laid.middle) @ normal
    if flat:
        off = np.zeros((len(laid.flat), 1))
        off[:count, 0] = own
        _relax(laid.triangles, off, count, _FADING, 8)
        heights = off[:, 0]
    else:
        flowing = flowing_over(laid, count, own, (around - laid.middle) @ laid.axes.T) if flow > 0 else None
        taut = taut_over(laid, count, own[:, None])[:, 0] if flow < 1 or flowing is None else None
        heights = taut if flowing is None else flowing if taut is None else taut + flow * (flowing - taut)
    return heights + rise * _bulge(laid, count) if rise else heights


def _bulge(laid: Laid, count: int) -> np.ndarray:
    """A bulge of height 1, nothing at the ring: its square is what the distance from the ring along the plane is."""
    ring = laid.flat[:count]
    square = np.einsum("ij,ij->i", laid.flat, laid.flat)[:, None]
    # a paraboloid less the membrane that hangs in its place: the drum skin under an even pressure
    bulge = (taut_over(laid, count, (ring**2).sum(axis=1)[:, None]) - square)[:, 0]
    bulge[:count] = 0.0
    top = float(bulge.max(initial=0.0))
    return np.maximum(bulge, 0.0) / top if top > 0 else bulge
