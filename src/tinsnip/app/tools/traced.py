"""The traced snip: points clicked on the surface, joined along it, closed to a loop; each can be moved afterwards."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QPainter, QPen, QPolygonF

from tinsnip.app.tools.cutting import CutPlan, CutTool
from tinsnip.app.view.hand import Drag, Pointer, Tab, draw_tab
from tinsnip.app.view.waste import MARKS, Waste
from tinsnip.app.widgets.theme import px
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress
from tinsnip.treat import TracedSnip

__all__ = ["TracedPlan", "TracedTool"]


class TracedPlan(CutPlan):
    """Points on the surface, and what they come to once that is worked out.

    Attributes
    ----------
    points : list of ndarray, shape (3,)
        mm.
    line : ndarray, shape (N, 3)
        The way over the surface through them, mm; empty while it is being worked out.
    sides : ndarray of int8, shape (F,), optional
        1 left of the line, 0 right, 2 not connected with it.
    why_not : str
        Why they give no cut.
    """

    def __init__(self, box: np.ndarray) -> None:
        super().__init__(box)
        self.points: list[np.ndarray] = []
        self.line = np.zeros((0, 3))
        self.sides: np.ndarray | None = None
        self.why_not = ""
        self.is_swapped = False

    def swap(self) -> None:
        super().swap()
        self.is_swapped = True

    def waste(self) -> Waste | None:
        if self.sides is None:
            return None
        gone = self.sides == (0 if self.flipped else 1)
        return Waste(MARKS, np.eye(3), np.zeros(3), np.zeros(3), triangles=gone)

    def treatment(self) -> TracedSnip:
        return TracedSnip(
            points=tuple(tuple(float(x) for x in p) for p in self.points),
            waste="right" if self.flipped else "left",
            close=self.close,
            edge_mm=self.edge,
        )

    def goes(self, mesh: Mesh) -> int:
        return 0 if self.sides is None else int(np.count_nonzero(self.sides == (0 if self.flipped else 1)))


class TracedTool(CutTool):
    """A click sets a point; a point is dragged to move it; Backspace takes the last one back."""

    name = "Traced snip"
    cursor = Qt.CursorShape.CrossCursor
    plan: TracedPlan | None

    def hint(self) -> str:
        count = len(self.plan.points) if self.plan is not None else 0
        if count < 3:
            return ("Click the first point on the part", "Click the next point", "Click a third point")[count]
        return "Click further points, or drag one; Backspace takes the last back"

    def tabs(self) -> list[Tab]:
        if self.plan is None or not self.plan.points:
            return []
        at = self.view.camera.project(np.array(self.plan.points))
        return [Tab(f"point-{i}", QPointF(x, y), px(7)) for i, (x, y, _) in enumerate(at)]

    def press(self, at: Pointer) -> Drag | None:
        if at.button != Qt.MouseButton.LeftButton:
            return None
        tab = self.tab_at(at.x, at.y)
        if tab is not None:
            return self._move_point(int(tab.name[6:]))
        return self._set_point(at) if self.view.surface_point(at.x, at.y) is not None else None

    def _set_point(self, at: Pointer) -> Drag:
        def picked(triangle: int, point: np.ndarray) -> None:
            plan = self.plan or TracedPlan(self.session.mesh.box)
            plan.points.append(point)
            self.plan = plan
            self.work_out()

        self.view.pick(at.x, at.y, picked)
        return
        yield

    def _move_point(self, i: int) -> Drag:
        plan, before = self.plan, self.plan.points[i]
        try:
            at = yield
            while at.is_down:
                point = self.view.surface_point(at.x, at.y)
                if point is not None:
                    plan.points[i] = point
                    self.update()
                at = yield
        except GeneratorExit:
            plan.points[i] = before
            self.update()
            raise

        def picked(triangle: int, point: np.ndarray) -> None:
            if self.plan is plan and i < len(plan.points):
                plan.points[i] = point
                self.work_out()

        self.view.pick(at.x, at.y, picked, self.work_out)

    def take_back(self) -> bool:
        """Take the last point back; False when there is none."""
        if self.plan is None or not self.plan.points:
            return False
        self.plan.points.pop()
        self.work_out()
        return True

    def key(self, event: QKeyEvent) -> bool:
        return event.key() == Qt.Key.Key_Backspace and self.take_back()

    def show(self, plan: TracedPlan | None) -> None:
        super().show(plan)
        if plan is not None and plan.sides is None and len(plan.points) > 1:
            self.work_out()

    def work_out(self) -> None:
        """Find the way over the surface, and what it parts, beside the window."""
        plan, mesh = self.plan, self.session.mesh
        if plan is None or mesh is None:
            return
        plan.sides, plan.line, plan.why_not = None, np.zeros((0, 3)), ""
        self.show_waste()
        self.edited.emit()
        if len(plan.points) < 2:
            return
        snip = plan.treatment()

        def work(progress: Progress) -> tuple[np.ndarray, np.ndarray | None, str, bool]:
            line = np.zeros((0, 3))
            try:
                line = snip.line(mesh, progress)
                if len(snip.points) < 3:
                    return line, None, "", False
                sides = snip.traced(mesh, progress).sides
            except BadInput as error:
                return line, None, str(error), False
            area = np.bincount(
                sides, weights=np.linalg.norm(face_vectors(mesh.vertices, mesh.faces), axis=1), minlength=3
            )
            return line, sides, "", bool(area[0] < area[1])

        def done(found: tuple[np.ndarray, np.ndarray | None, str, bool]) -> None:
            if self.plan is not plan or self.session.mesh is not mesh:
                return
            plan.line, plan.sides, plan.why_not, right_is_smaller = found
            if not plan.is_swapped:  # the smaller side goes, as long as nobody said otherwise
                plan.flipped = right_is_smaller
            self.show_waste()
            self.edited.emit()

        self.session.tasks.behind("trace", work, done)

    def draw(self, painter: QPainter) -> None:
        if self.plan is None:
            return
        line = self.plan.line if len(self.plan.line) else np.array(self.plan.points).reshape(-1, 3)
        if len(line) > 1:
            flat = QPolygonF([QPointF(x, y) for x, y, _ in self.view.camera.project(line)])
            closed = len(self.plan.points) > 2 and len(self.plan.line)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for colour, width in ((QColor(20, 22, 24, 200), 4.5), (QColor("#fbf8f0"), 2.0)):
                painter.setPen(QPen(colour, width))
                if closed:
                    painter.drawPolygon(flat)
                else:
                    painter.drawPolyline(flat)
        for tab in self.tabs():
            half = 0.8 * tab.half
            box = tab.at.x() - half, tab.at.y() - half, 2 * half, 2 * half
            draw_tab(painter, QRectF(*box), tab.name == self.held, is_round=True)
