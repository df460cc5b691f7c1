"""Combine: several pieces are joined into one solid, cut from the first, or reduced to what they have in common."""

from collections.abc import Sequence
from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.treat.account import Account
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.kit.joins.joining import How, two_combined, why_no_solid
from tinsnip.treat.treatment import Context
from tinsnip.words import counted, grouped, percent

__all__ = ["Combine"]

_DONE = {"join": "Joined {}", "cut": "Cut {} from the first", "intersect": "Kept what {} have in common"}
_LOOK = 0.45
"""Share of the time that goes into seeing that each is a valid solid, of two rings of half a million."""


class Combine(Assembly):
    """Join valid solids, cut all others from the first, or keep what they have in common; exactly.

    Away from where they meet every triangle stays to the bit, with its colours and its provenance.
    """

    name: ClassVar[str] = "combine"
    title: ClassVar[str] = "Join, cut or intersect"
    fewest: ClassVar[int] = 2

    how: How = Field("join", description="join them, cut the others from the first, or intersect: keep what is common")

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Combine all pieces that go in.

        Raises
        ------
        BadInput
            When one is no valid solid, they do not meet, nothing would be left, or what would come of it is no solid.
        """
        if len(meshes) < 2:
            raise BadInput("it takes two pieces or more; open a further scan as a piece, or show one more")
        progress = context.progress
        for number, mesh in enumerate(meshes, 1):
            with progress.part(_LOOK * (number - 1) / len(meshes), _LOOK * number / len(meshes)):
                progress.step(f"Looking at piece {number}")
                why = why_no_solid(mesh)
            if why:
                raise BadInput(f"piece {number} is no valid solid: {why}; close or recast it first")
        whole, divided, met, farthest, left = meshes[0], 0, 0, 0.0, []
        before = sum(float(m.areas.sum()) for m in meshes)
        for number, mesh in enumerate(meshes[1:], 2):
            share = (1 - _LOOK) / (len(meshes) - 1)
            with progress.part(_LOOK + share * (number - 2), _LOOK + share * (number - 1)):
                progress.step(f"Working in piece {number}")
                made, lost = two_combined(whole, mesh, self.how)
            whole, divided, met = made.mesh, divided + made.divided, met + made.meets
            farthest, left = max(farthest, made.nudged), left + [name for name in lost if name not in left]
        if not met and self.how == "cut" and not (whole.shells.volume < 0).any():
            raise BadInput("nothing to cut: the pieces do not meet; move them together first")
        gone = max(0.0, 1.0 - float(whole.areas.sum()) / before)
        pieces = counted(len(meshes) - (self.how == "cut"), "piece")
        text = f"{_DONE[self.how].format(pieces)}: {counted(divided, 'triangle')} divided where they meet"
        text += f", {percent(gone)} of their surface went" * (gone > 0)
        text += f", moved by {farthest:.1g} mm for that, as rounding left their meeting unclear" * (farthest > 0)
        text += f"; {' and '.join(left)} left out, as not all of them have it" if left else ""
        solids = int(np.count_nonzero(whole.shells.volume > 0))
        text += f"; {grouped(solids)} separate solids" * (solids > 1)
        figures = {
            "pieces": len(meshes), "divided": divided, "solids": solids, "moved_mm": farthest,
            "volume_mm3": whole.volume,
        }  # fmt: skip
        account = Account(gone_mm2=gone * before, gone_share=gone, figures=figures)
        return Assembled((Part(whole, tuple(range(len(meshes)))),), text, account)
