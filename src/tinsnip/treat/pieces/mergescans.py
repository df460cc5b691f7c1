"""Merge part-scans: pieces that show parts of one thing become one surface."""

from collections.abc import Sequence
from typing import Any, ClassVar

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.treat.account import Account
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.kit.joins.merging import merge_surfaces
from tinsnip.treat.treatment import Context
from tinsnip.words import at_most, counted, grouped_number

__all__ = ["MergeScans"]


class MergeScans(Assembly):
    """Make one surface of part-scans that lie on each other.

    Where they overlap the better-measured surface stays, drawn to the mean of both where one takes over from the
    other; the seams are sewn. Where they only come near each other the gap stays a hole.
    """

    name: ClassVar[str] = "merge-scans"
    title: ClassVar[str] = "Merge part-scans"
    fewest: ClassVar[int] = 2

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Merge all pieces that go in.

        Raises
        ------
        BadInput
            When there is one piece only, one has no surface, or they have nothing in common.
        """
        if len(meshes) < 2:
            raise BadInput("merging takes two pieces or more; open a further scan as a piece, or show one more")
        merged = merge_surfaces(meshes, context)
        if not merged.seams and not merged.double_mm2:
            raise BadInput("the pieces do not lie on each other anywhere; align them first")
        text = f"Merged {counted(len(meshes), 'part-scan')}: {grouped_number(merged.double_mm2, 0)} mm² was there twice"
        text += f", drawn together by {at_most(merged.largest_mm)} mm at most"
        text += f", {grouped_number(merged.seam_mm, 0)} mm of seam sewn"
        said = [f"{counted(merged.strays, 'stray')} between the layers"] if merged.strays else []
        if merged.through_mm2:
            said.append(f"{grouped_number(merged.through_mm2, 0)} mm² that passes through the rest")
        if merged.beds:
            said.append(f"{counted(merged.beds, 'bed')} that others show surface behind")
        text += f"; left out: {', '.join(said + merged.lost)}" if said or merged.lost else ""
        figures: dict[str, Any] = {
            "pieces": len(meshes), "double_mm2": merged.double_mm2, "largest_mm": merged.largest_mm,
            "seam_mm": merged.seam_mm, "seam_triangles": merged.seams, "strays": merged.strays,
            "through_mm2": merged.through_mm2, "beds": merged.beds, "left_out": list(merged.lost),
        }  # fmt: skip
        part = Part(merged.mesh, tuple(range(len(meshes))))
        return Assembled((part,), text, Account(figures=figures))
