"""Parts of a mesh: keep some triangles, drop unused vertices, reorder for locality."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.attributes import Lineage
from tinsnip.mesh.mesh import Mesh
from tinsnip.space.morton import morton_order

__all__ = ["compact", "keep_triangles", "number_used", "reorder"]


@kernel
def number_used(faces, number):
    """Number the vertices in use in the order of their old numbers; `number` comes as -1 and stays so for the rest.

    Returns how many are in use.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    number : ndarray of int32, shape (V,)
        Written.
    """
    for f in range(faces.shape[0]):
        for k in range(3):
            number[faces[f, k]] = 0
    count = 0
    for v in range(number.shape[0]):
        if number[v] == 0:
            number[v] = count
            count += 1
    return count


@kernel
def _gather(faces, chosen, number, new_faces, kept):
    for i in range(chosen.shape[0]):
        for k in range(3):
            new_faces[i, k] = number[faces[chosen[i], k]]
    for v in range(number.shape[0]):
        if number[v] >= 0:
            kept[number[v]] = v


def keep_triangles(mesh: Mesh, keep: np.ndarray) -> Mesh:
    """The mesh of some of a mesh's triangles, without the vertices that lose all theirs.

    Parameters
    ----------
    mesh : Mesh
    keep : ndarray of bool, shape (F,), or of int, shape (K,)
        Which triangles stay; as numbers, also their order.

    Returns
    -------
    Mesh
    """
    chosen = np.flatnonzero(keep) if keep.dtype == bool else keep
    chosen = chosen.astype(np.int32)
    number = np.full(len(mesh.vertices), -1, dtype=np.int32)
    count = number_used(mesh.faces[chosen], number)
    faces = np.empty((len(chosen), 3), dtype=np.int32)
    kept = np.empty(count, dtype=np.int32)
    _gather(mesh.faces, chosen, number, faces, kept)
    return mesh.derive(faces, Lineage(kept, chosen))


def compact(mesh: Mesh) -> Mesh:
    """The mesh without vertices that no triangle uses; the same object where there are none.

    Parameters
    ----------
    mesh : Mesh
    """
    number = np.full(len(mesh.vertices), -1, dtype=np.int32)
    if number_used(mesh.faces, number) == len(mesh.vertices):
        return mesh
    return keep_triangles(mesh, np.arange(len(mesh.faces), dtype=np.int32))


@kernel
def _jumps(faces, far):
    """Triangles whose lowest vertex lies far from that of the triangle before."""
    count = 0
    last = 0
    for f in range(faces.shape[0]):
        low = min(faces[f, 0], faces[f, 1], faces[f, 2])
        if abs(low - last) > far:
            count += 1
        last = low
    return count


def reorder(mesh: Mesh) -> Mesh:
    """Put neighbours near each other in memory; meshes that already are come back unchanged.

    Vertices go in Morton order and triangles by their lowest vertex. A shuffled mesh makes every later
    step several times slower.

    Parameters
    ----------
    mesh : Mesh
    """
    if len(mesh.faces) < 10000 or _jumps(mesh.faces, 4096) < 0.2 * len(mesh.faces):
        return mesh
    order = morton_order(mesh.vertices)
    number = np.empty(len(order), dtype=np.int32)
    number[order] = np.arange(len(order), dtype=np.int32)
    faces = number[mesh.faces]
    by_lowest = np.argsort(faces.min(axis=1), kind="stable")
    return mesh.derive(faces[by_lowest], Lineage(order, by_lowest))
