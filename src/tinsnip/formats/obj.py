"""OBJ (Wavefront 1989): text; vertices with optional colours, faces of any size as fans."""

from itertools import pairwise
from pathlib import Path

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import Progress

__all__ = ["read", "size_of", "sniff", "write"]

_CHUNK = 100_000


def sniff(head: bytes, size: int) -> bool:
    """Whether a file reads as an OBJ: text whose lines begin with its keywords."""
    if b"\0" in head:
        return False
    known = (b"v ", b"v\t", b"vn ", b"vt ", b"f ", b"o ", b"g ", b"s ", b"#", b"mtllib", b"usemtl")
    lines = [line.strip() for line in head.splitlines()[:-1] or head.splitlines()]
    lines = [line for line in lines if line][:50]
    statements = [line for line in lines if not line.startswith(b"#")]
    return bool(statements) and all(line.startswith(known) for line in lines)


def read(path: Path, progress: Progress) -> Mesh:
    """Read vertices (with colours when every one has them) and faces of an OBJ.

    Raises
    ------
    BadInput
        Naming the line that cannot be read.
    """
    state = progress.step(f"Reading {path.name}", path.stat().st_size)
    rows: list[list[float]] = []
    faces: list[tuple[int, int, int]] = []
    with path.open("rb") as file:
        for number, line in enumerate(file, 1):
            if number % 65536 == 0:
                progress.check()
                state[1] = file.tell()
            words = line.split()
            if not words:
                continue
            try:
                if words[0] == b"v":
                    rows.append([float(w) for w in words[1:7]])
                    if len(words) < 4:
                        raise ValueError
                elif words[0] == b"f":
                    corners = [_index(w, len(rows)) for w in words[1:]]
                    if len(corners) < 3:
                        raise ValueError
                    faces.extend((corners[0], b, c) for b, c in pairwise(corners[1:]))
            except ValueError:
                shown = line.strip()[:60].decode("utf-8", "replace")
                hint = "use decimal points" if b"," in line else "export it again"
                raise BadInput(f"line {number} ('{shown}') cannot be read; {hint}") from None
    if not rows:
        raise BadInput("has no vertices; export it again")
    coloured = min(len(r) for r in rows) >= 6
    table = np.array([r[: 6 if coloured else 3] for r in rows])
    triangles = np.array(faces, dtype=np.int64).reshape(-1, 3)
    if len(triangles) and triangles.max() >= len(rows):
        raise BadInput(f"a face names vertex {triangles.max() + 1} of {len(rows)}; export it again")
    attributes = {}
    if coloured:
        colour = np.rint(np.clip(table[:, 3:], 0, 1) * 255).astype(np.uint8)
        attributes["colour"] = Attribute(Domain.VERTEX, colour)
    return Mesh(table[:, :3], triangles, None, attributes)


def _index(word: bytes, so_far: int) -> int:
    i = int(word.split(b"/", 1)[0])
    if i == 0 or i < -so_far:
        raise ValueError
    return i - 1 if i > 0 else so_far + i


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write vertices, with colours when there are, and triangles; numbers in shortest exact form."""
    state = progress.step(f"Writing {path.name}", len(mesh.vertices) + len(mesh.faces))
    with path.open("w", encoding="ascii") as file:
        file.write("# Tinsnip, millimetres\n")
        for begin in range(0, len(mesh.vertices), _CHUNK):
            progress.check()
            points = mesh.vertices[begin : begin + _CHUNK].tolist()
            if mesh.colour is None:
                file.writelines(f"v {x!r} {y!r} {z!r}\n" for x, y, z in points)
            else:
                shades = (mesh.colour[begin : begin + _CHUNK] / 255.0).round(4).tolist()
                file.writelines(
                    f"v {x!r} {y!r} {z!r} {r} {g} {b}\n" for (x, y, z), (r, g, b) in zip(points, shades, strict=True)
                )
            state[1] += len(points)
        for begin in range(0, len(mesh.faces), _CHUNK):
            progress.check()
            faces = (mesh.faces[begin : begin + _CHUNK] + 1).tolist()
            file.writelines(f"f {a} {b} {c}\n" for a, b, c in faces)
            state[1] += len(faces)


def size_of(triangles: int, vertices: int) -> int:
    """Bytes that a mesh takes, about."""
    return 22 * triangles + 60 * vertices
