"""The tray that reduces: one pass, then any level of it at once."""

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLabel, QProgressBar, QVBoxLayout

from tinsnip.app.state.session import Session
from tinsnip.app.stations.levels import Levels
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.tools.pick import Pick
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.curveplot import CurvePlot
from tinsnip.app.widgets.fields import Button, DropDown, NumberField, TickBox
from tinsnip.app.widgets.panels import line_of
from tinsnip.app.widgets.theme import px
from tinsnip.formats import FORMATS
from tinsnip.mesh import Mesh
from tinsnip.regions.grow import area_round
from tinsnip.treat import Reduce
from tinsnip.words import at_most, grouped, megabytes, millimetres, rounded_up

__all__ = ["REDUCE", "ReduceTray"]

_STOPS = ("triangles", "percent", "deviation", "file size")
_REST_MS = 250
_BEFORE = "study", "level", "whole level", "measured level"


class ReduceTray(Tray):
    """Reducing along the curve of triangles against deviation."""

    title = "Reduce: fewer triangles"

    def __init__(self, session: Session, view: Viewport) -> None:
        self.levels = Levels(session)
        self.wanted = 0
        self._goal: dict[str, object] = {}
        """What was asked for, as fields of the treatment."""
        self._filling = False
        self._unwanted = False
        self._is_asked = False
        """Whether a level was asked for; the present mesh is shown until then."""
        self._is_awaited = False
        """Whether something was typed before the levels were there."""
        self._pick: Pick | None = None
        self._mesh: Mesh | None = None
        super().__init__(session, view)
        self._rest = QTimer(self, singleShot=True, interval=_REST_MS)
        self._rest.timeout.connect(self._measure)
        self._watch = QTimer(self, interval=120)
        self._watch.timeout.connect(self._show_progress)
        self.levels.studied.connect(self._show_study)
        self.levels.changed.connect(self._show_level)
        self.levels.none_within.connect(self._none_within)
        self.levels.bounded.connect(self._show_bound)
        session.examined.connect(self._begin)
        self.levels.held_ready.connect(self._begin)
        session.held_changed.connect(self._held_changed)
        self._held_changed()

    def build(self) -> None:
        self.head_text.setText("Take away triangles that the shape does not need. Drag along the curve, or type.")
        self.tangled = self.warning()
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.stop_button = Button("Stop")
        self.stop_button.clicked.connect(self._stop_or_go)
        self.waiting, box = line_of(self.bar, self.stop_button)
        box.setStretch(0, 1)
        self.plot = CurvePlot()
        self.plot.dragged.connect(self._want)
        over = QVBoxLayout(self.plot)  # where the curve will be, so that nothing moves as it comes
        over.addWidget(self.waiting, 0, Qt.AlignmentFlag.AlignVCenter)
        self.add(self.plot)
        self.kept = self.figure("Kept")
        self.deviation = self.figure("Moved at most, mm")
        self.deviation.setToolTip(
            "How far the reduced surface and this one lie apart, measured at every vertex, edge midpoint and centroid,"
            " and back; ~ while it is read off the curve"
        )
        self.p99 = self.figure("99 % of it within, mm")
        self.off_raw = self.figure("Off the raw scan, mm")
        self.off_raw.setToolTip("After all steps; at corners, edges and middles of what was shifted")
        self.format = DropDown("Format whose size is predicted")
        for name in FORMATS:
            self.format.addItem(f"{name.upper()} on disk", name)
        self.size = QLabel("–")
        self.size.setObjectName("figure")
        self.size.setAccessibleName("Predicted size on disk")
        self.row(self.format, None, self.size)
        self.stop = DropDown("What the reduction stops at")
        self.stop.addItems(_STOPS)
        self.fields = {}
        spans = {"triangles": (4, 5e7, 0, "", 1000), "percent": (0.001, 100, 2, "%", 1)}
        spans |= {"deviation": (1e-5, 1e4, 4, "mm", 0.01), "file size": (0.001, 1e5, 3, "MB", 1)}
        for name, span in spans.items():
            field = NumberField(f"Stop at: {name}", *span)
            field.setMinimumWidth(px(96))
            field.valueChanged.connect(self._typed)
            self.fields[name] = field
        self.row("Stop at", self.stop, *self.fields.values()).setStretch(1, 1)
        self.rims, self.colours, self.even = (TickBox(t) for t in ("hold rims", "hold colour edges", "even triangles"))
        self.rims.setToolTip("Leave open edges exactly as they are")
        self.colours.setToolTip("Keep the lines where the scan's colour changes")
        self.even.setToolTip("Triangles of one size all over, not fewer where the surface is flat")
        for option in (self.rims, self.colours, self.even):
            option.toggled.connect(self._option_changed)
        more = self.more("what is held, even triangles")
        more.row(self.rims, self.even, None)
        more.row(self.colours, None)
        self.hold_button = Button("Hold areas…")
        self.hold_button.setToolTip("Click on the part: what lies within the radius stays untouched")
        self.hold_button.clicked.connect(self._pick_areas)
        self.radius = NumberField("Radius of a held area", 0.001, 1e5, 2, "mm", 1)
        self.radius.setMinimumWidth(px(80))
        self.radius.follows_part = True
        self.belong(self.hold_button, self.radius)
        self.release_button = Button("Hold none")
        self.release_button.setAccessibleName("Let go of the held areas")
        self.release_button.clicked.connect(lambda: self.session.hold(None))
        more.row(self.hold_button, self.radius, self.release_button).setStretch(1, 1)
        self.copper_button("Reduce", self.reduce)
        self.format.currentIndexChanged.connect(self._format_changed)
        self.stop.currentIndexChanged.connect(self._stop_changed)
        self.stop.activated.connect(self._stop_chosen)
        self._stop_changed()

    # ---- the study

    def _options(self) -> Reduce:
        mesh = self.session.mesh
        coloured = mesh is not None and mesh.colour is not None
        return Reduce(
            hold_rims=self.rims.isChecked(),
            hold_colour_edges=self.colours.isChecked() and coloured,
            even=self.even.isChecked(),
            hold=self.levels.held_region(),
        )

    def enter(self) -> None:
        self._unwanted = self._is_asked = self._is_awaited = False
        if self.session.mesh is not None:
            self.radius.setValue(0.05 * self.session.mesh.diagonal)
        self._begin()

    def leave(self) -> None:
        self._watch.stop()
        self.levels.stop_bounds()
        self.view.hand.put_away()
        if self.session.tasks.progress_of("study") is not None:
            self.levels.forget()

    def _begin(self) -> None:
        """Work out all levels once it is known that the mesh is sound."""
        found, mesh = self.session.examination, self.session.mesh
        if not self.isVisible() or found is None or mesh is None or not self.levels.is_held_ready:
            return
        self.colours.setEnabled(mesh.colour is not None)
        knots = found.tangles.tangled_edges + found.tangles.flipped_edges + found.tangles.pinched_vertices
        self.tangled.setText("What lies at a tangle stays as it is: mend first, in Surface, to reduce it too.")
        self.tangled.setVisible(knots > 0)
        if len(mesh.faces) > 4 and not self._unwanted and not self.is_picking:
            self.levels.ask_study(self._options())
            self._watch.start()
        self._show_progress()
        self._show_level()

    def _stop_or_go(self) -> None:
        self._unwanted = self.session.tasks.progress_of("study") is not None
        if self._unwanted:
            self.levels.forget()
        else:
            self._begin()
        self._show_progress()

    def _pick_areas(self) -> None:
        """Let clicks on the part choose areas that stay as they are."""
        if self.is_picking:
            self.view.hand.put_away()
            return
        self.session.cancel_preview()
        hint = ("Click the areas that must stay as they are",)

        def near(mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
            return area_round(mesh, point, self.radius.value())

        self._pick = Pick(self.view, hint, self._take_area, ended=self._picked, takes=near)
        self.view.hand.take(self._pick)

    @property
    def is_picking(self) -> bool:
        """Whether areas are being chosen."""
        return self._pick is not None

    def _picked(self) -> None:
        self._pick = None
        self._begin()

    def _take_area(self, triangle: int, point: np.ndarray) -> None:
        self.levels.hold_area(point, self.radius.value())

    def _held_changed(self) -> None:
        count = 0 if self.session.held is None else int(np.count_nonzero(self.session.held))
        self.release_button.setVisible(count > 0)
        self.release_button.setToolTip(f"{grouped(count)} triangles are held")
        if self.isVisible() and self.session.mesh is not None:
            self.levels.forget()
            self.session.cancel_preview()
            if not self.is_picking:
                self._begin()

    def _option_changed(self) -> None:
        self.levels.forget()
        self.session.cancel_preview()
        self._begin()

    def refresh(self) -> None:
        mesh = self.session.mesh
        if mesh is not self._mesh:  # done, undone or another piece: what it has come to is shown, and no level of it
            self._mesh, self._is_asked, self._is_awaited, self._goal = mesh, False, False, {}
            self._rest.stop()
            if self.isVisible():
                self._show_level()

    def _show_progress(self) -> None:
        progress = self.session.tasks.progress_of("study")
        known = self.levels.study is not None and self.levels.study.mesh is self.session.mesh
        self.waiting.setVisible(not known)
        if progress is not None:
            self.bar.setValue(int(1000 * progress.fraction))
            self.bar.setFormat("Working out all levels, %p %")
        else:
            self._watch.stop()
            self.bar.setValue(0)
            self.bar.setFormat("Stopped")
        self.stop_button.setText("Stop" if progress is not None else "Go on")
        if not known:
            self.plot.show_curve(None)

    def _show_study(self) -> None:
        study = self.levels.study
        if study is None or not self.isVisible():
            return
        self._show_progress()
        total = study.record.most
        asked = self._is_asked and study.record.fewest <= self.wanted < total
        if not asked:
            self.wanted = total
        self.plot.triangles = self.wanted
        self.plot.show_curve(self.levels.curve)
        self._rest.start()
        if self._is_awaited:
            self._is_awaited = False
            self._typed()
        elif not asked:
            self._is_asked = False
            self._fill()
            self._show_level()
        else:
            self._want(self.wanted, self._goal)

    # ---- the level

    def _want(self, triangles: int, goal: dict[str, object] | None = None) -> None:
        """Show the level of so many triangles, or the one that a goal comes to."""
        self._is_asked = True
        self._ask(triangles, goal)
        self._fill()
        self._show_level()

    def _ask(self, triangles: int, goal: dict[str, object] | None = None) -> None:
        """Have a level worked out, and measured once nothing else is asked for."""
        self.wanted = triangles
        self._goal = goal or {"triangles": triangles}
        self.plot.set_triangles(triangles)
        limit = self._goal.get("max_deviation_mm")
        if limit is None:
            self.levels.ask(triangles, self._goal)
        else:
            self.levels.ask_within(limit)
        self._rest.start()

    def _fill(self) -> None:
        """Show the level's figures in the field that the reduction stops at."""
        study = self.levels.study
        if study is None:
            return
        name = self.stop.currentText()
        if name != "deviation":  # what it may be moved by is a limit, and stays as it was set
            value = {
                "triangles": float(self.wanted),
                "percent": 100.0 * self.wanted / max(1, study.record.most),
                "file size": self._bytes(self.wanted) / 1e6,
            }[name]
            self._put(name, value)
        self.plot.set_budget(self.fields[name].value() if name == "deviation" else None)

    def _put(self, name: str, value: float) -> None:
        self._filling = True
        self.fields[name].setValue(value)
        self._filling = False

    def _stop_chosen(self, index: int) -> None:
        """A stop was chosen by hand: where it is a deviation, keep to it at once."""
        study = self.levels.study
        if _STOPS[index] != "deviation" or study is None:
            return
        wanted = self.wanted if self._is_asked else max(study.record.fewest, round(0.1 * study.record.most))
        level = self.levels.shown
        measured = None if level is None or level.triangles != wanted else level.measured
        limit = self.levels.curve.largest_at(wanted) if measured is None else measured.max
        self._put("deviation", rounded_up(max(limit, 1e-4)))
        self._typed()

    def _bytes(self, triangles: int) -> int:
        mesh = self.session.mesh
        share = triangles / max(1, len(mesh.faces)) if mesh is not None else 0.0
        vertices = round(len(mesh.vertices) * share) if mesh is not None else 0
        coloured = mesh is not None and mesh.colour is not None
        return FORMATS[self.format.currentData()].size_of(triangles, vertices, coloured)

    def _typed(self, *_: object) -> None:
        """A stop was typed: find the level that keeps it."""
        study = self.levels.study
        if self._filling:
            return
        if study is None:  # kept until the levels are there
            self._is_awaited = True
            return
        self._is_asked = True
        name = self.stop.currentText()
        value = self.fields[name].value()
        least, most = study.record.fewest, study.record.most
        if name == "deviation":
            wanted, goal = self.levels.curve.triangles_for(value), {"max_deviation_mm": value}
        elif name == "file size":
            goal = {"max_mb": value, "file_format": self.format.currentData()}
            wanted = study.options.model_copy(update=goal).target(study.mesh)
        elif name == "percent":
            wanted, goal = round(most * value / 100.0), {"percent": value}
        else:
            wanted, goal = round(value), {}
        clipped = int(np.clip(wanted, least, most))
        self._ask(clipped, goal if name == "deviation" or clipped == wanted else None)
        self.plot.set_budget(value if name == "deviation" else None)
        self._show_level()

    def _stop_changed(self, *_: object) -> None:
        for name, field in self.fields.items():
            field.setVisible(name == self.stop.currentText())
        self._fill()

    def _format_changed(self, *_: object) -> None:
        if self.stop.currentText() == "file size":
            self._typed()
        self._show_level()

    def _measure(self) -> None:
        if self.isVisible():
            if any(self.session.tasks.progress_of(name) is not None for name in ("level", "whole level")):
                self._rest.start()
            else:
                self.levels.measure()
                self._ask_bound()

    def _ask_bound(self) -> None:
        """While one looks, the curve becomes what holds, the nearest level first; what is asked for goes before."""
        busy = any(self.session.tasks.progress_of(name) is not None for name in _BEFORE)
        if self.isVisible() and not busy:
            self.levels.ask_bound(self.wanted)

    def _show_bound(self) -> None:
        if self.isVisible():
            self.plot.show_curve(self.levels.curve, again=True)
            self._show_level()
            self._rest.start()

    def _show_level(self) -> None:
        """The figures of the level: exact once it has been measured, read off the curve before."""
        study, level = self.levels.study, self.levels.shown
        mesh = self.session.mesh
        if study is None or mesh is None:
            for label in (self.kept, self.deviation, self.p99, self.off_raw, self.size):
                label.setText("–")
            stopped = self.session.tasks.progress_of("study") is None
            self.offer("Reduce", "the levels are not worked out" if stopped else "the levels are being worked out")
            return
        count = self.wanted
        current = level is not None and level.before is mesh and self._is_of_goal(level.treatment)
        if current:
            count = level.triangles
            if count != self.wanted and "max_deviation_mm" in self._goal:  # found by then
                self.wanted = count
                self.plot.set_triangles(count)
        self.kept.setText(f"{grouped(count)} ({100 * count / max(1, study.record.most):.3g} %)")
        measured = level.measured if current else None
        from_raw = self.session.from_raw if count >= study.record.most else level.from_raw if current else None
        self.off_raw.setText("…" if from_raw is None else at_most(from_raw.overall.max))
        searches = "max_deviation_mm" in self._goal and not current
        if count >= study.record.most:
            self.deviation.setText("0")
            self.p99.setText("0")
        elif searches:
            self.deviation.setText("searching …")
            self.p99.setText("…")
        elif measured is not None:
            self.deviation.setText(at_most(measured.max))
            self.p99.setText(millimetres(measured.p99))
        else:
            self.deviation.setText(f"~{millimetres(self.levels.curve.largest_at(count))} …")
            self.p99.setText("…")
        about = "~" if self.format.currentData() in ("obj", "3mf", "off") else ""
        self.size.setText(about + megabytes(self._bytes(count)))
        idle = count >= study.record.most
        why = "drag the line, or type what to stop at" if idle else ""
        if not why and (not current or level.from_raw is None):
            why = "the level is still being measured"
        self.offer("Drag to fewer triangles" if idle else f"Reduce to {grouped(count)} triangles", why)

    def put_away(self) -> bool:
        if not self._is_asked:
            return False
        self.session.cancel_preview()
        self._back_to_whole()
        return True

    def _back_to_whole(self) -> None:
        """No level is asked for any more: the present mesh, with its own figures."""
        study = self.levels.study
        self._is_asked, self._goal = False, {}
        self._rest.stop()
        if study is not None:
            self.wanted = study.record.most
            self.plot.set_triangles(self.wanted)
            self._fill()
        self._show_level()

    def _is_of_goal(self, treatment: Reduce) -> bool:
        """Whether a level's treatment goes as far as is asked now."""
        asked = {name: Reduce.model_fields[name].default for name in Reduce.GOALS} | self._goal
        return all(getattr(treatment, name) == value for name, value in asked.items())

    def _none_within(self) -> None:
        """No coarser level keeps to the deviation: the whole mesh."""
        self.session.cancel_preview()
        self.session.message.emit("no coarser level keeps to that deviation", False)
        self._back_to_whole()

    def reduce(self) -> None:
        """Take the level that is shown."""
        level = self.levels.shown
        if level is not None and level.outcome is not None:
            self._is_asked = False  # what was just reduced is not reduced again unasked
            self.session.apply(level.treatment)


def _state(session: Session) -> tuple[str, int | None]:
    raw = len(session.job.piece.raw.faces)
    return f"{100 * len(session.mesh.faces) / max(raw, 1):.3g} % of the raw scan", None


_CHECKS = ("triangles", "file size")
REDUCE = Station("Reduce", ReduceTray, _state, waits=False, answers=lambda check, _: check.name in _CHECKS)
