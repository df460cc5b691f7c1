"""Release: the checks, and writing the file."""

from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.app.widgets.filedialog import bare_name, choose_target, folder_for
from tinsnip.formats import FORMATS
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
_STANDS = 2e-3
"""Share of its size by which a part may be off the bed and still stand on it: scanned feet are not flat."""


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
        self.writes = self.figure("Writes")
        self.format = self.drop_down("Format", {FORMATS[name].title: name for name in FORMATS})
        self.size = self.figure("On disk")
        self.frame = self.tick("in the scanner's own frame", "Undo turning, placing and scaling in the file only")
        self.provenance = self.tick(
            "say what was measured and made", "Each triangle's provenance as a property of the file; PLY only"
        )
        self.written = self.explain()
        self.folder_button = self.button("Open the folder", self.open_folder)
        self.copper_button("Export", self.ask_export)
        self.format.currentIndexChanged.connect(self.refresh)
        self.session.released.connect(self.refresh)

    def ask_export(self) -> None:
        """Ask where to write, and export."""
        piece, settings, name = self.session.job.piece, self.view.settings, self.format.currentData()
        if piece is None:
            self.session.message.emit("there is nothing to export; open a scan first", True)
            return
        if self.session.tasks.busy is not None:
            self.session.message.emit(f"{self.session.tasks.title} is still going on; export after it", True)
            return
        found, last = self.session.examination, self.session.folder_used
        kinds = {f.suffix: f.title for f in FORMATS.values()}
        solid = "-solid" if found is not None and found.readiness.ready else ""
        folder = last or folder_for(piece.scan.path, settings.export_folder)
        suggested = Path(folder) / f"{bare_name(piece.name)}{solid}{FORMATS[name].suffix}"
        target = choose_target(self.window(), f"Export {piece.name}", suggested, kinds, [settings.export_folder])
        if target is None:
            return
        chosen = next(n for n, f in FORMATS.items() if f.suffix == target.suffix.lower())
        self.format.setCurrentIndex(self.format.findData(chosen))
        settings.export_folder = self.session.folder_used = str(target.parent)
        settings.save()
        said = self.provenance.isChecked() and FORMATS[chosen].holds_provenance
        self.session.export(target, self.frame.isChecked(), said)

    def open_folder(self) -> None:
        """Show the folder of what was written last."""
        last = self.session.last_release()
        if last is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(last[0].parent)))

    def refresh(self, *_: object) -> None:
        found, mesh = self.session.examination, self.session.mesh
        if mesh is None:
            return
        name, job = self.format.currentData(), self.session.job
        self.provenance.setEnabled(FORMATS[name].holds_provenance)
        self.stands.setText(_stands(float(mesh.box[0, 2]), mesh.diagonal))
        self.stands.setToolTip("" if self.stands.text().startswith("✓") else "2 Stand lays it on the bed, z = 0")
        self.size.setText(megabytes(FORMATS[name].size_for(mesh)))
        others = len(job.pieces) - 1
        self.writes.setText("the piece worked on" if others else "the part")
        told = f"{job.piece.name}" + (f"; {counted(others, 'other piece')} not written" if others else "")
        self.writes.setToolTip(told)
        last = self.session.last_release()
        text = f"Will write {told}." if others else ""
        if last is not None:
            text = f"Written and read back: {last[0].name}\n{last[1].readiness.state}"
        self.written.setText(text)
        self.written.setVisible(bool(text))
        self.folder_button.setVisible(last is not None)
        if found is None:
            for label in self.checks.values():
                label.setText("…")
            return
        for check in found.readiness.checks:
            if check.name in self.checks:
                good = _GOOD.get(check.name, "yes")
                text = {True: f"✓ {good}", False: f"✗ {check.brief or check.reason}", None: "not checked"}[check.passed]
                self.checks[check.name].setText(text)
                self.checks[check.name].setToolTip(check.reason if check.passed is False else "")
        self.offer(f"Export {name.upper()}…" if found.readiness.ready else f"Export {name.upper()}, not ready…")


def _stands(lowest: float, size: float) -> str:
    """Whether a part stands on the bed, z = 0; it need not, to be ready, but whoever prints it wants to know."""
    if abs(lowest) <= _STANDS * size:
        return "✓ stands on z = 0"
    return f"✗ {millimetres(abs(lowest))} mm {'above' if lowest > 0 else 'below'} z = 0"


def _state(session: Session) -> tuple[str, int | None]:
    checks = session.examination.readiness.checks
    failed, passed = sum(c.passed is False for c in checks), sum(c.passed is True for c in checks)
    return f"{passed} of {len(checks)} checks pass", failed


RELEASE = Station("Release", ReleaseTray, _state, shows_shells=True)
