"""The shape of a patch: from a drum skin to a surface that flows on from its surroundings."""

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import splu

__all__ = ["fair"]


def fair(points: np.ndarray, triangles: np.ndarray, free: np.ndarray, edge: np.ndarray, flow: float) -> np.ndarray:
    """Place a patch's inner vertices.

    Minimises ``flow * |L x|^2 + (1 - flow) * membrane energy`` with the uniform Laplacian L taken at the
    inner vertices and along the patch's edge, where it brings in the slope of the surroundings
    (Kobbelt et al. 1998; Botsch and Kobbelt 2004).

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        Patch, its edge, and the ring of vertices outside it.
    triangles : ndarray of int, shape (T, 3)
        Of the patch, and all that touch its edge.
    free : ndarray of bool, shape (N,)
        The inner vertices of the patch.
    edge : ndarray of bool, shape (N,)
        The vertices on its edge.
    flow : float
        0 taut to 1 flowing.

    Returns
    -------
    ndarray, shape (N, 3)
        The points with the free ones moved.
    """
    n = len(points)
    if not free.any():
        return points
    ends = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    ends = np.concatenate([ends, ends[:, ::-1]])
    adjacency = sparse.csr_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(n, n))
    adjacency.data[:] = 1.0
    degree = np.asarray(adjacency.sum(axis=1)).ravel()
    laplacian = sparse.identity(n, format="csr") - sparse.diags_array(1.0 / np.maximum(degree, 1)) @ adjacency
    rows = laplacian.tocsr()[np.flatnonzero(free | edge)]
    unknown, known = np.flatnonzero(free), np.flatnonzero(~free)
    matrix, constant = rows[:, unknown], rows[:, known] @ points[known]
    membrane = (sparse.diags_array(degree) - adjacency).tocsr()[unknown]
    left = flow * (matrix.T @ matrix) + (1.0 - flow) * membrane[:, unknown] / 6.0
    right = -flow * (matrix.T @ constant) - (1.0 - flow) * (membrane[:, known] @ points[known]) / 6.0
    moved = points.copy()
    # it is symmetric and positive definite: no pivoting, and an order by what both halves share
    factors = splu(left.tocsc(), permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    moved[unknown] = factors.solve(right)
    return moved
