"""Skins with as few triangles as their shape wants, made about their own middle."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.singles import as_files_hold
from tinsnip.treat.kit.skins.offsetting import STEPS_IN_OFFSET, offset_skin
from tinsnip.treat.reduce.reduce import Reduce
from tinsnip.treat.treatment import Context

__all__ = ["spare_offset_skin"]

_FEW = 2_000
"""Skins of no more triangles than this stay as they are."""
_OFF = 1e-3
"""How far a skin may move as it is reduced, as a share of its distance: a tenth of what a wall may be off."""
_COARSE = 3.0
"""Cells in the distance at least."""
_CELLS = 120.0
"""Along the longest side; where there would be more, the coarser ones do."""


def spare_offset_skin(
    vertices: np.ndarray, faces: np.ndarray, offset: float, progress: Progress, widest: float = np.inf
) -> tuple[np.ndarray, np.ndarray, int]:
    """The surface at a distance from another, as `offset_skin` makes it, in few triangles.

    It is worked out about the part's own middle, so that it is as good far from the origin as near it.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
        Closed and outward.
    offset : float
        Distance, mm: outside where above 0, within where below.
    progress : Progress
    widest : float
        The largest cells there may be, mm.

    Returns
    -------
    vertices : ndarray, shape (N, 3)
    faces : ndarray of int32, shape (M, 3)
    crossings : int
        How many pairs of triangles cross.
    """
    low, high = vertices[faces].min(axis=(0, 1)), vertices[faces].max(axis=(0, 1))
    middle = as_files_hold(0.5 * (low + high)[None], np.inf)[0]
    far, longest = abs(offset), float((high - low).max())
    step = min(max(far / STEPS_IN_OFFSET, min(far / _COARSE, longest / _CELLS)), widest)
    with progress.part(0.0, 0.7):
        places, skin, crossings = offset_skin(vertices - middle, faces, offset, step, progress)
    size = float(np.linalg.norm(high - low))
    if crossings == 0 and len(skin) > _FEW:
        with progress.part(0.7, 1.0):
            reduced = Reduce(max_deviation_mm=_OFF * far).apply(Mesh(places, skin), Context(progress)).mesh
        places, skin = reduced.vertices, reduced.faces
    return as_files_hold(places + middle, size), skin, crossings
