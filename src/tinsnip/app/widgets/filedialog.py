"""Asking for files: the toolkit's own dialog in our looks, with the places a technician goes to."""

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

import qtawesome
import shiboken6
from PySide6.QtCore import QFileInfo, QStandardPaths, Qt, QUrl
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import (
    QFileDialog,
    QFileIconProvider,
    QLabel,
    QLineEdit,
    QSplitter,
    QToolButton,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import px
from tinsnip.formats import FORMATS

__all__ = ["GLIMPSE", "bare_name", "choose_files", "choose_folder", "choose_target", "folder_for"]

_REFUSED = {"con", "prn", "aux", "nul", *(f"{port}{n}" for port in ("com", "lpt") for n in range(10))}
_INK, _COPPER = "#3a3f43", "#b4602a"
_TYPE = 2
"""The column of what kind of file it is, which its name says too."""
_BUTTONS = {
    "backButton": "fa5s.arrow-left",
    "forwardButton": "fa5s.arrow-right",
    "toParentButton": "fa5s.arrow-up",
    "newFolderButton": "fa5s.folder-plus",
    "listModeButton": "fa5s.th-large",
    "detailModeButton": "fa5s.list",
}
GLIMPSE = 240, 160
"""Pixels of the picture of what a file holds."""
Look = Callable[[Path, Callable[[str, bytes | None], None]], None]
_LONGEST = 150
"""Bytes of a proposed name; file systems take 255, and an ending follows."""


def bare_name(name: str) -> str:
    """A piece's name as a file's: without a folder, a scan's ending, or anything that some file system refuses."""
    kept = "".join(c if c.isalnum() or c in " -_.()," else "-" for c in Path(name).name).strip(" .")
    stem, dot, ending = kept.rpartition(".")
    stem = (stem if dot and ending.lower() in FORMATS else kept).strip(" .")
    stem = stem.encode()[:_LONGEST].decode(errors="ignore").strip(" .") or "part"
    return f"{stem}-part" if stem.partition(".")[0].lower() in _REFUSED else stem


def folder_for(scan: Path, *used: str) -> str:
    """Where to propose to write: the scan's own folder, or, where that is no place of the user's, the one used last."""
    folder, cache = (
        scan.parent,
        Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.GenericCacheLocation)),
    )
    own = folder.is_absolute() and folder.is_dir() and not folder.is_relative_to(cache)
    if own and not any(part.startswith(".") for part in folder.parts):
        return str(folder)
    documents = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.DocumentsLocation)
    return next((place for place in (*used, documents) if place and Path(place).is_dir()), str(Path.home()))


def choose_files(
    parent: QWidget, title: str, folder: str, filters: str, places: Iterable[str] = (), look: Look | None = None
) -> list[Path]:
    """Ask for files to open; none when it is left.

    Parameters
    ----------
    parent : QWidget
    title, folder, filters : str
    places : iterable of str
        Folders to offer besides.
    look : callable, optional
        Looks into the file that is pointed at, and tells what it holds and its picture, which are then shown beside.
    """
    dialog = _Dialog(parent, title, folder, places)
    dialog.setFileMode(QFileDialog.FileMode.ExistingFiles)
    dialog.setNameFilter(filters)
    if look is not None:
        dialog.show_what_is_in(look)
    chosen = [Path(name) for name in dialog.selectedFiles()] if dialog.exec() else []
    shiboken6.delete(dialog)  # at once, so that the window has the keys again
    return chosen


def choose_folder(parent: QWidget, title: str, folder: str, places: Iterable[str] = ()) -> Path | None:
    """Ask for a folder; None when it is left."""
    dialog = _Dialog(parent, title, folder, places)
    dialog.setFileMode(QFileDialog.FileMode.Directory)
    dialog.setOption(QFileDialog.Option.ShowDirsOnly)
    chosen = [Path(name) for name in dialog.selectedFiles()] if dialog.exec() else []
    shiboken6.delete(dialog)
    return chosen[0] if chosen else None


def choose_target(
    parent: QWidget, title: str, suggested: Path, kinds: Mapping[str, str], places: Iterable[str] = ()
) -> Path | None:
    """Ask where to write; asks again before a file is replaced, by the name that will be written.

    Parameters
    ----------
    parent : QWidget
    title : str
    suggested : Path
        The name proposed; its ending says which kind is chosen at first.
    kinds : mapping of str to str
        What can be written: the ending, with its dot, and what it is called. The ending follows the kind chosen, and
        the kind the ending typed.
    places : iterable of str
        Folders to offer besides.

    Returns
    -------
    Path or None
        With one of the endings; None when it was left.
    """
    dialog = _Target(parent, title, suggested, kinds, places)
    target = dialog.target() if dialog.exec() else None
    shiboken6.delete(dialog)  # at once, so that the window has the keys again
    return target


class _Beside(QWidget):
    """What the file that is pointed at holds."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(px(GLIMPSE[0]))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        self.picture, self.told = QLabel(), QLabel()
        self.picture.setObjectName("thumb")
        self.picture.setFixedSize(px(GLIMPSE[0]), px(GLIMPSE[1]))
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.told.setWordWrap(True)
        box.addWidget(self.picture)
        box.addWidget(self.told)
        box.addStretch(1)

    def show_it(self, told: str, picture: bytes | None) -> None:
        """Show what is told, and a picture, PNG, where there is one."""
        pixmap = QPixmap()
        if picture:
            pixmap.loadFromData(picture, "PNG")
        self.picture.setPixmap(
            pixmap
            if pixmap.isNull()
            else pixmap.scaled(
                self.picture.size(), Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
            )
        )
        self.picture.setVisible(not pixmap.isNull())
        self.told.setText(told)


class _Icons(QFileIconProvider):
    """Our own signs for folders, scans and jobs."""

    def icon(self, what: QFileInfo | QFileIconProvider.IconType) -> QIcon:
        if isinstance(what, QFileInfo):
            if what.isDir():
                return qtawesome.icon("fa5s.folder", color=_COPPER)
            name = what.fileName().lower()
            kinds = {form.suffix: "fa5s.cube" for form in FORMATS.values()} | {".snipjob": "fa5s.cut"}
            sign = next((sign for ending, sign in kinds.items() if name.endswith(ending)), "fa5s.file")
            return qtawesome.icon(sign, color=_INK)
        is_folder = what in (self.IconType.Folder, self.IconType.Desktop, self.IconType.Computer)
        return qtawesome.icon("fa5s.folder" if is_folder else "fa5s.hdd", color=_COPPER if is_folder else _INK)


class _Dialog(QFileDialog):
    def __init__(self, parent: QWidget, title: str, folder: str, places: Iterable[str]) -> None:
        super().__init__(parent, title, folder)
        self.setOption(QFileDialog.Option.DontUseNativeDialog)
        home, documents = (
            QStandardPaths.writableLocation(place)
            for place in (
                QStandardPaths.StandardLocation.HomeLocation,
                QStandardPaths.StandardLocation.DocumentsLocation,
            )
        )
        wanted = dict.fromkeys(str(p) for p in (folder, *places, home, documents, "/media", "/") if p)
        self.setSidebarUrls([QUrl.fromLocalFile(place) for place in wanted if Path(place).is_dir()])
        room = parent.screen().availableGeometry()
        self.resize(min(px(880), room.width() - 40), min(px(540), room.height() - 60))
        self.setIconProvider(_Icons())
        for name, icon in _BUTTONS.items():
            button = self.findChild(QToolButton, name)
            if button is not None:
                button.setIcon(qtawesome.icon(icon, color=_INK))
        rows = self.findChild(QTreeView, "treeView")
        if rows is not None:
            rows.hideColumn(_TYPE)
            for column, width in ((0, 300), (1, 90), (3, 150)):
                rows.setColumnWidth(column, px(width))
        splitter = self.findChild(QSplitter)
        if splitter is not None:  # wide enough to read the places
            splitter.setSizes([px(150), self.width() - px(150)])

    def show_what_is_in(self, look: Look) -> None:
        """Show beside the files what the one that is pointed at holds."""
        beside, grid = _Beside(), self.layout()
        grid.addWidget(beside, 1, grid.columnCount(), grid.rowCount() - 1, 1)
        self.resize(self.width() + px(GLIMPSE[0]), self.height())

        def point(name: str) -> None:
            if not Path(name).is_file():
                beside.show_it("", None)
                return
            beside.show_it("Looking into it…", None)

            def show(told: str, picture: bytes | None) -> None:
                if shiboken6.isValid(beside):
                    beside.show_it(told, picture)

            look(Path(name), show)

        self.currentChanged.connect(point)


class _Target(_Dialog):
    def __init__(
        self, parent: QWidget, title: str, suggested: Path, kinds: Mapping[str, str], places: Iterable[str]
    ) -> None:
        super().__init__(parent, title, str(suggested.parent), places)
        self._filters = {suffix: f"{name} (*{suffix})" for suffix, name in kinds.items()}
        self.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        self.setFileMode(QFileDialog.FileMode.AnyFile)
        self.setOption(QFileDialog.Option.DontConfirmOverwrite)
        self.setNameFilters(list(self._filters.values()))
        self.selectNameFilter(self._filters[suggested.suffix.lower()])
        self.selectFile(str(suggested))
        self._line = self.findChild(QLineEdit)
        self._line.textChanged.connect(self._follow_name)
        self.filterSelected.connect(self._follow_kind)

    def _suffix(self) -> str:
        chosen = self.selectedNameFilter()
        return next((s for s, text in self._filters.items() if text == chosen), next(iter(self._filters)))

    def _follow_name(self, text: str) -> None:
        known = self._filters.get(Path(text.strip()).suffix.lower())
        if known is not None and known != self.selectedNameFilter():
            self.selectNameFilter(known)

    def _follow_kind(self, text: str) -> None:
        name = Path(self._line.text().strip())
        stem = name.with_suffix("") if name.suffix.lower() in self._filters else name
        if stem.name:
            self._line.setText(f"{stem}{self._suffix()}")

    def target(self) -> Path:
        """The path that will really be written."""
        path = Path(self.selectedFiles()[0])
        return path if path.suffix.lower() in self._filters else path.with_name(path.name + self._suffix())

    def accept(self) -> None:
        typed = Path(self._line.text().strip()).expanduser()
        into = typed if typed.is_absolute() else Path(self.directory().absolutePath()) / typed
        if not self._line.text().strip():
            return
        if into.is_dir():
            self.setDirectory(str(into))
            self._line.clear()
            return
        target = self.target()
        if target.exists():
            text = f"{target.name} is there already."
            about = f"In {target.parent}. What it holds now would be lost."
            if ask(self, "Replace a file", text, about, ("Replace", "Choose another"), "Choose another",
                   "Choose another") != "Replace":  # fmt: skip
                return
        self.setResult(QFileDialog.DialogCode.Accepted)
        self.done(QFileDialog.DialogCode.Accepted)

    def keyPressEvent(self, event: object) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.reject()
        else:
            super().keyPressEvent(event)
