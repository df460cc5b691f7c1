"""The round surface about a place."""

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.regions.grow import brushed
from tinsnip.survey.measuring import round_about

__all__ = ["round_at"]

_FIRST, _WIDEST = 0.02, 0.3
"""How far about a place is looked at first, and at most, as shares of the diagonal."""
_BEND = 40.0
"""Degrees that the surface may turn by and be looked at as round."""
_ENOUGH = 12
"""Triangles that a round is fitted to at the least."""


def round_at(mesh: Mesh, triangle: int, point: np.ndarray) -> np.ndarray:
    """The triangles of the cylinder that a place lies on, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    triangle : int
    point : ndarray, shape (3,)

    Raises
    ------
    BadInput
        When the surface is flat as far as is looked.
    """
    share = _FIRST
    while share <= _WIDEST:
        near = brushed(mesh, triangle, point, share * mesh.diagonal, _BEND)
        if len(near) >= _ENOUGH:
            try:
                return round_about(mesh, triangle, point, near)
            except BadInput:
                pass  # flat so near; look further
        share *= 1.6
    raise BadInput("the surface is flat there and fits no cylinder; click on a round one")
