"""Tidying an open edge by a click on it, or a stretch of it between two clicks."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from tinsnip.app.tools.onsurface import on_surface
from tinsnip.app.view.edgepick import edge_point, pick_near_edge
from tinsnip.app.view.firstclick import ring_at
from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.regions.grow import grown
from tinsnip.regions.rules import along_edge
from tinsnip.treat import Tidy

__all__ = ["TidyEdge"]


class TidyEdge(Tool):
    """A click tidies the edge that is nearest; with a stretch, a second click says where it ends."""

    name = "Tidy an edge"
    picture, short = "tidy", "Tidy"
    station = "Trim"
    hides_rest = True
    cursor = Qt.CursorShape.CrossCursor
    options = (
        Option("Rows it may reach", "rows", 4, (1, 50)),
        Option("Smoothing", "strength", 0.5, (0.0, 1.0)),
        Option("only a stretch, between two clicks", "stretch", False),
    )

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._first: np.ndarray | None = None

    def hint(self) -> str:
        if self.stretch:
            return "Click where the stretch ends" if self._first is not None else "Click where the stretch begins"
        return "Click near an open edge to tidy it: spikes cut, notches filled, the line smoothed  (Esc to leave)"

    def put_away(self) -> None:
        self._first = None

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object] | None:
        if self.stretch and self._first is None:
            return None
        first, rows, edge = self._first, int(self.rows), edge_point(self.view, x, y)

        def lit(mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
            near = np.zeros(len(mesh.faces), dtype=bool)
            near[along_edge(mesh, point, first)] = True
            return grown(mesh, near, rows - 1)

        if edge is not None:
            return lambda mesh, progress: lit(mesh, -1, edge)
        return on_surface(self.view, x, y, lit)

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if self.is_on_part(at) else None

    def _click(self, at: Pointer) -> Drag:
        def picked(triangle: int, point: np.ndarray) -> None:
            mesh, first = self.session.mesh, self._first
            if self.stretch and first is None:
                self._first = point
                self.update()
                return
            self._first = None
            rows, strength = int(self.rows), float(self.strength)
            places = (point, first) if self.stretch else (point, None)

            def make() -> Tidy:
                return Tidy(edges=Region.of(mesh, along_edge(mesh, *places)), rows=rows, strength=strength)

            self.session.do_made("Tidy the edge", make)

        pick_near_edge(self.view, at.x, at.y, picked)
        return
        yield

    def draw(self, painter: QPainter) -> None:
        if self._first is not None:
            ring_at(painter, self.view.camera, self._first)
