"""The selection bar: there whenever something is selected; how much, in how many places, and what can be done."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QVBoxLayout

from tinsnip.app.state.session import Session
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import px
from tinsnip.mesh import Mesh
from tinsnip.regions import Region
from tinsnip.regions.grow import grown, places_of, shrunk
from tinsnip.treat import Delete, Extract
from tinsnip.words import counted

__all__ = ["SelectionBar"]

_MOST_POINTS = 4000


class _Places(NamedTuple):
    """Where a selection lies: the place that some of its triangles belong to, and where these are."""

    count: int
    place: np.ndarray
    points: np.ndarray


class SelectionBar(QFrame):
    """Between scale bar and dial; gone when nothing is selected."""

    resized = Signal()

    def __init__(self, session: Session, viewport: Viewport) -> None:
        super().__init__(viewport)
        self._session, self._viewport = session, viewport
        self._places: _Places | None = None
        self.setObjectName("selection")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(px(8), px(5), px(8), px(6))
        whole.setSpacing(px(4))
        self.text = QLabel()
        whole.addWidget(self.text, 0, Qt.AlignmentFlag.AlignHCenter)
        box = QHBoxLayout()
        box.setSpacing(px(4))
        whole.addLayout(box)
        self.buttons: dict[str, Button] = {}
        for name, key, about, act in (
            ("Grow", "", "One row of triangles more", lambda: self._work(grown)),
            ("Shrink", "", "One row of triangles less", lambda: self._work(shrunk)),
            ("Invert", "", "All others instead", lambda: self._work(lambda mesh, chosen: ~chosen)),
            ("Back", "", "As it was selected before; the log is not touched", session.selected.go_back),
            ("Piece", "", "Make a piece of its own of what is selected", self.extract),
            ("Delete", "Del", "What is selected goes", self.delete),
            ("None", "", "Select nothing", self._none),
        ):
            button = Button(name + (f" {key}" if key else ""))
            button.setAccessibleName(f"Selection: {name.lower()}")
            button.setToolTip(about)
            button.clicked.connect(lambda _=False, act=act: act())
            box.addWidget(button)
            self.buttons[name] = button
        self._later = QTimer(self, singleShot=True, interval=150)
        self._later.timeout.connect(self._look)
        session.selected.changed.connect(self._changed)
        viewport.touched.connect(self._tell)
        self.hide()

    def fit(self, dial: int, scale: int) -> None:
        """Stand between scale bar and dial, which take so many pixels; above them where there is too little room."""
        view = self._viewport
        for name in ("Grow", "Shrink", "Invert", "Back"):
            self.buttons[name].setVisible(view.width() > px(430))
        self.adjustSize()
        room = view.width() - dial - scale
        beside = self.width() <= room
        x = scale + (room - self.width()) // 2 if beside else (view.width() - self.width()) // 2
        self.move(max(0, x), view.height() - self.height() - (px(12) if beside else dial))

    def _changed(self) -> None:
        selected = self._session.selected
        self.setVisible(selected.count > 0)
        self.buttons["Back"].setEnabled(selected.can_go_back)
        self._places = None
        self._tell()
        self._later.start()

    def _look(self) -> None:
        """Find out in how many places the selection lies, beside the window."""
        selected = self._session.selected
        mesh, chosen = selected.mesh, selected.triangles
        if mesh is None or chosen is None:
            return

        def work(progress: object) -> _Places:
            place = places_of(mesh, chosen)
            numbers = np.flatnonzero(chosen)
            some = np.unique(
                np.concatenate([
                    np.unique(place, return_index=True)[1],
                    np.arange(0, len(numbers), max(1, len(numbers) // _MOST_POINTS)),
                ])
            )  # fmt: skip
            points = mesh.vertices[mesh.faces[numbers[some]]].mean(axis=1)
            return _Places(int(place.max()) + 1, place[some], points)

        def take(found: _Places) -> None:
            if self._session.selected.triangles is chosen:
                self._places = found
                self._tell()

        self._session.tasks.latest("places", work, take)

    def out_of_view(self) -> int:
        """How many places of the selection have nothing within the view."""
        if self._places is None:
            return 0
        x, y = self._viewport.camera.project(self._places.points)[:, :2].T
        inside = (x >= 0) & (x < self._viewport.width()) & (y >= 0) & (y < self._viewport.height())
        seen = np.zeros(self._places.count, dtype=bool)
        seen[self._places.place[inside]] = True
        return int((~seen).sum())

    def told(self) -> str:
        """How much is selected, and where."""
        text = counted(self._session.selected.count, "triangle")
        if self._places is not None:
            text += f" in {counted(self._places.count, 'place')}"
            hidden = self.out_of_view()
            text += f", {hidden} out of view" if hidden else ""
        return text

    def _tell(self) -> None:
        if self._session.selected.count:
            self.text.setText(self.told())
            self.resized.emit()

    # ---- what can be done

    def _work(self, change: Callable[[Mesh, np.ndarray], np.ndarray]) -> None:
        selected = self._session.selected
        mesh, chosen = selected.mesh, selected.triangles
        if mesh is None or chosen is None:
            return

        def take(found: np.ndarray) -> None:
            if selected.triangles is chosen:
                selected.remember()
                selected.put(found)

        self._session.tasks.behind("select", lambda p: change(mesh, chosen), take)

    def _none(self) -> None:
        self._session.selected.remember()
        self._session.selected.put(None)

    def _chosen(self) -> tuple[Mesh, np.ndarray] | None:
        selected = self._session.selected
        return None if selected.triangles is None else (selected.mesh, selected.triangles)

    def delete(self) -> None:
        """Delete what is selected; asked first where some of it cannot be seen."""
        known = self._chosen()
        if known is None:
            return
        if self.out_of_view():
            text = f"Delete {self.told()}?"
            about = "Fit all (F) shows every place; undo brings back what went."
            if ask(self.window(), "Delete", text, about, ("Delete", "Keep"), "Keep", "Keep") != "Delete":
                return
        mesh, chosen = known
        self._session.do_made("Delete", lambda: Delete(triangles=Region.of(mesh, chosen)))

    def extract(self) -> None:
        """Make a piece of what is selected."""
        known = self._chosen()
        if known is not None:
            mesh, chosen = known
            self._session.do_made("Make a piece", lambda: Extract(triangles=Region.of(mesh, chosen)))
