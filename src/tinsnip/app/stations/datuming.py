"""Datums, as a part of a tray: fitting them, making them from each other, bringing them to the axes, and using them."""

import itertools
from collections.abc import Callable, Mapping
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QInputDialog, QVBoxLayout, QWidget

from tinsnip.app.state.session import Session
from tinsnip.app.tools.datum import DatumClick
from tinsnip.app.view.viewport import Viewport
from tinsnip.app.widgets.fields import Button, DropDown, NumberField, TickBox
from tinsnip.app.widgets.filedialog import bare_name, choose_target, folder_for
from tinsnip.app.widgets.panels import Section, line_of
from tinsnip.app.widgets.theme import px
from tinsnip.datums.axes import AXES, Axis, nearest_axis
from tinsnip.datums.between import between_reading, form_reading
from tinsnip.datums.constructing import WAYS, ways_for
from tinsnip.datums.datum import DATUM_FORMS, FITTED, LINEAR, Datum, next_name
from tinsnip.datums.drawings import write_drawing
from tinsnip.datums.finding import find_datums
from tinsnip.datums.fitting import fit_datum, form_round
from tinsnip.datums.sections import section_drawn
from tinsnip.errors import BadInput
from tinsnip.job import FitDatums, MakeDatum, RemoveDatums, RenameDatum, ToAxes
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.words import counted, degrees_told, millimetres

__all__ = ["DatumingPart"]

_ROWS = 3
_FILES = {".step": "STEP: surfaces and axes", ".dxf": "DXF: lines in space", ".json": "JSON: figures"}
_OUTLINES = {".dxf": "DXF: lines and arcs", ".svg": "SVG, in millimetres", ".step": "STEP: curves in space"}
_VALUED = {"parallel": ("by", "mm"), "turned": ("by", "°")}
_numbers = itertools.count()


def _axis_told(axis: Axis) -> str:
    return "place only" if axis == "origin" else f"to −{axis[1]}" if axis[0] == "-" else f"to +{axis}"


class DatumingPart(QObject):
    """Puts all that is done with datums into a part of a tray.

    Parameters
    ----------
    session : Session
    view : Viewport
    part : Section

    Signals
    -------
    changed
        What the copper button would do is another thing.
    """

    changed = Signal()

    def __init__(self, session: Session, view: Viewport, part: Section) -> None:
        super().__init__()
        self._session, self._view, self._shown = session, view, view.datums
        self._tool = DatumClick(view)
        self._tool.clicked.connect(self._clicked)
        self._build_fitting(part)
        self._build_list(part)
        self._build_making(part)
        self._build_axes(part)
        self._build_files(part)
        self._shown.changed.connect(self.refresh)
        session.selected.changed.connect(self.refresh)

    # ---- what stands in the tray

    def _build_fitting(self, part: Section) -> None:
        self.form = part.drop_down(
            "Form", {"any plane or round": None} | {form: form for form in DATUM_FORMS} | {"symmetry": "symmetry"}
        )
        self.form.currentIndexChanged.connect(lambda _: self.refresh())
        self.way_held = part.drop_down("Direction", {"as it comes": ("", "")})
        self.way_held.setToolTip("Held parallel or square to a datum that is there already")
        self.radius_held = part.number("Radius", 0.0, 1e6, 3, "mm", 0.5)
        self.radius_held.setSpecialValueText("as it comes")
        self.radius_held.setToolTip("Given, where it is known; 0: fitted")
        self.by_click = Button("Click a surface…")
        self.by_click.setToolTip("One click: the datum is fitted to all of the surface that has its form")
        self.by_click.clicked.connect(lambda: self._view.hand.take(self._tool))
        self.to_selection = Button("Fit the selection")
        self.to_selection.clicked.connect(self._fit_selection)
        part.row(self.by_click, self.to_selection)
        self.find = part.button("Find all of 1 % or more", self._find)
        self.find.setToolTip("Planes, cylinders, spheres, cones and rings that have 1 % of the area or more")

    def _build_list(self, part: Section) -> None:
        self.heading = part.heading("Datums")
        self.none = part.explain("None yet. They are kept in the job, and fitted anew when an earlier step changes.")
        self.list = QWidget()
        self._lines = QVBoxLayout(self.list)
        self._lines.setContentsMargins(0, 0, 0, 0)
        self._lines.setSpacing(px(3))
        part.add(self.list)
        self.ticks: dict[str, TickBox] = {}
        self._listed: tuple[tuple[Datum, ...], bool] | None = None
        self.is_on = part.tick("drawn over the part")
        self.is_on.setChecked(True)
        self.is_on.toggled.connect(self._shown.set_on)

    def _build_making(self, part: Section) -> None:
        self.using = part.heading("With those ticked")
        self.way = DropDown("How a datum is made from those ticked")
        self.value = NumberField("By how much", -1e6, 1e6, 3, "mm", 1.0)
        self.value.setFixedWidth(px(104))
        self.make = Button("Make it")
        self.make.clicked.connect(self._make)
        self.way.currentIndexChanged.connect(self._show_value)
        part.add(self.way)
        self.make_row, _ = line_of("by", self.value, None, self.make)
        self._by = self.make_row.layout().itemAt(0).widget()
        part.add(self.make_row)
        self.value.presses = self.make
        self.measure = Button("Measure")
        self.measure.setToolTip("One: how flat or round its surface is. Two: what lies between them")
        self.measure.clicked.connect(self._measure)
        self.section = Button("Section there")
        self.section.clicked.connect(self._section_there)
        self.rename = Button("Rename…")
        self.rename.clicked.connect(self._rename)
        self.use_row = part.row(self.measure, self.rename).parentWidget()
        part.add(self.section)

    def _build_axes(self, part: Section) -> None:
        self.axes_heading = part.heading("To the axes, what counts most first")
        self.rows: list[tuple[DropDown, DropDown]] = []
        for k in range(_ROWS):
            named = ("first", "second", "third")[k]
            datum, axis = (
                DropDown(f"The {named} datum that is brought to an axis"),
                DropDown(f"The axis of the {named}"),
            )
            for name in AXES:
                axis.addItem(_axis_told(name), name)
            axis.setCurrentIndex(AXES.index(("z", "x", "y")[k]))
            datum.currentIndexChanged.connect(lambda _, row=k: self._propose_axis(row))
            axis.currentIndexChanged.connect(self._axes_changed)
            row, box = line_of(datum, axis)
            box.setStretch(0, 1)
            part.add(row)
            self.rows.append((datum, axis))
        self.bound = part.explain()

    def _build_files(self, part: Section) -> None:
        self.files_heading = part.heading("For other programs")
        self.save = part.button("Save the datums…", self._save)
        self.save.setToolTip("As STEP, DXF or JSON: those that are ticked, or all")
        self.outline = part.button("Save the section's outline…", self._save_section)
        self.outline.setToolTip("As lines and arcs: DXF, SVG or STEP")

    # ---- fitting

    def _wanted(self) -> str | None:
        return self.form.currentData()

    def _held(self) -> dict[str, object]:
        """What of the datum is given, as the step takes it."""
        how, name = self.way_held.currentData()
        found: dict[str, object] = {how: name} if how else {}
        return found | ({"radius_mm": self.radius_held.value()} if self.radius_held.value() > 0 else {})

    def _fill_held(self, kept: tuple[Datum, ...]) -> None:
        rows = [("as it comes", ("", ""))]
        for datum in kept:
            if datum.form == "plane" or datum.form in LINEAR:
                rows += [(f"parallel to {datum.name}", ("parallel_to", datum.name))]
                rows += [(f"square to {datum.name}", ("square_to", datum.name))]
        if [text for text, _ in rows] != [self.way_held.itemText(i) for i in range(self.way_held.count())]:
            was = self.way_held.currentText()
            self.way_held.clear()
            for text, data in rows:
                self.way_held.addItem(text, data)
            self.way_held.setCurrentIndex(max(0, self.way_held.findText(was)))

    def _fit(self, title: str, choose: Callable[[], tuple[str, np.ndarray]]) -> None:
        """Fit a datum to what a function finds; it becomes a step."""
        mesh, held = self._session.mesh, self._held()
        name = next_name([d.name for d in self._shown.kept])
        self._shown.leave()

        def make() -> FitDatums:
            form, chosen = choose()
            form = fit_datum(mesh, chosen, form, name).form if form is None else form
            return FitDatums(regions=(Region.of(mesh, chosen),), forms=(form,), names=(name,), **held)

        self._session.do_made(title, make)

    def _clicked(self, triangle: int, place: object) -> None:
        mesh, wanted = self._session.mesh, self._wanted()
        if wanted is not None and wanted not in FITTED:
            self._session.message.emit(f"a {wanted} is fitted to a selection; select it first", True)
            return
        self._fit("Fitting a datum", lambda: form_round(mesh, triangle, place, wanted))

    def _fit_selection(self) -> None:
        chosen, wanted = self._session.selected.triangles, self._wanted()
        if wanted == "symmetry" and chosen is None:
            chosen = np.ones(len(self._session.mesh.faces), dtype=bool)
        if chosen is not None:
            self._fit("Fitting a datum", lambda: (wanted, chosen))

    def _find(self) -> None:
        mesh = self._session.mesh
        taken = [d.name for d in self._shown.kept]

        def work(progress: Progress) -> list[Datum]:
            found, names = [], list(taken)
            for datum in find_datums(mesh, progress):
                names.append(next_name(names))
                found.append(datum.model_copy(update={"name": names[-1]}))
            return found

        def done(found: list[Datum]) -> None:
            if self._session.mesh is not mesh:
                return
            if not found:
                self._session.message.emit("no plane and no round form has 1 % of the area or more", True)
            else:
                self._shown.propose(found, mesh)

        self._session.tasks.foreground("Looking for forms", work, done)

    # ---- those that are there

    def _remove(self, name: str) -> None:
        self._session.do(RemoveDatums(names=(name,)))

    def _rename(self) -> None:
        (datum,) = self._shown.chosen()
        text, ok = QInputDialog.getText(self._view.window(), "Rename a datum", "Its name:", text=datum.name)
        if ok and text.strip() and text.strip() != datum.name:
            self._session.do(RenameDatum(datum=datum.name, to=text.strip()[:60]))

    def _make(self) -> None:
        way, of = self.way.currentData(), self._shown.chosen()
        if way is not None:
            value = self.value.value() if self.value.isEnabled() else 0.0
            self._session.do(MakeDatum(how=way, of=tuple(d.name for d in of), value=value))

    def _measure(self) -> None:
        of, mesh = self._shown.chosen(), self._session.mesh

        def work(progress: Progress) -> object:
            try:
                return form_reading(of[0], mesh) if len(of) == 1 else between_reading(of[0], of[1], mesh)
            except BadInput as error:
                return str(error)

        def done(reading: object) -> None:
            if isinstance(reading, str) or reading is None:
                self._session.message.emit(reading or f"no surface lies on {of[0].name}; tick two datums", True)
            elif self._session.mesh is mesh:
                self._view.readings.add(reading, [mesh])
                self._session.message.emit(reading.text, False)

        self._session.tasks.behind(f"measuring datums {next(_numbers)}", work, done)

    def _section_there(self) -> None:
        (datum,) = self._shown.chosen()
        self._view.section_bar.stand(datum.direction, float(datum.direction @ datum.place))

    # ---- to the axes

    def _to_axes(self) -> ToAxes:
        chosen = [(datum.currentData(), axis.currentData()) for datum, axis in self.rows]
        chosen = [(name, axis) for name, axis in chosen if name]
        return ToAxes(datums=tuple(name for name, _ in chosen), to=tuple(axis for _, axis in chosen))

    def _propose_axis(self, row: int) -> None:
        """Let the axis of a row be the one that turns the part least; the way to a second place may be turned too."""
        known = {d.name: d for d in self._shown.kept}
        rows = [(known.get(datum.currentData()), axis.currentData()) for datum, axis in self.rows]
        chosen, before = rows[row][0], [(d, axis) for d, axis in rows[:row] if d is not None]
        if chosen is not None:
            _, field = self.rows[row]
            field.setCurrentIndex(field.findData(nearest_axis(chosen, before)))
        self._axes_changed()

    def _axes_changed(self, *_: object) -> None:
        self._show_bound()
        self.changed.emit()

    def _show_bound(self) -> None:
        action, mesh = self._to_axes(), self._session.mesh
        self._why = ""
        if mesh is None or not action.datums:
            self.bound.setText("Choose a plane, an axis or a point for each axis.")
            self._why = "choose the datums that come to the axes first"
            return
        try:
            bound = action.bound(self._shown.kept, mesh.box.mean(axis=0))
        except BadInput as error:
            self.bound.setText(f"{str(error)[:1].upper()}{str(error)[1:]}.")
            self._why = str(error)
            return
        free = ", ".join(bound.free)
        text = f"Free still: {free}." if free else "All six ways are bound."
        if bound.idle:
            text += f" {' and '.join(bound.idle)} {'binds' if len(bound.idle) == 1 else 'bind'} nothing more."
        if bound.off_deg >= 0.01:
            text += f" The later ones miss their axes by {degrees_told(bound.off_deg)}°, as the part is not square."
        self.bound.setText(text)

    # ---- files

    def _target(self, named: str, kinds: Mapping[str, str]) -> Path | None:
        piece, settings = self._session.job.piece, self._view.settings
        folder = self._session.exporting.folder or folder_for(piece.scan.path, settings.export_folder)
        suggested = Path(folder) / f"{bare_name(piece.name)}-{named}{next(iter(kinds))}"
        target = choose_target(self._view.window(), f"Save {named}", suggested, kinds, [settings.export_folder])
        if target is not None:
            self._session.exporting.folder = str(target.parent)
        return target

    def _write(self, title: str, target: Path, write: Callable[[], None]) -> None:
        def work(progress: Progress) -> None:
            write()

        self._session.tasks.foreground(
            title, work, lambda _: self._session.message.emit(f"Written: {target.name}", False)
        )

    def _save(self) -> None:
        piece, datums = self._session.job.piece, self._shown.chosen() or list(self._shown.kept)
        target = self._target("datums", _FILES)
        if target is not None:
            self._write("Saving datums", target, lambda: write_drawing(target, datums, (), piece.name, True))

    def _save_section(self) -> None:
        plane, piece, mesh = self._view.section_bar.plane(), self._session.job.piece, self._session.mesh
        if plane is None:
            self._session.message.emit("turn Section on above the view, and move it to where it shall be", True)
            return
        target = self._target("section", _OUTLINES)
        if target is not None:
            self._write(
                "Saving the section",
                target,
                lambda: write_drawing(target, (), [section_drawn(mesh, *plane, "section")], piece.name, True),
            )

    # ---- what is shown

    def refresh(self, *_: object) -> None:
        """Show the datums as they are."""
        piece = self._session.job.piece
        proposed, kept = bool(self._shown.proposed), self._shown.kept
        for button in (self.by_click, self.find):
            button.setEnabled(piece is not None)
        some = self._session.selected.count > 0 or self._wanted() == "symmetry"
        self.to_selection.setEnabled(some)
        self.to_selection.setToolTip("" if some else "select some of the surface first, with the tools at the left")
        self._list_datums()
        self.none.setVisible(not self._shown.all())
        self.is_on.setVisible(bool(self._shown.all()))
        self.heading.setText(f"Found: {counted(len(self._shown.proposed), 'form')}" if proposed else "Datums")
        chosen = [] if proposed else self._shown.chosen()
        self._show_ways(chosen)
        self.using.setVisible(bool(chosen))
        self.use_row.setVisible(bool(chosen))
        self.section.setVisible(bool(chosen))
        self.measure.setEnabled(len(chosen) in (1, 2))
        self.section.setEnabled(len(chosen) == 1 and (chosen[0].form == "plane" or chosen[0].form in LINEAR))
        self.rename.setEnabled(len(chosen) == 1)
        usable = bool(kept) and not proposed
        for widget in (self.axes_heading, self.bound, *(field for row in self.rows for field in row)):
            widget.setVisible(usable)
        self._fill_rows(kept)
        self._fill_held(kept)
        self._show_bound()
        self.save.setEnabled(bool(kept))
        self.changed.emit()

    def _list_datums(self) -> None:
        listed = self._shown.all(), bool(self._shown.proposed)
        if listed != self._listed:
            self._listed = listed
            self.ticks = {}
            while self._lines.count():
                gone = self._lines.takeAt(0).widget()
                gone.hide()
                gone.deleteLater()
            for datum in listed[0]:
                self._lines.addWidget(self._line_for(datum, listed[1]))
        ticked = set(self._shown.ticked)
        for name, box in self.ticks.items():
            box.blockSignals(True)
            box.setChecked(name in ticked)
            box.blockSignals(False)

    def _line_for(self, datum: Datum, proposed: bool) -> QWidget:
        tick = TickBox(f"{datum.name}  {datum.form} {datum.measure()}".rstrip())
        fits = f"fits within {millimetres(datum.rms_mm)} mm" if datum.rms_mm > 0 else ""
        area = f"{100 * datum.share:.1f} % of the area" if datum.share > 0 else ""
        tick.setToolTip(", ".join(part for part in (datum.told, fits, area) if part))
        tick.toggled.connect(lambda on, name=datum.name: self._shown.tick(name, on))
        self.ticks[datum.name] = tick
        if proposed:
            return tick
        away = Button("×")
        away.setAccessibleName(f"Remove the datum {datum.name}")
        away.setToolTip("Remove this datum; undo brings it back")
        away.setFixedWidth(px(28))
        away.clicked.connect(lambda _=False, name=datum.name: self._remove(name))
        row, box = line_of(tick, away)
        box.setStretch(0, 1)
        return row

    def _show_ways(self, chosen: list[Datum]) -> None:
        ways = ways_for(chosen)
        before = [self.way.itemData(i) for i in range(self.way.count())]
        if before != ways:
            self.way.blockSignals(True)
            self.way.clear()
            for way in ways:
                text = WAYS[way]
                if way == "parallel" and len(chosen) == 1:
                    text = "beside it, at a distance"
                self.way.addItem(f"a datum {text}", way)
            self.way.blockSignals(False)
        self.way.setVisible(bool(ways))
        self.make_row.setVisible(bool(ways))
        self._show_value()

    def _show_value(self, *_: object) -> None:
        way = self.way.currentData()
        valued = way in _VALUED and (way == "turned" or len(self._shown.chosen()) == 1)
        if valued:
            self.value.setSuffix(f" {_VALUED[way][1]}")
        self.value.setEnabled(valued)
        self.value.setVisible(valued)
        self._by.setVisible(valued)

    def _fill_rows(self, kept: tuple[Datum, ...]) -> None:
        names = ["", *(d.name for d in kept)]
        for datum, _ in self.rows:
            if [datum.itemData(i) or "" for i in range(datum.count())] == names:
                continue
            was = datum.currentData()
            datum.blockSignals(True)
            datum.clear()
            datum.addItem("–", "")
            for one in kept:
                datum.addItem(f"{one.name} {one.form}", one.name)
            datum.setCurrentIndex(max(0, datum.findData(was)) if was else 0)
            datum.blockSignals(False)

    # ---- the copper button

    def offered(self) -> tuple[str, str]:
        """What the copper button would do, and why it cannot; nothing where it can."""
        if self._shown.proposed:
            count = len(self._shown.chosen())
            return f"Take {counted(count, 'datum')}", "" if count else "tick those to be taken"
        return "Bring to the axes", self._why

    def do(self) -> None:
        """Take what is proposed, or bring the datums to the axes."""
        if self._shown.proposed:
            found = self._shown.chosen()
            self._shown.leave()
            if found:
                self._session.do(
                    FitDatums(
                        regions=tuple(d.region for d in found),
                        forms=tuple(d.form for d in found),
                        names=tuple(d.name for d in found),
                    )
                )
        elif not self._why:
            self._session.do(self._to_axes())

    def put_away(self) -> bool:
        """Leave what is proposed."""
        return self._shown.leave()
