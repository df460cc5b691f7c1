"""Which step made the surface at a place."""

from collections.abc import Sequence

import numpy as np

from tinsnip.job.piece import Piece
from tinsnip.job.step import Step
from tinsnip.mesh import MADE, Mesh
from tinsnip.progress import check_here

__all__ = ["step_that_made"]


def step_that_made(steps: Sequence[Step], piece: Piece, place: np.ndarray) -> int | None:
    """Number of the step that made the surface at a place, whatever was done to it since.

    Parameters
    ----------
    steps : sequence of Step
        The log up to where the piece stands so, oldest first.
    piece : Piece
    place : ndarray, shape (3,)
        On its surface, mm.

    Returns
    -------
    int or None
        Counted from 0; None where the surface there was measured, or came made with the scan.
    """
    if not _is_made(piece.mesh, place):
        return None
    home = np.linalg.inv(piece.frame) @ np.append(place, 1.0)  # in the scanner's frame, as steps may have moved it
    for number in range(len(steps) - 1, -1, -1):
        check_here()
        change = next((c for c in steps[number].changes if c.id == piece.id), None)
        if change is None or not steps[number].enabled:
            continue
        before = change.before
        if before is None:  # opened, or put together from others
            return None
        if not _is_made(before.mesh, (before.frame @ home)[:3]):
            return number
    return None


def _is_made(mesh: Mesh, place: np.ndarray) -> bool:
    """Whether the triangle whose middle is nearest was made."""
    if len(mesh.faces) == 0:
        return False
    square = np.zeros(len(mesh.faces))
    for k in range(3):
        along = mesh.vertices[:, k]
        square += (along[mesh.faces].sum(axis=1) / 3.0 - place[k]) ** 2
    return bool(mesh.provenance[np.argmin(square)] == MADE)
