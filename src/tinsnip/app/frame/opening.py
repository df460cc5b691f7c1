"""Opening and saving by every way there is; whatever would be lost is asked about first."""

from collections.abc import Callable
from pathlib import Path

import platformdirs
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from tinsnip.app.state.saving import Saving
from tinsnip.app.state.session import Session
from tinsnip.app.state.settings import Settings
from tinsnip.app.widgets.filedialog import GLIMPSE, bare_name, choose_files, choose_target, folder_for
from tinsnip.app.widgets.question import ask
from tinsnip.app.widgets.theme import px
from tinsnip.demo import demo_file
from tinsnip.errors import BadInput
from tinsnip.formats import ENDINGS, Scan, TooLarge, read_scan, refuse_what_is_too_large
from tinsnip.job import OpenedJob, is_job_file, routine_of
from tinsnip.job.glimpse import glimpse
from tinsnip.job.jobfile import SUFFIX
from tinsnip.progress import Progress
from tinsnip.words import counted, grouped

__all__ = ["JobFiles"]

_SCANS = " ".join(f"*{ending}" for ending in ENDINGS)
_LOOKING = "look into a file"
_OPEN_FILTER = f"Scans and jobs ({_SCANS} *{SUFFIX});;All files (*)"


def _named(paths: list[Path]) -> str:
    return f"opening {paths[0].name if len(paths) == 1 else counted(len(paths), 'scan')}"


class JobFiles(QObject):
    """The ways a scan or a job comes in, and a job goes out."""

    recent_changed = Signal()

    def __init__(self, session: Session, saving: Saving, settings: Settings, parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._saving, self._settings, self._parent = session, saving, settings, parent
        session.opening.opened.connect(self._note_scans)
        session.opening.job_opened.connect(self._note_job)
        saving.saved.connect(self._note_path)

    # ---- coming in

    def ask_open(self) -> None:
        """Ask for scans or a job, and open them as a new job."""
        self._ask("Open scans or a job", lambda paths: self.open(paths))

    def ask_add(self) -> None:
        """Ask for further scans and open them as pieces of this job."""
        if self._session.job.piece is None:
            self.ask_open()
        else:
            self._ask("Open further scans as pieces", self.add)

    def _ask(self, title: str, then: Callable[[list[Path]], None]) -> None:
        folder = self._settings.open_folder if Path(self._settings.open_folder).is_dir() else str(Path.home())
        places = dict.fromkeys(str(Path(name).parent) for name in self._settings.recent)
        paths = choose_files(self._parent, title, folder, _OPEN_FILTER, places, self._look_into)
        self._session.tasks.stop_behind(_LOOKING)
        if paths:
            then(paths)

    def _look_into(self, path: Path, show: Callable[[str, bytes | None], None]) -> None:
        """Look beside the window into a file that may be opened."""
        size = px(GLIMPSE[0]), px(GLIMPSE[1])
        self._session.tasks.behind(_LOOKING, lambda progress: glimpse(path, size, progress), lambda found: show(*found))

    def open(self, paths: list[Path]) -> None:
        """Open files as a new job, once what is unsaved of the old one is seen to."""
        self.before_losing(lambda: self._unless_too_large(paths, False), _named(paths))

    def add(self, paths: list[Path]) -> None:
        """Open scans as further pieces of this job."""
        self._once_free(lambda: self._unless_too_large(paths, True), _named(paths))

    def _unless_too_large(self, paths: list[Path], add: bool) -> None:
        """Open files; where memory does not hold one, ask first whether it is to be reduced while it is read."""
        at_most: dict[Path, int] = {}
        for path in paths:
            if is_job_file(path):
                continue
            try:
                refuse_what_is_too_large(path)
            except TooLarge as error:
                text = f"{path.name} has {grouped(error.triangles)} triangles. To work on them takes some "
                text += f"{error.wanted / 1e9:.2g} GB of memory, and {error.free / 1e9:.2g} GB are free."
                about = "Other programs that are closed give back theirs. A scan that does not fit may end the program."
                answers, reduced = ["Open all the same", "Cancel"], ""
                if error.fitting:
                    about = (
                        f"It can be reduced to {grouped(error.fitting)} triangles while it is read; the file stays as "
                        f"it is. What moved is marked as shifted, and how far off it lies is measured.\n\n{about}"
                    )
                    reduced = f"Open with {grouped(error.fitting)}"
                    answers.insert(0, reduced)
                default = reduced or "Cancel"
                answer = ask(self._parent, "Too large for this machine", text, about, answers, default, "Cancel")
                if answer == "Cancel":
                    return
                at_most[path] = error.fitting if answer == reduced else error.triangles
            except BadInput:
                continue  # said when it is read
        self._session.opening.files(paths, add, at_most)

    def open_demo(self, *names: str) -> None:
        """Open demo scans, making them first where needed."""

        def read(progress: Progress) -> list[Scan]:
            def note(text: str, share: float) -> None:
                progress.step(text, 1000)[1] = int(1000 * share)

            scans = []
            for i, name in enumerate(names):
                with progress.part(i / len(names), (i + 0.9) / len(names)):
                    path = demo_file(name, note=note)
                with progress.part((i + 0.9) / len(names), (i + 1) / len(names)):
                    scans.append(read_scan(path, "mm", progress))
            return scans

        title = f"Demo scan {names[0]}"
        self.before_losing(lambda: self._session.opening.scans_from(read, title), title)

    # ---- going out

    def save(self, then: Callable[[], None] = lambda: None) -> None:
        """Save the job where it was saved last; ask where, if it never was."""
        if self._saving.path is None:
            self.save_as(then)
        else:
            self._saving.save(self._saving.path, then)

    def save_as(self, then: Callable[[], None] = lambda: None) -> None:
        """Ask where to save the job, and save it there."""
        piece = self._session.job.piece
        if piece is None:
            self._session.message.emit("there is no job to save; open a scan first", True)
            return
        suggested = self._saving.path
        if suggested is None:
            folder = folder_for(piece.scan.path, self._settings.job_folder)
            suggested = Path(folder) / (bare_name(piece.name) + SUFFIX)
        path = choose_target(
            self._parent, "Save the job", suggested, {SUFFIX: "Tinsnip job"}, [self._settings.job_folder]
        )
        if path is not None:
            self._settings.job_folder = str(path.parent)
            self._settings.save()
            self._saving.save(path, then)

    def save_routine(self) -> None:
        """Ask for a name, and save what was done to the piece as a routine."""
        piece = self._session.job.piece
        if piece is None:
            return
        try:
            routine, left = routine_of(self._session.job, bare_name(piece.name))
        except BadInput as error:
            self._session.message.emit(str(error), True)
            return
        if left:
            lines = "\n".join(f"• {line}" for line in left)
            text = f"{counted(len(left), 'step')} cannot be a rule for another scan, and will be left out:"
            if ask(self._parent, "The log as a routine", text, lines, ("Save", "Cancel"), "Save", "Cancel") != "Save":
                return
        folder = folder_for(piece.scan.path, self._settings.export_folder)
        suggested = Path(folder) / f"{bare_name(piece.name)}-routine.json"
        path = choose_target(self._parent, "Save the routine", suggested, {".json": "Routine"})
        if path is not None:
            named = routine.model_copy(update={"name": path.stem})
            try:
                path.write_text(named.model_dump_json(indent=2), "utf-8")
            except OSError as error:
                self._session.message.emit(f"{path}: {(error.strerror or str(error)).lower()}; choose another", True)
                return
            self._session.message.emit(f"Saved {path.name}: {counted(len(routine.steps), 'step')}", False)

    # ---- nothing is lost unasked

    def _once_free(self, then: Callable[[], None], what: str) -> None:
        """Go on once nothing is waited for any more; what was asked for is not forgotten meanwhile."""
        tasks = self._session.tasks
        if tasks.busy is not None:
            self._session.message.emit(f"{tasks.title} is still going on; {what} follows after it", True)
        tasks.once_free(then)

    def before_losing(self, then: Callable[[], None], what: str = "what was asked for") -> None:
        """Go on, unless something would be lost by it: then ask whether to save it first, let it go, or stay.

        While something else is waited for, all of that comes after it.
        """
        self._once_free(lambda: self._ask_before(then), what)

    def _ask_before(self, then: Callable[[], None]) -> None:
        if not self._saving.unsaved:
            then()
            return
        count = self._saving.unsaved
        text = f"{counted(count, 'step')} of {self._saving.name} {'is' if count == 1 else 'are'} not saved."
        about = "What is let go cannot be brought back."
        answer = ask(self._parent, "Not saved", text, about, ("Save", "Do not save", "Cancel"), "Save", "Cancel")
        if answer == "Save":
            self.save(then)
        elif answer == "Do not save":
            then()

    # ---- what was opened lately

    def _note_scans(self, paths: list[Path]) -> None:
        demo_folder = Path(platformdirs.user_cache_dir("tinsnip"))
        for path in paths:
            if not path.is_relative_to(demo_folder):
                self._settings.note_opened(path)
        self.recent_changed.emit()

    def _note_job(self, opened: OpenedJob, path: Path | None) -> None:
        if path is not None:
            self._note_path(path)

    def _note_path(self, path: Path) -> None:
        self._settings.note_opened(path)
        self.recent_changed.emit()

    def recent(self) -> list[Path]:
        """The recent scans and jobs that are still there."""
        return [Path(p) for p in self._settings.recent if Path(p).is_file()]
