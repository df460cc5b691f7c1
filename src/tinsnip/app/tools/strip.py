"""Strips, notches and teeth, by two clicks near an open edge; windows, by one."""

from typing import ClassVar

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from tinsnip.app.view.edgepick import edge_point, pick_near_edge
from tinsnip.app.view.firstclick import ring_at
from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View
from tinsnip.treat import CloseWindow, Stretch, Strip, Treatment

__all__ = ["CloseNotch", "CutTooth", "LayStrip", "ShutWindow"]


class _TwoPlaces(Tool):
    """Two clicks near open edges, of which something is made."""

    station = "Holes"
    cursor = Qt.CursorShape.CrossCursor
    hints: ClassVar[tuple[str, str]]

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._first: np.ndarray | None = None

    def hint(self) -> str:
        return f"{self.hints[self._first is not None]}  (Esc to leave)"

    def put_away(self) -> None:
        self._first = None

    def is_near_edge(self, at: Pointer) -> bool:
        """Whether the left button went down on the part, or right beside an open edge."""
        is_left = at.button == Qt.MouseButton.LeftButton
        return is_left and (self.is_on_part(at) or edge_point(self.view, at.x, at.y) is not None)

    def treatment(self, start: tuple[float, ...], end: tuple[float, ...]) -> Treatment:
        """What the two places make."""
        raise NotImplementedError

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if self.is_near_edge(at) else None

    def _click(self, at: Pointer) -> Drag:
        def picked(triangle: int, point: np.ndarray) -> None:
            first, self._first = self._first, None
            if first is None:
                self._first = point
            else:
                start, end = (tuple(float(x) for x in p) for p in (first, point))
                self.session.apply(self.treatment(start, end))
            self.update()

        pick_near_edge(self.view, at.x, at.y, picked)
        return
        yield

    def draw(self, painter: QPainter) -> None:
        if self._first is not None:
            ring_at(painter, self.view.camera, self._first)


class LayStrip(_TwoPlaces):
    """A band of triangles from one click to the other."""

    name = "Lay a strip"
    picture, short = "strip", "Strip"
    hints = (
        "Click near the edge where the strip begins; width 0 means as wide as five edges",
        "Click near the edge where it ends",
    )
    options = (Option("Strip width", "width", 0.0, (0.0, 1000.0), "mm"),)

    def treatment(self, start: tuple[float, ...], end: tuple[float, ...]) -> Treatment:
        return Strip(start=start, end=end, width_mm=float(self.width) or None)


class CloseNotch(_TwoPlaces):
    """What lies between two clicks on one edge is closed."""

    name = "Close a notch"
    picture, short = "notch", "Notch"
    hints = "Click one end of the notch, near the edge", "Click its other end"

    def treatment(self, start: tuple[float, ...], end: tuple[float, ...]) -> Treatment:
        return Stretch(start=start, end=end)


class CutTooth(_TwoPlaces):
    """What stands out between two clicks on one edge is cut."""

    name = "Cut a tooth"
    picture, short = "tooth", "Tooth"
    hints = "Click one side of the tooth's root, near the edge", "Click its other side"

    def treatment(self, start: tuple[float, ...], end: tuple[float, ...]) -> Treatment:
        return Stretch(start=start, end=end, how="cut")


class ShutWindow(Tool):
    """An opening through a wall is closed on both sides, by a click at its edge."""

    name = "Close a window"
    picture, short = "window", "Window"
    station = "Holes"
    cursor = Qt.CursorShape.CrossCursor

    def hint(self) -> str:
        return "Click into an opening that goes through: both its sides are closed  (Esc to leave)"

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if at.button == Qt.MouseButton.LeftButton else None

    def _click(self, at: Pointer) -> Drag:
        mesh, (start, way) = self.session.mesh, self.view.camera.ray(at.x, at.y)

        def picked(triangle: int, point: np.ndarray) -> None:
            self.session.apply(CloseWindow(at=tuple(float(x) for x in point)))

        def missed() -> None:
            """Right through the opening: what lies nearest to that sight is its wall."""

            def make() -> CloseWindow:
                off = mesh.vertices - start
                across = off - (off @ way)[:, None] * way
                nearest = mesh.vertices[int(np.argmin((across * across).sum(axis=1)))]
                return CloseWindow(at=tuple(float(x) for x in nearest))

            self.session.do_made("Close a window", make)

        self.view.pick(at.x, at.y, picked, missed)
        return
        yield
