"""Which open boundaries have a clear side: those that no tangled or flipped edge comes near."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import triangles_at

__all__ = ["clear_loops"]


def clear_loops(mesh: Mesh) -> np.ndarray:
    """Whether each boundary can be closed as if the mesh were sound.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    ndarray of bool, shape (L,)
        False where a vertex of it, or a neighbour of one, is on an edge with three or more triangles, or with two that
        run the same way round.
    """
    loops = mesh.loops
    if len(loops) == 0 or not (mesh.edges.tangled or mesh.edges.flipped):
        return np.ones(len(loops), dtype=bool)
    corner, twins = mesh.faces.ravel(), mesh.twins.ravel()
    half = np.arange(len(twins))
    wrong = twins < OPEN
    shared = twins >= 0
    wrong[shared] |= corner[half[shared]] == corner[twins[shared]]
    unclear = np.zeros(len(mesh.vertices), dtype=bool)
    unclear[corner[wrong]] = unclear[corner[np.where(half % 3 == 2, half - 2, half + 1)[wrong]]] = True
    unclear[mesh.faces[triangles_at(mesh.faces, unclear)].ravel()] = True
    return ~np.logical_or.reduceat(unclear[corner[loops.halfedges]], loops.start[:-1])
