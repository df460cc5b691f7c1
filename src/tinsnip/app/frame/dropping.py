"""Dropping files on the window: said while they hang over it, and asked about where it could mean two things."""

from pathlib import Path

from PySide6.QtCore import QMimeData, QObject, Qt, QTimer
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QLabel, QWidget

from tinsnip.app.frame.opening import JobFiles
from tinsnip.app.state.session import Session
from tinsnip.app.widgets.question import ask
from tinsnip.formats import ENDINGS
from tinsnip.job.jobfile import SUFFIX
from tinsnip.words import counted

__all__ = ["Dropping", "droppable"]

_TAKEN = {*ENDINGS, SUFFIX}


def droppable(data: QMimeData) -> list[Path]:
    """The scans and jobs among what hangs over the window; none when anything else is among it."""
    urls = data.urls() if data.hasUrls() else []
    paths = [Path(url.toLocalFile()) for url in urls if url.isLocalFile()]
    fits = len(paths) == len(urls) and all(p.suffix.lower() in _TAKEN and p.is_file() for p in paths)
    return paths if fits else []


class Dropping(QObject):
    """Takes what is dropped; `over` is the widget that shows it meanwhile."""

    def __init__(self, session: Session, opening: JobFiles, over: QWidget) -> None:
        super().__init__(over)
        self._session, self._opening, self._over = session, opening, over
        self.frame = QLabel(over)
        self.frame.setObjectName("drop")
        self.frame.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.frame.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.frame.hide()

    def enter(self, event: QDragEnterEvent) -> None:
        """Files come over the window."""
        paths = droppable(event.mimeData())
        if not paths:
            event.ignore()
            return
        jobs = [p for p in paths if p.suffix.lower() == SUFFIX]
        what = paths[0].name if len(paths) == 1 else counted(len(paths), "file")
        if jobs and len(paths) > 1:
            what = "a job opens by itself: drop it alone"
        else:
            what = f"Drop to open {what}"
        self.frame.setText(what)
        self.frame.setGeometry(self._over.rect().adjusted(10, 10, -10, -10))
        self.frame.show()
        self.frame.raise_()
        event.acceptProposedAction()

    def leave(self) -> None:
        """They are gone again."""
        self.frame.hide()

    def drop(self, event: QDropEvent) -> None:
        """They are let go; asked only once the one who drops is free again."""
        self.frame.hide()
        paths = droppable(event.mimeData())
        if paths:
            event.acceptProposedAction()
            QTimer.singleShot(0, lambda: self.take(paths))

    def take(self, paths: list[Path]) -> None:
        """Open what was dropped: as a new job, or as pieces of this one."""
        if self._session.mesh is None or any(p.suffix.lower() == SUFFIX for p in paths):
            self._opening.open(paths)
            return
        name = paths[0].name if len(paths) == 1 else counted(len(paths), "scan")
        add, new = ("Add as a piece" if len(paths) == 1 else "Add as pieces"), "Open as a new job"
        text = f"Add {name} to this job, or open {'it' if len(paths) == 1 else 'them'} as a new one?"
        answer = ask(self._over.window(), "Dropped", text, "", (add, new, "Leave it"), add, "Leave it")
        if answer == add:
            self._opening.add(paths)
        elif answer == new:
            self._opening.open(paths)
