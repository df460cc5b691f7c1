"""Ripple: bands of one wavelength that the scanner left are taken off, and nothing else."""

from typing import Annotated, ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.regions import Region
from tinsnip.survey.ripple import ripple_at, ripple_of
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, millimetres

__all__ = ["TakeRipple"]

_ROUNDS = 8
_DONE = 0.05
"""What is left of a ripple once a further round would take little."""

Number = Annotated[float, Field(allow_inf_nan=False)]


class TakeRipple(Treatment):
    """Take a scanner's ripple off: what lifts the surface in bands of one wavelength, square to one way in space.

    The ripple is found by its spectrum along the surface, unless it is given. Letters, ribs and edges have many
    frequencies, and stay.
    """

    name: ClassVar[str] = "take-ripple"
    title: ClassVar[str] = "Take the ripple off"
    reshapes: ClassVar[bool] = True

    wavelength_mm: Annotated[float, Field(gt=0, allow_inf_nan=False)] | None = Field(
        None, description="from band to band, mm; by default both are found"
    )
    way: tuple[Number, Number, Number] = Field(
        (0.0, 0.0, 0.0), description="what the bands are square to, where the wavelength is given"
    )
    only: Region = Field(Region(), description="where it is taken off, up to the border; by default all over")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Take it off; the same triangles over moved vertices.

        Raises
        ------
        BadInput
            When a wavelength is given without the way its bands are square to.
        """
        progress = context.progress
        progress.step("Looking for a ripple", _ROUNDS + 1)
        if self.wavelength_mm is None:
            found = ripple_of(mesh)
            if found is None:
                return Outcome(mesh, "No ripple found", Account(figures={"height_mm": 0.0}))
            way, wavelength = found.way, found.wavelength
        else:
            size = float(np.linalg.norm(self.way))
            if not size > 0:
                raise BadInput("a wavelength alone is no ripple; give the way that its bands are square to as well")
            way, wavelength = np.array(self.way) / size, float(self.wavelength_mm)
        if len(mesh.faces) == 0:
            return Outcome(mesh, "No ripple found", Account(figures={"height_mm": 0.0}))
        still = np.zeros(len(mesh.vertices), dtype=bool)
        if self.only:
            still[mesh.faces[~self.only.resolve(mesh)]] = True
        now, first = mesh, None
        for i in range(_ROUNDS):
            progress.step("Taking the ripple off", _ROUNDS + 1)[1] = i + 1
            lifted, normals = ripple_at(now, way, wavelength)
            lifted[still] = 0.0
            height = 2.0 * np.sqrt(2.0) * float(np.sqrt((lifted[~still] ** 2).mean())) if not still.all() else 0.0
            first = height if first is None else first
            if height <= _DONE * first:
                break
            now = now.moved(now.vertices - lifted[:, None] * normals)
        step = np.linalg.norm(now.vertices - mesh.vertices, axis=1)
        if not step.any():
            return Outcome(mesh, "No ripple found", Account(figures={"height_mm": 0.0}))
        touched = triangles_at(mesh.faces, step > 0)
        provenance = np.where(touched & (mesh.provenance == 0), SHIFTED, mesh.provenance).astype(np.uint8)
        along = ", ".join(f"{x:.2g}" for x in np.round(way, 3) + 0.0)
        text = (
            f"Took a ripple of {millimetres(wavelength)} mm off, some {millimetres(first)} mm high, square to {along}"
        )
        text += f": moved by {at_most(float(step.max()))} mm at most"
        figures = {"wavelength_mm": wavelength, "height_mm": first, "largest_mm": float(step.max())}
        return Outcome(mesh.moved(now.vertices, provenance), text, Account(figures=figures))
