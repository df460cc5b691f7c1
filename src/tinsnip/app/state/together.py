"""What is about to be done to several pieces: worked out beside the window, and looked at before it is done."""

import time
from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from tinsnip.app.state.preview import TogetherPreview
from tinsnip.app.state.selected import Selected
from tinsnip.app.state.tasks import Tasks
from tinsnip.job import Action, Job, Piece, Step, perform
from tinsnip.progress import Progress
from tinsnip.survey.lying import Lying, LyingPiece
from tinsnip.treat import Align, Assembly

__all__ = ["Together"]

_EVERY_S = 0.1
"""Between two looks at a piece that is being brought to where it lies."""
_LOOKED_AT_MS = 40


class _Session(Protocol):
    job: Job
    tasks: Tasks
    selected: Selected

    def enter(self, steps: Sequence[Step]) -> None: ...

    def do(self, action: Action, on: Sequence[int] | None = None) -> None: ...


class Together(QObject):
    """The preview of something done to several pieces, and how a piece comes to lie while that is found.

    Signals
    -------
    changed
        What is to be seen is another thing.

    Attributes
    ----------
    preview : TogetherPreview or None
    coming : Lying or None
        A piece on its way to where it will lie.
    """

    changed = Signal()

    def __init__(self, session: _Session) -> None:
        super().__init__()
        self._session = session
        self.preview: TogetherPreview | None = None
        self.coming: Lying | None = None
        self._newest: Lying | None = None
        self._looking = QTimer(self, interval=_LOOKED_AT_MS)
        self._looking.timeout.connect(self._look)
        session.tasks.busy_changed.connect(self._stop_looking)

    @property
    def lying(self) -> tuple[Lying, ...]:
        """The pieces that are to be seen moved: the one on its way, or those of the preview as long as it stands."""
        if self.coming is not None:
            return (self.coming,)
        known = self.preview
        return known.lying if known is not None and known.stands(self._session.job.present) else ()

    def ask(self, action: Assembly, on: Sequence[int], title: str = "") -> None:
        """Work out what an assembly would make of pieces, to be looked at before it is done; waited for under a title,
        else behind the scenes."""
        if self._shows(action, on):
            return
        session, on = self._session, tuple(on)
        pieces, next_id = dict(session.job.present), session.job.next_id

        def work(progress: Progress) -> TogetherPreview:
            if title and isinstance(action, Align):
                progress.watcher = self._watcher(pieces, on)
            return TogetherPreview.of(pieces, perform(action, pieces, on, progress, next_id))

        def done(preview: TogetherPreview) -> None:
            if preview.stands(session.job.present):
                self.preview = preview
                self.changed.emit()

        if title:
            self._newest = None
            session.tasks.foreground(title, work, done)
            self._looking.start()
        else:
            session.tasks.behind("preview", work, done)

    def _watcher(self, pieces: Mapping[int, Piece], on: tuple[int, ...]) -> Callable[[np.ndarray], None]:
        """What looks at each pose that aligning comes by, on its thread; only the newest is kept."""
        fixed, moving = (pieces[number].mesh for number in on)
        piece, looked = None, 0.0

        def watch(matrix: np.ndarray) -> None:
            nonlocal piece, looked
            if time.monotonic() - looked < _EVERY_S:
                return
            piece = piece or LyingPiece(moving)
            self._newest = piece.lying(matrix, [(fixed, np.eye(4))])
            looked = time.monotonic()

        return watch

    def _look(self) -> None:
        if self._newest is not None:
            self.coming, self._newest = self._newest, None
            self.changed.emit()

    def _stop_looking(self) -> None:
        """Whatever was waited for has ended, well or not."""
        if self._session.tasks.busy is None and self._looking.isActive():
            self._looking.stop()
            self._newest = None
            if self.coming is not None:
                self.coming = None
                self.changed.emit()

    def _shows(self, action: Assembly, on: Sequence[int]) -> bool:
        """Whether the preview shows just what this would do now."""
        known = self.preview
        same = known is not None and known.step.action == action and known.step.on == tuple(on)
        return same and known.stands(self._session.job.present)

    def do(self, action: Assembly, on: Sequence[int]) -> None:
        """Do an assembly to pieces; at once when its preview stands."""
        if self._session.selected.hidden_on is None and self._shows(action, on):
            self._session.enter([self.preview.step])
        else:
            self._session.do(action, on)

    def leave(self) -> bool:
        """Leave the preview; whether there was one."""
        was, self.preview = self.preview is not None, None
        return was
