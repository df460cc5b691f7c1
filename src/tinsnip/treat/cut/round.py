"""Round snip: cut along a cylinder."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.treat.cut.snip import BodySnip
from tinsnip.treat.kit.cuts.cutters import ROUND, Cutter
from tinsnip.treat.kit.cuts.frames import Length, Point, frame_along

__all__ = ["RoundSnip"]


class RoundSnip(BodySnip):
    """Cut along a cylinder without ends."""

    name: ClassVar[str] = "snip-round"
    title: ClassVar[str] = "Round snip"
    body: ClassVar[str] = "cylinder"

    axis: Point = Field((0.0, 0.0, 1.0), description="the way the cylinder's axis runs")
    through: Point = Field((0.0, 0.0, 0.0), description="a point on the axis, mm")
    radius_mm: Length = Field(1.0, description="radius, mm")

    def cutter(self) -> Cutter:
        axes = frame_along(self.axis, None, "axis")
        return Cutter(ROUND, axes, np.array(self.through), np.array([self.radius_mm, 0.0, 0.0]))
