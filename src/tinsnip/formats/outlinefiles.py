"""Outlines of a layer as drawings: SVG and DXF, in mm."""

import io
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import numpy as np
from lxml import etree

from tinsnip.formats.whole import write_whole
from tinsnip.progress import DONE, Progress
from tinsnip.space.slicing import Layers

__all__ = ["OUTLINE_FORMATS", "write_layers"]

_SVG = "http://www.w3.org/2000/svg"


def _svg() -> Callable[[Sequence[np.ndarray], Sequence[bool], np.ndarray, str], str]:
    """What is solid filled, its y axis upwards; the sheet is the same for all layers."""

    def write(outlines: Sequence[np.ndarray], closed: Sequence[bool], box: np.ndarray, title: str) -> str:
        size = box[1] - box[0]
        sheet = etree.Element("svg", nsmap={None: _SVG}, width=f"{size[0]:.9g}mm", height=f"{size[1]:.9g}mm")
        sheet.set("viewBox", f"{box[0, 0]:.9g} {-box[1, 1]:.9g} {size[0]:.9g} {size[1]:.9g}")
        etree.SubElement(sheet, "title").text = title
        paths = {True: [], False: []}
        for points, whole in zip(outlines, closed, strict=True):
            steps = "L".join(f"{x:.9g} {-y:.9g}" for x, y in points)
            paths[bool(whole)].append(f"M{steps}" + "Z" * bool(whole))
        if paths[True]:
            etree.SubElement(sheet, "path", {"fill": "#000000", "fill-rule": "evenodd", "d": "".join(paths[True])})
        if paths[False]:
            line = {"fill": "none", "stroke": "#b4602a", "stroke-width": f"{2e-3 * float(size.max()):.4g}"}
            etree.SubElement(sheet, "path", {**line, "d": "".join(paths[False])})
        return etree.tostring(sheet, xml_declaration=True, encoding="UTF-8").decode("utf-8")

    return write


def _dxf() -> Callable[[Sequence[np.ndarray], Sequence[bool], np.ndarray, str], str]:
    """Polylines; one drawing is made and filled anew for each layer, which is ten times as fast."""
    import ezdxf

    drawing = ezdxf.new("R2010", units=ezdxf.units.MM)
    space = drawing.modelspace()
    drawing.layers.add("outlines")
    drawing.layers.add("open", color=1)

    def write(outlines: Sequence[np.ndarray], closed: Sequence[bool], box: np.ndarray, title: str) -> str:
        space.delete_all_entities()
        for points, whole in zip(outlines, closed, strict=True):
            own = {"layer": "outlines" if whole else "open"}
            space.add_lwpolyline(points.tolist(), format="xy", close=bool(whole), dxfattribs=own)
        text = io.StringIO()
        drawing.write(text)
        return text.getvalue()

    return write


OUTLINE_FORMATS = {"svg": _svg, "dxf": _dxf}
"""By their endings: what makes a function from outlines, each of shape (K, 2), whether each is closed, the corners of
the sheet, shape (2, 2), and a title, to the text of a file."""


def write_layers(layers: Layers, names: Mapping[int, Path], box: np.ndarray, title: str, progress: Progress) -> None:
    """Write the outlines of some layers, a file each, of the kind that the names end in.

    Parameters
    ----------
    layers : Layers
    names : mapping of int to Path
        By the number of the layer, from 0.
    box : ndarray, shape (2, 2)
        The corners of the sheet.
    title : str
        Of the part.
    progress : Progress

    Raises
    ------
    BadInput
        When a file cannot be written.
    """
    first = np.searchsorted(layers.layer, np.arange(len(layers.heights) + 1))
    state = progress.step("Writing the layers", len(names))
    write = None
    for count, (i, name) in enumerate(names.items(), 1):
        write = write or OUTLINE_FORMATS[name.suffix[1:]]()
        closed = layers.closed[first[i] : first[i + 1]].tolist()
        told = f"{title}, layer {i + 1} at {layers.heights[i]:.6g} mm"
        write_whole(name, write(layers.outlines_at(i), closed, box, told))
        state[DONE] = count
        progress.check()
