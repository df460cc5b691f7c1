"""What every treatment is."""

import functools
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Self

import numpy as np
from pydantic import BaseModel, ConfigDict

from tinsnip.mesh import Mesh
from tinsnip.progress import Progress, stoppable
from tinsnip.treat.account import Account

__all__ = ["Context", "Outcome", "Treatment"]


@dataclass
class Context:
    """What a treatment may use besides the mesh and its own parameters."""

    progress: Progress = field(default_factory=Progress)
    raw: Mesh | None = None
    frame: np.ndarray | None = None
    """What took the raw scan to where the part stands, shape (4, 4)."""


@dataclass(frozen=True)
class Outcome:
    """The new mesh, a line for the log, and the account of what was done.

    A treatment that met something it must not decide alone leaves it as it is and asks a `question`.
    """

    mesh: Mesh
    text: str
    account: Account = field(default_factory=Account)
    question: str = ""


class Treatment(BaseModel):
    """One operation that changes a mesh: parameters, and a pure function.

    The same mesh and parameters give the same bits. A treatment that cannot keep its promise on a mesh
    raises `BadInput` and changes nothing; one with nothing to do returns the very mesh it was given.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: ClassVar[str]
    title: ClassVar[str]
    station: ClassVar[str] = ""
    """The station that offers it with a form of its fields; none where a tray does so in its own way."""
    reshapes: ClassVar[bool] = False
    """Whether it moves surface, or makes all of it anew, so that the areas before and after do not tell what went."""
    remakes: ClassVar[bool] = False
    """Whether it makes all of the surface anew: what was wrong before is no more, and what could not be done before
    is left to it."""
    clears_crossings: ClassVar[bool] = False
    """Whether it takes out, or makes anew, what crosses: what a step before let cross is no more, or still there to be
    counted."""
    takes_what_was_asked: ClassVar[bool] = False
    """Whether what goes by it is what its user pointed at, so that nothing of it is lost."""
    answers: ClassVar[str] = ""
    """How its question is answered in a routine; ``{step}`` stands for the step's name."""
    answers_asked: ClassVar[tuple[tuple[str, str], ...]] = ()
    """Each answer as a setting, ``{step}.field=value``, and what it does, in words."""
    named_points: ClassVar[tuple[str, ...]] = ()
    """Fields that are places on one scan, a point or a list of them, mm: they go along when it is moved, and fit no
    other."""

    def __init_subclass__(cls, **named: Any) -> None:
        super().__init_subclass__(**named)
        if "apply" in cls.__dict__:
            cls.apply = stoppable(_accounted(cls.apply))

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Treat a mesh."""
        raise NotImplementedError

    def accounted(self, mesh: Mesh, outcome: Outcome) -> Outcome:
        """An outcome on a mesh that accounts for all that was made, went and was shifted, and says so."""
        account = outcome.account.completed(mesh, outcome.mesh, self.reshapes)
        return replace(outcome, text=", ".join([outcome.text, *account.shares_told()]), account=account)

    def lost_mm2(self, account: Account) -> float:
        """How much of what went nobody asked to have taken, mm2."""
        return 0.0 if self.takes_what_was_asked else account.gone_mm2 or 0.0

    def shells_after(self, wanted: int, account: Account) -> int:
        """How many solids the part is to have after it, of `wanted` before."""
        return wanted

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> Self:
        """The same, set so as to leave some triangles alone, bool, shape (F,); as it is where it cannot be so set."""
        return self


def _accounted(apply: Callable[..., Outcome]) -> Callable[..., Outcome]:
    """Let `apply` account for all that was made, went and was shifted."""

    @functools.wraps(apply)
    def wrapped(self: Treatment, mesh: Mesh, context: Context) -> Outcome:
        return self.accounted(mesh, apply(self, mesh, context))

    return wrapped
