"""Mouths: where the two skins of one wall end side by side, and the edge of the wall between them was not scanned.

A vessel whose lip is missing, or a plate scanned from both sides, comes as two surfaces that do not hang together.
Closed one by one the vessel would be filled and the plate be two; what is missing is the narrow ring between the edges.
"""

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.mesh import Mesh
from tinsnip.progress import check_here

__all__ = ["pair_mouths"]

_WITHIN = 0.25
"""Nearly all of an edge lies within this share of the smaller span from the other: a wall is thin beside its mouth."""
_AT_MOST = 0.4
_NEARLY_ALL = 0.9
_LIKE = 0.6
"""Spans of both edges are alike down to this: made-up vessels with walls of up to a fifth of their width have 0.65."""
_ALONGSIDE = 0.3
"""Both surfaces end in the same direction, and face away from each other, by this mean cosine."""
_APART = 0.5
"""What lies nearer than this many edges is a seam."""
_LEAST_SPAN = 0.02
"""Smaller edges, by their share of the whole scan's size, are holes beside which another one may lie by chance."""
_SMOOTHED = 4
"""So many edges to either side an edge's direction is taken over."""
_MOST_POINTS = 400
"""About so many points of a loop are looked at."""


def pair_mouths(mesh: Mesh, points: np.ndarray, normals: np.ndarray, span: np.ndarray, asked: np.ndarray) -> np.ndarray:
    """For each boundary loop the one it shares a mouth with.

    Parameters
    ----------
    mesh : Mesh
    points : ndarray, shape (N, 3)
        Where each half-edge of `mesh.loops` starts, mm.
    normals : ndarray, shape (N, 3)
        Unit normals of the triangles along them.
    span : ndarray, shape (L,)
        Diagonal of each loop's box, mm.
    asked : ndarray of bool, shape (L,)
        Which loops are to be looked at.

    Returns
    -------
    ndarray of int, shape (L,)
        -1 where there is none.
    """
    loops, half = mesh.loops, mesh.loops.halfedges
    partner = np.full(len(loops), -1)
    own_shell = mesh.shells.label[half[loops.start[:-1]] // 3]
    chosen = np.flatnonzero(asked & (span > _LEAST_SPAN * mesh.diagonal))
    if len(np.unique(own_shell[chosen])) < 2:
        return partner
    first = loops.start[:-1]
    box = np.stack([np.minimum.reduceat(points, first), np.maximum.reduceat(points, first)], axis=1)
    following = np.roll(points, -1, axis=0)
    following[loops.start[1:] - 1] = points[loops.start[:-1]]
    edges: dict[int, _Edge] = {}

    def edge(i: int) -> _Edge:
        if i not in edges:
            own = slice(loops.start[i], loops.start[i + 1])
            edges[i] = _Edge(points[own], following[own], normals[own])
        return edges[i]

    found = []
    for i in chosen:
        check_here()
        reach = _WITHIN * span[i]
        near = (own_shell[chosen] > own_shell[i]) & (span[chosen] < span[i] / _LIKE) & (span[chosen] > _LIKE * span[i])
        near &= (box[chosen, 0] <= box[i, 1] + reach).all(axis=1) & (box[chosen, 1] >= box[i, 0] - reach).all(axis=1)
        for j in chosen[near]:
            apart = _apart(edge(i), edge(j), min(span[i], span[j]))
            if apart is not None:
                found.append((apart, int(i), int(j)))
    for _, i, j in sorted(found):
        if partner[i] < 0 and partner[j] < 0:
            partner[i], partner[j] = j, i
    return partner


class _Edge:
    """An open edge by some of its places: where, which way the surface faces there, and which way it ends."""

    def __init__(self, points: np.ndarray, following: np.ndarray, normals: np.ndarray) -> None:
        every = max(1, len(points) // _MOST_POINTS)
        along = following - points
        self.length = float(np.linalg.norm(along, axis=1).mean())
        self.points, self.normals = (points + 0.5 * along)[::every], normals[::every]
        near = min(_SMOOTHED, len(points) // 8)  # a ragged edge runs to and fro, and ends all the same
        run = np.roll(following, -near, axis=0) - np.roll(points, near, axis=0)
        ends = np.cross(run, normals)[::every]
        self.ends = ends / np.maximum(np.linalg.norm(ends, axis=1), 1e-300)[:, None]
        self.tree = cKDTree(self.points)


def _apart(one: _Edge, other: _Edge, span: float) -> float | None:
    """How far two edges lie apart, mm, where a wall ends between them; else None."""
    distances = []
    for a, b in ((one, other), (other, one)):
        away, nearest = b.tree.query(a.points)
        if (away <= _WITHIN * span).mean() < _NEARLY_ALL or away.max() > _AT_MOST * span:
            return None
        across = (b.points[nearest] - a.points) / np.maximum(away, 1e-300)[:, None]
        faces_away = -(a.normals * across).sum(axis=1).mean()
        opposed = -(a.normals * b.normals[nearest]).sum(axis=1).mean()
        alongside = (a.ends * b.ends[nearest]).sum(axis=1).mean()
        if min(faces_away, opposed, alongside) < _ALONGSIDE:
            return None
        distances.append(float(np.median(away)))
    apart = max(distances)
    return apart if apart > _APART * max(one.length, other.length) else None
