"""What a click would take of the surface under a pixel."""

from collections.abc import Callable

import numpy as np

from tinsnip.app.state.spots import hit_on
from tinsnip.app.view.hand import View
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress

__all__ = ["on_surface"]


def on_surface(
    view: View, x: float, y: float, find: Callable[[Mesh, int, np.ndarray], object]
) -> Callable[[Mesh, Progress], object]:
    """What looks, beside the window, for the triangle and point under a pixel, and asks what follows from them.

    Parameters
    ----------
    view : View
    x, y : float
        In pixels of the view.
    find : callable
        From the mesh, the triangle and the point, mm, to triangles, a treatment, or None.
    """
    ray, hidden = view.camera.ray(x, y), view.session.selected.hidden

    def work(mesh: Mesh, progress: Progress) -> object:
        hit = hit_on(mesh, ray, hidden)
        return None if hit is None else find(mesh, *hit)

    return work
