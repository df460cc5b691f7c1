"""What shows a datum: its outlines, its axis, its point."""

from typing import NamedTuple

import numpy as np

from tinsnip.datums.datum import AXIAL, LINEAR, Datum
from tinsnip.space.polygons import plane_axes
from tinsnip.survey.measuring import ring_about

__all__ = ["DatumLines", "lines_of"]

_BEYOND = 0.12
"""By how much an axis is drawn beyond what is known of it, as a share of that."""


class DatumLines(NamedTuple):
    """Lines in space, mm.

    Attributes
    ----------
    outlines : list of ndarray, shape (N, 3)
        Closed where the last place is the first.
    axis : ndarray, shape (2, 3), or None
    point : ndarray, shape (3,), or None
    """

    outlines: list[np.ndarray]
    axis: np.ndarray | None
    point: np.ndarray | None


def lines_of(datum: Datum, least: float = 1.0) -> DatumLines:
    """The lines that show a datum; what nothing is known of is drawn `least` long, mm.

    Parameters
    ----------
    datum : Datum
    least : float
        In mm.
    """
    place, way = datum.place, datum.direction
    outlines: list[np.ndarray] = []
    axis = point = None
    if datum.form == "plane":
        u, v = plane_axes(way)
        reach = max(datum.reach, least)
        corners = ((-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1))
        outlines.append(np.array([place + 0.72 * reach * (a * u + b * v) for a, b in corners]))
        axis = np.array([place, place + 0.25 * reach * way])
    elif datum.form in LINEAR:
        low, high = (datum.low, datum.high) if datum.high > datum.low else (-least, least)
        beyond = _BEYOND * (high - low) if datum.form in AXIAL else 0.0
        if datum.form in ("circle", "torus"):
            low, high = -0.25 * datum.radius, 0.25 * datum.radius
        axis = place + np.outer([low - beyond, high + beyond], way)
    if datum.form == "cylinder":
        outlines += [end + ring_about(way, datum.radius) for end in datum.ends()]
    elif datum.form == "cone":
        spread = float(np.tan(np.radians(datum.angle_deg) / 2))
        outlines += [place + far * way + ring_about(way, abs(far) * spread) for far in (datum.low, datum.high) if far]
    elif datum.form == "sphere":
        outlines += [place + ring_about(axis_, datum.radius) for axis_ in np.eye(3)]
    elif datum.form == "torus":
        outlines += [place + ring_about(way, datum.radius + off) for off in (-datum.tube, datum.tube)]
    elif datum.form == "circle":
        outlines.append(place + ring_about(way, datum.radius))
    if datum.form in ("point", "sphere", "cone", "torus", "circle"):
        point = place
    return DatumLines(outlines, axis, point)
