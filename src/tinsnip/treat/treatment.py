"""What every treatment is."""

from dataclasses import dataclass, field
from typing import Any, ClassVar

from pydantic import BaseModel, ConfigDict

from tinsnip.mesh import Mesh
from tinsnip.progress import Progress, stoppable

__all__ = ["Context", "Outcome", "Treatment", "counted"]


@dataclass
class Context:
    """What a treatment may use besides the mesh and its own parameters."""

    progress: Progress = field(default_factory=Progress)
    raw: Mesh | None = None


@dataclass(frozen=True)
class Outcome:
    """The new mesh, a line for the log, and figures under their names."""

    mesh: Mesh
    text: str
    figures: dict[str, Any] = field(default_factory=dict)


class Treatment(BaseModel):
    """One operation that changes a mesh: parameters, and a pure function.

    The same mesh and parameters give the same bits. A treatment that cannot keep its promise on a mesh
    raises `BadInput` and changes nothing; one with nothing to do returns the very mesh it was given.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: ClassVar[str]
    title: ClassVar[str]

    def __init_subclass__(cls, **named: Any) -> None:
        super().__init_subclass__(**named)
        if "apply" in cls.__dict__:
            cls.apply = stoppable(cls.apply)

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Treat a mesh."""
        raise NotImplementedError


def counted(n: int, one: str, many: str | None = None) -> str:
    """A count with its noun."""
    return f"{n:,}".replace(",", " ") + " " + (one if n == 1 else many or one + "s")
