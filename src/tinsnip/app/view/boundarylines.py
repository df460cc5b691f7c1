"""Lines that are drawn over the part: holes and rims, seams to weld, and where surfaces cross."""

import numpy as np

from tinsnip.survey import Examination, Kind

__all__ = ["lines_of"]

_HOLE_LINE = {
    "first": (0.66, 0.42, 0.92),
    "second": (0.97, 0.94, 1.0),
    "period": 13.0,
    "share": 0.62,
    "width": 3.4,
}
_RIM_LINE = {"first": (0.97, 0.95, 0.88), "second": (0.15, 0.15, 0.16), "period": 9.0, "share": 0.55, "width": 3.0}
_CROSSING_LINE = {"first": (0.95, 0.32, 0.2), "second": (0.1, 0.05, 0.05), "period": 5.0, "share": 0.7, "width": 4.0}
_SEAM_LINE = {"first": (0.98, 0.85, 0.3), "second": (0.2, 0.16, 0.05), "period": 7.0, "share": 0.5, "width": 3.0}


def lines_of(found: Examination, station: str) -> list[tuple[np.ndarray, dict]]:
    """What `Scene.set_lines` draws of what was found, as one looks at it from a station."""
    lines = [(f.outline, _RIM_LINE if f.kind is Kind.RIM else _HOLE_LINE) for f in found.openings]
    if found.seams and station == "Strays":
        lines.append((found.seam_lines, _SEAM_LINE))
    if found.crossed:
        lines.append((found.crossing_lines, _CROSSING_LINE))
    return lines
