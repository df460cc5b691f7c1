"""What is shown before it is done."""

from dataclasses import dataclass

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.mesh import Mesh
from tinsnip.survey.deviation import FromRaw
from tinsnip.treat import Outcome, Treatment

__all__ = ["Preview", "StandIn"]


@dataclass(frozen=True, eq=False)
class Preview:
    """A treatment worked out but not applied."""

    treatment: Treatment
    before: Mesh
    outcome: Outcome
    seconds: float


@dataclass(frozen=True, eq=False)
class StandIn:
    """What is shown in place of a mesh: how many triangles it has, what draws it, and how far it is off, if known."""

    before: Mesh
    triangles: int
    buffers: ViewBuffers
    from_raw: FromRaw | None = None
    places: ViewBuffers | None = None
