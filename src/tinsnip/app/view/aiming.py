"""What a click would do, worked out beside the window once the pointer rests, and shown before it."""

import time
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer

from tinsnip.app.state.preview import Preview
from tinsnip.app.state.session import Session
from tinsnip.errors import BadInput
from tinsnip.progress import Progress
from tinsnip.treat import Context, Treatment

__all__ = ["Aim"]

_REST_MS = 90
"""The pointer rests once it has not moved for so long."""
_TASK = "aim"


class Aim(QObject):
    """Shows what the tool in hand would take or make where the pointer is, until it goes away.

    A tool that has something to show says in `Tool.would` what is to be worked out. Triangles are lit; a treatment is
    previewed until the click, which works it out anew; anything else is handed back by `Tool.aimed`.

    Parameters
    ----------
    session : Session
    """

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._at = 0.0, 0.0
        self._tool: Any = None
        self._shown: Any = None
        """The tool whose aim is shown."""
        self._preview: Preview | None = None
        self._timer = QTimer(self, singleShot=True, interval=_REST_MS)
        self._timer.timeout.connect(self._work_out)

    def over(self, tool: Any, x: float, y: float) -> None:
        """The pointer is over a pixel, and no button is down."""
        self._tool, self._at = tool, (x, y)
        self._timer.start()

    def away(self) -> None:
        """The pointer has gone elsewhere, or a click has come: show nothing more."""
        self._timer.stop()
        self._tool = None
        self._session.tasks.stop_behind(_TASK)
        self._show(None, None)

    def _work_out(self) -> None:
        session, tool = self._session, self._tool
        piece = session.job.piece
        if tool is None or piece is None or session.examination is None or session.tasks.busy is not None:
            return
        if session.stand_in is not None or session.looking_back is not None:
            return
        work = tool.would(*self._at)
        if work is None:
            self._show(tool, None)
            return
        mesh, context, begun = piece.mesh, (piece.raw, piece.frame), time.perf_counter()

        def find(progress: Progress) -> Any:
            try:
                found = work(mesh, progress)
                if isinstance(found, Treatment):
                    outcome = found.apply(mesh, Context(progress, *context))
                    return Preview(found, mesh, outcome, time.perf_counter() - begun)
                return found
            except BadInput:  # the click says why
                return None

        def show(found: Any) -> None:
            if self._tool is tool and session.mesh is mesh:
                self._show(tool, found)

        session.tasks.latest(_TASK, find, show)

    def _show(self, tool: Any, found: Any) -> None:
        session, before = self._session, self._shown
        self._shown = tool
        preview = found if isinstance(found, Preview) else None
        if preview is None and self._preview is not None and session.preview is self._preview:
            session.cancel_preview()
        self._preview = preview
        if preview is not None:
            session.show_preview(preview)
        session.selected.light(found if isinstance(found, np.ndarray) else None)
        for one in {id(t): t for t in (before, tool) if t is not None}.values():
            one.aimed(None if preview is not None or isinstance(found, np.ndarray) or one is not tool else found)
