"""Trim: what is cut away."""

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QButtonGroup

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.tools.pick import Pick
from tinsnip.app.tools.snip import SnipPlan, SnipTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.survey.bed import Bed, beds_of
from tinsnip.treat import FindBed, SnipApart, StraightSnip
from tinsnip.words import counted, grouped, percent

__all__ = ["TRIM", "TrimTray"]

_SET_UP = "Set a plane up"
_MOST_PLANES = 20
"""Planes that have cut, and stand again where the cut is undone."""


class TrimTray(Tray):
    """The straight snip."""

    title = "Trim: straight snip"
    can_swap = True

    def __init__(self, session: Session, view: Viewport) -> None:
        self.tool = SnipTool(view)
        self._filling = False
        self._plan: SnipPlan | None = None
        self._past: list[SnipPlan] = []
        self._is_as_set_up = False
        super().__init__(session, view)
        self._later = QTimer(self, singleShot=True, interval=60)
        self._later.timeout.connect(self._count)
        self.tool.edited.connect(self._edited)

    def build(self) -> None:
        self.head_text.setText("Cut off the bed, the backdrop, what was not wanted. The hatched side goes.")
        self.bed_note = self.warning()
        self.bed_button = self.button("Cut the bed away", lambda: self.session.apply(FindBed(most_share=1.0)))
        self.axis = QButtonGroup(self)
        row = self.row("Square to")
        for i, name in enumerate("xyz"):
            button = Button(name)
            button.setCheckable(True)
            button.setAccessibleName(f"Plane square to {name}")
            button.setFixedWidth(px(44))
            self.axis.addButton(button, i)
            row.addWidget(button)
        row.addStretch(1)
        self.axis.idClicked.connect(self._take_axis)
        self.two_points = self.button("From two points…", self.pick_two_points)
        self.offset = self.number("From the origin", -1e6, 1e6, 3, "mm", 0.5)
        self.offset.setToolTip("Distance of the plane from the origin, along the way it faces")
        self.tilts = [self.number(f"Tilt about {name}", -80, 80, 2, "°", 0.5) for name in "yx"]
        self.offset.valueChanged.connect(self._typed)
        for field in self.tilts:
            field.valueChanged.connect(self._typed)
        self.swap_button = self.button("Swap the waste side", self.swap, "X")
        self.close_box = self.tick("close the cut with flat triangles")
        self.close_box.toggled.connect(self._typed)
        self.both_box = self.tick("keep both sides, as two pieces")
        self.both_box.toggled.connect(self._typed)
        self.heading("What the preview shows")
        self.goes = self.figure("Triangles that go")
        self.stays = self.figure("Triangles that stay")
        self.copper_button(_SET_UP, self.cut)

    @property
    def plan(self) -> SnipPlan | None:
        """The snip that is set up."""
        return self._plan

    def enter(self) -> None:
        mesh = self.session.mesh
        if mesh is not None and len(mesh.faces):
            self.view.hand.set_rest(self.tool)
            if self._plan is None or not np.array_equal(self._plan.box, mesh.box):
                self._set_up()
            self._show_bed()
            self.tool.show(self._plan)
            self._show_plan()

    def _set_up(self) -> None:
        """Set a plane up where none is; what is ticked goes for every cut."""
        mesh = self.session.mesh
        if mesh is not None and len(mesh.faces):
            self._plan = SnipPlan(mesh.box)
            self._plan.close = self.close_box.isChecked()
            self._is_as_set_up = True
            self._place_above_bed()
            self.tool.show(self._plan)
            self._show_plan()

    @property
    def _bed(self) -> Bed | None:
        """The bed that was found, if one was."""
        mesh, found = self.session.mesh, self.session.examination
        beds = beds_of(mesh) if found is not None and is_known(mesh, beds_of) else ()
        return beds[0] if beds else None

    def _place_above_bed(self) -> None:
        """Let the plane stand just above the bed, as long as it was not moved by hand."""
        bed = self._bed
        if self._plan is not None and self._is_as_set_up and bed is not None and not bed.shells:
            self._plan.set_bed(bed)
            self._is_as_set_up = False

    def _show_bed(self) -> None:
        bed = self._bed
        if bed is not None:
            share = percent(bed.area / max(self.session.mesh.area, 1e-300))
            where = "It is a shell of its own." if bed.shells else "The plane stands just above it."
            self.bed_note.setText(f"The part stands on a bed: {share} of the area. {where}")
        self.bed_note.setVisible(bed is not None)
        self.bed_button.setVisible(bed is not None)

    def put_away(self) -> bool:
        if self._plan is None:
            return False
        self._plan = None
        self.tool.show(None)
        self._show_plan()
        return True

    def leave(self) -> None:
        self.view.hand.set_rest(None)

    def refresh(self) -> None:
        mesh = self.session.mesh
        if not self.isVisible() or self.view.hand.rest is not self.tool or mesh is None:
            return
        if self._plan is not None and not np.array_equal(self._plan.box, mesh.box):
            self._past = [*self._past, self._plan][-_MOST_PLANES:]
            self._plan = None  # a plane that has cut does not stand ready for the next cut
            self._plan = next((p for p in self._past if np.array_equal(p.box, mesh.box)), None)  # gone back to it
        self._place_above_bed()
        self._show_bed()
        self.tool.show(self._plan)
        self._show_plan()

    def pick_two_points(self) -> None:
        """Let two clicks, and the line of sight, give the plane."""
        points: list[np.ndarray] = []

        def picked(triangle: int, point: np.ndarray) -> None:
            points.append(point)
            if len(points) == 2:
                self.view.hand.put_away()
                if self.plan is None:
                    self._set_up()
                self.plan.set_two_points(*points, -self.view.camera.frame()[2])
                self.tool.show_waste()
                self._show_plan()

        hints = ("Click the first of two points on the line of the cut", "Click the second point")
        self.view.hand.take(Pick(self.view, hints, picked, beside=True))

    def _take_axis(self, axis: int) -> None:
        if self.plan is None:
            self._set_up()
        self._is_as_set_up = False
        if self.plan is not None:
            self.plan.set_axis(axis)
            self.tool.show_waste()
            self._show_plan()

    def _typed(self, *_: object) -> None:
        if self._filling:
            return
        self._is_as_set_up = False
        self.tool.keeps_both = self.both_box.isChecked()
        if self.plan is None and self.sender() in (self.offset, *self.tilts):
            offset, tilts = self.offset.value(), [field.value() for field in self.tilts]
            self._set_up()
            self._fill(offset, tilts)
        if self.plan is None:
            return
        for i, field in enumerate(self.tilts):
            if abs(field.value() - self.plan.tilt[i]) > 0.0051:
                self.plan.set_tilt(i, field.value())
        if abs(self.offset.value() - self.plan.offset) > 0.00051:
            self.plan.offset = self.offset.value()
        self.plan.close = self.close_box.isChecked()
        self.tool.show_waste()
        self._show_plan()

    def _fill(self, offset: float, tilts: Sequence[float]) -> None:
        self._filling = True
        self.offset.setValue(offset)
        for field, tilt in zip(self.tilts, tilts, strict=True):
            field.setValue(tilt)
        self._filling = False

    def swap(self) -> None:
        """Let the other side go."""
        self._is_as_set_up = False
        if self.plan is not None:
            self.plan.flipped = not self.plan.flipped
            self.tool.show_waste()
            self._show_plan()

    def _edited(self) -> None:
        self._is_as_set_up = False
        self._show_plan()

    def _show_plan(self) -> None:
        plan = self.plan
        if plan is not None:
            self._fill(plan.offset, plan.tilt)
        axis = -1 if plan is None else int(np.argmax(np.abs(plan.axes[2])))
        is_square = plan is not None and bool(np.allclose(plan.axes[2], np.eye(3)[axis])) and not plan.tilt.any()
        for field, about in zip(self.tilts, _about(plan), strict=True):
            field.setAccessibleName(f"Tilt about {about}")
            self.labels[field].setText(f"Tilt about {about}")
        self.axis.setExclusive(False)
        for i, button in enumerate(self.axis.buttons()):
            button.setChecked(is_square and i == axis)
        self.axis.setExclusive(True)
        self.swap_button.setEnabled(plan is not None)
        if plan is None:
            for label in (self.goes, self.stays):
                label.setText("–")
            self.offer(_SET_UP)
        else:
            self._later.start()

    def _count(self) -> None:
        mesh = self.session.mesh
        if self.plan is None or mesh is None:
            return
        normal, offset = self.plan.waste_plane()

        def work(progress: object) -> tuple[Mesh, int]:
            below = mesh.vertices @ normal < offset
            return mesh, int(np.count_nonzero(below[mesh.faces].all(axis=1)))

        self.session.tasks.behind("snip", work, self._show_count)

    def _show_count(self, result: tuple[Mesh, int]) -> None:
        mesh, count = result
        if self.plan is None or mesh is not self.session.mesh:
            return
        both = self.tool.keeps_both
        self.goes.setText("0" if both else grouped(count))
        self.stays.setText(grouped(len(mesh.faces) - (0 if both else count)))
        why = ""
        if count == len(mesh.faces):
            why = "the whole part lies on the hatched side; move the plane or swap the waste side"
        elif both and count == 0:
            why = "the plane does not pass through the part"
        self.offer("Cut into two pieces" if both else "Cut the hatched side away", why)

    def cut(self) -> None:
        """Make the cut, or set a plane up where none is."""
        if self.plan is None:
            self._set_up()
        elif self.tool.keeps_both:
            self.session.do(self.plan.apart())
        else:
            self.session.apply(self.plan.treatment())


def _about(plan: SnipPlan | None) -> tuple[str, str]:
    """What the two tilts of a plane turn it about: the one that leans towards its first direction turns about the
    second, and the other way round."""
    names = []
    for i, otherwise in ((1, "the sight"), (0, "the line")):
        along = np.abs(np.eye(3)[i] if plan is None else plan.axes[i])
        names.append("xyz"[int(along.argmax())] if along.max() > 0.999 else otherwise)
    return names[0], names[1]


def _state(session: Session) -> tuple[str, int | None]:
    job, concerned = session.job, {session.job.active}
    cuts = 0
    for step in reversed(job.log[: job.cursor]):  # back through the pieces that the active one came from
        changed = {change.id for change in step.changes}
        if not concerned & changed:
            continue
        cuts += isinstance(step.action, StraightSnip | SnipApart | FindBed)
        if any(change.id in concerned and change.before is None for change in step.changes):
            concerned |= set(step.on)
    beds = len(session.examination.beds) if session.examination is not None else 0
    if beds:
        return "stands on a bed", beds
    return (counted(cuts, "cut") + " made" if cuts else "nothing cut yet"), (0 if cuts else None)


TRIM = Station("Trim", TrimTray, _state, lambda found: found.beds, waits=False)
