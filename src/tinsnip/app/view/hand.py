"""The hand: it holds one tool, and asks in a fixed order who a press is meant for."""

from collections.abc import Callable, Generator, Sequence
from typing import NamedTuple, Protocol

import numpy as np
from PySide6.QtCore import QObject, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPen
from PySide6.QtWidgets import QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.state.stroking import Stroking
from tinsnip.app.view.aiming import Aim
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.framing import Framing
from tinsnip.app.view.scene import Scene
from tinsnip.app.view.waste import Waste
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress

__all__ = ["Drag", "Hand", "Option", "Pointer", "Tab", "Tool", "View", "draw_label", "draw_tab", "draw_tab_label"]


class Pointer(NamedTuple):
    """Where the mouse is, in pixels from the view's top left, with what was pressed; `is_down` is False at the end.

    A pen has a pressure below 1.
    """

    x: float
    y: float
    button: Qt.MouseButton
    keys: Qt.KeyboardModifier
    is_down: bool = True
    pressure: float = 1.0


Drag = Generator[None, Pointer, None]
"""What a press goes on as: it is sent each move, and last the release. Closing it instead puts everything back."""


class View(Protocol):
    """What tools may ask of the view."""

    session: Session
    settings: Settings
    camera: Camera
    scene: Scene | None
    framing: Framing
    hand: "Hand"
    stroking: Stroking
    look: int
    shows: str

    def width(self) -> int: ...
    def height(self) -> int: ...
    def font(self) -> object: ...
    def moved(self) -> None: ...
    def turn_light(self, around: float, up: float) -> None: ...
    def redraw(self) -> None: ...
    def show_waste(self, waste: Waste | None) -> None: ...
    def covered(self) -> list[QRectF]: ...
    def surface_point(self, x: float, y: float) -> np.ndarray | None: ...
    def pick(
        self,
        x: float,
        y: float,
        done: Callable[[int, np.ndarray], None],
        missed: Callable[[], None] | None = None,
    ) -> None: ...


class Tab(NamedTuple):
    """A handle over the view: its name, place on the screen, and half size."""

    name: str
    at: QPointF
    half: float

    def is_under(self, x: float, y: float) -> bool:
        """Whether it is at a screen position, or next to it."""
        return abs(self.at.x() - x) <= self.half + 3 and abs(self.at.y() - y) <= self.half + 3


class Option(NamedTuple):
    """Something about a tool that can be set; it stays so for that tool.

    Attributes
    ----------
    text : str
        What it is called.
    name : str
        The tool's attribute that holds it.
    value : float, str or bool
        What it is at first.
    among : tuple
        The least and the most of a number, or the choices.
    unit : str
    """

    text: str
    name: str
    value: float | str | bool
    among: tuple = ()
    unit: str = ""


class Tool(QObject):
    """Something the mouse does over the view. A tool overrides what it needs.

    Attributes
    ----------
    name : str
        What it is called.
    station : str
        The station whose tray offers it with a button; none where a tray takes it in hand itself.
    cursor : Qt.CursorShape
        How the pointer looks while it is in hand.
    draws : bool
        A press is its own wherever nothing always stands, tags included.
    selects : bool
        What it finds becomes the selection.
    hides_rest : bool
        What the station has in hand otherwise is not drawn meanwhile.
    sees_parallel : bool
        It goes by what is drawn over the part, and so by parallel sight.
    picture, short : str
        The pictogram on its button, and the name below it, where its station has a row of them.
    options : tuple of Option
        What of it can be set; `option_changed` tells that it did so itself.
    act_text : str
        What Enter does with it, where that has a button beside its options.
    """

    name = ""
    picture = ""
    short = ""
    draws = selects = hides_rest = sees_parallel = False
    options: tuple[Option, ...] = ()
    act_text = ""
    option_changed = Signal()
    station = ""
    cursor = Qt.CursorShape.ArrowCursor

    def __init__(self, view: View) -> None:
        super().__init__()
        self.view = view
        for option in self.options:
            setattr(self, option.name, option.value)

    @property
    def session(self) -> Session:
        """The window's state."""
        return self.view.session

    def hint(self) -> str:
        """What to do next, in a line; nothing where that is plain."""
        return ""

    def tabs(self) -> Sequence[Tab]:
        """Its handles, where they are now."""
        return ()

    def area(self) -> QRectF | None:
        """What it always takes of the screen, which others keep clear of."""
        return None

    def spread(self, places: Sequence[tuple[str, float, float]], half: float) -> list[Tab]:
        """Handles at places, named, brought into view, clear of each other and of what is always there.

        Parameters
        ----------
        places : sequence of (str, float, float)
        half : float
            Half of a handle's size.
        """
        width, height, gap = self.view.width(), self.view.height(), half + 4.0
        taken = [r for tool in self.view.hand.fixed if (r := tool.area()) is not None] + self.view.covered()
        tabs: list[Tab] = []
        for name, x, y in places:
            x, y = (min(max(v, gap), max(gap, room - gap)) for v, room in ((x, width), (y, height)))
            for _ in range(8):  # out by the nearest side, which may be into the next one's way
                box = QRectF(x - gap, y - gap, 2 * gap, 2 * gap)
                hit = next((r for r in taken if r.intersects(box)), None)
                if hit is None:
                    break
                ways = ((hit.left() - gap - 1, y), (hit.right() + gap + 1, y), (x, hit.top() - gap - 1))
                ways += ((x, hit.bottom() + gap + 1),)
                inside = [w for w in ways if gap <= w[0] <= width - gap and gap <= w[1] <= height - gap]
                x, y = min(inside or [(x, y)], key=lambda w: abs(w[0] - x) + abs(w[1] - y))
            taken.append(QRectF(x - gap, y - gap, 2 * gap, 2 * gap))
            tabs.append(Tab(name, QPointF(x, y), half))
        return tabs

    def is_on_part(self, at: Pointer) -> bool:
        """Whether the left button went down on the part; beside it a press moves the view."""
        return at.button == Qt.MouseButton.LeftButton and self.view.surface_point(at.x, at.y) is not None

    def tab_at(self, x: float, y: float) -> Tab | None:
        """The handle at a screen position."""
        return next((tab for tab in self.tabs() if tab.is_under(x, y)), None)

    def cursor_at(self, x: float, y: float) -> Qt.CursorShape | None:
        """How the pointer looks at a position where a press would be this tool's; None where it would not."""
        return Qt.CursorShape.PointingHandCursor if self.tab_at(x, y) is not None else None

    def hover(self, x: float, y: float) -> None:
        """The pointer moves with no button down."""

    def would(self, x: float, y: float) -> Callable[[Mesh, Progress], object] | None:
        """What works out beside the window what a click at a pixel would do; None where that is nothing to show."""
        return None

    def aimed(self, found: object) -> None:
        """What was worked out, where it is neither triangles nor a treatment; None: nothing more."""

    def key(self, event: QKeyEvent) -> bool:
        """A key goes down over the view; True when it was meant for this tool."""
        return False

    def takes_key(self, event: QKeyEvent) -> bool:
        """Whether a key is its own even where a menu has it too."""
        return False

    def wheel(self, steps: float, keys: Qt.KeyboardModifier) -> bool:
        """The wheel was turned with keys held; False where that is not its own."""
        return False

    def enter(self) -> bool:
        """Enter was pressed; True when this tool has a use for it."""
        return False

    def press(self, at: Pointer) -> Drag | None:
        """A button goes down: what that begins, or None where it is not meant for this tool."""
        return None

    def draw(self, painter: QPainter) -> None:
        """Draw what belongs over the view."""

    def taken(self) -> None:
        """It has come into the hand."""

    def put_away(self) -> None:
        """It has left the hand; nothing of it may be left behind."""

    def update(self) -> None:
        """Have it drawn again."""
        self.view.hand.update()


class Hand(QObject):
    """Holds one tool, besides what is always there, and leads each drag to its end.

    A press is offered to what is always there, in order, then to the tool in hand, then to what moves the view. With
    the space bar held it goes straight to the last. A drag ends with the button it began with; other buttons pressed
    meanwhile mean nothing.
    """

    tool_changed = Signal()

    def __init__(self, view: QWidget, session: Session) -> None:
        super().__init__(view)
        self._view = view
        self._aim = Aim(session)
        self.fixed: list[Tool] = []
        self.drawn: list[Tool] = []
        self.moving: Tool | None = None
        self.rest: Tool | None = None
        self.tool: Tool | None = None
        self.space = False
        self.pressure = 1.0
        """How hard a pen is pressed, 0 to 1; a mouse always presses with all."""
        self._drag: Drag | None = None
        self._button = Qt.MouseButton.NoButton
        self._at = QPointF(-1, -1)
        self._last = Pointer(0.0, 0.0, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier)

    # ---- what it holds

    def take(self, tool: Tool) -> None:
        """Take a tool in hand; the one that was there is put away."""
        self._let_go()
        self.tool = tool
        tool.taken()
        self._changed()

    def put_away(self) -> None:
        """Put the tool away; the station's own, if any, is in hand again."""
        if self.tool is not None:
            self._let_go()
            self._changed()

    def _let_go(self) -> None:
        self._aim.away()
        self.cancel()
        gone, self.tool = self.tool, None
        if gone is not None:
            gone.put_away()

    def set_rest(self, tool: Tool | None) -> None:
        """The tool that is in hand when no other is; None: none."""
        if self.rest is tool:
            return
        self.put_away()
        self._aim.away()
        self.cancel()
        gone, self.rest = self.rest, tool
        if gone is not None:
            gone.put_away()
        if tool is not None:
            tool.taken()
        self._changed()

    def _changed(self) -> None:
        self._show_cursor()
        self.tool_changed.emit()
        self.update()

    def all_tools(self) -> list[Tool]:
        """Everything that draws, the lowest first."""
        rest = None if self.tool is not None and self.tool.hides_rest else self.rest
        own = [tool for tool in (rest, self.tool) if tool is not None]
        return [*self.drawn, *own, *self.fixed]

    def _asked(self, x: float, y: float) -> list[Tool]:
        """Who is asked whether a place on the screen is theirs; a handle there goes before all."""
        own = self.tool or self.rest
        asked = [] if self.space else [*self.fixed, *([own] if own is not None else [])]
        if asked and own is not None:
            is_clear = not any(a.contains(x, y) for a in (tool.area() for tool in self.fixed) if a is not None)
            if own.tab_at(x, y) is not None or (own.draws and is_clear):
                asked = [own, *self.fixed]
        return [*asked, *([self.moving] if self.moving is not None else [])]

    def hint(self) -> str:
        """What the tool in hand wants to be done next."""
        own = self.tool or self.rest
        return own.hint() if own is not None else ""

    def key(self, event: QKeyEvent) -> bool:
        """A key goes down over the view; True when the tool in hand has a use for it."""
        own = self.tool or self.rest
        return own is not None and own.key(event)

    def update(self) -> None:
        """Draw again what lies over the view."""
        self._view.update_overlay()

    # ---- the mouse

    def press(self, event: QMouseEvent) -> None:
        """A button goes down."""
        if self._drag is not None:
            return
        self._aim.away()
        at = self._pointer(event)
        for tool in self._asked(at.x, at.y):
            drag = tool.press(at)
            if drag is not None:
                self._button, self._last = event.button(), at
                self._start(drag)
                return

    def _start(self, drag: Drag) -> None:
        try:
            next(drag)
            self._drag = drag
        except StopIteration:
            self._drag = None
        self.update()

    def move(self, event: QMouseEvent) -> None:
        """The mouse moves, with or without a drag."""
        self._at = event.position()
        if self._drag is None:
            for tool in self._asked(self._at.x(), self._at.y()):
                tool.hover(self._at.x(), self._at.y())
            own = self.tool or self.rest
            if own is not None and not event.buttons():
                self._aim.over(own, self._at.x(), self._at.y())
            self._show_cursor()
        else:
            self._last = self._pointer(event)
            self._send(self._last)

    def release(self, event: QMouseEvent) -> None:
        """A button goes up; the drag ends if it is its own."""
        if self._drag is not None and event.button() == self._button:
            self._send(self._last._replace(is_down=False, button=event.button()))
            self.cancel()
            self._at = event.position()
            self._show_cursor()

    def left(self) -> None:
        """The pointer has left the view."""
        self._aim.away()

    def _pointer(self, event: QMouseEvent) -> Pointer:
        at = event.position()
        return Pointer(at.x(), at.y(), event.button(), event.modifiers(), pressure=self.pressure)

    def _send(self, at: Pointer) -> None:
        try:
            self._drag.send(at)
        except StopIteration:
            self._drag = None
        self.update()

    def cancel(self) -> None:
        """End a drag as if it had not been."""
        drag, self._drag = self._drag, None
        if drag is not None:
            drag.close()
            self.update()

    @property
    def is_dragging(self) -> bool:
        """Whether a button is held down on something."""
        return self._drag is not None

    def lost_focus(self) -> None:
        """Keys that are let go elsewhere are not heard of: nothing is held any more."""
        self.space = False
        self.cancel()
        self._show_cursor()

    def _show_cursor(self) -> None:
        x, y = self._at.x(), self._at.y()
        own = self.tool or self.rest
        shape = own.cursor if own is not None and not self.space else Qt.CursorShape.ArrowCursor
        for tool in self._asked(x, y):
            over = tool.cursor_at(x, y)
            if over is not None:
                shape = over
                break
        self._view.setCursor(shape)


def draw_label(painter: QPainter, at: QPointF, text: str, dark: bool = False) -> QRectF:
    """Draw a small paper label, or a dark one, with its upper left at a place; returns its box."""
    metrics = QFontMetricsF(painter.font())
    box = QRectF(at.x(), at.y(), metrics.horizontalAdvance(text) + 14, metrics.height() + 6)
    painter.setPen(QPen(QColor("#1d2023"), 1))
    painter.setBrush(QColor(38, 41, 44, 235) if dark else QColor("#fbf8f0"))
    painter.drawRect(box)
    painter.setPen(QColor("#f1eee8") if dark else QColor("#1d1b17"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    return box


def draw_tab_label(painter: QPainter, tab: Tab, text: str, view: View) -> None:
    """Draw a handle's label beside it, on the side where there is room."""
    room = QFontMetricsF(painter.font()).horizontalAdvance(text) + 14
    x = tab.at.x() + tab.half + 5
    if x + room > view.width() - 4:
        x = tab.at.x() - tab.half - 5 - room
    draw_label(painter, QPointF(x, tab.at.y() - 0.7 * tab.half), text)


def draw_tab(painter: QPainter, box: QRectF, held: bool, is_round: bool = False) -> None:
    """Draw a handle that can be dragged."""
    painter.setPen(QPen(QColor("#fbf8f0"), 2))
    painter.setBrush(QColor("#e08a4e") if held else QColor("#b4602a"))
    if is_round:
        painter.drawEllipse(box)
    else:
        painter.drawRoundedRect(box, 3, 3)
