"""OFF (object file format): text; vertices with optional colours, polygons of any size."""

import re
from pathlib import Path

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats.textrows import pick_lists, text_rows, write_rows
from tinsnip.kernels import kernel
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import Progress
from tinsnip.space.facets import triangulate_polygons

__all__ = ["read", "size_of", "sniff", "write"]

_KIND = re.compile(rb"(?:\xef\xbb\xbf)?(?:\s*#[^\n]*\n)*\s*(ST)?(C)?(N)?OFF(?=\s)")


def sniff(head: bytes, size: int) -> bool:
    """Whether a file is an OFF.

    Parameters
    ----------
    head : bytes
        The first of the file.
    size : int
        Of the file, bytes.
    """
    found = _KIND.match(head)
    return found is not None and head[found.end() :].split(None, 1)[:1] != [b"BINARY"]


@kernel
def _vertices_of_line(text, i):
    """How many words the next line of numbers has."""
    end = text.shape[0]
    while i < end:
        words = 0
        inside = False
        while i < end and text[i] != 10:
            if text[i] == 35:
                while i < end and text[i] != 10:
                    i += 1
                break
            blank = text[i] <= 32
            if not blank and not inside:
                words += 1
            inside = not blank
            i += 1
        i += 1
        if words:
            return words
    return 0


@kernel
def _skip_line(text, i):
    while i < text.shape[0] and text[i] != 10:
        i += 1
    return i + 1


@kernel
def _faces_by_line(text, i, count, out):
    """Read each line's count and indices, and pass over the colours after them; -1, or the byte of an error."""
    end = text.shape[0]
    n = 0
    for _ in range(count):
        while i < end:
            if text[i] == 35:
                while i < end and text[i] != 10:
                    i += 1
            elif text[i] <= 32:
                i += 1
            else:
                break
        left = -1
        if i >= end:
            return i, n
        while left != 0:
            while i < end and (text[i] == 32 or text[i] == 9 or text[i] == 13):
                i += 1
            if i >= end or text[i] < 48 or text[i] > 57 or n >= out.shape[0]:
                return i, n
            value = np.int64(0)
            while i < end and 48 <= text[i] <= 57:
                value = min(value * 10 + np.int64(text[i] - 48), np.int64(2147483647))
                i += 1
            out[n] = value
            n += 1
            left = value if left < 0 else left - 1
        while i < end and text[i] != 10:
            i += 1
    return -1, n


def read(path: Path, progress: Progress) -> Mesh:
    """Read an OFF, with colours where every vertex has them.

    Parameters
    ----------
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        When it is cut short or its indices do not fit.
    """
    progress.step(f"Reading {path.name}")
    text = np.memmap(path, np.uint8, "r")
    kind = _KIND.match(bytes(text[: 1 << 20]))
    if kind is None:
        raise BadInput("does not begin as an OFF; export it again")
    on_line = int(_vertices_of_line(text, kind.end()))
    if on_line <= 3:
        return _read(text, kind, on_line != 2, False)
    try:  # no line has a meaning: only the rest tells whether the number of edges is there
        return _read(text, kind, True, True)
    except BadInput as error:
        try:
            return _read(text, kind, False, True)
        except BadInput:
            raise error from None


def _read(text: np.ndarray, kind: re.Match, edges: bool, flowing: bool) -> Mesh:
    """Read what follows the keyword, with or without the number of edges, by lines or as they flow."""
    textured, coloured, with_normals = (kind[k] is not None for k in (1, 2, 3))
    at = kind.end()
    counts, ends = text_rows(text, at, 1, np.zeros(2, dtype=np.int64), "line of counts")
    if not np.isfinite(counts).all():
        raise BadInput("its counts are no numbers; export it again")
    n_vertices, n_faces = int(counts[0]), int(counts[1])
    at = int(ends[0])
    if edges:  # how many there are, which is often left out
        _, ends = text_rows(text, at, 1, np.zeros(1, dtype=np.int64), "line of counts")
        at = int(ends[0])
    left = len(text) - at
    if n_vertices <= 0 or n_faces <= 0 or 6 * n_vertices > left + 1 or 2 * n_faces > left:
        raise BadInput(f"announces {n_vertices} vertices and {n_faces} faces in {left} bytes; export it again")
    least = 3 + 3 * with_normals + 2 * textured + 4 * coloured
    at = at if flowing else int(_skip_line(text, at))
    width = least if flowing else int(_vertices_of_line(text, at))
    flowing |= width > 16
    width = least if flowing else width
    if not 3 <= width <= 16:
        raise BadInput(f"its vertices have {width} numbers each; export it again")
    flat, ends = text_rows(text, at, n_vertices, np.zeros(width, dtype=np.int64), "vertex")
    rows = flat.reshape(n_vertices, width)
    if flowing:
        numbers, ends = text_rows(text, int(ends[0]), n_faces, np.ones(1, dtype=np.int64), "face")
        if _vertices_of_line(text, int(ends[0])):
            raise BadInput("goes on beyond its last face; export it again")
        flat_faces, used = np.clip(np.nan_to_num(numbers, nan=-1.0), -1, 2**31).astype(np.int64), len(numbers)
    else:
        flat_faces = np.empty(left, dtype=np.int64)
        bad, used = _faces_by_line(text, int(ends[0]), n_faces, flat_faces)
        if bad >= 0:
            raise BadInput(f"a face at byte {int(bad)} cannot be read; copy or export it again")
    lengths, corners = np.empty(n_faces, dtype=np.int64), np.empty(used, dtype=np.int64)
    used = pick_lists(flat_faces[:used].astype(np.float64), n_faces, np.ones(1, dtype=np.int64), 0, lengths, corners)
    corners = corners[:used]
    if (lengths < 3).any():
        raise BadInput(f"face {int(np.argmin(lengths))} has fewer than three corners; export it again")
    if corners.min() < 0 or corners.max() >= n_vertices:
        raise BadInput(f"a face names vertex {corners.max()} of {n_vertices}; export it again")
    vertices = np.ascontiguousarray(rows[:, :3])
    faces, _, _ = triangulate_polygons(vertices, np.concatenate([[0], np.cumsum(lengths)]), corners)
    attributes = {}
    if coloured and width >= 6:
        first = 6 if with_normals and width >= 9 else 3
        shades = np.nan_to_num(rows[:, first : first + 3])
        shades = shades * 255 if shades.max() <= 1.0 and (shades % 1 != 0).any() else shades
        colour = np.rint(np.clip(shades, 0, 255)).astype(np.uint8)
        attributes["colour"] = Attribute(Domain.VERTEX, colour)
    return Mesh(vertices, faces, None, attributes)


def write(mesh: Mesh, path: Path, progress: Progress) -> None:
    """Write OFF in mm, with colours (COFF) when there are; numbers in shortest exact form.

    Parameters
    ----------
    mesh : Mesh
    path : Path
    progress : Progress
    """
    progress.step(f"Writing {path.name}", len(mesh.vertices) + len(mesh.faces))
    none = np.empty((len(mesh.vertices), 0), dtype=np.int32)
    with path.open("wb") as file:
        file.write(b"OFF\n" if mesh.colour is None else b"COFF\n")
        file.write(f"{len(mesh.vertices)} {len(mesh.faces)} 0\n".encode())
        if mesh.colour is None:
            write_rows(file, mesh.vertices, none, (b"", b" ", b" ", b"\n"), progress)
        else:
            shades = mesh.colour.astype(np.int32)
            write_rows(file, mesh.vertices, shades, (b"", *[b" "] * 5, b" 255\n"), progress)
        no_reals = np.empty((len(mesh.faces), 0))
        write_rows(file, no_reals, mesh.faces, (b"3 ", b" ", b" ", b"\n"), progress)


def size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes, about: text, with the digits of its vertices' numbers.

    Parameters
    ----------
    triangles, vertices : int
    coloured : bool
        Whether vertices have colours.
    """
    return (5 + 3 * len(str(vertices))) * triangles + (73 if coloured else 58) * vertices
