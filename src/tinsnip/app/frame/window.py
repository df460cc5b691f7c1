"""The main window: top bar, ticket, view, tray with the log, status line."""

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from tinsnip.app.frame.batchpage import BatchPage
from tinsnip.app.frame.busybox import BusyBox
from tinsnip.app.frame.cards import Cards
from tinsnip.app.frame.dialogs import HelpSheet, SettingsPage
from tinsnip.app.frame.dropping import Dropping
from tinsnip.app.frame.finder import Finder
from tinsnip.app.frame.focuskeeper import FocusKeeper
from tinsnip.app.frame.keys import Keys
from tinsnip.app.frame.layerfiles import save_layers
from tinsnip.app.frame.leaving import Leaving
from tinsnip.app.frame.loglist import LogList
from tinsnip.app.frame.menus import Menus
from tinsnip.app.frame.opening import JobFiles
from tinsnip.app.frame.selectionbar import SelectionBar
from tinsnip.app.frame.shown import Shown
from tinsnip.app.frame.starting import take_place
from tinsnip.app.frame.statebutton import StateButton
from tinsnip.app.frame.statusline import StatusLine
from tinsnip.app.frame.stepeditor import StepEditor
from tinsnip.app.frame.ticket import Ticket
from tinsnip.app.frame.toolmenu import tool_menu
from tinsnip.app.frame.traycolumn import TrayColumn
from tinsnip.app.frame.viewrow import ViewRow
from tinsnip.app.frame.walk import Walk
from tinsnip.app.state.crossingwatch import CrossingWatch
from tinsnip.app.state.editing import Editing, Halt
from tinsnip.app.state.saving import Saving
from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.stations.measuring import MeasuringTray
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.stations.station import Tray
from tinsnip.app.tools.arrows import Arrows
from tinsnip.app.tools.choosing import Choosing
from tinsnip.app.tools.datum import DrawnDatums
from tinsnip.app.tools.dial import Dial
from tinsnip.app.tools.keypointer import KeyPointer
from tinsnip.app.tools.makers import Makers
from tinsnip.app.tools.measure import ShownReadings
from tinsnip.app.tools.navigate import Navigate
from tinsnip.app.tools.outofview import OutOfView
from tinsnip.app.tools.pins import Pins
from tinsnip.app.tools.scalebar import ScaleBar
from tinsnip.app.tools.tags import Tags
from tinsnip.app.tools.wipe import Wipe
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.filedialog import choose_files
from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import polish_again
from tinsnip.errors import BadInput
from tinsnip.job import load_routine
from tinsnip.words import counted

__all__ = ["Window"]

_FIRST = STATIONS[0].name


class Window(QMainWindow):
    """One window, one job."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session(STATIONS)
        self.settings = Settings.load()
        self.session.set_undo_memory(self.settings.undo_share)
        self.setWindowTitle("Tinsnip")
        self.setAcceptDrops(True)
        self.viewport = Viewport(self.session, self.settings)
        self._fill_hand()
        self.shown = Shown(self.session, self.viewport, self.pins, self)
        self.saving = Saving(self.session, self.shown.values, self.shown.picture)
        self.editing = Editing(self.session)
        self.editing.changed.connect(self.saving.changed)
        self.makers.found.connect(self.editing.begin)
        self.opening = JobFiles(self.session, self.saving, self.settings, self)
        self.ticket = Ticket(self.session)
        self.trays: dict[str, Tray] = {}
        self.measuring: MeasuringTray | None = None
        self.editor = StepEditor(self.session, self.editing)
        self.log_list = LogList(self.session, self.editing)
        self.tray_column = TrayColumn(self.editor, self.log_list, self.settings)
        self.stack = self.tray_column.stack
        self.menus = self.shown.menus = Menus(self, self)
        self.cards = Cards(self.session, self.viewport, self.saving, self.opening)
        self.busy_box = BusyBox(self.session.tasks, self.cards.place, self.viewport)
        self.selection_bar = SelectionBar(self.session, self.viewport)
        self.selection_bar.resized.connect(self.cards.place)
        self.cards.bar = self.selection_bar
        self.cards.floating = [self.busy_box]
        self.dropping = Dropping(self.session, self.opening, self.viewport)
        self.keys = Keys(self)
        self.finder = Finder(self, self.viewport)
        self._build_layout()
        self._before_swap = ""
        self._station_shown = ""
        self.batch: BatchPage | None = None
        self.leaving = Leaving(self, self)
        self.focus_keeper = FocusKeeper(self, self.viewport, [self.stack, self.log_list])
        self.walk = Walk(self)
        self.cards.empty.walk_asked.connect(self.start_walk)
        self._connect()
        self._watch = CrossingWatch(self.session)
        polish_again(self.stack)
        self._open_station(_FIRST)
        self.refresh()
        self.cards.find_recent()
        self._take_place()
        self.viewport.setFocus()  # nothing that Enter would press

    def _take_place(self) -> None:
        """Stand where the window stood last, or as large as fits; folded as it was."""
        take_place(self, self.settings)
        self.ticket.setVisible(not self.settings.ticket_folded)
        self.tray_column.setVisible(not self.settings.tray_folded)

    def _keep_place(self) -> None:
        self.settings.place = bytes(self.saveGeometry().toBase64().data()).decode()
        self.settings.ticket_folded = self.ticket.isHidden()
        self.settings.tray_folded = self.tray_column.isHidden()
        self.settings.save()

    @property
    def empty(self) -> QWidget:
        """The card of the empty view."""
        return self.cards.empty

    @property
    def first_look(self) -> QWidget:
        """The card after opening."""
        return self.cards.first_look

    @property
    def left_overs(self) -> QWidget:
        """The card of jobs that were left over."""
        return self.cards.left_overs

    @property
    def notice(self) -> QLabel:
        """What was said loudly last."""
        return self.cards.notice

    def show_left_overs(self) -> None:
        """Look for jobs that can be gone on with, and list them."""
        self.cards.show_left_overs()

    def show_first_look(self) -> None:
        """Show the card of the first look."""
        self.cards.show_first_look()

    def tray(self, name: str) -> Tray:
        """The tray of a station, made when it is first asked for."""
        if name not in self.trays:
            tray = next(s for s in STATIONS if s.name == name).make_tray(self.session, self.viewport)
            asked = {"open further": self.opening.ask_add, "first look": self.show_first_look}
            asked["delete selected"] = self.selection_bar.delete
            tray.asked.connect(lambda what: asked[what]())
            self.trays[name] = tray
            self._put_up(tray)
        return self.trays[name]

    def _put_up(self, tray: Tray) -> None:
        """Put a new tray behind the others."""
        self.stack.addWidget(tray)
        tray.follow(self.editor)
        polish_again(tray)

    def measure(self) -> None:
        """Show the tray that measures in place of the station's, or that one again."""
        if self.session.mesh is None:
            self.menus.measure.setChecked(False)
            return
        if self.stack.currentWidget() is self.measuring:
            self._open_station(self.session.station)
            return
        if self.editing.number is not None:
            self.editing.leave()
        self.tray(self._station_shown).leave()
        self.session.cancel_preview()
        if self.measuring is None:
            self.measuring = MeasuringTray(self.session, self.viewport)
            self.measuring.asked.connect(lambda what: self.measure())
            self._put_up(self.measuring)
        self.stack.setCurrentWidget(self.measuring)
        self.tray_column.show()
        self.measuring.refresh()

    # ---- building

    def _fill_hand(self) -> None:
        """Put into the hand what is always there."""
        view, hand = self.viewport, self.viewport.hand
        self.dial, self.wipe, self.tags, self.pins = Dial(view), Wipe(view), Tags(view), Pins(view)
        navigate = Navigate(view)
        self.makers, self.choosing = Makers(view), Choosing(view)
        navigate.clicked.connect(self.choosing.click)
        navigate.hovered.connect(self.choosing.look_at)
        self.choosing.on_active.connect(self.pins.read_at)
        self.choosing.on_active.connect(self.makers.look_at)
        hand.fixed = [self.wipe, self.dial, self.tags]
        self.out_of_view = OutOfView(view)
        hand.drawn = [ScaleBar(view), self.pins, ShownReadings(view, view.readings)]
        self.key_pointer = KeyPointer(view)
        hand.drawn += [DrawnDatums(view, view.datums), Arrows(view), self.choosing, self.out_of_view, self.key_pointer]
        hand.moving = navigate
        view.layer_panel.save_asked.connect(
            lambda every: save_layers(self, self.session, view.settings, view.layer_panel, every)
        )
        legend = view.deviation_legend
        legend.clear_asked.connect(self.pins.clear)
        self.pins.changed.connect(lambda: legend.clear.setVisible(bool(self.pins.pins)))
        self.pins.changed.connect(view.place_legends)

    def _connect(self) -> None:
        session = self.session
        session.station_changed.connect(self._open_station)
        self.stack.currentChanged.connect(self._show_measuring)
        session.tasks.busy_changed.connect(lambda: self.focus_keeper.show_busy(session.tasks.busy is not None))
        for signal in (
            session.mesh_changed, session.examined, session.log_changed, session.exporting.released,
            session.judging.changed,
        ):  # fmt: skip
            signal.connect(self.refresh)
        session.opening.job_opened.connect(self.shown.show_again)
        self.opening.recent_changed.connect(self.cards.find_recent)
        self.cards.recent_found.connect(lambda paths: self.menus.fill_recent(paths, self.opening.open))
        self.saving.changed.connect(self._show_title)
        self.editing.changed.connect(self._show_editing)
        self.editing.halted.connect(self._ask_about_halt)

    def _build_layout(self) -> None:
        columns = QHBoxLayout()
        columns.setContentsMargins(0, 0, 0, 0)
        columns.setSpacing(0)
        columns.addWidget(self.ticket)
        columns.addWidget(self._middle(), 1)
        columns.addWidget(self.tray_column)
        centre = QWidget()
        whole = QVBoxLayout(centre)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self._top_bar())
        whole.addLayout(columns, 1)
        self.status = StatusLine(self.session, self.saving)
        whole.addWidget(self.status)
        self.setCentralWidget(centre)

    def _top_bar(self) -> QWidget:
        top = QWidget()
        top.setObjectName("topbar")
        top.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(top)
        row.setContentsMargins(0, 6, 12, 6)
        brand = QLabel("Tinsnip")
        brand.setObjectName("brand")
        row.addWidget(brand)
        self.menus.setSizePolicy(self.menus.sizePolicy().Policy.Maximum, self.menus.sizePolicy().Policy.Preferred)
        row.addWidget(self.menus)
        for action in (self.menus.undo, self.menus.redo):
            button = QToolButton()
            button.setDefaultAction(action)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonIconOnly)
            button.setAccessibleName(action.text())
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # or Enter might undo what nobody meant to
            row.addWidget(button)
        row.addStretch(1)
        self.state_button = StateButton(self.session)
        row.addWidget(self.state_button)
        return top

    def _middle(self) -> QWidget:
        middle = QWidget()
        middle_box = QVBoxLayout(middle)
        middle_box.setContentsMargins(0, 0, 0, 0)
        middle_box.setSpacing(0)
        middle_box.addWidget(ViewRow(self.menus))
        middle_box.addWidget(self.viewport, 1)
        return middle

    # ---- actions

    def open_demo(self, *names: str) -> None:
        """Open demo scans, making them first where needed."""
        self.opening.open_demo(*names)

    def show_help(self) -> None:
        """Show all keys and gestures."""
        HelpSheet(self.menus.groups, self.settings, self).exec()

    def start_walk(self) -> None:
        """Begin the walk through a whole job, or go on with it."""
        self.walk.start()

    def show_batch(self) -> None:
        """Show the page on which a routine works on many scans."""
        if self.batch is None:
            self.batch = BatchPage(self.settings, self)
        self.batch.show()
        self.batch.raise_()
        self.batch.activateWindow()

    def show_settings(self) -> None:
        """Show the settings page."""
        if SettingsPage(self.settings, self).exec():
            self.session.set_undo_memory(self.settings.undo_share)
            self.tray(self.session.station).refresh()
            self.refresh()

    def fold_ticket(self) -> None:
        """Give the ticket's room to the view, or take it back."""
        self.ticket.setVisible(self.ticket.isHidden())
        self._keep_place()

    def fold_tray(self) -> None:
        """Give the tray's room to the view, or take it back."""
        self.tray_column.setVisible(self.tray_column.isHidden())
        self._keep_place()

    def ask_export(self) -> None:
        """Ask where to write, and export."""
        self.tray("Release").ask_export()

    def run_routine(self, name: str, on_all: bool) -> None:
        """Run a routine, built in or from a file that is asked for, on the piece in hand or on all."""
        if not name:
            folder = self.settings.export_folder
            chosen = choose_files(self, "Run a routine", folder, "Routine (*.json);;All files (*)")
            if not chosen:
                return
            name = str(chosen[0])
        try:
            routine = load_routine(name)
        except BadInput as error:
            self.session.message.emit(str(error), True)
            return
        job = self.session.job
        self.session.run_routine(routine, [p.id for p in job.pieces] if on_all else [job.active])

    def show_said(self) -> None:
        """List the messages."""
        self.status.show_kept()

    def go_to_log(self) -> None:
        """Give the focus to the log, whose keys change steps, switch them off and move them."""
        if self.session.mesh is not None:
            self.tray_column.show()
            self.log_list.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def find(self) -> None:
        """Let anything be found by its words."""
        self.finder.ask()

    def press_copper(self) -> None:
        """Do what the copper button says."""
        self.keys.press_copper()

    def leave(self) -> None:
        """Leave the tool, card, work or preview in hand, the nearest first."""
        self.keys.leave()

    def delete_selection(self) -> None:
        """Delete what is selected."""
        self.selection_bar.delete()

    def show_tools(self) -> None:
        """Offer the snips and the tools for selecting at the pointer."""
        if self.session.mesh is not None:
            tool_menu(self, self.session, self.tray("Trim"), self.tray("Surface"))

    def hide_selection(self) -> None:
        """Hide what is selected."""
        self.selection_bar.hide_selection()

    def hide_rest(self) -> None:
        """Hide all but what is selected."""
        self.selection_bar.hide_rest()

    def show_hidden(self) -> None:
        """Show what is hidden."""
        self.selection_bar.show_all()

    def swap(self) -> None:
        """Swap the two sides of what is set up, such as the waste side of a snip."""
        self.tray(self.session.station).swap()

    def _open_station(self, name: str) -> None:
        if self._station_shown and self.stack.currentWidget() is not self.measuring:
            self.tray(self._station_shown).leave()
        if self.editing.number is not None:
            self.editing.leave()
        self._station_shown = name
        tray = self.tray(name)
        self.stack.setCurrentWidget(tray)
        self.menus.swap.setEnabled(tray.can_swap)
        tray.refresh()
        if self.session.mesh is not None:
            tray.enter()

    def _show_measuring(self) -> None:
        """Another tray is in front: whether it is the one that measures is seen, and one that was is left."""
        is_in_front = self.measuring is not None and self.stack.currentWidget() is self.measuring
        self.menus.measure.setChecked(is_in_front)
        if self.measuring is not None and not is_in_front:
            self.measuring.leave()

    def _show_editing(self) -> None:
        """Show the step that is being changed, or the station again."""
        if self.editing.number is not None:
            self.viewport.hand.set_rest(None)
            by_keys = self.log_list.hasFocus() and not QApplication.mouseButtons()
            self.stack.setCurrentWidget(self.editor)
            self.editor.refresh()
            if by_keys:
                self.editor.take_focus()
        elif self.stack.currentWidget() is self.editor:
            tray = self.tray(self.session.station)
            self.stack.setCurrentWidget(tray)
            tray.refresh()
            if self.session.mesh is not None:
                tray.enter()
        self.log_list.refresh()

    def _ask_about_halt(self, halt: Halt) -> None:
        """A log could not be done again to its end: keep the old one, or go on without that step."""
        action = halt.plan[halt.found.stopped].action
        rest = len(halt.plan) - halt.number
        about = f"{halt.found.reason}\n{counted(rest, 'step')} after it." if rest else halt.found.reason
        text = f"Step {halt.number}, {action.title.lower()}, cannot be done again."
        keep, without = "Keep the old log", "Go on without it"
        if ask(self, "The log stops", text, about, (without, keep), keep, keep) == without:
            self.editing.without(halt)

    # ---- showing

    def refresh(self, *_: object) -> None:
        """Show the session as it is."""
        session, mesh = self.session, self.session.mesh
        self.cards.refresh()
        self.stack.setVisible(mesh is not None)
        self.menus.undo.setEnabled(session.job.can_undo)
        self.menus.redo.setEnabled(session.job.can_redo)
        self.menus.undo.setText(f"Undo {session.job.next_undo()[:40]}".strip())
        self.menus.redo.setText(f"Redo {session.job.next_redo()[:40]}".strip())
        self.menus.colour.setEnabled(mesh is not None and mesh.colour is not None)
        self.menus.routines.setEnabled(mesh is not None)
        for action in self.menus.of_a_part():
            action.setEnabled(mesh is not None)
        if not self.menus.colour.isEnabled() and self.menus.colour.isChecked():
            self.menus.tin.trigger()
        self.state_button.refresh()
        self._show_title()
        self.log_list.refresh()
        self.stack.currentWidget().refresh()

    def _show_title(self) -> None:
        """The job's name, and whether all of it is saved."""
        unsaved = f" ({counted(self.saving.unsaved, 'step')} not saved)" if self.saving.unsaved else ""
        self.setWindowTitle(f"{self.saving.name}{unsaved} – Tinsnip" if self.saving.name else "Tinsnip")

    # ---- events

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.keys.take(event) or self.key_pointer.take(event):
            event.accept()
        elif event.key() == Qt.Key.Key_S and not event.modifiers() and self.session.mesh is not None:
            if not event.isAutoRepeat() and not self._before_swap:
                self._before_swap = self.viewport.shows
                self.viewport.set_shows("now" if self.viewport.shows == "raw" else "raw")
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_S and not event.isAutoRepeat():
            self._swap_back()
        else:
            super().keyReleaseEvent(event)

    def _swap_back(self) -> None:
        if self._before_swap:
            self.viewport.set_shows(self._before_swap)
            self._before_swap = ""

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.tray_column.take_room(self.width(), self.height())
        self.state_button.refresh()

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and not self.isActiveWindow():
            self._swap_back()  # a key that is let go elsewhere is not heard of
        super().changeEvent(event)

    def dragEnterEvent(self, event: object) -> None:
        self.dropping.enter(event)

    def dragLeaveEvent(self, event: object) -> None:
        self.dropping.leave()

    def dropEvent(self, event: object) -> None:
        self.dropping.drop(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.leaving.may_close():
            event.ignore()
            return
        self._keep_place()
        self.session.tasks.stop_all()
        self.session.preparation.stop()
        self.saving.stop()
        super().closeEvent(event)
