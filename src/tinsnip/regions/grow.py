"""Finding triangles from a place on the surface: a flat round it, what a brush covers, a row more or less."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, dijkstra

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors, triangles_at

__all__ = [
    "area_round",
    "brushed",
    "facing_round",
    "flat_round",
    "grown",
    "grown_by",
    "places_of",
    "shrunk",
    "whole_shell",
]


@kernel
def _flood(vertices, faces, twins, seed, way, middle, radius, limit, bend, inside, found):
    """Spread from a triangle over its neighbours; how many triangles, or -1 when there is no room for more.

    A neighbour is taken whose facing differs from `way` by no more than `limit` (a cosine), over an edge that is no
    sharper than `bend`, and that comes within `radius` of the middle.
    """
    other = np.empty(3)
    here = np.empty(3)
    found[0] = seed
    inside[seed] = True
    count, done = 1, 0
    while done < count:
        f = found[done]
        done += 1
        _facing(vertices, faces, f, here)
        for k in range(3):
            t = twins[3 * f + k]
            if t < 0:
                continue
            g = t // 3
            if inside[g]:
                continue
            _facing(vertices, faces, g, other)
            if way[0] * other[0] + way[1] * other[1] + way[2] * other[2] < limit:
                continue
            if here[0] * other[0] + here[1] * other[1] + here[2] * other[2] < bend:
                continue
            if radius > 0.0 and _distance(vertices, faces, g, middle) > radius:
                continue
            inside[g] = True
            if count == len(found):
                return -1
            found[count] = g
            count += 1
    return count


@kernel
def _facing(vertices, faces, f, out):
    a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
    ux, uy, uz = (
        vertices[b, 0] - vertices[a, 0],
        vertices[b, 1] - vertices[a, 1],
        vertices[b, 2] - vertices[a, 2],
    )
    wx, wy, wz = (
        vertices[c, 0] - vertices[a, 0],
        vertices[c, 1] - vertices[a, 1],
        vertices[c, 2] - vertices[a, 2],
    )
    out[0], out[1], out[2] = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    length = np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2)
    for k in range(3):
        out[k] = out[k] / length if length > 0 else 0.0


@kernel
def _distance(vertices, faces, f, middle):
    """How near the nearest corner, or the centroid, of a triangle comes to a place."""
    best = np.inf
    centre = np.zeros(3)
    for k in range(3):
        d = 0.0
        for i in range(3):
            x = vertices[faces[f, k], i]
            centre[i] += x / 3.0
            d += (x - middle[i]) ** 2
        best = min(best, d)
    d = 0.0
    for i in range(3):
        d += (centre[i] - middle[i]) ** 2
    return np.sqrt(min(best, d))


def _spread(
    mesh: Mesh, triangle: int, way: np.ndarray, middle: np.ndarray, radius: float, degrees: float, bend: float
) -> np.ndarray:
    inside = np.zeros(len(mesh.faces), dtype=bool)
    found = np.empty(len(mesh.faces), dtype=np.int32)
    limit, sharp = (-2.0 if a >= 180.0 else float(np.cos(np.radians(a))) for a in (degrees, bend))
    where = np.asarray(middle, dtype=float)
    count = _flood(
        mesh.vertices, mesh.faces, mesh.twins, triangle, way, where, radius, limit, sharp, inside, found
    )  # fmt: skip
    return found[:count].copy()


def facing_round(mesh: Mesh, triangle: int) -> np.ndarray:
    """How the surface faces round a triangle, unit, shape (3,).

    The triangle itself may be noise: it is the mean of those round it that face much the same way, so that neither
    noise nor the far side of an edge tips it.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        Its number.
    """
    near = {triangle}
    for _ in range(6):
        near |= {int(t) // 3 for f in near for t in mesh.twins[3 * f : 3 * f + 3] if t >= 0}
    numbers = np.array(sorted(near))
    vectors = face_vectors(mesh.vertices, mesh.faces[numbers])
    length = np.linalg.norm(vectors, axis=1)
    units = vectors / np.where(length > 0, length, 1.0)[:, None]
    mean = units[np.searchsorted(numbers, triangle)]
    for tolerance in (35.0, 20.0, 12.0):
        alike = units @ mean > np.cos(np.radians(tolerance))
        if alike.any():
            mean = vectors[alike].sum(axis=0)
            mean /= max(float(np.linalg.norm(mean)), 1e-300)
    return mean


def flat_round(mesh: Mesh, triangle: int, within_degrees: float = 12.0) -> np.ndarray:
    """The triangles connected with one that face as the surface does round it.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
    within_degrees : float
        How far they may face another way.

    Returns
    -------
    ndarray of int32, shape (K,)
    """
    return _spread(mesh, triangle, facing_round(mesh, triangle), np.zeros(3), 0.0, within_degrees, 180.0)


def brushed(mesh: Mesh, triangle: int, point: np.ndarray, radius: float, bend_degrees: float = 40.0) -> np.ndarray:
    """What a brush covers: connected with the triangle it stands on, within its radius, over no sharp edge.

    Nothing of another shell or of the far side of a wall is among it, however near it lies.

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        The one under the pointer.
    point : ndarray, shape (3,)
    radius : float
        mm.
    bend_degrees : float
        Edges sharper than this stop it.

    Returns
    -------
    ndarray of int32, shape (K,)
    """
    return _spread(mesh, triangle, np.zeros(3), point, max(radius, 1e-300), 180.0, bend_degrees)


def whole_shell(mesh: Mesh, triangle: int) -> np.ndarray:
    """All triangles of the shell that a triangle belongs to, int, shape (K,).

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        Its number.
    """
    return np.flatnonzero(mesh.shells.label == mesh.shells.label[triangle])


def area_round(mesh: Mesh, point: np.ndarray, radius: float) -> np.ndarray:
    """The triangles with a corner within a radius of a point, mm, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    point : ndarray, shape (3,)
    radius : float
    """
    return triangles_at(mesh.faces, ((mesh.vertices - point) ** 2).sum(axis=1) <= radius**2)


def grown(mesh: Mesh, chosen: np.ndarray, rows: int = 1) -> np.ndarray:
    """A selection, bool, shape (F,), and so many rows of triangles round it.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    rows : int
        At least 0.
    """
    for _ in range(rows):
        touched = np.zeros(len(mesh.vertices), dtype=bool)
        touched[mesh.faces[chosen]] = True
        chosen = touched[mesh.faces].any(axis=1)
    return chosen


def shrunk(mesh: Mesh, chosen: np.ndarray, rows: int = 1) -> np.ndarray:
    """A selection, bool, shape (F,), without so many rows of triangles at its border.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    rows : int
        At least 0.
    """
    return ~grown(mesh, ~chosen, rows)


def grown_by(mesh: Mesh, chosen: np.ndarray, length: float) -> np.ndarray:
    """A selection and what lies within so many mm of it along the edges; less than nought: without what lies near its
    border.

    Distances run from vertex to vertex over the edges (Dijkstra 1959), so that nothing is reached through the air.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    length : float
        In mm; may be below zero.
    """
    if length < 0:
        return ~grown_by(mesh, ~chosen, -length)
    if not chosen.any():
        return chosen.copy()
    ends = np.concatenate([mesh.faces[:, [0, 1]], mesh.faces[:, [1, 2]], mesh.faces[:, [2, 0]]])
    ends = np.unique(np.sort(ends, axis=1), axis=0)
    long = np.linalg.norm(mesh.vertices[ends[:, 0]] - mesh.vertices[ends[:, 1]], axis=1)
    count = len(mesh.vertices)
    begin = np.unique(mesh.faces[chosen])
    # one more vertex, joined to all that are chosen, from which the search begins
    rows = np.concatenate([ends[:, 0], ends[:, 1], np.full(len(begin), count)])
    columns = np.concatenate([ends[:, 1], ends[:, 0], begin])
    tiny = 1e-12 * max(length, 1e-300)
    weights = np.concatenate([np.maximum(long, tiny), np.maximum(long, tiny), np.full(len(begin), tiny)])
    graph = coo_matrix((weights, (rows, columns)), shape=(count + 1, count + 1)).tocsr()
    near = np.isfinite(dijkstra(graph, indices=count, limit=length + 2 * tiny)[:count])
    return chosen | near[mesh.faces].all(axis=1)


def places_of(mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
    """Which place of a selection each of its triangles belongs to: connected ones to the same, int, shape (K,).

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of bool, shape (F,)
    """
    numbers = np.flatnonzero(chosen)
    own = np.full(len(mesh.faces), -1, dtype=np.int64)
    own[numbers] = np.arange(len(numbers))
    twins = mesh.twins.reshape(-1, 3)[numbers]
    there = np.where(twins >= 0, own[np.maximum(twins, 0) // 3], -1)
    rows = np.repeat(np.arange(len(numbers)), 3)[there.ravel() >= 0]
    columns = there.ravel()[there.ravel() >= 0]
    graph = coo_matrix((np.ones(len(rows), dtype=bool), (rows, columns)), shape=(len(numbers),) * 2)
    return connected_components(graph, directed=False)[1]
