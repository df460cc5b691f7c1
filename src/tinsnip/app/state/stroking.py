"""The stroke of a brush that is under way: seen at once, and one step of the log at its end."""

import time
from typing import Any, NamedTuple

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.app.state.session import Session
from tinsnip.errors import BadInput
from tinsnip.job import Piece, Step, step_of_outcome
from tinsnip.mesh import Mesh
from tinsnip.mesh.remembered import is_known
from tinsnip.progress import Progress
from tinsnip.space.picking import first_hit_in
from tinsnip.space.tree import Tree
from tinsnip.treat import Context
from tinsnip.treat.stroke import Stroke
from tinsnip.treat.working import Working

__all__ = ["Stroking", "Touched"]


class Touched(NamedTuple):
    """What is another on the screen.

    Attributes
    ----------
    vertices : ndarray of int, shape (K,)
        Those whose position or normal is another.
    places, normals : ndarray of float32, shape (V, 3), of float16, shape (V, 4)
        Of all of the mesh, as its buffers hold them.
    points : ndarray, shape (N, 3)
        Where they were and are, mm.
    """

    vertices: np.ndarray
    places: np.ndarray
    normals: np.ndarray
    points: np.ndarray


class _UnderWay:
    """One stroke from the press to the release."""

    def __init__(self, brush: Stroke, piece: Piece, buffers: ViewBuffers) -> None:
        self.brush, self.piece, self.begun = brush, piece, time.perf_counter()
        self.working = Working(piece.mesh)
        brush.begin(self.working, Context(raw=piece.raw, frame=piece.frame))
        self.came_by: list[tuple[float, float, float]] = []
        self.told: list[dict[str, Any]] = []
        self.origin = buffers.origin
        self.places, self.normals = buffers.places.copy(), buffers.normals.copy()


class Stroking(QObject):
    """Leads one stroke at a time over the active piece.

    Signals
    -------
    touched
        A `Touched`, after each place the brush came by, and once more when it is put back.
    """

    touched = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._now: _UnderWay | None = None
        session.mesh_changed.connect(self._forget)

    @property
    def is_ready(self) -> bool:
        """Whether a stroke can begin at once."""
        session = self._session
        mesh = session.mesh
        known = mesh is not None and len(mesh.faces) > 0 and is_known(mesh, Mesh.tree)
        return known and session.known.buffers_of(mesh) is not None and session.tasks.busy is None

    @property
    def is_under_way(self) -> bool:
        """Whether a stroke has begun and not ended."""
        return self._now is not None

    @property
    def tree(self) -> Tree | None:
        """The tree over what is on the screen, if there is one."""
        if self._now is not None:
            return self._now.working.tree
        mesh = self._session.mesh
        return mesh.tree if mesh is not None and len(mesh.faces) and is_known(mesh, Mesh.tree) else None

    def prepare(self) -> None:
        """Have what a stroke needs worked out beside the window."""
        mesh = self._session.mesh
        if mesh is not None and len(mesh.faces) and not is_known(mesh, Mesh.tree):
            self._session.tasks.behind("tree", lambda p: (mesh.tree, mesh.twins)[0], lambda tree: None)

    def begin(self, brush: Stroke) -> bool:
        """Begin a stroke; False, and said, where that is not possible now."""
        if not self.is_ready:
            self.prepare()
            self._session.message.emit("the part is still being made ready for a brush; try again in a moment", True)
            return False
        piece = self._session.job.piece
        self._session.cancel_preview()
        try:
            self._now = _UnderWay(brush, piece, self._session.known.buffers_of(piece.mesh))
        except BadInput as error:
            self._session.message.emit(str(error), True)
            return False
        return True

    def hit(self, start: np.ndarray, way: np.ndarray) -> np.ndarray | None:
        """The point of the surface, as it is now, that a ray meets first, mm; None: none."""
        found = self.hit_facing(start, way)
        return None if found is None else found[0]

    def hit_facing(self, start: np.ndarray, way: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
        """The point that a ray meets first, mm, and how the surface faces there, unit."""
        tree = self.tree
        hit = None if tree is None else first_hit_in(tree, start, way)
        if hit is None:
            return None
        a, b, c = tree.vertices[tree.faces[hit[0]]]
        facing = np.cross(b - a, c - a)
        return hit[1], facing / max(float(np.linalg.norm(facing)), 1e-300)

    def touch(self, place: np.ndarray, **told: Any) -> None:
        """Come by one more place, mm; what else the brush is told there is its own business."""
        now = self._now
        if now is None:
            return
        place = np.asarray(place, dtype=np.float64)
        now.came_by.append(tuple(place.tolist()))
        now.told.append(told)
        self._tell(now, now.brush.touch(now.working, place, **told))

    def cancel(self) -> None:
        """Put everything back as it was before the stroke."""
        now, self._now = self._now, None
        if now is not None:
            self._put_back(now)

    def _put_back(self, now: _UnderWay) -> None:
        """Let the screen show the part as it was before the stroke."""
        buffers = self._session.known.buffers_of(now.piece.mesh)
        if buffers is None:
            return
        differ = (now.places != buffers.places).any(axis=1) | (now.normals != buffers.normals).any(axis=1)
        lit = np.flatnonzero(differ)
        if len(lit):
            points = np.concatenate([now.places[lit], buffers.places[lit]]).astype(np.float64) + now.origin
            self.touched.emit(Touched(lit, buffers.places, buffers.normals, points))

    def end(self) -> None:
        """Make the stroke a step, beside the window; where that is not possible or is stopped, all is put back."""
        now, self._now = self._now, None
        if now is None or not now.came_by:
            return
        session, piece = self._session, now.piece
        if session.tasks.busy is not None:
            self._put_back(now)
            session.message.emit(f"{session.tasks.title} is still going on; the stroke was not made", True)
            return
        stroke = now.brush.along(now.came_by, now.told)

        def work(progress: Progress) -> Step:
            outcome = stroke.accounted(piece.mesh, stroke.outcome_of(now.working, piece.mesh))
            _ = outcome.mesh.box  # asked for at once by what is shown
            return step_of_outcome(stroke, piece, outcome, time.perf_counter() - now.begun)

        def done(step: Step) -> None:
            if session.job.piece is piece:
                session.enter([step])

        def ended() -> None:
            session.tasks.busy_changed.disconnect(ended)
            QTimer.singleShot(0, settle)  # what was done is entered first

        def settle() -> None:
            if session.job.piece is piece and session.tasks.busy is None:  # stopped: the screen shows what is not
                self._put_back(now)

        session.tasks.foreground(stroke.title, work, done)
        session.tasks.busy_changed.connect(ended)

    def _tell(self, now: _UnderWay, moved: np.ndarray) -> None:
        """Bring what the screen shows up to date round some vertices."""
        working = now.working
        touched, working.touched = working.touched, []
        if len(moved) == 0 or not touched:
            return
        lit = np.unique(working.before.faces[np.concatenate(touched)])
        were = now.places[moved].astype(np.float64) + now.origin
        now.places[moved] = working.vertices[moved] - now.origin
        now.normals[lit, :3] = working.normals_at(lit)
        self.touched.emit(Touched(lit, now.places, now.normals, np.concatenate([were, working.vertices[lit]])))

    def _forget(self) -> None:
        self._now = None
