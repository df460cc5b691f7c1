"""The lines of a surface that a new meshing keeps: edges, rims, and borders between what differs on either side."""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.normalfilter import filtered_normals
from tinsnip.progress import check_here, polled_here
from tinsnip.treat.remesh.edits import CORNER, CREASE, FIXED, FREE, LINE, LOCKED, PLAIN

__all__ = ["Creases", "find_creases"]

_SHARP = np.cos(np.radians(40.0))
"""Triangles that turn by more from one to the next meet in an edge."""
_NOISY = 0.03
"""Share of edges that are sharp from which noise is taken off the normals first: none of the clean parts tried has so
many, and noise of a fifth of an edge makes one in ten so."""
_SHORT = 2.0
"""Lines shorter than this, in wanted edges, are no edges of the part but noise."""
_TURN = 0.5
"""Cosine of the turn from which a line has a corner, 60 degrees, looked at half a wanted edge away either way."""


class Creases(NamedTuple):
    """What is kept of a surface's lines.

    Attributes
    ----------
    kind : ndarray of uint8, shape (3 F,)
        `PLAIN`, `CREASE` or `LOCKED`, of each half-edge.
    standing : ndarray of uint8, shape (V,)
        `FREE`, on a `LINE`, at a `CORNER`, or `FIXED`.
    """

    kind: np.ndarray
    standing: np.ndarray


@kernel
def _point(P, starts, ends, v, way, reach, stops, out):
    """The place half a wanted edge along a line from a vertex; the line's end or corner where that is nearer."""
    before, now = v, ends[starts[v] + way]
    left = reach
    x, y, z = P[v, 0], P[v, 1], P[v, 2]
    for _ in range(10_000):
        dx, dy, dz = P[now, 0] - x, P[now, 1] - y, P[now, 2] - z
        length = np.sqrt(dx * dx + dy * dy + dz * dz)
        if length >= left and length > 0.0:
            share = left / length
            out[0], out[1], out[2] = x + share * dx, y + share * dy, z + share * dz
            return
        left -= length
        x, y, z = P[now, 0], P[now, 1], P[now, 2]
        if stops[now] or now == v:
            break
        following = ends[starts[now]] if ends[starts[now]] != before else ends[starts[now] + 1]
        before, now = now, following
    out[0], out[1], out[2] = x, y, z


@kernel
def _turns(P, starts, ends, size, stops, out):
    """Cosine of the turn that a line takes at each vertex inside it; 2 elsewhere."""
    one, other = np.empty(3), np.empty(3)
    for v in range(stops.shape[0]):
        out[v] = 2.0
        if stops[v] or starts[v + 1] - starts[v] != 2:
            continue
        _point(P, starts, ends, v, 0, 0.5 * size[v], stops, one)
        _point(P, starts, ends, v, 1, 0.5 * size[v], stops, other)
        dot = a2 = b2 = 0.0
        for k in range(3):
            p, q = P[v, k] - one[k], other[k] - P[v, k]
            dot += p * q
            a2 += p * p
            b2 += q * q
        if a2 > 0.0 and b2 > 0.0:
            out[v] = dot / np.sqrt(a2 * b2)


def _sharp(mesh: Mesh, half: np.ndarray, twin: np.ndarray) -> np.ndarray:
    """Which inner edges, each by one of its half-edges, are sharp; noise is looked through."""
    vectors = face_vectors(mesh.vertices, mesh.faces)
    lengths = np.linalg.norm(vectors, axis=1)
    normals = vectors / np.maximum(lengths, 1e-300)[:, None]
    sharp = (normals[half // 3] * normals[twin // 3]).sum(axis=1) < _SHARP
    # a triangle without height faces nowhere
    sides = np.linalg.norm(mesh.vertices[mesh.faces] - mesh.vertices[np.roll(mesh.faces, 1, axis=1)], axis=2)
    thin = lengths < 1e-6 * sides.max(axis=1, initial=0.0) ** 2
    sharp &= ~(thin[half // 3] | thin[twin // 3])
    if len(sharp) > 1000 and sharp.mean() > _NOISY:
        normals = filtered_normals(mesh, polled_here())
        sharp = (normals[half // 3] * normals[twin // 3]).sum(axis=1) < _SHARP
    return sharp


def _long_enough(mesh: Mesh, ends: np.ndarray, size: np.ndarray) -> np.ndarray:
    """Which edges, by their two vertices, belong to lines that are long enough to be edges of the part."""
    count = len(mesh.vertices)
    graph = coo_matrix((np.ones(len(ends), dtype=np.int8), (ends[:, 0], ends[:, 1])), shape=(count, count))
    _, line = connected_components(graph, directed=False)
    length = np.linalg.norm(mesh.vertices[ends[:, 0]] - mesh.vertices[ends[:, 1]], axis=1)
    wanted = np.bincount(line[ends[:, 0]], length / size[ends[:, 0]], minlength=len(line))
    return wanted[line[ends[:, 0]]] >= _SHORT


def find_creases(
    mesh: Mesh,
    twins: np.ndarray,
    size: np.ndarray,
    label: np.ndarray,
    held: np.ndarray,
    tied: np.ndarray,
    torn: np.ndarray,
) -> Creases:
    """The lines to keep.

    Parameters
    ----------
    mesh : Mesh
        Manifold, and turned one way.
    twins : ndarray of int32, shape (3 F,)
    size : ndarray, shape (V,)
        Edge length wanted at each vertex, mm.
    label : ndarray of int, shape (F,)
        Triangles with different ones are parted by a line.
    held : ndarray of bool, shape (F,)
        Triangles that stay as they are.
    tied : ndarray of bool, shape (V,)
        Vertices that stay where they are.
    torn : ndarray of bool, shape (3 F,)
        Half-edges along which the mesh was cut, so that it can be joined again.

    Returns
    -------
    Creases
    """
    corner = mesh.faces.ravel()
    half = np.flatnonzero(twins > np.arange(len(twins)))
    twin = twins[half]
    after = corner[half - half % 3 + (half + 1) % 3]
    ends = np.column_stack([corner[half], after])
    check_here()
    sharp = _sharp(mesh, half, twin)
    sharp[sharp] = _long_enough(mesh, ends[sharp], size)
    lines = sharp | (label[half // 3] != label[twin // 3])
    kind = np.full(len(twins), PLAIN, dtype=np.uint8)
    kind[half[lines]] = kind[twin[lines]] = CREASE
    kind[twins < 0] = CREASE
    # what is held is locked inside, and at its border like a line whose corners stay
    locked = np.repeat(held, 3)
    has_twin = np.flatnonzero(twins >= 0)
    beside = held[twins[has_twin] // 3]
    border = locked[has_twin] != beside
    locked[has_twin[border]] = False
    kind[has_twin[border]] = CREASE
    kind[locked | torn] = LOCKED
    standing = np.full(len(mesh.vertices), FREE, dtype=np.uint8)
    _stand_on_lines(mesh, twins, kind, size, standing)
    standing[tied] = FIXED
    standing[mesh.faces[held]] = FIXED
    return Creases(kind, standing)


def _stand_on_lines(mesh: Mesh, twins: np.ndarray, kind: np.ndarray, size: np.ndarray, standing: np.ndarray) -> None:
    """Tell which vertices are inside of a line, and which are its ends, corners and crossings."""
    corner = mesh.faces.ravel()
    half = np.flatnonzero((kind == CREASE) & ((twins < 0) | (twins > np.arange(len(twins)))))
    a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
    begin, end = np.concatenate([a, b]), np.concatenate([b, a])
    order = np.argsort(begin, kind="stable")
    met = np.bincount(begin, minlength=len(standing))
    starts = np.concatenate([[0], np.cumsum(met)])
    stops = met != 2
    turns = np.empty(len(standing))
    _turns(mesh.vertices, starts, end[order].astype(np.int64), size, stops, turns)
    standing[met > 0] = LINE
    standing[(met > 0) & (stops | (turns < _TURN))] = CORNER
