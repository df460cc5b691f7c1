"""One mesh on the graphics card: brought over in small parts, drawn whole, in slices, or by its light stand-in."""

from collections.abc import Sequence
from dataclasses import dataclass

import moderngl
import numpy as np

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.app.state.texturing import ViewTexture
from tinsnip.mesh import MADE

__all__ = ["Surface"]

_CHUNK = 1_000_000
"""Triangles in one buffer: a larger one would take too long to be made room for."""
_FORMS = ("3f4", "place"), ("4f2", "normal"), ("4f1", "colour"), ("1u1", "role")
_LISTED = 5
"""The place of the texture that holds the numbers of what is drawn."""
_MOST_RUNS = 512
"""Pieces in which rows are written at most: each costs some microseconds, a row between two some nanoseconds."""
_PLACES, _SHEET, _SHEET_FAR = 6, 7, 8
"""The places of the textures that hold a scan's own texture."""
_ROW = 4096
"""Width of the texture that holds one byte a triangle."""


@dataclass(eq=False)
class _Part:
    """One array on its way to the card: vertex data under the name of an attribute, or triangles."""

    array: np.ndarray
    form: str = ""
    name: str = ""
    buffer: moderngl.Buffer | None = None


def _write_rows(part: _Part, rows: np.ndarray) -> None:
    """Write some rows of an array, ascending, to where it lies on the card."""
    if part.buffer is None or len(rows) == 0:
        return
    gaps = np.diff(rows)
    if (gaps > 1).sum() < _MOST_RUNS:
        ends = np.flatnonzero(gaps > 1)
    else:  # the widest gaps part the runs, what lies in the others is written too
        ends = np.sort(np.argpartition(gaps, -_MOST_RUNS)[-_MOST_RUNS:])
    size = part.array.itemsize * part.array.shape[1]
    for begin, end in zip(rows[np.r_[0, ends + 1]], rows[np.r_[ends, len(rows) - 1]], strict=True):
        part.buffer.write(np.ascontiguousarray(part.array[begin : end + 1]), offset=int(begin) * size)


def _padded(values: np.ndarray, first: int, last: int) -> np.ndarray:
    """The values of whole rows of a texture, with noughts after the last one."""
    padded = np.zeros((last - first) * _ROW, dtype=values.dtype)
    some = values[first * _ROW : last * _ROW]
    padded[: len(some)] = some
    return padded


def _write_texture(texture: moderngl.Texture, values: np.ndarray, first: int, last: int) -> None:
    """Write some rows of a texture anew."""
    texture.write(_padded(values, first, last), viewport=(0, first, _ROW, last - first), alignment=1)


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
        self.places, self.normals = buffers.places, buffers.normals
        proxy = buffers.proxy
        self.triangles = len(buffers.faces)
        self.proxy_triangles = self.triangles if proxy is None else len(proxy.faces)
        self._textures: list[moderngl.Texture] = []
        self._rows: dict[str, list[moderngl.Texture]] = {}
        self._told: dict[str, np.ndarray] = {}
        self._light_row: np.ndarray | None = None
        self._edges: moderngl.Buffer | None = None
        self._held: list[moderngl.Buffer] = []
        self._arrays: dict[tuple[str, int, int], moderngl.VertexArray] = {}
        self._parts: dict[str, tuple[list[_Part], list[_Part]]] = {}
        self._waiting: list[tuple[_Part, int]] = []
        self._sheets: list[moderngl.Texture] = []
        self._sheets_waiting: list[tuple[moderngl.Texture, np.ndarray, int]] = []
        self.texture: ViewTexture | None = None
        """What is drawn as the scan's own texture, or is on its way."""
        self.has_provenance = False
        self.has_made = self.triangles > 0 and bool((buffers.mesh.provenance == MADE).any())
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

    def rewrite(self, vertices: np.ndarray, places: np.ndarray, normals: np.ndarray) -> None:
        """Put some vertices elsewhere; the triangles stay.

        Parameters
        ----------
        vertices : ndarray of int, shape (K,)
            Ascending.
        places, normals : ndarray of float32, shape (V, 3), of float16, shape (V, 4)
            Of all of the mesh; the others are as they were.
        """
        self.places, self.normals = places, normals
        new = {"place": places, "normal": normals}
        for part in self._parts["full"][0]:
            if part.name in new:
                part.array = new[part.name]
                _write_rows(part, vertices)
        proxy = self.buffers.proxy
        if proxy is None:
            return
        if self._light_row is None:
            self._light_row = np.full(len(places), -1, dtype=np.int32)
            self._light_row[proxy.vertices] = np.arange(len(proxy.vertices), dtype=np.int32)
        rows = np.sort(self._light_row[vertices])
        rows = rows[np.searchsorted(rows, 0) :]
        for part in self._parts["light"][0]:
            if part.name in new and len(rows):
                part.array[rows] = new[part.name][proxy.vertices[rows]]
                _write_rows(part, rows)

    def take_over(self, buffers: ViewBuffers) -> bool:
        """Go over to buffers of the same triangles over moved vertices.

        False where it has to be made anew: other triangles, another origin, or not all of it is there yet.
        """
        old = self.buffers
        same = buffers.faces is old.faces and buffers.proxy is old.proxy and buffers.colours is old.colours
        if not (same and self.is_ready and self.triangles and np.array_equal(buffers.origin, self.origin)):
            return False
        differ = (buffers.places != self.places).any(axis=1) | (buffers.normals != self.normals).any(axis=1)
        self.rewrite(np.flatnonzero(differ), buffers.places, buffers.normals)
        self.buffers = buffers
        for texture in self._textures:
            texture.release()
        self._textures, self.has_provenance, self.values_of = [], False, -1
        self.set_texture(None)
        self.has_made = bool((buffers.mesh.provenance == MADE).any())
        self._forget_arrays()
        return True

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

    def set_texture(self, texture: ViewTexture | None) -> None:
        """Draw the scan's own texture; it comes over by `load_texture`, bit by bit. None: no more."""
        for one in self._sheets:
            one.release()
        self._sheets, self._sheets_waiting, self.texture = [], [], texture
        if texture is None:
            return
        rows = -(-len(texture.places) // _ROW)
        places = np.zeros((rows * _ROW, 4), dtype=np.float32)
        places[: len(texture.places)] = texture.places
        for array, kind in ((places.reshape(rows, _ROW, 4), "f4"), (texture.sheet, "f1"), (texture.far, "f1")):
            high, wide, parts = array.shape
            card = self.context.texture((wide, high), parts, dtype=kind, alignment=1)
            card.filter = (moderngl.NEAREST,) * 2 if kind == "f4" else (moderngl.LINEAR,) * 2
            card.repeat_x = card.repeat_y = False
            self._sheets.append(card)
            self._sheets_waiting.append((card, array, 0))

    def load_texture(self, budget: int) -> bool:
        """Bring over so many bytes more of it; True once all is there."""
        while self._sheets_waiting and budget > 0:
            card, array, row = self._sheets_waiting[0]
            size = array[:1].nbytes
            last = min(len(array), row + max(1, budget // size))
            card.write(np.ascontiguousarray(array[row:last]), viewport=(0, row, card.width, last - row), alignment=1)
            budget -= (last - row) * size
            if last < len(array):
                self._sheets_waiting[0] = card, array, last
                continue
            self._sheets_waiting.pop(0)
            if not self._sheets_waiting:  # the last, the small one, is looked at from ever farther away
                card.build_mipmaps()
                card.filter = moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR
        return self.has_texture

    @property
    def has_texture(self) -> bool:
        """Whether the scan's own texture can be drawn."""
        return bool(self._sheets) and not self._sheets_waiting

    def set_marked(self, chosen: np.ndarray | None) -> np.ndarray | None:
        """Which triangles are selected (1), hidden (2) or lit (3), uint8, shape (F,), also in the stand-in; None: none.

        Those whose mark is another, int, shape (K,); None where that is not known.
        """
        return self._set_rows("marked", chosen)

    def set_going(self, chosen: np.ndarray | None) -> None:
        """Which triangles a snip would cut away, bool, shape (F,); None: none."""
        self._set_rows("goes", chosen)

    def _set_rows(self, name: str, chosen: np.ndarray | None) -> np.ndarray | None:
        if chosen is None or self.triangles == 0 or len(chosen) != self.triangles:
            for old in self._rows.pop(name, ()):
                old.release()
            told = self._told.pop(name, None)
            return None if told is None else np.flatnonzero(told)
        proxy = self.buffers.proxy
        own = [chosen, *([] if proxy is None else [chosen[proxy.source]])]
        told = self._told.get(name)
        if told is None:
            self._rows[name] = [self._row_texture(kinds) for kinds in own]
            changed = np.flatnonzero(chosen)
        else:
            changed = np.flatnonzero(told != chosen)
            if len(changed):
                _write_texture(self._rows[name][0], chosen, changed[0] // _ROW, changed[-1] // _ROW + 1)
                if proxy is not None:
                    _write_texture(self._rows[name][1], own[1], 0, -(-len(own[1]) // _ROW))
        self._told[name] = chosen.copy()
        return changed

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
        kind = "u1" if values.dtype.itemsize == 1 else "u4"
        texture = self.context.texture((_ROW, rows), 1, _padded(values, 0, rows), dtype=kind, alignment=1)
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

    def draw_some(self, program: moderngl.Program, triangles: np.ndarray) -> None:
        """Draw the triangles of some numbers, int32, shape (K,)."""
        if len(triangles) == 0:
            return
        own = self._parts["full"][0]
        known = [(part.buffer, part.form, part.name) for part in own if part.name in program]
        index = self.context.buffer(np.ascontiguousarray(self.buffers.faces[triangles]))
        array = self.context.vertex_array(program, known, index)
        self._tell(program, 0, 0)
        listed = None
        if "is_listed" in program:
            listed = self._row_texture(triangles.astype(np.uint32))
            listed.use(_LISTED)
            program["listed"].value, program["is_listed"].value = _LISTED, True
        array.render(moderngl.TRIANGLES)
        if listed is not None:
            program["is_listed"].value = False
            listed.release()
        array.release()
        index.release()

    def draw_light(self, program: moderngl.Program) -> None:
        """Draw the stand-in."""
        if self.triangles == 0:
            return
        self._tell(program, self.buffers.proxy is not None, 0)
        if "stand_in" in program:
            program["stand_in"].value = self.buffers.proxy is not None
        self._array("light", program).render(moderngl.TRIANGLES)

    @property
    def has_quads(self) -> bool:
        """Whether it has edges of its own to draw, without the diagonals of quads."""
        return self.buffers.edges is not None and self.is_ready

    def draw_edges(self, program: moderngl.Program) -> None:
        """Draw its edges but the diagonals of quads."""
        if self._edges is None:
            self._edges = self.context.buffer(np.ascontiguousarray(self.buffers.edges))
            self._held.append(self._edges)
        own = self._parts["full"][0]
        known = [(part.buffer, part.form, part.name) for part in own if part.name in program]
        array = self.context.vertex_array(program, known, self._edges)
        array.render(moderngl.LINES)
        array.release()

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
        if "sheet" in program and self.has_texture:
            for place, name, card in zip((_PLACES, _SHEET, _SHEET_FAR), ("places", "sheet", "far"), self._sheets,
                                         strict=True):  # fmt: skip
                card.use(place)
                program[name].value = place
        if "kinds" in program:
            if "has_kinds" in program:
                program["has_kinds"].value = self.has_provenance
            if self.has_provenance:
                self._textures[texture].use(0)

    def release(self) -> list[moderngl.Buffer]:
        """Give up what is on the card; what takes time to be freed is handed back, to be freed bit by bit."""
        self._forget_arrays()
        self.set_marked(None)
        self.set_going(None)
        self.set_texture(None)
        for texture in self._textures:
            texture.release()
        held, self._held = self._held, []
        self._textures, self._waiting = [], []
        return held
