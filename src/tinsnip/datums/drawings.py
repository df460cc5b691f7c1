"""Datums and outlines as files that other programs build on: JSON, DXF, SVG and STEP."""

import io
import json
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from lxml import etree

from tinsnip.datums.datum import Datum
from tinsnip.datums.lines import lines_of
from tinsnip.datums.outlines import Arc, Line, Outline, drawing_axes
from tinsnip.datums.stepfile import step_text
from tinsnip.errors import BadInput
from tinsnip.formats.whole import write_whole

__all__ = ["DRAWING_ENDINGS", "Drawn", "check_drawing", "write_drawing"]

DRAWING_ENDINGS = (".json", ".dxf", ".svg", ".step", ".stp")
_SVG = "http://www.w3.org/2000/svg"
_NO_LAYER = '<>/\\":;?*|,=`'
_MARGIN = 0.05
_LINE = 0.002
"""Width of a line in an SVG drawing, as a share of its larger side."""


class Drawn(NamedTuple):
    """The outlines of one section.

    Attributes
    ----------
    name : str
    normal : ndarray, shape (3,)
        Unit.
    offset : float
        Distance of its plane from the origin along it, mm.
    outlines : sequence of Outline
    """

    name: str
    normal: np.ndarray
    offset: float
    outlines: Sequence[Outline]

    def in_space(self, place: np.ndarray) -> np.ndarray:
        """Where a place of the drawing, shape (2,), lies; shape (3,)."""
        right, up = drawing_axes(self.normal)
        return place[0] * right + place[1] * up + self.offset * self.normal


def check_drawing(path: Path, replace: bool) -> None:
    """Refuse a file of another kind, or one that is there already, before any work is done.

    Parameters
    ----------
    path : Path
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    BadInput
    """
    if path.suffix.lower() not in DRAWING_ENDINGS:
        raise BadInput(f"{path}: not a kind of drawing Tinsnip writes; end it in one of {', '.join(DRAWING_ENDINGS)}")
    if path.exists() and not replace:
        raise BadInput(f"{path}: it is there already; say --replace, or choose another name")


def write_drawing(
    path: Path, datums: Sequence[Datum] = (), sections: Sequence[Drawn] = (), named: str = "", replace: bool = False
) -> None:
    """Write datums and outlines of sections to a file; its ending says which kind. Lengths are mm.

    An SVG has the outlines of one section, in its plane. A DXF of one section alone is a drawing in its plane too; with
    datums, or several sections, all lie in space.

    Parameters
    ----------
    path : Path
    datums : sequence of Datum
    sections : sequence of Drawn
    named : str
        What they are of.
    replace : bool
        Whether a file that is there already is replaced.

    Raises
    ------
    BadInput
        When the ending is none of `DRAWING_ENDINGS`, the file is there already or cannot be written.
    """
    check_drawing(path, replace)
    ending = path.suffix.lower()
    if ending == ".json":
        text = json.dumps({"file": named, "datums": [datum.facts() for datum in datums]}, indent=2) + "\n"
    elif ending == ".svg":
        text = _svg(sections, named or path.stem)
    elif ending == ".dxf":
        text = _dxf(datums, sections)
    else:
        text = step_text(named or path.stem, datums, [(s.name, s.in_space, s.normal, s.outlines) for s in sections])
    write_whole(path, text)


# ---- SVG


def _svg(sections: Sequence[Drawn], named: str) -> str:
    """One section, in mm, its y axis upwards."""
    if len(sections) != 1 or not sections[0].outlines:
        raise BadInput("an SVG has the outlines of one section, and there is none; choose a plane that cuts the part")
    outlines = sections[0].outlines
    corners = np.concatenate([_corners(piece) for outline in outlines for piece in outline.pieces])
    low, high = corners.min(axis=0), corners.max(axis=0)
    margin = _MARGIN * float((high - low).max())
    low, size = low - margin, high - low + 2 * margin
    sheet = etree.Element("svg", nsmap={None: _SVG}, width=f"{size[0]:.6g}mm", height=f"{size[1]:.6g}mm")
    sheet.set("viewBox", f"{low[0]:.6g} {-low[1] - size[1]:.6g} {size[0]:.6g} {size[1]:.6g}")
    etree.SubElement(sheet, "title").text = f"{named}: {sections[0].name}"
    width = f"{_LINE * float(size.max()):.4g}"
    lines = etree.SubElement(sheet, "g", {"fill": "none", "stroke": "#000000", "stroke-width": width})
    for outline in outlines:
        first = outline.pieces[0].start
        steps = [f"M{first[0]:.6g} {-first[1]:.6g}", *(step for piece in outline.pieces for step in _path(piece))]
        etree.SubElement(lines, "path", d=" ".join(steps) + " Z" * outline.is_closed)
    return etree.tostring(sheet, xml_declaration=True, encoding="UTF-8", pretty_print=True).decode("utf-8")


def _corners(piece: Line | Arc) -> np.ndarray:
    if isinstance(piece, Line):
        return np.stack([piece.start, piece.end])
    turn = np.linspace(0.0, piece.sweep, 24)[:, None]
    off = piece.start - piece.middle
    return piece.middle + np.cos(turn) * off + np.sin(turn) * np.array([-off[1], off[0]])


def _path(piece: Line | Arc) -> list[str]:
    if isinstance(piece, Line):
        return [f"L{piece.end[0]:.6g} {-piece.end[1]:.6g}"]
    # a circle is two halves, as an arc back to where it begins is nothing
    halves = 2 if abs(piece.sweep) > 1.9 * np.pi else 1
    found = []
    for k in range(1, halves + 1):
        turn, off = k * piece.sweep / halves, piece.start - piece.middle
        end = piece.middle + np.cos(turn) * off + np.sin(turn) * np.array([-off[1], off[0]])
        end = piece.end if k == halves else end
        large, clockwise = int(abs(piece.sweep) / halves > np.pi), int(piece.sweep < 0)
        found.append(f"A{piece.radius:.6g} {piece.radius:.6g} 0 {large} {clockwise} {end[0]:.6g} {-end[1]:.6g}")
    return found


# ---- DXF


def _layer(name: str) -> str:
    """A name that a layer may have."""
    return "".join("-" if letter in _NO_LAYER or ord(letter) < 32 else letter for letter in name) or "-"


def _dxf(datums: Sequence[Datum], sections: Sequence[Drawn]) -> str:
    import ezdxf
    from ezdxf.math import Matrix44

    drawing = ezdxf.new("R2010", units=ezdxf.units.MM)
    space = drawing.modelspace()
    for section in sections:
        _add_layer(drawing, section.name)
        right, up = drawing_axes(section.normal)
        flat = len(sections) == 1 and not datums
        frame = Matrix44.ucs(*map(tuple, (right, up, section.normal, section.offset * section.normal)))
        for outline in section.outlines:
            for piece in outline.pieces:
                drawn = _entity(space, piece, section.name)
                if not flat:
                    drawn.transform(frame)
    for datum in datums:
        _add_layer(drawing, datum.name)
        _draw_datum(space, datum)
    text = io.StringIO()
    drawing.write(text)
    return text.getvalue()


def _add_layer(drawing: object, name: str) -> None:
    if _layer(name) not in drawing.layers:
        drawing.layers.add(_layer(name))


def _entity(space: object, piece: Line | Arc, layer: str) -> object:
    own = {"layer": _layer(layer)}
    if isinstance(piece, Line):
        return space.add_line(tuple(piece.start), tuple(piece.end), dxfattribs=own)
    if piece.is_whole:
        return space.add_circle(tuple(piece.middle), piece.radius, dxfattribs=own)
    ends = [np.degrees(np.arctan2(*(end - piece.middle)[::-1])) for end in (piece.start, piece.end)]
    start, end = ends if piece.sweep > 0 else ends[::-1]
    return space.add_arc(tuple(piece.middle), piece.radius, start, end, dxfattribs=own)


def _draw_datum(space: object, datum: Datum) -> None:
    """A datum by what shows it: its outlines, its axis, its point."""
    own = {"layer": _layer(datum.name)}
    shown = lines_of(datum)
    for outline in shown.outlines:
        space.add_polyline3d([tuple(place) for place in outline[:-1]], close=True, dxfattribs=own)
    if shown.axis is not None:
        space.add_line(tuple(shown.axis[0]), tuple(shown.axis[1]), dxfattribs=own)
    if shown.point is not None:
        space.add_point(tuple(shown.point), dxfattribs=own)
