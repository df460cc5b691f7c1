"""Places that single precision holds, as most files do."""

import numpy as np

__all__ = ["as_files_hold"]

_NEGLIGIBLE = 1e-7
"""Share of the diagonal by which places may move to become what a file holds: less than single precision."""


def as_files_hold(points: np.ndarray, diagonal: float) -> np.ndarray:
    """Points rounded to single precision, so that writing them to a file does not move them any more.

    New vertices are made so: what was proven of them, such as that nothing crosses, then holds in the file too.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    diagonal : float
        The part's, mm. Where rounding shifts a point by more than 1e-7 of it, as far from the origin, all stay as
        they are.

    Returns
    -------
    ndarray, shape (N, 3)
    """
    rounded = points.astype(np.float32).astype(np.float64)
    return rounded if len(points) and np.abs(rounded - points).max() <= _NEGLIGIBLE * diagonal else points
