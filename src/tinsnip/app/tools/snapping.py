"""Where handles come to stop: at the datums of the part, while a drag comes near one."""

from collections.abc import Iterable, Sequence

import numpy as np

from tinsnip.app.view.hand import View
from tinsnip.app.widgets.theme import px
from tinsnip.datums.between import angle_of_lines
from tinsnip.datums.datum import AXIAL, LINEAR, Datum

__all__ = ["Snaps"]

_NEAR = 7.0
"""Pixels within which a handle is drawn to a datum: less than a tab is high, so that it can be set down beside one."""
_ALONG_DEG = 0.5
"""By how much a plane, or an axis, may lean from a datum's and still be brought onto it by a shift."""
_LEANS_DEG = 1.5
"""Within which a direction is drawn to that of a datum."""


class Snaps:
    """What a handle may stop at.

    Parameters
    ----------
    datums : sequence of Datum
    scale : float
        Millimetres in a pixel.
    """

    def __init__(self, datums: Sequence[Datum], scale: float) -> None:
        self._datums, self._near = datums, px(_NEAR) * scale

    @classmethod
    def of(cls, view: View) -> "Snaps":
        """The datums of the piece that is worked on, as they are seen."""
        piece = view.session.job.piece
        return cls(() if piece is None else piece.datums, view.camera.scale)

    @staticmethod
    def _nearest(found: Iterable[tuple[float, object, Datum]], within: float) -> tuple[object, Datum] | None:
        best = min(found, key=lambda one: one[0], default=None)
        return best[1:] if best is not None and best[0] <= within else None

    def offset(self, normal: np.ndarray, now: float) -> tuple[float, Datum] | None:
        """Where a plane of a unit normal lies on a datum near its offset, mm; None where none is near."""
        found = []
        for datum in self._datums:
            lies = angle_of_lines(normal, datum.direction) if datum.direction.any() else 0.0
            # another plane has to run alongside; an axis lies in the plane, or stands up from its own middle
            if datum.form == "plane":
                fits = lies <= _ALONG_DEG
            elif datum.form in AXIAL:
                fits = lies >= 90.0 - _ALONG_DEG
            else:
                fits = True
            if fits:
                at = float(normal @ datum.place)
                found.append((abs(at - now), at, datum))
        return self._nearest(found, self._near)

    def direction(self, now: np.ndarray) -> tuple[np.ndarray, Datum] | None:
        """The direction of a datum, turned to the side that a unit direction faces."""
        found = []
        for datum in self._datums:
            if datum.form == "plane" or datum.form in LINEAR:
                sign = 1.0 if datum.direction @ now >= 0 else -1.0
                found.append((angle_of_lines(datum.direction, now), sign * datum.direction, datum))
        return self._nearest(found, _LEANS_DEG)

    def radius(self, now: float) -> tuple[float, Datum] | None:
        """The radius of a datum, mm."""
        return self._nearest(((abs(d.radius - now), d.radius, d) for d in self._datums if d.radius > 0), self._near)

    def axis(self, through: np.ndarray, direction: np.ndarray) -> tuple[np.ndarray, Datum] | None:
        """Where an axis of a unit direction passes through a datum: a point beside `through`."""
        found = []
        for datum in self._datums:
            if datum.form == "plane" or (
                datum.form in AXIAL and angle_of_lines(datum.direction, direction) > _ALONG_DEG
            ):
                continue
            off = datum.place - through
            off = off - (off @ direction) * direction
            found.append((float(np.linalg.norm(off)), through + off, datum))
        return self._nearest(found, self._near)
