"""Picking: clicks on the part, each a triangle and a point."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter

from tinsnip.app.tools.onsurface import on_surface
from tinsnip.app.view.firstclick import ring_at
from tinsnip.app.view.hand import Drag, Pointer, Tool, View
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress

__all__ = ["Pick"]


class Pick(Tool):
    """Tells each place that is clicked on the part, until it is put away.

    Parameters
    ----------
    view : View
    hints : str
        What to do at each click, the last for all that follow.
    done : callable
        Told the triangle (-1 beside the part) and the point, shape (3,).
    beside : bool
        A click beside the part counts too, level with the middle of it.
    ended : callable
        Called when the tool is put away.
    takes : callable, optional
        From the mesh, the triangle and the point to the triangles that a click there means.
    """

    name = "Pick"
    cursor = Qt.CursorShape.CrossCursor

    def __init__(
        self,
        view: View,
        hints: tuple[str, ...],
        done: Callable[[int, np.ndarray], None],
        beside: bool = False,
        ended: Callable[[], None] = lambda: None,
        takes: Callable[[Mesh, int, np.ndarray], np.ndarray] | None = None,
    ) -> None:
        super().__init__(view)
        self._hints, self._done, self._beside, self._ended, self._takes = hints, done, beside, ended, takes
        self.points: list[np.ndarray] = []

    def hint(self) -> str:
        return f"{self._hints[min(len(self.points), len(self._hints) - 1)]}  (Esc to leave)"

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object] | None:
        return None if self._takes is None else on_surface(self.view, x, y, self._takes)

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if at.button == Qt.MouseButton.LeftButton else None

    def _click(self, at: Pointer) -> Drag:
        self.view.pick(at.x, at.y, self._take, self._miss(at) if self._beside else self._say_missed)
        return
        yield

    def _miss(self, at: Pointer) -> Callable[[], None]:
        camera = self.view.camera
        start, direction = camera.ray(at.x, at.y)
        point = start + ((camera.centre - start) @ direction) * direction
        return lambda: self._take(-1, point)

    def _say_missed(self) -> None:
        if self.view.hand.tool is self:
            self.session.message.emit("there is nothing of the part there; click on its surface", True)

    def _take(self, triangle: int, point: np.ndarray) -> None:
        if self.view.hand.tool is not self:  # put away while it was being worked out
            return
        self.points.append(point)
        self.update()
        self._done(triangle, point)

    def put_away(self) -> None:
        self.points = []
        self._ended()

    def draw(self, painter: QPainter) -> None:
        for point in self.points if len(self._hints) > 1 else ():
            ring_at(painter, self.view.camera, point)
