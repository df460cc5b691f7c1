"""Mend crossings: places where a surface crosses or folds onto itself are taken out and refilled."""

from typing import ClassVar

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.treat.kit.untangling import untangle_crossings
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["MendCrossings"]


class MendCrossings(Treatment):
    """Take out the triangles that cross, and as few rows round them as need be, and refill with what crosses nothing.

    All else stays to the bit. A place that cannot be mended so stays as it is, and it is said.
    """

    name: ClassVar[str] = "mend-crossings"
    title: ClassVar[str] = "Mend crossings"
    changes_area: ClassVar[bool] = True

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
        left = found.places - found.mended
        figures = {"places": found.places, "mended": found.mended, "left": left, "between": found.between}
        if found.places == 0:
            return Outcome(mesh, "Nothing crosses", figures)
        why = []
        if found.between:
            why.append(f"{counted(found.between, 'place')} where shells cross each other")
        if left > found.between:
            why.append(f"{counted(left - found.between, 'place')} too large or too knotted to be mended so")
        told = f"; left as they were: {', '.join(why)}" if why else ""
        if found.mesh is mesh:
            return Outcome(mesh, f"No crossing could be mended{told}", figures)
        taken, made = len(mesh.faces) - found.kept, len(found.mesh.faces) - found.kept
        text = f"Mended {counted(found.mended, 'crossing')}: {counted(taken, 'triangle')} out, {made} made{told}"
        return Outcome(found.mesh, text, figures | {"gone_mm2": found.gone})
