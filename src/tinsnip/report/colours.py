"""Colours of triangles by what was measured of them: the same as in the window."""

import numpy as np

from tinsnip.mesh import MADE, SHIFTED, Mesh

__all__ = ["MADE_COLOUR", "deviation_colours", "provenance_colours", "ramp", "wall_colours"]

_PALE = (237.0, 233.0, 222.0)
_COPPER, _SAND = (168.0, 69.0, 20.0), (222.0, 143.0, 87.0)
_PETROL, _SKY = (13.0, 84.0, 120.0), (107.0, 166.0, 184.0)
MADE_COLOUR = (166.0, 126.0, 214.0)
_SHIFTED = (150.0, 185.0, 198.0)
_TIN = (196.0, 194.0, 188.0)


def ramp(share: np.ndarray) -> np.ndarray:
    """Colours of shares from -1, petrol, over 0, pale, to 1, copper; shape (N, 3), 0 to 255.

    Parameters
    ----------
    share : ndarray, shape (N,)
    """
    at = (-1.0, -0.5, 0.0, 0.5, 1.0)
    stops = np.array([_PETROL, _SKY, _PALE, _SAND, _COPPER])
    return np.stack([np.interp(share, at, stops[:, k]) for k in range(3)], axis=-1)


def deviation_colours(places: Mesh, signed: np.ndarray, limit: float) -> np.ndarray:
    """Colours of triangles by how far they lie off, shape (F, 3).

    Parameters
    ----------
    places : Mesh
    signed : ndarray, shape (V,)
        mm; not a number where there is nothing to be measured against.
    limit : float
        Where the colours end, mm.
    """
    own = signed[places.faces].astype(np.float64)
    colours = ramp(np.nan_to_num(np.nanmean(np.where(np.isfinite(own), own, 0.0), axis=1)) / limit)
    colours[~np.isfinite(own).any(axis=1)] = MADE_COLOUR
    return colours


def provenance_colours(mesh: Mesh) -> np.ndarray:
    """Colours of triangles by whether they were measured, shifted or made, shape (F, 3).

    Parameters
    ----------
    mesh : Mesh
    """
    kinds = mesh.provenance[:, None]
    return np.where(kinds == MADE, MADE_COLOUR, np.where(kinds == SHIFTED, _SHIFTED, _TIN))


def wall_colours(mesh: Mesh, thickness: np.ndarray, least: float) -> np.ndarray:
    """Colours of triangles by the wall there: copper below the least one, pale up to twice it, then petrol.

    Parameters
    ----------
    mesh : Mesh
    thickness : ndarray, shape (V,)
        mm.
    least : float
        mm.
    """
    share = np.minimum(thickness[mesh.faces], 1e30).mean(axis=1) / least
    thick = ramp(-0.3 - 0.7 * np.clip((share - 2.0) / 6.0, 0.0, 1.0))
    thin = ramp(1.0 - 0.4 * np.clip(share, 0.0, 1.0))
    return np.where((share < 1.0)[:, None], thin, np.where((share < 2.0)[:, None], _PALE, thick))
