"""What the view shows before anything is open: where to drop a scan, the demo scans, the recent ones."""

import time
from pathlib import Path

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QBoxLayout, QFrame, QHBoxLayout, QLabel, QProgressBar, QToolButton, QVBoxLayout, QWidget

from tinsnip.app.frame.leftovers import PICTURE, picture_label
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.theme import px
from tinsnip.formats import ENDINGS
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
    walk_asked = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._room = px(640)
        self._cards: list[QToolButton] = []
        self._lines: list[Button] = []
        self.setObjectName("card")
        box = QVBoxLayout(self)
        box.setContentsMargins(px(28), px(24), px(28), px(24))
        box.setSpacing(px(10))
        title = QLabel("Drop a scan here")
        title.setObjectName("title")
        box.addWidget(title)
        names = [ending[1:].upper() for ending in ENDINGS]
        text = QLabel(f"{', '.join(names[:-1])} or {names[-1]}, up to 10 million triangles; or a job")
        text.setObjectName("muted")
        text.setWordWrap(True)
        box.addWidget(text)
        open_button = Button("Open a scan or a job…    Ctrl+O")
        open_button.setObjectName("democard")
        open_button.clicked.connect(lambda: self.open_asked.emit())
        box.addWidget(open_button)
        self._demos = demos = QBoxLayout(QBoxLayout.Direction.LeftToRight)
        for demo, about in DEMOS.items():
            button = Button(about)
            button.setObjectName("democard")
            button.clicked.connect(lambda _=False, demo=demo: self.demo_asked.emit(demo))
            demos.addWidget(button)
            if demo == next(iter(DEMOS)):
                self.first_demo = button
        box.addLayout(demos)
        walk = Button("A walk through a whole job")
        walk.setObjectName("democard")
        walk.clicked.connect(lambda: self.walk_asked.emit())
        box.addWidget(walk)
        self.preparing = QProgressBar()
        self.preparing.hide()
        box.addWidget(self.preparing)
        self._jobs = QHBoxLayout()
        self._jobs.setSpacing(px(10))
        self._recent = QVBoxLayout()
        self._recent.setSpacing(px(4))
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

    def show_preparing(self, done: int, total: int, can_open: bool) -> None:
        """Say what is being prepared, once on each machine; a total of 0: nothing is."""
        self.preparing.setVisible(total > 0)
        self.preparing.setRange(0, max(1, total))
        self.preparing.setValue(done)
        what = "treatments; a scan can be opened" if can_open else "a scan can be chosen, and opens in a moment"
        self.preparing.setFormat(f"Preparing for this machine, once: {done} of {total} ({what})")

    def show_jobs(self, jobs: list[RecentJob]) -> None:
        """Offer the jobs saved lately, each with its picture."""
        self._clear(self._jobs)
        self._cards = []
        self._jobs_title.setVisible(bool(jobs))
        for path, picture, saved, steps in jobs[:_MOST_JOBS]:
            when = f"{time.strftime('%-d %b, %H:%M', time.localtime(saved))} · {counted(steps, 'step')}"
            button = QToolButton()
            button.setObjectName("jobcard")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setIcon(QIcon(picture_label(picture).pixmap()))
            button.setIconSize(QSize(px(PICTURE[0]), px(PICTURE[1])))
            name = button.fontMetrics().elidedText(path.stem, Qt.TextElideMode.ElideMiddle, px(150))
            button.setText(f"{name}\n{when}")
            button.setAccessibleName(f"Job {path.name}")
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, path=path: self.recent_asked.emit(path))
            self._jobs.addWidget(button)
            self._cards.append(button)
        if jobs:
            self._jobs.addStretch(1)
        self.fit()

    def fit(self, view: QSize | None = None) -> None:
        """Take as much room as what is shown needs, and no more than the view has."""
        if view is not None:
            self._room = view.width()
        width = min(px(640), max(px(260), self._room - px(16)))
        narrow = width < px(560)
        self._demos.setDirection(QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight)
        most = max(1, (width - px(56)) // (px(PICTURE[0]) + px(70)))
        for i, card in enumerate(self._cards):
            card.setVisible(i < most)
        for line in self._lines:
            self._elide(line, width - px(70))
        self.setFixedWidth(width)
        for widget in self.findChildren(QWidget):
            widget.ensurePolished()
        self.layout().invalidate()
        self.layout().activate()
        self.resize(width, self.layout().totalHeightForWidth(width))

    @staticmethod
    def _elide(button: Button, room: int) -> None:
        """Show as much of a recent scan's name and folder as there is room for."""
        path = Path(button.toolTip())
        text = button.fontMetrics().elidedText(f"{path.name}    {path.parent}", Qt.TextElideMode.ElideMiddle, room)
        button.setText(text)

    def show_recent(self, paths: list[Path]) -> None:
        """Offer the scans opened lately."""
        self._clear(self._recent)
        self._lines = []
        self._scans_title.setVisible(bool(paths))
        for path in paths[:_MOST_SCANS]:
            button = Button(path.name)
            button.setObjectName("recent")
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, path=path: self.recent_asked.emit(path))
            self._recent.addWidget(button)
            self._lines.append(button)
        self.fit()
