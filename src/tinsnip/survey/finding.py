"""A finding: one thing that is wrong or notable."""

from dataclasses import dataclass, field
from enum import Enum

import numpy as np

__all__ = ["Finding", "Kind"]


class Kind(Enum):
    """What a finding is."""

    CRUMB = "crumb"
    CHUNK = "chunk"
    VOID = "void"
    HOLE = "hole"
    RIM = "rim"
    TANGLE = "tangle"


@dataclass(frozen=True, eq=False)
class Finding:
    """One thing found.

    Attributes
    ----------
    id : str
        Short name shown on tags, such as ``H3``.
    kind : Kind
    text : str
        What it is, in a few words.
    place : ndarray, shape (3,)
        Where to look, mm.
    size : float
        Its span, mm.
    count : int
        Triangles of a shell, edges of a boundary, places of a tangle.
    proposal : str
        The treatment proposed.
    key : int
        Names it to a treatment: the lowest triangle of a shell, the lowest half-edge of a boundary.
    outline : ndarray, shape (N, 3)
        Points that draw its silhouette, mm.
    """

    id: str
    kind: Kind
    text: str
    place: np.ndarray
    size: float
    count: int
    proposal: str
    key: int
    outline: np.ndarray = field(repr=False)
