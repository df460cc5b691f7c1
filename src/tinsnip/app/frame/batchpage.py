"""Many scans by one routine: a list with progress that can be looked into, while the window stays free."""

import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QProgressBar,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from tinsnip.app.state.settings import Settings
from tinsnip.app.state.worker import Task, start
from tinsnip.app.widgets.fields import Button, DropDown, NumberField, TickBox
from tinsnip.app.widgets.filedialog import choose_files, choose_folder
from tinsnip.app.widgets.theme import polish_again, px
from tinsnip.errors import BadInput
from tinsnip.formats import ENDINGS, FORMATS, format_for
from tinsnip.job import Budget, Order, built_in_routines, load_profile, load_routine, profiles, scans_among
from tinsnip.job.batchrun import BatchRun
from tinsnip.progress import Progress
from tinsnip.words import counted, grouped, percent

__all__ = ["BatchPage"]

_HEADS = "Scan", "State", "Triangles", "Went", "Made"
_FROM_FILE = "from a file…"
_NONE = "none"
_MS = 200


class BatchPage(QDialog):
    """Scans, what is done with them, and what came of each.

    Attributes
    ----------
    batch : BatchRun or None
        The run that is under way, or was last.
    """

    def __init__(self, settings: Settings, parent: QWidget) -> None:
        super().__init__(parent)
        self.settings = settings
        self.scans: list[Path] = []
        self.batch: BatchRun | None = None
        self._task: Task | None = None
        self._current: tuple[str, Progress] | None = None
        self._routine_file = ""
        self.setWindowTitle("Many scans by one routine")
        self.setObjectName("sheet")
        room = parent.screen().availableGeometry()
        self.resize(min(px(900), room.width() - 40), min(px(620), room.height() - 60))
        box = QVBoxLayout(self)
        box.setContentsMargins(px(20), px(16), px(20), px(16))
        box.setSpacing(px(10))
        box.addLayout(self._options())
        self.list = QTreeWidget()
        self.list.setAccessibleName("Scans and what came of them")
        self.list.setHeaderLabels(_HEADS)
        self.list.setRootIsDecorated(False)
        self.list.setSelectionMode(QTreeWidget.SelectionMode.ExtendedSelection)
        header = self.list.header()
        header.setStretchLastSection(False)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        for column, width in ((0, 200), (2, 100), (3, 90), (4, 90)):
            self.list.setColumnWidth(column, px(width))
        self.list.itemSelectionChanged.connect(self._look_into)
        box.addWidget(self.list, 1)
        self.about = QLabel("Add scans, choose where the results go, and start.")
        self.about.setWordWrap(True)
        self.about.setMinimumHeight(px(84))
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        box.addWidget(self.about)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(px(6))
        box.addWidget(self.bar)
        box.addLayout(self._buttons())
        self._clock = QTimer(self, interval=_MS)
        self._clock.timeout.connect(self.refresh)
        polish_again(self)
        self.refresh()

    def _options(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(px(10))
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        self.routine = DropDown("Routine")
        for name, routine in built_in_routines().items():
            self.routine.addItem(routine.title, name)
        self.routine.addItem(_FROM_FILE, "")
        self.routine.activated.connect(self._choose_routine)
        self.format = DropDown("Format")
        for name, form in FORMATS.items():
            self.format.addItem(form.title, name)
        self.profile = DropDown("Profile")
        for name in (_NONE, *profiles()):
            self.profile.addItem(name, "" if name == _NONE else name)
        self.at_once = NumberField("Scans at a time", 1, 64, 0)
        self.at_once.setToolTip("More than one: each in a process of its own, which has to start first")
        self.folder = Button("Choose…")
        self.folder.clicked.connect(self._choose_folder)
        self.out = self.settings.export_folder or str(Path.home())
        self.report = TickBox("a page about each")
        self.report.setChecked(True)
        self.resume = TickBox("go on where an earlier run stopped")
        self.resume.setChecked(True)
        self.resume.setToolTip(
            "What is done, and of which neither scan, routine nor result has changed, is not done again"
        )
        for i, (text, field, other, beside) in enumerate(
            (
                ("Routine", self.routine, "Format", self.format),
                ("Judged by the profile", self.profile, "Scans at a time", self.at_once),
                ("Results go to", self.folder, "", self.report),
            )
        ):
            grid.addWidget(QLabel(text), i, 0)
            grid.addWidget(field, i, 1)
            grid.addWidget(QLabel(other), i, 2)
            grid.addWidget(beside, i, 3)
        grid.addWidget(self.resume, 3, 1, 1, 3)
        return grid

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.add = Button("Add scans…")
        self.add.clicked.connect(self._ask_scans)
        self.add_folder = Button("Add a folder…")
        self.add_folder.clicked.connect(self._ask_folder)
        self.take_out = Button("Take out")
        self.take_out.clicked.connect(self._take_out)
        self.page = Button("Open the page")
        self.page.setToolTip("About the scan that is selected, or about all")
        self.page.clicked.connect(self._open_page)
        self.go = Button("Start")
        self.go.setDefault(True)
        self.go.clicked.connect(self._start_or_stop)
        self.leave = Button("Close")
        self.leave.clicked.connect(self.close)
        for button in (self.add, self.add_folder, self.take_out):
            row.addWidget(button)
        row.addStretch(1)
        for button in (self.page, self.leave, self.go):
            row.addWidget(button)
        return row

    # ---- what is chosen

    @property
    def is_running(self) -> bool:
        """Whether scans are being worked on."""
        return self._task is not None

    def add_scans(self, paths: list[Path]) -> None:
        """Put scans on the list: files, or all of a folder."""
        try:
            fresh = [file for file in scans_among(paths) if file not in self.scans]
        except BadInput as error:
            self.about.setText(str(error))
            return
        self.scans += fresh
        for file in fresh:
            item = QTreeWidgetItem([file.name, "waiting", "", "", ""])
            item.setToolTip(0, str(file))
            for column in (2, 3, 4):
                item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight)
            self.list.addTopLevelItem(item)
        self.refresh()

    def _ask_scans(self) -> None:
        endings = " ".join(f"*{ending}" for ending in ENDINGS)
        self.add_scans(choose_files(self, "Add scans", self.settings.open_folder, f"Scans ({endings})"))

    def _ask_folder(self) -> None:
        folder = choose_folder(self, "Add all scans of a folder", self.settings.open_folder)
        if folder is not None:
            self.add_scans([folder])

    def _choose_folder(self) -> None:
        folder = choose_folder(self, "Where the results go", self.out)
        if folder is not None:
            self.out = self.settings.export_folder = str(folder)
            self.settings.save()
            self.refresh()

    def _choose_routine(self) -> None:
        if self.routine.currentText() != _FROM_FILE:
            return
        chosen = choose_files(self, "A routine", self.settings.job_folder, "Routines (*.json)")
        try:
            if chosen:
                routine = load_routine(str(chosen[0]))
                self.routine.insertItem(0, routine.title, str(chosen[0]))
        except BadInput as error:
            self.about.setText(str(error))
        self.routine.setCurrentIndex(0)

    def _take_out(self) -> None:
        for item in self.list.selectedItems():
            at = self.list.indexOfTopLevelItem(item)
            self.list.takeTopLevelItem(at)
            del self.scans[at]
        self.refresh()

    # ---- the run

    def _start_or_stop(self) -> None:
        if self.is_running:
            self.stop()
        else:
            self.begin()

    def begin(self) -> None:
        """Work on all scans of the list."""
        try:
            order = self._order()
            batch = BatchRun(self.scans, Path(self.out), order, resume=self.resume.isChecked())
        except BadInput as error:
            self.about.setText(str(error))
            return
        workers = round(self.at_once.value())
        self.batch = batch

        def work(progress: Progress) -> None:
            @contextlib.contextmanager
            def shown(name: str) -> Iterator[Progress]:
                self._current = name, progress
                yield progress

            for _ in batch.work(shown, workers if workers > 1 else 0):
                progress.check()
            batch.write_page()

        self._task = Task(
            work, lambda _: self._ended(""), self._ended, lambda: self._ended("Stopped; it can go on later.")
        )
        start(self._task)
        self._clock.start()
        self.refresh()

    def _order(self) -> Order:
        if not self.scans:
            raise BadInput("add scans first")
        routine = load_routine(self.routine.currentData())
        profile = load_profile(self.profile.currentData()) if self.profile.currentData() else None
        name, budget = self.format.currentData(), Budget()
        if profile is not None:
            name = name if profile.file_format == "any" else profile.file_format
            largest = profile.largest_file_mb
            budget = Budget(profile.most_triangles, None if largest is None else largest * 1e6)
        budget.on(routine, format_for(name).name)
        return Order(routine, budget, name, profile=profile, report=self.report.isChecked())

    def stop(self) -> None:
        """Leave off; what is done stays done."""
        if self._task is not None:
            self._task.progress.cancel()

    def _ended(self, text: str) -> None:
        self._task = self._current = None
        self._clock.stop()
        self.refresh()
        done = self.batch.results
        ready = sum(bool(one.get("ready")) for one in done)
        self.about.setText(f"{counted(len(done), 'scan')} done, {ready} ready. {text}".strip())

    # ---- what is shown

    def refresh(self) -> None:
        """Show how far it has come."""
        running, known = self.is_running, {} if self.batch is None else self.batch.found
        for row, file in enumerate(self.scans):
            facts, item = known.get(file), self.list.topLevelItem(row)
            texts = _texts(facts) if facts is not None else ("waiting", "", "", "")
            if facts is None and running and self._current is not None and self._current[0] == file.name:
                progress = self._current[1]
                texts = f"{100 * progress.fraction:.0f} % · {progress.label}", "", "", ""
            for column, text in enumerate(texts, 1):
                if item.text(column) != text:
                    item.setText(column, text)
        self.bar.setRange(0, max(1, len(self.scans)))
        self.bar.setValue(sum(file in known for file in self.scans))
        self.go.setText("Stop" if running else "Start")
        self.go.setEnabled(running or bool(self.scans))
        self.folder.setText(f"{Path(self.out).name or self.out}…")
        self.folder.setToolTip(self.out)
        own = (self.add, self.add_folder, self.take_out, self.routine, self.format, self.profile, self.at_once,
               self.folder, self.report, self.resume)  # fmt: skip
        for widget in own:
            widget.setEnabled(not running)
        self.page.setEnabled(self._page_of() is not None)

    def _chosen(self) -> dict[str, Any] | None:
        chosen = self.list.selectedItems()
        if len(chosen) != 1 or self.batch is None:
            return None
        return self.batch.found.get(self.scans[self.list.indexOfTopLevelItem(chosen[0])])

    def _look_into(self) -> None:
        facts = self._chosen()
        if facts is not None:
            self.about.setText(_told(facts))
        self.page.setEnabled(self._page_of() is not None)

    def _page_of(self) -> Path | None:
        facts = self._chosen()
        if facts is not None and facts.get("report"):
            return Path(facts["report"])
        index = Path(self.out) / "report.html"
        return index if self.batch is not None and self.batch.order.report and index.exists() else None

    def _open_page(self) -> None:
        page = self._page_of()
        if page is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(page)))


def _texts(facts: dict[str, Any]) -> tuple[str, str, str, str]:
    if "error" in facts:
        return f"✗ {facts['error'].removeprefix(facts['file'] + ': ')}", "", "", ""
    state = f"{'✓' if facts['ready'] else '✗'} {facts['state']}"
    return state, grouped(facts["triangles"]), percent(facts["gone_share"]), percent(facts["made_share"])


def _told(facts: dict[str, Any]) -> str:
    """What came of one scan, at length."""
    if "error" in facts:
        return facts["error"]
    lines = [f"{Path(facts['out']).name}: {facts['state']}"]
    lines += [f"not ready: {reason}" for reason in facts["reasons"]]
    lines += [f"proposed: {facts['proposal']}"] if facts["proposal"] else []
    lines += [f"look at this: {warning}" for warning in facts["warnings"]]
    done = [step["text"] for step in facts["steps"] if not step["text"].startswith(("Nothing", "No "))]
    return "\n".join(lines) + ("\n" + "; ".join(done) if done else "")
