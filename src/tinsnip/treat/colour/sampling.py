"""The raw scan's colours at any place of the part: straight below or above it, or nearest to it."""

from collections.abc import Mapping
from typing import Any

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import cg

from tinsnip.formats.textures import texture_of_triangles
from tinsnip.kernels import kernel
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.measures import face_vectors, vertex_normals
from tinsnip.progress import check_here
from tinsnip.space.cornerweights import corner_weights
from tinsnip.space.tree import closest_points, first_hits
from tinsnip.threads import in_chunks

__all__ = ["RawColours", "filled_smoothly", "mixed"]

_NEAR = 0.25
"""Of the distance between two places: what lies so close has the colour of the nearest place, whichever way it is
looked for."""
_REACH = 0.02
"""Share of the part's size within which colours are looked for along the normal."""
_ALIKE = 0.2
"""Cosine of the normals of place and surface from which on they face the same way."""


class RawColours:
    """The colours of a raw scan, by its texture or by its vertices.

    Parameters
    ----------
    raw : Mesh
        With colours or a texture.
    """

    def __init__(self, raw: Mesh) -> None:
        self._raw = raw
        self._vectors = face_vectors(raw.vertices, raw.faces)
        texture = raw.attributes.get("texture")
        self._images: Mapping[int, Any] = (texture.beside or {}) if texture is not None else {}
        self._pixels = {number: np.asarray(image.convert("RGB")) for number, image in self._images.items()}
        self._owner = texture_of_triangles(raw) if self._images else None
        self._normals: np.ndarray | None = None
        self._own = np.zeros((0, 3)) if raw.colour is None else raw.colour.astype(np.float64)

    @staticmethod
    def are_there(raw: Mesh) -> bool:
        """Whether a scan has any."""
        texture = raw.attributes.get("texture")
        return len(raw.faces) > 0 and (raw.colour is not None or (texture is not None and bool(texture.beside)))

    def find(
        self, places: np.ndarray, normals: np.ndarray | None, apart: float, state: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """The scan's triangle that belongs to each place, int64, shape (N,), and the point on it, shape (N, 3).

        Parameters
        ----------
        places : ndarray, shape (N, 3)
            In the scan's own frame, mm.
        normals : ndarray, shape (N, 3), or None
            Along which the surface is looked for first; None: what is nearest is what is meant.
        apart : float
            How far the places lie apart, mm.
        state : ndarray of int64
            Polled for cancelling.
        """
        feet = np.empty_like(places)
        distance, triangle = closest_points(self._raw.tree, places, state, feet)
        check_here()
        if normals is not None:
            off = np.flatnonzero((distance > _NEAR * apart) & ((normals**2).sum(axis=1) > 0.5))
            self._along(places, normals, off, feet, triangle, state)
        return triangle.astype(np.int64), feet

    def at(self, places: np.ndarray, normals: np.ndarray | None, apart: float, state: np.ndarray) -> np.ndarray:
        """Colours at places, 0 to 255, shape (N, 3), found as by `find`."""
        return self.colours(*self.find(places, normals, apart, state))

    def normals(self, triangle: np.ndarray, feet: np.ndarray) -> np.ndarray:
        """Unit normals at points on triangles, between those of the corners, shape (N, 3)."""
        raw = self._raw
        if self._normals is None:
            self._normals = vertex_normals(raw.vertices, raw.faces).astype(np.float64)
        found = mixed(self._normals, raw.faces[triangle], corner_weights(raw.vertices, raw.faces, triangle, feet))
        return found / np.maximum(np.linalg.norm(found, axis=1), 1e-300)[:, None]

    def _along(
        self,
        places: np.ndarray,
        normals: np.ndarray,
        off: np.ndarray,
        feet: np.ndarray,
        triangle: np.ndarray,
        state: np.ndarray,
    ) -> None:
        """Put what lies straight above or below in place of what is nearest, where there is such."""
        raw = self._raw
        # what is nearest says on which side it is; along the normal it is there too, or not at all
        side = np.sign(((feet[off] - places[off]) * normals[off]).sum(axis=1))
        ways = np.where(side < 0, -1.0, 1.0)[:, None] * normals[off]
        along, hit = first_hits(raw.tree, places[off], ways, state)
        check_here()
        faces = self._vectors[hit]
        alike = (faces * normals[off]).sum(axis=1) > _ALIKE * np.linalg.norm(faces, axis=1)
        good = (hit >= 0) & (along < _REACH * raw.diagonal) & alike
        triangle[off[good]] = hit[good]
        feet[off[good]] = places[off[good]] + along[good, None] * ways[good]

    def colours(self, triangle: np.ndarray, feet: np.ndarray) -> np.ndarray:
        """Colours at points on triangles, 0 to 255, shape (N, 3)."""
        raw = self._raw
        weights = corner_weights(raw.vertices, raw.faces, triangle, feet)
        colours = np.full((len(feet), 3), 190.0)
        if raw.colour is not None:
            colours = mixed(self._own, raw.faces[triangle], weights)
        if self._owner is not None:
            uv, owner = raw.attributes["texture"].values.astype(np.float64), self._owner[triangle]
            for number, pixels in self._pixels.items():
                own = np.flatnonzero(owner == number)
                corners = 3 * triangle[own][:, None] + np.arange(3)
                colours[own] = _between_pixels(pixels, mixed(uv, corners, weights[own]))
        return colours


@kernel
def _mixed(values, rows, weights, out):
    """Values at three rows each, by weight."""
    for i in range(rows.shape[0]):
        for k in range(out.shape[1]):
            out[i, k] = (
                weights[i, 0] * values[rows[i, 0], k]
                + weights[i, 1] * values[rows[i, 1], k]
                + weights[i, 2] * values[rows[i, 2], k]
            )


def mixed(values: np.ndarray, rows: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """Values at the corners of triangles, by weight, shape (N, K).

    Parameters
    ----------
    values : ndarray, shape (V, K)
    rows : ndarray of int, shape (N, 3)
    weights : ndarray, shape (N, 3)
    """
    out = np.empty((len(rows), values.shape[1]))
    rows = np.ascontiguousarray(rows, dtype=np.int64)
    in_chunks(lambda b, e: _mixed(values, rows[b:e], weights[b:e], out[b:e]), len(rows), 50_000)
    return out


def _between_pixels(pixels: np.ndarray, place: np.ndarray) -> np.ndarray:
    """Colours at texture places, v upward, mixed of the four pixels round each."""
    height, width = pixels.shape[:2]
    place = np.nan_to_num(place, nan=0.0, posinf=0.0, neginf=0.0)
    place = np.where((place < 0) | (place > 1), place % 1.0, place)
    x = np.clip(place[:, 0] * width - 0.5, 0, width - 1)
    y = np.clip((1 - place[:, 1]) * height - 0.5, 0, height - 1)
    left, top = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    right, bottom = np.minimum(left + 1, width - 1), np.minimum(top + 1, height - 1)
    s, t = (x - left)[:, None], (y - top)[:, None]
    above = (1 - s) * pixels[top, left] + s * pixels[top, right]
    return (1 - t) * above + t * ((1 - s) * pixels[bottom, left] + s * pixels[bottom, right])


def filled_smoothly(mesh: Mesh, colours: np.ndarray) -> np.ndarray:
    """Colours of vertices, those that only made surface has led over from what is round it.

    Each becomes the mean of its neighbours; what hangs together with nothing else gets the mean of all.

    Parameters
    ----------
    mesh : Mesh
    colours : ndarray, shape (V, 3)
        Of the others, 0 to 255.
    """
    made = mesh.provenance == MADE
    known = np.zeros(len(mesh.vertices), dtype=bool)
    known[mesh.faces[~made]] = True
    open_ = np.zeros(len(mesh.vertices), dtype=bool)
    open_[mesh.faces[made]] = True
    open_ &= ~known
    unknown = np.flatnonzero(open_)
    if len(unknown) == 0:
        return colours
    filled = colours.astype(np.float64)
    if not known.any():
        filled[unknown] = 190.0
        return filled
    a, b = mesh.faces[made].ravel(), mesh.faces[made][:, [1, 2, 0]].ravel()
    count = len(mesh.vertices)
    link = sparse.csr_matrix((np.ones(2 * len(a)), (np.r_[a, b], np.r_[b, a])), shape=(count, count))
    link.data[:] = 1.0
    rows = link[unknown]
    degree = np.asarray(rows.sum(axis=1)).ravel()
    inner = sparse.diags(degree) - rows[:, unknown]
    border = rows[:, known.nonzero()[0]]
    mean = filled[known].mean(axis=0)
    inner = inner + sparse.diags(np.full(len(unknown), 1e-9))
    for k in range(3):
        given = border @ (filled[known, k] - mean[k])
        filled[unknown, k] = mean[k] + cg(inner.tocsr(), given, rtol=1e-4, maxiter=2000)[0]
        check_here()
    return np.clip(filled, 0.0, 255.0)
