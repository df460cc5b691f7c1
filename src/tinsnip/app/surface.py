"""One mesh on the graphics card: brought over in small parts, drawn whole, in slices, or by its light stand-in."""

import moderngl
import numpy as np

from tinsnip.app.buffers import ViewBuffers

__all__ = ["Surface"]

_ROW = 4096
"""Width of the texture that holds one byte a triangle."""


class Surface:
    """Vertex data, triangles, and the light stand-in of a mesh.

    Parameters
    ----------
    context : moderngl.Context
    program : moderngl.Program
        With the attributes place, normal, colour, role and value.
    buffers : ViewBuffers
    """

    def __init__(self, context: moderngl.Context, program: moderngl.Program, buffers: ViewBuffers) -> None:
        self.context, self.program = context, program
        self.buffers = buffers
        self.origin = buffers.origin
        self.triangles, self.proxy_triangles = len(buffers.faces), len(buffers.proxy)
        self._textures: list[moderngl.Texture] = []
        self._held: list[moderngl.Buffer] = []
        self._arrays: dict[str, moderngl.VertexArray] = {}
        self._values: moderngl.Buffer | None = None
        self._waiting: list[tuple[moderngl.Buffer, memoryview, int]] = []
        self.has_values = self.has_provenance = False
        self.is_light_ready = self.is_ready = self.triangles == 0
        if self.triangles == 0:
            return
        own = [self._queue(a) for a in (buffers.places, buffers.normals, buffers.colours)]
        self._roles = context.buffer(reserve=len(buffers.places))
        self._roles.clear()
        self._held.append(self._roles)
        self._layout = [
            (own[0], "3f4", "place"),
            (own[1], "4f2", "normal"),
            (own[2], "4f1", "colour"),
            (self._roles, "1u1", "role"),
        ]
        self._proxy = self._queue(buffers.proxy)
        self._light_after = len(self._waiting)
        self._faces = self._proxy if buffers.proxy is buffers.faces else self._queue(buffers.faces)

    def _queue(self, array: np.ndarray) -> moderngl.Buffer:
        buffer = self.context.buffer(reserve=array.nbytes)
        self._held.append(buffer)
        self._waiting.append((buffer, memoryview(np.ascontiguousarray(array)).cast("B"), 0))
        return buffer

    def load(self, budget: int) -> bool:
        """Bring over so many bytes more; True once all is there."""
        while self._waiting and budget > 0:
            buffer, data, at = self._waiting[0]
            part = data[at : at + budget]
            buffer.write(part, offset=at)
            budget -= len(part)
            if at + len(part) < len(data):
                self._waiting[0] = buffer, data, at + len(part)
                continue
            self._waiting.pop(0)
            self._light_after -= 1
        if not self.is_light_ready and self._light_after <= 0:
            self.is_light_ready = True
        self.is_ready = not self._waiting
        return self.is_ready

    def _array(self, name: str) -> moderngl.VertexArray:
        """The vertex array over the whole mesh, its stand-in or its voids, with the values if there are any."""
        if name not in self._arrays:
            layout = list(self._layout)
            if self._values is not None:
                layout.append((self._values, "1f4", "value"))
            index = {"full": self._faces, "light": self._proxy}.get(name) or self._voids
            self._arrays[name] = self.context.vertex_array(self.program, layout, index)
        return self._arrays[name]

    def _forget_arrays(self, *names: str) -> None:
        for name in names or tuple(self._arrays):
            array = self._arrays.pop(name, None)
            if array is not None:
                array.release()

    def set_roles(self, roles: np.ndarray | None, voids: np.ndarray) -> None:
        """What the shell of each vertex is (uint8, None: all main), and the triangles of voids."""
        if self.triangles == 0:
            return
        if roles is None:
            self._roles.clear()
        else:
            self._roles.write(roles)
        self._forget_arrays("voids")
        self._voids = None
        if len(voids):
            self._voids = self.context.buffer(np.ascontiguousarray(voids))
            self._held.append(self._voids)

    _voids: moderngl.Buffer | None = None

    def set_values(self, values: np.ndarray) -> None:
        """A number for each vertex, float32; not a number where there is none."""
        if self.triangles == 0:
            return
        if self._values is None:
            self._values = self.context.buffer(reserve=values.nbytes)
            self._held.append(self._values)
            self._forget_arrays()
        self._values.write(np.ascontiguousarray(values, dtype=np.float32))
        self.has_values = True

    def set_provenance(self) -> None:
        """Bring the provenance of each triangle over, for the whole mesh and its stand-in."""
        if self.has_provenance or self.triangles == 0:
            return
        whole = self.buffers.mesh.provenance
        for kinds in (whole, whole[self.buffers.proxy_source] if self.buffers.proxy_source is not None else whole):
            rows = -(-len(kinds) // _ROW)
            padded = np.zeros(rows * _ROW, dtype=np.uint8)
            padded[: len(kinds)] = kinds
            texture = self.context.texture((_ROW, rows), 1, padded, dtype="u1", alignment=1)
            texture.filter = moderngl.NEAREST, moderngl.NEAREST
            self._textures.append(texture)
        self.has_provenance = True

    def draw_full(self, first: int, count: int) -> None:
        """Draw some of the triangles."""
        self._tell(0, first)
        self._array("full").render(moderngl.TRIANGLES, vertices=3 * count, first=3 * first)

    def draw_light(self) -> None:
        """Draw the stand-in."""
        self._tell(1, 0)
        self._array("light").render(moderngl.TRIANGLES)

    def draw_voids(self) -> None:
        """Draw the triangles of voids, if any."""
        if self._voids is not None:
            self._array("voids").render(moderngl.TRIANGLES)

    def _tell(self, texture: int, first: int) -> None:
        self.program["first_triangle"].value = first
        self.program["has_kinds"].value = self.has_provenance
        if self.has_provenance:
            self._textures[texture].use(0)

    def release(self) -> None:
        """Give everything on the card back."""
        self._forget_arrays()
        for thing in (*self._held, *self._textures):
            thing.release()
        self._held, self._textures, self._waiting = [], [], []
