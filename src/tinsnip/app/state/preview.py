"""What is shown before it is done."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from tinsnip.app.state.buffers import ViewBuffers
from tinsnip.job import Piece, Step
from tinsnip.mesh import Mesh
from tinsnip.mesh.proxy import light_proxy
from tinsnip.survey.deviation import FromRaw
from tinsnip.survey.lying import Lying, LyingPiece
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
    lying : tuple of Lying
        Where pieces only moved: each of these, and how far it is off the others.
    """

    pieces: Mapping[int, Piece]
    step: Step
    corners: np.ndarray
    lying: tuple[Lying, ...]

    @classmethod
    def of(cls, pieces: Mapping[int, Piece], step: Step) -> "TogetherPreview":
        """The preview of a step; takes its time."""
        made = {change.id: change.after for change in step.changes if change.after is not None}
        moved = {i for i, piece in made.items() if i in pieces and piece.mesh.faces is pieces[i].mesh.faces}
        corners = [np.zeros((0, 3, 3))]
        for mesh in (piece.mesh for i, piece in made.items() if i not in moved):
            proxy = light_proxy((mesh.vertices - mesh.box.mean(axis=0)).astype(np.float32), mesh.faces)
            corners.append(mesh.vertices[mesh.faces if proxy is None else proxy.vertices[proxy.faces]])
        moves = {i: made[i].frame @ np.linalg.inv(pieces[i].frame) if i in moved else np.eye(4) for i in step.on}
        lying = [
            LyingPiece(pieces[i].mesh).lying(moves[i], [(pieces[j].mesh, moves[j]) for j in step.on if j != i])
            for i in sorted(moved)
        ]
        return cls(pieces, step, np.concatenate(corners), tuple(lying))

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
