"""The same surface with more places on it."""

import numpy as np

from tinsnip.mesh.mesh import Mesh

__all__ = ["halve_edges"]


def halve_edges(mesh: Mesh, rounds: int) -> Mesh:
    """Cut every triangle into four at the middles of its edges, again and again. The surface stays what it is.

    Parameters
    ----------
    mesh : Mesh
    rounds : int

    Returns
    -------
    Mesh
        Its first vertices are those of `mesh`, in their order; attributes are left behind. Tangled edges come
        apart at their middles.
    """
    for _ in range(rounds):
        faces = mesh.faces
        half = np.arange(3 * len(faces))
        first = half[(mesh.twins < 0) | (mesh.twins > half)]
        number = np.empty(len(half), dtype=np.int32)
        number[first] = len(mesh.vertices) + np.arange(len(first))
        second = half[(mesh.twins >= 0) & (mesh.twins < half)]
        number[second] = number[mesh.twins[second]]
        a, b = faces.ravel()[first], faces[:, [1, 2, 0]].ravel()[first]
        vertices = np.concatenate([mesh.vertices, 0.5 * (mesh.vertices[a] + mesh.vertices[b])])
        middle = number.reshape(-1, 3)
        corners = [np.stack([faces[:, k], middle[:, k], middle[:, k - 1]], 1) for k in range(3)]
        quarters = np.stack([*corners, middle], 1).reshape(-1, 3)
        mesh = Mesh(vertices, quarters, np.repeat(mesh.provenance, 4))
    return mesh
