"""What was measured: listed, shown on the part it was measured on, and kept in the job."""

import contextlib
from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.session import Session
from tinsnip.mesh import Mesh
from tinsnip.regions.region import fingerprint
from tinsnip.survey.measuring import Reading

__all__ = ["Readings"]

_MOST = 200


class Readings(QObject):
    """The readings of a job, the newest last."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.all: list[Reading] = []
        self._job = session.job
        self._shown: set[str] = set()
        session.mesh_changed.connect(self._look_again)
        session.pieces_changed.connect(self._look_again)

    def _look_again(self) -> None:
        was = self._job
        if self._session.job is not self._job:
            self._job, self.all = self._session.job, []
        meshes = [piece.mesh for piece in self._session.shown_pieces()]
        shown = {fingerprint(mesh) for mesh in meshes if len(mesh.faces)}
        if shown != self._shown or was is not self._job:
            self._shown = shown
            self.changed.emit()

    def add(self, reading: Reading, meshes: Sequence[Mesh]) -> None:
        """Keep one, as measured on some pieces, two at most, as they are now."""
        prints = list(dict.fromkeys(fingerprint(mesh) for mesh in meshes))
        told = {"step": self._session.job.cursor, "part": prints[0], "further": "".join(prints[1:2])}
        self.all = [*self.all, reading.model_copy(update=told)][-_MOST:]
        self.changed.emit()

    def is_of_now(self, reading: Reading) -> bool:
        """Whether one was measured on what is shown, as it is now."""
        return bool(reading.part) and {reading.part, reading.further or reading.part} <= self._shown

    def remove(self, reading: Reading) -> None:
        """Take one away."""
        self.all = [one for one in self.all if one is not reading]
        self.changed.emit()

    def clear(self) -> None:
        """Take all away."""
        self.all = []
        self.changed.emit()

    def now(self) -> list[Reading]:
        """Those that were measured on what is shown, as it is now."""
        return [one for one in self.all if self.is_of_now(one)]

    def values(self) -> list[dict[str, Any]]:
        """All of them, as JSON can hold them."""
        return [one.model_dump(mode="json") for one in self.all]

    def show_again(self, kept: object) -> None:
        """Take those of a job that was opened; what is no reading is left out."""
        self.all = []
        for one in kept[:_MOST] if isinstance(kept, list) else ():
            with contextlib.suppress(ValueError):
                self.all.append(Reading.model_validate(one))
        self.changed.emit()
