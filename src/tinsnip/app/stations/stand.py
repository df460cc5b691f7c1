"""Stand: how the part lies in space."""

from collections.abc import Callable

import numpy as np
from PySide6.QtWidgets import QInputDialog

from tinsnip.app.state.session import Session
from tinsnip.app.stations.aligning import AligningPart
from tinsnip.app.stations.datuming import DatumingPart
from tinsnip.app.stations.station import PartedTray, Station
from tinsnip.app.tools.pick import Pick
from tinsnip.app.tools.turn import TurnTool
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button, DropDown, NumberField
from tinsnip.app.widgets.panels import Section
from tinsnip.app.widgets.theme import px
from tinsnip.mesh import Mesh
from tinsnip.regions.grow import flat_round
from tinsnip.survey.bed import beds_of
from tinsnip.treat import LayFlat, Place, Scale, StandOnBed, Turn, TurnInsideOut
from tinsnip.treat.stand.moves import flat_facing, rotation
from tinsnip.words import grouped_number

__all__ = ["STAND", "StandTray", "laying"]

_ABOUT = {
    "Stand": "Lay the part down and place it. The bed is z = 0.",
    "Turn": "Turn the part: drag the round tabs, or type.",
    "Scale": "Give the part another size, as where its file was in another unit.",
    "Align": "Lay another piece on this one: part-scans of one thing, or a part on its nominal shape.",
    "Datums": "Planes, axes and points to measure from, and to stand the part by.",
}
_ALONG = np.cos(np.radians(15.0))
_ORIGINS = {
    "drop": "drop to the bed",
    "bottom-centre": "bottom centre to origin",
    "centre-xy": "centre over origin",
    "centre": "middle to origin",
    "corner": "corner to origin",
}


class StandTray(PartedTray):
    """How the part stands: turning, laying down, placing, scaling."""

    title = "Stand"
    about = _ABOUT

    def __init__(self, session: Session, view: Viewport) -> None:
        self.turn_tool = TurnTool(view)
        super().__init__(session, view)
        self.turn_tool.turned.connect(self._turned)

    def build(self) -> None:
        self.build_parts()
        self._build_standing(self.parts["Stand"])
        self._build_turning(self.parts["Turn"])
        self._build_scaling(self.parts["Scale"])
        self.aligning = AligningPart(self.session, self.view, self.parts["Align"])
        self.aligning.changed.connect(self._show_preview)
        self.datuming = DatumingPart(self.session, self.view, self.parts["Datums"])
        self.datuming.changed.connect(self._show_preview)
        self.copper_button("Let it stand so", self.do)
        self.session.preview_changed.connect(self._show_preview)
        self.session.examined.connect(self.refresh)
        self.show_part()

    def _build_standing(self, part: Section) -> None:
        self.lowest = part.figure("Lowest point z")
        self.bed = part.button("Stand on the found bed", lambda: self.session.ask_preview(StandOnBed()))
        part.button("Lay a picked flat on the bed…", self.pick_flat)
        self.origin = DropDown("Where the part is placed")
        for name, text in _ORIGINS.items():
            self.origin.addItem(text, name)
        self.origin.setSizeAdjustPolicy(DropDown.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.origin.setMinimumContentsLength(8)
        place = self._beside("Place", self.place, self.origin)
        part.row(self.origin, place).setStretch(0, 1)
        self.shown = part.explain()

    def _build_turning(self, part: Section) -> None:
        quarters = []
        for i, axis in enumerate("xyz"):
            button = Button(f"{axis} 90°")
            button.setAccessibleName(f"Quarter turn about {axis}")
            button.setMinimumWidth(px(40))
            button.clicked.connect(lambda _=False, i=i: self._turned(np.eye(3)[i], 90.0))
            quarters.append(button)
        part.row(*quarters)
        self.axis = self._axes("Axis of the turn")
        self.axis.setCurrentText("z")
        self.angle = NumberField("Angle of the turn", -360, 360, 2, "°", 5)
        self.angle.setMinimumWidth(px(60))
        part.row("About", self.axis, self.angle).setStretch(2, 1)
        self.angle.valueChanged.connect(self._show_turn)
        self.axis.currentIndexChanged.connect(self._show_turn)
        more = part.more("inside out")
        more.button("Turn inside out", lambda: self.session.apply(TurnInsideOut()))

    def _build_scaling(self, part: Section) -> None:
        self.values = {name: part.figure(name) for name in ("Width x", "Depth y", "Height z")}
        self.extent = self._axes("Extent that is given a length")
        self.length = NumberField("Length of the extent", 0.001, 1e6, 3)
        self.length.setMinimumWidth(px(60))
        part.row("Make", self.extent, self.length).setStretch(2, 1)
        self.factor = part.figure("Becomes larger by")
        self.extent.currentIndexChanged.connect(self.refresh)
        self.length.valueChanged.connect(self._show_factor)
        part.button("By a measured distance…", self.measure)

    def leave_part(self) -> None:
        self.put_away()
        self.view.hand.put_away()

    def show_part(self) -> None:
        super().show_part()
        if self.isVisible():
            self._take_tabs()

    def _take_tabs(self) -> None:
        """Tabs to turn by stand round the part where it is laid down or turned."""
        self.view.hand.set_rest(self.turn_tool if self.part in ("Stand", "Turn") else None)

    @staticmethod
    def _axes(name: str) -> DropDown:
        field = DropDown(name)
        field.addItems(["x", "y", "z"])
        return field

    def _beside(self, text: str, action: Callable[[], None], *fields: DropDown | NumberField) -> Button:
        """A button that does what the fields before it say."""
        button = Button(text)
        button.clicked.connect(lambda: action())
        button.setMinimumWidth(px(64))
        self.belong(button, *fields)
        return button

    @property
    def _per_unit(self) -> float:
        """Millimetres in one of the units shown."""
        return 25.4 if self.view.settings.show_inches else 1.0

    def enter(self) -> None:
        self._take_tabs()

    def leave(self) -> None:
        self.put_away()
        self.view.hand.set_rest(None)

    def _previewed(self) -> LayFlat | StandOnBed | None:
        """What is shown and would be done."""
        known = self.session.preview
        stands = known is not None and known.before is self.session.mesh
        return known.treatment if stands and isinstance(known.treatment, LayFlat | StandOnBed) else None

    def _show_preview(self) -> None:
        if self.part == "Datums":
            self.offer(*self.datuming.offered())
            return
        if self.part == "Align":
            self.aligning.refresh()
            self.offer(*self.aligning.offered())
            return
        if self.part == "Turn":
            angle = self.angle.value()
            told = f"Turn by {angle:g}° about {self.axis.currentText()}" if angle else "Turn"
            self.offer(told, "" if angle else "type an angle, drag a round tab, or press a quarter turn")
            return
        if self.part == "Scale":
            factor = self.factor.text()
            why = "type another length first" if factor in ("–", "× 1") else ""
            self.offer("Scale" if why else f"Scale {factor}", why)
            return
        treatment = self._previewed()
        if treatment is not None:
            self.shown.setText(f"Shown: {_lower(self.session.preview.outcome.text)}. Enter lets it stand so, Esc not.")
        self.shown.setVisible(treatment is not None)
        self.offer(
            "Let it stand so", "" if treatment is not None else "stand it on the found bed, or pick a flat, first"
        )

    def do(self) -> None:
        """Do what is shown."""
        if self.part == "Datums":
            self.datuming.do()
            return
        if self.part == "Align":
            self.aligning.do()
            return
        if self.part == "Turn":
            self.turn_typed()
            return
        if self.part == "Scale":
            self.scale_typed()
            return
        treatment = self._previewed()
        if treatment is not None:
            self.session.apply(treatment)

    def refresh(self, *_: object) -> None:
        mesh, found = self.session.mesh, self.session.examination
        if mesh is None:
            return
        self.datuming.refresh()
        self.bed.setEnabled(found is not None and bool(found.beds))
        self.bed.setToolTip("" if self.bed.isEnabled() else "no bed was found on this part")
        unit = "in" if self._per_unit != 1.0 else "mm"
        for label, value in zip((*self.values.values(), self.lowest), (*mesh.size, mesh.box[0, 2]), strict=True):
            label.setText(f"{grouped_number(value / self._per_unit, 3 if unit == 'in' else 2)} {unit}")
        self.length.setSuffix(f" {unit}")
        self.length.setValue(float(mesh.size[self.extent.currentIndex()]) / self._per_unit)
        self._show_factor()

    def _show_factor(self, *_: object) -> None:
        mesh = self.session.mesh
        has = 0.0 if mesh is None else float(mesh.size[self.extent.currentIndex()]) / self._per_unit
        near = abs(self.length.value() - has) < 0.0006
        self.factor.setText("–" if has <= 0 else f"× {1.0 if near else self.length.value() / has:.4g}")
        self._show_preview()

    def _show_turn(self, *_: object) -> None:
        """Show the part as the typed turn would turn it."""
        self.session.cancel_preview()
        mesh, scene, angle = self.session.mesh, self.view.scene, self.angle.value()
        if scene is not None and mesh is not None:
            way = np.eye(3)[self.axis.currentIndex()]
            scene.turn = (rotation(way, angle), mesh.box.mean(axis=0)) if angle and self.isVisible() else None
            self.view.moved()
        self._show_preview()

    def put_away(self) -> bool:
        if self.part == "Datums":
            return self.datuming.put_away()
        if self.part == "Align":
            return self.aligning.put_away()
        mesh = self.session.mesh
        was = self.angle.value() != 0.0 or (mesh is not None and self.factor.text() != "× 1")
        was = was or self._previewed() is not None
        self.session.cancel_preview()
        self.angle.setValue(0.0)
        self.refresh()
        return was

    def _turned(self, axis: np.ndarray, degrees: float) -> None:
        if self.isVisible() and degrees:
            self.session.apply(Turn(axis=tuple(float(x) for x in axis), degrees=float(degrees)))
            self.angle.setValue(0.0)

    def place(self) -> None:
        """Place the part where the drop-down says."""
        self.session.apply(Place(origin=self.origin.currentData()))

    def turn_typed(self) -> None:
        """Turn by the typed angle."""
        self._turned(np.eye(3)[self.axis.currentIndex()], self.angle.value())

    def scale_typed(self) -> None:
        """Scale so that the chosen extent comes to the typed length."""
        length = self.length.value() * self._per_unit
        self.session.apply(Scale(axis=self.extent.currentText(), length_mm=length))

    def pick_flat(self) -> None:
        """Let a click choose what shall lie on the bed."""

        def picked(triangle: int, point: np.ndarray) -> None:
            mesh = self.session.mesh
            self.view.hand.put_away()

            def show(treatment: LayFlat | StandOnBed) -> None:
                if self.session.mesh is mesh:
                    self.session.ask_preview(treatment)

            self.session.tasks.foreground("Finding the flat", lambda p: laying(mesh, triangle, point), show)

        def flat(mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
            return flat_round(mesh, triangle)

        self.view.hand.take(Pick(self.view, ("Click the flat that shall lie on the bed",), picked, takes=flat))

    def measure(self) -> None:
        """Let two clicks measure a distance, and ask for what it should be."""
        points: list[np.ndarray] = []

        def picked(triangle: int, point: np.ndarray) -> None:
            points.append(point)
            if len(points) < 2:
                return
            self.view.hand.put_away()
            distance = float(np.linalg.norm(points[1] - points[0])) / self._per_unit
            unit = "in" if self._per_unit != 1.0 else "mm"
            text = f"Measured {distance:.4g} {unit}. What should it be, in {unit}?"
            wanted, ok = QInputDialog.getDouble(self, "Scale by a measured distance", text, distance, 1e-6, 1e7, 4)
            if ok and distance > 0:
                self.session.apply(Scale(factor=wanted / distance))

        hints = ("Click the first of two points", "Click the second point")
        self.view.hand.take(Pick(self.view, hints, picked))


def _lower(text: str) -> str:
    return text[:1].lower() + text[1:]


def laying(mesh: Mesh, triangle: int, point: np.ndarray) -> LayFlat | StandOnBed:
    """What lays a flat down that was clicked; a bed faces the part, and stays below it."""
    facing = flat_facing(mesh, triangle)
    for number, bed in enumerate(beds_of(mesh), 1):
        off = abs(float(bed.normal @ point) - bed.offset)
        if bed.normal @ facing > _ALONG and off <= max(3.0 * bed.spread, bed.above):
            return StandOnBed(number=number)
    return LayFlat(down=tuple(float(x) for x in facing))


def _state(session: Session) -> tuple[str, int | None]:
    lowest = grouped_number(float(session.mesh.box[0, 2]), 2)
    return f"lowest point {lowest.rstrip('0').rstrip('.') if '.' in lowest else lowest} mm", None


_CHECKS = ("room", "on the bed", "steady")
STAND = Station("Stand", StandTray, _state, waits=False, answers=lambda check, _: check.name in _CHECKS)
