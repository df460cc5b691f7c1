"""A treatment that has been worked out and is looked at before it is applied."""

from dataclasses import dataclass

from tinsnip.mesh import Mesh
from tinsnip.treat import Outcome, Treatment

__all__ = ["Preview"]


@dataclass(frozen=True)
class Preview:
    """A treatment worked out but not applied, and the mesh it was worked out for."""

    treatment: Treatment
    before: Mesh
    outcome: Outcome
    seconds: float
