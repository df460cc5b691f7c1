"""A tree kept true while vertices of its mesh move: only the boxes over what moved are made anew.

Its halvings stay as they are (Lauterbach et al. 2006, RT-DEFORM: refitted bounds), so that it answers exactly, only
more slowly where triangles were carried far from their neighbours.
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.space.tree import Tree, fit_leaf_boxes

__all__ = ["leaves_of", "own_copy", "refit"]


@kernel
def _leaves_of(order, leaves, out):
    count = order.shape[0]
    for leaf in range(leaves):
        for i in range(leaf * count // leaves, (leaf + 1) * count // leaves):
            out[order[i]] = leaf


@kernel
def _refit(vertices, faces, order, boxes, some):
    first = boxes.shape[0] // 2
    for i in range(some.shape[0]):
        fit_leaf_boxes(vertices, faces, order, boxes, some[i], some[i] + 1)
        node = first + some[i]
        while node > 0:
            node = (node - 1) // 2
            same = True
            for k in range(3):
                low = min(boxes[2 * node + 1, k], boxes[2 * node + 2, k])
                high = max(boxes[2 * node + 1, 3 + k], boxes[2 * node + 2, 3 + k])
                if low != boxes[node, k] or high != boxes[node, 3 + k]:
                    boxes[node, k], boxes[node, 3 + k] = low, high
                    same = False
            if same:
                break


def leaves_of(tree: Tree) -> np.ndarray:
    """The leaf that holds each triangle, int32, shape (F,).

    Parameters
    ----------
    tree : Tree
    """
    out = np.empty(len(tree.order), dtype=np.int32)
    _leaves_of(tree.order, len(tree.boxes) // 2 + 1, out)
    return out


def own_copy(tree: Tree, vertices: np.ndarray) -> Tree:
    """The same tree over other vertices, with boxes of its own that `refit` may write to.

    Parameters
    ----------
    tree : Tree
    vertices : ndarray of float64, shape (V, 3)
        Those of the tree's mesh, which may move from now on.
    """
    return Tree(vertices, tree.faces, tree.order, tree.boxes.copy())


def refit(tree: Tree, leaves: np.ndarray) -> None:
    """Make the boxes over some leaves anew, whose triangles have moved.

    Parameters
    ----------
    tree : Tree
        One that nobody else reads, as `own_copy` makes it.
    leaves : ndarray of int32, shape (L,)
        As `leaves_of` tells of the triangles that moved.
    """
    _refit(tree.vertices, tree.faces, tree.order, tree.boxes, np.unique(leaves))
