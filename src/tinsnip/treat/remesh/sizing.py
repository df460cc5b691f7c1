"""How long edges may be for the surface to keep within a deviation: short where it bends, long where it is flat."""

from collections.abc import Callable

import numpy as np

from tinsnip.progress import check_here, polled_here
from tinsnip.space.tree import Tree, build_tree, closest_points

__all__ = ["graded", "resized_by_deviation"]

_LEAST_STEP, _MOST_STEP = 0.5, 1.6
"""By how much the wanted length may change in one round."""
_SLOPE = 0.5
"""By how much it may grow a millimetre, so that neighbours are alike."""
_SWEEPS = 6
"""Rounds in which wanted lengths spread."""


def graded(vertices: np.ndarray, faces: np.ndarray, size: np.ndarray) -> np.ndarray:
    """Wanted lengths, shape (V,), made shorter where those next to them are much shorter.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    size : ndarray, shape (V,)
        In mm.
    """
    size = size.copy()
    for _ in range(_SWEEPS):
        for k in range(3):
            a, b = faces[:, k], faces[:, (k + 1) % 3]
            far = _SLOPE * np.linalg.norm(vertices[a] - vertices[b], axis=1)
            np.minimum.at(size, a, size[b] + far)
            np.minimum.at(size, b, size[a] + far)
    return size


def resized_by_deviation(
    surface: Tree, deviation: float, shortest: float, longest: np.ndarray
) -> Callable[[np.ndarray, np.ndarray, np.ndarray, np.ndarray], np.ndarray]:
    """The lengths wanted, worked out from how far the middles of triangles and edges lie off the surface.

    The deviation of a chord grows with the square of its length, so the length that keeps to one follows from another's
    (as by curvature in Dunyach et al., Adaptive remeshing for real-time mesh deformation, Eurographics 2013, but
    measured, so that noise and edges count as what they are).

    Parameters
    ----------
    surface : Tree
        Of the surface as it was.
    deviation : float
        How far triangles may lie off it, mm.
    shortest : float
    longest : ndarray, shape (F,)
        Between which the lengths stay, mm; the longest by the surface's triangles.

    Returns
    -------
    callable
        From vertices, faces, the lengths wanted at the vertices and the surface's triangles that these lie on to the
        lengths wanted from then on, mm.
    """

    def resize(vertices: np.ndarray, faces: np.ndarray, size: np.ndarray, near: np.ndarray) -> np.ndarray:
        corners = vertices[faces]
        sides = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
        ends = np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)])
        once = ends[:, 0] < ends[:, 1]  # each inner edge is met from either side
        ends, lengths = ends[once], sides.T.ravel()[once]
        middles = 0.5 * (vertices[ends[:, 0]] + vertices[ends[:, 1]])
        off, _ = closest_points(surface, np.concatenate([middles, corners.mean(axis=1)]), polled_here())
        check_here()
        longest_side = sides.max(axis=1)
        ratio = np.sqrt(deviation / np.maximum(off, 1e-12 * deviation))
        by_edge, by_face = lengths * ratio[: len(ends)], longest_side * ratio[len(ends) :]
        # and back: what stood out there and was cut off is seen from the old surface alone
        away, hit = closest_points(build_tree(vertices, faces), surface.vertices, polled_here())
        check_here()
        far = np.flatnonzero(away > deviation)
        np.minimum.at(by_face, hit[far], longest_side[hit[far]] * np.sqrt(deviation / away[far]))
        wanted = _MOST_STEP * size
        for k in range(2):
            np.minimum.at(wanted, ends[:, k], np.maximum(by_edge, _LEAST_STEP * lengths))
        for k in range(3):
            np.minimum.at(wanted, faces[:, k], np.maximum(by_face, _LEAST_STEP * longest_side))
        return graded(vertices, faces, np.maximum(np.minimum(wanted, longest[near]), shortest))

    return resize
