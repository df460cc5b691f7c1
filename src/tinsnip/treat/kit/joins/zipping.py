"""Zipping seams: what of two open edges lies along each other is given common vertices."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import SHIFTED, Domain, Lineage, Mesh
from tinsnip.mesh.halfedges import RING, root_of
from tinsnip.mesh.measures import face_vectors, triangles_at
from tinsnip.mesh.remembered import is_known, remember
from tinsnip.mesh.subsets import compact
from tinsnip.progress import check_here
from tinsnip.survey.seams import OpenEdges, gaps_at, open_edges_of, seams_of

__all__ = ["Zipped", "zip_seams"]

_MOST_AT_ONE_PLACE = 64
"""Vertices that may come to lie at one place."""
_TURNS = 8
"""Rounds in which seams are zipped."""


class Zipped(NamedTuple):
    """What became of a mesh.

    Attributes
    ----------
    mesh : Mesh
        The very one that was given where nothing could be zipped.
    edges, divided : int
        How many open edges were closed, and how many triangles were divided where a vertex met an edge.
    moved : float
        How far a vertex was moved at most, mm.
    """

    mesh: Mesh
    edges: int
    divided: int
    moved: float


@kernel
def _gather(pairs, places, within, start, beside, barred, root, following, size):
    """Put vertices together, nearest pairs first, as long as all that come together lie within reach of each other.

    Two vertices of one triangle never come together. `following` links those at one place in a ring.
    """
    for i in range(pairs.shape[0]):
        a, b = root_of(root, pairs[i, 0]), root_of(root, pairs[i, 1])
        if a == b or barred[a] or barred[b] or size[a] + size[b] > _MOST_AT_ONE_PLACE:
            continue
        fits = True
        p = a
        while fits:
            q = b
            while fits:
                far = 0.0
                for k in range(3):
                    far += (places[p, k] - places[q, k]) ** 2
                if far > within * within:
                    fits = False
                for j in range(start[p], start[p + 1]):
                    if beside[j] == q:
                        fits = False
                q = following[q]
                if q == b:
                    break
            p = following[p]
            if p == a:
                break
        if fits:
            low, high = min(a, b), max(a, b)
            root[high] = low
            size[low] += size[high]
            following[a], following[b] = following[b], following[a]


def _neighbours(mesh: Mesh, edges: OpenEdges) -> tuple[np.ndarray, np.ndarray]:
    """For each vertex of the open edges those that have a triangle in common with it, as rows of a table."""
    number = np.full(len(mesh.vertices), -1, dtype=np.int32)
    number[edges.vertices] = np.arange(len(edges.vertices), dtype=np.int32)
    local = number[mesh.faces[triangles_at(mesh.faces, number >= 0)]]
    one = np.concatenate([local[:, [0, 1, 2]].ravel(), local[:, [1, 2, 0]].ravel()])
    other = np.concatenate([local[:, [1, 2, 0]].ravel(), local[:, [0, 1, 2]].ravel()])
    both = (one >= 0) & (other >= 0)
    one, other = one[both], other[both]
    order = np.argsort(one, kind="stable")
    start = np.searchsorted(one[order], np.arange(len(edges.vertices) + 1)).astype(np.int64)
    return start, np.ascontiguousarray(other[order])


class _Plan:
    """Which vertices come together, and where edges are divided."""

    def __init__(self, mesh: Mesh, tolerance: float) -> None:
        self.mesh, self.within = mesh, tolerance
        known = seams_of(mesh) if is_known(mesh, seams_of) else None
        self.edges = open_edges_of(mesh) if known is None else known.lines
        count = len(self.edges.vertices)
        self.start, self.beside = _neighbours(mesh, self.edges)
        self.barred = np.zeros(count, dtype=np.bool_)
        if known is not None and 0 < tolerance <= known.tolerance:
            close = known.near[2] <= tolerance
            point, edge, gap, along = (values[close] for values in known.near)
        else:
            point, edge, gap, along = gaps_at(self.edges, np.arange(count, dtype=np.int32), tolerance)
        self.near = point, edge, gap, along
        # vertices within reach of each other: the ends of the edges found are among them
        ends = self.edges.ends[edge]
        pairs = np.concatenate([np.stack([point, ends[:, k]], axis=1) for k in range(2)])
        far = np.linalg.norm(self.edges.places[pairs[:, 0]] - self.edges.places[pairs[:, 1]], axis=1)
        some = far <= tolerance
        pairs, far = pairs[some], far[some]
        pairs.sort(axis=1)
        self.pairs = np.ascontiguousarray(pairs[np.lexsort((pairs[:, 1], pairs[:, 0], far))], dtype=np.int32)

    def gather(self) -> np.ndarray:
        """The place each vertex comes to: the lowest of the vertices that do, int, shape (B,)."""
        count = len(self.edges.vertices)
        root, following = np.arange(count, dtype=np.int32), np.arange(count, dtype=np.int32)
        _gather(
            self.pairs, self.edges.places, self.within, self.start, self.beside, self.barred, root, following,
            np.ones(count, dtype=np.int32),
        )  # fmt: skip
        while (root[root] != root).any():
            root = root[root]
        return root

    def splits(self, root: np.ndarray) -> np.ndarray:
        """Where vertices come to lie on edges: rows of edge, vertex and share along it, in order along each edge."""
        point, edge, _, along = self.near
        place = root[point]
        ends = root[self.edges.ends[edge]]
        length = self.edges.length[edge]
        inside = (along * length > 0.02 * self.within) & ((1 - along) * length > 0.02 * self.within)
        inside &= (ends != place[:, None]).all(axis=1) & ~self.barred[point]
        # the corner across from the edge, if it lies on an open edge too, is no vertex to divide it by
        half = self.edges.half[edge]
        across = self.mesh.faces.ravel()[half - half % 3 + (half + 2) % 3]
        inside &= self.edges.vertices[point] != across
        rows = np.stack([edge[inside], place[inside], along[inside]], axis=1)
        rows = rows[np.lexsort((rows[:, 1], rows[:, 2], rows[:, 0]))]
        # several vertices of one place divide an edge once
        _, once = np.unique(rows[:, :2], axis=0, return_index=True)
        return rows[np.sort(once)]

    def worth_it(self) -> tuple[np.ndarray, np.ndarray]:
        """Only what closes edges: places and splits."""
        root = self.gather()
        splits = self.splits(root)
        while True:
            check_here()
            edge, u, w = _pieces(self.edges, root, splits)
            key = np.minimum(u, w) * np.int64(len(root)) + np.maximum(u, w)
            _, index, count = np.unique(key, return_inverse=True, return_counts=True)
            closed = (count[index] == 2) & (u != w)
            ends = np.zeros(len(root), dtype=bool)
            ends[u[closed]] = ends[w[closed]] = True
            # a vertex that divides an edge has to end a closed piece of that edge
            good = np.zeros(len(splits), dtype=bool)
            if len(splits):
                at_u, at_w = _split_numbers(splits, edge, u, w, len(root))
                good[at_u[(at_u >= 0) & closed]] = True
                good[at_w[(at_w >= 0) & closed]] = True
            gathered = np.bincount(root, minlength=len(root))[root] > 1
            idle = gathered & ~ends[root]
            if good.all() and not idle.any():
                self.closed = int(closed.sum())
                return root, splits
            splits = splits[good]
            if idle.any():
                root = np.where(idle, np.arange(len(root), dtype=np.int32), root)
                if len(splits):
                    splits = splits[~np.isin(splits[:, 1].astype(np.int64), np.flatnonzero(idle))]


def _pieces(edges: OpenEdges, root: np.ndarray, splits: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The open edges as they are divided: which edge each piece is of, and its two ends."""
    count = len(edges.half)
    edge = np.concatenate([np.arange(count), splits[:, 0].astype(np.int64)])
    share = np.concatenate([np.zeros(count), splits[:, 2]])
    begin = np.concatenate([root[edges.ends[:, 0]], splits[:, 1].astype(np.int64)]).astype(np.int64)
    order = np.lexsort((share, edge))
    edge, begin = edge[order], begin[order]
    end = np.append(begin[1:], 0)
    last = np.append(edge[1:] != edge[:-1], True)
    end[last] = root[edges.ends[edge[last], 1]]
    return edge, begin, end


def _split_numbers(splits: np.ndarray, edge: np.ndarray, u: np.ndarray, w: np.ndarray, count: int) -> tuple:
    """Which split each piece begins with and ends with; -1 for none."""
    code = splits[:, 0].astype(np.int64) * count + splits[:, 1].astype(np.int64)
    order = np.argsort(code)
    found = []
    for end in (u, w):
        own = edge * np.int64(count) + end
        at = np.minimum(np.searchsorted(code[order], own), len(code) - 1)
        found.append(np.where(code[order][at] == own, order[at], -1))
    return tuple(found)


def _divided(mesh: Mesh, edges: OpenEdges, splits: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, tuple]:
    """The triangles, those with vertices on an edge divided: faces, parents, corners and what these lean towards."""
    half = edges.half[splits[:, 0].astype(np.int64)]
    vertex, share = edges.vertices[splits[:, 1].astype(np.int64)], splits[:, 2]
    per: dict[int, dict[int, list[tuple[int, float]]]] = {}
    for h, v, s in zip(half.tolist(), vertex.tolist(), share.tolist(), strict=True):
        per.setdefault(h // 3, {}).setdefault(h % 3, []).append((v, s))
    rest = np.ones(len(mesh.faces), dtype=bool)
    rest[list(per)] = False
    kept = np.flatnonzero(rest)
    fresh, parents, corners, leaning, shares = [], [], [], [], []
    for f, sides in per.items():
        whole = mesh.faces[f].tolist()
        ring: list[tuple[int, int, int, float]] = []  # vertex, corner it leans from and to, share
        for k in range(3):
            ring.append((whole[k], 3 * f + k, 3 * f + k, 0.0))
            ring += [(v, 3 * f + k, 3 * f + (k + 1) % 3, s) for v, s in sides.get(k, [])]
        sizes = [1 + len(sides.get(k, [])) for k in range(3)]
        for three in _fanned(sizes):
            fresh.append([ring[i][0] for i in three])
            parents.append(f)
            corners += [ring[i][1] for i in three]
            leaning += [ring[i][2] for i in three]
            shares += [ring[i][3] for i in three]
    base = (3 * kept[:, None] + np.arange(3)).ravel()
    faces = np.concatenate([mesh.faces[kept], np.array(fresh, dtype=np.int32).reshape(-1, 3)])
    return (
        faces,
        np.concatenate([kept, np.array(parents, dtype=np.int64)]),
        np.concatenate([base, np.array(corners, dtype=np.int64)]),
        (np.concatenate([base, np.array(leaning, dtype=np.int64)]), np.concatenate([np.zeros(len(base)), shares])),
    )


def _fanned(sizes: list[int]) -> list[tuple[int, int, int]]:
    """Triangles, by places round a ring, of a triangle whose sides have so many pieces; none lies along a side."""
    a, b, c = 0, sizes[0], sizes[0] + sizes[1]
    count = sum(sizes)
    found = []
    # the first side is fanned from the corner across, the others from the vertex of the fan that is next to them
    first, last = (a + 1, b - 1) if sizes[0] > 1 else (b, a)
    found += [(i, i + 1, c) for i in range(a + 1, b - 1)]
    if sizes[0] > 1:
        found += [(last, i, i + 1) for i in range(b, c)]
        found += [(first, i, (i + 1) % count) for i in range(c, count)]
        return found
    if sizes[1] > 1:
        found += [(a, i, i + 1) for i in range(b, c - 1)]
        found += [(c - 1, i, (i + 1) % count) for i in range(c, count)]
        return found
    return [(b, i, (i + 1) % count) for i in range(c, count)]


def zip_seams(mesh: Mesh, tolerance: float) -> Zipped:
    """Let open edges that lie along each other within a tolerance become one.

    Vertices within reach come together at the lowest of them, and vertices within reach of an edge divide it, wherever
    that closes an edge; nowhere else. What would tangle the mesh or turn a triangle over is left open.

    Parameters
    ----------
    mesh : Mesh
    tolerance : float
        mm; no vertex is moved farther than this, and no gap closed that is wider.

    Returns
    -------
    Zipped
    """
    plan = _Plan(mesh, tolerance)
    tangled = mesh.edges.tangled
    for _ in range(_TURNS):
        root, splits = plan.worth_it()
        if plan.closed == 0:
            return Zipped(mesh, 0, 0, 0.0)
        made = _made(mesh, plan.edges, root, splits)
        wrong = _wrong(mesh, made, tangled)
        if len(wrong) == 0:
            break
        # what comes together where it must not stays apart, and the rest is tried again
        number = np.full(len(mesh.vertices), -1, dtype=np.int64)
        number[plan.edges.vertices] = np.arange(len(plan.edges.vertices))
        at = number[wrong]
        at = np.unique(root[at[at >= 0]])
        plan.barred |= np.isin(root, at)
        if len(at) == 0:
            return Zipped(mesh, 0, 0, 0.0)
    else:
        return Zipped(mesh, 0, 0, 0.0)
    to = plan.edges.places[root]
    moved = float(np.linalg.norm(to - plan.edges.places, axis=1).max())
    left = compact(made)
    remember(left, Mesh.twins, made.twins)  # the same triangles in the same order
    return Zipped(left, plan.closed, len(made.faces) - len(mesh.faces), moved)


def _made(mesh: Mesh, edges: OpenEdges, root: np.ndarray, splits: np.ndarray) -> Mesh:
    goes = np.arange(len(mesh.vertices), dtype=np.int32)
    goes[edges.vertices] = edges.vertices[root]
    triangles = np.arange(len(mesh.faces), dtype=np.int32)
    vertices = np.arange(len(mesh.vertices), dtype=np.int32)
    faces, lineage = mesh.faces, Lineage(vertices, triangles)
    if len(splits):
        faces, triangles, corners, towards = _divided(mesh, edges, splits)
        lineage = Lineage(vertices, triangles)
        if any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
            lineage = Lineage(vertices, triangles, None, corners, (towards,))
    provenance = mesh.provenance[triangles]
    off = (mesh.vertices[goes] != mesh.vertices).any(axis=1)
    changed = triangles_at(faces, off)
    if len(splits):
        changed[len(faces) - np.count_nonzero(np.bincount(triangles, minlength=len(mesh.faces))[triangles] > 1) :] = (
            True
        )
    provenance = np.where(changed & (provenance == 0), SHIFTED, provenance).astype(np.uint8)
    return mesh.derive(goes[faces], lineage, provenance=provenance)


def _wrong(before: Mesh, after: Mesh, tangled: int) -> np.ndarray:
    """Vertices at which something came together that must not: tangles, and triangles that turned over or fell flat."""
    wrong = [np.empty(0, dtype=np.int64)]
    faces = after.faces
    touched = np.flatnonzero(after.provenance == SHIFTED)
    if len(touched):
        flat = (faces[touched] == np.roll(faces[touched], 1, axis=1)).any(axis=1)
        wrong.append(faces[touched[flat]].ravel())
        vectors = face_vectors(after.vertices, faces[touched])
        if len(faces) == len(before.faces):
            turned = (vectors * face_vectors(before.vertices, before.faces[touched])).sum(axis=1) < 0
            wrong.append(faces[touched[turned]].ravel())
    if after.edges.tangled > tangled:
        half = np.flatnonzero((after.twins <= RING) & (after.twins > -(2**31)))
        corner = faces.ravel()
        wrong += [corner[half], corner[half - half % 3 + (half + 1) % 3]]
    return np.unique(np.concatenate(wrong))
