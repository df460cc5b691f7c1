"""Loops round handles: the shortest ways from a place round an opening and back."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra, minimum_spanning_tree

from tinsnip.mesh import Mesh
from tinsnip.progress import check_here

__all__ = ["loops_round_handles"]


def loops_round_handles(mesh: Mesh, shell: int, start: int) -> list[np.ndarray]:
    """The greedy system of loops at a vertex, shortest first (Erickson and Whittlesey 2005).

    A tree of shortest ways, and beside it a tree of triangles that keeps off its edges and holds together where loops
    would be long; each edge that neither takes closes a loop. Twice as many as the surface has handles, once each open
    edge counts as closed by one many-sided face.

    Parameters
    ----------
    mesh : Mesh
    shell : int
        The shell, without tangled edges.
    start : int
        A vertex of it.

    Returns
    -------
    list of ndarray of int
        Vertices in order round each loop, without what would be gone twice.
    """
    own = np.flatnonzero(mesh.shells.label == shell)
    number = np.full(len(mesh.faces), -1, dtype=np.int64)
    number[own] = np.arange(len(own))
    half = (3 * own[:, None] + np.arange(3)).ravel()
    half = half[(mesh.twins[half] < 0) | (half < mesh.twins[half])]
    corner = mesh.faces.ravel()
    u, w = corner[half].astype(np.int64), corner[half - half % 3 + (half + 1) % 3].astype(np.int64)
    used, local = np.unique(np.concatenate([u, w]), return_inverse=True)
    a, b = local[: len(u)], local[len(u) :]
    length = np.maximum(np.linalg.norm(mesh.vertices[u] - mesh.vertices[w], axis=1), 1e-300)
    check_here()
    ways = coo_matrix((length, (a, b)), shape=(len(used), len(used))).tocsr()
    root = int(np.searchsorted(used, start))
    far, before = dijkstra(ways, directed=False, indices=root, return_predecessors=True)
    check_here()
    in_tree = (before[a] == b) | (before[b] == a)
    loops = mesh.loops
    beyond = np.full(len(corner), -1, dtype=np.int64)  # the face that closes the open edge there
    beyond[loops.halfedges] = len(own) + np.repeat(np.arange(len(loops)), np.diff(loops.start))
    inner = ((mesh.twins[half] >= 0) | (beyond[half] >= 0)) & ~in_tree
    round_trip = far[a] + length + far[b]
    other = mesh.twins[half[inner]]
    f, g = number[half[inner] // 3], np.where(other >= 0, number[other // 3], beyond[half[inner]])
    # the triangles' tree takes the longest first; of several edges between two triangles one is enough
    weight = 2 * float(round_trip.max()) - round_trip[inner]
    low, high = np.minimum(f, g), np.maximum(f, g)
    order = np.lexsort((weight, high, low))
    first = np.ones(len(order), dtype=bool)
    first[1:] = (low[order][1:] != low[order][:-1]) | (high[order][1:] != high[order][:-1])
    chosen = order[first]
    faces = len(own) + len(loops)
    joined = coo_matrix((weight[chosen], (low[chosen], high[chosen])), shape=(faces, faces))
    tree = minimum_spanning_tree(joined.tocsr()).tocoo()
    check_here()
    taken = np.sort(np.minimum(tree.row, tree.col).astype(np.int64) * faces + np.maximum(tree.row, tree.col))
    key = low[chosen] * np.int64(faces) + high[chosen]
    closed = np.ones(len(low), dtype=bool)
    closed[chosen[np.isin(key, taken)]] = False
    edges = np.flatnonzero(inner)[closed]
    return [
        used[_loop(before, int(a[e]), int(b[e]), root)] for e in edges[np.argsort(round_trip[edges], kind="stable")]
    ]


def _loop(before: np.ndarray, one: int, other: int, root: int) -> np.ndarray:
    """The way from one to the root and from there to the other, less what they have in common."""
    ways = []
    for end in (one, other):
        way = [end]
        while way[-1] != root:
            way.append(int(before[way[-1]]))
        ways.append(way)
    first, second = ways
    while len(first) > 1 and len(second) > 1 and first[-2] == second[-2]:
        first.pop()
        second.pop()
    return np.array(first + second[-2::-1])
