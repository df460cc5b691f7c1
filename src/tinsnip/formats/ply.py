"""PLY (Turk 1994): ASCII and binary, vertices with colours, polygons of any size."""

import re
from pathlib import Path
from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats.rows import NAME
from tinsnip.formats.textrows import pick_lists, text_rows
from tinsnip.kernels import kernel
from tinsnip.mesh import HOLLOW, Attribute, Domain, Mesh
from tinsnip.mesh.attributes import hollow_at
from tinsnip.mesh.quads import QUAD, of_polygons, quad_runs
from tinsnip.progress import Progress
from tinsnip.space.facets import triangulate_polygons

__all__ = ["read", "rows_of", "size_of", "sniff", "triangles_in", "write"]

_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2",
    "ushort": "u2", "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4",
    "float": "f4", "float32": "f4", "double": "f8", "float64": "f8",
}  # fmt: skip
_INDEX_LISTS = ("vertex_indices", "vertex_index")
_LONGEST_HEADER = 1 << 25
_END = re.compile(rb"([\r\n])end_header[ \t]*(?:\r\n|\n|\r|$)")


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is a PLY.

    Parameters
    ----------
    head : bytes
        The first of the file.
    size : int
        Of the file, bytes.
    """
    return head.startswith((b"ply\n", b"ply\r"))


class _Property(NamedTuple):
    """One property: a scalar, or a list with a type for its count."""

    name: str
    item: str
    counter: str = ""

    @property
    def item_size(self) -> int:
        return int(self.item[1])

    @property
    def counter_size(self) -> int:
        return int(self.counter[1]) if self.counter else 0


class _Element:
    """One element of the header: its name, how many there are, and their properties."""

    def __init__(self, name: str, count: int) -> None:
        self.name = name
        self.count = count
        self.properties: list[_Property] = []


def _header(path: Path) -> tuple[str, list[_Element], int]:
    room = 1 << 16
    while True:
        with path.open("rb") as file:
            head = file.read(room)
        found = _END.search(head)
        if found is not None or len(head) < room or room >= _LONGEST_HEADER:
            break
        room *= 8
    if found is None:
        raise BadInput("its header has no end; export it again")
    end = found.end(1)
    form, elements = "", []
    for number, line in enumerate(head[:end].decode("ascii", "replace").splitlines(), 1):
        words = line.split()
        if not words or words[0] in ("ply", "comment", "obj_info"):
            continue
        try:
            if words[0] == "format":
                form = words[1]
            elif words[0] == "element":
                elements.append(_Element(words[1], int(words[2])))
            elif words[0] == "property" and words[1] == "list":
                if _TYPES[words[2]][0] == "f":
                    raise ValueError("a count must be whole")
                elements[-1].properties.append(_Property(words[4], _TYPES[words[3]], _TYPES[words[2]]))
            elif words[0] == "property":
                if any(p.name == words[2] for p in elements[-1].properties):
                    raise ValueError("a name comes twice")
                elements[-1].properties.append(_Property(words[2], _TYPES[words[1]]))
            else:
                raise KeyError(words[0])
        except (IndexError, KeyError, ValueError):
            raise BadInput(f"header line {number} ('{line.strip()[:60]}') is not PLY; export it again") from None
    return form, elements, found.end()


def read(path: Path, progress: Progress) -> Mesh:
    """Read a PLY: ASCII or binary of either byte order, any property types and order, polygons of any size.

    Elements other than vertices and faces are passed over.

    Parameters
    ----------
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        When it is cut short, or its counts or indices do not fit.
    """
    form, elements, offset = _header(path)
    if form not in ("ascii", "binary_little_endian", "binary_big_endian"):
        raise BadInput(f"is PLY of the kind '{form[:40]}', which Tinsnip does not know; export it again")
    body = np.memmap(path, np.uint8, "r")[offset:] if path.stat().st_size > offset else np.empty(0, np.uint8)
    source = _Text(body) if form == "ascii" else _Binary(body, ">" if "big" in form else "<")
    vertices = colour = start = corners = provenance = hollow = None
    for element in elements:
        progress.step(f"Reading {path.name}")
        if element.count < 0 or element.count * max(1, source.least(element)) > len(body) - source.at:
            raise BadInput(
                f"announces {element.count} of '{element.name[:40]}' but ends at byte {offset + len(body)}; "
                "copy or export it again"
            )
        if element.name == "vertex":
            vertices, colour = _vertex_columns(source.table(element, None)[0])
            if any(p.counter for p in element.properties):
                progress.notes.append("lists on vertices; only their positions and colours are read")
        elif element.name == "face":
            wanted = next((k for k, p in enumerate(element.properties) if p.name in _INDEX_LISTS), None)
            if wanted is None:
                raise BadInput("its faces have no list of vertices; export the scan as a mesh")
            scalars, (start, corners) = source.table(element, wanted)
            if scalars is not None and "provenance" in (scalars.dtype.names or ()):
                provenance = np.clip(np.nan_to_num(scalars["provenance"]), 0, 2).astype(np.uint8)
            if scalars is not None and HOLLOW in (scalars.dtype.names or ()):
                hollow = np.nan_to_num(scalars[HOLLOW]) > 0
        else:
            source.table(element, None)
    if vertices is None or corners is None or len(start) < 2:
        raise BadInput("has no vertices with faces; export the scan as a mesh, not as points")
    if len(corners) and (corners.min() < 0 or corners.max() >= len(vertices)):
        worst = corners.max() if corners.max() >= len(vertices) else corners.min()
        raise BadInput(f"a face names vertex {worst} of {len(vertices)}; export it again")
    size = np.diff(start)
    if (size < 3).any():
        raise BadInput(f"face {int(np.argmin(size))} has fewer than three corners; export it again")
    faces, polygon, _ = triangulate_polygons(vertices, start, corners)
    attributes = {} if colour is None else {"colour": Attribute(Domain.VERTEX, colour)}
    quad = of_polygons(size, polygon)
    if quad is not None:
        attributes[QUAD] = quad
    if hollow is not None and hollow.any():
        attributes[HOLLOW] = hollow_at(faces[hollow[polygon]], len(vertices))
    return Mesh(vertices, faces, None if provenance is None else provenance[polygon], attributes)


def triangles_in(path: Path) -> int | None:
    """How many faces a file says it holds, as triangles mostly.

    Parameters
    ----------
    path : Path
    """
    return next((element.count for element in _header(path)[1] if element.name == "face"), None)


class _Faces:
    """The triangles of a binary file of nothing else, which are not all read; see `rows.Rows`."""

    def __init__(self, vertices: np.ndarray, faces: np.ndarray) -> None:
        self._vertices, self._faces = vertices, faces
        self.count = len(faces)

    def places(self, begin: int, end: int) -> np.ndarray:
        rows = self._faces[begin:end]
        if (rows["size"] != 3).any():
            raise BadInput("has faces of other than three corners, which cannot be read in parts; export triangles")
        some = self._rows_of(rows["corners"][:, 0])
        return np.stack([some[name].astype(np.float64) for name in "xyz"], axis=1)

    def _rows_of(self, numbers: np.ndarray) -> np.ndarray:
        """Rows of some vertices, each of which has to be there."""
        if len(numbers) and (numbers.min() < 0 or numbers.max() >= len(self._vertices)):
            raise BadInput("a face names a vertex that is not there; export it again")
        return self._vertices[numbers]

    def mesh(self, chosen: np.ndarray) -> Mesh:
        faces = self._faces["corners"][chosen].astype(np.int32)
        used, local = np.unique(faces, return_inverse=True)
        vertices, colour = _vertex_columns(self._rows_of(used))
        attributes = {NAME: Attribute(Domain.VERTEX, used.astype(np.int32))}
        if colour is not None:
            attributes["colour"] = Attribute(Domain.VERTEX, colour)
        return Mesh(vertices, local.reshape(-1, 3).astype(np.int32), None, attributes)


def rows_of(path: Path) -> _Faces:
    """The triangles of a binary PLY, some at a time.

    Parameters
    ----------
    path : Path

    Raises
    ------
    BadInput
        When it is text, or holds other than vertices of one size and triangles, or is cut short.
    """
    form, elements, offset = _header(path)
    order = {"binary_little_endian": "<", "binary_big_endian": ">"}.get(form)
    tables: dict[str, np.ndarray] = {}
    for element in elements:
        lists = [p for p in element.properties if p.counter]
        faces = element.name == "face" and len(element.properties) == 1 and len(lists) == 1
        if order is None or element.count < 0 or (lists and not faces) or (faces and lists[0].item[0] == "f"):
            raise BadInput("is no binary PLY of plain triangles, which alone is read in parts; export it as one")
        kind = np.dtype(
            [("size", order + lists[0].counter), ("corners", order + lists[0].item, 3)]
            if faces
            else [(p.name, order + p.item) for p in element.properties]
        )
        if offset + element.count * kind.itemsize > path.stat().st_size:
            raise BadInput(
                f"announces {element.count} of '{element.name[:40]}' but ends before; copy or export it again"
            )
        if element.count:
            tables[element.name] = np.memmap(path, kind, "r", offset=offset, shape=(element.count,))
        offset += element.count * kind.itemsize
    if "vertex" not in tables or "face" not in tables:
        raise BadInput("has no vertices with faces; export the scan as a mesh, not as points")
    if not {"x", "y", "z"} <= set(tables["vertex"].dtype.names):
        raise BadInput("its vertices have no x, y, z; export it again")
    return _Faces(tables["vertex"], tables["face"])


def _vertex_columns(table: np.ndarray | None) -> tuple[np.ndarray, np.ndarray | None]:
    names = () if table is None else table.dtype.names or ()
    if not {"x", "y", "z"} <= set(names):
        raise BadInput("its vertices have no x, y, z; export it again")
    vertices = np.empty((len(table), 3))
    for k, name in enumerate("xyz"):
        vertices[:, k] = table[name]
    for red, green, blue in (
        ("red", "green", "blue"),
        ("diffuse_red", "diffuse_green", "diffuse_blue"),
        ("r", "g", "b"),
    ):
        if {red, green, blue} <= set(names):
            break
    else:
        return vertices, None
    colour = np.empty((len(table), 3), dtype=np.uint8)
    for k, name in enumerate((red, green, blue)):
        column = np.nan_to_num(table[name])
        if column.dtype.kind == "f":  # 0 to 1, unless the numbers say otherwise
            column = np.rint(column * (255.0 if column.max(initial=0) <= 1.0 else 1.0))
        elif column.dtype.itemsize == 2:
            column = column // 257
        colour[:, k] = np.clip(column, 0, 255)
    return vertices, colour


@kernel
def _whole(raw, at, size, big):
    """An unsigned whole number of 1, 2, 4 or 8 bytes."""
    value = np.int64(0)
    for i in range(size):
        value |= np.int64(raw[at + (size - 1 - i if big else i)]) << np.int64(8 * i)
    return value


@kernel
def _walk(raw, at, count, item, counter, wanted, big, lengths, begins):
    """Step over rows with lists: `counter` is the size of a list's count, 0 for a scalar.

    Notes each row's wanted list, or where its wanted scalar stands. Returns where the rows end, or -1 where they
    overrun.
    """
    end = raw.shape[0]
    for row in range(count):
        for p in range(item.shape[0]):
            if counter[p] == 0:
                if p == wanted:
                    begins[row] = at
                at += item[p]
            else:
                if at + counter[p] > end:
                    return -1
                n = _whole(raw, at, counter[p], big)
                at += counter[p]
                if n < 0 or n > end:
                    return -1
                if p == wanted:
                    lengths[row] = n
                    begins[row] = at
                at += n * item[p]
            if at > end:
                return -1
    return at


@kernel
def _gather(raw, begins, lengths, size, signed, big, out):
    n = 0
    for row in range(begins.shape[0]):
        at = begins[row]
        for _ in range(lengths[row]):
            value = _whole(raw, at, size, big)
            if signed and size < 8 and value >> np.int64(8 * size - 1):
                value -= np.int64(1) << np.int64(8 * size)
            out[n] = min(max(value, -1), np.int64(2147483647))
            n += 1
            at += size


class _Binary:
    """Rows of a binary body."""

    def __init__(self, body: np.ndarray, order: str) -> None:
        self.body = body
        self.order = order
        self.at = 0

    def least(self, element: "_Element") -> int:
        return sum(p.counter_size or p.item_size for p in element.properties)

    def table(self, element: "_Element", wanted: int | None) -> tuple[np.ndarray | None, tuple[np.ndarray, np.ndarray]]:
        """The scalars of an element as a structured array, and its wanted list as starts and values."""
        properties = element.properties
        none = np.zeros(1, dtype=np.int64), np.empty(0, dtype=np.int64)
        if not any(p.counter for p in properties):
            kind = np.dtype([(p.name, self.order + p.item) for p in properties])
            rows = self.body[self.at : self.at + element.count * kind.itemsize].view(kind)
            self.at += rows.nbytes
            return rows, none
        quick = self._plain_triangles(element, wanted)
        if quick is not None:
            return None, quick
        big = self.order == ">"
        lengths = np.zeros(element.count, dtype=np.int64)
        begins = np.zeros(element.count, dtype=np.int64)
        items = np.array([p.item_size for p in properties])
        counters = np.array([p.counter_size for p in properties])
        end = _walk(
            self.body, self.at, element.count, items, counters, -1 if wanted is None else wanted, big, lengths, begins
        )
        if end < 0:
            raise BadInput(f"ends within its '{element.name[:40]}' rows; copy or export it again")
        begun, self.at = self.at, int(end)
        if wanted is None:
            return (self._scalars(element, begun) if element.name == "vertex" else None), none
        corners = np.empty(int(lengths.sum()), dtype=np.int64)
        chosen = properties[wanted]
        if chosen.item[0] == "f":
            raise BadInput("its faces name vertices by fractions; export it again")
        _gather(self.body, begins, lengths, chosen.item_size, chosen.item[0] == "i", big, corners)
        scalars = self._fixed_scalars(element, wanted, begun, lengths)
        if scalars is None and any(not p.counter for p in properties):
            scalars = self._scalars(element, begun)
        return scalars, (np.concatenate([[0], np.cumsum(lengths)]), corners)

    def _plain_triangles(self, element: "_Element", wanted: int | None) -> tuple[np.ndarray, np.ndarray] | None:
        """The common case: nothing but lists of three 32-bit indices."""
        properties = element.properties
        if wanted is None or len(properties) != 1 or properties[0].counter_size != 1 or properties[0].item_size != 4:
            return None
        if properties[0].item[0] == "f" or self.order != "<" or self.at + 13 * element.count > len(self.body):
            return None
        faces = np.empty((element.count, 3), dtype=np.int32)
        if _copy_triangles(self.body[self.at : self.at + 13 * element.count], 13, 1, faces) >= 0:
            return None
        self.at += 13 * element.count
        return np.arange(0, 3 * element.count + 1, 3), faces.ravel()

    def _fixed_scalars(self, element: "_Element", wanted: int, begun: int, lengths: np.ndarray) -> np.ndarray | None:
        """Scalars beside the list, where all rows have one size and there is no other list."""
        others = [p for k, p in enumerate(element.properties) if k != wanted]
        if not others or any(p.counter for p in others) or len(set(lengths.tolist()[:1000])) != 1:
            return None
        if (lengths != lengths[0]).any():
            return None
        chosen = element.properties[wanted]
        width = chosen.counter_size + int(lengths[0]) * chosen.item_size
        kind = np.dtype(
            [
                (p.name, f"V{width}") if k == wanted else (p.name, self.order + p.item)
                for k, p in enumerate(element.properties)
            ]
        )
        return self.body[begun : begun + element.count * kind.itemsize].view(kind)

    def _scalars(self, element: "_Element", begun: int) -> np.ndarray:
        """Scalars of rows that have lists of any length between them."""
        properties = element.properties
        items = np.array([p.item_size for p in properties])
        counters = np.array([p.counter_size for p in properties])
        table = np.empty(element.count, dtype=[(p.name, self.order + p.item) for p in properties if not p.counter])
        begins = np.empty(element.count, dtype=np.int64)
        lengths = np.empty(element.count, dtype=np.int64)
        for k, p in enumerate(properties):
            if not p.counter:
                _walk(self.body, begun, element.count, items, counters, k, self.order == ">", lengths, begins)
                raw = self.body[begins[:, None] + np.arange(p.item_size)]
                table[p.name] = np.ascontiguousarray(raw).view(self.order + p.item).ravel()
        return table


class _Text:
    """Rows of an ASCII body."""

    def __init__(self, body: np.ndarray) -> None:
        self.body = body
        self.at = 0

    def least(self, element: "_Element") -> int:
        return 2 * len(element.properties) - 1

    def table(self, element: "_Element", wanted: int | None) -> tuple[np.ndarray | None, tuple[np.ndarray, np.ndarray]]:
        """As `_Binary.table`."""
        counters = np.array([p.counter_size for p in element.properties])
        flat, begins = text_rows(self.body, self.at, element.count, counters, f"'{element.name[:40]}' row")
        self.at = int(begins[-1])
        none = np.zeros(1, dtype=np.int64), np.empty(0, dtype=np.int64)
        if not counters.any():
            rows = flat.reshape(element.count, len(counters))
            kind = np.dtype([(p.name, "<f8" if p.item[0] == "f" else "<i8") for p in element.properties])
            table = np.empty(element.count, dtype=kind)
            for k, p in enumerate(element.properties):
                table[p.name] = rows[:, k] if p.item[0] == "f" else np.nan_to_num(rows[:, k])
            return table, none
        lengths = np.empty(element.count, dtype=np.int64)
        corners = np.empty(len(flat), dtype=np.int64)
        used = pick_lists(flat, element.count, counters, -1 if wanted is None else wanted, lengths, corners)
        if wanted is None:
            return (_scalars_of(element, flat, counters) if element.name == "vertex" else None), none
        return None, (np.concatenate([[0], np.cumsum(lengths)]), corners[:used])


def _scalars_of(element: "_Element", flat: np.ndarray, counters: np.ndarray) -> np.ndarray:
    """Scalars of rows of numbers that have lists of any length between them."""
    scalars = [p for p in element.properties if not p.counter]
    values = np.empty((element.count, len(scalars)))
    _pick_scalars(flat, counters, values)
    table = np.empty(element.count, dtype=[(p.name, "<f8" if p.item[0] == "f" else "<i8") for p in scalars])
    for k, p in enumerate(scalars):
        table[p.name] = values[:, k] if p.item[0] == "f" else np.nan_to_num(values[:, k])
    return table


@kernel
def _pick_scalars(flat, counters, values):
    at = 0
    for row in range(values.shape[0]):
        k = 0
        for p in range(counters.shape[0]):
            if counters[p] == 0:
                values[row, k] = flat[at]
                k += 1
                at += 1
            else:
                at += 1 + np.int64(flat[at])


@kernel
def _copy_triangles(raw, stride, at, faces):
    """Take 32-bit indices out of fixed-size rows; returns the first row that is no triangle, or -1."""
    for f in range(faces.shape[0]):
        row = f * stride
        if raw[row + at - 1] != 3:
            return f
        for k in range(3):
            i = row + at + 4 * k
            faces[f, k] = np.int32(
                np.uint32(raw[i])
                | (np.uint32(raw[i + 1]) << np.uint32(8))
                | (np.uint32(raw[i + 2]) << np.uint32(16))
                | (np.uint32(raw[i + 3]) << np.uint32(24))
            )
    return -1


def write(mesh: Mesh, path: Path, progress: Progress, provenance: bool = False) -> None:
    """Write binary little-endian PLY in mm, positions in single precision, with colours when there are.

    When asked, each face says its provenance: 0 measured, 1 shifted, 2 made. Of a part that was hollowed on purpose
    each face says whether it is of an inner skin.

    Parameters
    ----------
    mesh : Mesh
    path : Path
    progress : Progress
    provenance : bool
    """
    progress.step(f"Writing {path.name}")
    within = mesh.attributes[HOLLOW].values > 0 if HOLLOW in mesh.attributes else np.zeros(0, dtype=bool)
    is_hollow = bool(within.any())
    said = [mesh.faces, np.repeat(mesh.provenance[:, None], 3, axis=1)] if provenance else [mesh.faces]
    runs = quad_runs(mesh, np.stack(said, axis=2))
    quads = sum(last - first for first, last, is_quads in runs if is_quads) // 2
    columns = [("x", "<f4"), ("y", "<f4"), ("z", "<f4")]
    names = ["property float x", "property float y", "property float z"]
    if mesh.colour is not None:
        columns += [("red", "u1"), ("green", "u1"), ("blue", "u1")]
        names += ["property uchar red", "property uchar green", "property uchar blue"]
    header = [
        "ply",
        "format binary_little_endian 1.0",
        "comment Tinsnip, millimetres",
        f"element vertex {len(mesh.vertices)}",
        *names,
        f"element face {len(mesh.faces) - quads}",
        "property list uchar int vertex_indices",
        *["property uchar provenance"] * provenance,
        *[f"property uchar {HOLLOW}"] * is_hollow,
        "end_header",
    ]
    table = np.empty(len(mesh.vertices), dtype=columns)
    for k, name in enumerate("xyz"):
        table[name] = mesh.vertices[:, k]
    if mesh.colour is not None:
        for k, name in enumerate(("red", "green", "blue")):
            table[name] = mesh.colour[:, k]
    with path.open("wb") as file:
        file.write(("\n".join(header) + "\n").encode("ascii"))
        table.tofile(file)
        for first, last, is_quads in runs:
            for begin in range(first, last, 1 << 20):
                progress.check()
                faces = mesh.faces[begin : min(begin + (1 << 20), last)]
                kinds, inner = mesh.provenance[begin : begin + len(faces)], None
                if is_hollow:
                    inner = within[faces[:, 0]]
                if is_quads:
                    faces, kinds = np.hstack([faces[::2], faces[1::2, 2:]]), kinds[::2]
                    inner = None if inner is None else inner[::2]
                own = [("p", "u1")] * provenance + [("h", "u1")] * is_hollow
                rows = np.empty(len(faces), dtype=[("n", "u1"), ("v", "<i4", faces.shape[1]), *own])
                rows["n"] = faces.shape[1]
                rows["v"] = faces
                if provenance:
                    rows["p"] = kinds
                if is_hollow:
                    rows["h"] = inner
                rows.tofile(file)


def size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes.

    Parameters
    ----------
    triangles, vertices : int
    coloured : bool
        Whether vertices have colours.
    """
    return 340 + 13 * triangles + (15 if coloured else 12) * vertices
