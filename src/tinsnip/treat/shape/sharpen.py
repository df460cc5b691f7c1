"""Sharpen: edges that noise, meshing or smoothing rounded are brought back to their lines."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.datums.finding import find_forms
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import mean_edge
from tinsnip.regions import Region
from tinsnip.treat.account import Account
from tinsnip.treat.shape.sharpening import sharpen_between
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted, millimetres

__all__ = ["Sharpen"]

_LEAST = 0.003
"""Share of the surface from which a flat or round is a side of an edge."""
_EDGES = 4.0
"""Mean edge lengths that an edge is taken to be rounded over: marching cubes cut it off over one to three."""


class Sharpen(Treatment):
    """Bring rounded edges back to the line in which the flats or rounds on either side of them meet.

    Planes, cylinders, cones, spheres and tori are fitted to the surface. What lies between two of them, no wider than
    told, is brought onto them, and their edge becomes a chain of mesh edges. What lies on a form stays as it is; so
    does an edge between free shapes, and a fillet that is wider.
    """

    name: ClassVar[str] = "sharpen"
    title: ClassVar[str] = "Sharpen edges"
    station: ClassVar[str] = "Surface"
    reshapes: ClassVar[bool] = True

    rounded_over_mm: float | None = Field(
        None, gt=0, allow_inf_nan=False, description="how wide an edge may be rounded, mm; four mesh edges by default"
    )
    only: Region = Field(Region(), description="where edges are sharpened; by default all over")

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> "Sharpen":
        chosen = self.only.resolve(mesh) & ~protected if self.only else ~protected
        return self.model_copy(update={"only": Region.of(mesh, chosen)}) if chosen.any() else self

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Sharpen the edges."""
        nothing = Account(figures={"length_mm": 0.0, "largest_mm": 0.0})
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to sharpen", nothing)
        forms = find_forms(mesh, context.progress, _LEAST)
        if len(forms) < 2:
            return Outcome(mesh, "No two flats or rounds found that an edge could lie between", nothing)
        context.progress.step("Sharpening")
        owner = np.full(len(mesh.faces), -1)
        for i, found in enumerate(forms):
            owner[found.triangles] = i
        may_move = None
        if self.only:
            may_move = np.ones(len(mesh.vertices), dtype=bool)
            may_move[mesh.faces[~self.only.resolve(mesh)]] = False
        width = _EDGES * mean_edge(mesh.vertices, mesh.faces) if self.rounded_over_mm is None else self.rounded_over_mm
        made = sharpen_between(mesh, [found.form for found in forms], owner, width, may_move)
        context.progress.check()
        if made.mesh is mesh:
            return Outcome(mesh, f"No edge found that is rounded over less than {millimetres(width)} mm", nothing)
        sides = counted(len(forms), "flat or round", "flats and rounds")
        text = f"Sharpened {millimetres(made.length)} mm of edges between {sides}"
        text += f": moved by {at_most(made.largest)} mm at most"
        if made.left:
            text += f"; {counted(made.left, 'vertex', 'vertices')} left rounded"
        figures = {"length_mm": made.length, "largest_mm": made.largest, "left": made.left}
        return Outcome(made.mesh, text, Account(figures=figures))
