"""Offset: a solid grows or shrinks by the same distance everywhere."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import polled_here
from tinsnip.space.tree import build_tree, closest_points
from tinsnip.treat.account import Account
from tinsnip.treat.kit.skins.recasting import Skin, sound_triangles, with_raw_values
from tinsnip.treat.kit.skins.sparing import spare_offset_skin
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, grouped

__all__ = ["Offset"]

_MOST_STEPS = 40.0
"""The longest side holds no fewer cells than this, however far the surface goes."""

_MOST_TIMES = 10
"""How far outward at most, in sizes of the part: beyond that a ball is all that is left of its shape."""


class Offset(Treatment):
    """Put the whole surface the same distance further out, or in; colours come along, all of it counts as shifted."""

    name: ClassVar[str] = "offset"
    title: ClassVar[str] = "Offset"
    reshapes: ClassVar[bool] = True
    station: ClassVar[str] = "Solid"

    by_mm: float = Field(1.0, allow_inf_nan=False, description="how far outward, mm; inward where below 0")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Offset.

        Raises
        ------
        BadInput
            When the mesh is no closed outward solid, the distance is 0, or nothing of it would be left.
        """
        edges = mesh.edges
        if self.by_mm == 0:
            return Outcome(mesh, "Nothing to offset by 0 mm")
        if len(mesh.faces) == 0 or edges.open or edges.tangled or edges.flipped or not mesh.volume > 0:
            raise BadInput("only a closed, outward solid can be offset; close it first, or thicken a sheet")
        if self.by_mm > _MOST_TIMES * float(mesh.size.max()):
            raise BadInput(f"{self.by_mm:g} mm is more than {_MOST_TIMES} times the part's size; ask for less")
        vertices, faces, sound = sound_triangles(mesh)
        widest = float(mesh.size.max()) / _MOST_STEPS
        places, skin, crossings = spare_offset_skin(vertices, faces, self.by_mm, context.progress, widest)
        if len(skin) == 0:
            raise BadInput(f"nothing would be left: no part of it is thicker than {2 * abs(self.by_mm):g} mm")
        context.progress.step("Bringing colours along")
        foot = np.empty_like(places)
        away, nearest = closest_points(build_tree(vertices, faces), places, polled_here(), foot)
        seen = np.ones(len(places), dtype=bool)
        result = with_raw_values(mesh, sound, Skin(places, skin, seen, nearest, foot, away, crossings))
        way = "out" if self.by_mm > 0 else "in"
        text = f"Put the surface {abs(self.by_mm):g} mm further {way}, {grouped(len(skin))} triangles"
        text += f", crossing itself in {counted(crossings, 'place')}" if crossings else ""
        return Outcome(result, text, Account(guessed_mm2=0.0, crossings=crossings))
