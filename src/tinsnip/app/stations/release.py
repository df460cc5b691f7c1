"""Release: the checks, and writing the file."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
)
from PySide6.QtWidgets import QWidget as Widget

from tinsnip.app.state.session import Session
from tinsnip.app.stations.station import Station, Tray
from tinsnip.formats import FORMATS
from tinsnip.words import megabytes

__all__ = ["RELEASE", "ReleaseTray"]


class ReleaseTray(Tray):
    """The checks, and writing the file."""

    title = "Release"

    def build(self) -> None:
        self.head_text.setText("What a closed solid must be. The file is read back and checked before it counts.")
        self.checks: dict[str, QLabel] = {}
        for name in ("closed", "manifold", "outward", "volume", "shells", "voids", "crossings"):
            self.checks[name] = self.figure(name)
        self.column.addSpacing(6)
        row = Widget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(QLabel("Format"))
        box.addStretch(1)
        self.format = QComboBox()
        self.format.setAccessibleName("Format of the file")
        for name in FORMATS:
            self.format.addItem(FORMATS[name].title, name)
        box.addWidget(self.format)
        self.column.addWidget(row)
        self.size = self.figure("On disk")
        self.frame = QCheckBox("in the scanner's own frame")
        self.frame.setToolTip("Undo turning, placing and scaling in the file only")
        self.column.addWidget(self.frame)
        self.provenance = QCheckBox("say what was measured and made")
        self.provenance.setToolTip("Each triangle's provenance as a property of the file; PLY only")
        self.column.addWidget(self.provenance)
        self.written = QLabel()
        self.written.setObjectName("muted")
        self.written.setWordWrap(True)
        self.copper_button("Export", self.ask_export)
        self.column.addWidget(self.written)
        self.format.currentIndexChanged.connect(self.refresh)
        self.session.released.connect(self.refresh)

    def ask_export(self) -> None:
        """Ask where to write, and export."""
        piece, settings, name = self.session.job.piece, self.view.settings, self.format.currentData()
        if piece is None:
            return
        folder = settings.export_folder
        if not folder or not Path(folder).is_dir():
            folder = str(piece.scan.path.parent)
        suffix = FORMATS[name].suffix
        suggested = str(Path(folder) / f"{bare_name(piece.name)}-solid{suffix}")
        path, _ = QFileDialog.getSaveFileName(self, "Export", suggested, f"{FORMATS[name].title} (*{suffix})")
        if path:
            target = Path(path)
            if target.suffix.lower() != suffix:
                target = target.with_name(target.name + suffix)
            settings.export_folder = str(target.parent)
            settings.save()
            said = self.provenance.isChecked() and FORMATS[name].holds_provenance
            self.session.export(target, self.frame.isChecked(), said)

    def refresh(self, *_: object) -> None:
        found, mesh = self.session.examination, self.session.mesh
        if mesh is None:
            return
        name = self.format.currentData()
        self.provenance.setEnabled(FORMATS[name].holds_provenance)
        self.size.setText(megabytes(FORMATS[name].size_for(mesh)))
        if found is None:
            return
        for check in found.readiness.checks:
            if check.name in self.checks:
                text = {True: "✓ yes", False: f"✗ {check.brief or check.reason}", None: "not checked"}[check.passed]
                label = self.checks[check.name]
                label.setText(label.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 180))
                label.setToolTip(check.reason if check.passed is False else "")
        self.copper.setText(
            f"Export {name.upper()}…" if found.readiness.ready else f"Export {name.upper()}, not ready…"
        )
        last = self.session.last_release()
        if last is not None:
            self.written.setText(f"Written and read back: {last[0].name}\n{last[1].readiness.state}")
        else:
            self.written.setText("")


def bare_name(name: str) -> str:
    """A piece's name as a file's, without what a folder's name or an ending would be."""
    kept = "".join(c if c.isalnum() or c in " -_.()," else "-" for c in Path(name).name).strip(" .")
    stem, dot, ending = kept.rpartition(".")
    return (stem if dot and ending.lower() in FORMATS else kept) or "part"


def _state(session: Session) -> tuple[str, int | None]:
    checks = session.examination.readiness.checks
    failed, passed = sum(c.passed is False for c in checks), sum(c.passed is True for c in checks)
    return f"{passed} of {len(checks)} checks pass", failed


RELEASE = Station("Release", ReleaseTray, _state, shows_shells=True)
