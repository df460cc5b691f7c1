"""Delete: triangles that were chosen go."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import Region
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Delete"]


class Delete(Treatment):
    """Take triangles away, and with them what that leaves loose; all others stay to the bit."""

    name: ClassVar[str] = "delete"
    title: ClassVar[str] = "Delete"
    takes_what_was_asked: ClassVar[bool] = True

    triangles: Region = Field(Region(), description="what goes")
    loose: int = Field(0, ge=0, description="shells of fewer triangles than this that it leaves behind go too")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Take them away.

        Raises
        ------
        BadInput
            When none of them is on the part, or nothing would be left.
        """
        chosen = self.triangles.resolve(mesh)
        if not chosen.any():
            return Outcome(mesh, "Nothing to delete", Account(figures={"loose": 0}))
        if chosen.all():
            raise BadInput("all of the part is chosen; nothing would be left of it")
        context.progress.step("Deleting")
        numbers = np.flatnonzero(~chosen)
        left = keep_triangles(mesh, numbers)
        bits = 0
        if self.loose:
            # only what came loose by it, never a small shell that was there before
            cut = np.unique(mesh.shells.label[chosen])
            small = left.shells.triangles < self.loose
            was = np.zeros(len(left.shells), dtype=bool)
            own = left.shells.label >= 0
            was[left.shells.label[own]] = np.isin(mesh.shells.label[numbers[own]], cut)
            gone = own & (small & was)[np.maximum(left.shells.label, 0)]
            bits = int(gone.sum())
            if bits == len(left.faces):
                raise BadInput("only loose bits would be left of the part; let fewer of them go")
            left = keep_triangles(left, ~gone) if bits else left
        said = f"Deleted {counted(int(chosen.sum()), 'triangle')}"
        return Outcome(
            left, said + (f" and {counted(bits, 'loose one')}" if bits else ""),
            Account(gone_triangles=int(chosen.sum()) + bits, figures={"loose": bits}),
        )  # fmt: skip
