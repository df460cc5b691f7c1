"""The menus: every action of the window, with its key."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import qtawesome
from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar

from tinsnip.app.frame.emptyview import DEMOS
from tinsnip.app.state.session import STATIONS
from tinsnip.app.view.scene import LOOKS

if TYPE_CHECKING:
    from tinsnip.app.frame.window import Window

__all__ = ["Menus"]


class Menus(QMenuBar):
    """The menu bar; what other parts of the window show or switch is an attribute."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self.groups: dict[str, list[QAction]] = {}
        job, edit, station, view = (self.addMenu(f"&{name}") for name in ("Job", "Edit", "Station", "View"))
        self._action(job, "Open a scan…", window.ask_open, "Ctrl+O")
        self._action(job, "Open further scans as pieces…", window.ask_add, "Ctrl+Shift+O")
        self.recent = job.addMenu("Open a recent scan")
        demos = job.addMenu("Open a demo scan")
        for names in DEMOS:
            self._action(demos, names[0].removesuffix("-upper"), lambda names=names: window.open_demo(*names))
        self.export = self._action(job, "Export…", window.ask_export, "Ctrl+E")
        self._action(job, "First look…", window.show_first_look, "L")
        self._action(job, "Copy as a variant", window.session.copy_as_variant, "Ctrl+D")
        job.addSeparator()
        self._action(job, "Settings…", window.show_settings, "Ctrl+,")
        self._action(job, "Quit", window.close, "Ctrl+Q")
        self.undo = self._action(edit, "Undo", window.session.undo, "Ctrl+Z")
        self.redo = self._action(edit, "Redo", window.session.redo, "Ctrl+Shift+Z")
        self.undo.setIcon(qtawesome.icon("fa5s.undo", color="#e9e5dc", color_disabled="#6f7477"))
        self.redo.setIcon(qtawesome.icon("fa5s.redo", color="#e9e5dc", color_disabled="#6f7477"))
        edit.addSeparator()
        self._action(edit, "Do what the copper button says", window.press_copper, "Return")
        self._action(edit, "Leave the preview or tool", window.leave, "Esc")
        self.swap = self._action(edit, "Swap the waste side", window.swap, "Tab")
        for i, name in enumerate(STATIONS):
            self._action(station, name, lambda i=i: window.session.set_station(i), str(i + 1))
        self.fit = self._action(view, "Fit all", window.viewport.fit, "F")
        sides = (("front", 0, 0, "Alt+1"), ("right", 90, 0, "Alt+2"), ("back", 180, 0, "Alt+3"))
        sides += (("left", 270, 0, "Alt+4"), ("top", 0, 90, "Alt+5"), ("under", 0, -90, "Alt+6"))
        for name, turn, lift, keys in sides:
            self._action(view, f"From {name}", lambda t=turn, h=lift: window.viewport.look_from(t, h), keys)
        view.addSeparator()
        names = (("Tin", "T"), ("Scan colour", "C"), ("Provenance", "P"), ("Deviation", "D"))
        self.looks = [
            self._action(view, name, lambda k=look: window.viewport.set_look(k), keys, True)
            for look, (name, keys) in zip(LOOKS, names, strict=True)
        ]
        self.tin, self.colour = self.looks[:2]
        view.addSeparator()
        self.shows = [
            self._action(view, what.title(), lambda what=what: window.viewport.set_shows(what), keys, True)
            for what, keys in (("raw", "R"), ("wipe", "W"), ("now", "N"))
        ]
        for actions, chosen in ((self.looks, 0), (self.shows, 2)):
            group = QActionGroup(window)
            for action in actions:
                group.addAction(action)
            actions[chosen].setChecked(True)
        view.addSeparator()
        self._action(view, "Fold the ticket", window.fold_ticket, "[")
        self._action(view, "Fold the tray", window.fold_tray, "]")
        help_menu = self.addMenu("&Help")
        self._action(help_menu, "Keys and gestures", window.show_help, "F1")

    def _action(
        self, menu: QMenu, text: str, call: Callable[[], object], keys: str = "", checkable: bool = False
    ) -> QAction:
        action = QAction(text, self.parent())
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.setCheckable(checkable)
        action.triggered.connect(lambda *_: call())
        menu.addAction(action)
        self.groups.setdefault(menu.title().replace("&", ""), []).append(action)
        return action
