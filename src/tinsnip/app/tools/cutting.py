"""What every snip by hand has: a plan of the cut, tabs that move it, and what would go, hatched."""

import copy
from typing import Self

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from tinsnip.app.tools.snapping import Snaps
from tinsnip.app.view.hand import Drag, Pointer, Tab, Tool, View, draw_tab, draw_tab_label
from tinsnip.app.view.waste import Waste
from tinsnip.app.widgets.theme import px
from tinsnip.datums.datum import Datum
from tinsnip.mesh import Mesh
from tinsnip.treat import SnipApart, Treatment

__all__ = ["CutPlan", "CutTool", "LeaningPlan", "draw_line", "draw_ring"]

_PAPER = QColor("#fbf8f0")
_SHADOW = QColor(20, 22, 24, 160)


class CutPlan:
    """A cut that is set up.

    Attributes
    ----------
    box : ndarray, shape (2, 3)
        The part's, for which it was set up.
    flipped : bool
        The other side is waste.
    close : bool
        Close the cut.
    edge : float, optional
        Length of the edges of the triangles that close it, mm; None: as few triangles as may be.
    cut_from : int
        How many triangles the part had when it was cut by it; 0 as long as it was not.
    """

    def __init__(self, box: np.ndarray) -> None:
        self.box = box
        self.flipped = False
        self.close = False
        self.edge: float | None = None
        self.cut_from = 0

    def copy(self) -> Self:
        """It as it stands now."""
        return copy.deepcopy(self)

    def take_from(self, other: Self) -> None:
        """Stand as another does."""
        self.__dict__.update(copy.deepcopy(other.__dict__))

    def waste(self) -> Waste | None:
        """What would go; None while that is not known."""
        raise NotImplementedError

    why_not = ""
    """Why it cannot be cut as it stands."""

    def goes(self, mesh: Mesh) -> int:
        """How many triangles would go whole."""
        return self.treatment().goes(mesh)

    def swap(self) -> None:
        """Let the other side go."""
        self.flipped = not self.flipped

    def treatment(self) -> Treatment:
        """The snip as it stands."""
        raise NotImplementedError

    def apart(self) -> SnipApart:
        """The same cut, with both sides kept as pieces."""
        return SnipApart(snip=self.treatment())


class LeaningPlan(CutPlan):
    """A plan with a direction that leans by two angles from a base direction.

    Attributes
    ----------
    axes : ndarray, shape (3, 3)
        Rows: the two directions the tilts lean towards, and the base direction.
    tilt : ndarray, shape (2,)
        Degrees by which the direction leans towards each of the first two.
    """

    def __init__(self, box: np.ndarray) -> None:
        super().__init__(box)
        self.axes = np.eye(3)
        self.tilt = np.zeros(2)

    @property
    def normal(self) -> np.ndarray:
        """The unit direction."""
        lean = np.tan(np.radians(self.tilt))
        n = self.axes[2] + lean[0] * self.axes[0] + lean[1] * self.axes[1]
        return n / np.linalg.norm(n)

    def square_to(self, axis: int) -> None:
        """Along x, y or z."""
        self.axes = np.roll(np.eye(3), -((axis + 1) % 3), axis=0)
        self.tilt = np.zeros(2)

    def lean_to(self, direction: np.ndarray) -> None:
        """Along any direction, told from the nearest axis."""
        axis = int(np.abs(direction).argmax())
        self.square_to(axis)
        self.lean_along(direction if direction[axis] > 0 else -direction)

    def lean_along(self, direction: np.ndarray) -> None:
        """Lean along a unit direction on the side of the base direction."""
        lean = self.axes @ direction
        self.tilt = np.degrees(np.arctan2(lean[:2], lean[2]))

    def stand_on(self, direction: np.ndarray, across: np.ndarray) -> None:
        """Along a direction that is the base itself, such as the line of sight."""
        first = across - (across @ direction) * direction
        first /= np.linalg.norm(first)
        self.axes = np.stack([first, np.cross(direction, first), direction])
        self.tilt = np.zeros(2)


class CutTool(Tool):
    """Draws a plan over the view, with tabs that change it.

    Attributes
    ----------
    plan : CutPlan or None
        What is set up; nothing is drawn while there is none.
    keeps_both : bool
        Nothing is waste: both sides stay.
    stopped_at : str
        The datum that the tab which is held has come to stop at.
    """

    edited = Signal()

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.plan: CutPlan | None = None
        self.keeps_both = False
        self.held = ""
        self.stopped_at = ""

    def show(self, plan: CutPlan | None) -> None:
        """Set another plan up."""
        self.plan = plan
        self.show_waste()

    def show_waste(self) -> None:
        """Hatch what the snip would cut away."""
        shown = self.plan is not None and not self.keeps_both
        self.view.show_waste(self.plan.waste() if shown else None)

    def taken(self) -> None:
        self.show_waste()

    def put_away(self) -> None:
        self.plan = None
        self.show_waste()

    def places(self) -> list[tuple[str, np.ndarray]]:
        """Its tabs by name, and where they stand, mm."""
        return []

    def tabs(self) -> list[Tab]:
        named = self.places() if self.plan is not None else []
        if not named:
            return []
        at = self.view.camera.project(np.array([place for _, place in named]))
        return self.spread([(name, p[0], p[1]) for (name, _), p in zip(named, at, strict=True)], px(13))

    def move_tab(self, name: str, dx: float, dy: float) -> None:
        """Change the plan as a tab is dragged by so many pixels."""
        raise NotImplementedError

    def snap(self, name: str, snaps: Snaps) -> Datum | None:
        """Bring the plan onto a datum that the tab which is dragged has come near, and say which."""
        return None

    def told(self, name: str) -> str:
        """What stands beside a tab."""
        return ""

    def press(self, at: Pointer) -> Drag | None:
        tab = self.tab_at(at.x, at.y)
        return None if tab is None or at.button != Qt.MouseButton.LeftButton else self._drag(at, tab.name)

    def _drag(self, at: Pointer, tab: str) -> Drag:
        before, free = self.plan.copy(), self.plan.copy()
        self.held = tab
        snaps = Snaps.of(self.view)
        try:
            while at.is_down:
                now = yield
                self.plan.take_from(free)  # where the hand is, not where it was drawn to
                self.move_tab(tab, now.x - at.x, now.y - at.y)
                free.take_from(self.plan)
                is_free = bool(now.keys & Qt.KeyboardModifier.AltModifier)
                datum = None if is_free else self.snap(tab, snaps)
                self.stopped_at = "" if datum is None else datum.name
                self.show_waste()
                self.edited.emit()
                at = now
        except GeneratorExit:
            self.plan.take_from(before)
            self.show_waste()
            self.edited.emit()
            raise
        finally:
            self.held = self.stopped_at = ""

    def along(self, direction: np.ndarray, dx: float, dy: float) -> float:
        """How far along a direction a drag by so many pixels leads, mm."""
        right, up, _ = self.view.camera.frame()
        flat = np.array([direction @ right, direction @ up])
        length2 = float(flat @ flat)
        if length2 > 0.02:
            return (dx * flat[0] - dy * flat[1]) * self._scale / length2
        return -dy * self._scale  # looked at along it: up is along it

    @property
    def _scale(self) -> float:
        """mm a pixel where the part is."""
        camera = self.view.camera
        return camera.scale * float(camera.shrink_at(camera.centre)[0])

    def in_view(self, dx: float, dy: float) -> np.ndarray:
        """The way in space that a drag by so many pixels leads, mm."""
        right, up, _ = self.view.camera.frame()
        return self._scale * (dx * right - dy * up)

    def draw_tabs(self, painter: QPainter) -> None:
        """Draw the tabs with what they say."""
        for tab in self.tabs():
            thin = 0.6 * tab.half
            wide, high = (thin, tab.half) if tab.name == "slide" else (tab.half, thin)
            if tab.name == "middle":
                wide = high
            box = QRectF(tab.at.x() - wide, tab.at.y() - high, 2 * wide, 2 * high)
            draw_tab(painter, box, tab.name == self.held, is_round=tab.name == "middle")
            text = self.told(tab.name)
            if tab.name == self.held and self.stopped_at:
                text = f"{text} · at {self.stopped_at}" if text else f"at {self.stopped_at}"
            if text:
                draw_tab_label(painter, tab, text, self.view)


def draw_line(painter: QPainter, view: View, points: np.ndarray, closed: bool = True, dashed: bool = False) -> None:
    """Draw a line through points, mm, shape (N, 3), light with a dark border."""
    flat = QPolygonF([QPointF(x, y) for x, y, _ in view.camera.project(points)])
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((_SHADOW, 4.0), (_PAPER, 1.6)):
        painter.setPen(QPen(colour, width, Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine))
        if closed:
            painter.drawPolygon(flat)
        else:
            painter.drawPolyline(flat)


def draw_ring(painter: QPainter, view: View, middle: np.ndarray, u: np.ndarray, v: np.ndarray) -> None:
    """Draw a ring about a place; u and v lead from there to two of its points a quarter apart."""
    turn = np.linspace(0, 2 * np.pi, 72, endpoint=False)
    draw_line(painter, view, middle + np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * v)
