"""Rectangles side by side in a square, by a skyline: each is laid where it comes to lie lowest."""

import numpy as np

__all__ = ["packed"]


def packed(sizes: np.ndarray, width: float) -> tuple[np.ndarray, float]:
    """Lay rectangles into a strip, the highest first (bottom left by skyline, Jylänki 2010).

    Parameters
    ----------
    sizes : ndarray, shape (N, 2)
        Width and height of each; none is wider than the strip.
    width : float
        Of the strip.

    Returns
    -------
    corners : ndarray, shape (N, 2)
        The lower left corner of each.
    height : float
        That the strip comes to.
    """
    corners = np.zeros((len(sizes), 2))
    starts, heights = [0.0], [0.0]  # the skyline: where each step begins, and how high it is
    total = 0.0
    for i in np.lexsort((-sizes[:, 0], -sizes[:, 1])):
        wide, high = float(sizes[i, 0]), float(sizes[i, 1])
        best, at = np.inf, -1
        for j, x in enumerate(starts):
            if x + wide > width + 1e-9:
                break
            top, k = heights[j], j + 1
            while k < len(starts) and starts[k] < x + wide:
                top = max(top, heights[k])
                k += 1
            if top < best - 1e-12:
                best, at = top, j
        x = starts[at]
        corners[i] = x, best
        total = max(total, best + high)
        end, k = x + wide, at
        while k < len(starts) and starts[k] < end:
            last = heights[k]
            k += 1
        rest = [(end, last)] if end < width - 1e-9 and (k == len(starts) or starts[k] > end + 1e-9) else []
        starts[at:k] = [x, *(s for s, _ in rest)]
        heights[at:k] = [best + high, *(h for _, h in rest)]
    return corners, total
