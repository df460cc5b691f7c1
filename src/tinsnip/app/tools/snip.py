"""The straight snip: its plane, how tabs and typed values move it, and the frame that shows it."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from tinsnip.app.view.hand import Drag, Pointer, Tab, Tool, View, draw_label, draw_tab, draw_tab_label
from tinsnip.app.widgets.theme import mono_font, px
from tinsnip.survey.bed import Bed
from tinsnip.treat import SnipApart, StraightSnip
from tinsnip.words import grouped_number

__all__ = ["SnipPlan", "SnipTool"]


class SnipPlan:
    """A plane with a base direction from which its two tilts are counted.

    Attributes
    ----------
    axes : ndarray, shape (3, 3)
        Rows: the two directions the tilts lean towards, and the base normal.
    tilt : ndarray, shape (2,)
        Degrees by which the normal leans towards each of the first two.
    offset : float
        Distance of the plane from the origin along the normal, mm.
    flipped : bool
        Waste above instead of below.
    close : bool
        Close the cut with flat triangles.
    """

    def __init__(self, box: np.ndarray) -> None:
        self.box = box
        self.axes = np.eye(3)
        self.tilt = np.zeros(2)
        self.offset = 0.0
        self.flipped = False
        self.close = False
        self.set_axis(2)

    def set_axis(self, axis: int) -> None:
        """Square to x, y or z, a little inside the part's lower end."""
        self.axes = np.roll(np.eye(3), -((axis + 1) % 3), axis=0)
        self.tilt = np.zeros(2)
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
        normal /= length
        first = along / np.linalg.norm(along)
        self.axes = np.stack([first, np.cross(normal, first), normal])
        self.tilt = np.zeros(2)
        self.offset = float(normal @ a)

    def set_bed(self, bed: Bed) -> None:
        """Just above a bed, which is waste."""
        axis = int(np.abs(bed.normal).argmax())
        self.set_axis(axis)
        sign = 1.0 if bed.normal[axis] > 0 else -1.0
        lean = self.axes @ (sign * bed.normal)
        self.tilt = np.degrees(np.arctan2(lean[:2], lean[2]))
        self.offset, self.flipped = sign * (bed.offset + bed.above), sign < 0

    @property
    def normal(self) -> np.ndarray:
        """Unit normal of the plane."""
        lean = np.tan(np.radians(self.tilt))
        n = self.axes[2] + lean[0] * self.axes[0] + lean[1] * self.axes[1]
        return n / np.linalg.norm(n)

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

    def treatment(self) -> StraightSnip:
        """The snip as it stands."""
        return StraightSnip(
            normal=tuple(float(x) for x in self.normal),
            offset=float(self.offset),
            waste="above" if self.flipped else "below",
            close=self.close,
        )

    def apart(self) -> SnipApart:
        """The same cut, with both sides kept as pieces."""
        normal, offset = self.waste_plane()
        return SnipApart(normal=tuple(float(x) for x in normal), offset=float(offset), close=self.close)


class SnipTool(Tool):
    """A frame round the part with a tab that slides it along its normal, and two that tilt it.

    Attributes
    ----------
    plan : SnipPlan or None
        What is set up; nothing is drawn while there is none.
    keeps_both : bool
        Nothing is waste: both sides stay.
    """

    name = "Straight snip"
    edited = Signal()

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.plan: SnipPlan | None = None
        self.keeps_both = False
        self._held = ""

    def show(self, plan: SnipPlan | None) -> None:
        """Set another plan up."""
        self.plan = plan
        self.show_waste()

    def show_waste(self) -> None:
        """Hatch what the snip would cut away."""
        if self.view.scene is not None:
            shown = self.plan is not None and not self.keeps_both
            self.view.scene.waste = self.plan.waste_plane() if shown else None
        self.view.moved()

    def taken(self) -> None:
        self.show_waste()

    def put_away(self) -> None:
        self.plan = None
        self.show_waste()

    def tabs(self) -> list[Tab]:
        if self.plan is None:
            return []
        middle, u, v = self.plan.frame()
        places = self.view.camera.project(np.array([middle, middle + u, middle + v]))
        named = zip(("slide", "tilt-0", "tilt-1"), places, strict=True)
        return self.spread([(name, place[0], place[1]) for name, place in named], px(13))

    def press(self, at: Pointer) -> Drag | None:
        tab = self.tab_at(at.x, at.y)
        return None if tab is None or at.button != Qt.MouseButton.LeftButton else self._drag(at, tab.name)

    def _drag(self, at: Pointer, tab: str) -> Drag:
        plan = self.plan
        before = plan.tilt.copy(), plan.offset
        self._held = tab
        try:
            while at.is_down:
                now = yield
                distance = self._distance(plan, now.x - at.x, now.y - at.y)
                if tab == "slide":
                    plan.slide(distance)
                else:
                    plan.tilt_side(int(tab[-1]), distance)
                self.show_waste()
                self.edited.emit()
                at = now
        except GeneratorExit:
            plan.tilt, plan.offset = before
            self.show_waste()
            self.edited.emit()
            raise
        finally:
            self._held = ""

    def _distance(self, plan: SnipPlan, dx: float, dy: float) -> float:
        """How far along the normal a drag by so many pixels leads, mm."""
        camera = self.view.camera
        right, up, _ = camera.frame()
        flat = np.array([plan.normal @ right, plan.normal @ up])
        length2 = float(flat @ flat)
        if length2 > 0.02:
            return (dx * flat[0] - dy * flat[1]) * camera.scale / length2
        return -dy * camera.scale  # looked at along its normal: up is along it

    def draw(self, painter: QPainter) -> None:
        plan, camera = self.plan, self.view.camera
        if plan is None:
            return
        middle, u, v = plan.frame()
        corners = np.array([middle + u + v, middle - u + v, middle - u - v, middle + u - v])
        flat = [QPointF(x, y) for x, y, _ in camera.project(corners)]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in ((QColor(20, 22, 24, 160), 4.0), (QColor("#fbf8f0"), 1.6)):
            painter.setPen(QPen(colour, width))
            painter.drawPolygon(QPolygonF(flat))
        normal, _ = plan.waste_plane()
        reach = px(46) * camera.scale
        painter.setFont(mono_font(painter.font().pointSizeF() * 0.88, bold=True))
        for sign in (1, -1) if self.keeps_both else (1,):
            ends = camera.project(np.array([middle, middle + sign * reach * normal]))
            tail, head = (QPointF(x, y) for x, y, _ in ends)
            painter.setPen(QPen(QColor("#fbf8f0"), 1.6, Qt.PenStyle.DashLine))
            painter.drawLine(tail, head)
            draw_label(painter, head + QPointF(6, -9), "kept" if sign == 1 else "kept too")
        for tab in self.tabs():
            thin = 0.6 * tab.half
            box = QRectF(tab.at.x() - thin, tab.at.y() - tab.half, 2 * thin, 2 * tab.half)
            if tab.name != "slide":
                box = QRectF(tab.at.x() - tab.half, tab.at.y() - thin, 2 * tab.half, 2 * thin)
            draw_tab(painter, box, tab.name == self._held)
            text = (
                f"{plan.offset:.2f} mm"
                if tab.name == "slide"
                else f"tilt {grouped_number(plan.tilt[int(tab.name[-1])], 1)}°"
            )
            draw_tab_label(painter, tab, text, self.view)
