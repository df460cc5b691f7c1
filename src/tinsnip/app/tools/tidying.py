"""Tidying an open edge by a click on it, or a stretch of it between two clicks."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from tinsnip.app.view.edgepick import pick_near_edge
from tinsnip.app.view.firstclick import ring_at
from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View
from tinsnip.regions import Region
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
