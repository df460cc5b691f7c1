"""What Enter and Esc mean where whatever has the focus has no use for them."""

from typing import Protocol

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QAbstractButton, QApplication, QStackedWidget, QWidget

from tinsnip.app.frame.busybox import BusyBox
from tinsnip.app.frame.cards import Cards
from tinsnip.app.state.editing import Editing
from tinsnip.app.state.session import Session
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import is_enter, take_typed

__all__ = ["Keys"]


class Acted(Protocol):
    """What the keys act on."""

    session: Session
    viewport: Viewport
    stack: QStackedWidget
    tray_column: QWidget
    editing: Editing
    cards: Cards
    busy_box: BusyBox


class Keys:
    """One rule: a key goes to what has the focus; what that has no use for comes here.

    Enter presses the button that has the focus, or the one that the field with the focus belongs to, and only
    otherwise the copper button of a tray that is in sight. Esc leaves the nearest of what is in hand.
    """

    def __init__(self, window: Acted) -> None:
        self._window = window

    def take(self, event: QKeyEvent) -> bool:
        """Act on a key; False when it means nothing here."""
        if is_enter(event):
            if not event.isAutoRepeat():  # a key that is held is not meant twice
                self.enter()
            return True
        if event.key() == Qt.Key.Key_Escape and not event.modifiers():
            self.leave()
            return True
        return False

    def enter(self) -> None:
        """Do what has the focus, or what the copper button says."""
        focus = QApplication.focusWidget()
        pressed = getattr(focus, "presses", None)
        if isinstance(focus, QAbstractButton) and focus.isVisible():
            pressed = focus
        own = self._window.viewport.hand.tool
        if pressed is None and own is not None and own.enter():
            return
        if pressed is None:
            self.press_copper()
        elif pressed.isEnabled():
            pressed.click()
        else:
            self._say(pressed.toolTip() or "that cannot be done now")

    def press_copper(self) -> None:
        """Do what the copper button says; where it cannot be done, say why."""
        window = self._window
        take_typed()
        tray = window.stack.currentWidget()
        if window.left_overs.isVisible():
            window.left_overs.go_on()
            return
        if window.session.mesh is None or tray.copper is None:
            return
        if not window.tray_column.isVisible():
            self._say("the tray is folded; unfold it with ] to see what Enter would do")
        elif window.session.tasks.busy is not None:
            self._say(f"{window.session.tasks.title} is still going on; wait for it or cancel it")
        elif tray.copper.isEnabled():
            tray.copper.click()
        elif tray.why_not:
            self._say(tray.why_not)

    def _say(self, text: str) -> None:
        self._window.session.message.emit(text, True)

    def leave(self) -> None:
        """Leave the tool, card, work or preview in hand, the nearest first."""
        window = self._window
        hand = window.viewport.hand
        if hand.is_dragging:
            hand.cancel()
        elif hand.tool is not None:
            hand.put_away()
        elif window.cards.put_away():
            return
        elif window.session.tasks.busy is not None:
            window.busy_box.cancel()
        elif window.editing.number is not None:
            window.editing.leave()
        elif not window.stack.currentWidget().put_away():
            window.session.cancel_preview()
