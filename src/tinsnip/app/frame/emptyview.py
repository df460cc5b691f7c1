"""What the view shows before anything is open: where to drop a scan, the demo scans, the recent ones."""

import time
from pathlib import Path

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from tinsnip.app.frame.leftovers import PICTURE, picture_label
from tinsnip.formats import FORMATS
from tinsnip.words import counted

__all__ = ["DEMOS", "EmptyView", "RecentJob"]

DEMOS = {
    ("pump-cover",): "Demo: pump cover\na cast cover on its bed",
    ("fountain-spout",): "Demo: fountain spout\ncoloured stone, no base",
    ("gauge-lantern-upper", "gauge-lantern-lower"): "Demo: gauge lantern\ntwo part-scans",
}
"""The demo scans that open together, and what their card says."""

_MOST_SCANS, _MOST_JOBS = 4, 3
RecentJob = tuple[Path, bytes | None, float, int]
"""A job's file, its small picture, when it was saved (seconds since the epoch), and how many steps it has."""


class EmptyView(QFrame):
    """The card in the middle of an empty view."""

    open_asked = Signal()
    demo_asked = Signal(object)
    recent_asked = Signal(object)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.setMinimumWidth(620)
        box = QVBoxLayout(self)
        box.setContentsMargins(28, 24, 28, 24)
        box.setSpacing(10)
        title = QLabel("Drop a scan here")
        title.setObjectName("title")
        box.addWidget(title)
        names = [name.upper() for name in FORMATS]
        text = QLabel(f"{', '.join(names[:-1])} or {names[-1]}, up to 10 million triangles; or a job")
        text.setObjectName("muted")
        box.addWidget(text)
        open_button = QPushButton("Open a scan or a job…    Ctrl+O")
        open_button.setObjectName("democard")
        open_button.clicked.connect(lambda: self.open_asked.emit())
        box.addWidget(open_button)
        demos = QHBoxLayout()
        for demo, about in DEMOS.items():
            button = QPushButton(about)
            button.setObjectName("democard")
            button.clicked.connect(lambda _=False, demo=demo: self.demo_asked.emit(demo))
            demos.addWidget(button)
        box.addLayout(demos)
        self._jobs = QHBoxLayout()
        self._jobs.setSpacing(10)
        self._recent = QVBoxLayout()
        self._recent.setSpacing(4)
        self._jobs_title = self._heading("Recent jobs")
        self._scans_title = self._heading("Recent scans")
        for part in (self._jobs_title, self._jobs, self._scans_title, self._recent):
            box.addWidget(part) if isinstance(part, QWidget) else box.addLayout(part)

    @staticmethod
    def _heading(text: str) -> QLabel:
        label = QLabel(text)
        label.setObjectName("heading")
        label.hide()
        return label

    @staticmethod
    def _clear(rows: QVBoxLayout | QHBoxLayout) -> None:
        while rows.count():
            gone = rows.takeAt(0).widget()
            if gone is not None:
                gone.hide()
                gone.deleteLater()

    def show_jobs(self, jobs: list[RecentJob]) -> None:
        """Offer the jobs saved lately, each with its picture."""
        self._clear(self._jobs)
        self._jobs_title.setVisible(bool(jobs))
        for path, picture, saved, steps in jobs[:_MOST_JOBS]:
            when = f"{time.strftime('%-d %b, %H:%M', time.localtime(saved))} · {counted(steps, 'step')}"
            button = QToolButton()
            button.setObjectName("jobcard")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setIcon(QIcon(picture_label(picture).pixmap()))
            button.setIconSize(QSize(*PICTURE))
            name = button.fontMetrics().elidedText(path.stem, Qt.TextElideMode.ElideMiddle, 150)
            button.setText(f"{name}\n{when}")
            button.setAccessibleName(f"Job {path.name}")
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, path=path: self.recent_asked.emit(path))
            self._jobs.addWidget(button)
        if jobs:
            self._jobs.addStretch(1)
        self.fit()

    def fit(self) -> None:
        """Take as much room as what is shown needs."""
        for widget in self.findChildren(QWidget):
            widget.ensurePolished()
        self.layout().invalidate()
        self.layout().activate()
        self.resize(self.layout().sizeHint())

    def show_recent(self, paths: list[Path]) -> None:
        """Offer the scans opened lately."""
        self._clear(self._recent)
        self._scans_title.setVisible(bool(paths))
        for path in paths[:_MOST_SCANS]:
            button = QPushButton(f"{path.name}    {path.parent}")
            button.setObjectName("recent")
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, path=path: self.recent_asked.emit(path))
            self._recent.addWidget(button)
        self.fit()
