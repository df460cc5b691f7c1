"""The column at the right: the tray of the open station, or the step that is changed, over the log."""

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLabel, QSplitter, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from tinsnip.app.frame.loglist import LogList
from tinsnip.app.state.settings import Settings
from tinsnip.app.widgets.fields import TextField
from tinsnip.app.widgets.panels import line_of
from tinsnip.app.widgets.theme import px

__all__ = ["TrayColumn"]

_WIDTH, _WIDEST = 288, 384
_LARGE = 1500, 900
"""From windows of this size on, the tray gets wider and the log taller."""
_LOG = 104
"""Pixels that the log takes in a window of the usual size, until it is pulled up."""
_SEARCHED = 6
"""From so many steps on the log can be searched."""


class TrayColumn(QWidget):
    """Trays one behind another, and the log below them, which can be pulled up.

    Attributes
    ----------
    stack : QStackedWidget
        The step editor, and each tray that was asked for.
    find : TextField
        What the lines of the log that are shown have in them.
    """

    def __init__(self, editor: QWidget, log_list: LogList, settings: Settings) -> None:
        super().__init__()
        self._log_list, self._settings = log_list, settings
        self.setObjectName("tray")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(px(_WIDTH))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self.stack = QStackedWidget()
        self.stack.setMaximumWidth(px(_WIDTH))  # a long text in one tray must not push another out of view
        self.stack.addWidget(editor)
        held = QWidget()  # the log stays where it is while there is no tray
        inside = QVBoxLayout(held)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.stack)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(px(7))
        self.splitter.addWidget(held)
        self.splitter.addWidget(self._log())
        self.splitter.setStretchFactor(0, 1)
        self.splitter.handle(1).setToolTip("Drag to give the log more room, or less")
        self.splitter.splitterMoved.connect(self._pulled)
        box.addWidget(self.splitter)
        self._high = px(_LOG)
        self._keep = QTimer(self, singleShot=True, interval=400)
        self._keep.timeout.connect(settings.save)

    def _log(self) -> QWidget:
        log = QWidget()
        log.setObjectName("log")
        log.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        box = QVBoxLayout(log)
        box.setContentsMargins(px(16), px(2), px(8), px(6))
        box.setSpacing(px(3))
        title = QLabel("LOG")
        title.setObjectName("heading")
        self.find = TextField("Find in the log")
        self.find.setPlaceholderText("find a step")
        self.find.setClearButtonEnabled(True)
        self.find.findChild(QToolButton).setAccessibleName("Show all steps")
        self.find.setMaximumWidth(px(150))
        self.find.textChanged.connect(self._log_list.show_those_with)
        row, _ = line_of(title, None, self.find)
        row.setMinimumHeight(px(24))
        box.addWidget(row)
        box.addWidget(self._log_list, 1)
        self._log_list.grown.connect(self._show_find)
        self._show_find(0)
        return log

    def _show_find(self, steps: int) -> None:
        self.find.setVisible(steps >= _SEARCHED or bool(self.find.text()))

    def _pulled(self, *_: object) -> None:
        """The log was given another height by hand: that is kept."""
        self._settings.log_height = self.splitter.sizes()[1]
        self._keep.start()

    def take_room(self, width: int, height: int) -> None:
        """Take what a window of that size, pixels, can give."""
        beyond = max(0, width - px(_LARGE[0])) // 8, max(0, height - px(_LARGE[1])) // 2
        wide = min(px(_WIDTH) + beyond[0], px(_WIDEST))
        self.setFixedWidth(wide)
        self.stack.setMaximumWidth(wide)
        self._high = self._settings.log_height or px(_LOG) + beyond[1]
        self._divide()

    def _divide(self) -> None:
        whole = max(self.splitter.height(), 1)
        self.splitter.setSizes([max(whole - self._high, 1), self._high])

    def resizeEvent(self, event: object) -> None:
        super().resizeEvent(event)
        self._divide()
