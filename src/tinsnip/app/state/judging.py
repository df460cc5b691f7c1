"""What the part is judged by: what every solid has to be, and a profile on top, worked out beside the window."""

from typing import NamedTuple

from PySide6.QtCore import QObject, Signal

from tinsnip.app.state.examined import Examined
from tinsnip.job import Profile, checks_of, turned_to_fit
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.survey import Examination, Readiness
from tinsnip.survey.readiness import Check
from tinsnip.treat import Treatment

__all__ = ["Judging"]


class _Judged(NamedTuple):
    mesh: Mesh
    profile: Profile
    format_name: str
    checks: tuple[Check, ...]
    remedy: tuple[Treatment, ...]


class Judging(QObject):
    """The profile in use, and what came of its checks on the present mesh.

    Parameters
    ----------
    session : Session

    Attributes
    ----------
    profile : Profile or None
    format_name : str
        What the part is to be written as, a key of `FORMATS`.
    """

    changed = Signal()

    def __init__(self, session: Examined) -> None:
        super().__init__()
        self._session = session
        self.profile: Profile | None = None
        self.format_name = "stl"
        self._judged: _Judged | None = None
        self._is_live = False
        session.mesh_changed.connect(self._forget)
        session.examined.connect(self._ask)

    def judge_by(self, profile: Profile | None) -> None:
        """Use another profile; None: none."""
        self.profile = profile
        self._ask()
        self.changed.emit()

    def write_as(self, format_name: str) -> None:
        """It is to be written as something else."""
        if format_name != self.format_name:
            self.format_name = format_name
            self._ask()

    def go_live(self, live: bool) -> None:
        """Judge from now on whenever something changes, or no more: it costs both cores some seconds."""
        self._is_live = live
        self._ask()

    @property
    def checks(self) -> tuple[Check, ...]:
        """The profile's own, those that are not known yet among them."""
        if self.profile is None:
            return ()
        known = self._known()
        return known.checks if known is not None else tuple(Check(n, None, "not yet known") for n in self.profile.asked)

    @property
    def remedy(self) -> tuple[Treatment, ...]:
        """What lets the part fit into the machine's room, where it does not as it lies and something does."""
        known = self._known()
        return () if known is None else known.remedy

    @property
    def readiness(self) -> Readiness | None:
        """Whether the part is ready, by the profile too; None while it is being looked over."""
        found = self._session.examination
        if found is None or self.profile is None:
            return None if found is None else found.readiness
        return Examination(found.mesh, self.profile.shells, found.ends_as).readiness.also(*self.checks)

    def _known(self) -> _Judged | None:
        known = self._judged
        now = (self._session.mesh, self.profile, self.format_name)
        return known if known is not None and known[0] is now[0] and known[1:3] == now[1:] else None

    def _forget(self) -> None:
        if self._judged is not None and self._judged.mesh is not self._session.mesh:
            self._judged = None

    def _ask(self) -> None:
        found, profile, name = self._session.examination, self.profile, self.format_name
        # what crosses itself has no clear inside, so that much waits for that
        if (
            not self._is_live
            or profile is None
            or found is None
            or found.crossings is None
            or self._known() is not None
        ):
            return

        def work(progress: Progress) -> _Judged:
            checks = checks_of(profile, found, name, progress)
            return _Judged(found.mesh, profile, name, checks, turned_to_fit(profile, found.mesh, checks, progress))

        def take(judged: _Judged) -> None:
            self._judged = judged
            self.changed.emit()

        self._session.tasks.behind("profile", work, take)
