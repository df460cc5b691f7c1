"""How a view is drawn while it moves: by the stand-ins, and in fewer pixels where all of them take too long.

While only the divider between raw and now moves, both sides are drawn once and put together anew.
"""

import time

import moderngl

from tinsnip.app.view.camera import Camera
from tinsnip.app.view.looks import shader_source
from tinsnip.app.view.scene import Scene
from tinsnip.app.view.stage import Rect, Stage

__all__ = ["MovingView"]

_SECONDS = 0.03
"""A picture of a moving view may take so long; else it is drawn in a quarter of the pixels."""
_SMALLER_BY = 1.25
"""Times that all pixels take longer than a quarter of them: 37 against 30 ms for 70 thousand triangles in a view of 716
by 736 pixels, with a software renderer on two cores; more in a larger view."""


class MovingView:
    """Draws a scene while it moves.

    Parameters
    ----------
    scene : Scene
    """

    def __init__(self, scene: Scene) -> None:
        self._scene = scene
        self._seconds, self._is_slow = _SECONDS, True  # until it is known to be fast
        self._stages: dict[str, Stage] = {}
        self._enlarge: moderngl.VertexArray | None = None
        self._has_sides = False

    def draw(self, target: moderngl.Framebuffer, camera: Camera, ratio: float, only_divider: bool) -> None:
        """Draw the scene by its stand-ins.

        Parameters
        ----------
        target : moderngl.Framebuffer
        camera : Camera
        ratio : float
            Pixels of the target for one of the view.
        only_divider : bool
            Nothing else has changed since the last picture.
        """
        if only_divider and self._scene.shows == "wipe":
            self._put_sides_together(target, camera, ratio)
            return
        self._has_sides = False
        begun = time.perf_counter()
        if self._is_slow:
            self._draw_aside("small", target.size, camera, ratio)
            self._show("small", target, (0, 0, *target.size))
        else:
            self._scene.draw_light(target, camera, ratio)
        self._scene.context.finish()
        seconds = time.perf_counter() - begun
        self._seconds += 0.3 * (seconds * (_SMALLER_BY if self._is_slow else 1.0) - self._seconds)
        self._is_slow = self._seconds > (0.7 * _SECONDS if self._is_slow else _SECONDS)

    def _put_sides_together(self, target: moderngl.Framebuffer, camera: Camera, ratio: float) -> None:
        scene, (wide, high) = self._scene, target.size
        if not self._has_sides:
            share = scene.wipe_at
            for name, all_of_it in (("raw", 1.0), ("now", 0.0)):
                scene.wipe_at = all_of_it
                self._draw_aside(name, target.size, camera, ratio)
            scene.wipe_at, self._has_sides = share, True
        x = round(scene.wipe_at * wide)
        self._show("raw", target, (0, 0, x, high))
        self._show("now", target, (x, 0, wide - x, high))

    def _draw_aside(self, name: str, size: tuple[int, int], camera: Camera, ratio: float) -> None:
        """Draw all of the scene aside, in half as many pixels each way where all take too long."""
        by = 2 if self._is_slow else 1
        own = -(-size[0] // by), -(-size[1] // by)
        stage = self._stages.get(name)
        if stage is None or stage.size != own:
            if stage is not None:
                stage.release()
            stage = self._stages[name] = Stage(self._scene.context, own)
        self._scene.draw_light(stage.target, camera, ratio / by)

    def _show(self, name: str, target: moderngl.Framebuffer, within: Rect) -> None:
        """Put what was drawn aside onto some pixels, which it lies over as over all of them."""
        context = self._scene.context
        if self._enlarge is None:
            sources = shader_source("depth.vert.glsl"), shader_source("enlarge.frag.glsl")
            self._enlarge = context.vertex_array(context.program(*sources), [])
        target.use()
        context.viewport = (0, 0, *target.size)
        target.scissor = within
        self._stages[name].colours.use(0)
        self._enlarge.program["small_one"].value = 0
        self._enlarge.program["size"].value = tuple(float(n) for n in target.size)
        context.enable_only(moderngl.NOTHING)
        self._enlarge.render(moderngl.TRIANGLES, vertices=3)
        context.enable_only(moderngl.DEPTH_TEST)
        target.scissor = None
