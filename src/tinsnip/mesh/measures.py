"""Lengths, areas and directions measured on a mesh."""

from typing import Any

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.threads import in_chunks

__all__ = [
    "areas_by_kind",
    "bounds",
    "corner_shares",
    "edge_lengths",
    "edge_spread",
    "face_vectors",
    "mean_edge",
    "spread_by_area",
    "triangle_areas",
    "triangles_at",
    "vertex_normals",
]


@kernel
def _bounds(vertices, corner, box):
    for i in range(corner.shape[0]):
        v = corner[i]
        for k in range(3):
            x = vertices[v, k]
            box[0, k] = min(box[0, k], x)
            box[1, k] = max(box[1, k], x)


def bounds(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Bounding box of all vertices in use, shape (2, 3); zeros when there are none.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    """
    if len(faces) == 0:
        return np.zeros((2, 3))
    box = np.array([[np.inf] * 3, [-np.inf] * 3])
    _bounds(vertices, faces.ravel(), box)
    return box


@kernel
def _normals(vertices, faces, normals, state):
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        x, y, z = vertices[a, 0], vertices[a, 1], vertices[a, 2]
        ux, uy, uz = vertices[b, 0] - x, vertices[b, 1] - y, vertices[b, 2] - z
        wx, wy, wz = vertices[c, 0] - x, vertices[c, 1] - y, vertices[c, 2] - z
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        for v in (a, b, c):
            normals[v, 0] += nx
            normals[v, 1] += ny
            normals[v, 2] += nz
    for v in range(normals.shape[0]):
        length = np.sqrt(normals[v, 0] ** 2 + normals[v, 1] ** 2 + normals[v, 2] ** 2)
        if length > 0:
            for k in range(3):
                normals[v, k] = normals[v, k] / length


def vertex_normals(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Area-weighted unit normals, float32, shape (V, 3); zero where a vertex has no area round it.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    """
    normals = np.zeros((len(vertices), 3), dtype=np.float32)
    _normals(vertices, faces, normals, polled_here())
    check_here()
    return normals


@kernel
def _double_area(vertices, a, b, c):
    x, y, z = vertices[a, 0], vertices[a, 1], vertices[a, 2]
    ux, uy, uz = vertices[b, 0] - x, vertices[b, 1] - y, vertices[b, 2] - z
    wx, wy, wz = vertices[c, 0] - x, vertices[c, 1] - y, vertices[c, 2] - z
    nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
    return np.sqrt(nx * nx + ny * ny + nz * nz)


@kernel
def _areas_by(vertices, faces, kind, out, state):
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        out[kind[f]] += 0.5 * _double_area(vertices, faces[f, 0], faces[f, 1], faces[f, 2])


@kernel
def _touching(faces, flags, out):
    for f in range(faces.shape[0]):
        out[f] = flags[faces[f, 0]] or flags[faces[f, 1]] or flags[faces[f, 2]]


def triangles_at(faces: np.ndarray, flags: np.ndarray) -> np.ndarray:
    """Which triangles have a vertex that is flagged: bool, shape (F,), of flags, bool, shape (V,).

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    flags : ndarray of bool, shape (V,)
    """
    out = np.empty(len(faces), dtype=np.bool_)
    _touching(faces, flags, out)
    return out


@kernel
def _areas(vertices, faces, out):
    for f in range(faces.shape[0]):
        out[f] = 0.5 * _double_area(vertices, faces[f, 0], faces[f, 1], faces[f, 2])


def triangle_areas(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Area of each triangle, mm2, shape (F,).

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    """
    out = np.empty(len(faces))
    _areas(vertices, faces, out)
    return out


def areas_by_kind(vertices: np.ndarray, faces: np.ndarray, kind: np.ndarray, kinds: int) -> np.ndarray:
    """Surface area of the triangles of each kind, mm2, shape (kinds,); `kind` is uint8, one a triangle.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    kind : ndarray of uint8, shape (F,)
    kinds : int
        How many there are.
    """
    state, part = polled_here(), 100_000
    sums = np.zeros((-(-len(faces) // part), kinds))  # summed in parts, so that threads do not change the result

    def work(begin: int, end: int) -> None:
        _areas_by(vertices, faces[begin:end], kind[begin:end], sums[begin // part], state)

    in_chunks(work, len(faces), part)
    check_here()
    return sums.sum(axis=0)


@kernel
def _spread(vertices, faces, total, draws, out, of, state):
    """One point in each equal share of the area, by three random numbers each, and the triangle it lies in."""
    count = out.shape[0]
    share = total / count
    f = 0
    done = 0.5 * _double_area(vertices, faces[0, 0], faces[0, 1], faces[0, 2])
    for i in range(count):
        if i % 1024 == 0 and state[0]:
            return
        at = (i + draws[i, 0]) * share
        while done < at and f < faces.shape[0] - 1:
            f += 1
            done += 0.5 * _double_area(vertices, faces[f, 0], faces[f, 1], faces[f, 2])
        of[i] = f
        u, v = draws[i, 1], draws[i, 2]
        if u + v > 1.0:
            u, v = 1.0 - u, 1.0 - v
        for k in range(3):
            x = vertices[faces[f, 0], k]
            out[i, k] = x + u * (vertices[faces[f, 1], k] - x) + v * (vertices[faces[f, 2], k] - x)


def spread_by_area(vertices: np.ndarray, faces: np.ndarray, count: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """Points spread evenly over the triangles' area; deterministic. None on a mesh without area.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    count : int
        How many.
    seed : int
        The same gives the same points.

    Returns
    -------
    points : ndarray, shape (count, 3)
    triangles : ndarray of int32, shape (count,)
        Those that they lie in.
    """
    total = float(areas_by_kind(vertices, faces, np.zeros(len(faces), dtype=np.uint8), 1)[0])
    if total <= 0.0 or count == 0:
        return np.empty((0, 3)), np.empty(0, dtype=np.int32)
    out, of = np.empty((count, 3)), np.empty(count, dtype=np.int32)
    _spread(vertices, faces, total, np.random.default_rng(seed).random((count, 3)), out, of, polled_here())
    check_here()
    return out, of


@kernel
def _vectors(vertices, faces, begin, end, out):
    for f in range(begin, end):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ux, uy, uz = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1], vertices[b, 2] - vertices[a, 2]
        wx, wy, wz = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1], vertices[c, 2] - vertices[a, 2]
        out[f, 0] = 0.5 * (uy * wz - uz * wy)
        out[f, 1] = 0.5 * (uz * wx - ux * wz)
        out[f, 2] = 0.5 * (ux * wy - uy * wx)


def face_vectors(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Vector area of each triangle (its normal, as long as its area), shape (F, 3).

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    """
    if len(faces) < _MANY or vertices.dtype != np.float64 or faces.dtype != np.int32:
        a, b, c = (vertices[faces[:, k]] for k in range(3))
        return 0.5 * np.cross(b - a, c - a)
    out = np.empty((len(faces), 3))
    places, faces = np.ascontiguousarray(vertices), np.ascontiguousarray(faces)
    in_chunks(lambda begin, end: _vectors(places, faces, begin, end, out), len(faces), 100_000)
    return out


_MANY = 50_000
"""Triangles from which a kernel's loop pays; both ways give the same to the bit."""


def edge_spread(vertices: np.ndarray, faces: np.ndarray, sample: int = 20000) -> tuple[float, float]:
    """Mean edge length, and its standard deviation as a share of it, over an even sample; 0, 0 when empty.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    sample : int
        About so many triangles are looked at.
    """
    if len(faces) == 0:
        return 0.0, 0.0
    points = vertices[faces[:: max(1, len(faces) // sample)]]
    length = np.linalg.norm(points - np.roll(points, 1, axis=1), axis=2)
    mean = float(length.mean())
    return mean, float(length.std()) / mean if mean > 0 else 0.0


def mean_edge(vertices: np.ndarray, faces: np.ndarray) -> float:
    """Mean edge length over an even sample of triangles; 0 for an empty mesh.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    """
    return edge_spread(vertices, faces)[0]


def edge_lengths(mesh: Any) -> np.ndarray:
    """Mean length of the edges at each vertex, mm, shape (V,); 0 where there is none.

    Parameters
    ----------
    mesh : Mesh
    """
    total, count = np.zeros(len(mesh.vertices)), np.zeros(len(mesh.vertices))
    for k in range(3):
        a, b = mesh.faces[:, k], mesh.faces[:, (k + 1) % 3]
        long = np.linalg.norm(mesh.vertices[a] - mesh.vertices[b], axis=1)
        for end in (a, b):
            total += np.bincount(end, weights=long, minlength=len(total))
            count += np.bincount(end, minlength=len(total))
    return total / np.maximum(count, 1)


def corner_shares(points: np.ndarray, a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
    """Shares of triangles' corners at points of them, shape (..., 3): between 0 and 1, and 1 together.

    Parameters
    ----------
    points, a, b, c : ndarray, shape (..., 3)
        Shapes that go together.
    """
    normal = np.cross(b - a, c - a)
    size = np.maximum((normal * normal).sum(axis=-1), 1e-300)
    one = (np.cross(b - points, c - points) * normal).sum(axis=-1) / size
    other = (np.cross(c - points, a - points) * normal).sum(axis=-1) / size
    found = np.clip(np.stack([one, other, 1 - one - other], axis=-1), 0.0, 1.0)
    return found / np.maximum(found.sum(axis=-1, keepdims=True), 1e-300)
