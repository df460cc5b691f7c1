"""What is known of the meshes of a job: asked for in the background, kept within a budget, by mesh."""

from typing import NamedTuple

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers, ViewMarks, make_buffers, make_marks, measure_for_view
from tinsnip.app.state.tasks import Tasks
from tinsnip.job import Piece
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress, stoppable
from tinsnip.survey import Examination, examine
from tinsnip.survey.crossings import follow_crossings
from tinsnip.survey.deviation import FromRaw

__all__ = ["Known", "Measured"]

_BUDGET = 500_000_000
"""Bytes of buffers kept for meshes that may be shown again."""
_MOST_MEASURED = 8


class Measured(NamedTuple):
    """A mesh's deviation from its raw scan, and buffers of where it was measured, if that is not the mesh itself."""

    from_raw: FromRaw
    places: ViewBuffers | None


class Known(QObject):
    """Facts, buffers and deviations of meshes. What is asked for comes with a signal that names the mesh."""

    buffers_came = Signal(object)
    examined = Signal(object)
    measured = Signal(object)

    def __init__(self, tasks: Tasks, budget: int = _BUDGET) -> None:
        super().__init__()
        self._tasks = tasks
        self.budget = budget
        self._buffers: dict[Mesh, ViewBuffers] = {}
        self._examinations: dict[Mesh, tuple[Examination, ViewMarks]] = {}
        self._measured: dict[Mesh, Measured] = {}

    def buffers_of(self, mesh: Mesh | None) -> ViewBuffers | None:
        """What draws a mesh, once it is ready."""
        return None if mesh is None else self._buffers.get(mesh)

    def ask_buffers(self, mesh: Mesh, purpose: str) -> None:
        """Make a mesh ready to be drawn; a newer wish for the same purpose takes the place of an older."""
        if mesh in self._buffers:
            self._buffers[mesh] = self._buffers.pop(mesh)  # wanted last, let go of last
            self.buffers_came.emit(mesh)
            return

        def take(buffers: ViewBuffers) -> None:
            self._buffers[mesh] = buffers
            self.buffers_came.emit(mesh)

        kin = [b for other, b in self._buffers.items() if other.faces is mesh.faces]  # only its vertices differ
        like = kin[-1] if kin else None
        self._tasks.behind(f"buffers, {purpose}", lambda p: make_buffers(mesh, p, like), take)

    def examination_of(self, mesh: Mesh | None) -> Examination | None:
        """What was found on a mesh; None while it is being looked over."""
        found = None if mesh is None else self._examinations.get(mesh)
        return None if found is None else found[0]

    def marks_of(self, mesh: Mesh | None) -> ViewMarks | None:
        """What the shells of a mesh are, for the view."""
        found = None if mesh is None else self._examinations.get(mesh)
        return None if found is None else found[1]

    def ask_examination(self, mesh: Mesh) -> None:
        """Look a mesh over; a newer wish takes the place of an older."""
        if mesh in self._examinations:
            self.examined.emit(mesh)
            return

        def take(found: tuple[Examination, ViewMarks]) -> None:
            self._examinations[mesh] = found
            self.examined.emit(mesh)

        self._tasks.behind("examine", lambda p: _examine_whole(mesh, p), take)

    def ask_crossings(self, mesh: Mesh) -> None:
        """Have the crossings of a mesh that has been looked over counted; `examined` tells when it is done.

        Only what is another than on the last mesh of which they are known is counted anew.
        """
        found = self.examination_of(mesh)
        if found is None or found.crossings is not None:
            return
        counted = (m for m, (other, _) in reversed(self._examinations.items()) if other.crossings is not None)
        before = next(counted, mesh)

        def work(progress: Progress) -> None:
            _count_crossings(found, before, progress)

        self._tasks.behind("crossings", work, lambda _: self.examined.emit(mesh))

    def measured_of(self, mesh: Mesh | None) -> Measured | None:
        """A mesh's deviation from its raw scan, once it is measured."""
        return None if mesh is None else self._measured.get(mesh)

    def ask_measured(self, piece: Piece) -> None:
        """Measure how far a piece deviates from its raw scan; a newer wish takes the place of an older."""
        mesh, raw, frame = piece.mesh, piece.raw, piece.frame
        if mesh in self._measured:
            self.measured.emit(mesh)
            return

        def take(found: tuple[FromRaw, ViewBuffers | None]) -> None:
            self._measured[mesh] = Measured(*found)
            self.measured.emit(mesh)

        self._tasks.behind("from raw", lambda p: measure_for_view(mesh, raw, frame, p), take)

    def keep_only(self, meshes: list[Mesh], shown: list[Mesh]) -> None:
        """Let go of what belongs to no mesh in memory any more, and of the oldest beyond the budget.

        Parameters
        ----------
        meshes : list of Mesh
            Those of the job that are in memory; holding on to others would keep them there.
        shown : list of Mesh
            Those that are on the screen: theirs stays in any case.
        """
        alive = set(meshes) | set(shown)
        for known in (self._buffers, self._examinations, self._measured):
            for mesh in [m for m in known if m not in alive]:
                del known[mesh]
        for mesh in [m for m in list(self._measured)[:-_MOST_MEASURED] if m not in shown]:
            del self._measured[mesh]
        room = self.budget
        for mesh in reversed(list(self._buffers)):
            room -= self._buffers[mesh].nbytes
            if room < 0 and mesh not in shown:
                del self._buffers[mesh]

    def forget(self) -> None:
        """Another job: nothing is known."""
        for known in (self._buffers, self._examinations, self._measured):
            known.clear()


def _examine_whole(mesh: Mesh, progress: Progress) -> tuple[Examination, ViewMarks]:
    """Examine, and work the findings' lists out while still off the window's thread."""
    examination = examine(mesh, progress, crossings=False)
    _ = examination.strays, examination.openings, examination.knots, examination.beds, examination.rags
    _ = examination.made_share, examination.seams, examination.spikes
    return examination, make_marks(examination)


@stoppable
def _count_crossings(found: Examination, before: Mesh, progress: Progress) -> None:
    """Count, and work lists and lines out while still off the window's thread."""
    progress.step("Counting crossings")
    follow_crossings(before, found.mesh)
    _ = found.readiness, found.crossed, found.crossing_lines
