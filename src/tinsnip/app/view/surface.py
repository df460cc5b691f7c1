"""One mesh on the graphics card: brought over in small parts, drawn whole, in slices, or by its light stand-in."""

from collections.abc import Sequence
from dataclasses import dataclass

import moderngl
import numpy as np

from tinsnip.app.state.buffers import ViewBuffers

__all__ = ["Surface"]

_CHUNK = 1_000_000
"""Triangles in one buffer: a larger one would take too long to be made room for."""
_FORMS = ("3f4", "place"), ("4f2", "normal"), ("4f1", "colour"), ("1u1", "role")
_ROW = 4096
"""Width of the texture that holds one byte a triangle."""


@dataclass(eq=False)
class _Part:
    """One array on its way to the card: vertex data under the name of an attribute, or triangles."""

    array: np.ndarray
    form: str = ""
    name: str = ""
    buffer: moderngl.Buffer | None = None


class Surface:
    """Vertex data, triangles, and the light stand-in of a mesh.

    Parameters
    ----------
    context : moderngl.Context
    buffers : ViewBuffers
    """

    def __init__(self, context: moderngl.Context, buffers: ViewBuffers) -> None:
        self.context = context
        self.buffers = buffers
        self.origin = buffers.origin
        proxy = buffers.proxy
        self.triangles = len(buffers.faces)
        self.proxy_triangles = self.triangles if proxy is None else len(proxy.faces)
        self._textures: list[moderngl.Texture] = []
        self._rows: dict[str, list[moderngl.Texture]] = {}
        self._held: list[moderngl.Buffer] = []
        self._arrays: dict[tuple[str, int, int], moderngl.VertexArray] = {}
        self._parts: dict[str, tuple[list[_Part], list[_Part]]] = {}
        self._waiting: list[tuple[_Part, int]] = []
        self.has_provenance = False
        self.values_of = -1
        """The look that the values it has are for; -1: it has none."""
        self.is_light_ready = self.is_ready = self.triangles == 0
        if self.triangles == 0:
            return
        arrays = buffers.places, buffers.normals, buffers.colours
        if proxy is not None:
            self._plan("light", [a[proxy.vertices] for a in arrays], proxy.faces)
            self._light_after = len(self._waiting)
        self._plan("full", arrays, buffers.faces)
        if proxy is None:
            self._parts["light"] = self._parts["full"]
            self._light_after = len(self._waiting)

    def _plan(self, name: str, arrays: Sequence[np.ndarray], faces: np.ndarray) -> None:
        """Note what has to be brought over; nothing is allocated before its turn comes."""
        roles = np.zeros(len(arrays[0]), dtype=np.uint8)
        own = [_Part(array, *form) for array, form in zip((*arrays, roles), _FORMS, strict=True)]
        spans = range(0, len(faces), _CHUNK)
        self._parts[name] = own, [_Part(faces[begin : begin + _CHUNK]) for begin in spans]
        self._waiting += [(part, 0) for part in (*own, *self._parts[name][1])]

    def load(self, budget: int) -> bool:
        """Bring over so many bytes more; True once all is there."""
        while self._waiting and budget > 0:
            part, at = self._waiting[0]
            data = memoryview(np.ascontiguousarray(part.array)).cast("B")
            if part.buffer is None:
                part.buffer = self.context.buffer(reserve=len(data))
                self._held.append(part.buffer)
                budget -= len(data) // 4  # making room for much takes its time too
                if budget <= 0:
                    break
            some = data[at : at + budget]
            part.buffer.write(some, offset=at)
            budget -= len(some)
            if at + len(some) < len(data):
                self._waiting[0] = part, at + len(some)
                continue
            self._waiting.pop(0)
            self._light_after -= 1
        if not self.is_light_ready and self._light_after <= 0:
            self.is_light_ready = True
        self.is_ready = not self._waiting
        return self.is_ready

    def _array(self, name: str, program: moderngl.Program, chunk: int = 0) -> moderngl.VertexArray:
        """The vertex array over a chunk of the whole mesh, its stand-in or its voids, for one program."""
        key = name, program.glo, chunk
        if key not in self._arrays:
            own, indices = self._parts[name]
            known = [(part.buffer, part.form, part.name) for part in own if part.name in program]
            self._arrays[key] = self.context.vertex_array(program, known, indices[chunk].buffer)
        return self._arrays[key]

    def _forget_arrays(self, name: str | None = None) -> None:
        for key in [k for k in self._arrays if name in (None, k[0])]:
            self._arrays.pop(key).release()

    def set_roles(self, roles: np.ndarray | None, voids: np.ndarray) -> None:
        """What the shell of each vertex is (uint8, None: all main), and the triangles of voids."""
        if self.triangles == 0:
            return
        for name, own in self._per_vertex(roles):
            part = next(p for p in self._parts[name][0] if p.name == "role")
            part.array = np.zeros(len(part.array), dtype=np.uint8) if own is None else own
            if part.buffer is not None:
                part.buffer.write(part.array)
        self._forget_arrays("voids")
        gone = self._parts.pop("voids", None)
        if gone is not None:
            self._drop_buffer(gone[1][0])
        if len(voids):
            part = _Part(voids, buffer=self.context.buffer(np.ascontiguousarray(voids)))
            self._held.append(part.buffer)
            self._parts["voids"] = self._parts["full"][0], [part]

    def _drop_buffer(self, part: _Part) -> None:
        """Free a part's buffer, which something else takes the place of."""
        self._held.remove(part.buffer)
        part.buffer.release()

    def _per_vertex(self, values: np.ndarray | None) -> list[tuple[str, np.ndarray | None]]:
        """Values for the whole mesh, and those of its stand-in."""
        proxy = self.buffers.proxy
        if proxy is None:
            return [("full", values)]
        return [("full", values), ("light", None if values is None else values[proxy.vertices])]

    def set_values(self, values: np.ndarray, look: int) -> None:
        """A number for each vertex, float32, for a look; not a number where there is none."""
        if self.triangles == 0:
            return
        for name, own in self._per_vertex(values.astype(np.float32, copy=False)):
            parts = self._parts[name][0]
            for old in [part for part in parts if part.name == "value"]:
                parts.remove(old)
                self._drop_buffer(old)
            buffer = self.context.buffer(np.ascontiguousarray(own))
            self._held.append(buffer)
            parts.append(_Part(own, "1f4", "value", buffer))
        self._forget_arrays()
        self.values_of = look

    def set_provenance(self) -> None:
        """Bring the provenance of each triangle over, for the whole mesh and its stand-in."""
        if self.has_provenance or self.triangles == 0:
            return
        whole = self.buffers.mesh.provenance
        proxy = self.buffers.proxy
        for kinds in (whole, *([] if proxy is None else [whole[proxy.source]])):
            self._textures.append(self._row_texture(kinds))
        self.has_provenance = True

    def set_marked(self, chosen: np.ndarray | None) -> None:
        """Which triangles are selected (1) or hidden (2), uint8, shape (F,), here and in the stand-in; None: none."""
        self._set_rows("marked", chosen)

    def set_going(self, chosen: np.ndarray | None) -> None:
        """Which triangles a snip would cut away, bool, shape (F,); None: none."""
        self._set_rows("goes", chosen)

    def _set_rows(self, name: str, chosen: np.ndarray | None) -> None:
        for old in self._rows.pop(name, ()):
            old.release()
        if chosen is None or self.triangles == 0 or len(chosen) != self.triangles:
            return
        proxy = self.buffers.proxy
        own = [chosen, *([] if proxy is None else [chosen[proxy.source]])]
        self._rows[name] = [self._row_texture(kinds) for kinds in own]

    @property
    def has_marks(self) -> bool:
        """Whether any of its triangles are selected."""
        return "marked" in self._rows

    @property
    def has_going(self) -> bool:
        """Whether a snip would cut any of its triangles away."""
        return "goes" in self._rows

    def _row_texture(self, values: np.ndarray) -> moderngl.Texture:
        """A number for each triangle, row by row."""
        rows = -(-len(values) // _ROW)
        padded = np.zeros(rows * _ROW, dtype=np.uint8)
        padded[: len(values)] = values
        texture = self.context.texture((_ROW, rows), 1, padded, dtype="u1", alignment=1)
        texture.filter = moderngl.NEAREST, moderngl.NEAREST
        return texture

    def draw_full(self, program: moderngl.Program, first: int, count: int) -> None:
        """Draw some of the triangles."""
        while count > 0:
            chunk, at = divmod(first, _CHUNK)
            some = min(count, _CHUNK - at)
            self._tell(program, 0, first)
            self._array("full", program, chunk).render(moderngl.TRIANGLES, vertices=3 * some, first=3 * at)
            first, count = first + some, count - some

    def draw_light(self, program: moderngl.Program) -> None:
        """Draw the stand-in."""
        if self.triangles == 0:
            return
        self._tell(program, self.buffers.proxy is not None, 0)
        self._array("light", program).render(moderngl.TRIANGLES)

    def draw_voids(self, program: moderngl.Program) -> None:
        """Draw the triangles of voids, if any."""
        if "voids" in self._parts and self.is_ready:
            self._array("voids", program).render(moderngl.TRIANGLES)

    def _tell(self, program: moderngl.Program, texture: int, first: int) -> None:
        if "first_triangle" in program:
            program["first_triangle"].value = first
        for place, name in enumerate(("marked", "goes"), 1):
            if name in program and name in self._rows:
                program[name].value = 2 * place - 1
                self._rows[name][texture].use(2 * place - 1)
        if "kinds" in program:
            program["has_kinds"].value = self.has_provenance
            if self.has_provenance:
                self._textures[texture].use(0)

    def release(self) -> list[moderngl.Buffer]:
        """Give up what is on the card; what takes time to be freed is handed back, to be freed bit by bit."""
        self._forget_arrays()
        self.set_marked(None)
        self.set_going(None)
        for texture in self._textures:
            texture.release()
        held, self._held = self._held, []
        self._textures, self._waiting = [], []
        return held
