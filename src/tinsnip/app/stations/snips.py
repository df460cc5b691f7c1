"""The snips that Trim offers: for each its plan, its tool over the view, and fields that say the same in numbers."""

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QButtonGroup, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.tools.box import BoxPlan, BoxTool
from tinsnip.app.tools.cutting import CutPlan, CutTool, LeaningPlan
from tinsnip.app.tools.drawing import CORNERS, SHAPES
from tinsnip.app.tools.outline import OutlineTool
from tinsnip.app.tools.pick import Pick
from tinsnip.app.tools.round import RoundPlan, RoundTool
from tinsnip.app.tools.snip import SnipPlan, SnipTool
from tinsnip.app.tools.traced import TracedTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button, DropDown, NumberField
from tinsnip.app.widgets.panels import Column, Section
from tinsnip.app.widgets.theme import px
from tinsnip.datums.datum import LINEAR, Datum
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.regions.grow import facing_round, flat_round
from tinsnip.survey.fits import fit_cylinder, fit_plane

__all__ = ["BoxSection", "OutlineSection", "RoundSection", "SnipSection", "StraightSection", "TracedSection"]


class SnipSection(Section):
    """The fields of one kind of snip.

    Attributes
    ----------
    changed : Signal
        The plan is another one, or stands otherwise.
    """

    name = ""
    short = ""
    picture = ""
    makes: type[CutTool]
    body = "plane"
    set_up_text = ""
    why_none = ""
    """Why the copper button cannot set it up."""
    changed = Signal()

    def __init__(self, session: Session, view: Viewport) -> None:
        super().__init__()
        self.session, self.view = session, view
        self.tool = self.makes(view)
        self.tool.edited.connect(self.changed)
        self._filling = False
        self.build()

    def build(self) -> None:
        """Put the fields into the column."""

    @property
    def plan(self) -> CutPlan | None:
        """What is set up."""
        return self.tool.plan

    def new_plan(self, box: np.ndarray) -> CutPlan | None:
        """A plan to begin with; None where it has to be drawn."""
        raise NotImplementedError

    def fill(self) -> None:
        """Show the plan in the fields."""

    def number_of(
        self, name: str, unit: str = "mm", low: float = -1e6, high: float = 1e6, decimals: int = 3, step: float = 0.5
    ) -> NumberField:
        """A field whose change is taken into the plan."""
        field = self.number(name, low, high, decimals, unit, step)
        field.follows_part = True
        field.valueChanged.connect(self._typed)
        return field

    def _typed(self, *_: object) -> None:
        if self._filling or self.session.mesh is None:
            return
        sender = self.sender()
        if self.plan is None:
            value = sender.value()
            plan = self.new_plan(self.session.mesh.box)
            if plan is None:
                return
            self.tool.plan = plan
            self.put([(field, number) for field, number in self.numbers() if field is not sender])
            self.put([(sender, value)])
        self.take_typed()
        self.tool.show_waste()
        self.changed.emit()

    def numbers(self) -> Sequence[tuple[NumberField, float]]:
        """Each field, and the plan's number for it."""
        return ()

    def take_typed(self) -> None:
        """Take what the fields say into the plan."""

    def put(self, values: Sequence[tuple[NumberField, float]]) -> None:
        """Put numbers into fields without taking them for typed."""
        self._filling = True
        for field, value in values:
            field.setValue(value)
        self._filling = False

    def stand(self, change: Callable[[CutPlan], None]) -> None:
        """Change the plan, or a new one where there is none."""
        mesh = self.session.mesh
        if mesh is None or len(mesh.faces) == 0:
            return
        plan = self.plan or self.new_plan(mesh.box)
        if plan is not None:
            change(plan)
            self.tool.show(plan)
            self.changed.emit()

    def axes_row(self, text: str, take: Callable[[int], None], about: str) -> QButtonGroup:
        """Buttons for x, y and z."""
        group = QButtonGroup(self)
        row = self.row(text)
        for i, name in enumerate("xyz"):
            button = Button(name)
            button.setCheckable(True)
            button.setAccessibleName(f"{about} {name}")
            button.setFixedWidth(px(44))
            group.addButton(button, i)
            row.addWidget(button)
        row.addStretch(1)
        group.idClicked.connect(take)
        return group

    @staticmethod
    def two_buttons(place: Column, *named: tuple[str, Callable[[], None], str]) -> list[Button]:
        """Two buttons beside each other."""
        buttons = []
        for text, act, about in named:
            button = Button(text)
            button.setToolTip(about)
            button.clicked.connect(lambda _=False, act=act: act())
            buttons.append(button)
        place.row(*buttons)
        return buttons

    def offer_datums(self, forms: Sequence[str], take: Callable[[CutPlan, Datum], None]) -> None:
        """A list of the part's datums of some forms; choosing one lets the plan stand there."""
        field = DropDown(f"Where the {self.name.lower()} stands, by a datum")
        self.add(field)
        shown = self.view.datums

        def fill() -> None:
            names = [d.name for d in shown.kept if d.form in forms]
            if [field.itemData(i) for i in range(1, field.count())] != names:
                field.blockSignals(True)
                field.clear()
                field.addItem("At a datum…", "")
                for datum in shown.kept:
                    if datum.form in forms:
                        field.addItem(f"{datum.name} {datum.form} {datum.measure()}".rstrip(), datum.name)
                field.blockSignals(False)
            field.setVisible(bool(names))

        def chosen() -> None:
            datum = next((d for d in shown.kept if d.name == field.currentData()), None)
            if datum is not None:
                self.stand(lambda plan: take(plan, datum))

        shown.changed.connect(fill)
        field.currentIndexChanged.connect(lambda _: chosen())
        self.datum = field
        fill()

    def fit(self, fitted: Callable[[Mesh, np.ndarray], object], take: Callable[[object], None]) -> None:
        """Fit to what is selected, beside the window."""
        selected = self.session.selected
        mesh, chosen = selected.mesh, selected.triangles
        if chosen is None:
            self.session.message.emit("select what it should fit first, with the tools above", True)
            return

        def work(progress: object) -> object:
            try:
                return fitted(mesh, chosen)
            except BadInput as error:
                return str(error)

        def done(found: object) -> None:
            if isinstance(found, str):
                self.session.message.emit(found, True)
            elif self.session.mesh is mesh:
                take(found)

        self.session.tasks.behind("fit", work, done)


class _LeaningSection(SnipSection):
    """Fields for a direction that leans."""

    along = "Square to"
    axis_about = "Plane square to"

    def add_axes(self) -> None:
        self.axis = self.axes_row(
            self.along, lambda axis: self.stand(lambda plan: plan.set_axis(axis)), self.axis_about
        )

    def add_tilts(self) -> None:
        self.tilts = [self.number_of(f"Tilt about {name}", "°", -80, 80, 2) for name in "yx"]

    def fill(self) -> None:
        plan = self.plan
        if plan is not None:
            self.put(self.numbers())
        axis = -1 if plan is None else int(np.argmax(np.abs(plan.axes[2])))
        is_square = plan is not None and bool(np.allclose(plan.axes[2], np.eye(3)[axis])) and not plan.tilt.any()
        for field, about in zip(self.tilts, _about(plan), strict=True):
            field.setAccessibleName(f"Tilt about {about}")
            self.labels[field].setText(f"Tilt about {about}")
        self.axis.setExclusive(False)
        for i, button in enumerate(self.axis.buttons()):
            button.setChecked(is_square and i == axis)
        self.axis.setExclusive(True)


class StraightSection(_LeaningSection):
    """The straight snip."""

    name, short, picture = "Straight snip", "Straight", "straight"
    makes = SnipTool
    set_up_text = "Place the plane"

    def build(self) -> None:
        self.add_axes()
        self.offset = self.number_of("From the origin")
        self.offset.setToolTip("Distance of the plane from the origin, along the way it faces")
        self.add_tilts()
        self.offer_datums(("plane",), lambda plan, datum: plan.set_through(datum.place, datum.direction))
        more = self.more("points, selection")
        self.two_points, self.three_points = self.two_buttons(
            more,
            ("From two points…", self.pick_two_points, "The line of sight gives the plane through them"),
            ("From three…", self.pick_three_points, "Through three points on the part"),
        )
        self.best_fit = more.button("Fit to the selection", self.fit_selection)

    def new_plan(self, box: np.ndarray) -> SnipPlan:
        return SnipPlan(box)

    def numbers(self) -> list[tuple[NumberField, float]]:
        return [(self.offset, self.plan.offset), *zip(self.tilts, self.plan.tilt, strict=True)]

    def take_typed(self) -> None:
        plan = self.plan
        for i, field in enumerate(self.tilts):
            if abs(field.value() - plan.tilt[i]) > 0.0051:
                plan.set_tilt(i, field.value())
        if abs(self.offset.value() - plan.offset) > 0.00051:
            plan.offset = self.offset.value()

    def _pick(self, hints: tuple[str, ...], beside: bool, set_up: Callable[[SnipPlan, list[np.ndarray]], None]) -> None:
        points: list[np.ndarray] = []

        def picked(triangle: int, point: np.ndarray) -> None:
            points.append(point)
            if len(points) == len(hints):
                self.view.hand.put_away()
                self.stand(lambda plan: set_up(plan, points))

        self.view.hand.take(Pick(self.view, hints, picked, beside=beside))

    def pick_two_points(self) -> None:
        """Let two clicks, and the line of sight, give the plane."""
        hints = ("Click the first of two points on the line of the cut", "Click the second point")

        def set_up(plan: SnipPlan, points: list[np.ndarray]) -> None:
            plan.set_two_points(*points, self.view.camera.way_at(0.5 * (points[0] + points[1])))

        self._pick(hints, True, set_up)

    def pick_three_points(self) -> None:
        """Let three clicks on the part give the plane."""

        def set_up(plan: SnipPlan, points: list[np.ndarray]) -> None:
            normal = np.cross(points[1] - points[0], points[2] - points[0])
            size = float(np.linalg.norm(normal))
            if size < 1e-9 * float(np.linalg.norm(points[1] - points[0]) + 1e-300):
                self.session.message.emit("the three points lie on a line; pick them apart", True)
                return
            plan.set_through(points[0], normal / size)

        hints = ("Click the first of three points on the cut", "Click the second point", "Click the third point")
        self._pick(hints, False, set_up)

    def fit_selection(self) -> None:
        """Lay the plane through what is selected."""
        self.fit(fit_plane, lambda found: self.stand(lambda plan: plan.set_through(found.point, found.normal)))


class RoundSection(_LeaningSection):
    """The round snip."""

    name, short, picture = "Round snip", "Round", "round"
    makes = RoundTool
    body = "cylinder"
    set_up_text = "Place the cylinder"
    along = "Along"
    axis_about = "Axis along"

    def build(self) -> None:
        self.add_axes()
        self.radius = self.number_of("Radius", low=0.001)
        self.through = [self.number_of(f"Axis through {name}") for name in "xyz"]
        self.add_tilts()
        self.offer_datums(
            LINEAR, lambda plan, datum: plan.set_along(datum.place, datum.direction, datum.radius or plan.radius)
        )
        more = self.more("sight, flat, selection")
        self.from_view, self.on_flat = self.two_buttons(
            more,
            ("Along the sight", self.take_sight, "The axis runs the way one looks, through the middle of the view"),
            ("Square to a flat…", self.pick_flat, "Click a flat: the axis stands on it there"),
        )
        self.best_fit = more.button("Fit to the selection", self.fit_selection)

    def new_plan(self, box: np.ndarray) -> RoundPlan:
        return RoundPlan(box)

    def numbers(self) -> list[tuple[NumberField, float]]:
        plan = self.plan
        return [
            (self.radius, plan.radius), *zip(self.through, plan.through, strict=True),
            *zip(self.tilts, plan.tilt, strict=True),
        ]  # fmt: skip

    def take_typed(self) -> None:
        plan = self.plan
        plan.radius = _kept(self.radius, plan.radius)
        plan.through = np.array([_kept(f, v) for f, v in zip(self.through, plan.through, strict=True)])
        plan.tilt = np.array([_kept(f, v, 0.0051) for f, v in zip(self.tilts, plan.tilt, strict=True)])

    def take_sight(self) -> None:
        """Let the axis run along the line of sight."""
        frame = self.view.camera.frame()

        def set_up(plan: RoundPlan) -> None:
            plan.set_along(self.view.camera.middle, frame[2])

        self.stand(set_up)

    def pick_flat(self) -> None:
        """Let a click on a flat give the axis."""

        def picked(triangle: int, point: np.ndarray) -> None:
            mesh = self.session.mesh
            self.view.hand.put_away()
            self.stand(lambda plan: plan.set_along(point, facing_round(mesh, triangle)))

        def flat(mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
            return flat_round(mesh, triangle)

        hints = ("Click the flat that the axis stands on, where it stands",)
        self.view.hand.take(Pick(self.view, hints, picked, takes=flat))

    def fit_selection(self) -> None:
        """Lay the cylinder through what is selected."""
        self.fit(fit_cylinder, lambda f: self.stand(lambda plan: plan.set_along(f.point, f.axis, f.radius)))


class BoxSection(SnipSection):
    """The box snip."""

    name, short, picture = "Box snip", "Box", "box"
    makes = BoxTool
    body = "box"
    set_up_text = "Place the box"

    def build(self) -> None:
        self.around = self.button("Round the selection", self.take_selection)
        self.sizes = [self.number_of(f"Size along {name}", low=0.001) for name in "xyz"]
        self.middles = [self.number_of(f"Middle {name}") for name in "xyz"]
        self.turn = self.number_of("Turned about z", "°", -180, 180, 2)

    def new_plan(self, box: np.ndarray) -> BoxPlan:
        return BoxPlan(box)

    def numbers(self) -> list[tuple[NumberField, float]]:
        plan = self.plan
        return [
            *zip(self.sizes, plan.size, strict=True), *zip(self.middles, plan.middle, strict=True),
            (self.turn, plan.turn),
        ]  # fmt: skip

    def fill(self) -> None:
        if self.plan is not None:
            self.put(self.numbers())

    def take_typed(self) -> None:
        plan = self.plan
        plan.size = np.array([_kept(f, v) for f, v in zip(self.sizes, plan.size, strict=True)])
        plan.middle = np.array([_kept(f, v) for f, v in zip(self.middles, plan.middle, strict=True)])
        plan.turn = _kept(self.turn, plan.turn, 0.0051)

    def take_selection(self) -> None:
        """Close the box round what is selected."""
        self.fit(
            lambda mesh, chosen: mesh.vertices[np.unique(mesh.faces[chosen])],
            lambda points: self.stand(lambda plan: plan.set_around(points)),
        )


class OutlineSection(SnipSection):
    """The outline snip."""

    name, short, picture = "Outline snip", "Outline", "outline"
    makes = OutlineTool
    body = "outline"
    set_up_text = "Draw an outline"
    why_none = "draw it over the part first"

    def build(self) -> None:
        self.explain("Drawn over the part, and cut through it as it is seen.")
        self.near_box = self.tick("only the near side, not what lies behind")
        self.near_box.toggled.connect(self._set_near)
        self.shapes = QButtonGroup(self)
        for names in (SHAPES[:2], SHAPES[2:]):
            buttons: list[QWidget] = []
            for name in names:
                button = Button(name)
                button.setCheckable(True)
                self.shapes.addButton(button, SHAPES.index(name))
                buttons.append(button)
            self.row(*buttons)
        self.shapes.button(0).setChecked(True)
        self.shapes.idClicked.connect(lambda i: self.tool.drawing.set_shape(SHAPES[i]))
        self.take_back = self.button("Take the last corner back", self.tool.drawing.take_back)
        self.take_back.setToolTip("Backspace")

    def _set_near(self, on: bool) -> None:
        self.tool.is_near = on
        if self.plan is not None:
            self.plan.near = on
            self.changed.emit()

    def new_plan(self, box: np.ndarray) -> None:
        return None

    def fill(self) -> None:
        drawing = self.tool.drawing
        self.take_back.setVisible(drawing.shape == CORNERS)
        self.take_back.setEnabled(bool(drawing.points))


class TracedSection(SnipSection):
    """The traced snip."""

    name, short, picture = "Traced snip", "Traced", "traced"
    makes = TracedTool
    body = "line"
    set_up_text = "Trace a line"
    why_none = "click points on the part, round what is meant"

    def build(self) -> None:
        self.explain("Points clicked on the part are joined along its surface, and closed to a loop.")
        self.points = self.figure("Points")
        self.take_back = self.button("Take the last point back", self.tool.take_back)
        self.take_back.setToolTip("Backspace")

    def new_plan(self, box: np.ndarray) -> None:
        return None

    def fill(self) -> None:
        count = 0 if self.plan is None else len(self.plan.points)
        self.points.setText(str(count))
        self.take_back.setEnabled(count > 0)


def _kept(field: NumberField, value: float, half_step: float = 0.00051) -> float:
    """What a field says, or the finer number that it shows."""
    return field.value() if abs(field.value() - value) > half_step else float(value)


def _about(plan: LeaningPlan | None) -> tuple[str, str]:
    """What the two tilts turn about: the one that leans towards the first direction turns about the second, and the
    other way round."""
    names = []
    for i, otherwise in ((1, "the sight"), (0, "the line")):
        along = np.abs(np.eye(3)[i] if plan is None else plan.axes[i])
        names.append("xyz"[int(along.argmax())] if along.max() > 0.999 else otherwise)
    return names[0], names[1]
