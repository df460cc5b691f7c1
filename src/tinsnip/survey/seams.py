"""Seams that were never welded: open edges that lie along each other without having vertices in common."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here, polled_here
from tinsnip.space.tree import build_tree, triangles_in_boxes
from tinsnip.survey.finding import Finding, Kind

__all__ = ["OpenEdges", "Seams", "find_seams", "gaps_at", "open_edges_of", "seams_of", "shells_that_touch"]

_REACH = 0.2
"""Gaps wider than this share of an open edge's length are no seam that is proposed to be welded."""
_COMMON = 0.98
_NEARLY_ALL = 0.98
_SPREAD = 4.0
"""Vertices that belong together are looked for up to so many times the gap between vertices and edges."""
_SLACK = 2.0
"""The tolerance proposed is so many times the gap that nearly all of a seam's vertices keep within."""
_FEWEST = 3
_DOUBTFUL = 0.25
"""Gaps whose median is above this share of the reach are no seam, but edges that happen to lie near each other."""
_SHORTCUT = 0.5
"""The two sides of a seam lie nearer to each other than this share of the way along the edge between them; a bend of
60 degrees, the sharpest that a clean cut through a scan makes, comes to the same."""
_ALONG = 0.3
"""Share of a shell's open edges along others, from which on it counts as one that touches."""


class OpenEdges(NamedTuple):
    """The open edges of a mesh, over their own vertices.

    Attributes
    ----------
    half : ndarray of int, shape (N,)
        The open half-edges.
    vertices : ndarray of int, shape (B,)
        Vertices of the mesh at their ends.
    ends : ndarray of int32, shape (N, 2)
        Of each half-edge, as places in `vertices`, in its own direction.
    places : ndarray, shape (B, 3)
        mm.
    """

    half: np.ndarray
    vertices: np.ndarray
    ends: np.ndarray
    places: np.ndarray

    @property
    def length(self) -> np.ndarray:
        """Length of each edge, mm, shape (N,)."""
        return np.linalg.norm(self.places[self.ends[:, 1]] - self.places[self.ends[:, 0]], axis=1)


def open_edges_of(mesh: Mesh) -> OpenEdges:
    """The open edges of a mesh.

    Parameters
    ----------
    mesh : Mesh
    """
    corner = mesh.faces.ravel()
    half = np.flatnonzero(mesh.twins == OPEN)
    a, b = corner[half], corner[half - half % 3 + (half + 1) % 3]
    number = np.full(len(mesh.vertices), -1, dtype=np.int32)
    number[a] = number[b] = 0
    used = np.flatnonzero(number == 0)
    number[used] = np.arange(len(used), dtype=np.int32)
    return OpenEdges(half, used, np.stack([number[a], number[b]], axis=1), mesh.vertices[used])


def gaps_at(
    edges: OpenEdges, points: np.ndarray, reach: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Which open edges lie within reach of which of their vertices, other than those next to them.

    Parameters
    ----------
    edges : OpenEdges
    points : ndarray of int, shape (M,)
        The vertices asked about, as places in ``edges.vertices``.
    reach : float
        mm.

    Returns
    -------
    point, edge : ndarray of int, shape (K,)
        Vertices, and edges within reach of them.
    gap, along : ndarray, shape (K,)
        The distance, mm, and where along the edge its nearest place lies, 0 to 1.
    """
    lines = np.ascontiguousarray(edges.ends[:, [0, 1, 1]])
    tree = build_tree(edges.places, lines)
    places = edges.places[points]
    found = triangles_in_boxes(tree, places - reach, places + reach, polled_here())
    check_here()
    point, edge = points[found[:, 0]], found[:, 1]
    beside = (edges.ends[edge] == point[:, None]).any(axis=1)
    point, edge = point[~beside], edge[~beside]
    start = edges.places[edges.ends[edge, 0]]
    way = edges.places[edges.ends[edge, 1]] - start
    off = edges.places[point] - start
    along = np.clip((off * way).sum(axis=1) / np.maximum((way * way).sum(axis=1), 1e-300), 0.0, 1.0)
    gap = np.linalg.norm(off - along[:, None] * way, axis=1)
    near = gap <= reach
    return point[near], edge[near], gap[near], along[near]


class Seams(NamedTuple):
    """What there is to weld.

    Attributes
    ----------
    tolerance : float
        The gap within which seams would be welded, mm; 0 where there is none to weld.
    edges : ndarray of int, shape (K,)
        The open half-edges along seams.
    gaps : ndarray, shape (K,)
        The gap at the beginning of each, mm.
    lines : OpenEdges
        All open edges.
    near : tuple of ndarray
        What lies within reach of which vertex; see `gaps_at`.
    """

    tolerance: float
    edges: np.ndarray
    gaps: np.ndarray
    lines: OpenEdges
    near: tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


@remembered
def seams_of(mesh: Mesh) -> Seams:
    """Look for seams; the tolerance is taken from the gaps that there are.

    Parameters
    ----------
    mesh : Mesh
    """
    edges = open_edges_of(mesh)
    nothing = np.empty(0, dtype=np.int64)
    none = Seams(0.0, nothing, np.empty(0), edges, (nothing, nothing, np.empty(0), np.empty(0)))
    if len(edges.half) < 2:
        return none
    reach = _REACH * float(np.median(edges.length))
    every = gaps_at(edges, np.arange(len(edges.vertices), dtype=np.int32), reach)
    for found in (every, _across(mesh, edges, every)):  # what only follows on along a line makes no seam, nor hides one
        point, edge, along, gaps = _beside(edges, found)
        if len(gaps) < _FEWEST or np.median(gaps) > _DOUBTFUL * reach:
            return none
    floor = 1e-9 * mesh.diagonal
    # vertices that belong together lie farther from each other than from the nearest edge
    ends = edges.ends[edge]
    far = np.concatenate([np.linalg.norm(edges.places[point] - edges.places[ends[:, k]], axis=1) for k in range(2)])
    wide = float(np.quantile(gaps, _COMMON))
    far = far[far <= min(_SPREAD * wide, reach)]
    wide = max(wide, float(np.quantile(far, _NEARLY_ALL)) if len(far) else 0.0)
    tolerance = min(max(_SLACK * wide, floor), reach)
    return Seams(tolerance, edges.half[along], gaps, edges, found)


def _beside(edges: OpenEdges, found: tuple[np.ndarray, ...]) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Which vertices lie near which edges, which edges lie along others, bool, and the gap at the beginning of each."""
    # where seams are welded at their ends only, these are common to several open edges, and no gap is to be seen there
    common = np.bincount(edges.ends[:, 0], minlength=len(edges.vertices)) > 1
    point, edge, gap = (values[~common[found[0]]] for values in found[:3])
    least, met = np.full(len(edges.vertices), np.inf), np.full(len(edges.half), np.inf)
    np.minimum.at(least, point, gap)
    np.minimum.at(met, edge, gap)
    near = np.isfinite(least)
    along = (near | common)[edges.ends].all(axis=1) & (near[edges.ends].any(axis=1) | np.isfinite(met))
    gaps = np.where(near[edges.ends[:, 0]], least[edges.ends[:, 0]], np.minimum(least[edges.ends[:, 1]], met))[along]
    return point, edge, along, gaps


def _across(mesh: Mesh, edges: OpenEdges, found: tuple[np.ndarray, ...]) -> tuple[np.ndarray, ...]:
    """Of what lies near, what lies across a seam: not what follows a few short edges on along the same line.

    Along a line the way from one place to another is hardly longer than the gap between them; across a seam it is.
    """
    loops, corner = mesh.loops, mesh.faces.ravel()
    half = loops.halfedges
    lengths = np.linalg.norm(
        mesh.vertices[corner[half - half % 3 + (half + 1) % 3]] - mesh.vertices[corner[half]], axis=1
    )
    number = np.repeat(np.arange(len(loops)), np.diff(loops.start))
    way = np.concatenate([[0.0], np.cumsum(lengths)])
    whole = way[loops.start[1:]] - way[loops.start[:-1]]
    begin = way[:-1] - way[loops.start[number]]
    order = np.argsort(half)
    at = order[np.searchsorted(half[order], edges.half)]  # where each open edge stands in its loop
    of_vertex, along_vertex = np.full(len(edges.vertices), -1), np.zeros(len(edges.vertices))
    of_vertex[edges.ends[:, 0]], along_vertex[edges.ends[:, 0]] = number[at], begin[at]
    point, edge, gap, along = found
    same = of_vertex[point] == number[at[edge]]
    apart = np.abs(along_vertex[point] - begin[at[edge]] - along * lengths[at[edge]])
    apart = np.minimum(apart, whole[number[at[edge]]] - apart)
    across = ~same | (gap < _SHORTCUT * apart)
    return point[across], edge[across], gap[across], along[across]


def shells_that_touch(mesh: Mesh) -> int:
    """How many shells have a good part of their open edges along seams.

    Parameters
    ----------
    mesh : Mesh
    """
    seams, label = seams_of(mesh), mesh.shells.label
    along = np.bincount(label[seams.edges // 3], minlength=len(mesh.shells))
    every = np.bincount(label[seams.lines.half // 3], minlength=len(mesh.shells))
    return int((along > _ALONG * np.maximum(every, 1)).sum())


def find_seams(mesh: Mesh) -> list[Finding]:
    """One finding for all that is to be welded, where there is anything.

    Parameters
    ----------
    mesh : Mesh
    """
    seams = seams_of(mesh)
    if len(seams.edges) == 0:
        return []
    corner, half = mesh.faces.ravel(), seams.edges
    starts = mesh.vertices[corner[half]]
    some = starts[:: max(1, len(starts) // 4000)]
    low, high = starts.min(axis=0), starts.max(axis=0)
    return [
        Finding(
            id="J1",
            kind=Kind.SEAM,
            text="seams",
            place=some[0],
            size=float(np.linalg.norm(high - low)),
            count=len(half),
            proposal="weld",
            key=int(half.min()),
            outline=some,
        )
    ]
