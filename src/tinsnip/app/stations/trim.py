"""Trim: what is cut away."""

import numpy as np
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
)
from PySide6.QtWidgets import QWidget as Widget

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.tools.pick import Pick
from tinsnip.app.tools.snip import SnipPlan, SnipTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.panels import number_field
from tinsnip.mesh import Mesh
from tinsnip.treat import SnipApart, StraightSnip
from tinsnip.words import counted, grouped

__all__ = ["TRIM", "TrimTray"]


class TrimTray(Tray):
    """The straight snip."""

    title = "Straight snip"
    can_swap = True

    def __init__(self, session: Session, view: Viewport) -> None:
        self.tool = SnipTool(view)
        self._filling = False
        self._plan: SnipPlan | None = None
        super().__init__(session, view)
        self._later = QTimer(self, singleShot=True, interval=60)
        self._later.timeout.connect(self._count)
        self.tool.edited.connect(self._show_plan)

    def build(self) -> None:
        self.head_text.setText("The hatched side goes. Drag the tabs, or type.")
        row = Widget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(QLabel("Square to"))
        self.axis = QButtonGroup(self)
        for i, name in enumerate("xyz"):
            button = QPushButton(name)
            button.setCheckable(True)
            button.setAccessibleName(f"Plane square to {name}")
            button.setFixedWidth(44)
            self.axis.addButton(button, i)
            box.addWidget(button)
        box.addStretch(1)
        self.axis.idClicked.connect(self._take_axis)
        self.column.addWidget(row)
        self.two_points = self.button("From two points…", self.pick_two_points)
        row, self.offset = number_field("Offset", -1e6, 1e6, 3, "mm", 0.5)
        self.column.addWidget(row)
        row, self.tilt_0 = number_field("Tilt 1", -80, 80, 2, "°", 0.5)
        self.column.addWidget(row)
        row, self.tilt_1 = number_field("Tilt 2", -80, 80, 2, "°", 0.5)
        self.column.addWidget(row)
        self.offset.valueChanged.connect(self._typed)
        self.tilt_0.valueChanged.connect(self._typed)
        self.tilt_1.valueChanged.connect(self._typed)
        self.swap_button = self.button("Swap the waste side", self.swap, "Tab")
        self.close_box = QCheckBox("close the cut with flat triangles")
        self.close_box.toggled.connect(self._typed)
        self.column.addWidget(self.close_box)
        self.both_box = QCheckBox("keep both sides, as two pieces")
        self.both_box.toggled.connect(self._typed)
        self.column.addWidget(self.both_box)
        self.heading("What the preview shows")
        self.goes = self.figure("Triangles that go")
        self.stays = self.figure("Triangles that stay")
        self.copper_button("Cut the hatched side away", self.cut)

    @property
    def plan(self) -> SnipPlan | None:
        """The snip that is set up."""
        return self._plan

    def enter(self) -> None:
        mesh = self.session.mesh
        if mesh is None or len(mesh.faces) == 0:
            return
        if self._plan is None or not np.array_equal(self._plan.box, mesh.box):
            self._plan = SnipPlan(mesh.box)
            self._plan.close = self.close_box.isChecked()  # what is ticked goes for the next cut too
        self.view.hand.set_rest(self.tool)
        self.tool.show(self._plan)
        self._show_plan()

    def leave(self) -> None:
        self.view.hand.set_rest(None)

    def refresh(self) -> None:
        if self.isVisible() and self.view.hand.rest is self.tool:
            self.enter()

    def pick_two_points(self) -> None:
        """Let two clicks, and the line of sight, give the plane."""
        points: list[np.ndarray] = []

        def picked(triangle: int, point: np.ndarray) -> None:
            points.append(point)
            if len(points) == 2 and self.plan is not None:
                self.view.hand.put_away()
                self.plan.set_two_points(*points, -self.view.camera.frame()[2])
                self.tool.show_waste()
                self._show_plan()

        hints = ("Click the first of two points on the line of the cut", "Click the second point")
        self.view.hand.take(Pick(self.view, hints, picked, beside=True))

    def _take_axis(self, axis: int) -> None:
        if self.plan is not None:
            self.plan.set_axis(axis)
            self.tool.show_waste()
            self._show_plan()

    def _typed(self, *_: object) -> None:
        if self._filling or self.plan is None:
            return
        for i, field in enumerate((self.tilt_0, self.tilt_1)):
            if abs(field.value() - self.plan.tilt[i]) > 0.0051:
                self.plan.set_tilt(i, field.value())
        if abs(self.offset.value() - self.plan.offset) > 0.00051:
            self.plan.offset = self.offset.value()
        self.plan.close = self.close_box.isChecked()
        self.tool.keeps_both = self.both_box.isChecked()
        self.tool.show_waste()
        self._show_plan()

    def swap(self) -> None:
        """Let the other side go."""
        if self.plan is not None:
            self.plan.flipped = not self.plan.flipped
            self.tool.show_waste()
            self._show_plan()

    def _show_plan(self) -> None:
        if self.plan is None:
            return
        self._filling = True
        self.offset.setValue(self.plan.offset)
        self.tilt_0.setValue(self.plan.tilt[0])
        self.tilt_1.setValue(self.plan.tilt[1])
        axis = int(np.argmax(np.abs(self.plan.axes[2])))
        button = self.axis.button(axis)
        square = bool(np.allclose(self.plan.axes[2], np.eye(3)[axis])) and not self.plan.tilt.any()
        self.axis.setExclusive(False)
        for other in self.axis.buttons():
            other.setChecked(square and other is button)
        self.axis.setExclusive(True)
        self._filling = False
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
        both = self.tool.keeps_both
        self.goes.setText("0" if both else grouped(count))
        self.stays.setText(grouped(len(mesh.faces) - (0 if both else count)))
        self.copper.setText("Cut into two pieces" if both else "Cut the hatched side away")
        self.copper.setEnabled(len(mesh.faces) - count > 0 and (count > 0 or not both))

    def cut(self) -> None:
        """Make the cut."""
        if self.plan is not None and self.tool.keeps_both:
            self.session.do(self.plan.apart())
        elif self.plan is not None:
            self.session.apply(self.plan.treatment())


def _state(session: Session) -> tuple[str, int | None]:
    done = session.job.log[: session.job.cursor]
    cuts = sum(isinstance(s.action, StraightSnip | SnipApart) and bool(s.changes) for s in done)
    return (counted(cuts, "cut") + " made" if cuts else "nothing cut yet"), (0 if cuts else None)


TRIM = Station("Trim", TrimTray, _state, waits=False)
