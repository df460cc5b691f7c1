"""Traced snip: cut along a closed line over the surface."""

from collections.abc import Sequence
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.treat.cut.snip import BodySnip
from tinsnip.treat.kit.cuts.dividing import Division
from tinsnip.treat.kit.cuts.frames import Point
from tinsnip.treat.kit.cuts.tracing import divide_along, trace
from tinsnip.treat.kit.patches.filling import add_triangles, evenly, fill_loop

__all__ = ["TracedSnip"]


class TracedSnip(BodySnip):
    """Cut along the shortest ways over the surface from point to point and back to the first.

    The ways run straight across the triangles, as if these were not there. What is not connected with the line stays.
    """

    name: ClassVar[str] = "snip-traced"
    title: ClassVar[str] = "Traced snip"
    body: ClassVar[str] = "line"

    points: tuple[Point, ...] = Field((), max_length=2000, description="places the line is led through, in order, mm")
    waste: Literal["left", "right"] = Field(
        "left", description="which side of the line goes, seen from outside on the way from point to point"
    )
    close: bool = Field(False, description="close the cut with the fewest triangles")

    def traced(self, mesh: Mesh, progress: Progress) -> Division:
        """The mesh, divided along the line.

        Raises
        ------
        BadInput
            When the points give no line that parts the surface.
        """
        if len(self.points) < 2:
            raise BadInput("a traced snip needs two points at least, three to be round; pick more")
        return divide_along(mesh, trace(mesh, np.array(self.points, dtype=float), progress), progress)

    def line(self, mesh: Mesh, progress: Progress) -> np.ndarray:
        """The way over the surface, closed if there are three points or more, mm, shape (N, 3).

        Raises
        ------
        BadInput
            When the points do not lie on one shell.
        """
        points = np.array(self.points, dtype=float).reshape(-1, 3)
        return trace(mesh, points, progress, closed=len(points) > 2).line

    @property
    def keeps_inside(self) -> bool:
        return self.waste == "right"

    def goes(self, mesh: Mesh) -> int:
        return self.traced(mesh, Progress()).count(not self.keeps_inside)

    def cut(self, mesh: Mesh, sides: Sequence[bool], progress: Progress) -> tuple[Division, list[Mesh]]:
        division = self.traced(mesh, progress)
        return division, [self._one_side(division, inside, progress) for inside in sides]

    def _one_side(self, division: Division, inside: bool, progress: Progress) -> Mesh:
        side = division.side(inside, progress, inside == self.keeps_inside)
        if not self.close:
            return side.mesh
        ways = side.segments[:, :2]
        following = dict(zip(ways[:, 0].tolist(), ways[:, 1].tolist(), strict=True))
        ring = [int(ways[0, 0])]
        while len(ring) <= len(ways) and following.get(ring[-1], ring[0]) != ring[0]:
            ring.append(following[ring[-1]])
        if len(ring) != len(ways):
            raise BadInput("the traced line touches itself, so the cut cannot be closed; move its points apart")
        loop = np.array(ring)
        triangles, extra = loop[fill_loop(side.mesh.vertices[loop])], np.zeros((0, 3))
        if self.edge_mm is not None:
            (triangles,), extra = evenly(side.mesh.vertices, [triangles], self.edge_mm)
        return add_triangles(side.mesh, triangles[:, ::-1] if inside else triangles, extra)
