"""Weld seams: open edges that lie along each other become one."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.seams import seams_of
from tinsnip.survey.tangles import idle_at_seams
from tinsnip.treat.account import Account
from tinsnip.treat.kit.joins.zipping import zip_seams
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted

__all__ = ["WeldSeams"]


class WeldSeams(Treatment):
    """Zip open edges that lie along each other within a tolerance; where a vertex meets an edge, this is divided.

    Nothing is moved farther than the tolerance, and no slit closed that is wider.
    """

    name: ClassVar[str] = "weld-seams"
    title: ClassVar[str] = "Weld seams"
    reshapes: ClassVar[bool] = True

    tolerance_mm: float | None = Field(
        None, gt=0, description="widest gap that is closed, mm; by default as wide as the seams' own gaps are"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Weld the seams."""
        context.progress.step("Looking for seams")
        # the double of a triangle at a seam would pass for the other side of it; one without area stands between
        given, idle = mesh, idle_at_seams(mesh.faces, mesh.twins) if mesh.edges.open else []
        if len(idle):
            mesh = keep_triangles(mesh, np.delete(np.arange(len(mesh.faces)), idle))
        tolerance = seams_of(mesh).tolerance if self.tolerance_mm is None else self.tolerance_mm
        none = {"edges": 0, "divided": 0, "moved_mm": 0.0, "tolerance_mm": tolerance}
        if tolerance <= 0 or mesh.edges.open < 2:
            return Outcome(given, "No seams to weld", Account(figures=none))
        context.progress.step("Welding seams")
        zipped = zip_seams(mesh, tolerance)
        if zipped.mesh is mesh:
            return Outcome(given, "No seams to weld", Account(figures=none))
        text = f"Welded seams: {counted(zipped.edges, 'open edge')} closed"
        text += f", moved by {at_most(zipped.moved)} mm at most" if zipped.moved else ", nothing moved"
        if len(idle):
            text += f", {counted(len(idle), 'doubled or empty triangle')} dropped"
        figures = {
            "edges": zipped.edges, "divided": zipped.divided, "moved_mm": zipped.moved, "tolerance_mm": tolerance,
            "idle": len(idle),
        }  # fmt: skip
        gone = float(triangle_areas(given.vertices, given.faces[idle]).sum()) if len(idle) else 0.0
        account = Account(made_triangles=0, made_mm2=0.0, gone_triangles=len(idle), gone_mm2=gone, figures=figures)
        return Outcome(zipped.mesh, text, account)
