"""Strips, notches and teeth, by two clicks near an open edge; windows, by one."""

from collections.abc import Callable
from typing import ClassVar

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from tinsnip.app.tools.onsurface import on_surface
from tinsnip.app.view.edgepick import edge_point, pick_near_edge
from tinsnip.app.view.firstclick import ring_at
from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.treat import CloseWindow, Stretch, Strip, Treatment
from tinsnip.treat.kit.edges.edgeplaces import place_on_edge

__all__ = ["CloseNotch", "CutTooth", "LayStrip", "ShutWindow"]


class _TwoPlaces(Tool):
    """Two clicks near open edges, of which something is made."""

    station = "Holes"
    cursor = Qt.CursorShape.CrossCursor
    hints: ClassVar[tuple[str, str]]

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._first: np.ndarray | None = None
        self._edge: tuple[float, float, float] | None = None

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

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object] | None:
        """The edge at which the first click would begin; then what both clicks would make."""
        first, edge = self._first, edge_point(self.view, x, y)
        if edge is not None:
            return lambda mesh, progress: self._from(mesh, first, edge)
        return on_surface(self.view, x, y, lambda mesh, triangle, point: self._from(mesh, first, point))

    def _from(self, mesh: Mesh, first: np.ndarray | None, point: np.ndarray) -> object:
        if first is None:
            place = place_on_edge(mesh, tuple(float(x) for x in point))
            vertex = mesh.faces.ravel()[mesh.loops.loop(place.loop)[place.number]]
            return tuple(float(x) for x in mesh.vertices[vertex])
        return self.shown(mesh, self.treatment(*(tuple(float(x) for x in p) for p in (first, point))))

    def shown(self, mesh: Mesh, treatment: Treatment) -> object:
        """What shows what the two places would make."""
        return treatment

    def aimed(self, found: object) -> None:
        self._edge = found if isinstance(found, tuple) else None
        self.update()

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
        for place in (self._first, self._edge):
            if place is not None:
                ring_at(painter, self.view.camera, np.array(place))


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

    def shown(self, mesh: Mesh, treatment: Stretch) -> np.ndarray:
        return treatment.tooth(mesh)


class ShutWindow(Tool):
    """An opening through a wall is closed on both sides, by a click at its edge."""

    name = "Close a window"
    picture, short = "window", "Window"
    station = "Holes"
    cursor = Qt.CursorShape.CrossCursor

    def hint(self) -> str:
        return "Click into an opening that goes through: both its sides are closed  (Esc to leave)"

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object]:
        return on_surface(self.view, x, y, lambda mesh, triangle, point: CloseWindow(at=tuple(map(float, point))))

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
