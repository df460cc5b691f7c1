"""Vertices and triangles of a 3MF's XML, read by compiled code.

The blocks ``<vertices>…</vertices><triangles>…</triangles>`` of each mesh make up nearly all of a model's text. Where
they have the plain form that programs write, they are taken out and read at byte speed; anything else stays in
the text for the XML parser.
"""

import re
from typing import NamedTuple

import numpy as np

from tinsnip.formats.numbers import GOOD, parse_number, parse_whole
from tinsnip.kernels import kernel

__all__ = ["MeshBlock", "take_blocks"]

_BLOCK = re.compile(rb"<mesh>\s*<vertices>(.*?)</vertices>\s*<triangles>(.*?)</triangles>\s*</mesh>", re.DOTALL)


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
    if b"<!" in text or b"<mesh>" not in text:  # comments, sections or declarations: left to the parser
        return text, blocks
    for number, found in enumerate(_BLOCK.finditer(text)):
        raw = [np.frombuffer(text, np.uint8, end - begin, begin) for begin, end in (found.span(1), found.span(2))]
        vertices = np.empty((_count_tags(raw[0]), 3))
        rows = np.empty((_count_tags(raw[1]), 7), dtype=np.int64)
        if _vertices(raw[0], _VERTEX, vertices) != len(vertices) or _triangles(raw[1], _TRIANGLE, rows) != len(rows):
            continue
        blocks[number] = MeshBlock(vertices, rows)
        pieces += [text[done : found.start()], f'<mesh block="{number}"/>'.encode()]
        done = found.end()
    return b"".join([*pieces, text[done:]]), blocks
