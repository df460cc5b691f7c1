"""Release: the checks, and writing the file."""

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
)
from PySide6.QtWidgets import QWidget as Widget

from tinsnip.app.widgets.panels import Panel
from tinsnip.formats import FORMATS
from tinsnip.words import megabytes

__all__ = ["ReleaseTray"]


class ReleaseTray(Panel):
    """The checks, and writing the file."""

    title = "Release"
    export_asked = Signal(str)

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
        self.copper_button("Export", lambda: self.export_asked.emit(self.format.currentData()))
        self.column.addWidget(self.written)
        self.format.currentIndexChanged.connect(self.refresh)
        self.session.released.connect(self.refresh)

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
        last = self.session.last_release
        if last is not None and last[1] is mesh:
            self.written.setText(f"Written and read back: {last[0].name}\n{last[2].readiness.state}")
        else:
            self.written.setText("")
