"""The card that offers jobs which were being worked on when their window was lost."""

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QPixmap
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from tinsnip.app.state.saving import LeftOver, age
from tinsnip.app.widgets.fields import Button
from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import px
from tinsnip.words import counted

__all__ = ["PICTURE", "LeftOvers", "picture_label"]

_MOST = 4
_NAME_WIDTH = 210
PICTURE = 96, 60
"""Pixels of a small picture of a part."""


def picture_label(data: bytes | None) -> QLabel:
    """A small picture of a part; an empty frame where there is none."""
    label = QLabel()
    label.setObjectName("thumb")
    label.setFixedSize(px(PICTURE[0]), px(PICTURE[1]))
    label.setAlignment(Qt.AlignmentFlag.AlignCenter)
    pixmap = QPixmap()
    if data and pixmap.loadFromData(data, "PNG"):
        label.setPixmap(
            pixmap.scaled(
                px(PICTURE[0]),
                px(PICTURE[1]),
                Qt.AspectRatioMode.KeepAspectRatio,
                Qt.TransformationMode.SmoothTransformation,
            )
        )
    return label


class LeftOvers(QFrame):
    """Each job with its picture, when it was kept last, and what was done."""

    open_asked = Signal(object)
    let_go_asked = Signal(object)
    put_away = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("card")
        self.jobs: list[LeftOver] = []
        box = QVBoxLayout(self)
        box.setContentsMargins(px(24), px(18), px(24), px(18))
        box.setSpacing(px(10))
        self.title = QLabel()
        self.title.setObjectName("title")
        box.addWidget(self.title)
        about = QLabel("Tinsnip ended before this was saved. Each is as it was after its last complete step.")
        about.setObjectName("muted")
        about.setWordWrap(True)
        box.addWidget(about)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(px(8))
        box.addLayout(self._rows)
        self.more = QLabel()
        self.more.setObjectName("muted")
        box.addWidget(self.more)
        later = Button("Later    Esc")
        later.setObjectName("democard")
        later.setToolTip("They stay, and are offered again at the next start")
        later.clicked.connect(self.put_away)
        box.addWidget(later)
        self.setFixedWidth(px(560))
        self.hide()

    def fit(self, view: QSize) -> None:
        """Take no more room than the view has."""
        self.setFixedWidth(min(px(560), max(px(300), view.width() - px(16))))
        self.adjustSize()

    def show_jobs(self, jobs: list[LeftOver]) -> None:
        """List the jobs; the card goes when there are none."""
        self.jobs = jobs
        while self._rows.count():
            gone = self._rows.takeAt(0).widget()
            gone.hide()
            gone.deleteLater()
        whole = sum(not one.trouble for one in jobs)
        beyond = f", {len(jobs) - whole} cannot be read" if whole < len(jobs) else ""
        self.title.setText(f"{counted(whole, 'job')} not finished{beyond}")
        for one in jobs[:_MOST]:
            self._rows.addWidget(self._row(one))
        self.more.setText(f"and {len(jobs) - _MOST} older" if len(jobs) > _MOST else "")
        self.more.setVisible(len(jobs) > _MOST)
        self.setVisible(bool(jobs))
        self.adjustSize()

    def go_on(self) -> None:
        """Go on with the first that can be read, as Enter does."""
        first = next((one for one in self.jobs if not one.trouble), None)
        if first is not None:
            self.open_asked.emit(first)

    def _row(self, one: LeftOver) -> QWidget:
        row = QWidget()
        box = QHBoxLayout(row)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(px(12))
        box.addWidget(picture_label(one.picture))
        name = QLabel()
        name.setObjectName("title")
        name.setParent(row)
        name.ensurePolished()
        name.setText(name.fontMetrics().elidedText(one.name, Qt.TextElideMode.ElideMiddle, px(_NAME_WIDTH)))
        name.setToolTip(str(one.saved_as or one.path))
        told = one.trouble.removeprefix(f"{one.path}: ") or f"{counted(one.steps, 'step')} · kept {age(one.when)}"
        facts = QLabel(told)
        facts.setObjectName("muted")
        facts.setWordWrap(True)
        column = QVBoxLayout()
        column.setSpacing(px(2))
        column.addStretch(1)
        column.addWidget(name)
        column.addWidget(facts)
        column.addStretch(1)
        box.addLayout(column, 1)
        go = Button("Go on")
        go.setObjectName("copper")
        go.setAccessibleName(f"Go on with {one.name}")
        go.setEnabled(not one.trouble)
        go.clicked.connect(lambda: self.open_asked.emit(one))
        drop = Button("Throw away…")
        drop.setObjectName("plain")
        drop.setAccessibleName(f"Throw {one.name} away")
        drop.clicked.connect(lambda: self._ask_to_let_go(one))
        box.addWidget(go)
        box.addWidget(drop)
        return row

    def _ask_to_let_go(self, one: LeftOver) -> None:
        text = f"Throw {one.name} away, with its {counted(one.steps, 'step')}?"
        about = "It cannot be brought back. Files that were saved or exported stay."
        drop, keep = "Throw away", "Keep it"
        if ask(self.window(), drop, text, about, (drop, keep), keep, keep) == drop:
            self.let_go_asked.emit(one)
