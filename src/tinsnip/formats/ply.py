"""PLY (Turk 1994), binary little-endian: vertices with colours, polygons as triangles."""

from pathlib import Path

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import Progress

__all__ = ["read", "size_of", "sniff", "write"]

_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "<i2", "int16": "<i2",
    "ushort": "<u2", "uint16": "<u2", "int": "<i4", "int32": "<i4", "uint": "<u4", "uint32": "<u4",
    "float": "<f4", "float32": "<f4", "double": "<f8", "float64": "<f8",
}  # fmt: skip


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is a PLY."""
    return head.startswith((b"ply\n", b"ply\r"))


class _Element:
    def __init__(self, name: str, count: int) -> None:
        self.name = name
        self.count = count
        self.scalars: list[tuple[str, str]] = []
        self.lists: list[tuple[str, str, str]] = []

    @property
    def row(self) -> np.dtype:
        return np.dtype(self.scalars)


def _header(path: Path) -> tuple[str, list[_Element], int]:
    with path.open("rb") as file:
        head = file.read(1 << 16)
    end = head.find(b"end_header")
    if end < 0:
        raise BadInput("its header has no end; export it again")
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
                elements[-1].lists.append((words[4], _TYPES[words[2]], _TYPES[words[3]]))
            elif words[0] == "property":
                elements[-1].scalars.append((words[2], _TYPES[words[1]]))
            else:
                raise KeyError(words[0])
        except (IndexError, KeyError, ValueError):
            raise BadInput(f"header line {number} ('{line.strip()[:60]}') is not PLY; export it again") from None
    body = head.find(b"\n", end)
    return form, elements, (body + 1 if body >= 0 else len(head))


def read(path: Path, progress: Progress) -> Mesh:
    """Read a binary little-endian PLY of vertices and triangles.

    Raises
    ------
    BadInput
        When it is another kind of PLY, cut short, or its indices do not fit.
    """
    form, elements, offset = _header(path)
    if form != "binary_little_endian":
        raise BadInput(f"is PLY of the kind '{form}'; export it as binary little-endian PLY")
    size = path.stat().st_size
    vertices = colour = faces = provenance = None
    for element in elements:
        progress.check()
        left = size - offset
        row = element.row
        least = row.itemsize + sum(np.dtype(c).itemsize for _, c, _ in element.lists)
        if element.count < 0 or element.count * least > left:
            raise BadInput(
                f"announces {element.count} of '{element.name}' but ends at byte {size}; copy or export it again"
            )
        if element.name == "vertex" and not element.lists:
            table = np.fromfile(path, row, element.count, offset=offset)
            offset += table.nbytes
            vertices, colour = _vertex_columns(table)
        elif element.name == "face" and len(element.lists) == 1 and not element.scalars:
            faces, offset = _triangles(path, element, offset, None)
        elif element.name == "face" and len(element.lists) == 1:
            faces, offset = _triangles(path, element, offset, row)
        elif not element.lists:
            offset += element.count * row.itemsize
        else:
            raise BadInput(f"its element '{element.name}' has lists Tinsnip does not know; leave it out")
    if vertices is None or faces is None:
        raise BadInput("has no vertices with faces; export the scan as a mesh, not as points")
    if len(faces) and (faces.min() < 0 or faces.max() >= len(vertices)):
        raise BadInput(f"a face names vertex {faces.max()} of {len(vertices)}; export it again")
    attributes = {} if colour is None else {"colour": Attribute(Domain.VERTEX, colour)}
    return Mesh(vertices, faces, provenance, attributes)


def _vertex_columns(table: np.ndarray) -> tuple[np.ndarray, np.ndarray | None]:
    names = table.dtype.names or ()
    if not {"x", "y", "z"} <= set(names):
        raise BadInput("its vertices have no x, y, z; export it again")
    vertices = np.empty((len(table), 3))
    for k, name in enumerate("xyz"):
        vertices[:, k] = table[name]
    if not {"red", "green", "blue"} <= set(names):
        return vertices, None
    colour = np.empty((len(table), 3), dtype=np.uint8)
    for k, name in enumerate(("red", "green", "blue")):
        column = table[name]
        colour[:, k] = np.clip(column * 255.0, 0, 255) if column.dtype.kind == "f" else column
    return vertices, colour


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


def _triangles(path: Path, element: _Element, offset: int, row: np.dtype | None) -> tuple[np.ndarray, int]:
    """Read the faces; scalars beside the list are taken to stand after it."""
    _, count_type, index_type = element.lists[0]
    if count_type != "u1" or index_type not in ("<i4", "<u4"):
        raise BadInput("its faces are not lists of 32-bit indices; export it as plain triangles")
    stride = 13 + (row.itemsize if row is not None else 0)
    faces = np.empty((element.count, 3), dtype=np.int32)
    raw = np.fromfile(path, np.uint8, element.count * stride, offset=offset)
    if len(raw) < element.count * stride:
        raise BadInput("ends within its faces, or they are not all triangles; export it as triangles")
    bad = _copy_triangles(raw, stride, 1, faces)
    if bad >= 0:
        raise BadInput(f"face {bad} is not a triangle; export it as triangles")
    return faces, offset + raw.nbytes


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write binary little-endian PLY in mm, positions in single precision, with colours when there are."""
    progress.step(f"Writing {path.name}")
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
        f"element face {len(mesh.faces)}",
        "property list uchar int vertex_indices",
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
        for begin in range(0, len(mesh.faces), 1 << 20):
            progress.check()
            faces = mesh.faces[begin : begin + (1 << 20)]
            rows = np.empty(len(faces), dtype=[("n", "u1"), ("v", "<i4", 3)])
            rows["n"] = 3
            rows["v"] = faces
            rows.tofile(file)


def size_of(triangles: int, vertices: int) -> int:
    """Bytes that a mesh takes, with colours."""
    return 300 + 13 * triangles + 15 * vertices
