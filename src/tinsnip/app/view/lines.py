"""Lines over the surface: boundaries, and where surfaces cross."""

import moderngl
import numpy as np

from tinsnip.app.view.camera import Camera
from tinsnip.app.view.looks import shader_source

__all__ = ["Lines"]


class Lines:
    """Lines of two colours that take turns, as ribbons of a width on the screen."""

    def __init__(self, context: moderngl.Context) -> None:
        self._context = context
        self._program = context.program(shader_source("line.vert.glsl"), shader_source("line.frag.glsl"))
        self._arrays: list[tuple[moderngl.VertexArray, int, dict]] = []
        self._buffers: list[moderngl.Buffer] = []
        self._origin = np.zeros(3)

    def set_up(self, lines: list[tuple[np.ndarray, dict]], origin: np.ndarray) -> None:
        """Take lines in place of those that were there.

        Parameters
        ----------
        lines : list of (ndarray, dict)
            Closed lines, points (N, 3), or single pieces, (N, 2, 3), mm, and their style: first, second, period, share,
            width.
        origin : ndarray, shape (3,)
            What they are counted from on the card, so that single precision is enough.
        """
        for thing in (*(entry[0] for entry in self._arrays), *self._buffers):
            thing.release()
        self._arrays, self._buffers, self._origin = [], [], origin
        groups: dict[tuple, list[np.ndarray]] = {}
        for points, style in lines:
            head = (points - origin).astype(np.float32)
            head, tail = (head[:, 0], head[:, 1]) if head.ndim == 3 else (head, np.roll(head, -1, axis=0))
            length = np.linalg.norm(tail - head, axis=1)
            along = np.concatenate([[0.0], np.cumsum(length)[:-1]])
            rows = np.column_stack([head, tail, along]).astype(np.float32)
            groups.setdefault(tuple(sorted(style.items())), []).append(rows)
        for style, rows in groups.items():
            data = np.concatenate(rows)
            buffer = self._context.buffer(data)
            array = self._context.vertex_array(self._program, [(buffer, "3f4 3f4 1f4/i", "head", "tail", "along")])
            self._arrays.append((array, len(data), dict(style)))
            self._buffers.append(buffer)

    def draw(
        self,
        target: moderngl.Framebuffer,
        camera: Camera,
        ratio: float,
        section: tuple[np.ndarray, float] | None,
    ) -> None:
        """Draw them over what has been drawn; of a section only what is behind its plane, a normal and an offset."""
        if not self._arrays:
            return
        normal, offset = section or (np.zeros(3), 1.0)
        program = self._program
        program["to_clip"].write(np.ascontiguousarray(camera.to_clip(self._origin).T, dtype=np.float32))
        program["clip"].value = (*normal, offset - float(normal @ self._origin))
        program["size"].value = (float(target.size[0]), float(target.size[1]))
        program["scale"].value = ratio / camera.scale
        for array, count, style in self._arrays:
            program["first"].value = style["first"]
            program["second"].value = style["second"]
            program["period"].value = style["period"] * ratio
            program["share"].value = style["share"]
            program["width"].value = style["width"] * ratio
            array.render(moderngl.TRIANGLE_STRIP, vertices=4, instances=count)
