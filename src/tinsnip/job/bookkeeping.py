"""What is done to a piece as a whole, besides treating its mesh: opening, unit, name, variants."""

from collections.abc import Iterable
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from tinsnip.formats import UNITS
from tinsnip.job.keeping import Kept
from tinsnip.job.piece import Piece

__all__ = ["PIECE_ACTIONS", "CopyAsVariant", "Noted", "Open", "PieceAction", "Remove", "Rename", "SetUnit"]


class PieceAction(BaseModel):
    """One thing done to a piece as a whole."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: ClassVar[str]
    title: ClassVar[str]


class Open(PieceAction):
    """A scan was opened; what it held is kept with the step."""

    name: ClassVar[str] = "open"
    title: ClassVar[str] = "Open"

    path: str = Field(description="the file")


class SetUnit(PieceAction):
    """Take the file's numbers to be in another unit: raw scan and work come to another size together."""

    name: ClassVar[str] = "set-unit"
    title: ClassVar[str] = "Unit"

    unit: Literal["mm", "cm", "m", "in", "ft"] = Field("mm", description="what one of the file's numbers stands for")

    def on(self, piece: Piece) -> Piece:
        """The piece in the other unit."""
        factor = UNITS[self.unit] / UNITS[piece.scan.unit]
        if factor == 1.0:
            return piece
        raw = piece.raw.moved(piece.raw.vertices * factor)
        same = piece.kept_mesh is piece.kept_raw or piece.mesh is piece.raw
        kept_raw = Kept(raw)
        kept_mesh = kept_raw if same else Kept(piece.mesh.moved(piece.mesh.vertices * factor))
        frame = piece.frame.copy()
        frame[:3, 3] *= factor  # the same turns and scales, the shifts in the new size
        scan = replace(piece.scan, unit=self.unit, unit_reason="as chosen", unit_guessed=False)
        grown = np.diag([factor, factor, factor, 1.0])
        datums = tuple(d.moved(grown) for d in piece.datums)
        return replace(piece, kept_raw=kept_raw, kept_mesh=kept_mesh, scan=scan, frame=frame, datums=datums)


class Rename(PieceAction):
    """Give a piece another name."""

    name: ClassVar[str] = "rename"
    title: ClassVar[str] = "Rename"

    to: str = Field(min_length=1, max_length=200, description="the new name")


class Remove(PieceAction):
    """Take a piece out of the job; its scan stays where it is on the disk, and undoing brings it back."""

    name: ClassVar[str] = "remove"
    title: ClassVar[str] = "Remove the piece"


class CopyAsVariant(PieceAction):
    """Copy a piece as it stands, to try something else on."""

    name: ClassVar[str] = "copy-as-variant"
    title: ClassVar[str] = "Copy as a variant"

    named: str = Field("", max_length=200, description="the copy's name; by default the next free number")

    def on(self, piece: Piece, number: int, taken: Iterable[str]) -> Piece:
        """The copy, under an id of its own."""
        taken, name, count = set(taken), self.named, 2
        while not name or name in taken:
            name = f"{piece.name}, variant {count}"
            count += 1
        return replace(piece, id=number, name=name, frame=np.array(piece.frame))


class Noted(PieceAction):
    """Something that was done, of which only the result is known: a job file holds it, but not how to do it again."""

    name: ClassVar[str] = "noted"
    title: ClassVar[str] = "Done elsewhere"

    what: str = Field("", description="the name it had")


PIECE_ACTIONS: dict[str, type[PieceAction]] = {d.name: d for d in (Open, SetUnit, Rename, Remove, CopyAsVariant, Noted)}
