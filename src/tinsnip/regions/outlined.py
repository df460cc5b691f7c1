"""What lies within an outline drawn over a view: what is seen there, or all that lies behind it too."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.outlines import inside_outline

__all__ = ["Sight", "outlined", "seen_through"]


class Sight(NamedTuple):
    """How a part is looked at, in parallel projection.

    Attributes
    ----------
    frame : ndarray, shape (3, 3)
        Rows: unit vectors to the right, up, and towards the eye.
    middle : ndarray, shape (3,)
        What is in the middle of the picture, mm.
    scale : float
        mm a pixel.
    width, height : int
        Pixels.
    """

    frame: np.ndarray
    middle: np.ndarray
    scale: float
    width: int
    height: int

    def project(self, points: np.ndarray) -> np.ndarray:
        """Places in the picture, pixels from its top left, and nearness, mm, shape (N, 3)."""
        rows = self.frame * np.array([1 / self.scale, -1 / self.scale, 1.0])[:, None]
        flat = points @ rows.T
        flat -= rows @ self.middle
        flat[:, :2] += [0.5 * self.width, 0.5 * self.height]
        return flat


@kernel
def _draw(seen, faces, first, skip, ids, near, state):
    """Draw triangles into a picture of numbers: at each pixel's middle the nearest one's, counted from `first`."""
    height, width = ids.shape
    for f in range(faces.shape[0]):
        if f % 65536 == 0:
            if state[0]:
                return
            state[1] = f
        if len(skip) and skip[f]:
            continue
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, bx, by, cx, cy = seen[a, 0], seen[a, 1], seen[b, 0], seen[b, 1], seen[c, 0], seen[c, 1]
        x0, x1 = max(int(np.ceil(min(ax, bx, cx) - 0.5)), 0), min(int(np.floor(max(ax, bx, cx) - 0.5)), width - 1)
        y0, y1 = max(int(np.ceil(min(ay, by, cy) - 0.5)), 0), min(int(np.floor(max(ay, by, cy) - 0.5)), height - 1)
        if x1 < x0 or y1 < y0:
            continue
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                px, py = x + 0.5, y + 0.5
                u = ((cx - bx) * (py - by) - (cy - by) * (px - bx)) / area
                v = ((ax - cx) * (py - cy) - (ay - cy) * (px - cx)) / area
                w = 1.0 - u - v
                if u < 0.0 or v < 0.0 or w < 0.0:
                    continue
                z = u * seen[a, 2] + v * seen[b, 2] + w * seen[c, 2]
                if z > near[y, x]:
                    near[y, x] = z
                    ids[y, x] = first + f


@kernel
def _gather(seen, faces, skip, ids, near, held, middles_in, taken, slack, state):
    """Take what is drawn within the outline, and what is too small to be drawn but lies at the surface that is."""
    height, width = ids.shape
    for y in range(height):
        for x in range(width):
            if held[y, x] and ids[y, x] >= 0:
                taken[ids[y, x]] = True
    for f in range(faces.shape[0]):
        if f % 65536 == 0:
            if state[0]:
                return
            state[1] = f
        if taken[f] or not middles_in[f] or (len(skip) and skip[f]):
            continue
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        area = (seen[b, 0] - seen[a, 0]) * (seen[c, 1] - seen[a, 1]) - (seen[b, 1] - seen[a, 1]) * (
            seen[c, 0] - seen[a, 0]
        )
        mx, my = (seen[a, 0] + seen[b, 0] + seen[c, 0]) / 3.0, (seen[a, 1] + seen[b, 1] + seen[c, 1]) / 3.0
        mz = (seen[a, 2] + seen[b, 2] + seen[c, 2]) / 3.0
        x, y = int(np.floor(mx)), int(np.floor(my))
        if x < 0 or y < 0 or x >= width or y >= height:
            continue
        g = ids[y, x]
        if g < 0:
            continue
        # in front of the plane of what is drawn there, or as good as on it, and facing the same way
        p, q, r = faces[g, 0], faces[g, 1], faces[g, 2]
        drawn = (seen[q, 0] - seen[p, 0]) * (seen[r, 1] - seen[p, 1]) - (seen[q, 1] - seen[p, 1]) * (
            seen[r, 0] - seen[p, 0]
        )
        if drawn * area <= 0.0:
            continue
        low, high = near[y, x], near[y, x]
        for j in range(max(y - 1, 0), min(y + 2, height)):
            for i in range(max(x - 1, 0), min(x + 2, width)):
                if ids[j, i] >= 0:
                    low, high = min(low, near[j, i]), max(high, near[j, i])
        # over an edge of the surface the neighbouring pixels may lie far behind: no more than a few pixels' worth
        if mz >= max(low, near[y, x] - 6.0 * slack) - slack:
            taken[f] = True


def outlined(
    mesh: Mesh,
    sight: Sight,
    corners: np.ndarray,
    progress: Progress,
    hidden: np.ndarray | None = None,
    before: Sequence[Mesh] = (),
) -> np.ndarray:
    """The triangles that are seen within an outline.

    What is seen is drawn into a picture of triangle numbers at the view's resolution, in this processor and not by the
    graphics card, so that the same is found everywhere. Triangles too small to meet a pixel's middle are taken too
    where their own middle lies within the outline, at the surface that is seen there.

    Parameters
    ----------
    mesh : Mesh
    sight : Sight
    corners : ndarray, shape (N, 2)
        The outline, pixels from the picture's top left.
    progress : Progress
    hidden : ndarray of bool, shape (F,), optional
        Triangles that are not drawn.
    before : sequence of Mesh
        What else is drawn, and hides what lies behind it.

    Returns
    -------
    ndarray of bool, shape (F,)

    Raises
    ------
    Cancelled
    """
    state = progress.step("Selecting", 2 * len(mesh.faces))
    skip = np.zeros(0, dtype=np.bool_) if hidden is None else hidden
    ids = np.full((sight.height, sight.width), -1, dtype=np.int32)
    near = np.full(ids.shape, -np.inf)
    seen = sight.project(mesh.vertices)
    _draw(seen, mesh.faces, 0, skip, ids, near, state)
    progress.check()
    for other in before:
        over = np.full(ids.shape, -1, dtype=np.int32)
        front = near.copy()
        _draw(sight.project(other.vertices), other.faces, 0, np.zeros(0, dtype=np.bool_), over, front, state)
        ids[over >= 0] = -1
        near = front
        progress.check()
    y, x = np.mgrid[0 : sight.height, 0 : sight.width]
    held = inside_outline(np.column_stack([x.ravel() + 0.5, y.ravel() + 0.5]), corners).reshape(ids.shape)
    taken = np.zeros(len(mesh.faces), dtype=np.bool_)
    _gather(seen, mesh.faces, skip, ids, near, held, _middles_in(seen, mesh, corners), taken, sight.scale, state)
    progress.check()
    return taken


def _middles_in(seen: np.ndarray, mesh: Mesh, corners: np.ndarray) -> np.ndarray:
    """Whose middles lie within an outline."""
    flat = seen[:, :2]
    middles = (flat[mesh.faces[:, 0]] + flat[mesh.faces[:, 1]] + flat[mesh.faces[:, 2]]) / 3.0
    return inside_outline(middles, corners)


def seen_through(mesh: Mesh, sight: Sight, corners: np.ndarray, hidden: np.ndarray | None = None) -> np.ndarray:
    """All triangles whose middles lie within an outline, whatever lies before them, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    sight : Sight
    corners : ndarray, shape (N, 2)
        Pixels from the picture's top left.
    hidden : ndarray of bool, shape (F,), optional
        Triangles that are never taken.
    """
    taken = _middles_in(sight.project(mesh.vertices), mesh, corners)
    return taken if hidden is None else taken & ~hidden
