"""Skins with as few triangles as their shape wants, made about their own middle."""

import math

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import spread_by_area
from tinsnip.progress import Progress, check_here, polled_here
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.space.singles import as_files_hold
from tinsnip.space.tree import closest_points
from tinsnip.survey.crossings import new_crossings
from tinsnip.treat.kit.skins.offsetting import cell_for, offset_skin
from tinsnip.treat.reduce.reduce import Reduce
from tinsnip.treat.treatment import Context

__all__ = ["spare_offset_skin"]

_FEW = 2_000
"""Skins of no more triangles than this stay as they are."""
_OFF, _MOST_OFF = 1e-3, 2e-2
"""How far a skin may move as it is reduced, as a share of its distance, but for one point in a hundred, and at most: a
tenth, and all, of what a wall may be off."""
_FEWEST, _TRIES, _SAMPLES = 12, 6, 20_000


def spare_offset_skin(
    vertices: np.ndarray,
    faces: np.ndarray,
    offset: float,
    progress: Progress,
    widest: float = np.inf,
    sheet: bool = False,
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
    sheet : bool
        As for `offset_skin`.

    Returns
    -------
    vertices : ndarray, shape (N, 3)
    faces : ndarray of int32, shape (M, 3)
    crossings : int
        How many pairs of triangles cross.
    """
    low, high = vertices[faces].min(axis=(0, 1)), vertices[faces].max(axis=(0, 1))
    middle = as_files_hold(0.5 * (low + high)[None], np.inf)[0]
    far, size = abs(offset), float(np.linalg.norm(high - low))
    step = min(cell_for(far, float((high - low).max())), widest)
    for everywhere in (False, True):
        with progress.part(0.55 * everywhere, 0.55 + 0.45 * everywhere):
            with progress.part(0.0, 0.85):
                places, skin, crossings = offset_skin(
                    vertices - middle, faces, offset, step, progress, sheet, everywhere
                )
            if crossings == 0 and len(skin) > _FEW:
                with progress.part(0.85, 1.0):
                    places, skin = _spared(Mesh(places, skin), far, progress)
        if len(skin) == 0 or everywhere:
            break
        if not any(map(len, crossings_and_folds(places, skin))):
            crossings = 0
            break
    return as_files_hold(places + middle, size), skin, crossings


def _spared(skin: Mesh, far: float, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
    """The level of a skin with the fewest triangles that nowhere lies far off it, and crosses nothing."""
    with progress.part(0.0, 0.4):
        record = Reduce().record(skin, progress)
    low, high = _FEWEST, len(skin.faces)
    count, best = high // 4, high
    for number in range(_TRIES):
        with progress.part(0.4 + 0.4 * number / _TRIES, 0.4 + 0.4 * (number + 1) / _TRIES):
            level = record.level(count)
            fits = _fits(skin, Mesh(level.vertices, level.faces), far)
        if fits:
            best = high = count
        else:
            low = count
        if high <= 1.3 * low:
            break
        count = math.isqrt(low * high)
    if best < len(skin.faces):
        level = record.level(best)
        reduced = Mesh(level.vertices, level.faces)
        if reduced.edges.open == 0 and len(new_crossings(skin, reduced)) == 0:
            return reduced.vertices, reduced.faces
        with progress.part(0.8, 1.0):
            outcome = Reduce(triangles=best).apply(skin, Context(progress))
        if outcome.account.crossings == 0 and outcome.mesh.edges.open == 0:
            return outcome.mesh.vertices, outcome.mesh.faces
    return skin.vertices, skin.faces


def _fits(skin: Mesh, reduced: Mesh, far: float) -> bool:
    """Whether a reduced skin lies off the full one, either way, by as little as it may."""
    for one, other in ((skin, reduced), (reduced, skin)):
        some = one.vertices[:: max(1, len(one.vertices) // _SAMPLES)]
        if one is reduced:
            some, _ = spread_by_area(one.vertices, one.faces, _SAMPLES)
        away, _ = closest_points(other.tree, some, polled_here())
        check_here()
        if np.quantile(away, 0.99) > _OFF * far or away.max() > _MOST_OFF * far:
            return False
    return True
