"""What is selected, and what is hidden: triangles of the present mesh; what was selected before, and kept by name."""

from typing import NamedTuple, Protocol

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.mesh import Mesh
from tinsnip.regions import Region

__all__ = ["Selected"]

_MOST_BACK = 60


class Projects(Protocol):
    """What tells where points are on the screen."""

    def project(self, points: np.ndarray) -> np.ndarray:
        """Screen positions and nearness, shape (N, 3)."""


class Places(NamedTuple):
    """Where a selection lies.

    Attributes
    ----------
    count : int
        In how many places that are not connected.
    place : ndarray of int, shape (K,)
        Which of them some of its triangles belong to.
    points : ndarray, shape (K, 3)
        Where these are, mm.
    """

    count: int
    place: np.ndarray
    points: np.ndarray

    def out_of_view(self, camera: Projects, width: float, height: float) -> np.ndarray:
        """A point of each place that has nothing within the view, shape (N, 3)."""
        x, y = camera.project(self.points)[:, :2].T
        inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
        seen = np.zeros(self.count, dtype=bool)
        seen[self.place[inside]] = True
        _, first = np.unique(self.place, return_index=True)
        return self.points[first[~seen[self.place[first]]]]


class Selected(QObject):
    """A set of triangles, each change of which can be taken back on its own; and triangles that are hidden.

    Hidden ones are never selected, and nothing may delete or move them.

    Signals
    -------
    changed
        What is selected or hidden is another.
    carried
        The mesh is another, and what is hidden has to be found on it.
    """

    changed = Signal()
    carried = Signal()
    lit_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.mesh: Mesh | None = None
        self.triangles: np.ndarray | None = None
        self.hidden: np.ndarray | None = None
        self.lit: np.ndarray | None = None
        """What a click would take, bool, shape (F,); None: nothing is shown."""
        self.hidden_on: tuple[Mesh, np.ndarray] | None = None
        """The mesh on which something was hidden last, and what."""
        self.named: dict[str, Region] = {}
        self.places: Places | None = None
        self._back: list[np.ndarray] = []

    @property
    def count(self) -> int:
        """How many triangles are selected."""
        return 0 if self.triangles is None else int(np.count_nonzero(self.triangles))

    @property
    def hidden_count(self) -> int:
        """How many triangles are hidden."""
        return 0 if self.hidden is None else int(np.count_nonzero(self.hidden))

    def belong_to(self, mesh: Mesh | None) -> None:
        """Another mesh is there: nothing of it is selected, nor was; what is hidden has to be found there."""
        if mesh is self.mesh:
            return
        had = self.triangles is not None or self.hidden is not None
        self.mesh = mesh
        self.triangles, self.hidden, self.lit, self._back = None, None, None, []
        if mesh is None:
            self.hidden_on = None
        if had:
            self.changed.emit()
        if self.hidden_on is not None:
            self.carried.emit()

    def forget(self) -> None:
        """Another job is there."""
        self.hidden_on, self.named = None, {}
        self.belong_to(None)

    def remember(self) -> None:
        """Note what is selected, to go back to it."""
        if self.mesh is None:
            return
        now = np.zeros(len(self.mesh.faces), dtype=bool) if self.triangles is None else self.triangles
        self._back = [*self._back, np.packbits(now)][-_MOST_BACK:]

    def put(self, triangles: np.ndarray | None) -> None:
        """Select these and no others, bool, shape (F,); None: none."""
        if triangles is not None and self.hidden is not None:
            triangles = triangles & ~self.hidden
        self.triangles = None if triangles is None or not triangles.any() else triangles
        self.changed.emit()

    def light(self, triangles: np.ndarray | None) -> None:
        """Show what a click would take, by numbers or bool; None: nothing more."""
        lit = None
        if triangles is not None and self.mesh is not None:
            lit = np.zeros(len(self.mesh.faces), dtype=bool)
            lit[triangles] = True
        if lit is not None or self.lit is not None:
            self.lit = lit
            self.lit_changed.emit()

    def change(self, triangles: np.ndarray, take_away: bool = False) -> None:
        """Select triangles besides, by their numbers or bool, or take them out."""
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

    # ---- hiding

    def hide(self, triangles: np.ndarray | None) -> None:
        """Hide these and no others, bool, shape (F,); None: none. What is hidden is not selected any more."""
        if self.mesh is None:
            return
        self.hidden = None if triangles is None or not triangles.any() else triangles
        self.hidden_on = None if self.hidden is None else (self.mesh, self.hidden)
        self.put(self.triangles)

    def hide_selection(self) -> None:
        """Hide what is selected, besides what is hidden."""
        if self.triangles is not None:
            self.remember()
            self.hide(self.triangles if self.hidden is None else self.triangles | self.hidden)

    def hide_rest(self) -> None:
        """Hide all but what is selected."""
        if self.triangles is not None:
            self.hide(~self.triangles)

    def found(self, mesh: Mesh, hidden: np.ndarray) -> None:
        """What is hidden has been found on the present mesh."""
        if mesh is self.mesh:
            self.hide(hidden)
