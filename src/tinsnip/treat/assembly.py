"""What every assembly is: a treatment with pieces in and pieces out."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, NamedTuple

import numpy as np
from pydantic import BaseModel, ConfigDict

from tinsnip.mesh import Mesh
from tinsnip.progress import stoppable
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context

__all__ = ["Assembled", "Assembly", "Part"]


class Part(NamedTuple):
    """One piece that comes out.

    Attributes
    ----------
    mesh : Mesh
    of : tuple of int
        The pieces that went in, by their place, which it is made of: the first lends it its name.
    named : str
        What is put behind that name, for a further piece.
    matrix : ndarray, shape (4, 4), optional
        What moved the piece, where it is the one that went in, moved.
    """

    mesh: Mesh
    of: tuple[int, ...]
    named: str = ""
    matrix: np.ndarray | None = None


@dataclass(frozen=True)
class Assembled:
    """The pieces that came of it, a line for the log, and the account of what was done."""

    parts: tuple[Part, ...]
    text: str
    account: Account = field(default_factory=Account)


class Assembly(BaseModel):
    """One operation over several pieces: parameters, and a pure function.

    It keeps to the same promises as a treatment. The first piece that is made of one that went in takes its place;
    pieces that went in and are part of none that came out are gone.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: ClassVar[str]
    title: ClassVar[str]
    fewest: ClassVar[int] = 1
    """How many pieces have to go in."""
    points_on: ClassVar[Mapping[str, int]] = {}
    """Fields that are places on one of the pieces, a point or a list of them, mm, and on which, by its place: they go
    along when that piece is moved, and fit no other scan."""

    def __init_subclass__(cls, **named: Any) -> None:
        super().__init_subclass__(**named)
        if "apply" in cls.__dict__:
            cls.apply = stoppable(cls.apply)

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Work on the meshes of some pieces, all in the same frame."""
        raise NotImplementedError
