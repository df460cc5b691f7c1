"""What a snip that is set up would cut away, as the shader hatches it."""

from dataclasses import dataclass

import moderngl
import numpy as np
from PIL import Image, ImageDraw

__all__ = ["MARKS", "PLANE", "Waste"]

PLANE, ROUND, BOX, OUTLINE, MARKS = range(1, 6)
_MASK = 1024
"""Pixels a side of the picture of an outline."""


@dataclass(eq=False)
class Waste:
    """A body, one side of which is waste, or triangles that are.

    Attributes
    ----------
    kind : int
        `PLANE` (what lies below z = 0 of its frame), `ROUND`, `BOX`, `OUTLINE`, or `MARKS` (triangles).
    axes : ndarray, shape (3, 3)
        Rows: its frame.
    middle : ndarray, shape (3,)
        Origin of its frame, mm.
    size : ndarray, shape (3,)
        Radius first, or half the extent, mm.
    corners : ndarray, shape (N, 2), optional
        The outline in its frame, mm.
    triangles : ndarray of bool, shape (F,), optional
        The triangles that go, where those are told one by one.
    inside : bool
        Whether the inside goes.
    """

    kind: int
    axes: np.ndarray
    middle: np.ndarray
    size: np.ndarray
    corners: np.ndarray | None = None
    triangles: np.ndarray | None = None
    inside: bool = True
    _mask: moderngl.Texture | None = None

    @classmethod
    def below(cls, normal: np.ndarray, offset: float) -> "Waste":
        """What lies below a plane."""
        axes = np.zeros((3, 3))
        axes[2] = normal
        return cls(PLANE, axes, offset * normal, np.zeros(3))

    def set_up(self, program: moderngl.Program, context: moderngl.Context, origin: np.ndarray) -> None:
        """Tell a program of it; positions there count from `origin`."""
        program["waste_axes"].write(np.ascontiguousarray(self.axes.T, dtype=np.float32))
        program["waste_middle"].value = tuple(float(x) for x in self.axes @ (self.middle - origin))
        if "waste_size" in program:
            program["waste_size"].value = tuple(float(x) for x in self.size)
        if "waste_inside" in program:
            program["waste_inside"].value = self.inside
        if self.kind == OUTLINE and "outline" in program:
            low, high = self.corners.min(axis=0), self.corners.max(axis=0)
            extent = np.maximum(high - low, 1e-9)
            if self._mask is None:
                self._mask = _drawn(context, (self.corners - low) / extent)
            program["outline_low"].value = tuple(float(x) for x in low)
            program["outline_extent"].value = tuple(float(x) for x in extent)
            self._mask.use(2)
            program["outline"].value = 2

    def release(self) -> None:
        """Give up what is on the graphics card."""
        if self._mask is not None:
            self._mask.release()
            self._mask = None


def _drawn(context: moderngl.Context, corners: np.ndarray) -> moderngl.Texture:
    """A picture of a closed outline, filled, over its box."""
    image = Image.new("L", (_MASK, _MASK), 0)
    ImageDraw.Draw(image).polygon([tuple(p) for p in corners * (_MASK - 1)], fill=255)
    texture = context.texture((_MASK, _MASK), 1, image.tobytes())
    texture.filter = moderngl.LINEAR, moderngl.LINEAR
    texture.repeat_x = texture.repeat_y = False
    return texture
