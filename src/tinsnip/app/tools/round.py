"""The round snip: its cylinder, how tabs and typed values move it, and the rings that show it."""

import numpy as np
from PySide6.QtGui import QPainter

from tinsnip.app.tools.cutting import CutTool, LeaningPlan, draw_line, draw_ring
from tinsnip.app.tools.snapping import Snaps
from tinsnip.app.view.waste import ROUND, Waste
from tinsnip.app.widgets.theme import mono_font
from tinsnip.datums.datum import Datum
from tinsnip.space.polygons import plane_axes
from tinsnip.treat import RoundSnip

__all__ = ["RoundPlan", "RoundTool"]


class RoundPlan(LeaningPlan):
    """A cylinder without ends; its direction is its axis.

    Attributes
    ----------
    through : ndarray, shape (3,)
        A point on the axis, mm.
    radius : float
        mm.
    """

    def __init__(self, box: np.ndarray) -> None:
        super().__init__(box)
        self.through = box.mean(axis=0)
        self.radius = 1.0
        self.set_axis(2)

    def set_axis(self, axis: int) -> None:
        """Along x, y or z, through the middle of the part."""
        self.square_to(axis)
        across = np.delete(self.box[1] - self.box[0], axis)
        self.through, self.radius = self.box.mean(axis=0), max(0.25 * float(across.min()), 1e-3)

    def set_along(self, point: np.ndarray, direction: np.ndarray, radius: float | None = None) -> None:
        """Through a point, along a direction."""
        self.lean_to(direction)
        # the point of the axis nearest the part's middle, where its tabs are at hand
        n = self.normal
        self.through = point + ((self.box.mean(axis=0) - point) @ n) * n
        if radius is not None:
            self.radius = radius

    def waste(self) -> Waste:
        u, v = plane_axes(self.normal)
        return Waste(
            ROUND, np.stack([u, v, self.normal]), self.through, np.array([self.radius, 0, 0]), inside=not self.flipped
        )

    def treatment(self) -> RoundSnip:
        return RoundSnip(
            axis=tuple(float(x) for x in self.normal),
            through=tuple(float(x) for x in self.through),
            radius_mm=float(self.radius),
            waste="outside" if self.flipped else "inside",
            close=self.close,
            edge_mm=self.edge,
        )

    def ends(self) -> tuple[np.ndarray, np.ndarray]:
        """Where the drawn part of the axis ends, a little outside the part."""
        n = self.normal
        along = (self.box - self.box.mean(axis=0)) @ np.diag(np.sign(n) + (n == 0)) @ n
        middle = self.through + ((self.box.mean(axis=0) - self.through) @ n) * n
        reach = 1.15 * float(np.abs(along).max())
        return middle - reach * n, middle + reach * n


class RoundTool(CutTool):
    """A cylinder with tabs that move it sideways, change its radius, and lean it."""

    name = "Round snip"
    plan: RoundPlan | None

    def _sideways(self) -> np.ndarray:
        """The way from the axis to the tab of the radius: to the right as seen."""
        n, (right, up, _) = self.plan.normal, self.view.camera.frame()
        side = right - (right @ n) * n
        side = side if np.linalg.norm(side) > 0.3 else up - (up @ n) * n
        return side / np.linalg.norm(side)

    def places(self) -> list[tuple[str, np.ndarray]]:
        plan = self.plan
        aside = plan.through + plan.radius * self._sideways()
        return [("middle", plan.through), ("radius", aside), ("lean", plan.ends()[1])]

    def move_tab(self, name: str, dx: float, dy: float) -> None:
        plan = self.plan
        if name == "radius":
            plan.radius = max(plan.radius + self.along(self._sideways(), dx, dy), 1e-3)
            return
        way = self.in_view(dx, dy)
        way = way - (way @ plan.normal) * plan.normal
        if name == "middle":
            plan.through = plan.through + way
            return
        top = plan.ends()[1] + way - plan.through
        if top @ plan.axes[2] > 0.2 * np.linalg.norm(top):  # no farther than the typed angles go
            lean = plan.axes @ top
            plan.tilt = np.clip(np.degrees(np.arctan2(lean[:2], lean[2])), -80.0, 80.0)

    def snap(self, name: str, snaps: Snaps) -> Datum | None:
        plan = self.plan
        if name == "radius":
            found = snaps.radius(plan.radius)
            plan.radius = plan.radius if found is None else found[0]
        elif name == "middle":
            found = snaps.axis(plan.through, plan.normal)
            plan.through = plan.through if found is None else found[0]
        else:
            found = snaps.direction(plan.normal)
            if found is not None:
                plan.lean_along(found[0])
        return None if found is None else found[1]

    def told(self, name: str) -> str:
        return {"radius": f"radius {self.plan.radius:.2f} mm", "middle": "axis", "lean": "lean"}[name]

    def draw(self, painter: QPainter) -> None:
        plan = self.plan
        if plan is None:
            return
        u, v = (plan.radius * a for a in plane_axes(plan.normal))
        low, high = plan.ends()
        for end in (low, high):
            draw_ring(painter, self.view, end, u, v)
        side = np.cross(plan.normal, self.view.camera.frame()[2])
        if np.linalg.norm(side) > 0.05:
            side *= plan.radius / np.linalg.norm(side)
            for sign in (1, -1):
                draw_line(painter, self.view, np.array([low + sign * side, high + sign * side]), closed=False)
        draw_line(painter, self.view, np.array([low, high]), closed=False, dashed=True)
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        self.draw_tabs(painter)
