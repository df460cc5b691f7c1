"""Vertices and triangles of a 3MF's XML, read by compiled code.

The blocks ``<vertices>…</vertices><triangles>…</triangles>`` of each mesh make up nearly all of a model's text. Where
they have the plain form that programs write, they are taken out and read at byte speed; anything else stays in
the text for the XML parser.
"""

import re
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from tinsnip.formats.numbers import GOOD, parse_number, parse_whole
from tinsnip.kernels import kernel
from tinsnip.threads import cores

__all__ = ["MeshBlock", "take_blocks"]

_BEGIN = re.compile(rb"<mesh>\s*<vertices>")
_MIDDLE = re.compile(rb"</vertices>\s*<triangles>")
_LARGE = 1_000_000
"""Bytes of a mesh's text from which on threads are worth their start: an assembly may have thousands of small ones."""
_END = re.compile(rb"</triangles>\s*</mesh>")


class MeshBlock(NamedTuple):
    """Vertices (V, 3), and rows (F, 7) of v1 v2 v3 pid p1 p2 p3, -1 where not given."""

    vertices: np.ndarray
    rows: np.ndarray


@kernel
def _count_tags(text):
    n = 0
    for i in range(text.shape[0]):
        n += text[i] == 60
    return n


@kernel
def _skip(text, i):
    while i < text.shape[0] and text[i] <= 32:
        i += 1
    return i


@kernel
def _tag(text, i, name):
    """Where the attributes of a tag begin; -1 when it is another."""
    if i >= text.shape[0] or text[i] != 60 or i + 1 + name.shape[0] >= text.shape[0]:
        return -1
    for k in range(name.shape[0]):
        if text[i + 1 + k] != name[k]:
            return -1
    i += 1 + name.shape[0]
    return i if text[i] <= 32 else -1


@kernel
def _vertices(text, name, out):
    """How many vertices were read; -1 where the text has another form."""
    end = text.shape[0]
    bits = np.zeros(1, dtype=np.uint64)
    value = bits.view(np.float64)
    n = 0
    i = _skip(text, 0)
    while i < end:
        i = _tag(text, i, name)
        if i < 0:
            return -1
        seen = 0
        while True:
            i = _skip(text, i)
            if i + 4 >= end:
                if i + 1 < end and text[i] == 47 and text[i + 1] == 62:
                    break
                return -1
            if text[i] == 47 and text[i + 1] == 62:
                break
            axis = np.int64(text[i]) - 120
            if axis < 0 or axis > 2 or text[i + 1] != 61 or text[i + 2] != 34:
                return -1
            i, how = parse_number(text, i + 3, end, bits)
            if how != GOOD or i >= end or text[i] != 34:
                return -1
            out[n, axis] = value[0]
            seen |= 1 << axis
            i += 1
        if seen != 7:
            return -1
        n += 1
        i = _skip(text, i + 2)
    return n


@kernel
def _triangles(text, name, out):
    """As `_vertices`, for triangles."""
    end = text.shape[0]
    n = 0
    i = _skip(text, 0)
    while i < end:
        i = _tag(text, i, name)
        if i < 0:
            return -1
        for k in range(7):
            out[n, k] = -1
        while True:
            i = _skip(text, i)
            if i + 1 < end and text[i] == 47 and text[i + 1] == 62:
                break
            if i + 5 >= end:
                return -1
            which = -1
            if text[i] == 118 and 49 <= text[i + 1] <= 51:
                which = np.int64(text[i + 1]) - 49
                i += 2
            elif text[i] == 112 and 49 <= text[i + 1] <= 51:
                which = np.int64(text[i + 1]) - 45
                i += 2
            elif text[i] == 112 and text[i + 1] == 105 and text[i + 2] == 100:
                which = 3
                i += 3
            if which < 0 or text[i] != 61 or text[i + 1] != 34:
                return -1
            i, number, known = parse_whole(text, i + 2, end)
            if not known or i >= end or text[i] != 34:
                return -1
            out[n, which] = number
            i += 1
        if out[n, 0] < 0 or out[n, 1] < 0 or out[n, 2] < 0:
            return -1
        n += 1
        i = _skip(text, i + 2)
    return n


_VERTEX = np.frombuffer(b"vertex", np.uint8)
_TRIANGLE = np.frombuffer(b"triangle", np.uint8)


def take_blocks(text: bytes) -> tuple[bytes, dict[int, MeshBlock]]:
    """Take the plain mesh blocks out of a model's text.

    Parameters
    ----------
    text : bytes

    Returns
    -------
    skeleton : bytes
        The text with ``<mesh block="K"/>`` in their places.
    blocks : dict of int to MeshBlock
    """
    blocks: dict[int, MeshBlock] = {}
    pieces, done = [], 0
    for number, (begin, middle, end) in enumerate(_found(text)):
        block = _block(text, (begin.end(), middle.start()), (middle.end(), end.start()))
        if block is None:
            continue
        blocks[number] = block
        pieces += [text[done : begin.start()], f'<mesh block="{number}"/>'.encode()]
        done = end.end()
    skeleton = b"".join([*pieces, text[done:]])
    # comments, sections or declarations may hold what only looks like a mesh: all is left to the parser
    return (text, {}) if b"<!" in skeleton else (skeleton, blocks)


def _found(text: bytes) -> Iterator[tuple[re.Match, re.Match, re.Match]]:
    """Where meshes begin, go on to triangles, and end; by plain searches, as one expression for all is slow."""
    at = 0
    while True:
        start = text.find(b"<mesh>", at)
        vertices_end = text.find(b"</vertices>", start)
        if start < 0 or vertices_end < 0:
            return
        begin, middle = _BEGIN.match(text, start), _MIDDLE.match(text, vertices_end)
        at = start + len(b"<mesh>") if begin is None else vertices_end
        if begin is None or middle is None:
            continue
        triangles_end = text.find(b"</triangles>", middle.end())
        if triangles_end < 0:
            return
        end = _END.match(text, triangles_end)
        at = triangles_end
        if end is not None:
            yield begin, middle, end


def _block(text: bytes, vertices: tuple[int, int], triangles: tuple[int, int]) -> MeshBlock | None:
    """What stands between some places of the text, vertices and triangles side by side; None where it is not plain."""

    def read(span: tuple[int, int], kernel_of: Callable, name: np.ndarray, wide: int, kind: type) -> np.ndarray | None:
        raw = np.frombuffer(text, np.uint8, span[1] - span[0], span[0])
        out = np.empty((_count_tags(raw), wide), dtype=kind)
        return out if kernel_of(raw, name, out) == len(out) else None

    asked = (vertices, _vertices, _VERTEX, 3, np.float64), (triangles, _triangles, _TRIANGLE, 7, np.int64)
    if triangles[1] - vertices[0] < _LARGE:
        places, rows = (read(*one) for one in asked)
    else:
        with ThreadPoolExecutor(min(2, cores())) as pool:
            places, rows = pool.map(lambda one: read(*one), asked)
    return None if places is None or rows is None else MeshBlock(places, rows)
