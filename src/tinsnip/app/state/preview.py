"""What is shown before it is done."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.job import Piece, Step
from tinsnip.mesh import Mesh
from tinsnip.mesh.proxy import light_proxy
from tinsnip.survey.deviation import FromRaw
from tinsnip.treat import Outcome, Treatment

__all__ = ["Preview", "StandIn", "TogetherPreview"]


@dataclass(frozen=True, eq=False)
class Preview:
    """A treatment worked out but not applied."""

    treatment: Treatment
    before: Mesh
    outcome: Outcome
    seconds: float


@dataclass(frozen=True, eq=False)
class TogetherPreview:
    """Something done to several pieces, worked out but not done.

    Attributes
    ----------
    pieces : mapping of int to Piece
        All that were there.
    step : Step
        What it would be in the log.
    corners : ndarray, shape (T, 3, 3)
        Of the triangles that stand for what comes of it, mm; of large pieces of their light stand-in.
    """

    pieces: Mapping[int, Piece]
    step: Step
    corners: np.ndarray

    @classmethod
    def of(cls, pieces: Mapping[int, Piece], step: Step) -> "TogetherPreview":
        """The preview of a step; takes its time."""
        corners = [np.zeros((0, 3, 3))]
        for change in step.changes:
            if change.after is not None:
                mesh = change.after.mesh
                proxy = light_proxy((mesh.vertices - mesh.box.mean(axis=0)).astype(np.float32), mesh.faces)
                corners.append(mesh.vertices[mesh.faces if proxy is None else proxy.vertices[proxy.faces]])
        return cls(pieces, step, np.concatenate(corners))

    def stands(self, present: Mapping[int, Piece]) -> bool:
        """Whether it was worked out on the pieces that are there now."""
        return dict(present) == dict(self.pieces)


@dataclass(frozen=True, eq=False)
class StandIn:
    """What is shown in place of a mesh: how many triangles it has, what draws it, and how far it is off, if known."""

    before: Mesh
    triangles: int
    buffers: ViewBuffers
    from_raw: FromRaw | None = None
    places: ViewBuffers | None = None
