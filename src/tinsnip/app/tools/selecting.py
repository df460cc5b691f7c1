"""Selecting by a click, a stroke or an outline."""

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen

from tinsnip.app.tools.drawing import SHAPES, Drawing
from tinsnip.app.tools.onsurface import on_surface
from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View, draw_label
from tinsnip.app.widgets.theme import px
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.progress import Progress
from tinsnip.regions.backdrop import backdrop
from tinsnip.regions.grow import brushed, flat_round, whole_shell
from tinsnip.regions.outlined import Sight, outlined, seen_through
from tinsnip.regions.rules import coloured_like, edge_rows, in_group
from tinsnip.space.tree import first_hits

__all__ = [
    "BackdropSelect",
    "Brush",
    "ColourSelect",
    "EdgeRows",
    "FlatSelect",
    "GroupSelect",
    "OutlineSelect",
    "Selects",
    "ShellSelect",
]

_MOST_BETWEEN = 64
_SHIFT, _CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


class Selects(Tool):
    """Finds triangles; Shift selects them besides what is selected, Ctrl takes them out."""

    station = "Trim"
    """The station that offers what has a name."""
    selects = hides_rest = True
    cursor = Qt.CursorShape.CrossCursor

    def found(self, work: Callable[[Mesh, Progress], np.ndarray], keys: Qt.KeyboardModifier) -> None:
        """Select what is found beside the window."""
        mesh, selected = self.session.mesh, self.session.selected

        def guarded(progress: Progress) -> Any:
            try:
                return work(mesh, progress)
            except BadInput as error:
                return str(error)

        def take(found: Any) -> None:
            if self.session.mesh is not mesh:
                return
            if isinstance(found, str):
                self.session.message.emit(found, True)
                return
            selected.remember()
            if not keys & (_SHIFT | _CONTROL):
                selected.triangles = None
            selected.change(found, bool(keys & _CONTROL))

        if mesh is not None:
            self.session.tasks.behind("select", guarded, take)


class _Click(Selects):
    """A click selects. Beside the part a press moves the view."""

    what = ""

    def hint(self) -> str:
        return f"{self.what}; Shift adds, Ctrl takes away  (Esc to leave)"

    def find(self, mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
        """What a click on a triangle selects."""
        raise NotImplementedError

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object]:
        return on_surface(self.view, x, y, lambda mesh, triangle, point: self.find(mesh, triangle, point))

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if self.is_on_part(at) else None

    def _click(self, at: Pointer) -> Drag:
        def picked(triangle: int, point: np.ndarray) -> None:
            self.found(lambda mesh, progress: self.find(mesh, triangle, point), at.keys)

        self.view.pick(at.x, at.y, picked)
        return
        yield


class ShellSelect(_Click):
    """A whole shell."""

    name = "Select a shell"
    picture, short = "shell", "Shell"
    what = "Click a shell to select all of it"

    def find(self, mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
        return whole_shell(mesh, triangle)


class FlatSelect(_Click):
    """A flat region."""

    name = "Select a flat"
    picture, short = "flat", "Flat"
    what = "Click a flat to select what faces the same way round it"
    options = (Option("Within", "degrees", 12.0, (0.5, 60.0), "°"),)

    def find(self, mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
        return flat_round(mesh, triangle, self.degrees)


class EdgeRows(_Click):
    """Rows of triangles along an open edge."""

    name = "Select edge rows"
    picture, short = "rows", "Rows"
    what = "Click near a hole or the rim to select the rows along it"
    options = (Option("Rows", "rows", 3, (1, 200)),)

    def find(self, mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
        return edge_rows(mesh, triangle, point, int(self.rows))


class ColourSelect(_Click):
    """What has the scan colour of the triangle that is clicked."""

    name = "Select a colour"
    picture, short = "colour", "Colour"
    what = "Click a colour to select what has it"
    options = (Option("Within", "percent", 8.0, (0.5, 100.0), "%"),)

    def find(self, mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
        return coloured_like(mesh, triangle, self.percent / 100.0)


class GroupSelect(_Click):
    """A material or group, as the scan was imported."""

    name = "Select a group"
    picture, short = "group", "Group"
    what = "Click a material or group to select all of it"

    def find(self, mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
        return in_group(mesh, triangle)


class OutlineSelect(Selects, Drawing):
    """What lies within a drawn shape: what is seen of it, or all that lies behind too."""

    name = "Select by an outline"
    picture, short = "select-outline", "Drawn"
    options = (
        Option("Shape", "shape", SHAPES[0], SHAPES),
        Option("through, not only what is seen (V)", "through", False),
    )

    def hint(self) -> str:
        which = "THROUGH: what lies behind too" if self.through else "only what is SEEN"
        return f"{super().hint()} · {which} (V swaps); Shift adds, Ctrl takes away"

    def key(self, event: QKeyEvent) -> bool:
        if event.key() == Qt.Key.Key_V:
            self.through = not self.through
            self.option_changed.emit()
            self.update()
            return True
        return super().key(event)

    def enter(self) -> bool:
        if not self.can_finish:
            return False
        self.finish()
        return True

    def hover(self, x: float, y: float) -> None:
        super().hover(x, y)
        self.update()

    def draw(self, painter: QPainter) -> None:
        super().draw(painter)
        if not self.points and self._at != (0.0, 0.0):  # what it would take, where one looks
            draw_label(
                painter, QPointF(*self._at) + QPointF(px(12), px(12)), "through" if self.through else "seen", True
            )

    def closed(self, corners: np.ndarray, at: Pointer) -> None:
        camera, hidden = self.view.camera, self.session.selected.hidden
        sight = Sight(camera.frame(), camera.middle.copy(), camera.scale, camera.width, camera.height)
        others = [buffers.mesh for buffers in self.session.others()]

        def work(mesh: Mesh, progress: Progress) -> np.ndarray:
            if self.through:
                return seen_through(mesh, sight, corners, hidden)
            return outlined(mesh, sight, corners, progress, hidden, others)

        self.found(work, at.keys)


class BackdropSelect(Selects):
    """What may be the backdrop: proposed, and never deleted unasked."""

    name = "Select the backdrop"
    picture, short = "backdrop", "Backdrop"
    cursor = Qt.CursorShape.ArrowCursor

    def hint(self) -> str:
        return "What may be the backdrop is selected: look at it, then delete it or not  (Esc to leave)"

    def taken(self) -> None:
        def work(mesh: Mesh, progress: Progress) -> np.ndarray:
            found = backdrop(mesh)
            if not found.any():
                raise BadInput("no backdrop found: no large flat faces the part and ends in the open")
            return found

        self.found(work, Qt.KeyboardModifier.NoModifier)


class Brush(Tool):
    """A stroke selects what the brush covers, along the surface; it stops at sharp edges and at the shell's end."""

    name = "Brush a selection"
    picture, short = "brush", "Brush"
    station = "Trim"
    selects = hides_rest = True
    cursor = Qt.CursorShape.CrossCursor
    options = (
        Option("Radius", "radius", 26.0, (0.01, 10_000.0)),
        Option("Radius in", "unit", "pixels", ("pixels", "mm")),
        Option("Stops at edges over", "degrees", 40.0, (1.0, 180.0), "°"),
    )

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._at = QPointF(-100, -100)

    def hint(self) -> str:
        return "Brush over the part to select; Ctrl takes away  (Esc to leave)"

    @property
    def reach(self) -> float:
        """Its radius, mm."""
        return self.radius if self.unit == "mm" else px(1) * self.radius * self.view.camera.scale

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
        start, way = self.view.camera.ray_from_outside(x, y)
        along, triangle = first_hits(mesh.tree, start[None], way[None], Progress().state)
        hidden = self.session.selected.hidden
        if triangle[0] < 0 or (hidden is not None and hidden[triangle[0]]):
            return None
        return int(triangle[0]), start + along[0] * way

    def press(self, at: Pointer) -> Drag | None:
        return self._stroke(at) if self.is_on_part(at) else None

    def _between(self, last: Pointer, at: Pointer) -> list[tuple[float, float]]:
        """Where the brush came by since it was seen last: a fast one is seen seldom, and leaves no gaps."""
        step = max(0.5 * self.reach / self.view.camera.scale, 1.0)
        count = min(int(np.ceil(np.hypot(at.x - last.x, at.y - last.y) / step)), _MOST_BETWEEN)
        shares = (np.arange(max(count, 1)) + 1) / max(count, 1)
        return [(last.x + t * (at.x - last.x), last.y + t * (at.y - last.y)) for t in shares]

    def _stroke(self, at: Pointer) -> Drag:
        selected, mesh = self.session.selected, self.session.mesh
        before = None if selected.triangles is None else selected.triangles.copy()
        selected.remember()
        try:
            last = at
            while at.is_down:
                hits = [hit for x, y in self._between(last, at) if (hit := self._hit(x, y)) is not None]
                if hits and self.session.mesh is mesh:
                    covered = [brushed(mesh, *hit, self.reach, self.degrees) for hit in hits]
                    selected.change(np.unique(np.concatenate(covered)), bool(at.keys & _CONTROL))
                last, at = at, (yield)
                self._at = QPointF(at.x, at.y)
        except GeneratorExit:
            if self.session.mesh is mesh:
                selected.put(before)
            raise

    def draw(self, painter: QPainter) -> None:
        radius = self.reach / self.view.camera.scale
        for colour, width in ((QColor("#1d2023"), 3.0), (QColor("#c6e83a"), 1.4)):
            painter.setPen(QPen(colour, width))
            painter.drawEllipse(self._at, radius, radius)
