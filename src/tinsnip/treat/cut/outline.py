"""Outline snip: cut along a shape that was drawn, as seen from where it was drawn."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.treat.cut.snip import BodySnip
from tinsnip.treat.kit.cuts.cutters import OUTLINE, Cutter
from tinsnip.treat.kit.cuts.dividing import Division
from tinsnip.treat.kit.cuts.frames import Number, Point, frame_along
from tinsnip.treat.kit.cuts.nearside import divide_near

__all__ = ["OutlineSnip"]


class OutlineSnip(BodySnip):
    """Cut along a closed outline in a plane, carried along the line of sight through the whole part."""

    name: ClassVar[str] = "snip-outline"
    title: ClassVar[str] = "Outline snip"
    body: ClassVar[str] = "outline"

    sight: Point = Field((0.0, 0.0, 1.0), description="towards the eye that drew it")
    across: Point = Field((1.0, 0.0, 0.0), description="the way to the right, as it was drawn")
    origin: Point = Field((0.0, 0.0, 0.0), description="where the drawing has its origin, mm")
    corners: tuple[tuple[Number, Number], ...] = Field(
        (), max_length=20_000, description="the outline's corners in the drawing, to the right and up, mm"
    )

    near: bool = Field(False, description="cut only what is seen there, not what lies behind it")

    def division(self, mesh: Mesh, cutter: Cutter, progress: Progress) -> Division:
        if not self.near:
            return super().division(mesh, cutter, progress)
        if self.waste == "outside":
            raise BadInput("only the near side can go where what lies inside the outline goes; swap the waste side")
        if self.close:
            raise BadInput("a cut through the near side only has no wall to be closed by; leave it open")
        return divide_near(mesh, cutter, progress)

    def goes(self, mesh: Mesh) -> int:
        if self.near and self.waste == "inside":
            return divide_near(mesh, self.cutter(), Progress()).count(True)
        return super().goes(mesh)

    def cutter(self) -> Cutter:
        axes = frame_along(self.sight, self.across, "line of sight")
        corners = np.array(self.corners, dtype=float).reshape(-1, 2)
        if len(corners):
            corners = corners[(corners != np.roll(corners, 1, axis=0)).any(axis=1)]
        if len(corners) < 3:
            raise BadInput("the outline has fewer than three corners; draw round what is meant")
        if _crosses_itself(corners):
            raise BadInput("the outline crosses itself; draw it without a crossing")
        x, y = corners.T
        if float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum()) < 0:
            corners = corners[::-1]
        return Cutter(OUTLINE, axes, np.array(self.origin), corners=np.ascontiguousarray(corners))


def _crosses_itself(corners: np.ndarray) -> bool:
    """Whether two sides of a closed outline that do not follow each other meet."""
    a, b = corners, np.roll(corners, -1, axis=0)
    n = len(corners)

    def side(p: np.ndarray, q: np.ndarray, r: np.ndarray) -> np.ndarray:
        u, v = q - p, r - p
        return u[..., 0] * v[..., 1] - u[..., 1] * v[..., 0]

    for i in range(n - 2):
        j = np.arange(i + 2, n - (i == 0))
        c, d = a[j], b[j]
        parted = (side(a[i], b[i], c) * side(a[i], b[i], d) <= 0) & (side(c, d, a[i]) * side(c, d, b[i]) <= 0)
        apart = (np.minimum(c, d) > np.maximum(a[i], b[i])) | (np.maximum(c, d) < np.minimum(a[i], b[i]))
        if (parted & ~apart.any(axis=1)).any():
            return True
    return False
