"""Where charts meet, led to where a seam shows least: along sharp edges, and into what is hidden from sight.

As in Sheffer and Hart (Seamster: inconspicuous low-distortion texture seam layout, 2002), but by least cuts between
each two charts.
"""

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import breadth_first_order, maximum_flow

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.progress import Progress
from tinsnip.space.tree import first_hits

__all__ = ["seams_led"]

_BAND = 0.2
"""Share of a chart's width from its border on in which the border may be led elsewhere."""
_CORE = 0.7
"""Of how deep it is; what lies deeper stays its own."""
_LOOKS = 8
"""Ways in which it is looked up from a triangle, whether the part stands before it."""
_SHARP = 60.0
"""Degrees of turn at an edge from which on a seam along it does not show."""
_LEAST = 0.05
"""What a length of seam costs that does not show, of what one costs that does: it may still not grow without end."""
_STEPS = 1000
_MOST = 2**30
"""Steps in which costs are told an edge of mean length, and what cannot be parted at all."""


@kernel
def _depths(twins, apart, label, far, state):
    """Let distances from the border go on within each chart, until none gets shorter."""
    changes = True
    while changes and not state[0]:
        changes = False
        for half in range(twins.shape[0]):
            twin = twins[half]
            if twin >= 0 and label[twin // 3] == label[half // 3]:
                there = far[twin // 3] + apart[half]
                if there < far[half // 3]:
                    far[half // 3] = there
                    changes = True


def seams_led(
    mesh: Mesh, chart: np.ndarray, ways: np.ndarray, normals: np.ndarray, most_turn: float, progress: Progress
) -> np.ndarray:
    """Charts whose borders have been led to where a seam shows least, within a band along them.

    Parameters
    ----------
    mesh : Mesh
    chart : ndarray of int64, shape (F,)
        Which chart each triangle belongs to.
    ways : ndarray, shape (C, 3)
        The way along which each chart is seen.
    normals : ndarray, shape (F, 3)
    most_turn : float
        Degrees by which a triangle that changes its chart may be turned away from the new one's way.
    progress : Progress

    Returns
    -------
    ndarray of int64, shape (F,)

    Raises
    ------
    Cancelled
    """
    state = progress.step("Hiding seams")
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    half = np.arange(3 * len(chart))
    twin = np.where(mesh.twins >= 0, mesh.twins, half)
    apart = np.linalg.norm(middles[half // 3] - middles[twin // 3], axis=1)
    at_border = (chart[half // 3] != chart[twin // 3]).reshape(-1, 3).any(axis=1)
    deep = np.where(at_border, 0.0, np.inf)
    _depths(mesh.twins, apart, chart, deep, state)
    wide = np.sqrt(np.bincount(chart, triangle_areas(mesh.vertices, mesh.faces), len(ways)))
    deepest = np.zeros(len(ways))
    np.maximum.at(deepest, chart[np.isfinite(deep)], deep[np.isfinite(deep)])
    band = deep < np.minimum(_BAND * wide, _CORE * deepest)[chart]
    if not band.any():
        return chart
    hidden = _hidden(mesh, np.flatnonzero(band), normals, state)
    progress.check()
    turn = np.arccos(np.clip((normals[half // 3] * normals[twin // 3]).sum(axis=1), -1.0, 1.0))
    hides = np.maximum(0.5 * (hidden[half // 3] + hidden[twin // 3]), np.minimum(turn / np.radians(_SHARP), 1.0))
    ends = mesh.vertices[mesh.faces]
    length = np.linalg.norm(ends - np.roll(ends, -1, axis=1), axis=2).ravel()
    shows = length * np.maximum(1.0 - hides, _LEAST)
    price = np.maximum(np.rint(shows * (_STEPS / max(float(length.mean()), 1e-300))), 1.0).astype(np.int64)
    return _least_cuts(mesh.twins, chart, band, price, normals, ways, most_turn, progress)


def _hidden(mesh: Mesh, some: np.ndarray, normals: np.ndarray, state: np.ndarray) -> np.ndarray:
    """How much of what could be seen of triangles the part itself stands before, 0 to 1, shape (F,); 0 elsewhere."""
    hidden = np.zeros(len(mesh.faces))
    n = np.arange(_LOOKS) + 0.5
    lift, turn = 1.0 - 2.0 * n / _LOOKS, n * np.pi * (3.0 - np.sqrt(5.0))
    round_about = np.stack([np.sqrt(1 - lift**2) * np.cos(turn), np.sqrt(1 - lift**2) * np.sin(turn), lift], axis=1)
    middles = mesh.vertices[mesh.faces[some]].mean(axis=1) + 1e-4 * mesh.diagonal * normals[some]
    before = np.zeros(len(some))
    for way in round_about:  # normals and ways all round added up are spread as what is seen of a surface is
        ways = normals[some] + 0.98 * way
        ways /= np.linalg.norm(ways, axis=1)[:, None]
        before += first_hits(mesh.tree, middles, ways, state)[1] >= 0
    hidden[some] = before / _LOOKS
    return hidden


def _least_cuts(
    twins: np.ndarray, chart: np.ndarray, band: np.ndarray, price: np.ndarray, normals: np.ndarray, ways: np.ndarray,
    most_turn: float, progress: Progress,
) -> np.ndarray:  # fmt: skip
    """Border after border of two charts led where its edges cost least together (swaps of Boykov et al. 2001)."""
    chart, least = chart.copy(), np.cos(np.radians(most_turn))
    border = np.flatnonzero(twins > np.arange(len(twins)))
    sides = np.sort(np.stack([chart[border // 3], chart[twins[border] // 3]], axis=1), axis=1)
    pairs = np.unique(sides[sides[:, 0] != sides[:, 1]], axis=0)
    own = _grouped(chart, band, len(ways))
    number = np.full(len(chart), -1, dtype=np.int64)
    for a, b in pairs.tolist():
        progress.check()
        some = np.concatenate([own[a], own[b]])
        number[some] = np.arange(len(some))
        half = (3 * some[:, None] + np.arange(3)).ravel()
        half = half[twins[half] >= 0]
        near, far = half // 3, twins[half] // 3
        within = number[far] >= 0
        source, sink = len(some), len(some) + 1
        rows, columns = [number[near[within]]], [number[far[within]]]
        caps = [np.minimum(price[half[within]], _MOST)]
        # what lies deeper in either stays, and so does what the other's way does not see
        fixed = {}
        for one, other in ((a, b), (b, a)):
            to_core = ~within & (chart[far] == one)
            blind = (chart[some] == one) & ((normals[some] * ways[other]).sum(axis=1) < least)
            fixed[one] = np.union1d(number[near[to_core & (chart[near] == one)]], np.flatnonzero(blind))
        for at, is_source in ((fixed[a], True), (fixed[b], False)):
            end = np.full(len(at), source if is_source else sink)
            rows.append(end if is_source else at)
            columns.append(at if is_source else end)
            caps.append(np.full(len(at), _MOST))
        if len(fixed[a]) and len(fixed[b]):
            arcs = np.concatenate(rows), np.concatenate(columns)
            is_a = _on_the_first_side(len(some), np.concatenate(caps), arcs)
            chart[some] = np.where(is_a, a, b)
            own[a], own[b] = some[is_a], some[~is_a]
        number[some] = -1
    return chart


def _on_the_first_side(count: int, caps: np.ndarray, arcs: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
    """Which of some nodes the least cut leaves with the source, the node after them; the sink comes after that."""
    graph = csr_matrix((caps.astype(np.int32), arcs), shape=(count + 2,) * 2)
    left = graph - maximum_flow(graph, count, count + 1).flow
    left.data = np.where(left.data > 0, 1, 0)
    left.eliminate_zeros()
    reached = np.zeros(count + 2, dtype=bool)
    reached[breadth_first_order(left, count, return_predecessors=False)] = True
    return reached[:count]


def _grouped(chart: np.ndarray, band: np.ndarray, count: int) -> list[np.ndarray]:
    """Triangles of the band by their chart."""
    some = np.flatnonzero(band)
    order = some[np.argsort(chart[some], kind="stable")]
    return np.split(order, np.searchsorted(chart[order], np.arange(1, count)))
