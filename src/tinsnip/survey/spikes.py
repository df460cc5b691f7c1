"""Spikes: single vertices that stand far off their neighbours."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.remembered import remembered
from tinsnip.survey.finding import Finding, Kind

__all__ = ["Spikes", "find_spikes", "spikes_of"]

_LEGS = 1.5
"""A corner is pointed where both its sides are so many times as long as the one across."""
_HEIGHT = 2.5
"""A spike stands at least so many times as high over the middle of its neighbours as these lie from it."""


class Spikes(NamedTuple):
    """Vertices that stand far off their neighbours.

    Attributes
    ----------
    vertices : ndarray of int, shape (N,)
    middles : ndarray, shape (N, 3)
        The middle of each one's neighbours, mm.
    heights : ndarray, shape (N,)
        How far each stands off that, mm.
    """

    vertices: np.ndarray
    middles: np.ndarray
    heights: np.ndarray


@kernel
def _pointed(vertices, faces, legs, count):
    """How many of the corners at each vertex are pointed, up to 200."""
    far = np.empty(3)
    for f in range(faces.shape[0]):
        for k in range(3):
            a, b = faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
            d = 0.0
            for i in range(3):
                d += (vertices[a, i] - vertices[b, i]) ** 2
            far[k] = legs * legs * d
        for k in range(3):
            own = far[k] * legs * legs
            if own < far[(k + 1) % 3] and own < far[(k + 2) % 3] and count[faces[f, k]] < 200:
                count[faces[f, k]] += 1


@remembered
def spikes_of(mesh: Mesh) -> Spikes:
    """Look for spikes, the highest first; ends of open edges are none.

    Parameters
    ----------
    mesh : Mesh
    """
    count = np.zeros(len(mesh.vertices), dtype=np.uint8)
    _pointed(mesh.vertices, mesh.faces, _LEGS, count)
    some = count >= 3
    near = np.flatnonzero(triangles_at(mesh.faces, some))
    faces = mesh.faces[near]
    # every corner there is pointed, and the fan closed: each neighbour follows once and precedes once
    fan, corner = np.nonzero(some[faces])
    at, after = faces[fan, corner], faces[fan, (corner + 1) % 3]
    whole = np.bincount(at, minlength=len(some)) == count
    twins = mesh.twins.reshape(-1, 3)[near]
    is_open = (twins[fan, corner] < 0) | (twins[fan, (corner + 2) % 3] < 0)
    whole[at[is_open]] = False
    keep = some[at] & whole[at]
    at, after = at[keep], after[keep]
    found, index, degree = np.unique(at, return_inverse=True, return_counts=True)
    middle = np.zeros((len(found), 3))
    np.add.at(middle, index, mesh.vertices[after])
    middle /= np.maximum(degree, 1)[:, None]
    wide = np.bincount(index, np.linalg.norm(mesh.vertices[after] - middle[index], axis=1), len(found)) / degree
    height = np.linalg.norm(mesh.vertices[found] - middle, axis=1)
    order = np.flatnonzero(height > _HEIGHT * wide)
    order = order[np.argsort(-height[order], kind="stable")]
    return Spikes(found[order], middle[order], height[order])


def find_spikes(mesh: Mesh) -> list[Finding]:
    """One finding for all spikes, where there are any.

    Parameters
    ----------
    mesh : Mesh
    """
    spikes = spikes_of(mesh)
    if len(spikes.vertices) == 0:
        return []
    places = mesh.vertices[spikes.vertices]
    return [
        Finding(
            id="K1",
            kind=Kind.SPIKE,
            text="spikes" if len(places) > 1 else "spike",
            place=places[0],
            size=float(spikes.heights[0]),
            count=len(places),
            proposal="pull in",
            key=int(spikes.vertices[0]),
            outline=places,
        )
    ]
