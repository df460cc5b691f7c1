"""What may be the backdrop of a scan: large flats that face the part and end in the open, and what belongs to them."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.regions.grow import grown
from tinsnip.survey.bed import beds_of

__all__ = ["backdrop"]

_FACES = np.cos(np.radians(35.0))
_NEAR = 3.0
"""Heights over a flat, in units of its own unevenness, up to which what has its colour belongs to it."""
_COLOUR = 18.0
"""Steps of 256 by which a colour may differ from the backdrop's."""
_AWAY = 0.5
"""Distance from the main shell, as a share of its size, beyond which a large shell belongs to the backdrop."""


def backdrop(mesh: Mesh) -> np.ndarray:
    """Triangles that may be the backdrop, by flatness, distance and colour, bool, shape (F,).

    It is a proposal: what it finds is for the technician to look at, and to delete or not.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    ndarray of bool, shape (F,)
    """
    chosen = np.zeros(len(mesh.faces), dtype=bool)
    if len(mesh.faces) == 0:
        return chosen
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    vectors = face_vectors(mesh.vertices, mesh.faces)
    size = np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)
    colours = None if mesh.colour is None else mesh.colour[mesh.faces].mean(axis=1)
    for bed in beds_of(mesh):
        height = np.abs(middles @ bed.normal - bed.offset)
        flat = (height <= bed.above) & (np.abs(vectors @ bed.normal) > _FACES * size)
        if colours is not None and flat.any():
            alike = np.abs(colours - np.median(colours[flat], axis=0)).max(axis=1) <= _COLOUR
            near = alike & (height <= _NEAR * bed.above)
            for _ in range(200):  # what is connected with it, row by row
                more = grown(mesh, flat) & near & ~flat
                if not more.any():
                    break
                flat |= more
        chosen |= flat
    shells = mesh.shells
    if len(shells) > 1:
        rest = np.bincount(
            shells.label[~chosen & (shells.label >= 0)],
            weights=size[~chosen & (shells.label >= 0)],
            minlength=len(shells),
        )
        main = int(np.argmax(rest))
        low, high = shells.box[main]
        gap = np.maximum(low - shells.box[:, 1], shells.box[:, 0] - high).max(axis=1)
        away = (gap > _AWAY * np.linalg.norm(high - low)) & (shells.area > 0.02 * shells.area[main])
        chosen |= (shells.label >= 0) & away[np.maximum(shells.label, 0)]
    return chosen
