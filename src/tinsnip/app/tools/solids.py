"""Simple solids placed by handles, and drain holes placed by a click."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter

from tinsnip.app.tools.box import BoxPlan, BoxTool
from tinsnip.app.tools.cutting import draw_line, draw_ring
from tinsnip.app.tools.onsurface import on_surface
from tinsnip.app.view.hand import Drag, Option, Pointer, Tool, View, draw_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.polygons import plane_axes
from tinsnip.treat import AddSolid, Drain
from tinsnip.treat.close.simple import DrainAim

__all__ = ["DrillDrain", "PlaceSolid"]

_SHARE = 0.3
"""How large a solid is at first, as a share of the part."""
_FIELDS = ("width", "depth", "height")


class SolidPlan(BoxPlan):
    """A box or an upright cylinder, and what is done with it."""

    def __init__(self, box: np.ndarray, shape: str, how: str) -> None:
        super().__init__(box)
        self.shape, self.how = shape, how
        size = np.maximum(box[1] - box[0], 1e-3)
        self.size = _SHARE * size if shape == "box" else _SHARE * np.array([size[:2].min(), size[:2].min(), size[2]])
        self.middle = np.array([*box.mean(axis=0)[:2], box[1, 2]])

    def treatment(self) -> AddSolid:
        return AddSolid(
            shape=self.shape,
            how=self.how,
            middle=tuple(float(x) for x in self.middle),
            size_mm=tuple(float(x) for x in self.size),
            along=tuple(float(x) for x in self.axes[0]),
        )


class PlaceSolid(BoxTool):
    """A box or a cylinder with tabs that move it and its sides; Enter joins it, cuts it out, or keeps what it holds."""

    name = "Place a solid"
    station = "Solid"
    options = (
        Option("Shape", "shape", "box", ("box", "cylinder")),
        Option("What it does", "how", "join", ("join", "cut", "intersect")),
        Option("Width", "width", 10.0, (1e-3, 1e6), "mm"),
        Option("Depth", "depth", 10.0, (1e-3, 1e6), "mm"),
        Option("Height", "height", 10.0, (1e-3, 1e6), "mm"),
    )
    act_text = "Join or cut it"
    plan: SolidPlan | None

    def hint(self) -> str:
        return "Drag its tabs, or type its size; Enter does it  (Esc to leave)" if self.plan is not None else ""

    def taken(self) -> None:
        mesh = self.session.mesh
        if mesh is not None and len(mesh.faces):
            self.plan = SolidPlan(mesh.box, self.shape, self.how)
            self._tell()
        super().taken()

    def set_shape(self, shape: str) -> None:
        """Another shape at the same place."""
        if self.plan is not None:
            self.plan.shape = shape

    def update(self) -> None:
        """Take over what was typed or chosen."""
        if self.plan is not None:
            self.plan.shape, self.plan.how = self.shape, self.how
            typed = np.array([getattr(self, name) for name in _FIELDS])
            changed = np.abs(typed - self.plan.size) > 0.006  # fields show hundredths
            self.plan.size = np.where(changed, typed, self.plan.size)
        super().update()

    def _tell(self) -> None:
        for name, value in zip(_FIELDS, self.plan.size, strict=True):
            setattr(self, name, float(value))
        self.option_changed.emit()

    def move_tab(self, name: str, dx: float, dy: float) -> None:
        super().move_tab(name, dx, dy)
        self._tell()

    def show_waste(self) -> None:
        """Nothing is hatched: what is joined is no waste."""

    def enter(self) -> bool:
        if self.plan is None:
            self.view.hand.take(self)
            return True
        self.session.apply(self.plan.treatment())
        return True

    def draw(self, painter: QPainter) -> None:
        plan = self.plan
        if plan is None or plan.shape == "box":
            super().draw(painter)
            return
        u, v, up = 0.5 * plan.size[:, None] * plan.axes
        for sign in (1, -1):
            draw_ring(painter, self.view, plan.middle + sign * up, u, v)
        for way in (u, -u, v, -v):
            draw_line(painter, self.view, plan.middle + way + np.array([up, -up]), closed=False)
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        self.draw_tabs(painter)


class DrillDrain(Tool):
    """A click drills a drain hole through the wall of a hollow part."""

    name = "Drill a drain hole"
    station = "Solid"
    cursor = Qt.CursorShape.CrossCursor
    options = (Option("Hole's diameter", "diameter", 4.0, (0.01, 1000.0), "mm"),)

    def hint(self) -> str:
        return "Click where the hole goes, straight in from the surface  (Esc to leave)"

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.aim: DrainAim | None = None

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object]:
        def aim(mesh: Mesh, triangle: int, point: np.ndarray) -> DrainAim:
            return Drain(at=tuple(map(float, point)), diameter_mm=float(self.diameter)).aimed(mesh)

        return on_surface(self.view, x, y, aim)

    def aimed(self, found: object) -> None:
        self.aim = found if isinstance(found, DrainAim) else None
        self.update()

    def draw(self, painter: QPainter) -> None:
        aim = self.aim
        if aim is None:
            return
        across = 0.5 * self.diameter * np.array(plane_axes(aim.inward))
        through = aim.foot + aim.wall_mm * aim.inward
        for middle in (through, aim.foot):
            draw_ring(painter, self.view, middle, *across)
        draw_line(painter, self.view, np.array([aim.foot, through]), closed=False)
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        x, y, _ = self.view.camera.project(aim.foot)[0]
        draw_label(painter, QPointF(x + px(14), y + px(14)), f"through {aim.wall_mm:.3g} mm of wall", True)

    def press(self, at: Pointer) -> Drag | None:
        return self._click(at) if self.is_on_part(at) else None

    def _click(self, at: Pointer) -> Drag:
        def picked(triangle: int, point: np.ndarray) -> None:
            self.session.apply(Drain(at=tuple(float(x) for x in point), diameter_mm=float(self.diameter)))

        self.view.pick(at.x, at.y, picked)
        return
        yield
