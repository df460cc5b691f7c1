"""Which of some triangles hang together over edges."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

__all__ = ["parts_over_edges"]


def parts_over_edges(twins: np.ndarray, own: np.ndarray) -> np.ndarray:
    """The part that each of some triangles belongs to: those that share an edge belong to one.

    Parameters
    ----------
    twins : ndarray of int32, shape (3 F,)
    own : ndarray of int, shape (N,)
        The triangles, by number, each once.

    Returns
    -------
    ndarray of int32, shape (N,)
        Numbers of parts, from 0.

    Examples
    --------
    >>> from tinsnip.mesh import Mesh
    >>> square = Mesh([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2], [0, 2, 3]])
    >>> parts_over_edges(square.twins, np.array([0, 1])).tolist()
    [0, 0]
    """
    number = np.full(len(twins) // 3, -1, dtype=np.int64)
    number[own] = np.arange(len(own))
    beside = twins.reshape(-1, 3)[own]
    other = np.where(beside >= 0, number[np.maximum(beside, 0) // 3], -1)
    row, column = np.nonzero(other >= 0)
    graph = coo_matrix((np.ones(len(row), dtype=np.int8), (row, other[row, column])), shape=(len(own), len(own)))
    return connected_components(graph, directed=False)[1]
