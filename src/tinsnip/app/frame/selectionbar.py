"""The selection bar: there whenever something is selected; how much, in how many places, and what can be done."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QFrame, QHBoxLayout, QInputDialog, QLabel, QMenu, QVBoxLayout

from tinsnip.app.state.selected import Places
from tinsnip.app.state.session import Session
from tinsnip.app.view.snapshots import picture_round
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import px
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.regions.grow import grown, grown_by, places_of, shrunk
from tinsnip.regions.rules import smoothed_border
from tinsnip.treat import Context, Delete, Extract, Outcome, Smooth
from tinsnip.words import counted, percent

__all__ = ["SelectionBar"]

_MOST_POINTS = 4000
_MUCH = 0.1
"""Share of the part's triangles from which on it is asked before they go."""
_MOST_INSETS = 4


class SelectionBar(QFrame):
    """Between scale bar and dial; gone when nothing is selected."""

    resized = Signal()

    def __init__(self, session: Session, viewport: Viewport) -> None:
        super().__init__(viewport)
        self._session, self._viewport = session, viewport
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
            ("Previous", "", "As it was selected before; the log is not touched", session.selected.go_back),
            ("Hide", "H", "What is selected is not shown, and nothing may delete or move it", self.hide_selection),
            ("Piece", "", "Make a piece of its own of what is selected", self.extract),
            ("Delete", "Del", "What is selected goes", self.delete),
            ("None", "", "Select nothing", self._none),
            ("Show all", "", "Nothing is hidden any more", self.show_all),
            ("More", "", "What else can be done with it", self._show_more),
        ):
            button = Button(name + (f" {key}" if key else "") + " ▾" * (name == "More"))
            button.setAccessibleName(f"Selection: {name.lower()}")
            button.setToolTip(about)
            button.clicked.connect(lambda _=False, act=act: act())
            box.addWidget(button)
            self.buttons[name] = button
        self._later = QTimer(self, singleShot=True, interval=150)
        self._later.timeout.connect(self._look)
        session.selected.changed.connect(self._changed)
        session.hidden_met.connect(self._ask_about_hidden)
        viewport.framing.touched.connect(self._tell)
        self.hide()

    def fit(self, dial: int, scale: int) -> None:
        """Stand between scale bar and dial, which take so many pixels; above them where there is too little room."""
        view = self._viewport
        some = self._session.selected.count > 0
        for name in ("Grow", "Shrink", "Invert", "Previous", "Piece", "None"):
            self.buttons[name].setVisible(some and view.width() > px(600))
        self.adjustSize()
        room = view.width() - dial - scale
        beside = self.width() <= room
        x = scale + (room - self.width()) // 2 if beside else (view.width() - self.width()) // 2
        self.move(max(0, x), view.height() - self.height() - (px(12) if beside else dial))

    def _changed(self) -> None:
        selected = self._session.selected
        some, hidden = selected.count > 0, selected.hidden_count > 0
        self.setVisible(some or hidden)
        for name, button in self.buttons.items():
            button.setVisible(hidden if name == "Show all" else some)
        self.buttons["Previous"].setEnabled(selected.can_go_back)
        self._session.selected.places = None
        self._tell()
        self._later.start()

    def _look(self) -> None:
        """Find out in how many places the selection lies, beside the window."""
        selected = self._session.selected
        mesh, chosen = selected.mesh, selected.triangles
        if mesh is None or chosen is None:
            return

        def work(progress: object) -> Places:
            place = places_of(mesh, chosen)
            numbers = np.flatnonzero(chosen)
            some = np.unique(
                np.concatenate([
                    np.unique(place, return_index=True)[1],
                    np.arange(0, len(numbers), max(1, len(numbers) // _MOST_POINTS)),
                ])
            )  # fmt: skip
            points = mesh.vertices[mesh.faces[numbers[some]]].mean(axis=1)
            return Places(int(place.max()) + 1, place[some], points)

        def take(found: Places) -> None:
            if self._session.selected.triangles is chosen:
                self._session.selected.places = found
                self._tell()

        self._session.tasks.latest("places", work, take)

    def out_of_view(self) -> int:
        """How many places of the selection have nothing within the view."""
        places, view = self._session.selected.places, self._viewport
        return 0 if places is None else len(places.out_of_view(view.camera, view.width(), view.height()))

    def told(self) -> str:
        """How much is selected, and where."""
        selected = self._session.selected
        if selected.count == 0:
            return f"{counted(selected.hidden_count, 'triangle')} hidden, and so protected"
        text = counted(selected.count, "triangle")
        if selected.places is not None:
            text += f" in {counted(selected.places.count, 'place')}"
            hidden = self.out_of_view()
            text += f", {hidden} out of view" if hidden else ""
        if selected.hidden_count:
            text += f" · {counted(selected.hidden_count, 'triangle')} hidden"
        return text

    def _tell(self) -> None:
        if self._session.selected.count or self._session.selected.hidden_count:
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

    def hide_selection(self) -> None:
        """Hide what is selected."""
        self._session.selected.hide_selection()

    def hide_rest(self) -> None:
        """Hide all but what is selected."""
        self._session.selected.hide_rest()

    def show_all(self) -> None:
        """Show what is hidden."""
        self._session.selected.hide(None)

    def _ask_about_hidden(self, text: str, anyhow: Callable[[], None]) -> None:
        """Something hidden is in the way of what was asked for."""
        about = "What is hidden is protected. Show all of it and go on, or leave everything as it is."
        leave = "Leave it"
        if ask(self.window(), "Hidden triangles", text, about, ("Show all and do it", leave), leave, leave) != leave:
            anyhow()

    def _show_more(self) -> None:
        menu = QMenu(self)
        for text, act in (
            ("Hide the rest", self.hide_rest),
            ("Smooth its border", lambda: self._work(smoothed_border)),
            ("Grow by mm…", lambda: self._by_length(True)),
            ("Shrink by mm…", lambda: self._by_length(False)),
            ("Smooth it", self.smooth),
            ("Reduce it only", lambda: self._reduce(hold_rest=True)),
            ("Hold it while reducing", lambda: self._reduce(hold_rest=False)),
            ("Delete it and the loose bits it leaves…", self.delete_loose),
            ("Keep as…", self.keep_as),
        ):
            menu.addAction(text).triggered.connect(lambda _=False, act=act: act())
        named = self._session.selected.named
        if named:
            menu.addSeparator()
        for name in named:
            menu.addAction(f"Recall {name}").triggered.connect(lambda _=False, name=name: self.recall(name))
        button = self.buttons["More"]
        menu.popup(button.mapToGlobal(button.rect().topLeft()) - QPoint(0, menu.sizeHint().height()))

    def _by_length(self, more: bool) -> None:
        length, good = QInputDialog.getDouble(
            self.window(), "Selection", f"{'Grow' if more else 'Shrink'} by how many mm?", 1.0, 0.001, 1e6, 3
        )
        if good:
            self._work(lambda mesh, chosen: grown_by(mesh, chosen, length if more else -length))

    def keep_as(self) -> None:
        """Keep the selection under a name; it is saved with the job."""
        known = self._chosen()
        if known is None:
            return
        name, good = QInputDialog.getText(self.window(), "Selection", "Keep what is selected under which name?")
        if good and name.strip():
            mesh, chosen = known

            def take(region: Region) -> None:
                self._session.selected.named[name.strip()[:80]] = region
                self._session.message.emit(f"Kept as {name.strip()[:80]}; recall it from More", False)

            self._session.tasks.behind("keep", lambda p: Region.of(mesh, chosen), take)

    def recall(self, name: str) -> None:
        """Select again what was kept under a name."""
        selected, mesh = self._session.selected, self._session.mesh
        region = selected.named.get(name)
        if region is None or mesh is None:
            return

        def work(progress: object) -> np.ndarray | str:
            try:
                return region.resolve(mesh)
            except BadInput as error:
                return str(error)

        def take(found: np.ndarray | str) -> None:
            if isinstance(found, str):
                self._session.message.emit(found, True)
            elif self._session.mesh is mesh:
                selected.remember()
                selected.put(found)

        self._session.tasks.behind("select", work, take)

    def smooth(self) -> None:
        """Smooth what is selected, up to its border."""
        known = self._chosen()
        if known is not None:
            mesh, chosen = known
            self._session.do_made("Smooth", lambda: Smooth(only=Region.of(mesh, chosen)))

    def _reduce(self, hold_rest: bool) -> None:
        """Open Reduce with what is selected, or all else, held."""
        known = self._chosen()
        if known is not None:
            self._session.set_station("Reduce")
            self._session.hold(~known[1] if hold_rest else known[1].copy())

    def delete_loose(self) -> None:
        """Delete what is selected, and with it what that leaves loose; told first."""
        known = self._chosen()
        if known is None:
            return
        mesh, chosen = known
        limit, good = QInputDialog.getInt(
            self.window(), "Delete", "Loose bits of fewer triangles than how many go too?", 100, 2, 10_000_000
        )
        if not good:
            return

        def work(progress: Progress) -> tuple[Delete, Outcome] | str:
            treatment = Delete(triangles=Region.of(mesh, chosen), loose=limit)
            try:
                return treatment, treatment.apply(mesh, Context(progress))
            except BadInput as error:
                return str(error)

        def take(found: tuple[Delete, Outcome] | str) -> None:
            if isinstance(found, str):
                self._session.message.emit(found, True)
                return
            treatment, outcome = found
            loose = counted(int(outcome.account.figures["loose"]), "triangle")
            text = f"Delete {self.told()}, and {loose} in loose bits it leaves?"
            if self._session.mesh is mesh and ask(
                self.window(), "Delete", text, "Undo brings back what went.", ("Delete", "Keep"), "Keep", "Keep"
            ) == "Delete":  # fmt: skip
                self._session.apply(treatment)

        self._session.tasks.behind("loose", work, take)

    def _chosen(self) -> tuple[Mesh, np.ndarray] | None:
        selected = self._session.selected
        return None if selected.triangles is None else (selected.mesh, selected.triangles)

    def delete(self) -> None:
        """Delete what is selected; asked first where it is much, or some of it cannot be seen."""
        known = self._chosen()
        if known is None:
            return
        mesh, chosen = known
        away, share = self.out_of_view(), self._session.selected.count / max(len(mesh.faces), 1)
        if away or share > _MUCH:
            much = f", {percent(share)} of the part" if share > _MUCH else ""
            about = ["Fit all (F) shows every place."] * (away > 0) + ["Undo brings back what went."]
            later = len(self._session.job.log) - self._session.job.cursor
            if later:
                about.append(f"{counted(later, 'step')} that could be redone now no longer can be then.")
            picture = self._insets() if away else self._picture(mesh, chosen)
            text, keep = f"Delete {self.told()}{much}?", "Keep"
            answer = ask(self.window(), "Delete", text, " ".join(about), ("Delete", keep), keep, keep, picture)
            if answer != "Delete":
                return
        self._session.do_made("Delete", lambda: Delete(triangles=Region.of(mesh, chosen)))

    def _picture(self, mesh: Mesh, chosen: np.ndarray) -> QPixmap | None:
        """A small picture of all that is selected."""
        if self._viewport.scene is None:
            return None
        points = mesh.vertices[mesh.faces[chosen, 0]]
        return QPixmap.fromImage(picture_round(self._viewport, points, px(220), px(150)))

    def _insets(self) -> QPixmap | None:
        """Small pictures of the places that are out of view, beside each other."""
        places, view = self._session.selected.places, self._viewport
        if places is None or view.scene is None:
            return None
        away = places.out_of_view(view.camera, view.width(), view.height())[:_MOST_INSETS]
        which = [int(places.place[np.flatnonzero((places.points == point).all(axis=1))[0]]) for point in away]
        wide, high, gap = px(150), px(110), px(6)
        whole = QPixmap(len(which) * (wide + gap), high)
        whole.fill(Qt.GlobalColor.transparent)
        painter = QPainter(whole)
        for i, number in enumerate(which):
            own = places.points[places.place == number]
            painter.drawImage(i * (wide + gap), 0, picture_round(view, own, wide, high))
        painter.end()
        return whole

    def extract(self) -> None:
        """Make a piece of what is selected."""
        known = self._chosen()
        if known is not None:
            mesh, chosen = known
            self._session.do_made("Make a piece", lambda: Extract(triangles=Region.of(mesh, chosen)))
