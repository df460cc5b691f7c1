"""The column at the right: the tray of the open station, or the step that is changed, over the log."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QStackedWidget, QVBoxLayout, QWidget

from tinsnip.app.frame.loglist import LogList
from tinsnip.app.widgets.theme import px

__all__ = ["TrayColumn"]

_WIDTH, _WIDEST = 288, 384
_LARGE = 1500, 900
"""From windows of this size on, the tray gets wider and the log taller."""


class TrayColumn(QWidget):
    """Trays one behind another, and the log below them.

    Attributes
    ----------
    stack : QStackedWidget
        The step editor, and each tray that was asked for.
    """

    def __init__(self, editor: QWidget, log_list: LogList) -> None:
        super().__init__()
        self._log_list = log_list
        self.setObjectName("tray")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(px(_WIDTH))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(0)
        self.stack = QStackedWidget()
        policy = self.stack.sizePolicy()
        policy.setRetainSizeWhenHidden(True)  # the log stays where it is
        self.stack.setSizePolicy(policy)
        self.stack.setMaximumWidth(px(_WIDTH))  # a long text in one tray must not push another out of view
        self.stack.addWidget(editor)
        box.addWidget(self.stack, 1)
        box.addWidget(self._log())

    def _log(self) -> QWidget:
        log = QWidget()
        log.setObjectName("log")
        log.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        box = QVBoxLayout(log)
        box.setContentsMargins(px(16), px(6), px(8), px(6))
        title = QLabel("LOG")
        title.setObjectName("heading")
        box.addWidget(title)
        box.addWidget(self._log_list)
        return log

    def take_room(self, width: int, height: int) -> None:
        """Take what a window of that size, pixels, can give."""
        beyond = max(0, width - px(_LARGE[0])) // 8, max(0, height - px(_LARGE[1])) // 2
        wide = min(px(_WIDTH) + beyond[0], px(_WIDEST))
        self.setFixedWidth(wide)
        self.stack.setMaximumWidth(wide)
        self._log_list.take_room(beyond[1])
