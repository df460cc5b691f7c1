"""A small run through all kernels of this room."""

import numpy as np

from tinsnip.mesh.exercise import ball
from tinsnip.regions.grow import brushed

__all__ = ["exercise"]


def exercise() -> None:
    """Reach every kernel."""
    brushed(ball(), 0, np.zeros(3), 1.0)
