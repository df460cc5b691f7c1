"""The box snip: its box, and how tabs on its sides move them."""

import numpy as np
from PySide6.QtGui import QPainter

from tinsnip.app.tools.cutting import CutPlan, CutTool, draw_line
from tinsnip.app.tools.snapping import Snaps
from tinsnip.app.view.waste import BOX, Waste
from tinsnip.app.widgets.theme import mono_font
from tinsnip.datums.datum import Datum
from tinsnip.treat import BoxSnip

__all__ = ["BoxPlan", "BoxTool"]


class BoxPlan(CutPlan):
    """A box that stands upright, turned about z.

    Attributes
    ----------
    middle, size : ndarray, shape (3,)
        mm.
    turn : float
        Degrees about z.
    """

    def __init__(self, box: np.ndarray) -> None:
        super().__init__(box)
        self.middle = box.mean(axis=0)
        self.size = np.maximum(0.5 * (box[1] - box[0]), 1e-3)
        self.turn = 0.0

    @property
    def axes(self) -> np.ndarray:
        """Rows: the ways its sides run."""
        c, s = np.cos(np.radians(self.turn)), np.sin(np.radians(self.turn))
        return np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])

    def set_around(self, points: np.ndarray) -> None:
        """Close round some points, shape (N, 3), with a little room."""
        own = points @ self.axes.T
        low, high = own.min(axis=0), own.max(axis=0)
        room = 0.02 * float((high - low).max())
        self.middle, self.size = self.axes.T @ (0.5 * (low + high)), np.maximum(high - low + 2 * room, 1e-3)

    def waste(self) -> Waste:
        return Waste(BOX, self.axes, self.middle, 0.5 * self.size, inside=not self.flipped)

    def treatment(self) -> BoxSnip:
        return BoxSnip(
            middle=tuple(float(x) for x in self.middle),
            size_mm=tuple(float(x) for x in self.size),
            along=tuple(float(x) for x in self.axes[0]),
            waste="outside" if self.flipped else "inside",
            close=self.close,
            edge_mm=self.edge,
        )

    def move_side(self, axis: int, sign: int, distance: float) -> None:
        """Move one side outward by so much; the opposite one stays."""
        distance = max(distance, 1e-3 - self.size[axis])
        self.size[axis] += distance
        self.middle = self.middle + 0.5 * sign * distance * self.axes[axis]


class BoxTool(CutTool):
    """A box with a tab on each side that moves it, and one that moves the whole."""

    name = "Box snip"
    plan: BoxPlan | None

    def places(self) -> list[tuple[str, np.ndarray]]:
        plan = self.plan
        sides = [
            (f"side-{axis}{sign:+d}", plan.middle + 0.5 * sign * plan.size[axis] * plan.axes[axis])
            for axis in range(3)
            for sign in (1, -1)
        ]
        return [("middle", plan.middle), *sides]

    def move_tab(self, name: str, dx: float, dy: float) -> None:
        plan = self.plan
        if name == "middle":
            plan.middle = plan.middle + self.in_view(dx, dy)
            return
        axis, sign = int(name[5]), int(name[6:])
        plan.move_side(axis, sign, self.along(sign * plan.axes[axis], dx, dy))

    def snap(self, name: str, snaps: Snaps) -> Datum | None:
        if name == "middle":
            return None
        plan, axis, sign = self.plan, int(name[5]), int(name[6:])
        outward = sign * plan.axes[axis]
        side = float(outward @ plan.middle) + 0.5 * plan.size[axis]
        found = snaps.offset(outward, side)
        if found is None or plan.size[axis] + found[0] - side < 1e-3:
            return None
        plan.move_side(axis, sign, found[0] - side)
        return found[1]

    def told(self, name: str) -> str:
        if name == self.held and name != "middle":
            axis = int(name[5])
            return f"{'xyz'[axis]} {self.plan.size[axis]:.2f} mm"
        return ""

    def draw(self, painter: QPainter) -> None:
        plan = self.plan
        if plan is None:
            return
        half = 0.5 * plan.size[:, None] * plan.axes
        for k in range(3):
            i, j = (k + 1) % 3, (k + 2) % 3
            for sign in (1, -1):
                at = plan.middle + sign * half[k]
                corners = [
                    at + half[i] + half[j],
                    at - half[i] + half[j],
                    at - half[i] - half[j],
                    at + half[i] - half[j],
                ]
                draw_line(painter, self.view, np.array(corners))
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        self.draw_tabs(painter)
