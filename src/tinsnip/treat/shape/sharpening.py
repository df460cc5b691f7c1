"""Edges that noise or meshing rounded, brought back to the line in which the forms on either side of them meet.

Between two forms lies a band of triangles that belongs to neither. Each vertex of it is told which form it is of, by
which side of the true edge it lies on, and is brought onto that; mesh edges that lead from one form to another are
divided where the two meet, so that the line becomes a chain of mesh edges. What lies on a form already stays.
"""

from typing import NamedTuple

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import dijkstra

from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import face_vectors, triangles_at
from tinsnip.progress import check_here
from tinsnip.space.forms import Form, distances, normals_of
from tinsnip.space.singles import as_files_hold
from tinsnip.survey.crossings import new_crossings
from tinsnip.treat.kit.edges.edgesplits import edges_of, split_edges

__all__ = ["Sharpened", "sharpen_between"]

_SHARP = 0.94
"""Cosine of the turn, 20 degrees, below which two forms run into each other and have no edge."""
_MOST = 3
"""Forms that a vertex may lie on at once: three meet in a corner."""
_SNAP = 0.25
"""Share of an edge within which its end is drawn onto the line, instead of a new vertex being put beside it."""
_APART = 1.5
"""Times the width that a way over the surface from one form to the other may be long, as mesh edges lead it."""
_DEEP = 0.4
"""Share of the width from which what lies between forms is too far off all of them to be an edge that was rounded: one
that is rounded as wide is off by a fifth of it."""
_FARTHEST = 0.5
"""Share of the width that a vertex may move: the tip of an edge of 60 degrees that is rounded as wide does."""
_STEPS = 12
"""Steps that bring a point onto up to three forms at once."""
_NONE = -1
_ROUNDS = 12
"""Rounds in which what would turn a triangle over is left as it was."""
_SPREADING = 8
"""Rounds in which vertices of a triangle that would turn over find another place on their form."""
_LEANS = 0.3
"""Cosine from which a triangle faces as the form it is to lie on."""


class Sharpened(NamedTuple):
    """A mesh with sharp edges.

    Attributes
    ----------
    mesh : Mesh
        The very one that was given where nothing was rounded.
    moved : ndarray of bool, shape (V',)
        Vertices that were brought onto a form or a line, and new ones.
    length : float
        Of the lines, mm.
    largest : float
        How far a vertex was moved, mm.
    left : int
        Vertices that stayed rounded, as a triangle would have been turned over.
    """

    mesh: Mesh
    moved: np.ndarray
    length: float
    largest: float
    left: int


class _Band(NamedTuple):
    """What lies between the forms.

    Attributes
    ----------
    of : ndarray of int, shape (V,)
        The form that each vertex lies on with all its triangles; -1 for none.
    at : ndarray of int, shape (B,)
        The vertices from which a form can be reached.
    near : ndarray, shape (K, B)
        How far each form is from these, along edges that lead through what lies on none, mm.
    """

    of: np.ndarray
    at: np.ndarray
    near: np.ndarray


class _Sides(NamedTuple):
    """The forms, and how they lie to each other.

    Attributes
    ----------
    forms : list of Form
    signs : ndarray, shape (K,)
        1 where a form's distance grows out of the part, -1 where it grows into it.
    bulges : ndarray of int8, shape (K, K)
        1 where two forms meet in an edge that stands out, -1 in a hollow one, 0 where they do not meet, or smoothly.
    """

    forms: list[Form]
    signs: np.ndarray
    bulges: np.ndarray

    def off(self, form: int, points: np.ndarray) -> np.ndarray:
        """How far points lie out of a form, mm."""
        return self.signs[form] * distances(self.forms[form], points)

    def ways(self, form: int, points: np.ndarray) -> np.ndarray:
        """How a form faces next to points, out of the part."""
        return self.signs[form] * normals_of(self.forms[form], points)


def sharpen_between(
    mesh: Mesh, forms: list[Form], owner: np.ndarray, width: float, may_move: np.ndarray | None = None
) -> Sharpened:
    """Bring rounded edges between forms back to their lines.

    Parameters
    ----------
    mesh : Mesh
    forms : list of Form
        One at least.
    owner : ndarray of int, shape (F,)
        The form that each triangle lies on; -1 for none.
    width : float
        How wide an edge may be rounded, mm; no vertex moves by more than half of it.
    may_move : ndarray of bool, shape (V,), optional
        Vertices that may be moved; all by default.

    Returns
    -------
    Sharpened

    References
    ----------
    Attene, Falcidieno, Rossignac and Spagnuolo, Sharpen&Bend: recovering curved sharp edges in triangle meshes produced
    by feature-insensitive sampling, IEEE TVCG 11 (2005): new vertices where the surfaces on both sides meet. Here these
    are fitted forms instead of single triangles, so that noise does not show in the line.
    """
    band = _reached(mesh, forms, owner, width)
    of, sides = band.of, _sides_of(mesh, forms, owner, band, width)
    labels, barred = _labelled(mesh, sides, band, width, may_move), np.zeros(len(mesh.vertices), dtype=bool)
    loose = np.zeros(len(barred), dtype=bool)
    for turn in range(_ROUNDS):
        made = _made(mesh, sides, labels, of, width, barred, loose)
        is_early, is_late = turn < _ROUNDS // 3, turn >= 2 * _ROUNDS // 3
        turned = _turned_over(made, sides, len(barred), is_early or is_late)
        if not turned.any():
            turned = _crossing(mesh, made, len(barred))
        is_clean = not turned.any()
        turned &= (of < 0) & ~barred
        if not turned.any():
            break
        if is_early:  # it finds another place on its form first
            loose |= turned
        else:
            barred |= turned
            labels[barred] = _NONE
        check_here()
    moved = made.shift > 0
    if not moved.any() or not is_clean:
        return Sharpened(mesh, np.zeros(len(mesh.vertices), dtype=bool), 0.0, 0.0, int(barred.sum()))
    return Sharpened(made.mesh, moved, _length(made), float(made.shift.max()), int(barred.sum()))


def _crossing(mesh: Mesh, made: "_Made", before: int) -> np.ndarray:
    """Old vertices at triangles that cross or fold where nothing did before, bool, shape (V,)."""
    out = np.zeros(before, dtype=bool)
    if (made.shift > 0).any():
        at = np.unique(made.mesh.faces[new_crossings(mesh, made.mesh).ravel()])
        out[at[at < before]] = True
        out[made.ends[at[at >= before] - before].ravel()] = True
    return out


def _reached(mesh: Mesh, forms: list[Form], owner: np.ndarray, width: float) -> _Band:
    """What lies on no form, and how far from each."""
    n, count = len(mesh.vertices), len(forms)
    low, high = np.full(n, count), np.full(n, _NONE)
    corners, value = mesh.faces.ravel(), np.repeat(owner, 3)
    np.minimum.at(low, corners, value)
    np.maximum.at(high, corners, value)
    of = np.where(low == high, low, _NONE)
    edges = edges_of(mesh)
    # ways lead through what lies on no form, from the last vertices that do
    edges = edges[(of[edges] < 0).any(axis=1)]
    used, ends = np.unique(edges, return_inverse=True)
    ends = ends.reshape(-1, 2)
    long = np.maximum(np.linalg.norm(mesh.vertices[edges[:, 0]] - mesh.vertices[edges[:, 1]], axis=1), 1e-300)
    both = np.vstack([ends, ends[:, ::-1]]).T
    graph = sparse.csr_matrix((np.tile(long, 2), both), shape=(len(used), len(used)))
    near, is_near = [], np.zeros(len(used), dtype=bool)
    for i in range(count):
        begin = np.flatnonzero(of[used] == i)
        away = np.full(len(used), np.inf)
        if len(begin):
            away = dijkstra(graph, indices=begin, min_only=True, limit=_APART * width)
        some = np.flatnonzero(np.isfinite(away))
        near.append((some, away[some]))
        is_near[some] = True
        check_here()
    # what lies further off all forms than a rounded edge does is a surface of its own, and so is what is next to it
    off = np.min([np.abs(distances(form, mesh.vertices[used])) for form in forms], axis=0)
    deep = np.flatnonzero((of[used] < 0) & (off > _DEEP * width))
    if len(deep):
        is_near &= (of[used] >= 0) | (dijkstra(graph, indices=deep, min_only=True, limit=width) > width)
    at = np.flatnonzero(is_near)
    number = np.cumsum(is_near) - 1
    dense = np.full((count, len(at)), np.inf)
    for i, (some, away) in enumerate(near):
        kept = is_near[some]
        dense[i, number[some[kept]]] = away[kept]
    return _Band(of, used[at], dense)


def _sides_of(mesh: Mesh, forms: list[Form], owner: np.ndarray, band: _Band, width: float) -> _Sides:
    """Which way the forms face, and in what edges they meet."""
    areas, middles = face_vectors(mesh.vertices, mesh.faces), mesh.vertices[mesh.faces].mean(axis=1)
    signs = np.ones(len(forms))
    for i, form in enumerate(forms):
        own = owner == i
        signs[i] = 1.0 if (areas[own] * normals_of(form, middles[own])).sum() >= 0 else -1.0
    sides = _Sides(forms, signs, np.zeros((len(forms), len(forms)), dtype=np.int8))
    for i in range(len(forms)):
        for j in range(i + 1, len(forms)):
            between = np.flatnonzero(band.near[i] + band.near[j] <= _APART * width)
            if len(between) < 2:
                continue
            points, to_i, to_j = mesh.vertices[band.at[between]], band.near[i][between], band.near[j][between]
            a, b = sides.ways(i, points), sides.ways(j, points)
            if abs(float(np.median((a * b).sum(axis=1)))) > _SHARP:
                continue
            # beside the edge each lies on one side of the other: behind it where the edge stands out
            behind = np.concatenate([sides.off(j, points[to_i < to_j]), sides.off(i, points[to_j < to_i])])
            if len(behind):
                sides.bulges[i, j] = sides.bulges[j, i] = 1 if np.median(behind) < 0 else -1
    return sides


def _labelled(mesh: Mesh, sides: _Sides, band: _Band, width: float, may_move: np.ndarray | None) -> np.ndarray:
    """The form that each vertex is of, int, shape (V, 3), the first alone; -1 where none is told."""
    labels = np.full((len(mesh.vertices), _MOST), _NONE)
    labels[:, 0] = band.of
    free = band.of[band.at] < 0
    if may_move is not None:
        free &= may_move[band.at]
    at, near = band.at[free], band.near[:, free]
    off = np.stack([sides.off(i, mesh.vertices[at]) for i in range(len(sides.forms))])
    close = np.isfinite(near) & (np.abs(off) <= width)
    best = np.full(len(at), np.inf)
    for i in range(len(sides.forms)):
        wins, meets = close[i].copy(), np.zeros(len(at), dtype=bool)
        for j in np.flatnonzero(sides.bulges[i]):
            both = close[i] & close[j] & (near[i] + near[j] <= _APART * width)
            meets |= both
            wins &= ~both | (sides.bulges[i, j] * (off[i] - off[j]) >= 0)
        # where none wins against all others, the nearest is it
        price = np.where(wins, -1.0, 1.0) + np.abs(off[i]) / max(4.0 * width, 1e-300)
        better = meets & (price < best)
        best[better] = price[better]
        labels[at[better], 0] = i
    return labels


class _Made(NamedTuple):
    """What came of it.

    Attributes
    ----------
    mesh : Mesh
    labels : ndarray of int, shape (V', 3)
        The forms that each vertex lies on; -1 for none.
    shift : ndarray, shape (V',)
        How far each was moved, mm; of new ones how far from the edge they divide.
    ends : ndarray of int, shape (N, 2)
        The ends of the edge that each new vertex divides.
    """

    mesh: Mesh
    labels: np.ndarray
    shift: np.ndarray
    ends: np.ndarray


def _onto(sides: _Sides, labels: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Points brought onto all forms of their labels by least steps, after Newton; and how far off they are then."""
    now, off = points.copy(), np.zeros((len(points), _MOST))
    for step in range(_STEPS + 1):
        ways = np.zeros((len(points), _MOST, 3))
        for slot in range(_MOST):
            for i in np.unique(labels[:, slot]):
                if i >= 0:
                    own = labels[:, slot] == i
                    off[own, slot], ways[own, slot] = sides.off(i, now[own]), sides.ways(i, now[own])
        if step == _STEPS:
            break
        across = ways @ ways.transpose(0, 2, 1) + np.eye(_MOST) * (1e-9 + (labels < 0)[:, :, None])
        now -= (ways * np.linalg.solve(across, off[:, :, None])).sum(axis=1)
    return now, np.abs(off).max(axis=1, initial=0.0)


def _made(
    mesh: Mesh, sides: _Sides, labels: np.ndarray, of: np.ndarray, width: float, barred: np.ndarray, loose: np.ndarray
) -> _Made:
    """The mesh with its labelled vertices on their forms, and edges divided where two forms meet."""
    labels, off_at_most = labels.copy(), 1e-6 * mesh.diagonal
    edges = edges_of(mesh)
    edges = edges[(labels[edges, 0] >= 0).all(axis=1) & (of[edges] < 0).any(axis=1) & ~barred[edges].any(axis=1)]
    one, other = labels[edges[:, 0], 0], labels[edges[:, 1], 0]
    edges = edges[(one != other) & (sides.bulges[one, other] != 0)]
    share = _where_they_meet(mesh, sides, labels, edges)
    _draw_ends_onto_lines(mesh, labels, edges, share, of)
    _name_corners(mesh, sides, labels, edges, of, width)
    # what is labelled goes onto its forms, unless that is too far
    some = np.flatnonzero((labels[:, 0] >= 0) & (of < 0) & ~barred)
    places, shift = mesh.vertices.copy(), np.zeros(len(mesh.vertices))
    places[some], left = _onto(sides, labels[some], mesh.vertices[some])
    shift[some] = np.linalg.norm(places[some] - mesh.vertices[some], axis=1)
    back = some[(shift[some] > _FARTHEST * width) | (left > off_at_most)]
    places[back], shift[back], labels[back] = mesh.vertices[back], 0.0, _NONE
    # edges that still lead from one form to another are divided where these meet
    apart = (labels[edges, 0] >= 0).all(axis=1) & (_in_common(labels[edges[:, 0]], labels[edges[:, 1]]) == 0)
    edges, share = edges[apart], share[apart]
    fresh = _pairs_across(sides, labels, edges)
    between = mesh.vertices[edges[:, 0]] + share[:, None] * (mesh.vertices[edges[:, 1]] - mesh.vertices[edges[:, 0]])
    lines, left = _onto(sides, fresh, between)
    away = np.linalg.norm(lines - between, axis=1)
    good = (fresh[:, 1] >= 0) & (left <= off_at_most) & (away <= _FARTHEST * width)
    edges, share, fresh = edges[good], share[good], fresh[good]
    shift = np.concatenate([shift, np.maximum(away[good], 1e-300)])
    places, labels = np.concatenate([places, lines[good]]), np.concatenate([labels, fresh])
    divided = split_edges(mesh, edges, share)
    loose = np.concatenate([loose & (labels[: len(loose), 0] >= 0) & (of < 0), loose[edges].any(axis=1)])
    if loose.any():
        spread = _spread(divided, sides, labels, places, loose)
        far = np.linalg.norm(spread - divided.vertices, axis=1) > _FARTHEST * width
        places = np.where(far[:, None], places, spread)
        shift[loose] = np.maximum(np.linalg.norm(places - divided.vertices, axis=1)[loose], 1e-300)
    places[shift > 0] = as_files_hold(places[shift > 0], mesh.diagonal)
    touched = triangles_at(divided.faces, shift > 0)
    provenance = np.where(touched & (divided.provenance == 0), SHIFTED, divided.provenance).astype(np.uint8)
    return _Made(divided.moved(places, provenance), labels, shift, edges)


def _spread(mesh: Mesh, sides: _Sides, labels: np.ndarray, places: np.ndarray, loose: np.ndarray) -> np.ndarray:
    """Places with the loose ones between their neighbours, on their form or along their line; corners stay."""
    edges = edges_of(mesh)
    edges = np.concatenate([edges, edges[:, ::-1]])
    edges = edges[loose[edges[:, 0]] & (labels[edges[:, 0], 2] < 0)]
    here, there = labels[edges[:, 0]], labels[edges[:, 1]]
    # along a line only others of that line count
    same = [(there == here[:, slot, None]).any(axis=1) for slot in range(2)]
    edges = edges[(here[:, 1] < 0) | (same[0] & same[1])]
    some, number = np.unique(edges[:, 0], return_inverse=True)
    count = np.bincount(number)
    now = places.copy()
    for _ in range(_SPREADING):
        middle = np.stack([np.bincount(number, now[edges[:, 1], k]) for k in range(3)], axis=1) / count[:, None]
        now[some], left = _onto(sides, labels[some], middle)
        now[some[left > 1e-6 * mesh.diagonal]] = places[some[left > 1e-6 * mesh.diagonal]]
    return now


def _in_common(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """How many forms two rows of labels have in common, int, shape (N,)."""
    return ((one[:, :, None] == other[:, None, :]) & (one[:, :, None] >= 0)).sum(axis=(1, 2))


def _where_they_meet(mesh: Mesh, sides: _Sides, labels: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """The share along each edge at which it is as far from the one form as from the other."""
    share = np.full(len(edges), 0.5)
    pairs = labels[edges, 0]
    for i, j in np.unique(np.sort(pairs, axis=1), axis=0):
        own = (np.sort(pairs, axis=1) == (i, j)).all(axis=1)
        ends = mesh.vertices[edges[own]]
        f, g = (sides.off(i, ends[:, k]) - sides.off(j, ends[:, k]) for k in range(2))
        meets = f * g < 0
        share[own] = np.where(meets, f / np.where(meets, f - g, 1.0), np.where(np.abs(f) < np.abs(g), 0.0, 1.0))
    return share


def _draw_ends_onto_lines(mesh: Mesh, labels: np.ndarray, edges: np.ndarray, share: np.ndarray, of: np.ndarray) -> None:
    """Let an end next to where its edge would be divided be that place."""
    around: dict[int, list[int]] = {v: [] for v in np.unique(edges).tolist()}
    for corner in mesh.faces[np.isin(mesh.faces, edges).any(axis=1)].tolist():
        for k in range(3):
            if corner[k] in around:
                around[corner[k]] += [corner[k - 2], corner[k - 1]]
    is_first, away = share < 0.5, np.minimum(share, 1.0 - share)
    near, far = np.where(is_first, edges[:, 0], edges[:, 1]), np.where(is_first, edges[:, 1], edges[:, 0])
    for e in np.argsort(away, kind="stable"):
        if away[e] > _SNAP:
            break
        v, form = near[e], labels[far[e], 0]
        # one line for each vertex; a side that lies on its form already stays there
        if of[v] >= 0 or labels[v, 1] >= 0 or form in labels[v] or labels[v, 0] in labels[far[e]]:
            continue
        on_line = {w for w in around[v] if form in labels[w] and labels[v, 0] in labels[w]}
        if not any(a in on_line and b in on_line for a, b in zip(around[v][::2], around[v][1::2], strict=True)):
            labels[v, 1] = form  # else a triangle would have no area


def _name_corners(
    mesh: Mesh, sides: _Sides, labels: np.ndarray, edges: np.ndarray, of: np.ndarray, width: float
) -> None:
    """Let the vertex next to where three forms meet be the corner."""
    about: dict[int, set[int]] = {}
    for v, w in edges.tolist():
        for one, two in ((v, w), (w, v)):
            about.setdefault(one, set()).update({int(labels[one, 0]), int(labels[two, 0])})
    corners: dict[tuple[int, ...], list[int]] = {}
    for v, forms in about.items():
        if of[v] < 0 and len(forms) == _MOST:
            corners.setdefault(tuple(sorted(forms)), []).append(v)
    for forms, some in corners.items():
        own = np.array(some)
        named = np.tile(np.array(forms), (len(own), 1))
        places, left = _onto(sides, named, mesh.vertices[own])
        off = np.linalg.norm(places - mesh.vertices[own], axis=1)
        done: list[np.ndarray] = []
        for i in np.argsort(off, kind="stable"):
            if off[i] > _FARTHEST * width or left[i] > 1e-6 * mesh.diagonal:
                continue
            if all(np.linalg.norm(places[i] - one) > 0.1 * width for one in done):  # once for each place they meet in
                labels[own[i]] = named[i]
                done.append(places[i])


def _pairs_across(sides: _Sides, labels: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """The two forms, one of each end, in whose edge a new vertex lies, int, shape (N, 3); -1 where there are none."""
    pairs = np.full((len(edges), _MOST), _NONE)
    for here, there in ((0, 0), (1, 0), (0, 1), (1, 1)):
        a, b = labels[edges[:, 0], here], labels[edges[:, 1], there]
        fits = (pairs[:, 0] < 0) & (a >= 0) & (b >= 0) & (a != b)
        fits &= sides.bulges[np.maximum(a, 0), np.maximum(b, 0)] != 0
        pairs[fits, 0], pairs[fits, 1] = a[fits], b[fits]
    return pairs


def _turned_over(made: _Made, sides: _Sides, before: int, are_all: bool) -> np.ndarray:
    """Old vertices at triangles that do not face as the form they are to lie on; bool, shape (V,).

    All of each triangle, or the one that was moved furthest, as it may do to leave that.
    """
    mesh, labels = made.mesh, made.labels
    changed = np.flatnonzero((made.shift > 0)[mesh.faces].any(axis=1))
    own = labels[mesh.faces[changed]]
    middles = mesh.vertices[mesh.faces[changed]].mean(axis=1)
    areas = face_vectors(mesh.vertices, mesh.faces[changed])
    size = np.maximum(np.linalg.norm(areas, axis=1), 1e-300)
    bad = np.zeros(len(changed), dtype=bool)
    for slot in range(_MOST):
        for i in np.unique(own[:, 0, slot]):
            if i < 0:
                continue
            common = (own[:, 0, slot] == i) & (own[:, 1] == i).any(axis=1) & (own[:, 2] == i).any(axis=1)
            lean = (areas[common] * sides.ways(i, middles[common])).sum(axis=1) / size[common]
            bad[common] |= lean < _LEANS
    out = np.zeros(before, dtype=bool)
    corners = mesh.faces[changed[bad]]
    if not are_all:
        corners = corners[np.arange(len(corners)), np.argmax(made.shift[corners], axis=1)]
    at = np.unique(corners)
    out[at[at < before]] = True
    out[made.ends[at[at >= before] - before].ravel()] = True
    return out


def _length(made: _Made) -> float:
    """Of the mesh edges that lie in the edge of two forms, mm."""
    edges = edges_of(made.mesh)
    shared = _in_common(made.labels[edges[:, 0]], made.labels[edges[:, 1]]) >= 2
    ends = made.mesh.vertices[edges[shared]]
    return float(np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1).sum())
