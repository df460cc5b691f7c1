"""The ground that a part stands on, as the soft shadow it throws there."""

import moderngl
import numpy as np

from tinsnip.app.state.footprint import Footprint
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.looks import shader_source

__all__ = ["Ground"]

_LOWEST = 4.0
"""Degrees above the ground from which it is seen at all; below it the part would be hidden."""
_BELOW = 1e-4
"""How far below the part it is drawn, as a share of the part's size: the part's own bottom lies before it."""


class Ground:
    """Draws the shadow of a footprint."""

    def __init__(self, context: moderngl.Context) -> None:
        self._context = context
        program = context.program(shader_source("ground.vert.glsl"), shader_source("ground.frag.glsl"))
        self._array = context.vertex_array(program, [])
        self._program = program
        self._texture: moderngl.Texture | None = None
        self._shown: Footprint | None = None

    def draw(self, target: moderngl.Framebuffer, footprint: Footprint, origin: np.ndarray, camera: Camera) -> None:
        """Lay the shadow under what has been drawn.

        Parameters
        ----------
        target : Framebuffer
        footprint : Footprint
        origin : ndarray, shape (3,)
            The place from which it counts, mm.
        camera : Camera
        """
        if camera.lift < _LOWEST:
            return
        if footprint is not self._shown:
            if self._texture is not None:
                self._texture.release()
            shade = footprint.shade
            self._texture = self._context.texture(shade.shape[::-1], 1, np.ascontiguousarray(shade), alignment=1)
            self._texture.repeat_x = self._texture.repeat_y = False
            self._shown = footprint
        self._program["to_clip"].write(np.ascontiguousarray(camera.to_clip(origin).T, dtype=np.float32))
        self._program["low"].value = tuple(float(x) for x in footprint.low)
        self._program["high"].value = tuple(float(x) for x in footprint.high)
        self._program["level"].value = float(footprint.level - _BELOW * camera.reach)
        self._program["strength"].value = min((camera.lift - _LOWEST) / 12.0, 1.0)
        self._program["shadow"].value = 0
        self._texture.use(0)
        target.depth_mask = False
        self._context.enable_only(moderngl.DEPTH_TEST | moderngl.BLEND)
        self._array.render(moderngl.TRIANGLE_STRIP, vertices=4)
        target.depth_mask = True
        self._context.enable_only(moderngl.DEPTH_TEST)
