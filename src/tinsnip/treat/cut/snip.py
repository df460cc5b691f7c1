"""What round, box and outline snips have in common: one side of a body goes, or both sides stay."""

from collections.abc import Sequence
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.treat.account import Account
from tinsnip.treat.kit.cuts.cutters import BOX, VARIANTS, Cutter, inside_of
from tinsnip.treat.kit.cuts.dividing import Division, divide
from tinsnip.treat.kit.cuts.frames import Length
from tinsnip.treat.kit.cuts.walls import close_wall
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["BodySnip"]


class BodySnip(Treatment):
    """Cut along the wall of a body; what it does not meet stays to the bit, what it does is split exactly on it."""

    body: ClassVar[str] = "body"
    takes_what_was_asked: ClassVar[bool] = True

    waste: Literal["inside", "outside"] = Field("inside", description="which side of the wall goes")
    close: bool = Field(False, description="make the wall where it runs through the solid")
    edge_mm: Length | None = Field(
        None,
        description="length of the edges of the triangles that close it, mm; by default the fewest triangles",
    )

    def cutter(self) -> Cutter:
        """The body.

        Raises
        ------
        BadInput
            When the parameters describe none.
        """
        raise NotImplementedError

    def division(self, mesh: Mesh, cutter: Cutter, progress: Progress) -> Division:
        """The mesh, divided along the wall of a body."""
        return divide(mesh, cutter, progress)

    def cut(self, mesh: Mesh, sides: Sequence[bool], progress: Progress) -> tuple[Division, list[Mesh]]:
        """The mesh on some sides of the wall (True: inside), closed if so set; the cut edge is the same on all.

        Raises
        ------
        BadInput
            When a cut that is to be closed runs where the part is open.
        """
        cutter = self.cutter()
        last = VARIANTS - 1 if self.close and cutter.kind != BOX else 0
        for turn in range(last + 1):  # its lines may run just along edges of the mesh: then they are put elsewhere
            division = self.division(mesh, cutter.varied(turn), progress)
            try:
                return division, [self._side(division, inside, progress) for inside in sides]
            except BadInput:
                if turn == last:
                    raise
        raise AssertionError("there is always a last way")

    @property
    def keeps_inside(self) -> bool:
        """Whether the inside stays."""
        return self.waste == "outside"

    def goes(self, mesh: Mesh) -> int:
        """How many triangles lie whole on the waste side."""
        inside = inside_of(self.cutter(), mesh.vertices)
        return int(np.count_nonzero((inside == (self.waste == "inside"))[mesh.faces].all(axis=1)))

    def both(self, mesh: Mesh, progress: Progress) -> tuple[Mesh, Mesh]:
        """What stays and what is waste.

        Raises
        ------
        BadInput
            When all of the mesh lies on one side, or a cut that is to be closed runs where it is open.
        """
        _, sides = self.cut(mesh, (self.keeps_inside, not self.keeps_inside), progress)
        if any(side is mesh or len(side.faces) == 0 for side in sides):
            raise BadInput(f"the {self.body} leaves all of the piece on one side; move it into the piece")
        return sides[0], sides[1]

    def _side(self, division: Division, inside: bool, progress: Progress) -> Mesh:
        side = division.side(inside, progress)
        return close_wall(division, side, inside, self.edge_mm) if self.close else side.mesh

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Cut the mesh.

        Raises
        ------
        BadInput
            When nothing would be left, or a cut that is to be closed runs where the part is open.
        """
        if len(mesh.faces) == 0:
            return Outcome(mesh, "No snip")
        division, (cut,) = self.cut(mesh, (self.keeps_inside,), context.progress)
        gone = division.count(not self.keeps_inside)
        if cut is mesh:
            return Outcome(mesh, "The snip meets nothing")
        if len(cut.faces) == 0:
            raise BadInput(f"the snip would cut everything away; swap the waste side or move the {self.body}")
        where = f"{self.waste} {'of ' * (self.waste in ('left', 'right'))}the {self.body}"
        text = f"Cut away {counted(gone, 'triangle')} {where}" + (", closed the cut" * self.close)
        account = Account(gone_triangles=gone, guessed_mm2=0.0, figures={"split": division.divided})
        return Outcome(cut, text, account)
