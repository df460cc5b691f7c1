"""What is going on in front: its name, a figure, the time left, and Cancel."""

import time
from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QProgressBar, QWidget

from tinsnip import kernels
from tinsnip.app.state.tasks import Tasks
from tinsnip.app.state.timeleft import TimeLeft
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px

__all__ = ["BusyBox"]

_SHOWN_AFTER_MS = 150


class BusyBox(QFrame):
    """Shown over the view while there is something to wait for."""

    def __init__(self, tasks: Tasks, place: Callable[[], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.tasks = tasks
        self._place = place
        self.setObjectName("busy")
        box = QHBoxLayout(self)
        box.setContentsMargins(px(14), px(10), px(14), px(10))
        box.setSpacing(px(12))
        self.text = QLabel()
        self.text.setMinimumWidth(px(190))
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setFixedWidth(px(170))
        self.cancel_button = Button("Cancel")
        self.cancel_button.clicked.connect(self.cancel)
        for widget in (self.text, self.bar, self.cancel_button):
            box.addWidget(widget)
        self.hide()
        self._left = TimeLeft(time.monotonic())
        self._timer = QTimer(self, interval=100)
        self._timer.timeout.connect(self._tick)
        tasks.busy_changed.connect(self._follow)

    def cancel(self) -> None:
        """Ask what is going on to stop."""
        if self.tasks.busy is not None:
            self.tasks.busy.progress.cancel()

    def _follow(self) -> None:
        if self.tasks.busy is not None:
            self._left = TimeLeft(time.monotonic())
            self._tick()
            self._timer.start()
            QTimer.singleShot(_SHOWN_AFTER_MS, self._rise)
        else:
            self._timer.stop()
            self.hide()

    def _rise(self) -> None:
        if self.tasks.busy is not None:
            self.show()
            self.raise_()
            self._place()

    def _tick(self) -> None:
        task = self.tasks.busy
        if task is None:
            return
        share = task.progress.fraction
        told = self._left.told(time.monotonic(), share)
        self.bar.setValue(int(1000 * share))
        self.bar.setFormat(", ".join([f"{100 * share:.0f} %"] * (share > 0) + [told] * bool(told)))
        once = " (compiling, once)" if kernels.is_compiling() else ""
        self.text.setText((task.progress.label or self.tasks.title) + once)
