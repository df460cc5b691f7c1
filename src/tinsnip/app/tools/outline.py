"""The outline snip: a shape drawn over the view, carried through the part along the line of sight."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent, QPainter

from tinsnip.app.tools.cutting import CutPlan, CutTool, draw_line
from tinsnip.app.tools.drawing import Drawing
from tinsnip.app.view.hand import Drag, Pointer, View
from tinsnip.app.view.waste import OUTLINE, Waste
from tinsnip.errors import BadInput
from tinsnip.treat import OutlineSnip

__all__ = ["OutlinePlan", "OutlineTool"]


class OutlinePlan(CutPlan):
    """An outline in the plane of the view it was drawn in.

    Attributes
    ----------
    axes : ndarray, shape (3, 3)
        Rows: to the right, up, and towards the eye.
    origin : ndarray, shape (3,)
        mm.
    corners : ndarray, shape (N, 2)
        mm.
    near : bool
        Only what is seen there goes.
    """

    def __init__(self, box: np.ndarray, axes: np.ndarray, origin: np.ndarray, corners: np.ndarray) -> None:
        super().__init__(box)
        self.axes, self.origin, self.corners = axes, origin, corners
        self.near = False
        self._waste: Waste | None = None

    def __getstate__(self) -> dict[str, object]:
        """What a copy takes over: not what is on the graphics card."""
        return {**self.__dict__, "_waste": None}

    def waste(self) -> Waste:
        inside = not self.flipped
        if self._waste is None or self._waste.inside != inside:
            self._waste = Waste(OUTLINE, self.axes, self.origin, np.zeros(3), self.corners, inside=inside)
        return self._waste

    def treatment(self) -> OutlineSnip:
        return OutlineSnip(
            sight=tuple(self.axes[2].tolist()),
            across=tuple(self.axes[0].tolist()),
            origin=tuple(self.origin.tolist()),
            corners=tuple(map(tuple, self.corners.tolist())),
            waste="outside" if self.flipped else "inside",
            close=self.close,
            edge_mm=self.edge,
            near=self.near,
        )

    def line(self) -> np.ndarray:
        """The outline in space, mm, shape (N, 3)."""
        return self.origin + self.corners @ self.axes[:2]


class _Drawn(Drawing):
    def __init__(self, view: View, tool: "OutlineTool") -> None:
        super().__init__(view)
        self._tool = tool

    def closed(self, corners: np.ndarray, at: Pointer) -> None:
        self._tool.take_outline(corners)

    def drawn(self) -> None:
        super().drawn()
        self._tool.edited.emit()


class OutlineTool(CutTool):
    """What is drawn anew takes the place of the outline that was there."""

    name = "Outline snip"
    cursor = Qt.CursorShape.CrossCursor
    draws = sees_parallel = True
    plan: OutlinePlan | None

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.drawing = _Drawn(view, self)
        self.is_near = False

    def hint(self) -> str:
        return self.drawing.hint() if self.plan is None or self.drawing.points else ""

    def take_outline(self, corners: np.ndarray) -> None:
        """Set the snip up from a shape in pixels."""
        camera, mesh = self.view.camera, self.session.mesh
        if mesh is None:
            return
        flat = (corners - [camera.width / 2, camera.height / 2]) * camera.scale * [1, -1]
        plan = OutlinePlan(mesh.box, camera.frame(), camera.middle.copy(), flat)
        plan.near = self.is_near
        if self.plan is not None:
            plan.flipped, plan.close = self.plan.flipped, self.plan.close
        try:
            plan.treatment().cutter()
        except BadInput as error:
            self.session.message.emit(str(error), True)
            return
        self.show(plan)
        self.edited.emit()

    def press(self, at: Pointer) -> Drag | None:
        return self.drawing.press(at)

    def hover(self, x: float, y: float) -> None:
        self.drawing.hover(x, y)

    def key(self, event: QKeyEvent) -> bool:
        return self.drawing.key(event)

    def put_away(self) -> None:
        self.drawing.put_away()
        super().put_away()

    def draw(self, painter: QPainter) -> None:
        if self.plan is not None and not self.drawing.points:
            draw_line(painter, self.view, self.plan.line())
        self.drawing.draw(painter)
