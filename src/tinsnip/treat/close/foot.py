"""Foot: a round or rectangular solid under the part, joined with it."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.space.solids import box_solid, cylinder_solid
from tinsnip.treat.close.simple import with_solid
from tinsnip.treat.treatment import Context, Outcome, Treatment

__all__ = ["Foot"]

_DEPTH = 0.02
"""How far the foot reaches up into the part by default, as a share of the part's height."""


class Foot(Treatment):
    """Put a foot under the part, wide enough for what stands on it, and join the two exactly."""

    name: ClassVar[str] = "foot"
    title: ClassVar[str] = "Foot under the part"
    takes_what_was_asked: ClassVar[bool] = True
    station: ClassVar[str] = "Solid"

    shape: Literal["round", "rectangular"] = Field("round", description="seen from above")
    height_mm: float = Field(
        5.0, gt=0, allow_inf_nan=False, description="from its bottom to the part's lowest point, mm"
    )
    margin_mm: float = Field(
        3.0, ge=0, allow_inf_nan=False, description="how far it reaches beyond what stands on it, mm"
    )
    into_mm: float | None = Field(
        None, gt=0, description="how far it reaches up into the part, mm; a fiftieth of the part's height by default"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Join the foot on.

        Raises
        ------
        BadInput
            When the part is no valid solid, or what would come of it is no solid.
        """
        context.progress.step("Looking at what stands on it")
        if len(mesh.faces) == 0:
            raise BadInput("there is no part to put a foot under")
        into = self.into_mm if self.into_mm is not None else _DEPTH * float(mesh.size[2])
        bottom = float(mesh.box[0, 2])
        stands = mesh.vertices[np.unique(mesh.faces)]
        stands = stands[stands[:, 2] <= bottom + into][:, :2]
        low, high = stands.min(axis=0), stands.max(axis=0)
        middle, height = 0.5 * (low + high), into + self.height_mm
        if self.shape == "round":
            radius = float(np.linalg.norm(stands - middle, axis=1).max()) + self.margin_mm
            vertices, faces = cylinder_solid(np.array([2 * radius, 2 * radius, height]))
        else:
            vertices, faces = box_solid(np.array([*(high - low + 2 * self.margin_mm), height]))
        vertices = vertices + np.array([*middle, bottom + into - 0.5 * height])
        outcome = with_solid(mesh, vertices, faces, "join", f"{self.shape} foot")
        return Outcome(outcome.mesh, outcome.text, outcome.account.with_figures(into_mm=into))
