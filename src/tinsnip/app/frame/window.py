"""The main window: top bar, ticket, view, tray with the log, status line."""

from pathlib import Path

import platformdirs
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
from tinsnip.app.frame.emptyview import EmptyView
from tinsnip.app.frame.firstlook import FirstLook
from tinsnip.app.frame.loglist import LogList
from tinsnip.app.frame.menus import Menus
from tinsnip.app.frame.ticket import Ticket
from tinsnip.app.state.session import STATIONS, Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.stations.registry import make_trays
from tinsnip.app.view.viewport import Viewport
from tinsnip.demo import demo_file
from tinsnip.formats import FORMATS, Scan, read_scan
from tinsnip.progress import Progress
from tinsnip.words import grouped, megabytes, millimetres

__all__ = ["Window"]

_OPEN_FILTER = "Scans (" + " ".join(f"*{f.suffix}" for f in FORMATS.values()) + ");;All files (*)"
_TRAY_WIDTH = 288


class Window(QMainWindow):
    """One window, one job."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session()
        self.settings = Settings.load()
        self.session.set_undo_memory(self.settings.undo_share)
        self.session.job.keeper.remove_stale()
        self.setWindowTitle("Tinsnip")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.viewport = Viewport(self.session, self.settings)
        self.ticket = Ticket(self.session)
        self.trays = make_trays(self.session, self.viewport)
        self.menus = Menus(self)
        self._build_layout()
        self.busy_box = BusyBox(self.session.tasks, self._place_floating, self.viewport)
        self._build_notice()
        session = self.session
        session.station_changed.connect(self._open_station)
        session.tasks.busy_changed.connect(self._show_busy)
        session.message.connect(self._show_message)
        for signal in (session.mesh_changed, session.examined, session.log_changed, session.released):
            signal.connect(self.refresh)
        self.trays[8].export_asked.connect(self.ask_export)
        self.trays[0].add_asked.connect(self.ask_add)
        self.trays[0].look_asked.connect(self.show_first_look)
        session.opened.connect(self._opened)
        session.from_raw_changed.connect(self._show_measured)
        for child in self.stack.findChildren(QWidget):  # rules that name the tray hold only now that it is their parent
            child.style().unpolish(child)
            child.style().polish(child)
        self._before_swap = ""
        self._station_shown = -1
        self._open_station(0)
        self.refresh()

    # ---- building

    def _build_layout(self) -> None:
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

        self.tray_column = tray = QWidget()
        tray.setObjectName("tray")
        tray.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        tray.setFixedWidth(_TRAY_WIDTH)
        tray_box = QVBoxLayout(tray)
        tray_box.setContentsMargins(0, 0, 0, 0)
        tray_box.setSpacing(0)
        self.stack = QStackedWidget()
        self.stack.setMaximumWidth(_TRAY_WIDTH)  # a long text in one tray must not push another out of view
        for panel in self.trays:
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
        self.log_list = LogList(self.session)
        log_box.addWidget(self.log_list)
        tray_box.addWidget(log)

        status = QWidget()
        status.setObjectName("statusline")
        status.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        status_box = QHBoxLayout(status)
        status_box.setContentsMargins(4, 5, 4, 5)
        self.status = {name: QLabel() for name in ("triangles", "size", "deviation", "made")}
        for label in self.status.values():
            status_box.addWidget(label)
        status_box.addStretch(1)
        self.said = QLabel()
        status_box.addWidget(self.said)

        centre = QWidget()
        columns = QHBoxLayout()
        columns.setContentsMargins(0, 0, 0, 0)
        columns.setSpacing(0)
        columns.addWidget(self.ticket)
        columns.addWidget(middle, 1)
        columns.addWidget(tray)
        whole = QVBoxLayout(centre)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(top)
        whole.addLayout(columns, 1)
        whole.addWidget(status)
        self.setCentralWidget(centre)
        self._build_empty()
        self.viewport.installEventFilter(self)

    def _build_empty(self) -> None:
        """What the view shows before anything is open, and the card after."""
        self.empty = EmptyView(self.viewport)
        self.empty.open_asked.connect(self.ask_open)
        self.empty.demo_asked.connect(lambda names: self.open_demo(*names))
        self.empty.recent_asked.connect(lambda path: self.session.open_files([path]))
        self._fill_recent()
        self.first_look = FirstLook(self.session, self.viewport)
        self.first_look.put_away.connect(self._first_look_gone)

    def _build_notice(self) -> None:
        self.notice = QLabel(self.viewport)
        self.notice.setObjectName("warning")
        self.notice.setWordWrap(True)
        self.notice.hide()
        self._notice_timer = QTimer(self, singleShot=True, interval=12000)
        self._notice_timer.timeout.connect(self.notice.hide)

    # ---- actions

    def ask_open(self) -> None:
        """Ask for scans and open them as a new job."""
        self._ask_and_open("Open scans", add=False)

    def ask_add(self) -> None:
        """Ask for further scans and open them as pieces of this job."""
        self._ask_and_open("Open further scans as pieces", add=True)

    def _ask_and_open(self, title: str, add: bool) -> None:
        folder = self.settings.open_folder if Path(self.settings.open_folder).is_dir() else ""
        paths, _ = QFileDialog.getOpenFileNames(self, title, folder, _OPEN_FILTER)
        if paths:
            self.session.open_files([Path(p) for p in paths], add)

    def open_demo(self, *names: str) -> None:
        """Open demo scans, making them first where needed."""

        def read(progress: Progress) -> list[Scan]:
            def note(text: str, share: float) -> None:
                progress.step(text, 1000)[1] = int(1000 * share)

            scans = []
            for i, name in enumerate(names):
                with progress.part(i / len(names), (i + 0.9) / len(names)):
                    path = demo_file(name, note=note)
                with progress.part((i + 0.9) / len(names), (i + 1) / len(names)):
                    scans.append(read_scan(path, "mm", progress))
            return scans

        self.session.open_with(read, f"Demo scan {names[0]}")

    def _opened(self, paths: list[Path]) -> None:
        """Remember what was opened, and show the first look at it."""
        demo_folder = Path(platformdirs.user_cache_dir("tinsnip"))
        for path in paths:
            if not path.is_relative_to(demo_folder):
                self.settings.note_opened(path)
        self._fill_recent()
        self.show_first_look()

    def _fill_recent(self) -> None:
        """The recent scans that are still there, in the menu and on the empty view."""
        there = [Path(p) for p in self.settings.recent if Path(p).is_file()]
        self.menus.recent.clear()
        self.menus.recent.setEnabled(bool(there))
        for path in there:
            action = self.menus.recent.addAction(str(path))
            action.triggered.connect(lambda _=False, path=path: self.session.open_files([path]))
        self.empty.show_recent(there)

    def show_first_look(self) -> None:
        """Show the card of the first look."""
        if self.session.job.piece is not None and not self.session.job.log:
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

    def ask_export(self, name: str = "") -> None:
        """Ask where to write, and export."""
        piece = self.session.job.piece
        if piece is None:
            return
        name = name or self.trays[8].format.currentData()
        suggested = str(Path(piece.name).with_suffix("")) + "-solid" + FORMATS[name].suffix
        folder = self.settings.export_folder
        if not Path(folder).is_dir() or not folder:
            folder = str(piece.scan.path.parent) if piece.scan is not None else ""
        suggested = str(Path(folder) / suggested)
        chosen = f"{FORMATS[name].title} (*{FORMATS[name].suffix})"
        path, _ = QFileDialog.getSaveFileName(self, "Export", suggested, chosen)
        if path:
            target = Path(path)
            if target.suffix.lower() != FORMATS[name].suffix:
                target = target.with_name(target.name + FORMATS[name].suffix)
            self.settings.export_folder = str(target.parent)
            self.settings.save()
            said = self.trays[8].provenance.isChecked() and FORMATS[name].holds_provenance
            self.session.export(target, self.trays[8].frame.isChecked(), said)

    def press_copper(self) -> None:
        """Do what the copper button says, or press the button that has the focus."""
        copper = self.trays[self.session.station].copper
        focus = self.focusWidget()
        if isinstance(focus, QAbstractButton) and focus is not copper and self.stack.isAncestorOf(focus):
            focus.click()
        elif copper is not None and copper.isEnabled() and self.session.mesh is not None:
            copper.click()

    def leave(self) -> None:
        """Leave the tool, card, work or preview in hand, the nearest first."""
        if self.viewport.gestures.is_picking:
            self.viewport.gestures.end_two_points()
            self.viewport.gestures.end_pick()
        elif self.first_look.isVisible():
            self.first_look.hide()
        elif self.session.tasks.busy is not None:
            self.busy_box.cancel()
        else:
            self.notice.hide()
            self.session.cancel_preview()
            if STATIONS[self.session.station] in ("Stand", "Trim"):
                self.session.set_station(0)

    def swap(self) -> None:
        """Let the other side of the snip be the waste."""
        if STATIONS[self.session.station] == "Trim" and self.viewport.overlay.snip is not None:
            self.trays[2].swap()

    def _open_station(self, index: int) -> None:
        if self._station_shown >= 0:
            self.trays[self._station_shown].leave()
        self._station_shown = index
        if index != 0:
            self.first_look.hide()
        self.stack.setCurrentIndex(index)
        self.menus.swap.setEnabled(STATIONS[index] == "Trim")
        self.trays[index].refresh()
        if self.session.mesh is not None:
            self.trays[index].enter()

    def _go_to_what_is_missing(self) -> None:
        found = self.session.examination
        if found is None:
            return
        station_of = {"closed": 4, "manifold": 5, "outward": 5, "volume": 5, "shells": 3, "voids": 3}
        for check in found.readiness.checks:
            if check.passed is False:
                index = station_of.get(check.name, 8)
                if check.name == "closed" and not found.boundaries.is_hole.any():
                    index = 7
                self.session.set_station(index)
                return
        self.session.set_station(8)

    # ---- showing

    def refresh(self, *_: object) -> None:
        """Show the session as it is."""
        session, mesh = self.session, self.session.mesh
        self.empty.setVisible(mesh is None)
        self.stack.setVisible(mesh is not None)
        self.menus.undo.setEnabled(session.job.can_undo)
        self.menus.redo.setEnabled(session.job.can_redo)
        self.menus.export.setEnabled(mesh is not None)
        self.menus.colour.setEnabled(mesh is not None and mesh.colour is not None)
        for action in (*self.menus.looks[2:], *self.menus.shows[:2]):
            action.setEnabled(mesh is not None)
        if not self.menus.colour.isEnabled() and self.menus.colour.isChecked():
            self.menus.tin.trigger()
        found = session.examination
        if mesh is None:
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
        if mesh is not None:
            count = len(mesh.faces)
            self.status["triangles"].setText(f"now {grouped(count)} triangles")
            size = FORMATS["stl"].size_for(mesh), FORMATS["3mf"].size_for(mesh)
            self.status["size"].setText(f"STL {megabytes(size[0])} · 3MF ~{megabytes(size[1])}")
            self._show_measured()
            name = session.job.piece.name
            self.setWindowTitle(f"{name} – Tinsnip")
        self.log_list.refresh()
        self.trays[session.station].refresh()

    def _show_measured(self) -> None:
        """What was measured against the raw scan: always of the present mesh, or still to come."""
        measured = self.session.from_raw
        if measured is None:
            self.status["deviation"].setText("deviation from raw …")
            self.status["made"].setText("made …")
        else:
            self.status["deviation"].setText(f"deviation from raw {millimetres(measured.overall.max)} mm")
            self.status["made"].setText(f"made {100 * measured.shares[2]:.1f} %")

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
        else:
            self.said.setText(text)

    def _place_floating(self) -> None:
        view = self.viewport.rect()
        self.busy_box.adjustSize()
        self.busy_box.move((view.width() - self.busy_box.width()) // 2, view.height() - self.busy_box.height() - 56)
        self.notice.setFixedWidth(min(560, view.width() - 40))
        self.notice.adjustSize()
        self.notice.move((view.width() - self.notice.width()) // 2, 16)
        self.first_look.adjustSize()
        self.first_look.move(16, 16)
        self.empty.adjustSize()
        self.empty.move((view.width() - self.empty.width()) // 2, (view.height() - self.empty.height()) // 2)

    # ---- events

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and watched is self.viewport:
            self._place_floating()
        return super().eventFilter(watched, event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_S and not event.isAutoRepeat() and self.session.mesh is not None:
            self._before_swap = self.viewport.shows
            self.viewport.set_shows("now" if self.viewport.shows == "raw" else "raw")
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_S and not event.isAutoRepeat() and self._before_swap:
            self.viewport.set_shows(self._before_swap)
            self._before_swap = ""
        else:
            super().keyReleaseEvent(event)

    def dragEnterEvent(self, event: object) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: object) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            self.session.open_files(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.session.tasks.stop_all()
        self.session.job.keeper.close()
        super().closeEvent(event)
