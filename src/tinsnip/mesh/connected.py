"""Which of some triangles hang together over edges."""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["parts_over_edges"]


@kernel
def _parts(twins, own, number, label):
    """Union-find over twins among some triangles, the first of them as root; then consecutive numbers."""
    count = 0
    for i in range(own.shape[0]):
        label[i] = i
        root = i
        for k in range(3):
            t = twins[3 * own[i] + k]
            if t < 0:
                continue
            j = number[t // 3]
            if j < 0 or j >= i:  # those after it look back at it
                continue
            while label[j] != j:
                label[j] = label[label[j]]
                j = label[j]
            if j < root:
                label[root] = j
                root = j
            else:
                label[j] = root
    for i in range(own.shape[0]):
        if label[i] == i:
            label[i] = -2 - count
            count += 1
        else:
            label[i] = label[label[i]]  # what comes before it has its number already
    for i in range(own.shape[0]):
        label[i] = -2 - label[i]


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
    number = np.full(len(twins) // 3, -1, dtype=np.int32)
    number[own] = np.arange(len(own), dtype=np.int32)
    label = np.empty(len(own), dtype=np.int32)
    _parts(twins, np.ascontiguousarray(own, dtype=np.int32), number, label)
    return label
