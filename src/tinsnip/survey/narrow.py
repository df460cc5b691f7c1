"""What is narrower than a machine can draw: parts of layers that a disc of that width does not reach."""

from typing import NamedTuple

import numpy as np
import shapely

from tinsnip.progress import DONE, Progress, stoppable
from tinsnip.space.slicing import Layers

__all__ = ["Narrow", "find_narrow"]

_SMOOTHED = 0.05
"""Share of the width by which outlines may be simplified: the triangles of a scan are far finer than any nozzle."""
_LEAST = 0.25
"""Square widths: what is lost and smaller than that are corners and noise, not features."""
_POINTED = 5.0
"""Corners that reach further than so many half widths are cut off: no disc reaches their tip."""


class Narrow(NamedTuple):
    """What a disc of a width leaves out.

    Attributes
    ----------
    layers : ndarray of int64
        The layers that have such.
    area : float
        The largest single one, mm2.
    place : ndarray, shape (3,), or None
        Where that is, mm.
    """

    layers: np.ndarray
    area: float
    place: np.ndarray | None


@stoppable
def find_narrow(layers: Layers, width: float, progress: Progress) -> Narrow:
    """Find what is narrower than a width, mm, in the layers of a closed solid: an opening by a disc, and what it loses.

    Parameters
    ----------
    layers : Layers
    width : float
    progress : Progress
    """
    state = progress.step("Looking for what is too narrow", len(layers.heights))
    found, largest, place = [], 0.0, None
    for i, z in enumerate(layers.heights):
        state[DONE] = i
        progress.check()
        rings = [r for r in layers.outlines_at(i) if len(r) > 2]
        if not rings:
            continue
        own = shapely.build_area(shapely.geometrycollections([shapely.linearrings(r) for r in rings]))
        if own is None:
            continue
        own = shapely.simplify(own, _SMOOTHED * width)
        if not shapely.is_valid(own):
            own = shapely.make_valid(own)
        kept = own.buffer(-0.5 * width, join_style="mitre", mitre_limit=_POINTED)
        kept = kept.buffer((0.5 + _SMOOTHED) * width, join_style="mitre", mitre_limit=_POINTED)
        lost = shapely.get_parts(shapely.difference(own, kept))
        areas = shapely.area(lost)
        if (areas > _LEAST * width**2).any():
            found.append(i)
            worst = int(np.argmax(areas))
            if areas[worst] > largest:
                at = shapely.point_on_surface(lost[worst])
                largest, place = float(areas[worst]), np.array([at.x, at.y, z])
    return Narrow(np.array(found, dtype=np.int64), largest, place)
