"""Hollow: a solid becomes a shell of one wall all over."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import HOLLOW, MADE, Attribute, Domain, Lineage, Mesh
from tinsnip.treat.account import Account
from tinsnip.treat.kit.skins.recasting import sound_triangles
from tinsnip.treat.kit.skins.sparing import spare_offset_skin
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, grouped

__all__ = ["Hollow"]


class Hollow(Treatment):
    """Put an inner skin into a solid, as far from its surface everywhere as the wall shall be thick.

    The surface itself stays to the bit. The inner skin is a void on purpose, neither swept nor counted as amiss.
    """

    name: ClassVar[str] = "hollow"
    title: ClassVar[str] = "Hollow"
    reshapes: ClassVar[bool] = True
    station: ClassVar[str] = "Solid"

    wall_mm: float = Field(2.0, gt=0, allow_inf_nan=False, description="how thick the wall becomes, mm")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Hollow.

        Raises
        ------
        BadInput
            When the mesh is no closed outward solid, is hollow already, or nothing of it is thick enough.
        """
        edges = mesh.edges
        if len(mesh.faces) == 0 or edges.open or edges.tangled or edges.flipped or not mesh.volume > 0:
            raise BadInput("only a closed, outward solid can be hollowed; close it first")
        if HOLLOW in mesh.attributes and mesh.attributes[HOLLOW].values.any():
            raise BadInput("it is hollow already; go back to the step that hollowed it to change the wall")
        vertices, faces, _ = sound_triangles(mesh)
        places, skin, crossings = spare_offset_skin(vertices, faces, -self.wall_mm, context.progress)
        if len(skin) == 0:
            raise BadInput(f"nothing of it is thicker than two walls of {self.wall_mm:g} mm; ask for a thinner one")
        count, old = len(places), len(mesh.vertices)
        within = np.concatenate([np.zeros(old, dtype=np.uint8), np.ones(count, dtype=np.uint8)])
        together = np.concatenate([mesh.faces, old + skin[:, ::-1].astype(np.int32)])
        parents = np.concatenate([np.arange(len(mesh.faces)), np.full(len(skin), -1)])
        lineage = Lineage(np.concatenate([np.arange(old), np.full(count, -1)]), parents)
        provenance = np.concatenate([mesh.provenance, np.full(len(skin), MADE, dtype=np.uint8)])
        result = mesh.derive(together, lineage, np.concatenate([mesh.vertices, places]), provenance)
        result = result.with_attribute(HOLLOW, Attribute(Domain.VERTEX, within))
        text = f"Hollowed to a wall of {self.wall_mm:g} mm, an inner skin of {grouped(len(skin))} triangles"
        if crossings:
            text += f" that crosses itself in {counted(crossings, 'place')}"
        account = Account(made_triangles=len(skin), guessed_mm2=0.0, crossings=crossings)
        return Outcome(result, text, account)
