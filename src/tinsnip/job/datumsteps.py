"""What is done with datums: fitting them to a piece, making them from others, naming them, and going by them."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.datums.axes import Axis, Bound, brought_to_axes
from tinsnip.datums.constructing import WAYS, Way, construct
from tinsnip.datums.datum import Datum, DatumForm, next_name
from tinsnip.datums.fitting import Given, fit_datum
from tinsnip.datums.symmetry import symmetry_plane
from tinsnip.errors import BadInput
from tinsnip.job.bookkeeping import PieceAction
from tinsnip.job.piece import Piece
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import Region
from tinsnip.space.rigid import moved_points
from tinsnip.treat import Account
from tinsnip.words import counted, degrees_told

__all__ = ["DATUM_ACTIONS", "DatumAction", "FitDatums", "MakeDatum", "RemoveDatums", "RenameDatum", "ToAxes"]

_Name = Annotated[str, Field(max_length=60)]
_MOST = 500
"""Datums of one step."""


class DatumAction(PieceAction):
    """One thing done with the datums of a piece."""

    def on(self, piece: Piece) -> tuple[Piece, str, Account]:
        """The piece after it, a line for the log, and the account.

        Raises
        ------
        BadInput
            When a datum that it names is not there, or none can be had.
        """
        raise NotImplementedError


def _named(piece: Piece, name: str) -> Datum:
    for datum in piece.datums:
        if datum.name == name:
            return datum
    there = ", ".join(d.name for d in piece.datums) or "none"
    raise BadInput(f"there is no datum {name} on {piece.name} (there: {there}); fit or make it first")


def _with(piece: Piece, datums: Sequence[Datum]) -> Piece:
    return replace(piece, datums=tuple(datums))


def _free_name(piece: Piece, wanted: str) -> str:
    taken = [d.name for d in piece.datums]
    return wanted if wanted and wanted not in taken else next_name(taken)


class FitDatums(DatumAction):
    """Fit datums to places of the surface; they are fitted anew wherever these are found again."""

    name: ClassVar[str] = "fit-datums"
    title: ClassVar[str] = "Fit a datum"

    regions: tuple[Region, ...] = Field((), max_length=_MOST, description="what each is fitted to")
    forms: tuple[DatumForm | Literal["any", "symmetry"], ...] = Field((), max_length=_MOST, description="what each is")
    names: tuple[_Name, ...] = Field((), max_length=_MOST, description="what each is called")
    radius_mm: float | None = Field(None, gt=0, allow_inf_nan=False, description="its radius, where that is given")
    parallel_to: str = Field("", max_length=60, description="a datum that it shall be parallel to")
    square_to: str = Field("", max_length=60, description="a datum that it shall be square to")

    def on(self, piece: Piece) -> tuple[Piece, str, Account]:
        """The piece with them."""
        if not self.regions:
            raise BadInput("nothing is chosen that a datum could be fitted to; choose some of the surface")
        along, square = (_named(piece, name).direction if name else None for name in (self.parallel_to, self.square_to))
        given = Given(self.radius_mm, along, square)
        made: list[Datum] = []
        for i, region in enumerate(self.regions):
            form = self.forms[i] if i < len(self.forms) else "any"
            wanted = self.names[i] if i < len(self.names) else ""
            name = _free_name(_with(piece, (*piece.datums, *made)), wanted)
            chosen = region.resolve(piece.mesh)
            if form == "symmetry":
                mesh = piece.mesh if chosen.all() else keep_triangles(piece.mesh, chosen)
                made.append(symmetry_plane(mesh, name))
            else:
                made.append(fit_datum(piece.mesh, chosen, None if form == "any" else form, name, given))
        text = made[0].text() if len(made) == 1 else f"{counted(len(made), 'datum')}, {made[0].name} to {made[-1].name}"
        return _with(piece, (*piece.datums, *made)), text, Account()


class MakeDatum(DatumAction):
    """Make a datum from others."""

    name: ClassVar[str] = "make-datum"
    title: ClassVar[str] = "Make a datum"

    how: Way = Field("meet", description="; ".join(f"{k}: {v}" for k, v in WAYS.items()))
    of: tuple[_Name, ...] = Field((), max_length=3, description="the datums it is made from")
    value: float = Field(0.0, allow_inf_nan=False, description="how far beside, mm, or by how much turned, degrees")
    called: _Name = Field("", description="its name; by default the next free one")

    def on(self, piece: Piece) -> tuple[Piece, str, Account]:
        """The piece with it."""
        made = construct(self.how, [_named(piece, n) for n in self.of], _free_name(piece, self.called), self.value)
        return _with(piece, (*piece.datums, made)), f"{made.text()}, {made.told}", Account()


class RemoveDatums(DatumAction):
    """Take datums off a piece."""

    name: ClassVar[str] = "remove-datums"
    title: ClassVar[str] = "Remove a datum"

    names: tuple[_Name, ...] = Field((), max_length=_MOST, description="which")

    def on(self, piece: Piece) -> tuple[Piece, str, Account]:
        """The piece without them."""
        gone = {_named(piece, name).name for name in self.names}
        return (
            _with(piece, [d for d in piece.datums if d.name not in gone]),
            f"Removed {', '.join(self.names)}",
            Account(),
        )


class RenameDatum(DatumAction):
    """Give a datum another name."""

    name: ClassVar[str] = "rename-datum"
    title: ClassVar[str] = "Rename a datum"

    datum: _Name = Field(description="which")
    to: _Name = Field(min_length=1, description="the new name")

    def on(self, piece: Piece) -> tuple[Piece, str, Account]:
        """The piece with the datum under its new name."""
        _named(piece, self.datum)
        if any(d.name == self.to for d in piece.datums):
            raise BadInput(f"there is a datum {self.to} already; choose another name")
        datums = [d.model_copy(update={"name": self.to}) if d.name == self.datum else d for d in piece.datums]
        return _with(piece, datums), f"Datum {self.datum} is called {self.to}", Account()


class ToAxes(DatumAction):
    """Move a piece so that its datums come to the axes."""

    name: ClassVar[str] = "to-axes"
    title: ClassVar[str] = "Bring datums to the axes"

    datums: tuple[_Name, ...] = Field((), max_length=6, description="by which, the one that counts most first")
    to: tuple[Axis, ...] = Field((), max_length=6, description="the axis that each comes to; origin: its place only")

    def bound(self, datums: Sequence[Datum], about: np.ndarray) -> Bound:
        """The move, by datums that are there under their names."""
        known: Mapping[str, Datum] = {d.name: d for d in datums}
        missing = [name for name in self.datums if name not in known]
        if missing:
            raise BadInput(f"there is no datum {missing[0]}; fit or make it first")
        if len(self.to) != len(self.datums):
            raise BadInput("each datum takes an axis that it comes to; name as many")
        return brought_to_axes([known[name] for name in self.datums], self.to, about)

    def on(self, piece: Piece) -> tuple[Piece, str, Account]:
        """The piece, moved."""
        mesh = piece.mesh
        bound = self.bound(piece.datums, mesh.box.mean(axis=0))
        told = ", ".join(f"{n} to {a}" for n, a in zip(self.datums, self.to, strict=True))
        if np.array_equal(bound.matrix, np.eye(4)):
            return piece, f"Already so: {told}", Account(matrix=bound.matrix)
        moved = mesh.moved(moved_points(bound.matrix, mesh.vertices))
        free = f"; free: {', '.join(bound.free)}" if bound.free else ""
        off = f"; off by {degrees_told(bound.off_deg)}°, as they are not square" if bound.off_deg >= 0.01 else ""
        return piece.with_mesh(moved, bound.matrix), f"Brought {told}{off}{free}", Account(matrix=bound.matrix)


DATUM_ACTIONS: dict[str, type[DatumAction]] = {
    a.name: a for a in (FitDatums, MakeDatum, RemoveDatums, RenameDatum, ToAxes)
}
