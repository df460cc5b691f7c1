"""Extract: triangles that were chosen become a piece of their own."""

from collections.abc import Sequence
from typing import ClassVar

from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.regions import Region
from tinsnip.treat.account import Account
from tinsnip.treat.assembly import Assembled, Assembly, Part
from tinsnip.treat.treatment import Context
from tinsnip.words import counted

__all__ = ["Extract"]


class Extract(Assembly):
    """Part a piece in two: what was chosen, and the rest; every triangle stays to the bit."""

    name: ClassVar[str] = "extract"
    title: ClassVar[str] = "Make a piece of it"

    triangles: Region = Field(Region(), description="what becomes a piece of its own")

    def apply(self, meshes: Sequence[Mesh], context: Context) -> Assembled:
        """Part the one piece that goes in.

        Raises
        ------
        BadInput
            When nothing, or all of it, is chosen.
        """
        mesh = meshes[0]
        chosen = self.triangles.resolve(mesh)
        context.progress.step("Parting")
        if not chosen.any() or chosen.all():
            raise BadInput(f"{'nothing' if not chosen.any() else 'all of the piece'} is chosen; choose a part of it")
        count = int(chosen.sum())
        parts = Part(keep_triangles(mesh, ~chosen), (0,)), Part(keep_triangles(mesh, chosen), (0,), "part")
        return Assembled(parts, f"Made a piece of {counted(count, 'triangle')}", Account(figures={"triangles": count}))
