"""The menus: every action of the window, with its key."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

import qtawesome
from PySide6.QtCore import QSignalBlocker, Qt
from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar, QWidget

from tinsnip.app.frame.emptyview import DEMOS
from tinsnip.app.frame.opening import JobFiles
from tinsnip.app.state.session import Session
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.view.looks import LOOKS
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import take_typed
from tinsnip.job import built_in_routines

__all__ = ["Menus"]


class Acts(Protocol):
    """What the menus ask of the window itself."""

    session: Session
    viewport: Viewport
    opening: JobFiles

    def close(self) -> bool: ...
    def ask_export(self) -> None: ...
    def run_routine(self, name: str, on_all: bool) -> None: ...
    def go_to_log(self) -> None: ...
    def measure(self) -> None: ...
    def show_said(self) -> None: ...
    def show_batch(self) -> None: ...
    def show_first_look(self) -> None: ...
    def show_left_overs(self) -> None: ...
    def show_settings(self) -> None: ...
    def show_help(self) -> None: ...
    def start_walk(self) -> None: ...
    def press_copper(self) -> None: ...
    def leave(self) -> None: ...
    def find(self) -> None: ...
    def swap(self) -> None: ...
    def delete_selection(self) -> None: ...
    def show_tools(self) -> None: ...
    def hide_selection(self) -> None: ...
    def hide_rest(self) -> None: ...
    def show_hidden(self) -> None: ...
    def fold_ticket(self) -> None: ...
    def fold_tray(self) -> None: ...


class Menus(QMenuBar):
    """The menu bar; what other parts of the window show or switch is an attribute.

    Parameters
    ----------
    acts : Acts
        The window.
    owner : QWidget
        The same, as what the actions belong to.
    """

    def __init__(self, acts: Acts, owner: QWidget) -> None:
        super().__init__(owner)
        self._owner = owner
        self.groups: dict[str, list[QAction]] = {}
        self.aids: list[QAction] = []
        """Switches for looking into the part."""
        job, edit, station, view = (self.addMenu(f"&{name}") for name in ("Job", "Edit", "Station", "View"))
        opening, session = acts.opening, acts.session
        self._action(job, "Open a scan or a job…", opening.ask_open, "Ctrl+O")
        self._action(job, "Open further scans as pieces…", opening.ask_add, "Ctrl+Shift+O")
        self.recent = job.addMenu("Open a recent one")
        self._action(job, "Unfinished jobs…", acts.show_left_overs)
        demos = job.addMenu("Open a demo scan")
        for names in DEMOS:
            self._action(demos, names[0].removesuffix("-upper"), lambda names=names: opening.open_demo(*names))
        job.addSeparator()
        self.save = self._action(job, "Save the job", opening.save, "Ctrl+S")
        self.save_as = self._action(job, "Save the job as…", opening.save_as, "Ctrl+Shift+S")
        self.export = self._action(job, "Export…", acts.ask_export, "Ctrl+E")
        job.addSeparator()
        self.routines = job.addMenu("Run a routine")
        for on_all, where in ((False, "on this piece"), (True, "on all pieces")):
            for name in built_in_routines():
                self._action(self.routines, f"{name}, {where}", lambda n=name, a=on_all: acts.run_routine(n, a))
            self._action(self.routines, f"From a file, {where}…", lambda a=on_all: acts.run_routine("", a))
        self._action(job, "Many scans by a routine…", acts.show_batch, "Ctrl+B")
        self.save_routine = self._action(job, "Save the log as a routine…", opening.save_routine)
        job.addSeparator()
        self._action(job, "First look…", acts.show_first_look, "L")
        self._action(job, "Copy as a variant", session.copy_as_variant, "Ctrl+D")
        self._action(job, "Settings…", acts.show_settings, "Ctrl+,")
        self._action(job, "Quit", acts.close, "Ctrl+Q")
        self.undo = self._action(edit, "Undo", session.history.undo, "Ctrl+Z")
        self.redo = self._action(edit, "Redo", session.history.redo, "Ctrl+Shift+Z")
        self.undo.setIcon(qtawesome.icon("fa5s.undo", color="#e9e5dc", color_disabled="#6f7477"))
        self.redo.setIcon(qtawesome.icon("fa5s.redo", color="#e9e5dc", color_disabled="#6f7477"))
        edit.addSeparator()
        for text, call, keys in (
            ("Do what the copper button says", acts.press_copper, "Return"),
            ("Leave the preview or tool", acts.leave, "Esc"),
        ):  # shown here, but never taken away from what has the focus
            self._action(edit, text, call, keys).setShortcutContext(Qt.ShortcutContext.WidgetShortcut)
        self._action(edit, "Find anything…", acts.find, "Ctrl+F")
        self._action(edit, "Delete what is selected", acts.delete_selection, "Del")
        self._action(edit, "Tools at the pointer", acts.show_tools, "E")
        self._action(edit, "To the log", acts.go_to_log, "Ctrl+G")
        self.measure = self._action(edit, "Measure", acts.measure, "M", True)
        self._action(edit, "Hide what is selected", acts.hide_selection, "H")
        self._action(edit, "Hide all but what is selected", acts.hide_rest, "Shift+H")
        self._action(edit, "Show what is hidden", acts.show_hidden, "Ctrl+H")
        self.swap = self._action(edit, "Swap the waste side", acts.swap, "X")
        for i, one in enumerate(STATIONS, 1):
            keys = str(i) if i < 10 else ""
            self._action(station, one.name, lambda name=one.name: session.set_station(name), keys)
        self.fit = self._action(view, "Fit all", acts.viewport.framing.fit, "F")
        sides = (("front", 0, 0, "Alt+1"), ("right", 90, 0, "Alt+2"), ("back", 180, 0, "Alt+3"))
        sides += (("left", 270, 0, "Alt+4"), ("top", 0, 90, "Alt+5"), ("under", 0, -90, "Alt+6"))
        for name, turn, lift, keys in sides:
            self._action(view, f"From {name}", lambda t=turn, h=lift: acts.viewport.framing.look_from(t, h), keys)
        view.addSeparator()
        names = (
            ("Tin", "T"),
            ("Scan colour", "C"),
            ("Provenance", "P"),
            ("Deviation", "D"),
            ("Density", "Y"),
            ("Wall", "A"),
            ("Overhang", "U"),
            ("Stripes", "J"),
            ("Curvature", "B"),
            ("Relief", "Shift+B"),
        )
        self.looks = [
            self._action(view, name, lambda k=look: acts.viewport.set_look(k), keys, True)
            for look, (name, keys) in zip(LOOKS, names, strict=True)
        ]
        self.tin, self.colour = self.looks[:2]
        view.addSeparator()
        self.shows = [
            self._action(view, what.title(), lambda what=what: acts.viewport.set_shows(what), keys, True)
            for what, keys in (("raw", "R"), ("wipe", "W"), ("now", "N"))
        ]
        view.addSeparator()
        for name, keys, switch in (
            ("Wire", "K", lambda on: acts.viewport.set_aid("shows_edges", on)),
            ("See-through", "G", lambda on: acts.viewport.set_aid("sees_through", on)),
            ("Layers", "Shift+Q", acts.viewport.layer_panel.set_on),
            ("Section", "Q", acts.viewport.section_bar.set_on),
        ):
            action = self._action(view, name, lambda: None, keys, True)
            action.toggled.connect(switch)
            self.aids.append(action)
        view.addSeparator()
        for name, keys, which in (
            ("Shade hollows and ridges", "I", "shades_depth"),
            ("Ground", "Shift+I", "has_ground"),
        ):
            action = self._action(view, name, lambda: None, keys, True)
            action.setChecked(getattr(acts.viewport.settings, which))
            action.toggled.connect(lambda on, which=which: acts.viewport.keep_aid(which, on))
        perspective = self._action(view, "Perspective", lambda: None, "O", True)
        perspective.setChecked(acts.viewport.settings.perspective)
        perspective.toggled.connect(acts.viewport.set_perspective)
        self._action(view, "Light as at first", acts.viewport.reset_light, "Ctrl+L")
        acts.viewport.section_bar.turned_on.connect(lambda on: self._check_aid(-1, on))
        acts.viewport.layer_panel.turned_on.connect(lambda on: self._check_aid(-2, on))
        for actions, chosen in ((self.looks, 0), (self.shows, 2)):
            group = QActionGroup(owner)
            for action in actions:
                group.addAction(action)
            actions[chosen].setChecked(True)
        view.addSeparator()
        self._action(view, "Fold the ticket", acts.fold_ticket, "[")
        self._action(view, "Fold the tray", acts.fold_tray, "]")
        help_menu = self.addMenu("&Help")
        self._action(help_menu, "Keys and gestures", acts.show_help, "F1")
        self._action(help_menu, "What was said…", acts.show_said, "Ctrl+M")
        self._action(help_menu, "A walk through a whole job", acts.start_walk)

    def _check_aid(self, which: int, on: bool) -> None:
        """Section or layers were turned on or off elsewhere; it is one or the other."""
        with QSignalBlocker(self.aids[which]):
            self.aids[which].setChecked(on)
        other = self.aids[-3 - which]
        if on and other.isChecked():
            other.setChecked(False)

    def fill_recent(self, paths: Sequence[Path], open_files: Callable[[list[Path]], None]) -> None:
        """List the recent scans and jobs."""
        self.recent.clear()
        self.recent.setEnabled(bool(paths))
        for path in paths:
            action = self.recent.addAction(str(path))
            action.triggered.connect(lambda _=False, path=path: open_files([path]))

    def of_a_part(self) -> Sequence[QAction]:
        """Actions that mean nothing while nothing is open."""
        return (self.save, self.save_as, self.export, self.save_routine, self.measure, *self.looks[2:], *self.shows[:2])

    def _action(
        self, menu: QMenu, text: str, call: Callable[[], object], keys: str = "", checkable: bool = False
    ) -> QAction:
        action = QAction(text, self._owner)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.setCheckable(checkable)

        def act() -> None:
            take_typed()
            call()

        action.triggered.connect(lambda *_: act())
        menu.addAction(action)
        self.groups.setdefault(menu.title().replace("&", ""), []).append(action)
        return action
