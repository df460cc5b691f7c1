"""One line to find anything by: commands, stations, tools, controls of trays, findings, steps of the log."""

from collections.abc import Callable, Iterator
from typing import NamedTuple, Protocol

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QFrame,
    QHeaderView,
    QLabel,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from tinsnip.app.frame.menus import Menus
from tinsnip.app.state.session import Session
from tinsnip.app.stations.registry import STATIONS
from tinsnip.app.stations.station import Tray
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import TextField, is_enter
from tinsnip.app.widgets.findinglist import size_text
from tinsnip.app.widgets.theme import px

__all__ = ["Entry", "Finder", "matching"]

_MOST_ROWS, _MOST_FINDINGS = 10, 500


class Found(Protocol):
    """What there is to be found in the window."""

    session: Session
    viewport: Viewport
    menus: Menus

    def tray(self, name: str) -> Tray: ...


class Entry(NamedTuple):
    """Something that can be found: what it is called, where it stands, its key, and what choosing it does."""

    text: str
    where: str
    keys: str
    act: Callable[[], object]
    is_found: bool = False

    @property
    def words(self) -> str:
        """All it is found by."""
        return f"{self.text} {self.where}".casefold()


def matching(entries: list[Entry], typed: str) -> list[Entry]:
    """Entries that have every typed word in them; first those whose own words begin so, what can be done before what
    was found."""
    words = typed.casefold().split()

    def rank(entry: Entry) -> tuple[int, bool, int]:
        own = entry.text.casefold()
        begins = sum(any(part.startswith(word) for part in own.split()) for word in words)
        return -begins, entry.is_found, len(own)

    return sorted((e for e in entries if all(word in e.words for word in words)), key=rank)


class _Line(TextField):
    """Where it is typed; the arrows, Enter and Esc are the finder's."""

    def __init__(self, finder: "Finder") -> None:
        super().__init__("What to find")
        self._finder = finder
        self.setPlaceholderText("Find a command, tool, control, finding or step by any of its words")

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
            return True
        return super().event(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if event.reason() not in (Qt.FocusReason.ActiveWindowFocusReason, Qt.FocusReason.PopupFocusReason):
            self._finder.hide()  # something else was clicked

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self._finder.leave()
        elif is_enter(event):
            self._finder.take()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._finder.step(1 if event.key() == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)


class Finder(QFrame):
    """Stands over the view while it is asked; Enter does what is chosen, Esc leaves all as it was."""

    def __init__(self, window: Found, parent: QWidget) -> None:
        super().__init__(parent)
        self._window = window
        self._entries: list[Entry] = []
        self._shown: list[Entry] = []
        self.setObjectName("card")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(14), px(12), px(14), px(12))
        box.setSpacing(px(8))
        self.line = _Line(self)
        self.line.textChanged.connect(self._list)
        box.addWidget(self.line)
        self.rows = QTreeWidget()
        self.rows.setObjectName("finder")
        self.rows.setColumnCount(3)
        self.rows.setHeaderHidden(True)
        self.rows.setRootIsDecorated(False)
        self.rows.setUniformRowHeights(True)
        self.rows.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.rows.setAccessibleName("What was found")
        self.rows.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rows.header().setStretchLastSection(False)
        self.rows.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column in (1, 2):
            self.rows.header().setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        self.rows.itemClicked.connect(lambda item, column: self.take())
        box.addWidget(self.rows)
        self.none = QLabel("Nothing is called so.")
        self.none.setObjectName("muted")
        box.addWidget(self.none)
        self._more = QTimer(self, interval=0)
        self._more.timeout.connect(self._read_tray)
        self._unread: list[str] = []
        self.hide()

    def ask(self) -> None:
        """Come up, with nothing typed."""
        self._entries = [*self._commands(), *self._findings(), *self._steps()]
        self._unread = [station.name for station in STATIONS]
        self._more.start()  # a tray at a time: what was never open is built for it
        self.line.clear()
        self._list()
        width = min(px(620), self.parentWidget().width() - px(24))
        self.setFixedWidth(width)
        self.move((self.parentWidget().width() - width) // 2, px(40))
        self.show()
        self.raise_()
        self.line.setFocus()

    def leave(self) -> None:
        """Go, and give the focus back to the view."""
        self._more.stop()
        self.hide()
        self._window.viewport.setFocus()

    def take(self) -> None:
        """Do what is chosen."""
        row = self.rows.indexOfTopLevelItem(self.rows.currentItem())
        if 0 <= row < len(self._shown):
            entry = self._shown[row]
            self.leave()
            entry.act()

    def step(self, by: int) -> None:
        """Choose the next or the one before."""
        count = self.rows.topLevelItemCount()
        if count:
            row = self.rows.indexOfTopLevelItem(self.rows.currentItem())
            self.rows.setCurrentItem(self.rows.topLevelItem((row + by) % count))

    def _list(self, *_: object) -> None:
        self._shown = matching(self._entries, self.line.text())[:_MOST_ROWS]
        self.rows.clear()
        for entry in self._shown:
            item = QTreeWidgetItem([entry.text, entry.where, entry.keys])
            item.setTextAlignment(2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.rows.addTopLevelItem(item)
        if self._shown:
            self.rows.setCurrentItem(self.rows.topLevelItem(0))
        high = max(self.rows.sizeHintForRow(0), self.fontMetrics().height())
        self.rows.setFixedHeight(max(1, len(self._shown)) * high + px(2))
        self.rows.setVisible(bool(self._shown))
        self.none.setVisible(not self._shown)
        self.adjustSize()

    # ---- what there is

    def _commands(self) -> Iterator[Entry]:
        for menu, actions in self._window.menus.groups.items():
            for action in actions:
                if action.isEnabled():
                    text = action.text().replace("&", "").removesuffix("…")
                    yield Entry(text, menu, action.shortcut().toString(), action.trigger)

    def _findings(self) -> Iterator[Entry]:
        session = self._window.session
        for station in STATIONS:
            for finding in session.findings(station.name)[:_MOST_FINDINGS]:

                def go(name: str = station.name, finding: object = finding) -> None:
                    session.set_station(name)
                    session.fly_to.emit(finding)

                yield Entry(f"{finding.id} {finding.text} {size_text(finding)}", f"found, {station.name}", "", go, True)

    def _steps(self) -> Iterator[Entry]:
        session = self._window.session
        for number, step in enumerate(session.job.log, 1):
            yield Entry(f"{number} {step.text}", "step of the log", "", lambda n=number: session.history.go_to(n), True)

    def _read_tray(self) -> None:
        """Add the controls of one more tray."""
        if not self._unread or self._window.session.mesh is None or self.isHidden():
            self._more.stop()
            return
        name = self._unread.pop(0)
        self._entries += self._controls(name, self._window.tray(name))
        if self.line.text():
            self._list()

    def _controls(self, name: str, tray: Tray) -> Iterator[Entry]:
        session = self._window.session
        for control in tray.findChildren(QWidget):
            text = control.accessibleName() or (control.text() if isinstance(control, QAbstractButton) else "")
            if (
                not text
                or isinstance(control, QLabel)
                or control.focusPolicy() == Qt.FocusPolicy.NoFocus
                or control is tray.copper
            ):
                continue

            def go(control: QWidget = control) -> None:
                session.set_station(name)
                tray.reveal(control)
                control.setFocus()
                if isinstance(control, QPushButton) and control.isEnabled():
                    control.click()

            yield Entry(text.replace("&", ""), name, "", go)
