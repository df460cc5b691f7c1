"""Clicks near open edges: beside a hole one sees the far side through it, and means the edge."""

from collections.abc import Callable

import numpy as np

from tinsnip.app.view.hand import View
from tinsnip.app.widgets.theme import px

__all__ = ["edge_point", "pick_near_edge"]

_WITHIN = 12
_BEHIND = 0.02


def edge_point(view: View, x: float, y: float) -> np.ndarray | None:
    """The vertex of an open edge that is seen at a pixel or right beside it, mm; None where there is none."""
    mesh = view.session.mesh
    if mesh is None or view.session.examination is None or len(mesh.loops.halfedges) == 0:
        return None
    points = mesh.vertices[mesh.faces.ravel()[mesh.loops.halfedges]]
    seen = view.camera.project(points)
    off = np.hypot(seen[:, 0] - x, seen[:, 1] - y)
    near = np.flatnonzero(off <= px(_WITHIN))
    if len(near) == 0:
        return None
    surface = view.surface_point(x, y)
    if surface is not None:  # an edge on the far side is hidden by what is in front of it
        front = view.camera.project(surface)[0, 2]
        near = near[seen[near, 2] >= front - _BEHIND * view.camera.reach]
        if len(near) == 0:
            return None
    foremost = seen[near, 2].max()
    near = near[seen[near, 2] >= foremost - _BEHIND * view.camera.reach]
    return points[near[np.argmin(off[near])]]


def pick_near_edge(view: View, x: float, y: float, done: Callable[[int, np.ndarray], None]) -> None:
    """Tell the open edge that is meant, triangle -1, or else the triangle and the point of the surface there."""
    point = edge_point(view, x, y)
    if point is not None:
        done(-1, point)
    else:
        view.pick(x, y, done)
