"""The main window: top bar, ticket, view, tray with the log, status line."""

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from tinsnip.app.frame.busybox import BusyBox
from tinsnip.app.frame.dialogs import HelpSheet, SettingsPage
from tinsnip.app.frame.emptyview import EmptyView, RecentJob
from tinsnip.app.frame.firstlook import FirstLook
from tinsnip.app.frame.leftovers import LeftOvers
from tinsnip.app.frame.loglist import LogList
from tinsnip.app.frame.menus import Menus
from tinsnip.app.frame.opening import Opening
from tinsnip.app.frame.question import ask
from tinsnip.app.frame.shown import Shown
from tinsnip.app.frame.statusline import StatusLine
from tinsnip.app.frame.stepeditor import StepEditor
from tinsnip.app.frame.ticket import Ticket
from tinsnip.app.state.editing import Editing, Halt
from tinsnip.app.state.saving import LeftOver, Saving, left_over_jobs
from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.stations.station import Tray
from tinsnip.app.tools.dial import Dial
from tinsnip.app.tools.navigate import Navigate
from tinsnip.app.tools.pins import Pins
from tinsnip.app.tools.scalebar import ScaleBar
from tinsnip.app.tools.tags import Tags
from tinsnip.app.tools.wipe import Wipe
from tinsnip.app.view.viewport import Viewport
from tinsnip.errors import BadInput
from tinsnip.job import is_job_file, load_routine, read_document
from tinsnip.words import counted

__all__ = ["Window"]

_TRAY_WIDTH = 288
_FIRST = STATIONS[0].name


class Window(QMainWindow):
    """One window, one job."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session(STATIONS)
        self.settings = Settings.load()
        self.session.set_undo_memory(self.settings.undo_share)
        self.setWindowTitle("Tinsnip")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.viewport = Viewport(self.session, self.settings)
        self._fill_hand()
        self.shown = Shown(self.session, self.viewport, self.pins, self)
        self.saving = Saving(self.session, self.shown.values, self.shown.picture)
        self.editing = Editing(self.session)
        self.editing.changed.connect(self.saving.changed)
        self.opening = Opening(self.session, self.saving, self.settings, self)
        self.ticket = Ticket(self.session)
        self.trays: dict[str, Tray] = {s.name: s.make_tray(self.session, self.viewport) for s in STATIONS}
        self.editor = StepEditor(self.session, self.editing)
        self.menus = self.shown.menus = Menus(self, self)
        self._build_layout()
        self.busy_box = BusyBox(self.session.tasks, self._place_floating, self.viewport)
        self._build_notice()
        self._before_swap = ""
        self._station_shown = ""
        self._closing = False
        self._connect()
        for child in self.stack.findChildren(QWidget):  # rules that name the tray hold only now that it is their parent
            child.style().unpolish(child)
            child.style().polish(child)
        self._open_station(_FIRST)
        self.refresh()
        self._fill_recent()
        self.session.tasks.behind("left over", lambda p: left_over_jobs(), self._offer)

    def show_left_overs(self) -> None:
        """Look for jobs that can be gone on with, and list them."""

        def show(jobs: list[LeftOver]) -> None:
            self._list_left_overs(jobs)
            if not jobs:
                self._show_message("there is no unfinished job", True)

        self.session.tasks.behind("left over", lambda p: left_over_jobs(), show)

    def tray(self, name: str) -> Tray:
        """The tray of a station."""
        return self.trays[name]

    # ---- building

    def _fill_hand(self) -> None:
        """Put into the hand what is always there."""
        view, hand = self.viewport, self.viewport.hand
        self.dial, self.wipe, self.tags, self.pins = Dial(view), Wipe(view), Tags(view), Pins(view)
        navigate = Navigate(view)
        navigate.clicked.connect(self.pins.read_at)
        hand.fixed = [self.wipe, self.dial, self.tags]
        hand.drawn = [ScaleBar(view), self.pins]
        hand.moving = navigate
        legend = view.deviation_legend
        legend.clear_asked.connect(self.pins.clear)
        self.pins.changed.connect(lambda: legend.clear.setVisible(bool(self.pins.pins)))
        self.pins.changed.connect(view.place_legends)

    def _connect(self) -> None:
        session = self.session
        session.station_changed.connect(self._open_station)
        session.tasks.busy_changed.connect(self._show_busy)
        session.message.connect(self._show_message)
        for signal in (session.mesh_changed, session.examined, session.log_changed, session.released):
            signal.connect(self.refresh)
        asked = {"open further": self.opening.ask_add, "first look": self.show_first_look}
        for tray in self.trays.values():
            tray.asked.connect(lambda name: asked[name]())
        session.opened.connect(lambda paths: self.show_first_look())
        session.job_opened.connect(self.shown.show_again)
        session.job_opened.connect(lambda opened, path: self.first_look.hide())
        session.job_left.connect(self.first_look.hide)
        session.job_left.connect(self.left_overs.hide)
        self.opening.recent_changed.connect(self._fill_recent)
        self.saving.changed.connect(self._show_title)
        self.editing.changed.connect(self._show_editing)
        self.editing.halted.connect(self._ask_about_halt)

    def _build_layout(self) -> None:
        columns = QHBoxLayout()
        columns.setContentsMargins(0, 0, 0, 0)
        columns.setSpacing(0)
        columns.addWidget(self.ticket)
        columns.addWidget(self._middle(), 1)
        columns.addWidget(self._tray_column())
        centre = QWidget()
        whole = QVBoxLayout(centre)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self._top_bar())
        whole.addLayout(columns, 1)
        self.status = StatusLine(self.session, self.saving)
        whole.addWidget(self.status)
        self.setCentralWidget(centre)
        self._build_cards()
        self.viewport.installEventFilter(self)

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
            row.addWidget(button)
        row.addStretch(1)
        self.state_button = QPushButton()
        self.state_button.setObjectName("state")
        self.state_button.clicked.connect(self._go_to_what_is_missing)
        row.addWidget(self.state_button)
        return top

    def _middle(self) -> QWidget:
        view_row = QWidget()
        view_row.setObjectName("viewrow")
        view_row.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        view_box = QHBoxLayout(view_row)
        view_box.setContentsMargins(10, 5, 10, 5)
        for actions in (self.menus.looks, self.menus.shows):
            for action in actions:
                button = QToolButton()
                button.setDefaultAction(action)
                view_box.addWidget(button)
            if actions is self.menus.looks:
                line = QFrame()
                line.setFrameShape(QFrame.Shape.VLine)
                line.setObjectName("viewline")
                view_box.addWidget(line)
        view_box.addStretch(1)
        fit = QToolButton()
        fit.setDefaultAction(self.menus.fit)
        view_box.addWidget(fit)
        middle = QWidget()
        middle_box = QVBoxLayout(middle)
        middle_box.setContentsMargins(0, 0, 0, 0)
        middle_box.setSpacing(0)
        middle_box.addWidget(view_row)
        middle_box.addWidget(self.viewport, 1)
        return middle

    def _tray_column(self) -> QWidget:
        self.tray_column = tray = QWidget()
        tray.setObjectName("tray")
        tray.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        tray.setFixedWidth(_TRAY_WIDTH)
        tray_box = QVBoxLayout(tray)
        tray_box.setContentsMargins(0, 0, 0, 0)
        tray_box.setSpacing(0)
        self.stack = QStackedWidget()
        self.stack.setMaximumWidth(_TRAY_WIDTH)  # a long text in one tray must not push another out of view
        for panel in (*self.trays.values(), self.editor):
            self.stack.addWidget(panel)
        scroll = QScrollArea()
        scroll.setObjectName("trayscroll")
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.stack)
        tray_box.addWidget(scroll, 1)
        log = QWidget()
        log.setObjectName("log")
        log.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        log_box = QVBoxLayout(log)
        log_box.setContentsMargins(16, 8, 8, 6)
        log_title = QLabel("LOG")
        log_title.setObjectName("heading")
        log_box.addWidget(log_title)
        self.log_list = LogList(self.session, self.editing)
        log_box.addWidget(self.log_list)
        tray_box.addWidget(log)
        return tray

    def _build_cards(self) -> None:
        """What the view shows before anything is open, and the cards after."""
        self.empty = EmptyView(self.viewport)
        self.empty.open_asked.connect(self.opening.ask_open)
        self.empty.demo_asked.connect(lambda names: self.opening.open_demo(*names))
        self.empty.recent_asked.connect(lambda path: self.opening.open([path]))
        self.first_look = FirstLook(self.session, self.viewport)
        self.first_look.put_away.connect(self._first_look_gone)
        self.left_overs = LeftOvers(self.viewport)
        self.left_overs.open_asked.connect(self._recover)
        self.left_overs.let_go_asked.connect(self._let_go)
        self.left_overs.put_away.connect(self._put_left_overs_away)

    def _build_notice(self) -> None:
        self.notice = QLabel(self.viewport)
        self.notice.setObjectName("warning")
        self.notice.setWordWrap(True)
        self.notice.hide()
        self._notice_timer = QTimer(self, singleShot=True, interval=12000)
        self._notice_timer.timeout.connect(self.notice.hide)

    # ---- jobs that were left over, and recent ones

    def _offer(self, jobs: list[LeftOver]) -> None:
        """Show the jobs that can be gone on with; where something is open already, only say that there are some."""
        if jobs and (self.session.mesh is not None or self.session.tasks.busy is not None):
            self._show_message(f"{counted(len(jobs), 'unfinished job')} can be gone on with: see the Job menu", True)
        else:
            self._list_left_overs(jobs)

    def _list_left_overs(self, jobs: list[LeftOver]) -> None:
        self.left_overs.show_jobs(jobs)
        self.empty.setVisible(self.session.mesh is None and not jobs)
        self._place_floating()
        self.left_overs.raise_()

    def _recover(self, one: LeftOver) -> None:
        def go() -> None:
            self.left_overs.show_jobs([job for job in self.left_overs.jobs if job is not one])
            self.left_overs.hide()
            self.saving.recover(one)

        self.opening.before_losing(go)

    def _put_left_overs_away(self) -> None:
        self.left_overs.hide()
        self.refresh()

    def _let_go(self, one: LeftOver) -> None:
        self.saving.let_go(one)
        self._list_left_overs([job for job in self.left_overs.jobs if job is not one])
        self.refresh()

    def _fill_recent(self) -> None:
        """The recent scans and jobs that are still there, in the menu and on the empty view."""
        there = self.opening.recent()
        self.menus.recent.clear()
        self.menus.recent.setEnabled(bool(there))
        for path in there:
            action = self.menus.recent.addAction(str(path))
            action.triggered.connect(lambda _=False, path=path: self.opening.open([path]))

        def look(progress: object) -> tuple[list[Path], list[RecentJob]]:
            scans, jobs = [], []
            for path in there:
                if not is_job_file(path):
                    scans.append(path)
                    continue
                try:
                    doc, picture = read_document(path)
                except BadInput:
                    continue
                jobs.append((path, picture, path.stat().st_mtime, len(doc.log.steps)))
            return scans, jobs

        def show(found: tuple[list[Path], list[RecentJob]]) -> None:
            self.empty.show_recent(found[0])
            self.empty.show_jobs(found[1])
            self._place_floating()

        self.session.tasks.behind("recent", look, show)

    # ---- actions

    def open_demo(self, *names: str) -> None:
        """Open demo scans, making them first where needed."""
        self.opening.open_demo(*names)

    def show_first_look(self) -> None:
        """Show the card of the first look."""
        if self.session.job.piece is not None and self.first_look.is_wanted():
            self.first_look.show()
            self.first_look.refresh()
            self.first_look.raise_()
            self._place_floating()
            self.viewport.covered_left = self.first_look.width() + 20.0
            self.viewport.fit()

    def _first_look_gone(self) -> None:
        """The whole view is the part's again."""
        if self.viewport.covered_left:
            self.viewport.covered_left = 0.0
            self.viewport.fit()

    def show_help(self) -> None:
        """Show all keys and gestures."""
        HelpSheet(self.menus.groups, self.settings, self).exec()

    def show_settings(self) -> None:
        """Show the settings page."""
        if SettingsPage(self.settings, self).exec():
            self.session.set_undo_memory(self.settings.undo_share)
            self.trays[self.session.station].refresh()

    def fold_ticket(self) -> None:
        """Give the ticket's room to the view, or take it back."""
        self.ticket.setVisible(not self.ticket.isVisible())

    def fold_tray(self) -> None:
        """Give the tray's room to the view, or take it back."""
        self.tray_column.setVisible(not self.tray_column.isVisible())

    def ask_export(self) -> None:
        """Ask where to write, and export."""
        self.trays["Release"].ask_export()

    def run_routine(self, name: str, on_all: bool) -> None:
        """Run a routine, built in or from a file that is asked for, on the piece in hand or on all."""
        if not name:
            folder = self.settings.export_folder
            name, _ = QFileDialog.getOpenFileName(self, "Run a routine", folder, "Routine (*.json);;All files (*)")
            if not name:
                return
        try:
            routine = load_routine(name)
        except BadInput as error:
            self._show_message(str(error), True)
            return
        job = self.session.job
        self.session.run_routine(routine, [p.id for p in job.pieces] if on_all else [job.active])

    def press_copper(self) -> None:
        """Do what the copper button says, or press the button that has the focus."""
        copper = self.stack.currentWidget().copper
        focus = self.focusWidget()
        if isinstance(focus, QAbstractButton) and focus is not copper and self.stack.isAncestorOf(focus):
            focus.click()
        elif copper is not None and copper.isEnabled() and self.session.mesh is not None:
            copper.click()

    def leave(self) -> None:
        """Leave the tool, card, work or preview in hand, the nearest first."""
        hand = self.viewport.hand
        if hand.is_dragging:
            hand.cancel()
        elif hand.tool is not None:
            hand.put_away()
        elif self.left_overs.isVisible():
            self._put_left_overs_away()
        elif self.first_look.isVisible():
            self.first_look.hide()
        elif self.session.tasks.busy is not None:
            self.busy_box.cancel()
        elif self.editing.number is not None:
            self.editing.leave()
        else:
            self.notice.hide()
            self.session.cancel_preview()
            if hand.rest is not None:
                self.session.set_station(_FIRST)

    def swap(self) -> None:
        """Swap the two sides of what is set up, such as the waste side of a snip."""
        self.trays[self.session.station].swap()

    def _open_station(self, name: str) -> None:
        if self._station_shown:
            self.trays[self._station_shown].leave()
        if self.editing.number is not None:
            self.editing.leave()
        self._station_shown = name
        if name != _FIRST:
            self.first_look.hide()
        tray = self.trays[name]
        self.stack.setCurrentWidget(tray)
        self.menus.swap.setEnabled(tray.can_swap)
        tray.refresh()
        if self.session.mesh is not None:
            tray.enter()

    def _show_editing(self) -> None:
        """Show the step that is being changed, or the station again."""
        if self.editing.number is not None:
            self.viewport.hand.set_rest(None)
            self.stack.setCurrentWidget(self.editor)
            self.editor.refresh()
        elif self.stack.currentWidget() is self.editor:
            tray = self.trays[self.session.station]
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

    def _go_to_what_is_missing(self) -> None:
        found = self.session.examination
        if found is None:
            return
        failed = next((check for check in found.readiness.checks if check.passed is False), None)
        wanted = next((s.name for s in STATIONS if failed is not None and s.answers(failed, found)), STATIONS[-1].name)
        self.session.set_station(wanted)

    # ---- showing

    def refresh(self, *_: object) -> None:
        """Show the session as it is."""
        session, mesh = self.session, self.session.mesh
        self.empty.setVisible(mesh is None and not self.left_overs.isVisible())
        if self.empty.isVisible():
            QTimer.singleShot(0, self._place_floating)
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
        self._show_state()
        self._show_title()
        self.log_list.refresh()
        self.stack.currentWidget().refresh()

    def _show_state(self) -> None:
        """Whether the part is ready, or what is missing."""
        found = self.session.examination
        if self.session.mesh is None:
            state, ready = "No scan open", "none"
        elif found is None:
            state, ready = "Looking the scan over…", "none"
        else:
            verdict = found.readiness
            state, ready = verdict.state, "yes" if verdict.proven else "open" if verdict.ready else "no"
        metrics = self.state_button.fontMetrics()
        self.state_button.setText(metrics.elidedText(state, Qt.TextElideMode.ElideRight, 620))
        self.state_button.setToolTip(state)
        self.state_button.setAccessibleName(f"Release state: {state}")
        self.state_button.setProperty("ready", ready)
        self.state_button.style().unpolish(self.state_button)
        self.state_button.style().polish(self.state_button)

    def _show_title(self) -> None:
        """The job's name, and whether all of it is saved."""
        unsaved = f" ({counted(self.saving.unsaved, 'step')} not saved)" if self.saving.unsaved else ""
        self.setWindowTitle(f"{self.saving.name}{unsaved} – Tinsnip" if self.saving.name else "Tinsnip")

    def _show_busy(self) -> None:
        busy = self.session.tasks.busy is not None
        self.stack.setEnabled(not busy)
        self.log_list.setEnabled(not busy)

    def _show_message(self, text: str, is_error: bool) -> None:
        if is_error:
            self.notice.setText(text)
            self.notice.show()
            self.notice.raise_()
            self._notice_timer.start()
            self._place_floating()

    def _place_floating(self) -> None:
        view = self.viewport.rect()
        self.busy_box.adjustSize()
        self.busy_box.move((view.width() - self.busy_box.width()) // 2, view.height() - self.busy_box.height() - 56)
        self.notice.setFixedWidth(min(560, view.width() - 40))
        self.notice.adjustSize()
        self.notice.move((view.width() - self.notice.width()) // 2, 16)
        self.first_look.adjustSize()
        self.first_look.move(16, 16)
        self.empty.fit()
        self.left_overs.adjustSize()
        for card in (self.empty, self.left_overs):
            card.move((view.width() - card.width()) // 2, (view.height() - card.height()) // 2)

    # ---- events

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and watched is self.viewport:
            self._place_floating()
        return super().eventFilter(watched, event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_S and not event.modifiers() and self.session.mesh is not None:
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

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and not self.isActiveWindow():
            self._swap_back()  # a key that is let go elsewhere is not heard of
        super().changeEvent(event)

    def dragEnterEvent(self, event: object) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: object) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:  # asked only once the one who drops is free again
            QTimer.singleShot(0, lambda: self.opening.open(paths))

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._closing and self.saving.unsaved:
            event.ignore()
            self.opening.before_losing(self._close)
            return
        self.session.tasks.stop_all()
        self.saving.stop()
        super().closeEvent(event)

    def _close(self) -> None:
        self._closing = True
        QTimer.singleShot(0, self.close)  # closing within closing would mean nothing
