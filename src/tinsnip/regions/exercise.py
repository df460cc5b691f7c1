"""A small run through all kernels of this room."""

import numpy as np

from tinsnip.mesh.exercise import ball
from tinsnip.progress import Progress
from tinsnip.regions.grow import brushed
from tinsnip.regions.kept import found_again
from tinsnip.regions.outlined import Sight, outlined

__all__ = ["exercise"]


def exercise() -> None:
    """Reach every kernel."""
    whole = ball()
    brushed(whole, 0, np.zeros(3), 1.0)
    sight = Sight(np.eye(3), np.zeros(3), 0.05, 60, 60)
    square = np.array([[10.0, 10.0], [50.0, 10.0], [50.0, 50.0], [10.0, 50.0]])
    chosen = outlined(whole, sight, square, Progress())
    found_again(whole, chosen, whole.moved(whole.vertices.copy()))
