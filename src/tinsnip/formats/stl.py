"""STL, binary and ASCII (3D Systems, 1989): triangle soup without unit."""

from pathlib import Path

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats.numbers import parse_number
from tinsnip.formats.textrows import line_of, write_rows
from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress
from tinsnip.space.welding import weld_bits

__all__ = ["read", "rows_of", "size_of", "sniff", "triangles_in", "write"]

_RECORD = 50
"""Bytes of a triangle, by the format."""
_CHUNK = 200_000
"""Triangles between two looks at cancelling."""


def _declared(head: bytes) -> int:
    return int.from_bytes(head[80:84], "little")


def _is_ascii(head: bytes) -> bool:
    text = head.removeprefix(b"\xef\xbb\xbf").lstrip()[:2048].lower()
    return text.startswith(b"solid") and b"\0" not in text and (b"facet" in text or b"endsolid" in text)


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is an STL: its size fits its count, or it reads as the ASCII form.

    Parameters
    ----------
    head : bytes
        The first of the file.
    size : int
        Of the file, bytes.
    """
    if len(head) >= 84 and size == 84 + _RECORD * _declared(head):
        return True
    return _is_ascii(head) or (len(head) >= 84 and 0 < _declared(head) < 2**31 and _looks_binary(head))


def _looks_binary(head: bytes) -> bool:
    """Judge a binary STL of the wrong length by whether its first triangles read as sane numbers."""
    body = head[84:]
    n = min(20, len(body) // _RECORD)
    if n == 0:
        return False
    rows = np.frombuffer(body, np.uint8, n * _RECORD).reshape(n, _RECORD)[:, :48].copy().view("<f4")
    with np.errstate(invalid="ignore"):
        normals = np.linalg.norm(rows[:, :3].astype(float), axis=1)
    plausible = np.isfinite(rows).all() and (np.abs(rows) < 1e8).all()
    return bool(plausible and ((np.abs(normals - 1) < 0.01) | (normals == 0)).all())


def read(path: Path, progress: Progress) -> Mesh:
    """Read an STL; corners with exactly equal coordinates become one vertex.

    Parameters
    ----------
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        When the file is cut short or holds something else.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(4096)
    if size != 84 + _RECORD * _declared(head) and _is_ascii(head):
        corners = _ascii_corners(path, progress)
    else:
        corners = _binary_corners(path, size, _declared(head), progress)
    progress.step("Welding corners")
    return _welded(corners)


def _welded(corners: np.ndarray) -> Mesh:
    """Triangles by their corners, float32, shape (3 F, 3), as a mesh."""
    index, first = weld_bits(corners.view(np.uint32))
    vertices = corners[first].astype(np.float64)
    vertices += 0.0  # folds minus zero
    return Mesh(vertices, index.reshape(-1, 3))


def triangles_in(path: Path) -> int | None:
    """How many triangles a file says it holds; None where only reading tells.

    Parameters
    ----------
    path : Path
    """
    with path.open("rb") as file:
        head = file.read(4096)
    if path.stat().st_size != 84 + _RECORD * _declared(head) and _is_ascii(head):
        return None
    return _declared(head)


class _Records:
    """The triangles of a binary file, which are not all read; see `rows.Rows`."""

    def __init__(self, path: Path, count: int) -> None:
        kind = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("more", "<u2")])
        self.count = count
        self._rows = np.memmap(path, kind, "r", offset=84, shape=(count,))

    def places(self, begin: int, end: int) -> np.ndarray:
        return self._rows["corners"][begin:end, 0].astype(np.float64)

    def mesh(self, chosen: np.ndarray) -> Mesh:
        return _welded(np.ascontiguousarray(self._rows["corners"][chosen], dtype=np.float32).reshape(-1, 3))


def rows_of(path: Path) -> _Records:
    """The triangles of a binary STL, some at a time.

    Parameters
    ----------
    path : Path

    Raises
    ------
    BadInput
        When it is text, or cut short.
    """
    count, size = triangles_in(path), path.stat().st_size
    if count is None:
        raise BadInput("is text, which cannot be read in parts; export it as binary STL or PLY")
    _refuse_what_is_cut_short(size, count)
    return _Records(path, count)


def _refuse_what_is_cut_short(size: int, count: int) -> None:
    there = (size - 84) // _RECORD
    if count > there:
        raise BadInput(f"announces {count} triangles but ends after {there} (byte {size}); copy or export it again")


def _binary_corners(path: Path, size: int, count: int, progress: Progress) -> np.ndarray:
    _refuse_what_is_cut_short(size, count)
    state = progress.step(f"Reading {path.name}", count)
    corners = np.empty((3 * count, 3), dtype=np.float32)
    raw = corners.view(np.uint8).reshape(count, 36)
    with path.open("rb") as file:
        file.seek(84)
        for begin in range(0, count, _CHUNK):
            progress.check()
            n = min(_CHUNK, count - begin)
            block = np.frombuffer(file.read(n * _RECORD), dtype=np.uint8)
            raw[begin : begin + n] = block.reshape(n, _RECORD)[:, 12:48]
            state[1] = begin + n
    return corners


@kernel
def _ascii_vertices(text, out, slow):
    """Read the numbers after every word 'vertex'; returns (-1 or the byte of an error, corners, facets, slow).

    Facets are counted by the word 'endloop'.
    """
    end = text.shape[0]
    bits = np.zeros(1, dtype=np.uint64)
    value = bits.view(np.float64)
    n = facets = n_slow = 0
    i = 0
    while i < end:
        while i < end and text[i] <= 32:
            i += 1
        begin = i
        while i < end and text[i] > 32:
            i += 1
        length = i - begin
        if length == 6 and text[begin] | 32 == 118 and text[begin + 1] | 32 == 101 and text[begin + 2] | 32 == 114:
            if n >= out.shape[0]:
                return begin, n, facets, n_slow
            for k in range(3):
                while i < end and text[i] <= 32:
                    i += 1
                at = i
                i, how = parse_number(text, i, end, bits)
                if how == 2 or i == at:
                    return at, n, facets, n_slow
                out[n, k] = value[0]
                if how != 0:
                    if n_slow >= slow.shape[0]:
                        return at, n, facets, n_slow
                    slow[n_slow, 0] = at
                    slow[n_slow, 1] = 3 * n + k
                    n_slow += 1
            n += 1
        elif length == 7 and text[begin] | 32 == 101 and text[begin + 3] | 32 == 108 and text[begin + 6] | 32 == 112:
            facets += 1
            if n != 3 * facets:
                return begin, n, facets, n_slow
    return -1, n, facets, n_slow


def _ascii_corners(path: Path, progress: Progress) -> np.ndarray:
    progress.step(f"Reading {path.name}")
    text = np.memmap(path, np.uint8, "r")
    # a corner takes "vertex 0 0 0" and a line end at the least
    corners = np.empty((len(text) // 12 + 1, 3), dtype=np.float32)
    slow = np.empty((200_000, 2), dtype=np.int64)
    bad, n, facets, n_slow = _ascii_vertices(text, corners, slow)
    places = [int(p) for p in slow[:n_slow, 0]]
    for place, target in zip(places, slow[:n_slow, 1], strict=True):
        try:
            corners.ravel()[target] = float(bytes(text[place : place + 64]).split(maxsplit=1)[0])
        except ValueError:
            bad = place
            break
    if bad >= 0 and bad < len(text):
        number, shown = line_of(text, bad)
        hint = "write numbers with a decimal point" if "," in shown else "export it again"
        raise BadInput(f"line {number} ('{shown}') is not what an ASCII STL has there; {hint}")
    tail = bytes(text[-2000:]).lower()
    if bad >= 0 or n != 3 * facets or b"endsolid" not in tail:
        raise BadInput(f"ends in the middle, after {facets} whole triangles; copy or export it again")
    return corners[:n].copy()


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write binary STL, in mm, coordinates rounded to single precision.

    Parameters
    ----------
    mesh : Mesh
    path : Path
    progress : Progress
    """
    state = progress.step(f"Writing {path.name}", len(mesh.faces))
    points = mesh.vertices.astype("<f4")
    with path.open("wb") as file:
        file.write(b"Tinsnip, millimetres".ljust(80))
        file.write(np.uint32(len(mesh.faces)).astype("<u4").tobytes())
        for begin in range(0, len(mesh.faces), _CHUNK):
            progress.check()
            faces = mesh.faces[begin : begin + _CHUNK]
            normals = face_vectors(mesh.vertices, faces)
            length = np.linalg.norm(normals, axis=1)
            normals /= np.where(length > 0, length, 1.0)[:, None]
            block = np.zeros((len(faces), _RECORD), dtype=np.uint8)
            block[:, :12] = normals.astype("<f4").view(np.uint8).reshape(-1, 12)
            block[:, 12:48] = points[faces].reshape(-1, 9).view(np.uint8)
            file.write(block.tobytes())
            state[1] = begin + len(faces)


def write_text(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write ASCII STL, in mm, coordinates rounded to single precision."""
    progress.step(f"Writing {path.name}", len(mesh.faces))
    points = mesh.vertices.astype("<f4").astype(np.float64)
    words = (b"facet normal ", b" ", b" ", b"\n outer loop\n  vertex ", b" ", b" ", b"\n  vertex ", b" ", b" ",
             b"\n  vertex ", b" ", b" ", b"\n endloop\nendfacet\n")  # fmt: skip
    with path.open("wb") as file:
        file.write(b"solid Tinsnip, millimetres\n")
        for begin in range(0, len(mesh.faces), _CHUNK):
            faces = mesh.faces[begin : begin + _CHUNK]
            normals = face_vectors(mesh.vertices, faces)
            length = np.linalg.norm(normals, axis=1)
            normals = (normals / np.where(length > 0, length, 1.0)[:, None]).astype("<f4")
            rows = np.column_stack([normals.astype(np.float64), points[faces].reshape(-1, 9)])
            write_rows(file, rows, np.empty((len(rows), 0), dtype=np.int32), words, progress)
        file.write(b"endsolid Tinsnip\n")


def text_size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes as ASCII STL, about: text, and single precision written out in full."""
    return 44 + 300 * triangles


def size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes as binary STL, which holds no colour.

    Parameters
    ----------
    triangles, vertices : int
    coloured : bool
        Whether vertices have colours.
    """
    return 84 + _RECORD * triangles
