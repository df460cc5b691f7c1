"""A finding: one thing that is wrong or notable."""

from dataclasses import dataclass, field
from enum import Enum
from typing import Literal, NamedTuple

import numpy as np

__all__ = ["Finding", "Kind", "KindFacts"]


class Kind(Enum):
    """What a finding is; `facts` says what that entails."""

    CRUMB = "crumb"
    CHUNK = "chunk"
    VOID = "void"
    INNER = "inner solid"
    SKIN = "doubled skin"
    HOLE = "hole"
    RIM = "rim"
    TANGLE = "tangle"
    BED = "bed"
    RAGGED = "ragged edge"
    SEAM = "seam"
    CROSSING = "crossing"
    SPIKE = "spike"
    WALL = "thin wall"
    LAYER = "layer"
    OUTSIDE = "outside what is allowed"

    @property
    def facts(self) -> "KindFacts":
        """How findings of this kind are shown and chosen."""
        return _FACTS[self]


class KindFacts(NamedTuple):
    """How findings of one kind are shown and chosen.

    Attributes
    ----------
    can_tick : bool
        Whether it takes part in its station's treatment by a tick.
    ticked_at_first : bool
    drawn : str
        What its outline is: a closed ``ring``, single ``points``, or a ``cloud`` of a shell's vertices.
    counted : str
        What its count counts, as a plural.
    spans : bool
        Whether its size is a length that is worth telling; else its count is told.
    """

    can_tick: bool
    ticked_at_first: bool
    drawn: Literal["ring", "points", "cloud"]
    counted: str
    spans: bool = True


_FACTS = {
    Kind.CRUMB: KindFacts(True, True, "cloud", "triangles"),
    # what may be part of the part is not ticked unless its user does so
    Kind.CHUNK: KindFacts(True, False, "cloud", "triangles"),
    Kind.VOID: KindFacts(True, True, "cloud", "triangles"),
    Kind.INNER: KindFacts(True, True, "cloud", "triangles"),
    Kind.SKIN: KindFacts(True, True, "cloud", "triangles"),
    Kind.HOLE: KindFacts(True, True, "ring", "edges"),
    Kind.RIM: KindFacts(False, False, "ring", "edges"),
    Kind.TANGLE: KindFacts(False, False, "points", "places", spans=False),
    Kind.BED: KindFacts(False, False, "ring", "triangles"),
    Kind.CROSSING: KindFacts(False, False, "points", "pairs of triangles"),
    Kind.SPIKE: KindFacts(False, False, "points", "vertices far off their neighbours"),
    Kind.WALL: KindFacts(False, False, "cloud", "triangles"),
    Kind.LAYER: KindFacts(False, False, "cloud", "layers"),
    Kind.OUTSIDE: KindFacts(False, False, "cloud", "triangles"),
    Kind.SEAM: KindFacts(False, False, "points", "open edges along others"),
    Kind.RAGGED: KindFacts(False, False, "ring", "sharp turns"),
}


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
    about : str
        More of it, for who asks.
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
    about: str = ""
