"""A walk through a whole job in nine cards, each of which points at a real control and waits until it was used."""

from collections.abc import Callable
from typing import NamedTuple, Protocol

from PySide6.QtCore import QPoint, QRect, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.frame.cards import Cards
from tinsnip.app.frame.ticket import Ticket
from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.stations.station import Tray
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px

__all__ = ["Walk", "Walked"]

_LOOK_MS = 150
_TURNED = 15.0
"""Degrees by which the view has to be turned to count as turned."""


class Walked(Protocol):
    """What is asked of the window that is walked through, which is a QWidget too."""

    session: Session
    viewport: Viewport
    settings: Settings
    ticket: Ticket
    cards: Cards
    tray_column: QWidget
    state_button: QWidget

    def tray(self, name: str) -> Tray: ...
    def fold_ticket(self) -> None: ...
    def fold_tray(self) -> None: ...


class _Stage(NamedTuple):
    """One card: what it says, what it points at, and whether that has been done."""

    title: str
    text: str
    control: Callable[["Walk"], QWidget | None]
    is_done: Callable[["Walk"], bool]


def _copper_of(station: str) -> Callable[["Walk"], QWidget | None]:
    """The station on the ticket, and once it is open its copper button."""

    def control(walk: "Walk") -> QWidget:
        if walk.window_.session.station != station:
            return walk.window_.ticket.rows[[one.name for one in STATIONS].index(station)]
        return walk.window_.tray(station).copper

    return control


def _has_none(what: Callable[["Walk"], object]) -> Callable[["Walk"], bool]:
    """Whether the part was looked over and has nothing of a kind any more."""

    def is_done(walk: "Walk") -> bool:
        session = walk.window_.session
        found = session.examination
        return found is not None and session.tasks.busy is None and not what(walk)

    return is_done


def _counted(*names: str) -> Callable[["Walk"], bool]:
    return _has_none(lambda walk: sum(walk.window_.session.examination.counts()[name] for name in names))


_STAGES = (
    _Stage(
        "Open a scan",
        "The demo scan is a cast pump cover as a scanner gives it: on its bed, with holes, strays and tangles. Click "
        "its card. Later, drop your own scans here.",
        lambda walk: walk.window_.cards.empty.first_demo,
        lambda walk: walk.window_.session.mesh is not None,
    ),
    _Stage(
        "Turn it",
        "Drag over it with the left button. The wheel comes nearer, the right button shoves. F shows all of it again.",
        lambda walk: walk.window_.viewport,
        lambda walk: walk.has_turned,
    ),
    _Stage(
        "What is wrong with it",
        "This line always says what keeps the part from being a closed solid. A click leads to the first of it.",
        lambda walk: walk.window_.state_button,
        lambda walk: walk.has_left_station,
    ),
    _Stage(
        "Cut the bed away",
        "Stations stand in the order of the work. Trim has found the bed. The copper button does what a station is "
        "for; Enter presses it.",
        _copper_of("Trim"),
        _counted("beds"),
    ),
    _Stage(
        "Sweep what is loose",
        "Strays are listed with their size: a click goes there, a tick says whether one is swept. Crumbs are ticked.",
        _copper_of("Strays"),
        _counted("crumbs", "voids"),
    ),
    _Stage(
        "Mend what is no surface",
        "Tangles are edges that three triangles share, and places that touch themselves. Its cost is told at once.",
        _copper_of("Surface"),
        _has_none(lambda walk: walk.window_.session.examination.tangles.total),
    ),
    _Stage(
        "Patch the holes",
        "What is made up is striped violet for good, and its share stands in the line below. Nothing is hidden.",
        _copper_of("Holes"),
        _counted("holes"),
    ),
    _Stage(
        "Close the base",
        "Where the bed was cut off the part is open still: the base closes it, flat.",
        _copper_of("Solid"),
        lambda walk: walk.window_.session.mesh is not None and walk.window_.session.mesh.edges.open == 0,
    ),
    _Stage(
        "Export it",
        "The file is written, read back and checked before it counts as released. Every step is in the log: Ctrl+Z "
        "goes back, the pencil changes one.",
        _copper_of("Release"),
        lambda walk: walk.has_released,
    ),
)


class _Marker(QFrame):
    """A frame round the control that a card speaks of; it lets every click through."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for colour, width in ((QColor("#1d2023"), px(5)), (QColor("#c6e83a"), px(3))):
            painter.setPen(QPen(colour, width))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(3, 3, -3, -3), px(5), px(5))


class Walk(QFrame):
    """The card of the walk, over the view.

    Parameters
    ----------
    window : Walked

    Attributes
    ----------
    at : int
        The card that is shown, from 0; 9 once all is done.
    """

    def __init__(self, window: Walked) -> None:
        super().__init__(window.viewport)
        self.window_ = window
        self.setObjectName("card")
        self.at = 0
        self.has_released = self.has_turned = self.has_left_station = False
        self._start = (0.0, 0.0, "")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(18), px(14), px(18), px(14))
        self.title = QLabel()
        self.title.setObjectName("title")
        box.addWidget(self.title)
        self.text = QLabel()
        self.text.setWordWrap(True)
        box.addWidget(self.text)
        row = QHBoxLayout()
        self.skip = Button("Skip this")
        self.skip.setObjectName("plain")
        self.skip.clicked.connect(lambda: self._show(self.at + 1))
        self.leave = Button("Leave the walk")
        self.leave.setToolTip("Help brings it back where it was left")
        self.leave.setObjectName("plain")
        self.leave.clicked.connect(self.stop)
        row.addWidget(self.skip)
        row.addWidget(self.leave)
        row.addStretch(1)
        box.addLayout(row)
        self.setFixedWidth(px(330))
        self._marker = _Marker(window)
        self._clock = QTimer(self, interval=_LOOK_MS)
        self._clock.timeout.connect(self._look)
        window.session.exporting.released.connect(self._released)
        self.hide()

    @property
    def target(self) -> QWidget | None:
        """What the card points at; None where that is not there just now."""
        if not self.isVisible() or self.at >= len(_STAGES):
            return None
        control = _STAGES[self.at].control(self)
        return control if control is not None and control.isVisible() else None

    def start(self) -> None:
        """Begin, or go on where it was left."""
        window = self.window_
        if window.ticket.isHidden():
            window.fold_ticket()
        if window.tray_column.isHidden():
            window.fold_tray()
        left = window.settings.walk
        self.has_released = False
        self.show()
        self.raise_()
        self._clock.start()
        self._show(left if window.session.mesh is not None and left < len(_STAGES) else 0)

    def stop(self) -> None:
        """Put it away; what is done stays."""
        self._clock.stop()
        self._marker.hide()
        self.hide()
        self.window_.viewport.setFocus()

    def _show(self, at: int) -> None:
        camera, session = self.window_.viewport.camera, self.window_.session
        self.at = min(at, len(_STAGES))
        self._start = camera.turn, camera.lift, session.station
        self.has_turned = self.has_left_station = False
        ended = self.at == len(_STAGES)
        if ended:
            self.title.setText("That was a whole job")
            self.text.setText("F1 lists keys and gestures, Ctrl+F finds anything by its name. Your own scan is next.")
        else:
            self.title.setText(f"{self.at + 1} of {len(_STAGES)}    {_STAGES[self.at].title}")
            self.text.setText(_STAGES[self.at].text)
        self.skip.setVisible(not ended)
        self.leave.setText("Close" if ended else "Leave the walk")
        settings = self.window_.settings
        settings.walk = 0 if ended else self.at
        settings.save()
        self._look()

    def _released(self, *_: object) -> None:
        self.has_released = True

    def _look(self) -> None:
        """Whether the card has been followed; the frame stands round what it points at."""
        window = self.window_
        camera = window.viewport.camera
        self.has_turned |= abs(camera.turn - self._start[0]) + abs(camera.lift - self._start[1]) > _TURNED
        self.has_left_station |= window.session.station != self._start[2]
        if self.at < len(_STAGES) and _STAGES[self.at].is_done(self):
            self._show(self.at + 1)
            return
        self.adjustSize()
        self.move(px(16), max(px(16), window.viewport.height() - self.height() - px(72)))
        target = self.target
        if target is not None:
            rect = QRect(target.mapTo(window, QPoint(0, 0)), target.size())
            grown = px(5) if target is not window.viewport else 0
            self._marker.setGeometry(rect.adjusted(-grown, -grown, grown, grown))
            self._marker.raise_()
        self._marker.setVisible(target is not None)
