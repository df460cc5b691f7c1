"""Where the keys go: to nothing that Enter would press unasked, and back to what had them once work is done."""

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QApplication, QMainWindow, QWidget

__all__ = ["FocusKeeper"]


class FocusKeeper(QObject):
    """What keeps the focus.

    Parameters
    ----------
    window : QMainWindow
    view : QWidget
        What has the focus when nothing else should.
    stopped : list of QWidget
        What can not be used while something is waited for.
    """

    def __init__(self, window: QMainWindow, view: QWidget, stopped: list[QWidget]) -> None:
        super().__init__(window)
        self._window = window
        self._view = view
        self._stopped = stopped
        self._had: QWidget | None = None
        QApplication.instance().focusChanged.connect(self._moved)

    def show_busy(self, is_busy: bool) -> None:
        """What is waited for stops what it would come into conflict with; the focus is kept for after it."""
        focus = self._window.focusWidget()
        if is_busy and focus is not None and any(one.isAncestorOf(focus) for one in self._stopped):
            self._had = focus
            self._view.setFocus()
        for one in self._stopped:
            one.setEnabled(not is_busy)
        had, self._had = self._had, self._had if is_busy else None
        if not is_busy and had is not None and self._view.hasFocus():
            QTimer.singleShot(0, lambda: had.setFocus() if _is_there(had) else None)

    def _moved(self, old: QWidget | None, new: QWidget | None) -> None:
        """What had the focus has gone, and the toolkit gave it to the next in line, which Enter would press unasked."""
        if old is not None and new is not None and not _is_there(old) and self._window.isAncestorOf(new):
            self._view.setFocus()


def _is_there(widget: QWidget) -> bool:
    """Whether a widget still is, can be seen and used."""
    try:
        return widget.isVisible() and widget.isEnabled()
    except RuntimeError:  # it is gone
        return False
