"""What is selected: triangles of the present mesh, and what was selected before."""

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.mesh import Mesh

__all__ = ["Selected"]

_MOST_BACK = 60


class Selected(QObject):
    """A set of triangles; each change of it can be taken back on its own."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.mesh: Mesh | None = None
        self.triangles: np.ndarray | None = None
        self._back: list[np.ndarray] = []

    @property
    def count(self) -> int:
        """How many triangles are selected."""
        return 0 if self.triangles is None else int(np.count_nonzero(self.triangles))

    def belong_to(self, mesh: Mesh | None) -> None:
        """Another mesh is there: nothing of it is selected, nor was."""
        if mesh is self.mesh:
            return
        had, self.mesh = self.triangles is not None, mesh
        self.triangles, self._back = None, []
        if had:
            self.changed.emit()

    def remember(self) -> None:
        """Note what is selected, to go back to it."""
        if self.mesh is None:
            return
        now = np.zeros(len(self.mesh.faces), dtype=bool) if self.triangles is None else self.triangles
        self._back = [*self._back, np.packbits(now)][-_MOST_BACK:]

    def put(self, triangles: np.ndarray | None) -> None:
        """Select these and no others, bool, shape (F,); None: none."""
        self.triangles = None if triangles is None or not triangles.any() else triangles
        self.changed.emit()

    def change(self, triangles: np.ndarray, take_away: bool = False) -> None:
        """Select triangles besides, by their numbers, or take them out."""
        if self.mesh is None:
            return
        now = np.zeros(len(self.mesh.faces), dtype=bool) if self.triangles is None else self.triangles.copy()
        now[triangles] = not take_away
        self.put(now)

    @property
    def can_go_back(self) -> bool:
        """Whether there is a selection to go back to."""
        return bool(self._back)

    def go_back(self) -> None:
        """Select what was selected before the last change."""
        if self._back and self.mesh is not None:
            packed = self._back.pop()
            self.put(np.unpackbits(packed, count=len(self.mesh.faces)).astype(bool))
