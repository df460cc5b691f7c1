"""Closed shells that cross become their union.

Each triangle is divided along the lines where others go through it (Zhou et al. 2016 give the general way); the parts
of the surface between these lines are kept where they lie outside all other shells. Signs are exact; shells are first
put off from each other by next to nothing, at random, so that nothing lies in one plane with anything (Edelsbrunner and
Muecke 1990, simulation of simplicity, gives the idea).
"""

from typing import NamedTuple

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components

from tinsnip.kernels import kernel
from tinsnip.mesh import Domain, Lineage, Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.mesh.subsets import compact
from tinsnip.progress import check_here
from tinsnip.space.crossings import meeting_pairs
from tinsnip.space.delaunay import constrained_triangles
from tinsnip.space.predicates import orientation
from tinsnip.space.winding import winding_numbers
from tinsnip.survey.crossings import Crossings, crossings_of, follow_crossings

__all__ = ["United", "unite_crossing_shells"]

_OFF = 1e-8
"""How far shells are put off from each other, as a share of the diagonal."""
_TRIES = 4
_MOST_TURNS = 50


class United(NamedTuple):
    """What became of a mesh: the very one that was given where nothing could be united.

    Attributes
    ----------
    mesh : Mesh
    shells : int
        How many shells went into unions.
    divided : int
        How many triangles were divided.
    """

    mesh: Mesh
    shells: int
    divided: int


@kernel
def _through(V, faces, pairs, points, kinds):
    """For each pair the two places where an edge of one goes through the other: edge and triangle; False if unclear."""
    for i in range(pairs.shape[0]):
        n = 0
        for side in range(2):
            f, g = pairs[i, side], pairs[i, 1 - side]
            p, q, r = faces[g, 0], faces[g, 1], faces[g, 2]
            for k in range(3):
                a, b = faces[f, k], faces[f, (k + 1) % 3]
                sa, sb = orientation(V, p, q, r, a), orientation(V, p, q, r, b)
                if sa == 0 or sb == 0:
                    return False
                if sa == sb:
                    continue
                s1, s2, s3 = orientation(V, a, b, p, q), orientation(V, a, b, q, r), orientation(V, a, b, r, p)
                if s1 == 0 or s2 == 0 or s3 == 0:
                    return False
                if s1 == s2 and s2 == s3:
                    if n == 2:
                        return False
                    points[i, n, 0], points[i, n, 1], points[i, n, 2] = min(a, b), max(a, b), g
                    n += 1
        kinds[i] = n
    return True


class _Lines(NamedTuple):
    """Where surfaces go through each other.

    Attributes
    ----------
    edge : ndarray of int, shape (N, 2)
        The edge that each new vertex lies on, the lower end first.
    face : ndarray of int, shape (N,)
        The triangle that it lies in.
    share : ndarray, shape (N,)
        Where along the edge.
    places : ndarray, shape (N, 3)
    pairs : ndarray of int, shape (P, 2)
        Triangles that go through each other.
    ends : ndarray of int, shape (P, 2)
        The new vertices between which they do.
    """

    edge: np.ndarray
    face: np.ndarray
    share: np.ndarray
    places: np.ndarray
    pairs: np.ndarray
    ends: np.ndarray


def unite_crossing_shells(mesh: Mesh) -> United:
    """Unite closed outward shells that cross each other and not themselves; all else stays to the bit.

    One shell after another takes in those that cross it and not each other, so that no more than two surfaces ever
    meet at a place.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    United
    """
    done = United(mesh, 0, 0)
    if mesh.edges.tangled or mesh.edges.flipped or "inside-out" in mesh.attributes:
        return done
    rng, shells = np.random.default_rng(0), len(mesh.shells)
    for _ in range(_MOST_TURNS):
        chosen = _one_and_what_crosses_it(done.mesh)
        if not chosen.any():
            break
        made = _tried(done.mesh, chosen, rng)
        if made is None:
            break
        done = United(made.mesh, 0, done.divided + made.divided)
    return done._replace(shells=shells - len(done.mesh.shells) + 1) if done.mesh is not mesh else done


def _one_and_what_crosses_it(mesh: Mesh) -> np.ndarray:
    """Of each lot of sound shells that cross, one, and some that cross it but not each other; bool, shape (S,)."""
    crossings, shells, label = crossings_of(mesh), mesh.shells, mesh.shells.label
    chosen = np.zeros(len(shells), dtype=bool)
    sound = (shells.open_edges == 0) & (shells.volume > 0)
    of_pairs, of_folds = label[crossings.pairs], label[crossings.folds]
    sound[of_folds.ravel()] = False
    sound[of_pairs[of_pairs[:, 0] == of_pairs[:, 1], 0]] = False
    between = of_pairs[of_pairs[:, 0] != of_pairs[:, 1]]
    between = np.unique(np.sort(between[sound[between].all(axis=1)], axis=1), axis=0)
    if len(between) == 0:
        return chosen
    beside: dict[int, set[int]] = {}
    for one, other in between.tolist():
        beside.setdefault(one, set()).add(other)
        beside.setdefault(other, set()).add(one)
    taken: set[int] = set()
    for hub in sorted(beside, key=lambda s: (-shells.area[s], s)):
        if hub in taken or beside[hub] & taken:
            continue
        lot = {hub}
        for other in sorted(beside[hub]):
            if other not in taken and not beside[other] & (taken | lot - {hub}):
                lot.add(other)
        if len(lot) > 1:
            taken |= lot
    chosen[sorted(taken)] = True
    return chosen


def _tried(mesh: Mesh, chosen: np.ndarray, rng: np.random.Generator) -> United | None:
    """Unite some shells; put off from each other in another way where something went wrong."""
    before = crossings_of(mesh)
    for _ in range(_TRIES):
        check_here()
        made = _united(mesh, chosen, rng)
        if made is None:
            continue
        after = follow_crossings(mesh, made.mesh)
        if made.mesh.edges.open == mesh.edges.open and made.mesh.edges.tangled == 0 and _less(after, before):
            return made
    return None


def _less(after: Crossings, before: Crossings) -> bool:
    return after.total < before.total and len(after.folds) <= len(before.folds)


def _united(mesh: Mesh, chosen: np.ndarray, rng: np.random.Generator) -> United | None:
    label, own = mesh.shells.label, chosen[mesh.shells.label]
    shell_of = np.full(len(mesh.vertices), -1, dtype=np.int64)
    shell_of[mesh.faces[own].ravel()] = np.repeat(label[own], 3)
    off = _OFF * mesh.diagonal * rng.uniform(-1, 1, (len(chosen), 3))
    places = mesh.vertices + np.where((shell_of >= 0)[:, None], off[shell_of], 0.0)
    faces = np.flatnonzero(own)
    pairs = meeting_pairs(places, mesh.faces, faces, faces)
    pairs = pairs[label[pairs[:, 0]] != label[pairs[:, 1]]]
    if len(pairs) == 0:  # they touched only, and are apart now
        return None
    lines = _lines(places, mesh.faces, pairs)
    if lines is None:
        return None
    divided = _divide(mesh, places, lines)
    if divided is None:
        return None
    new_faces, parents, corners, towards = divided
    kept = _outer(mesh, places, lines, new_faces, parents, chosen)
    keep3 = np.repeat(kept, 3)
    new_faces, parents, corners = new_faces[kept], parents[kept], corners[keep3]
    towards = tuple((to[keep3], share[keep3]) for to, share in towards)
    count = len(lines.share)
    weights = np.column_stack([1 - lines.share, lines.share]).ravel()
    rows = np.repeat(np.arange(count), 2)
    blends = sparse.csr_matrix((weights, (rows, lines.edge.ravel())), shape=(count, len(mesh.vertices)))
    lineage = Lineage(np.arange(len(mesh.vertices)), parents, blends)
    if any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
        lineage = Lineage(np.arange(len(mesh.vertices)), parents, blends, corners, towards)
    vertices = np.concatenate([mesh.vertices, lines.places])
    united = compact(mesh.derive(new_faces.astype(np.int32), lineage, vertices))
    return United(united, int(chosen.sum()), len(np.unique(lines.pairs)))


def _lines(places: np.ndarray, faces: np.ndarray, pairs: np.ndarray) -> _Lines | None:
    """Where pairs of triangles go through each other; None where something is in one plane with something."""
    points, kinds = np.zeros((len(pairs), 2, 3), dtype=np.int64), np.zeros(len(pairs), dtype=np.int64)
    if not _through(places, faces, np.ascontiguousarray(pairs, dtype=np.int32), points, kinds):
        return None
    if (kinds != 2).any():
        return None
    keys, number = np.unique(points.reshape(-1, 3), axis=0, return_inverse=True)
    a, b, face = places[keys[:, 0]], places[keys[:, 1]], keys[:, 2]
    normal, base = face_vectors(places, faces[face]), places[faces[face, 0]]
    one, other = ((a - base) * normal).sum(axis=1), ((b - base) * normal).sum(axis=1)
    share = np.clip(one / np.where(one != other, one - other, 1.0), 0.0, 1.0)
    at = a + share[:, None] * (b - a)
    return _Lines(keys[:, :2], face, share, at, pairs, number.reshape(-1, 2))


def _divide(mesh: Mesh, places: np.ndarray, lines: _Lines) -> tuple | None:
    """The triangles, those that others go through divided along the lines; parents, corners and what these lean to."""
    base, faces = len(mesh.vertices), mesh.faces
    cut = np.unique(lines.pairs)
    # new vertices on each edge, in order along it
    on_edge: dict[tuple[int, int], list[int]] = {}
    for i in np.lexsort((lines.share, lines.edge[:, 1], lines.edge[:, 0])).tolist():
        on_edge.setdefault((int(lines.edge[i, 0]), int(lines.edge[i, 1])), []).append(i)
    within: dict[int, list[int]] = {}
    for i, f in enumerate(lines.face.tolist()):
        within.setdefault(f, []).append(i)
    pieces: dict[int, list[tuple[int, int]]] = {}
    for (f, g), (u, w) in zip(lines.pairs.tolist(), lines.ends.tolist(), strict=True):
        pieces.setdefault(f, []).append((u, w))
        pieces.setdefault(g, []).append((u, w))
    normals = face_vectors(places, faces[cut])
    fresh, parents, weights = [], [], []
    for f, normal in zip(cut.tolist(), normals, strict=True):
        corners = faces[f].tolist()
        ring: list[int] = []
        for k in range(3):
            a, b = corners[k], corners[(k + 1) % 3]
            inner = on_edge.get((min(a, b), max(a, b)), [])
            ring += [a, *(base + i for i in (inner if a < b else inner[::-1]))]
        used = ring + [base + i for i in within.get(f, [])]
        local = {v: n for n, v in enumerate(used)}
        drop = int(np.argmax(np.abs(normal)))
        i, j = (drop + 1) % 3, (drop + 2) % 3
        if normal[drop] < 0:
            i, j = j, i
        points = np.array([places[v] if v < base else lines.places[v - base] for v in used])
        count = len(ring)
        edges = [(n, (n + 1) % count) for n in range(count)]
        inner = [(local[base + u], local[base + w]) for u, w in pieces[f]]
        found = constrained_triangles(points[:, [i, j]], np.array(edges), np.array(inner))
        if found is None or len(found) != count - 2 + 2 * (len(used) - count):
            return None
        fresh.append(np.array(used)[found])
        parents.append(np.full(len(found), f))
        weights.append(_weights(points, places[corners])[found])
    check_here()
    rest = np.ones(len(faces), dtype=bool)
    rest[cut] = False
    kept = np.flatnonzero(rest)
    new_faces = np.concatenate([faces[kept].astype(np.int64), *fresh])
    parent = np.concatenate([kept, *parents])
    share = np.concatenate([np.tile(np.eye(3), (len(kept), 1, 1)), *weights]).reshape(-1, 3)
    # a value between three corners: from the first towards the second, and from there towards the third
    first = np.repeat(3 * parent, 3)
    two = share[:, 0] + share[:, 1]
    lean = np.where(two > 0, share[:, 1] / np.where(two > 0, two, 1.0), 0.0)
    return new_faces, parent, first, ((first + 1, lean), (first + 2, share[:, 2]))


def _weights(points: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Shares of a triangle's three corners at points of it, shape (N, 3)."""
    a, b, c = corners
    normal = np.cross(b - a, c - a)
    size = max(float(normal @ normal), 1e-300)
    one = np.cross(b - points, c - points) @ normal / size
    other = np.cross(c - points, a - points) @ normal / size
    found = np.clip(np.column_stack([one, other, 1 - one - other]), 0.0, 1.0)
    return found / found.sum(axis=1)[:, None]


def _outer(
    mesh: Mesh, places: np.ndarray, lines: _Lines, faces: np.ndarray, parents: np.ndarray, chosen: np.ndarray
) -> np.ndarray:
    """Which of the triangles, divided as they are, lie outside all other shells that are united; bool."""
    base, label = len(mesh.vertices), mesh.shells.label
    shell = label[parents]
    own = np.flatnonzero(chosen[shell])
    total = base + len(lines.share)
    # parts of the surface: what hangs together over edges that are none of the lines
    ends = np.sort(np.concatenate([faces[own][:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    key = ends[:, 0] * np.int64(total) + ends[:, 1]
    drawn = np.sort(base + lines.ends, axis=1)
    owner = np.tile(np.arange(len(own)), 3)
    open_to = ~np.isin(key, drawn[:, 0] * np.int64(total) + drawn[:, 1])
    order = np.argsort(key[open_to], kind="stable")
    key, owner = key[open_to][order], owner[open_to][order]
    same = np.flatnonzero(key[1:] == key[:-1])
    graph = sparse.coo_matrix((np.ones(len(same)), (owner[same], owner[same + 1])), shape=(len(own), len(own)))
    count, part = connected_components(graph, directed=False)
    # each is judged at the middle of its largest triangle
    where = np.concatenate([places, lines.places])
    area = triangle_areas(where, np.ascontiguousarray(faces[own], dtype=np.int32))
    largest = np.zeros(count, dtype=np.int64)
    by_area = np.argsort(area, kind="stable")
    largest[part[by_area]] = own[by_area]
    middle = where[faces[largest]].mean(axis=1)
    outside = np.ones(count, dtype=bool)
    for s in np.unique(shell[largest]):
        check_here()
        some = np.flatnonzero(shell[largest] == s)
        others = np.ascontiguousarray(mesh.faces[chosen[label] & (label != s)])
        outside[some] = winding_numbers(places, others, middle[some]) < 0.5
    keep = np.ones(len(faces), dtype=bool)
    keep[own] = outside[part]
    return keep
