"""Selecting by a click or a stroke: a shell, a flat, what a brush covers."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from tinsnip.app.view.hand import Drag, Pointer, Tool, View
from tinsnip.app.widgets.theme import px
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.progress import Progress
from tinsnip.regions.grow import brushed, flat_round, whole_shell
from tinsnip.space.tree import first_hits

__all__ = ["Brush", "FlatSelect", "ShellSelect"]

_SHIFT, _CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier
_BRUSH = 26
"""Radius of the brush, in pixels where text is of the usual size."""


class _Click(Tool):
    """A click selects; Shift selects besides, Ctrl takes out. Beside the part a press moves the view."""

    cursor = Qt.CursorShape.CrossCursor
    find: Callable[[Mesh, int], np.ndarray]

    def hint(self) -> str:
        return f"{self.what}; Shift adds, Ctrl takes away  (Esc to leave)"

    what = ""

    def press(self, at: Pointer) -> Drag | None:
        if at.button != Qt.MouseButton.LeftButton or self.view.surface_point(at.x, at.y) is None:
            return None
        return self._click(at)

    def _click(self, at: Pointer) -> Drag:
        mesh, selected = self.session.mesh, self.session.selected

        def picked(triangle: int, point: np.ndarray) -> None:
            def take(found: np.ndarray) -> None:
                if self.session.mesh is not mesh:
                    return
                selected.remember()
                if not at.keys & (_SHIFT | _CONTROL):
                    selected.triangles = None
                selected.change(found, bool(at.keys & _CONTROL))

            self.session.tasks.behind("select", lambda p: type(self).find(mesh, triangle), take)

        self.view.pick(at.x, at.y, picked)
        return
        yield


class ShellSelect(_Click):
    """A whole shell."""

    name = "Select a shell"
    picture, short = "shell", "Shell"
    station = "Trim"
    what = "Click a shell to select all of it"
    find = staticmethod(whole_shell)


class FlatSelect(_Click):
    """A flat region."""

    name = "Select a flat"
    picture, short = "flat", "Flat"
    station = "Trim"
    what = "Click a flat to select what faces the same way round it"
    find = staticmethod(flat_round)


class Brush(Tool):
    """A stroke selects what the brush covers, along the surface; it stops at sharp edges and at the shell's end."""

    name = "Brush a selection"
    picture, short = "brush", "Brush"
    station = "Trim"
    cursor = Qt.CursorShape.CrossCursor

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._at = QPointF(-100, -100)

    def hint(self) -> str:
        return "Brush over the part to select; Ctrl takes away  (Esc to leave)"

    def taken(self) -> None:
        mesh = self.session.mesh
        if mesh is not None and not is_known(mesh, Mesh.tree):
            self.session.tasks.behind("tree", lambda p: (mesh.tree, mesh.twins)[0], lambda tree: None)

    def hover(self, x: float, y: float) -> None:
        self._at = QPointF(x, y)
        self.update()

    def _hit(self, x: float, y: float) -> tuple[int, np.ndarray] | None:
        """The triangle and point under a pixel, at once; None until the tree is there."""
        mesh = self.session.mesh
        if mesh is None or not is_known(mesh, Mesh.tree):
            return None
        start, way = self.view.camera.ray(x, y)
        start = start - 4.0 * self.view.camera.reach * way
        along, triangle = first_hits(mesh.tree, start[None], way[None], Progress().state)
        return None if triangle[0] < 0 else (int(triangle[0]), start + along[0] * way)

    def press(self, at: Pointer) -> Drag | None:
        if at.button != Qt.MouseButton.LeftButton or self.view.surface_point(at.x, at.y) is None:
            return None
        return self._stroke(at)

    def _stroke(self, at: Pointer) -> Drag:
        selected, mesh = self.session.selected, self.session.mesh
        before = None if selected.triangles is None else selected.triangles.copy()
        selected.remember()
        try:
            while at.is_down:
                hit = self._hit(at.x, at.y)
                if hit is not None and self.session.mesh is mesh:
                    radius = px(_BRUSH) * self.view.camera.scale
                    selected.change(brushed(mesh, *hit, radius), bool(at.keys & _CONTROL))
                at = yield
                self._at = QPointF(at.x, at.y)
        except GeneratorExit:
            if self.session.mesh is mesh:
                selected.put(before)
            raise

    def draw(self, painter: QPainter) -> None:
        for colour, width in ((QColor("#1d2023"), 3.0), (QColor("#c6e83a"), 1.4)):
            painter.setPen(QPen(colour, width))
            painter.drawEllipse(self._at, px(_BRUSH), px(_BRUSH))
