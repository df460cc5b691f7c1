"""Closing boundary loops with triangles: flat, or of least area; and joining them to the mesh."""

from itertools import pairwise

import numpy as np
from scipy import sparse
from scipy.spatial import cKDTree

from tinsnip.kernels import kernel
from tinsnip.mesh import Lineage, Mesh
from tinsnip.mesh.halfedges import ABSENT, RING
from tinsnip.mesh.measures import triangles_at
from tinsnip.progress import Progress, check_here
from tinsnip.space.polygons import nested_rings, plane_axes, triangulate_flat
from tinsnip.treat.kit.patches.refining import refine_patch

__all__ = ["add_triangles", "close_rings", "evenly", "fill_loop", "flat_cap", "joined_loops"]

_LARGEST_TABLE = 360
_COMPACT = 0.02
"""Weight of a triangle's squared edge lengths beside its area: among equal areas the compact one wins."""


@kernel
def _least_area(points, cost, choice):
    """Fill the tables of the dynamic programme; `cost` is kept symmetric so that reads run along memory."""
    n = points.shape[0]
    for i in range(n - 1):
        cost[i, i + 1] = 0.0
        cost[i + 1, i] = 0.0
    for gap in range(2, n):
        for i in range(n - gap):
            j = i + gap
            ax, ay, az = points[i, 0], points[i, 1], points[i, 2]
            bx, by, bz = points[j, 0] - ax, points[j, 1] - ay, points[j, 2] - az
            base = bx * bx + by * by + bz * bz
            best = np.inf
            best_m = i + 1
            for m in range(i + 1, j):
                so_far = cost[i, m] + cost[j, m]
                if so_far >= best:
                    continue
                cx, cy, cz = points[m, 0] - ax, points[m, 1] - ay, points[m, 2] - az
                nx, ny, nz = by * cz - bz * cy, bz * cx - bx * cz, bx * cy - by * cx
                dx, dy, dz = cx - bx, cy - by, cz - bz
                spread = base + cx * cx + cy * cy + cz * cz + dx * dx + dy * dy + dz * dz
                total = so_far + 0.5 * np.sqrt(nx * nx + ny * ny + nz * nz) + _COMPACT * spread
                if total < best:
                    best = total
                    best_m = m
            cost[i, j] = best
            cost[j, i] = best
            choice[i, j] = best_m


def _by_table(points: np.ndarray) -> np.ndarray:
    n = len(points)
    scale = float(np.ptp(points, axis=0).max()) or 1.0
    choice = np.zeros((n, n), dtype=np.int16)
    _least_area((points - points[0]) / scale, np.zeros((n, n), dtype=np.float32), choice)
    triangles, todo = [], [(0, n - 1)]
    while todo:
        i, j = todo.pop()
        if j - i < 2:
            continue
        m = int(choice[i, j])
        triangles.append((i, m, j))
        todo += [(i, m), (m, j)]
    return np.array(triangles, dtype=np.int64)


def _best_chord(points: np.ndarray) -> tuple[int, int]:
    """The shortest chord that leaves at least a quarter of the loop on either side."""
    n = len(points)
    some = np.arange(0, n, max(1, n // 800))
    chosen = points[some]
    distance = np.linalg.norm(chosen[:, None] - chosen[None], axis=2)
    apart = np.abs(some[:, None] - some[None])
    apart = np.minimum(apart, n - apart)
    distance[apart < n // 4] = np.inf
    i, j = np.unravel_index(int(np.argmin(distance)), distance.shape)
    return int(min(some[i], some[j])), int(max(some[i], some[j]))


def fill_loop(points: np.ndarray) -> np.ndarray:
    """Triangulate a loop in space without new vertices.

    Up to some hundred edges by dynamic programming for least area (Barequet and Sharir 1995); a longer loop
    is divided along short chords until its parts are that small.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In order round the loop.

    Returns
    -------
    ndarray of int, shape (N - 2, 3)
        Wound the way the loop runs.
    """
    done, todo = [], [np.arange(len(points))]
    while todo:
        loop = todo.pop()
        if len(loop) <= _LARGEST_TABLE:
            done.append(loop[_by_table(points[loop])])
        else:
            i, j = _best_chord(points[loop])
            todo += [loop[i : j + 1], np.concatenate([loop[j:], loop[: i + 1]])]
    return np.concatenate(done)


def split_repeated_edges(
    mesh: Mesh, triangles: np.ndarray, extra: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Put a point on inner edges of new triangles that the mesh already has, or that occur twice.

    Otherwise such an edge would end with four triangles.

    Parameters
    ----------
    mesh : Mesh
    triangles : ndarray of int, shape (T, 3)
        Numbers below ``len(mesh.vertices)`` are the mesh's, above them `extra`'s.
    extra : ndarray, shape (N, 3)

    Returns
    -------
    triangles : ndarray of int
    extra : ndarray
        With the points added at the end.
    halves : ndarray of int, shape (M, 2)
        The two ends between which each added point lies.
    """
    total = len(mesh.vertices) + len(extra)
    ends = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)
    key = ends.min(axis=1) * total + ends.max(axis=1)
    near = np.zeros(len(mesh.vertices), dtype=bool)
    near[triangles[triangles < len(near)]] = True
    touching = mesh.faces[triangles_at(mesh.faces, near)]
    touching = touching[near[touching].sum(axis=1) >= 2].astype(np.int64)
    old = np.concatenate([touching[:, [0, 1]], touching[:, [1, 2]], touching[:, [2, 0]]])
    old_key = old.min(axis=1) * total + old.max(axis=1)
    unique, count = np.unique(key, return_counts=True)
    inner = unique[count >= 2]
    bad = set(inner[np.isin(inner, old_key)].tolist()) | set(unique[count > 2].tolist())
    halves = np.empty((0, 2), dtype=np.int64)
    if not bad:
        return triangles, extra, halves
    points: list[np.ndarray] = []
    pairs: list[tuple[int, int]] = []
    partner: dict[int, list[int]] = {}

    def place(v: int) -> np.ndarray:
        return mesh.vertices[v] if v < len(mesh.vertices) else extra[v - len(mesh.vertices)]

    def parts(triangle: list[int]) -> list[tuple[int, ...]]:
        todo, done = [tuple(triangle)], []
        while todo:
            t = todo.pop()
            for k in range(3):
                u, v, w = t[k], t[(k + 1) % 3], t[(k + 2) % 3]
                code = min(u, v) * total + max(u, v)
                if code in bad and u < total and v < total:
                    waiting = partner.setdefault(code, [])
                    if waiting:  # the second triangle on this edge takes the same point
                        m = waiting.pop()
                    else:
                        m = total + len(points)
                        points.append(0.5 * (place(u) + place(v)))
                        pairs.append((u, v))
                        waiting.append(m)
                    todo += [(u, m, w), (m, v, w)]
                    break
            else:
                done.append(t)
        return done

    backward = triangles[::-1].astype(np.int64)
    split = np.flatnonzero(np.isin(key, list(bad)).reshape(3, -1).any(axis=0)[::-1])
    found = [parts(t) for t in backward[split].tolist()]
    count = np.ones(len(backward), dtype=np.int64)
    count[split] = [len(some) for some in found]
    result = np.repeat(backward, count, axis=0)
    result[np.repeat(np.isin(np.arange(len(backward)), split), count)] = np.concatenate(found)
    extra = np.concatenate([extra, np.array(points)])
    return result, extra, np.array(pairs, dtype=np.int64)


def add_triangles(
    mesh: Mesh, triangles: np.ndarray, extra: np.ndarray, blends: sparse.csr_matrix | None = None
) -> Mesh:
    """Append made triangles, and the vertices they need, to a mesh.

    Parameters
    ----------
    mesh : Mesh
    triangles : ndarray of int, shape (T, 3)
        Numbers from ``len(mesh.vertices)`` on are `extra`'s.
    extra : ndarray, shape (N, 3)
    blends : csr_matrix, shape (N, V), optional
        What the extra vertices' attributes are mixed from.

    Returns
    -------
    Mesh
    """
    if blends is None:
        blends = sparse.csr_matrix((len(extra), len(mesh.vertices)))
    added = _appended(mesh, triangles, extra, blends)
    fresh = added.twins[3 * len(mesh.faces) :]
    if not ((fresh <= RING) & (fresh != ABSENT)).any():
        return added
    # an inner edge that the mesh has too, or that occurs twice
    triangles, extra, halves = split_repeated_edges(mesh, triangles, extra)
    if len(halves):
        source = sparse.vstack([sparse.identity(len(mesh.vertices), format="csr"), blends], format="csr")
        mean = sparse.csr_matrix(
            (np.full(2 * len(halves), 0.5), (np.repeat(np.arange(len(halves)), 2), halves.ravel())),
            shape=(len(halves), source.shape[0]),
        )
        blends = sparse.vstack([blends, mean @ source], format="csr")
    return _appended(mesh, triangles, extra, blends)


def _appended(mesh: Mesh, triangles: np.ndarray, extra: np.ndarray, blends: sparse.csr_matrix) -> Mesh:
    old_vertices = np.arange(len(mesh.vertices), dtype=np.int32)
    old_triangles = np.arange(len(mesh.faces), dtype=np.int32)
    parents = np.concatenate([old_triangles, np.full(len(triangles), -1, dtype=np.int32)])
    faces = np.concatenate([mesh.faces, triangles.astype(np.int32)])
    lineage = Lineage(old_vertices, parents, blends if len(extra) else None)
    return mesh.derive(faces, lineage, np.concatenate([mesh.vertices, extra]) if len(extra) else mesh.vertices)


def flat_cap(points: np.ndarray, rings: list[np.ndarray], outward: np.ndarray) -> np.ndarray:
    """Triangles that close directed boundary rings in a plane, rings within rings as holes.

    Where rings cross or touch, so that there is no flat triangulation, each outer ring is bridged to the holes in it
    and filled with least area.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    rings : list of ndarray of int
        Vertices in the direction of the open half-edges.
    outward : ndarray, shape (3,)
        Unit normal of the cap.

    Returns
    -------
    ndarray of int, shape (T, 3)
        Wound against the rings.
    """
    used = np.concatenate(rings)
    flat = (points[used] - points[used].mean(axis=0)) @ np.column_stack(plane_axes(outward))
    starts = np.cumsum([0, *map(len, rings)])
    local = [np.arange(a, b) for a, b in pairwise(starts)]
    found = triangulate_flat(local, flat) if len(np.unique(used)) == len(used) else None
    if found is None:
        parts = []
        for group in nested_rings(local, flat):
            loop = joined_loops(points, [rings[i][::-1] for i in group])
            parts.append(loop[fill_loop(points[loop])].reshape(-1, 3))  # of two vertices: none
        return np.concatenate(parts)
    triangles = used[found]
    # the cap must run against the open half-edges; on an inside-out mesh it faces the other way
    open_edges = {(int(p), int(q)) for r in rings for p, q in zip(r, np.roll(r, -1), strict=True)}
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).tolist()
    along = sum((p, q) in open_edges for p, q in sides)
    against = sum((q, p) in open_edges for p, q in sides)
    return triangles[:, ::-1] if along > against else triangles


def joined_loops(points: np.ndarray, loops: list[np.ndarray]) -> np.ndarray:
    """One loop of an outer one and those within it: to each along the shortest way, round it, and back.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    loops : list of ndarray of int
        The inner ones run the other way round than the outer one, which is the first.
    """
    outer, *others = loops
    for inner in others:
        distance, nearest = cKDTree(points[outer]).query(points[inner])
        j = int(np.argmin(distance))
        i = int(nearest[j])
        outer = np.concatenate([outer[: i + 1], np.roll(inner, -j), inner[j : j + 1], outer[i:]])
    return outer


def evenly(points: np.ndarray, flats: list[np.ndarray], edge: float) -> tuple[list[np.ndarray], np.ndarray]:
    """Triangles of even size in place of the fewest; their borders stay as they are.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
    flats : list of ndarray of int, shape (T, 3)
        Triangles, each lot for itself.
    edge : float
        Length of the edges wanted, mm.

    Returns
    -------
    flats : list of ndarray of int
        Numbers from N on are those of the new points.
    points : ndarray, shape (M, 3)
        The new points.
    """
    fresh, found, count = [np.zeros((0, 3))], [], len(points)
    for triangles in flats:
        check_here()
        used, local = np.unique(triangles, return_inverse=True)
        places, fine = refine_patch(points[used], local.reshape(-1, 3), np.full(len(used), edge), Progress().state)
        number = np.concatenate([used, count + np.arange(len(places) - len(used))])
        count += len(places) - len(used)
        fresh.append(places[len(used) :])
        found.append(number[fine])
    return found, np.concatenate(fresh)


def close_rings(mesh: Mesh, rings: list[np.ndarray], outward: np.ndarray, edge: float | None = None) -> Mesh:
    """Close flat boundary rings, nested ones as holes, with the fewest triangles or with edges of a length, mm.

    Parameters
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices, in order.
    outward : ndarray, shape (3,)
        Unit.
    edge : float, optional
        In mm.
    """
    rings = [r for r in rings if len(r) >= 3]
    if not rings:
        return mesh
    triangles, extra = flat_cap(mesh.vertices, rings, outward), np.empty((0, 3))
    if edge is not None:
        (triangles,), extra = evenly(mesh.vertices, [triangles], edge)
    return add_triangles(mesh, triangles, extra)
