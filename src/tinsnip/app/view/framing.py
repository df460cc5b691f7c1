"""What of the part the view shows: all at first, then what the hand makes of it; it follows where the part goes."""

import contextlib
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.app.state.session import Session
from tinsnip.app.view.camera import Camera
from tinsnip.app.view.flight import Flight
from tinsnip.survey import Finding

__all__ = ["Framing"]

_MUCH_SMALLER = 0.5
"""A part is much smaller where its diagonal is below this share of what it was."""
_POINTS = 50_000
"""About so many vertices of each piece tell what is to be seen of it."""
_FIRST_FRAMES = 4
"""Pictures after fitting within which further pieces, that come a moment later, are fitted in too."""


class Framing(QObject):
    """Moves the camera to where it shows what is wanted.

    Parameters
    ----------
    session : Session
    camera : Camera
    moved : callable
        Called whenever the camera has moved.
    parent : QObject

    Attributes
    ----------
    covered_left : float
        Pixels at the left that a card covers.

    Signals
    -------
    touched
        The view was moved by hand.
    shrunk
        The part is much smaller than it was, and still looked at as before; or it is so no more.
    """

    touched = Signal()
    shrunk = Signal(bool)

    def __init__(self, session: Session, camera: Camera, moved: Callable[[], None], parent: QObject) -> None:
        super().__init__(parent)
        self._session, self._camera, self._moved = session, camera, moved
        self.flight = Flight(camera, moved, parent)
        self.covered_left = 0.0
        self._fitted: int | None = None
        self._is_by_hand = False
        self._stood: tuple[int, np.ndarray, np.ndarray] | None = None
        self._fit_frame = 0
        session.reframed.connect(self._fit_again)

    def touch(self) -> None:
        """The view is moved by hand: it stays as it is from now on."""
        self._is_by_hand = True
        self.touched.emit()

    def fit(self) -> None:
        """Show all of the part."""
        mesh = self._session.mesh
        if mesh is not None and len(mesh.faces):
            shown = [mesh.vertices, *(b.mesh.vertices for b in self._session.others())]
            some = np.concatenate([v[:: max(1, len(v) // _POINTS)] for v in shown])
            self._camera.fit(some, mesh.box, self.covered_left)
            self._is_by_hand = False
            self._moved()

    def take(self, frames: int) -> None:
        """The mesh is another one: show all of another piece, and follow the one that is shown already.

        Parameters
        ----------
        frames : int
            Pictures drawn so far.
        """
        self.know_box()
        piece = self._session.job.piece
        if piece is None:
            return
        if self._fitted != piece.id:
            self._fitted, self._fit_frame = piece.id, frames
            self.fit()
            self.shrunk.emit(False)
        else:
            self._follow(piece.id, piece.mesh.box, piece.frame)
        self._stood = piece.id, piece.mesh.box, piece.frame

    def take_others(self, frames: int) -> None:
        """Other pieces are shown too: of scans just opened, all are brought into view."""
        self.know_box()
        is_first = frames < self._fit_frame + _FIRST_FRAMES
        if self._fitted == self._session.job.active and self._session.is_as_opened and is_first:
            self.fit()

    def resized(self) -> None:
        """The view has another size: show all again, unless it was moved by hand."""
        if self._fitted is not None and not self._is_by_hand:
            self.fit()

    def know_box(self) -> None:
        """Keep everything that is shown within the camera's depth."""
        boxes = [b.mesh.box for b in self._session.others()]
        if self._session.mesh is not None:
            boxes.append(self._session.mesh.box)
        if boxes:
            low, high = np.array(boxes).transpose(1, 0, 2)
            self._camera.set_part(np.stack([low.min(axis=0), high.max(axis=0)]))

    def fly_to(self, finding: Finding, buffers: ViewBuffers | None) -> None:
        """Bring a finding to the middle, seen from its open side."""
        self.touch()
        known = buffers is not None and buffers.mesh is self._session.mesh
        self.flight.fly_to(finding, (buffers.mesh.vertices, buffers.light_faces) if known else None)

    def show_again(self, camera: object) -> None:
        """Look from where a saved job was looked at; what does not fit is ignored."""
        with contextlib.suppress(AttributeError, TypeError, ValueError):
            turn, lift, scale = (float(camera.get(name)) for name in ("turn", "lift", "scale"))
            middle = np.array(camera.get("middle"), dtype=float)
            fits = middle.shape == (3,) and np.isfinite([turn, lift, scale, *middle]).all()
            if fits and scale > 0 and self._session.job.piece is not None:
                self._camera.turn, self._camera.lift = turn % 360, float(np.clip(lift, -90, 90))
                self._camera.middle, self._camera.scale = middle, scale
                self._fitted, self._is_by_hand = self._session.job.piece.id, True
                self._moved()

    def look_from(self, turn: float, lift: float) -> None:
        """Look from a direction, degrees, about the middle of the view."""
        self._camera.turn, self._camera.lift = turn, lift
        self.touch()
        self._moved()

    def work_on(self, number: int) -> None:
        """Work on another piece that is seen, and look at it from where the view is."""
        self._fitted, self._stood = number, None
        self._session.set_active(number, reframe=False)

    def _follow(self, number: int, box: np.ndarray, frame: np.ndarray) -> None:
        """The part has changed: where it was moved the view goes with it, where it shrank fitting is offered."""
        if self._stood is None or self._stood[0] != number or not np.isfinite(box).all():
            return
        was, stood = self._stood[1:]
        before, now = (float(np.linalg.norm(b[1] - b[0])) for b in (was, box))
        if not np.array_equal(stood, frame):
            grown = now / before if before > 0 and abs(now / before - 1.0) > 0.2 else 1.0
            self._camera.middle = box.mean(axis=0) + grown * (self._camera.middle - was.mean(axis=0))
            self._camera.scale *= grown
            self._moved()
        elif now < _MUCH_SMALLER * before or before < _MUCH_SMALLER * now:
            self.shrunk.emit(now < before)

    def _fit_again(self) -> None:
        """The part has changed its size or is another: show all of it once it is ready."""
        self._fitted = None
