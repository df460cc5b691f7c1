"""OBJ (Wavefront 1989): vertices with optional colours, polygons, groups, materials with texture.

Lines are read by compiled code, in pieces on several threads; numbers exactly.
"""

import io
import re
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path

import numpy as np
from PIL import Image

from tinsnip.errors import BadInput
from tinsnip.formats.numbers import GOOD, MALFORMED, parse_number, parse_whole, write_number
from tinsnip.formats.textrows import line_of, write_rows
from tinsnip.formats.textures import material_images, owners_of_images, sample_colours
from tinsnip.kernels import kernel
from tinsnip.mesh import RELIEF, Attribute, Domain, Mesh
from tinsnip.mesh.measures import vertex_normals
from tinsnip.mesh.quads import QUAD, of_polygons, quad_runs
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import DONE, Progress
from tinsnip.space.facets import triangulate_polygons
from tinsnip.space.welding import weld_bits
from tinsnip.threads import cores

__all__ = ["read", "size_of", "sniff", "write"]

_PIECE = 4_000_000
"""Bytes that a thread parses at once."""
_KEYWORDS = frozenset(
    b"v vn vt vp f fo l p o g s mg mtllib usemtl maplib usemap deg bmat step cstype curv curv2 surf parm trim hole "
    b"scrv sp end con bevel c_interp d_interp lod shadow_obj trace_obj ctech stech call csh".split()
)
_CONTINUED = re.compile(rb"(#[^\n]*)|\\\r?\n")
"""A comment, in which a backslash means nothing, or the end of a line that goes on."""
_WRITE_ROWS = 100_000
"""Rows of text that are made at once."""


def sniff(head: bytes, size: int) -> bool:
    """Whether a file reads as an OBJ: text whose lines begin with its keywords.

    Parameters
    ----------
    head : bytes
        The first of the file.
    size : int
        Of the file, bytes.
    """
    if b"\0" in head:
        return False
    head = _CONTINUED.sub(lambda m: m[1] or b" ", head.removeprefix(b"\xef\xbb\xbf"))
    lines = [line.split(None, 1) for line in head.splitlines()[:-1] or head.splitlines()]
    words = [line[0] for line in lines if line][:50]
    statements = [word for word in words if not word.startswith(b"#")]
    return bool(statements) and all(word in _KEYWORDS for word in statements)


# what a line is
_OTHER, _V, _VT, _F, _NAME, _FREE = 0, 1, 2, 3, 4, 5


@kernel
def _kind(text, i, end):
    """What the line at byte i is, and where its arguments begin."""
    a = text[i]
    b = text[i + 1] if i + 1 < end else np.uint8(32)
    if a == 118 and b <= 32:
        return _V, i + 1
    if a == 102 and b <= 32:
        return _F, i + 1
    if a == 118 and b == 116:
        return _VT, i + 2
    if (a == 103 or a == 111) and b <= 32:
        return _NAME, i
    if (a == 117 and b == 115) or (a == 109 and b == 116):
        return _NAME, i
    if (a == 99 or a == 115) and b == 117:
        return _FREE, i
    return _OTHER, i


@kernel
def _count(text, begin, end, counts):
    """Count vertices, texture points, faces, corners and naming lines; whether a backslash may continue a line."""
    i = begin
    continued = False
    while i < end:
        while i < end and (text[i] == 32 or text[i] == 9 or text[i] == 13):
            i += 1
        if i >= end:
            break
        kind, j = _kind(text, i, end)
        if kind == _F:
            inside = False
            while j < end and text[j] != 10 and text[j] != 35:
                blank = text[j] <= 32
                if not blank and not inside:
                    counts[3] += 1
                inside = not blank
                continued |= text[j] == 92
                j += 1
            counts[2] += 1
        elif kind == _V:
            counts[0] += 1
        elif kind == _VT:
            counts[1] += 1
        elif kind == _NAME:
            counts[4] += 1
        elif kind == _FREE:
            counts[5] += 1
        i = j
        while i < end and text[i] != 10:
            continued |= text[i] == 92
            i += 1
        i += 1
    return continued


@kernel
def _parse(text, begin, end, base, points, shades, uvs, sizes, corners, texture, names, slow, n_slow):
    """Read a piece into the whole's arrays, from the numbers `base` on.

    Returns -1, or the byte of a line that cannot be read. Numbers left to Python go to `slow` as (byte,
    array, place).
    """
    v, t, f, c, n = base[0], base[1], base[2], base[3], base[4]
    bits = np.zeros(1, dtype=np.uint64)
    flat, shade, uv = points.ravel().view(np.uint64), shades.ravel(), uvs.ravel().view(np.uint64)
    value = bits.view(np.float64)
    i = begin
    while i < end:
        while i < end and (text[i] == 32 or text[i] == 9 or text[i] == 13):
            i += 1
        if i >= end:
            break
        line = i
        kind, j = _kind(text, i, end)
        if kind in (_V, _VT):
            seen = 0
            most = 7 if kind == _V else 2
            while seen < most:
                while j < end and (text[j] == 32 or text[j] == 9 or text[j] == 13):
                    j += 1
                if j >= end or text[j] == 10 or text[j] == 35:
                    break
                at = j
                j, how = parse_number(text, j, end, bits)
                if how == MALFORMED:
                    return line
                if kind == _V and seen < 3:
                    flat[3 * v + seen] = bits[0]
                elif kind == _V and seen < 6:
                    shade[3 * v + seen - 3] = value[0]
                elif kind == _VT:
                    uv[2 * t + seen] = bits[0]
                if how != GOOD:
                    if n_slow[0] >= slow.shape[0]:
                        return line
                    if kind == _VT or seen < 3:
                        slow[n_slow[0], 0] = at
                        slow[n_slow[0], 1] = 1 if kind == _VT else 0
                        slow[n_slow[0], 2] = 2 * t + seen if kind == _VT else 3 * v + seen
                        n_slow[0] += 1
                seen += 1
            if kind == _V:
                if seen < 3:
                    return line
                if seen < 6:
                    shade[3 * v] = np.nan
                v += 1
            else:
                if seen < 2:
                    uv[2 * t + 1] = np.uint64(0)
                t += 1
        elif kind == _F:
            count = 0
            while True:
                while j < end and (text[j] == 32 or text[j] == 9 or text[j] == 13):
                    j += 1
                if j >= end or text[j] == 10 or text[j] == 35:
                    break
                j, index, known = parse_whole(text, j, end)
                if not known or index == 0 or index < -v or index > 2147483647:
                    return line
                corners[c] = index - 1 if index > 0 else v + index
                texture[c] = -1
                if j < end and text[j] == 47:
                    j += 1
                    if j < end and text[j] != 47:
                        j, index, known = parse_whole(text, j, end)
                        if known:
                            texture[c] = index - 1 if index > 0 else t + index
                    while j < end and text[j] > 35:
                        j += 1
                if j < end and text[j] > 35:
                    return line
                c += 1
                count += 1
            if count < 3:
                return line
            sizes[f] = count
            f += 1
        elif kind == _NAME:
            names[n, 0] = line
            names[n, 1] = f
            n += 1
        i = j
        while i < end and text[i] != 10:
            i += 1
        i += 1
    return -1


def _line_error(text: np.ndarray, at: int) -> BadInput:
    number, shown = line_of(text, at)
    hint = "write numbers with a decimal point" if "," in shown else "export it again"
    return BadInput(f"line {number} ('{shown}') cannot be read; {hint}")


def _pieces(text: np.ndarray) -> list[tuple[int, int]]:
    """Cut a text at line ends into pieces of about equal size."""
    cuts = [0]
    while cuts[-1] < len(text):
        at = min(len(text), cuts[-1] + _PIECE)
        while at < len(text):
            found = np.flatnonzero(text[at : at + 65536] == 10)
            if len(found):
                at += int(found[0]) + 1
                break
            at = min(len(text), at + 65536)
        cuts.append(at)
    return list(pairwise(cuts))


def read(path: Path, progress: Progress) -> Mesh:
    """Read an OBJ: geometry, colours, groups and materials (on triangles), texture points (on corners).

    Parameters
    ----------
    path : Path
    progress : Progress

    Raises
    ------
    BadInput
        Naming the line that cannot be read.
    """
    text = np.fromfile(path, np.uint8)
    text = text[3:] if text[:3].tobytes() == b"\xef\xbb\xbf" else text
    pieces = _pieces(text)
    state = progress.step(f"Reading {path.name}", 2 * len(pieces))
    counts = np.zeros((len(pieces), 6), dtype=np.int64)

    def each(work: Callable[[int], int | None]) -> list[int | None]:
        with ThreadPoolExecutor(cores()) as pool:
            results = []
            for future in [pool.submit(work, k) for k in range(len(pieces))]:
                results.append(future.result())
                state[1] += 1
                progress.check()
            return results

    if any(each(lambda k: _count(text, *pieces[k], counts[k]))):
        joined = _CONTINUED.sub(lambda m: m[1] or b" " * len(m[0]), text.tobytes())
        text = np.frombuffer(joined, np.uint8)
        pieces = _pieces(text)
        counts = np.zeros((len(pieces), 6), dtype=np.int64)
        each(lambda k: _count(text, *pieces[k], counts[k]))
    total = counts.sum(axis=0)
    if total[5]:
        progress.notes.append(f"{total[5]} free-form curves and surfaces; only triangles and polygons are read")
    if total[0] == 0 or total[2] == 0:
        raise BadInput("has no vertices with faces; export the scan as a mesh, not as points")
    base = np.concatenate([np.zeros((1, 6), dtype=np.int64), np.cumsum(counts, axis=0)[:-1]])
    points, shades = np.empty((total[0], 3)), np.empty((total[0], 3), dtype=np.float32)
    uvs = np.empty((total[1], 2))
    sizes, corners = np.empty(total[2], dtype=np.int32), np.empty(total[3], dtype=np.int32)
    texture, names = np.empty(total[3], dtype=np.int32), np.empty((total[4], 2), dtype=np.int64)
    slow = [np.empty((65536, 3), dtype=np.int64) for _ in pieces]
    n_slow = [np.zeros(1, dtype=np.int64) for _ in pieces]
    bad = each(
        lambda k: _parse(
            text, *pieces[k], base[k], points, shades, uvs, sizes, corners, texture, names, slow[k], n_slow[k]
        )
    )
    first_bad = next((b for b in bad if b is not None and b >= 0), None)
    if first_bad is not None:
        raise _line_error(text, int(first_bad))
    for k in range(len(pieces)):
        for at, which, place in slow[k][: n_slow[k][0]]:
            token = text[at : at + 64].tobytes().split(maxsplit=1)[0]
            try:
                (uvs if which else points).ravel()[place] = float(token)
            except ValueError:
                raise _line_error(text, int(at)) from None
    if corners.max(initial=0) >= total[0]:
        at = int(np.searchsorted(np.cumsum(sizes), int(np.argmax(corners)), side="right"))
        raise BadInput(f"face {at + 1} names vertex {corners.max() + 1} of {total[0]}; export it again")
    start = np.concatenate([[0], np.cumsum(sizes)])
    faces, polygon, source = triangulate_polygons(points, start, corners)
    attributes, libraries = _named(text, names, polygon, len(sizes))
    if not np.isnan(shades[:, 0]).any():
        largest = (
            255.0 if shades.max(initial=0.0) > 1.0 else 1.0
        )  # the whole file tells whether they run to 1 or to 255
        colour = np.rint(np.clip(shades / largest, 0, 1) * 255).astype(np.uint8)
        attributes["colour"] = Attribute(Domain.VERTEX, colour)
    quad = of_polygons(np.diff(start), polygon)
    if quad is not None:
        attributes[QUAD] = quad
    at_corner = texture[source]
    if total[1] and (at_corner >= 0).all() and at_corner.max() < total[1]:
        images = material_images(path, libraries, attributes.get("material"))
        attributes["texture"] = Attribute(Domain.CORNER, uvs[at_corner].astype(np.float32), images)
        if images and "colour" not in attributes:
            colour = sample_colours(faces, len(points), uvs[at_corner], images, attributes.get("material"))
            attributes["colour"] = Attribute(Domain.VERTEX, colour)
    return Mesh(points, faces, None, attributes)


def _named(
    text: np.ndarray, names: np.ndarray, polygon: np.ndarray, faces: int
) -> tuple[dict[str, Attribute], list[str]]:
    """Groups and materials on the triangles, with their lists of names, and the material libraries named."""
    spans: dict[str, list[tuple[int, str]]] = {"group": [], "material": []}
    libraries: list[str] = []
    for at, face in names.tolist():
        words = text[at : at + 1024].tobytes().split(b"\n")[0].split(maxsplit=1)
        name = words[1].strip().decode("utf-8", "replace") if len(words) > 1 else ""
        if words[0] in (b"g", b"o"):
            spans["group"].append((face, name))
        elif words[0] == b"usemtl":
            spans["material"].append((face, name))
        elif words[0] == b"mtllib":
            libraries.append(name)
    attributes = {}
    for kind, found in spans.items():
        if not any(face < faces for face, _ in found):
            continue
        known = list(dict.fromkeys(name for _, name in found))
        of_face = np.full(faces, -1, dtype=np.int32)
        for face, name in found:
            of_face[face:] = known.index(name)
        attributes[kind] = Attribute(Domain.TRIANGLE, of_face[polygon], tuple(known))
    return attributes, libraries


@kernel
def _write_coloured(points, shades, table, begin, end, out):
    at = 0
    flat = points.ravel().view(np.uint64)
    for v in range(begin, end):
        out[at] = 118
        at += 1
        for k in range(3):
            out[at] = 32
            at = write_number(flat[3 * v + k], out, at + 1)
        for k in range(3):
            out[at] = 32
            for i in range(table.shape[1]):
                out[at + 1 + i] = table[shades[v, k], i]
            at += 1 + table.shape[1]
        out[at] = 10
        at += 1
    return at


def write(mesh: Mesh, path: Path, progress: Progress, stem: str = "") -> None:
    """Write vertices, with colours when there are, groups, material names and triangles.

    Numbers are in the shortest form that reads back to the same bits. With a texture, its places and the material file
    that `beside` makes are named; the triangles of each image stand together.

    Parameters
    ----------
    mesh : Mesh
    path : Path
    progress : Progress
    stem : str
        Name of the material file, without its ending.
    """
    owner = owners_of_images(mesh)
    if owner is not None:
        mesh = keep_triangles(mesh, np.argsort(owner, kind="stable"))
        owner = np.sort(owner, kind="stable")
    state = progress.step(f"Writing {path.name}", len(mesh.vertices) + len(mesh.faces))
    with path.open("wb") as file:
        file.write(b"# Tinsnip, millimetres\n")
        if owner is not None:
            file.write(f"mtllib {stem}.mtl\n".encode())
        none = np.empty((len(mesh.vertices), 0), dtype=np.int32)
        if mesh.colour is None:
            write_rows(file, mesh.vertices, none, (b"v ", b" ", b" ", b"\n"), progress)
        else:
            table = np.array([list(f"{c / 255:.4f}".encode()) for c in range(256)], dtype=np.uint8)
            for begin in range(0, len(mesh.vertices), _WRITE_ROWS):
                progress.check()
                end = min(begin + _WRITE_ROWS, len(mesh.vertices))
                out = np.empty((end - begin) * 107 + 64, dtype=np.uint8)
                file.write(out[: _write_coloured(mesh.vertices, mesh.colour, table, begin, end, out)].data)
                state[DONE] += end - begin
        corners, words = mesh.faces + 1, (b"f ", b" ", b" ", b"\n")
        if owner is not None:
            uv = mesh.attributes["texture"].values
            place, first = weld_bits(np.column_stack([uv, np.zeros(len(uv), np.float32)]).view(np.uint32))
            flat = uv[first].astype(np.float64)
            write_rows(file, flat, np.empty((len(flat), 0), dtype=np.int32), (b"vt ", b" ", b"\n"), progress)
            corners = np.stack([corners, place.reshape(-1, 3) + 1], axis=-1).reshape(-1, 6).astype(np.int32)
            words = (b"f ", b"/", b" ", b"/", b" ", b"/", b"\n")
            if _maps(mesh):  # they stand on the normals that are smooth over the corners
                normals = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
                write_rows(file, normals, none, (b"vn ", b" ", b" ", b"\n"), progress)
                corners = np.dstack([corners.reshape(-1, 3, 2), mesh.faces + 1]).reshape(-1, 9).astype(np.int32)
                words = (b"f ", *(b"/", b"/", b" ") * 2, b"/", b"/", b"\n")
        changes = _name_changes(mesh) if owner is None else _image_changes(owner)
        begin, runs = 0, quad_runs(mesh, corners.reshape(len(corners), 3, -1))
        each = (len(words) - 1) // 3
        for end, lines in [*changes, (len(mesh.faces), b"")]:
            for first, last, is_quads in runs:
                some = np.ascontiguousarray(corners[max(first, begin) : min(last, end)])
                if is_quads:
                    some = np.ascontiguousarray(np.hstack([some[::2], some[1::2, 2 * each :]]))
                    write_rows(
                        file, np.empty((len(some), 0)), some, (*words[:-1], b" ", *words[1:each], words[-1]), progress
                    )
                else:
                    write_rows(file, np.empty((len(some), 0)), some, words, progress)
            file.write(lines)
            begin = end


def beside(mesh: Mesh, stem: str) -> dict[str, bytes]:
    """What belongs beside a file of a name: its materials, and an image and a map of normals for each."""
    owner = owners_of_images(mesh)
    if owner is None:
        return {}
    files, lines, maps = {}, ["# Tinsnip"], _maps(mesh)

    def keep(image: Image.Image, name: str) -> str:
        packed = io.BytesIO()
        image.save(packed, "PNG")
        files[name] = packed.getvalue()
        return name

    for number in np.unique(owner).tolist():
        lines.append(f"newmtl {_material(number)}")
        image = mesh.attributes["texture"].beside.get(number)
        lines.append("Kd 1 1 1" if image is not None else "Kd 0.75 0.75 0.75")
        if image is not None:
            lines.append(f"map_Kd {keep(image, f'{stem}-{number}.png')}")
        if number in maps:  # the usual keyword for a map of normals; who does not know it passes it by
            lines.append(f"norm {keep(maps[number], f'{stem}-{number}-relief.png')}")
    return files | {f"{stem}.mtl": ("\n".join(lines) + "\n").encode()}


def _maps(mesh: Mesh) -> dict[int, Image.Image]:
    """Maps of normals, by the image that they go with."""
    return mesh.attributes[RELIEF].beside if RELIEF in mesh.attributes else {}


def _material(number: int) -> str:
    return f"image-{number}" if number >= 0 else "made"


def _image_changes(owner: np.ndarray) -> list[tuple[int, bytes]]:
    at = np.concatenate([[0], np.flatnonzero(owner[1:] != owner[:-1]) + 1])
    return [(int(f), f"usemtl {_material(int(owner[f]))}\n".encode()) for f in at]


def _name_changes(mesh: Mesh) -> list[tuple[int, bytes]]:
    """Where in the list of triangles a group or material line is due."""
    changes: dict[int, bytes] = {}
    for keyword, kind in (("g", "group"), ("usemtl", "material")):
        attribute = mesh.attributes.get(kind)
        if attribute is None or attribute.beside is None:
            continue
        values = attribute.values
        at = np.concatenate([[0], np.flatnonzero(values[1:] != values[:-1]) + 1]) if len(values) else []
        if len(at) > 100_000:
            continue
        for f in at:
            number = int(values[f])
            name = attribute.beside[number] if 0 <= number < len(attribute.beside) else "none"
            changes[int(f)] = changes.get(int(f), b"") + f"{keyword} {name}\n".encode()
    return sorted(changes.items())


def size_of(triangles: int, vertices: int, coloured: bool = True) -> int:
    """Bytes that a mesh takes, about: text, with the digits of its vertices' numbers.

    Parameters
    ----------
    triangles, vertices : int
    coloured : bool
        Whether vertices have colours.
    """
    return (5 + 3 * len(str(vertices))) * triangles + (81 if coloured else 60) * vertices
