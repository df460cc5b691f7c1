"""Work in threads: what the user waits for, one at a time, and what goes on behind the scenes."""

import weakref
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer, Signal

from tinsnip.app.state.worker import Task, start
from tinsnip.progress import Progress

__all__ = ["Tasks"]


class Tasks(QObject):
    """All work under way, by name; results come back on the window's thread."""

    busy_changed = Signal()
    message = Signal(str, bool)

    def __init__(self) -> None:
        super().__init__()
        self.busy: Task | None = None
        self.title = ""
        self._waiting: Callable[[], None] | None = None
        self._background: dict[str, Task] = {}
        self._to_follow: dict[str, tuple[Callable[[Progress], object], Callable[[object], None]]] = {}

    def foreground(self, title: str, work: Callable[[Progress], object], done: Callable[[object], None]) -> None:
        """Work the user waits for: shown, with Cancel; one at a time."""
        if self.busy is not None:
            self.message.emit(f"{self.title} is still going on; wait for it or cancel it", True)
            return

        def finish() -> None:
            self.busy = None
            self.busy_changed.emit()
            QTimer.singleShot(0, self._go_on)

        def succeed(result: object) -> None:
            finish()
            done(result)

        def fail(text: str) -> None:
            finish()
            self.message.emit(text, True)

        def stop() -> None:
            finish()
            self.message.emit(f"{title}: cancelled; nothing was changed", False)

        self.busy, self.title = Task(work, succeed, fail, stop), title
        self.busy_changed.emit()
        start(self.busy, in_front=True)

    def once_free(self, then: Callable[[], None]) -> None:
        """Call a function once nothing is waited for any more, at once if nothing is; the newest such wish holds."""
        self._waiting = then
        if self.busy is None:
            self._go_on()

    def _go_on(self) -> None:
        if self.busy is None and self._waiting is not None:
            then, self._waiting = self._waiting, None
            then()

    def behind(
        self,
        name: str,
        work: Callable[[Progress], object],
        done: Callable[[object], None],
        failed: Callable[[str], None] = lambda text: None,
    ) -> None:
        """Work nobody waits for; a newer one under the same name cancels the older. What went wrong is said, too."""
        if name in self._background:
            self._background[name].progress.cancel()

        def is_current() -> bool:
            if self._background.get(name) is not known():
                return False
            del self._background[name]
            return True

        def succeed(result: object) -> None:
            if is_current():
                done(result)
                self._follow(name)

        def drop(text: str = "") -> None:
            if is_current():
                if text:
                    self.message.emit(text, True)
                    failed(text)
                self._follow(name)

        task = Task(work, succeed, drop, drop)
        known = weakref.ref(task)  # or the task would hold itself
        self._background[name] = task
        start(task)

    def _follow(self, name: str) -> None:
        """Begin what was asked for meanwhile, however the last one ended."""
        following = self._to_follow.pop(name, None)
        if following is not None:
            self.behind(name, *following)

    def latest(self, name: str, work: Callable[[Progress], object], done: Callable[[object], None]) -> None:
        """As `behind`, but what is under way is finished first, and only the newest request then follows."""
        if name in self._background:
            self._to_follow[name] = work, done
        else:
            self.behind(name, work, done)

    def stop_behind(self, *names: str) -> None:
        """Stop some of what goes on behind the scenes, and what was to follow it."""
        for name in names:
            self._to_follow.pop(name, None)
            if name in self._background:
                self._background.pop(name).progress.cancel()

    def stop_all(self) -> None:
        """Ask everything that is going on to stop."""
        for task in (self.busy, *self._background.values()):
            if task is not None:
                task.progress.cancel()

    @property
    def idle(self) -> bool:
        """Nothing is being worked out, before or behind the scenes."""
        return self.busy is None and self._waiting is None and not self._background

    def progress_of(self, name: str) -> Progress | None:
        """How far something behind the scenes is; None when it is not under way."""
        task = self._background.get(name)
        return None if task is None else task.progress
