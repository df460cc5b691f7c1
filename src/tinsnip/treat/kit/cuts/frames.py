"""Frames for bodies that are placed by a direction, and the kinds of values they are placed by."""

from typing import Annotated

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput

__all__ = ["Length", "Number", "Point", "frame_along"]

Number = Annotated[float, Field(allow_inf_nan=False)]
Length = Annotated[float, Field(gt=0, allow_inf_nan=False)]
Point = tuple[Number, Number, Number]


def frame_along(axis: Point, across: Point | None, what: str) -> np.ndarray:
    """A right-handed frame, shape (3, 3), whose third row lies along an axis, and the first as near `across` as may be.

    Parameters
    ----------
    axis : (float, float, float)
    across : (float, float, float), optional
    what : str
        What it is the axis of, for what is said.

    Raises
    ------
    BadInput
        When the axis has no length.
    """
    z = np.array(axis, dtype=float)
    length = float(np.linalg.norm(z))
    if length == 0:
        raise BadInput(f"the {what} 0,0,0 has no direction; give one such as 0,0,1")
    z /= length
    x = np.eye(3)[int(np.argmin(np.abs(z)))] if across is None else np.array(across, dtype=float)
    x = x - (x @ z) * z
    if np.linalg.norm(x) < 1e-9:
        x = np.eye(3)[int(np.argmin(np.abs(z)))]
        x = x - (x @ z) * z
    x /= np.linalg.norm(x)
    return np.stack([x, np.cross(z, x), z])
