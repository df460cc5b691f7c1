"""Box snip: cut along the sides of a box."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.treat.cut.snip import BodySnip
from tinsnip.treat.kit.cuts.cutters import BOX, Cutter
from tinsnip.treat.kit.cuts.frames import Length, Point, frame_along

__all__ = ["BoxSnip"]


class BoxSnip(BodySnip):
    """Cut along the sides of a box, square to the axes or turned."""

    name: ClassVar[str] = "snip-box"
    title: ClassVar[str] = "Box snip"
    body: ClassVar[str] = "box"

    middle: Point = Field((0.0, 0.0, 0.0), description="middle of the box, mm")
    size_mm: tuple[Length, Length, Length] = Field((1.0, 1.0, 1.0), description="its extent along its own axes, mm")
    up: Point = Field((0.0, 0.0, 1.0), description="the way its third axis runs")
    along: Point = Field((1.0, 0.0, 0.0), description="the way its first axis runs, as near as that can be")

    def cutter(self) -> Cutter:
        axes = frame_along(self.up, self.along, "box's third axis")
        return Cutter(BOX, axes, np.array(self.middle), 0.5 * np.array(self.size_mm))
