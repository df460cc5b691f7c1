"""New vertices on edges, and the triangles that come of it."""

import numpy as np
from scipy import sparse

from tinsnip.mesh import Lineage, Mesh

__all__ = ["edges_of", "split_edges"]


def edges_of(mesh: Mesh) -> np.ndarray:
    """Both ends of every edge once, int, shape (E, 2); a tangled one is one too.

    Parameters
    ----------
    mesh : Mesh
    """
    half = np.flatnonzero((mesh.twins < 0) | (mesh.twins > np.arange(3 * len(mesh.faces))))
    f, k = half // 3, half % 3
    edges = np.column_stack([mesh.faces[f, k], mesh.faces[f, (k + 1) % 3]])
    if mesh.edges.tangled == 0:
        return edges
    low, high = np.sort(edges.astype(np.int64), axis=1).T
    return np.column_stack(np.divmod(np.unique(low * len(mesh.vertices) + high), len(mesh.vertices)))


def split_edges(mesh: Mesh, edges: np.ndarray, share: np.ndarray) -> Mesh:
    """A mesh with a vertex on some edges, at a share of each; triangles on all sides are divided, nothing moves.

    Parameters
    ----------
    mesh : Mesh
    edges : ndarray of int, shape (N, 2)
        Both ends of each; no edge twice.
    share : ndarray, shape (N,)
        Of the way from the first end to the second, 0 to 1.

    Returns
    -------
    Mesh
        Its first vertices are those of `mesh`, in their order, then one for each edge; triangles stand in the order of
        those they are parts of. Attributes go along.

    Examples
    --------
    >>> pair = Mesh([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2], [0, 2, 3]])
    >>> split = split_edges(pair, np.array([[0, 2]]), np.array([0.25]))
    >>> len(split.faces), split.vertices[4].tolist()
    (4, [0.25, 0.25, 0.0])
    """
    n = len(mesh.vertices)
    order = np.lexsort((edges.max(axis=1), edges.min(axis=1)))
    keys = edges.min(axis=1)[order].astype(np.int64) * n + edges.max(axis=1)[order]
    a, b = mesh.faces, mesh.faces[:, [1, 2, 0]]
    wanted = np.minimum(a, b).astype(np.int64) * n + np.maximum(a, b)
    at = np.minimum(np.searchsorted(keys, wanted), max(len(keys) - 1, 0))
    on = np.where(keys[at] == wanted, n + order[at], -1) if len(keys) else np.full(wanted.shape, -1)
    count = (on >= 0).sum(axis=1)
    rows, parents = [mesh.faces[count == 0]], [np.flatnonzero(count == 0)]
    points = np.concatenate([mesh.vertices, _between(mesh, edges, share)])
    for parent in np.flatnonzero(count).tolist():
        rows.append(_parts(mesh.faces[parent].tolist(), on[parent].tolist(), points))
        parents.append(np.full(len(rows[-1]), parent))
    faces, parent = np.concatenate(rows).astype(np.int32), np.concatenate(parents)
    back = np.argsort(parent, kind="stable")
    faces, parent = faces[back], parent[back]
    start = 2 * np.arange(len(edges) + 1)
    weights = np.column_stack([1.0 - share, share]).ravel()
    blends = sparse.csr_matrix((weights, edges.ravel(), start), shape=(len(edges), n))
    return mesh.derive(faces, Lineage(np.arange(n), parent, blends, *_corner_values(mesh, faces, parent, edges, share)))


def _between(mesh: Mesh, edges: np.ndarray, share: np.ndarray) -> np.ndarray:
    a, b = mesh.vertices[edges[:, 0]], mesh.vertices[edges[:, 1]]
    return a + share[:, None] * (b - a)


def _parts(corner: list[int], on: list[int], points: np.ndarray) -> list[list[int]]:
    """The triangles of one that has vertices on some of its edges, by their shorter diagonals."""
    ring = []
    for k in range(3):
        ring.append(corner[k])
        if on[k] >= 0:
            ring.append(on[k])
    if len(ring) == 6:
        a, x, b, y, c, z = ring
        return [[a, x, z], [b, y, x], [c, z, y], [x, y, z]]
    if len(ring) == 4:
        k = next(i for i, v in enumerate(ring) if v not in corner)
        a, x, b, c = (ring[(k - 1 + i) % 4] for i in range(4))
        return [[a, x, c], [x, b, c]]
    k = next(
        i for i, v in enumerate(ring) if v in corner and ring[i - 1] not in corner and ring[(i + 1) % 5] not in corner
    )
    tip, x, b, c, z = (ring[(k + i) % 5] for i in range(5))
    if np.linalg.norm(points[x] - points[c]) <= np.linalg.norm(points[b] - points[z]):
        return [[tip, x, z], [x, b, c], [x, c, z]]
    return [[tip, x, z], [x, b, z], [b, c, z]]


def _corner_values(mesh: Mesh, faces: np.ndarray, parent: np.ndarray, edges: np.ndarray, share: np.ndarray) -> tuple:
    """Of each corner the old corner it takes its value from, and how far it leans towards another of its triangle."""
    n = len(mesh.vertices)
    owners = mesh.faces[parent]
    fresh = faces >= n
    ends = np.stack(
        [np.where(fresh, edges[np.maximum(faces - n, 0), k] if len(edges) else faces, faces) for k in range(2)]
    )
    corner = [np.argmax(owners[:, None, :] == end[:, :, None], axis=2) for end in ends]
    lean = np.where(fresh, share[np.maximum(faces - n, 0)] if len(edges) else 0.0, 0.0)
    first = 3 * parent[:, None].astype(np.int64)
    return (first + corner[0]).ravel(), (((first + corner[1]).ravel(), lean.ravel()),)
