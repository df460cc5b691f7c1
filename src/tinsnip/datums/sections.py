"""The outline that a plane cuts out of a part, as a drawing."""

import numpy as np

from tinsnip.datums.drawings import Drawn
from tinsnip.datums.fitting import tolerance_of
from tinsnip.datums.outlines import outlines_of
from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.survey.measuring import section_of
from tinsnip.survey.surfaces import surface_of

__all__ = ["section_drawn"]

_TOLERANCES = 3.0
"""Spreads of the noise within which a place of an outline may lie off its line or arc."""


def section_drawn(mesh: Mesh, normal: np.ndarray, offset: float, name: str, within: float | None = None) -> Drawn:
    """A section with lines and arcs in place of its chords.

    Parameters
    ----------
    mesh : Mesh
    normal : ndarray, shape (3,)
        Unit.
    offset : float
        Distance of the plane from the origin along it, mm.
    name : str
    within : float, optional
        How far the outline may lie off its lines and arcs, mm; by default as the noise of the surface has it.

    Raises
    ------
    BadInput
        When the plane misses the part.
    """
    found = section_of(mesh, normal, offset)
    if len(found.ends) == 0:
        low, high = (float(x) for x in sorted(mesh.box @ normal)) if len(mesh.faces) else (0.0, 0.0)
        raise BadInput(f"{name}: the plane misses the part, which lies from {low:.4g} to {high:.4g} mm; move it")
    within = _TOLERANCES * tolerance_of(surface_of(mesh)) if within is None else within
    return Drawn(name, normal, offset, outlines_of(found.ends, normal, within))
