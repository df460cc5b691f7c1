"""Mend crossings: places where a surface crosses itself are taken out and refilled; shells that cross are united."""

from typing import ClassVar

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.survey.crossings import clusters_of, crossings_of
from tinsnip.treat.account import Account
from tinsnip.treat.kit.joins.uniting import United, unite_crossing_shells
from tinsnip.treat.kit.joins.untangling import untangle_crossings
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, percent

__all__ = ["MendCrossings"]

_COUNTS = ("places", "mended", "left", "between", "united")


class MendCrossings(Treatment):
    """Take out the triangles that cross, and as few rows round them as need be; refill with what crosses nothing.

    Closed shells that cross each other become their union. All else stays to the bit. A place that cannot be mended so
    stays as it is, and it is said.
    """

    name: ClassVar[str] = "mend-crossings"
    title: ClassVar[str] = "Mend crossings"
    clears_crossings: ClassVar[bool] = True

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Mend what crosses.

        Raises
        ------
        BadInput
            When the mesh has tangled or flipped edges.
        """
        context.progress.step("Counting crossings")
        if mesh.edges.tangled or mesh.edges.flipped:
            raise BadInput("tangled or flipped edges leave what crosses without a clear edge; mend and orient first")
        found = untangle_crossings(mesh, context)
        if found.places == 0:
            return Outcome(
                mesh,
                "Nothing crosses",
                Account(figures=dict.fromkeys(_COUNTS, 0)),
            )
        context.progress.step("Uniting shells")
        united = unite_crossing_shells(found.mesh) if found.between else United(found.mesh, 0, 0, 0.0)
        result, left = united.mesh, found.places - found.mended
        between = found.between
        if united.shells:
            label = clusters_of(result, crossings_of(result))
            left = len(np.unique(label))
            pairs = result.shells.label[crossings_of(result).together]
            between = len(np.unique(label[pairs[:, 0] != pairs[:, 1]])) if left else 0
        why = []
        if between:
            why.append(f"{counted(between, 'place')} where shells cross each other")
        if left > between:
            why.append(f"{counted(left - between, 'place')} too large or too knotted to be mended so")
        told = f"; left as they were: {', '.join(why)}" if why else ""
        figures = {
            "places": found.places, "mended": found.mended, "left": left, "between": between, "united": united.shells,
        }  # fmt: skip
        if result is mesh:
            return Outcome(mesh, f"No crossing could be mended{told}", Account(figures=figures))
        done = []
        if found.mended:
            taken, made = len(mesh.faces) - found.kept, len(found.mesh.faces) - found.kept
            done.append(f"Mended {counted(found.mended, 'crossing')}: {counted(taken, 'triangle')} out, {made} made")
        if united.shells:
            inside = float(found.mesh.areas.sum() - result.areas.sum())
            figures["inside_mm2"] = inside
            share = percent(inside / max(float(mesh.areas.sum()), 1e-300))
            done.append(f"{counted(united.shells, 'shell')} that crossed united, {share} of the area lay within others")
            if united.nudged:
                done.append(f"moved by {united.nudged:.1g} mm for that, as rounding left their meeting unclear")
        text = "; ".join(done)
        return Outcome(result, text[0].upper() + text[1:] + told, Account(gone_mm2=found.gone, figures=figures))

    def shells_after(self, wanted: int, account: Account) -> int:
        return max(1, wanted - max(0, account.figures.get("united", 0) - 1))
