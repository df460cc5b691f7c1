"""The straight snip: its plane, how tabs and typed values move it, and the frame that shows it."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from tinsnip.app.tools.cutting import CutTool, LeaningPlan, draw_line
from tinsnip.app.tools.snapping import Snaps
from tinsnip.app.view.hand import draw_label
from tinsnip.app.view.waste import Waste
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.datums.datum import Datum
from tinsnip.survey.bed import Bed
from tinsnip.treat import StraightSnip
from tinsnip.words import grouped_number

__all__ = ["SnipPlan", "SnipTool"]


class SnipPlan(LeaningPlan):
    """A plane; its direction is its normal.

    Attributes
    ----------
    offset : float
        Distance of the plane from the origin along the normal, mm.
    """

    def __init__(self, box: np.ndarray) -> None:
        super().__init__(box)
        self.offset = 0.0
        self.set_axis(2)

    def set_axis(self, axis: int) -> None:
        """Square to x, y or z, a little inside the part's lower end."""
        self.square_to(axis)
        low, high = self.box[0, axis], self.box[1, axis]
        share = 0.05 if axis == 2 else 0.5
        self.offset = float(low + share * (high - low))

    def set_two_points(self, a: np.ndarray, b: np.ndarray, sight: np.ndarray) -> None:
        """Through two points and along the line of sight."""
        along = b - a
        normal = np.cross(along, sight)
        length = np.linalg.norm(normal)
        if length < 1e-12 * max(1.0, float(np.linalg.norm(along))):
            return
        self.stand_on(normal / length, along)
        self.offset = float(self.axes[2] @ a)

    def set_through(self, point: np.ndarray, normal: np.ndarray) -> None:
        """Through a point, with a normal."""
        self.lean_to(normal)
        self.offset = float(self.normal @ point)

    def set_bed(self, bed: Bed) -> None:
        """Just above a bed, which is waste."""
        axis = int(np.abs(bed.normal).argmax())
        self.lean_to(bed.normal)
        sign = 1.0 if bed.normal[axis] > 0 else -1.0
        self.offset, self.flipped = sign * (bed.offset + bed.above), sign < 0

    def set_tilt(self, which: int, degrees: float) -> None:
        """Lean to a typed angle about the middle of the frame."""
        middle = self.frame()[0]
        self.tilt[which] = np.clip(degrees, -80.0, 80.0)
        self.offset = float(self.normal @ middle)

    def frame(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Middle of the frame round the part, and the two vectors from it to its sides, in the plane."""
        n = self.normal
        centre = self.box.mean(axis=0)
        middle = centre + (self.offset - n @ centre) * n
        u = self.axes[0] - (self.axes[0] @ n) * n
        u /= np.linalg.norm(u)
        v = np.cross(n, u)
        half = 0.5 * (self.box[1] - self.box[0])
        return middle, 1.08 * float(np.abs(u) @ half) * u, 1.08 * float(np.abs(v) @ half) * v

    def slide(self, distance: float) -> None:
        """Move along the normal."""
        self.offset += distance

    def tilt_side(self, which: int, rise: float) -> None:
        """Lift the side of one tab along the normal, about the opposite side."""
        middle, u, v = self.frame()
        side = u if which == 0 else v
        opposite = middle - side
        reach = 2 * float(np.linalg.norm(side))
        lifted = side / np.linalg.norm(side) * reach + rise * self.normal
        other = v if which == 0 else u
        n = np.cross(lifted, other) if which == 0 else np.cross(other, lifted)
        n /= np.linalg.norm(n)
        up = float(n @ self.axes[2])
        if up < 0.2:  # no farther than the typed angles go
            return
        self.tilt = np.degrees(np.arctan2([n @ self.axes[0], n @ self.axes[1]], up))
        self.offset = float(self.normal @ opposite)

    def waste_plane(self) -> tuple[np.ndarray, float]:
        """Normal and offset such that what lies below is waste."""
        sign = -1.0 if self.flipped else 1.0
        return sign * self.normal, sign * self.offset

    def waste(self) -> Waste:
        return Waste.below(*self.waste_plane())

    def treatment(self) -> StraightSnip:
        return StraightSnip(
            normal=tuple(float(x) for x in self.normal),
            offset=float(self.offset),
            waste="above" if self.flipped else "below",
            close=self.close,
            edge_mm=self.edge,
        )


class SnipTool(CutTool):
    """A frame round the part with a tab that slides it along its normal, and two that tilt it."""

    name = "Straight snip"
    plan: SnipPlan | None

    def places(self) -> list[tuple[str, np.ndarray]]:
        middle, u, v = self.plan.frame()
        return [("slide", middle), ("tilt-0", middle + u), ("tilt-1", middle + v)]

    def move_tab(self, name: str, dx: float, dy: float) -> None:
        distance = self.along(self.plan.normal, dx, dy)
        if name == "slide":
            self.plan.slide(distance)
        else:
            self.plan.tilt_side(int(name[-1]), distance)

    def snap(self, name: str, snaps: Snaps) -> Datum | None:
        plan = self.plan
        if name == "slide":
            found = snaps.offset(plan.normal, plan.offset)
            if found is not None:
                plan.offset = found[0]
        else:
            found = snaps.direction(plan.normal)
            if found is not None:
                middle, u, v = plan.frame()
                plan.lean_along(found[0])
                plan.offset = float(plan.normal @ (middle - (u, v)[int(name[-1])]))  # about the opposite side
        return None if found is None else found[1]

    def told(self, name: str) -> str:
        if name == "slide":
            return f"{self.plan.offset:.2f} mm"
        return f"tilt {grouped_number(self.plan.tilt[int(name[-1])], 1)}°"

    def draw(self, painter: QPainter) -> None:
        plan, camera = self.plan, self.view.camera
        if plan is None:
            return
        middle, u, v = plan.frame()
        draw_line(painter, self.view, np.array([middle + u + v, middle - u + v, middle - u - v, middle + u - v]))
        normal, _ = plan.waste_plane()
        reach = px(46) * camera.scale
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        for sign in (1, -1) if self.keeps_both else (1,):
            ends = camera.project(np.array([middle, middle + sign * reach * normal]))
            tail, head = (QPointF(x, y) for x, y, _ in ends)
            painter.setPen(QPen(QColor("#fbf8f0"), 1.6, Qt.PenStyle.DashLine))
            painter.drawLine(tail, head)
            draw_label(painter, head + QPointF(6, -9), "kept" if sign == 1 else "kept too")
        self.draw_tabs(painter)
