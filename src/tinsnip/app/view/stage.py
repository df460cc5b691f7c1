"""Where a picture is drawn before it is shown: colours and depths, and what the depths tell, shaded over it.

Shading by depth brings out what lights alone leave flat: hollows are darker and ridges lighter (as by Vergne et al.
2009, simplified to second differences of depth), and a line runs where the surface turns away from sight.
"""

import time

import moderngl

from tinsnip.app.view.camera import Camera
from tinsnip.app.view.looks import shader_source

__all__ = ["DepthShading", "Rect", "Stage", "release_whole", "round_about"]

Rect = tuple[int, int, int, int]
"""Pixels of a target: the first column and row from below, width and height."""

_WIDE = 4.0
"""How far off it is looked for hollows and ridges, pixels of the view: half the width of what is brought out most."""
_BAND_SECONDS = 0.025
_FEWEST_ROWS = 16
_FINEST = 1e-6
"""mm a pixel, as a share of the part's size, below which depths are too coarse for their differences."""


def release_whole(target: moderngl.Framebuffer) -> None:
    """Free a framebuffer with what it draws to, which it does not do by itself."""
    parts = [*target.color_attachments, target.depth_attachment]
    target.release()
    for part in parts:
        if part is not None:
            part.release()


def round_about(rect: Rect, size: tuple[int, int], ratio: float) -> Rect:
    """Some pixels, and those round about whose shading looks at them, as far as there are such."""
    margin = _far_off(ratio) + 1
    x, y = max(rect[0] - margin, 0), max(rect[1] - margin, 0)
    return x, y, min(rect[0] + rect[2] + margin, size[0]) - x, min(rect[1] + rect[3] + margin, size[1]) - y


def _far_off(ratio: float) -> int:
    return max(2, round(_WIDE * ratio))


class Stage:
    """A picture with its depths, as large as the view."""

    def __init__(self, context: moderngl.Context, size: tuple[int, int]) -> None:
        self.size = size
        self.colours = context.texture(size, 4)
        self.depths = context.depth_texture(size)
        self.depths.compare_func = ""
        self.depths.filter = moderngl.NEAREST, moderngl.NEAREST
        self.target = context.framebuffer([self.colours], self.depths)
        self.over = context.framebuffer([self.colours])
        """The same colours without the depths, which can be read meanwhile."""

    def release(self) -> None:
        """Free all of it."""
        for thing in (self.target, self.over, self.colours, self.depths):
            thing.release()


class DepthShading:
    """Shades stages, a band of rows at a time."""

    def __init__(self, context: moderngl.Context) -> None:
        self._context = context
        self._programs: dict[tuple[bool, bool], moderngl.VertexArray] = {}
        self._rows = 128

    def _program(self, hollows: bool, has_eye: bool) -> moderngl.VertexArray:
        key = hollows, has_eye
        if key not in self._programs:
            constants = {"HOLLOWS": int(hollows), "EYE": int(has_eye)}
            sources = shader_source("depth.vert.glsl"), shader_source("depth.frag.glsl", **constants)
            self._programs[key] = self._context.vertex_array(self._context.program(*sources), [])
        return self._programs[key]

    def shade(self, stage: Stage, camera: Camera, ratio: float, hollows: bool, rect: Rect) -> None:
        """Shade some pixels of a stage, which must not have been shaded yet."""
        pixel = camera.scale / ratio
        array = self._program(hollows and pixel > _FINEST * camera.reach, camera.angle > 0)
        program = array.program
        program["depth"].value = 0
        program["pixels"].value = (1.0 if camera.angle else 2.0 * camera.reach) / pixel
        if camera.angle:
            program["depths"].value = camera.depths()
        if "far_off" in program:
            program["far_off"].value = _far_off(ratio)
        stage.depths.use(0)
        stage.over.use()
        self._context.viewport = (0, 0, *stage.size)
        stage.over.scissor = rect
        self._context.enable_only(moderngl.BLEND)
        self._context.blend_func = moderngl.DST_COLOR, moderngl.SRC_COLOR
        array.render(moderngl.TRIANGLES, vertices=3)
        stage.over.scissor = None
        self._context.blend_func = moderngl.DEFAULT_BLENDING
        self._context.enable_only(moderngl.DEPTH_TEST)

    def shade_some(self, stage: Stage, camera: Camera, ratio: float, hollows: bool, done: int) -> int:
        """Shade on from the row that was come to; the row come to now, the stage's height when it is through."""
        begun, last = time.perf_counter(), min(done + self._rows, stage.size[1])
        self.shade(stage, camera, ratio, hollows, (0, done, stage.size[0], last - done))
        self._context.finish()
        wanted = self._rows * min(max(_BAND_SECONDS / max(time.perf_counter() - begun, 1e-4), 0.5), 2.0)
        self._rows = int(min(max(wanted, _FEWEST_ROWS), 4096))
        return last
