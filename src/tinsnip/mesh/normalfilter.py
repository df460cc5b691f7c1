"""Noise taken off a surface, and its edges kept: like normals are evened out first, then vertices follow."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.boundary import at_open_edges
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.mesh import Mesh
from tinsnip.progress import DONE, check_here
from tinsnip.threads import in_chunks

__all__ = ["evened_by_normals", "filtered_normals"]

_VERTEX_ROUNDS = 15
"""Rounds in which vertices follow the normals."""
_FEWEST, _PER_APART, _MOST = 6, 120.0, 40
"""Rounds over normals, by how far neighbours lie apart: 19 with noise of a tenth of an edge, 40 from a quarter on; with
more, coarse rounds shrink."""
_LEAST_ALIKE, _MOST_ALIKE = 0.2, 0.37
"""How far unit normals may lie apart and still be alike: on what has hardly any noise, and on any that is noisy."""
_TIMES = 1.4
"""The same, of what neighbours differ by in the middle."""


@kernel
def _count(faces, starts):
    for f in range(faces.shape[0]):
        for k in range(3):
            starts[faces[f, k] + 1] += 1
    for v in range(starts.shape[0] - 1):
        starts[v + 1] += starts[v]


@kernel
def _fill(faces, starts, filled, out):
    for f in range(faces.shape[0]):
        for k in range(3):
            v = faces[f, k]
            out[starts[v] + filled[v]] = f
            filled[v] += 1


@kernel
def _filtered(faces, starts, round_vertex, normals, centres, areas, reach, alike, out, begin, end):
    """Each normal becomes the mean of those round it, by area, by nearness, and by how like they are."""
    near = 1.0 / (2.0 * reach * reach)
    like = 1.0 / (2.0 * alike * alike)
    for f in range(begin, end):
        nx, ny, nz = normals[f, 0], normals[f, 1], normals[f, 2]
        x = y = z = 0.0
        for k in range(3):
            v = faces[f, k]
            for i in range(starts[v], starts[v + 1]):
                g = round_vertex[i]
                dx, dy, dz = centres[g, 0] - centres[f, 0], centres[g, 1] - centres[f, 1], centres[g, 2] - centres[f, 2]
                ax, ay, az = normals[g, 0] - nx, normals[g, 1] - ny, normals[g, 2] - nz
                w = areas[g] * np.exp(-(dx * dx + dy * dy + dz * dz) * near - (ax * ax + ay * ay + az * az) * like)
                x += w * normals[g, 0]
                y += w * normals[g, 1]
                z += w * normals[g, 2]
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0:
            out[f, 0], out[f, 1], out[f, 2] = x / length, y / length, z / length
        else:
            out[f, 0], out[f, 1], out[f, 2] = nx, ny, nz


@kernel
def _followed(vertices, start, faces, starts, round_vertex, normals, still, most, out, begin, end):
    """Each vertex moves to where the planes of the triangles round it, by their new normals, come nearest to meet."""
    for v in range(begin, end):
        x, y, z = vertices[v, 0], vertices[v, 1], vertices[v, 2]
        count = starts[v + 1] - starts[v]
        if count > 0 and not still[v]:
            sx = sy = sz = 0.0
            for i in range(starts[v], starts[v + 1]):
                f = round_vertex[i]
                a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
                off = (
                    normals[f, 0] * ((vertices[a, 0] + vertices[b, 0] + vertices[c, 0]) / 3.0 - x)
                    + normals[f, 1] * ((vertices[a, 1] + vertices[b, 1] + vertices[c, 1]) / 3.0 - y)
                    + normals[f, 2] * ((vertices[a, 2] + vertices[b, 2] + vertices[c, 2]) / 3.0 - z)
                )
                sx += off * normals[f, 0]
                sy += off * normals[f, 1]
                sz += off * normals[f, 2]
            x, y, z = x + sx / count, y + sy / count, z + sz / count
            dx, dy, dz = x - start[v, 0], y - start[v, 1], z - start[v, 2]
            far = np.sqrt(dx * dx + dy * dy + dz * dz)
            if far > most:
                part = most / far
                x, y, z = start[v, 0] + part * dx, start[v, 1] + part * dy, start[v, 2] + part * dz
        out[v, 0], out[v, 1], out[v, 2] = x, y, z


def _unit_normals(vertices: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    vectors = face_vectors(vertices, faces)
    sizes = np.linalg.norm(vectors, axis=1)
    return vectors / np.maximum(sizes, 1e-300)[:, None], 0.5 * sizes


def _apart(mesh: Mesh, normals: np.ndarray) -> float:
    """How far the normals of neighbours lie apart, in the middle."""
    twins = mesh.twins
    one = np.flatnonzero(twins >= 0)
    one = one[:: max(1, len(one) // 200_000)]
    if len(one) == 0:
        return 0.0
    return float(np.median(np.linalg.norm(normals[one // 3] - normals[twins[one] // 3], axis=1)))


def _round_each_vertex(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """Where the triangles round each vertex begin in a list of them all, and the list."""
    starts = np.zeros(len(mesh.vertices) + 1, dtype=np.int32)
    _count(mesh.faces, starts)
    round_vertex = np.empty(len(mesh.faces) * 3, dtype=np.int32)
    _fill(mesh.faces, starts, np.zeros(len(mesh.vertices), dtype=np.int32), round_vertex)
    return starts, round_vertex


def filtered_normals(mesh: Mesh, state: np.ndarray, strength: float = 1.0) -> np.ndarray:
    """Unit normals of triangles from which noise was taken, while those across an edge stay apart; shape (F, 3).

    Parameters
    ----------
    mesh : Mesh
    state : ndarray of int64
        Polled for cancelling; told of each round.
    strength : float
        How often they are evened out, of what their noise asks for.
    """
    return _filter(mesh, *_round_each_vertex(mesh), state, strength)


def _filter(mesh: Mesh, starts: np.ndarray, round_vertex: np.ndarray, state: np.ndarray, strength: float) -> np.ndarray:
    faces = mesh.faces
    normals, areas = _unit_normals(mesh.vertices, faces)
    centres = (mesh.vertices - mesh.box.mean(axis=0))[faces].mean(axis=1)
    reach = 2.0 * float(np.sqrt(np.median(areas))) if len(areas) else 1.0
    apart = _apart(mesh, normals)
    alike = float(np.clip(_TIMES * apart, _LEAST_ALIKE, _MOST_ALIKE))
    rounds = max(1, round(strength * min(_FEWEST + _PER_APART * apart, _MOST)))
    other = np.empty_like(normals)
    for i in range(rounds):

        def filter_some(begin: int, end: int, normals=normals, other=other) -> None:
            _filtered(faces, starts, round_vertex, normals, centres, areas, reach, alike, other, begin, end)

        in_chunks(filter_some, len(faces), 50_000)
        check_here()
        state[DONE] = i + 1
        normals, other = other, normals
    return normals


def evened_by_normals(
    mesh: Mesh, most: float, held: np.ndarray | None, state: np.ndarray, strength: float = 1.0
) -> np.ndarray:
    """Where vertices are once noise is taken off and edges are kept, float64, shape (V, 3).

    Parameters
    ----------
    mesh : Mesh
    most : float
        How far a vertex may move, mm; infinite for as far as it comes.
    held : ndarray of bool, shape (F,), optional
        Triangles whose corners stay; open and tangled edges stay too.
    state : ndarray of int64
        Polled for cancelling; told of each round.
    strength : float
        How often normals are evened out, of what their noise asks for.

    References
    ----------
    Zheng, Fu, Au and Tai, Bilateral normal filtering for mesh denoising, IEEE TVCG 17 (2011), the local scheme;
    vertices after Sun, Rosin, Martin and Langbein, Fast and effective feature-preserving mesh denoising, IEEE TVCG 13
    (2007).
    """
    faces = mesh.faces
    starts, round_vertex = _round_each_vertex(mesh)
    still = at_open_edges(faces, mesh.twins, len(mesh.vertices))
    if held is not None:
        still[faces[held]] = True
    check_here()
    normals = _filter(mesh, starts, round_vertex, state, strength)
    rounds = int(state[DONE])
    middle = mesh.box.mean(axis=0)
    start = mesh.vertices - middle
    now, following = start.copy(), np.empty_like(start)
    for i in range(_VERTEX_ROUNDS):

        def follow(begin: int, end: int, now=now, following=following) -> None:
            _followed(now, start, faces, starts, round_vertex, normals, still, most, following, begin, end)

        in_chunks(follow, len(start), 100_000)
        check_here()
        state[DONE] = rounds + i + 1
        now, following = following, now
    return np.where((now == start).all(axis=1)[:, None], mesh.vertices, now + middle)
