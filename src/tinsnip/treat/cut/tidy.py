"""Tidy: a ragged open edge is made good."""

from typing import ClassVar

from pydantic import Field

from tinsnip.mesh import Mesh
from tinsnip.regions import Region
from tinsnip.treat.kit.edges.tidying import tidy_edges
from tinsnip.treat.treatment import Context, Outcome, Treatment

__all__ = ["Tidy"]


class Tidy(Treatment):
    """Spikes are cut, notches filled, pinches split, short edges drawn together, and the line is smoothed.

    Nothing moves that lies farther from the edge than so many rows of triangles.
    """

    name: ClassVar[str] = "tidy"
    title: ClassVar[str] = "Tidy the open edge"
    takes_what_was_asked: ClassVar[bool] = True

    edges: Region = Field(
        Region(), description="triangles along the edges, or the stretches, that are tidied; by default all"
    )
    rows: int = Field(4, ge=1, le=50, description="how many rows of triangles from the edge it may reach")
    strength: float = Field(0.5, ge=0, le=1, description="how much the line is smoothed")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Tidy the open edges."""
        return tidy_edges(mesh, self.edges, self.rows, self.strength, context)
