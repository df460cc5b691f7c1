"""Release: the checks, and writing the file."""

from pathlib import Path

from PySide6.QtCore import QSignalBlocker, Qt, QUrl
from PySide6.QtGui import QDesktopServices

from tinsnip.app.state.session import Session
from tinsnip.app.stations.profileeditor import ProfileEditor
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.askedlist import AskedList
from tinsnip.app.widgets.fields import Button, DropDown, TickBox
from tinsnip.app.widgets.filedialog import bare_name, choose_target, folder_for
from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import px
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, UNITS
from tinsnip.job import Profile, Writing, load_profile, log_of, profiles, write_report
from tinsnip.survey import Finding, Kind
from tinsnip.survey.readiness import Check
from tinsnip.survey.steadiness import STANDS
from tinsnip.words import counted, megabytes, millimetres

__all__ = ["RELEASE", "ReleaseTray"]


_GOOD = {
    "closed": "no open edge",
    "manifold": "no tangles",
    "outward": "faces outwards",
    "volume": "has volume",
    "shells": "one shell",
    "voids": "none",
    "crossings": "none",
}
"""What was found of a check that passed."""
_CHECKS = tuple(_GOOD)
_NEAR = 0.06
"""Share of the part's size that is shown of a place."""
_NONE, _NEW = "none", "a new one…"


class ReleaseTray(Tray):
    """The checks, and writing the file."""

    title = "Release: check and export"

    def build(self) -> None:
        self.head_text.setText("The file is written, read back and checked before it counts as released.")
        self.checks = {name: self.figure(name.capitalize()) for name in _CHECKS}
        for label in self.checks.values():
            label.setWordWrap(True)
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.stands = self.figure("On the bed")
        self.profile = DropDown("Profile")
        self.profile.setToolTip("What your machine or client asks for, on top of what every solid has to be")
        self.edit = Button("Change…")
        self.edit.clicked.connect(self.edit_profile)
        self.row("Profile", None, self.profile, self.edit)
        self.profile_checks = AskedList(self.go_to)
        self.add(self.profile_checks)
        self.turn = self.button("Turn it so that it fits", self.turn_to_fit)
        self.heading("The file")
        self.writes = self.drop_down(
            "Writes",
            {
                "the piece worked on": "one",
                "each piece that is shown": "each",
                "all of them in one file": "together",
            },
        )
        self.writes.currentIndexChanged.connect(self.refresh)
        self.format = self.drop_down("Format", {FORMATS[name].title: name for name in FORMATS})
        for field in (self.writes, self.format):  # wide enough for its texts, and no wider than the tray
            field.setSizeAdjustPolicy(DropDown.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            field.setFixedWidth(px(184))
        self.size = self.figure("On disk")
        more = self.more("unit, scale, frame, further files")
        self.unit = more.drop_down("Its numbers are", {name: name for name in UNITS})
        self.scale = more.number("Scaled to", 0.1, 10000.0, 1, "%", 10.0)
        self.scale.setValue(100.0)
        also, self.also = [], {}
        for name, form in FORMATS.items():
            self.also[name] = TickBox(form.suffix[1:].upper() if name != "stl-text" else "STL, text")
            self.also[name].setToolTip(f"Write {form.title} too")
            also.append(self.also[name])
        more.row("And as", *also[:4], None)
        more.row("", *also[4:], None)
        self.frame = more.tick("in the scanner's own frame", "Undo turning, placing and scaling in the file only")
        self.provenance = more.tick(
            "say what was measured and made", "Each triangle's provenance as a property of the file; PLY only"
        )
        self.written = self.explain()
        self.folder_button = self.button("Open the folder", self.open_folder)
        self.layers = self.button("Look at it layer by layer", lambda: self.view.layer_panel.set_on(True))
        self.report = self.button("Write a report…", self.ask_report)
        self.report.setToolTip("One page for the client: pictures, checks, figures, what was measured and what made")
        self.copper_button("Export", self.ask_export)
        self.list_profiles(self.view.settings.profile)
        self.profile.currentIndexChanged.connect(self.choose_profile)
        self.format.currentIndexChanged.connect(self.choose_format)
        self.unit.currentIndexChanged.connect(self.refresh)
        self.session.exporting.released.connect(self.refresh)
        self.session.judging.changed.connect(self.refresh)

    def enter(self) -> None:
        self.session.judging.go_live(True)
        self._want_layers()

    def leave(self) -> None:
        self.session.judging.go_live(False)
        self.session.layering.want(self, False)

    def _want_layers(self) -> None:
        """A profile that asks after layers has all of them looked at."""
        profile = self.session.judging.profile
        asks = profile is not None and profile.no_free_islands
        if asks:
            self.session.layering.set_height(profile.layer_height_mm)
        self.session.layering.want(self, asks and self.session.station == RELEASE.name)

    # ---- the profile

    def list_profiles(self, chosen: str) -> None:
        """Offer what profiles there are, and use one of them by its name."""
        known = profiles()
        with QSignalBlocker(self.profile):
            self.profile.clear()
            for name in (_NONE, *known, _NEW):
                self.profile.addItem(name, name if name in known else "")
            self.profile.setCurrentIndex(max(0, self.profile.findData(chosen) if chosen in known else 0))
        self.choose_profile()

    def choose_profile(self) -> None:
        """Judge by what is chosen; a new one is made first."""
        if self.profile.currentText() == _NEW and not self.profile.currentData():
            before = self.session.judging.profile
            with QSignalBlocker(self.profile):
                self.profile.setCurrentIndex(self.profile.findText(before.name if before is not None else _NONE))
            self._open_editor(Profile())
            return
        name, own = self.profile.currentData(), None
        if name:
            try:
                own = load_profile(name)
            except BadInput as error:
                self.session.message.emit(str(error), True)
                with QSignalBlocker(self.profile):
                    self.profile.setCurrentIndex(0)
        self.edit.setEnabled(own is not None)
        if own is not None and own.file_format != "any":
            self.format.setCurrentIndex(self.format.findData(own.file_format))
        if own is not None:
            self.unit.setCurrentIndex(self.unit.findData(own.file_unit))
        settings = self.view.settings
        if settings.profile != (own.name if own is not None else ""):
            settings.profile = own.name if own is not None else ""
            settings.save()
        self.session.judging.judge_by(own)
        self._want_layers()
        self.refresh()

    def edit_profile(self) -> None:
        """Change the profile that is in use."""
        if self.session.judging.profile is not None:
            self._open_editor(self.session.judging.profile)

    def _open_editor(self, profile: Profile) -> None:
        editor = ProfileEditor(profile, self.window())
        if editor.exec() == ProfileEditor.DialogCode.Accepted:
            self.list_profiles(editor.result_name)

    def choose_format(self) -> None:
        """It is to be written as something else."""
        self.session.judging.write_as(self.format.currentData())
        self.refresh()

    def go_to(self, check: Check) -> None:
        """Look at where a check is worst."""
        if check.place is not None:
            size = _NEAR * self.session.mesh.diagonal
            place = Finding("", Kind.CROSSING, check.name, check.place, size, 1, "", -1, check.place[None])
            self.session.fly_to.emit(place)
            self.session.hovered.emit(place)

    def turn_to_fit(self) -> None:
        """Turn the part as the machine's room wants it."""
        if self.session.judging.remedy:
            self.session.do_all(self.session.judging.remedy)

    # ---- the file

    def ask_export(self) -> None:
        """Ask where to write, and export."""
        piece, settings, name = self.session.job.piece, self.view.settings, self.format.currentData()
        if piece is None:
            self.session.message.emit("there is nothing to export; open a scan first", True)
            return
        if self.session.tasks.busy is not None:
            self.session.message.emit(f"{self.session.tasks.title} is still going on; export after it", True)
            return
        ready, last = self.session.judging.readiness, self.session.exporting.folder
        kinds = {form.suffix: form.title for form in FORMATS.values()} | {FORMATS[name].suffix: FORMATS[name].title}
        solid = "-solid" if ready is not None and ready.ready else ""
        folder = last or folder_for(piece.scan.path, settings.export_folder)
        suggested = Path(folder) / f"{bare_name(piece.name)}{solid}{FORMATS[name].suffix}"
        target = choose_target(self.window(), f"Export {piece.name}", suggested, kinds, [settings.export_folder])
        if target is None:
            return
        if FORMATS[name].suffix != target.suffix.lower():
            name = next(n for n, form in FORMATS.items() if form.suffix == target.suffix.lower())
            self.format.setCurrentIndex(self.format.findData(name))
        settings.export_folder = self.session.exporting.folder = str(target.parent)
        settings.save()
        writings = self.writings(target, name)
        taken = [one.path for one in writings if one.path != target and one.path.exists()]
        if taken and not self._may_replace(taken):
            return
        self.session.exporting.write(*writings)

    def writings(self, target: Path, name: str) -> list[Writing]:
        """The files that an export to a name comes to: formats, and pieces in one or one each."""
        job, shown = self.session.job, tuple(self.session.shown_pieces())
        formats = [name, *(other for other, tick in self.also.items() if tick.isChecked() and other != name)]
        how = self.writes.currentData()
        sets = {"one": (job.piece,), "together": shown}.get(how)
        found = []
        for other in formats:
            path = target if other == name else target.with_suffix(FORMATS[other].suffix)
            if other != name and path == target:  # text and binary of one format
                path = target.with_name(f"{target.stem}-{other}{target.suffix}")
            own = dict(format_name=other, scanner_frame=self.frame.isChecked(), provenance=self.provenance.isChecked(),
                       unit=self.unit.currentData(), scale=self.scale.value() / 100.0)  # fmt: skip
            if sets is not None:
                found.append(Writing(path, sets, **own))
                continue
            names: set[str] = set()
            for piece in shown:
                stem = bare_name(piece.name)
                while stem in names:
                    stem += "-2"
                names.add(stem)
                found.append(Writing(path.with_name(f"{path.stem}-{stem}{path.suffix}"), (piece,), **own))
        return found

    def _may_replace(self, taken: list[Path]) -> bool:
        replace, stay = "Replace them", "Stop"
        text = f"{counted(len(taken), 'file is', 'files are')} there already: {', '.join(p.name for p in taken[:4])}"
        answers = (replace, stay)
        return ask(self.window(), "Files are replaced", text, str(taken[0].parent), answers, stay, stay) == replace

    def ask_report(self) -> None:
        """Ask where to, and write the page about the part."""
        session, settings = self.session, self.view.settings
        piece = session.job.piece
        if piece is None:
            return
        folder = session.exporting.folder or folder_for(piece.scan.path, settings.export_folder)
        suggested = Path(folder) / f"{bare_name(piece.name)}-report.html"
        target = choose_target(
            self.window(), f"Report of {piece.name}", suggested, {".html": "HTML"}, [settings.export_folder]
        )
        if target is None:
            return
        log, profile = log_of(session.job, piece), session.judging.profile
        readings = [(one.kind, one.text) for one in self.view.readings.now()]

        def done(_: object) -> None:
            session.message.emit(f"Wrote {target.name}", False)

        session.tasks.foreground(
            f"Writing {target.name}", lambda p: write_report(piece, log, profile, readings, target, p), done
        )

    def open_folder(self) -> None:
        """Show the folder of what was written last."""
        last = self.session.exporting.last
        if last is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(last[0].parent)))

    def refresh(self, *_: object) -> None:
        judging, mesh = self.session.judging, self.session.mesh
        if mesh is None:
            return
        ready = judging.readiness
        name, job = self.format.currentData(), self.session.job
        self.provenance.setEnabled(FORMATS[name].holds_provenance)
        self.stands.setText(_stands(float(mesh.box[0, 2]), mesh.diagonal))
        self.stands.setToolTip("" if self.stands.text().startswith("✓") else "2 Stand lays it on the bed, z = 0")
        self.size.setText(megabytes(FORMATS[name].size_for(mesh)))
        for i in range(self.format.count()):
            kind = FORMATS[self.format.itemData(i)]
            self.format.setItemText(i, f"{kind.title} · {megabytes(kind.size_for(mesh))}")
        self.unit.setEnabled(FORMATS[name].own_unit is None)
        self.unit.setToolTip("" if self.unit.isEnabled() else f"{FORMATS[name].title} says its unit itself")
        self.profile_checks.show_checks(judging.checks)
        self.turn.setVisible(bool(judging.remedy))
        others = len(job.pieces) - 1
        self.writes.setEnabled(others > 0)
        how = self.writes.currentData() if others else "one"
        shown = len(self.session.shown_pieces())
        told = f"{job.piece.name}; {counted(others, 'other piece')} not written" if others else ""
        told = {
            "each": f"{counted(shown, 'shown piece')}, a file each",
            "together": f"{counted(shown, 'shown piece')} side by side",
        }.get(how, told)
        for other, tick in self.also.items():
            tick.setVisible(other != name)
        last = self.session.exporting.last
        text = f"Will write {told}." if told else ""
        if last is not None:
            text = f"Written and read back: {last[0].name}\n{last[1].state}"
        self.written.setText(text)
        self.written.setVisible(bool(text))
        self.folder_button.setVisible(last is not None)
        if ready is None:
            for label in self.checks.values():
                label.setText("…")
            return
        for check in ready.checks:
            if check.name in self.checks:
                good = _GOOD.get(check.name, "yes")
                text = {True: f"✓ {good}", False: f"✗ {check.brief or check.reason}", None: "not checked"}[check.passed]
                self.checks[check.name].setText(text)
                self.checks[check.name].setToolTip(check.reason if check.passed is False else "")
        kind = FORMATS[name].suffix[1:].upper()
        self.offer(f"Export {kind}…" if ready.ready else f"Export {kind}, not ready…")


def _stands(lowest: float, size: float) -> str:
    """Whether a part stands on the bed, z = 0; it need not, to be ready, but whoever prints it wants to know."""
    if abs(lowest) <= STANDS * size:
        return "✓ stands on z = 0"
    return f"✗ {millimetres(abs(lowest))} mm {'above' if lowest > 0 else 'below'} z = 0"


def _state(session: Session) -> tuple[str, int | None]:
    checks = session.judging.readiness.checks
    failed, passed = sum(c.passed is False for c in checks), sum(c.passed is True for c in checks)
    return f"{passed} of {len(checks)} checks pass", failed


RELEASE = Station("Release", ReleaseTray, _state, lambda found: found.layer_faults + found.outside, shows_shells=True)
