"""Order along a space-filling Z curve: neighbours in space become neighbours in memory."""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["morton_codes", "morton_order"]


@kernel
def _spread(x):
    """Put two zero bits between the low 21 bits of x."""
    x = np.uint64(x) & np.uint64(0x1FFFFF)
    x = (x | (x << np.uint64(32))) & np.uint64(0x1F00000000FFFF)
    x = (x | (x << np.uint64(16))) & np.uint64(0x1F0000FF0000FF)
    x = (x | (x << np.uint64(8))) & np.uint64(0x100F00F00F00F00F)
    x = (x | (x << np.uint64(4))) & np.uint64(0x10C30C30C30C30C3)
    return (x | (x << np.uint64(2))) & np.uint64(0x1249249249249249)


@kernel
def _morton(points, low, scale, code):
    for i in range(points.shape[0]):
        x = _spread((points[i, 0] - low[0]) * scale)
        y = _spread((points[i, 1] - low[1]) * scale)
        z = _spread((points[i, 2] - low[2]) * scale)
        code[i] = x | (y << np.uint64(1)) | (z << np.uint64(2))


def morton_codes(points: np.ndarray) -> np.ndarray:
    """Places of points along a space-filling Z curve (Morton 1966), uint64, shape (N,).

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In mm.
    """
    low = points.min(axis=0)
    extent = float((points.max(axis=0) - low).max()) or 1.0
    code = np.empty(len(points), dtype=np.uint64)
    _morton(points, low, (2**21 - 1) / extent, code)
    return code


def morton_order(points: np.ndarray) -> np.ndarray:
    """Order of points along a space-filling Z curve, shape (N,).

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In mm.
    """
    return np.argsort(morton_codes(points), kind="stable")
