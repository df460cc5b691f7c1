"""How dark the ground is under and round a part that stands on it."""

from typing import NamedTuple

import numpy as np
from scipy.ndimage import gaussian_filter

from tinsnip.mesh.measures import spread_by_area

__all__ = ["Footprint", "footprint_of"]

_SIDE = 96
_POINTS = 30_000
_ROUND = 0.35
"""How far the shadow may reach beyond the part, as a share of its longest side."""
_LOW = 0.2
"""What lies this far up, as a share of the part's longest side, throws about a third of the shadow."""
_SHARP, _SOFT = 1.2, 5.0
"""Widths of the two blurs, in cells: the shadow where it stands, and that of what hangs over."""
_DENSE = 1.5
"""Points in a cell from which it counts as covered."""


class Footprint(NamedTuple):
    """A shadow on the ground.

    Attributes
    ----------
    shade : ndarray of uint8, shape (96, 96)
        How dark, row by row along y.
    low, high : ndarray, shape (2,)
        What it covers in x and y, mm.
    level : float
        The height of the ground, mm.
    """

    shade: np.ndarray
    low: np.ndarray
    high: np.ndarray
    level: float


def footprint_of(vertices: np.ndarray, faces: np.ndarray) -> Footprint | None:
    """The shadow of a surface on the ground it stands on; None where there is no surface.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    """
    points, _ = spread_by_area(vertices.astype(np.float64), faces, _POINTS)
    if len(points) == 0:
        return None
    low, high = points.min(axis=0), points.max(axis=0)
    longest = max(float((high - low).max()), 1e-300)
    corner, far = low[:2] - _ROUND * longest, high[:2] + _ROUND * longest
    cells = [[corner[k], far[k]] for k in (1, 0)]
    weight = np.exp(-(points[:, 2] - low[2]) / (_LOW * longest))
    shades = []
    for values, width in ((weight * (weight > 0.85), _SHARP), (weight, _SOFT)):
        cover, *_ = np.histogram2d(points[:, 1], points[:, 0], bins=_SIDE, range=cells, weights=values)
        shades.append(gaussian_filter(np.minimum(cover / _DENSE, 1.0), width))
    shade = np.clip(0.6 * shades[0] + 0.7 * shades[1], 0.0, 1.0)
    return Footprint((255 * shade).astype(np.uint8), corner, far, float(low[2]))
