"""Patches shown while their shape is being pulled, as fast as they can be made."""

import numpy as np
from PySide6.QtCore import QObject

from tinsnip.app.state.session import Session
from tinsnip.app.view.viewport import Viewport
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat.kit.patches.patching import PatchSketch, PatchStyle, rings_of

__all__ = ["LiveSketch"]

_MOST_EDGES = 6000
"""Holes with more edges together are not sketched: they would not follow."""


class LiveSketch(QObject):
    """One sketch at a time, and the last that was asked for after it."""

    def __init__(self, session: Session, view: Viewport) -> None:
        super().__init__()
        self._session, self._view = session, view
        self._of: tuple[Mesh, tuple[int, ...] | None] | None = None
        self._sketch: PatchSketch | None = None
        self._busy = False
        self._next: tuple[tuple[int, ...] | None, PatchStyle] | None = None

    def show(self, keys: tuple[int, ...] | None, style: PatchStyle) -> None:
        """Sketch the holes of some keys (None: all) in a style."""
        mesh = self._session.mesh
        if mesh is None or self._session.examination is None:
            return
        if self._busy:
            self._next = keys, style
            return
        self._busy, known = True, self._sketch if self._of == (mesh, keys) else None

        def work(progress: Progress) -> tuple[PatchSketch | None, np.ndarray | None]:
            try:
                sketch = known or _sketch_of(mesh, keys)
                return sketch, None if sketch is None else sketch.corners(style, progress.state)
            except BadInput:  # what cannot be done is said by the preview proper
                return None, None

        def done(found: tuple[PatchSketch | None, np.ndarray | None]) -> None:
            self._busy = False
            if self._session.mesh is mesh:
                (self._sketch, corners), self._of = found, (mesh, keys)
                if corners is not None and self._next is None:
                    self._view.show_made(corners)
            if self._next is not None:
                following, self._next = self._next, None
                self.show(*following)

        self._session.tasks.behind("sketch", work, done)


def _sketch_of(mesh: Mesh, keys: tuple[int, ...] | None) -> PatchSketch | None:
    loops, holes = mesh.loops, np.flatnonzero(classify_boundaries(mesh).is_hole)
    chosen = [i for i in holes if keys is None or int(loops.loop(i).min()) in keys]
    if not 0 < sum(len(loops.loop(i)) for i in chosen) <= _MOST_EDGES:
        return None
    return PatchSketch(mesh, rings_of(mesh, chosen))
