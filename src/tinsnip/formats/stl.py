"""STL, binary and ASCII (3D Systems, 1989): triangle soup without unit."""

import re
from pathlib import Path

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.welding import weld_bits
from tinsnip.progress import Progress

__all__ = ["read", "size_of", "sniff", "write"]

_RECORD = 50
_CHUNK = 200_000
_VERTEX = re.compile(rb"\bvertex\s+(\S+)\s+(\S+)\s+(\S+)", re.IGNORECASE)


def _declared(head: bytes) -> int:
    return int.from_bytes(head[80:84], "little")


def _is_ascii(head: bytes) -> bool:
    text = head.lstrip()[:2048].lower()
    return text.startswith(b"solid") and b"\0" not in text and (b"facet" in text or b"endsolid" in text)


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is an STL: its size fits its count, or it reads as the ASCII form."""
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
    normals = np.linalg.norm(rows[:, :3].astype(float), axis=1)
    plausible = np.isfinite(rows).all() and (np.abs(rows) < 1e8).all()
    return bool(plausible and ((np.abs(normals - 1) < 0.01) | (normals == 0)).all())


def read(path: Path, progress: Progress) -> Mesh:
    """Read an STL; corners with exactly equal coordinates become one vertex.

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
    index, first = weld_bits(corners.view(np.uint32))
    vertices = corners[first].astype(np.float64)
    vertices += 0.0  # folds minus zero
    return Mesh(vertices, index.reshape(-1, 3))


def _binary_corners(path: Path, size: int, count: int, progress: Progress) -> np.ndarray:
    there = (size - 84) // _RECORD
    if count > there:
        raise BadInput(f"announces {count} triangles but ends after {there} (byte {size}); copy or export it again")
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


def _ascii_corners(path: Path, progress: Progress) -> np.ndarray:
    state = progress.step(f"Reading {path.name}", path.stat().st_size)
    blocks: list[np.ndarray] = []
    rest, ended = b"", False
    with path.open("rb") as file:
        while text := file.read(1 << 24):
            progress.check()
            state[1] += len(text)
            text = rest + text
            cut = text.lower().rfind(b"endfacet")
            if cut < 0:
                rest = text
                continue
            body, rest = text[:cut], text[cut:]
            blocks.append(_ascii_block(body))
    ended = b"endsolid" in rest.lower()
    if _VERTEX.search(rest) or not ended:
        n = sum(len(b) for b in blocks) // 3
        raise BadInput(f"ends in the middle, after {n} whole triangles; copy or export it again")
    if not blocks:
        return np.empty((0, 3), dtype=np.float32)
    return np.concatenate(blocks)


def _ascii_block(body: bytes) -> np.ndarray:
    found = _VERTEX.findall(body)
    facets = len(re.findall(rb"\bouter\s+loop\b", body, re.IGNORECASE))
    if len(found) != 3 * facets:
        raise BadInput(f"has a facet without three vertices ({len(found)} in {facets} facets); export it again")
    flat = [number for row in found for number in row]
    try:
        return np.array(flat, dtype="S").astype(np.float64).astype(np.float32).reshape(-1, 3)
    except ValueError:
        for number in flat:
            try:
                float(number)
            except ValueError:
                shown = number.decode("ascii", "replace")
                hint = "use a decimal point" if b"," in number else "export it again"
                raise BadInput(f"'{shown}' is not a number; {hint}") from None
        raise


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write binary STL, in mm, coordinates rounded to single precision."""
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


def size_of(triangles: int, vertices: int) -> int:
    """Bytes that a mesh takes as binary STL."""
    return 84 + _RECORD * triangles
