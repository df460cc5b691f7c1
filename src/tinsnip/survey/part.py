"""Is there a part in a mesh at all."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.survey.tangles import degenerate_triangles, doubled_triangles
from tinsnip.words import counted

__all__ = ["no_part"]

_FEWEST = 4
_LINE = 1e-9
"""A surface whose area is below this share of its diagonal squared is a line."""


def no_part(mesh: Mesh) -> str:
    """Why no solid can come of a mesh, as one line; empty where one may.

    Parameters
    ----------
    mesh : Mesh
    """
    if len(mesh.faces) == 0:
        return "holds no triangles; export the scan as a mesh, not as points"
    proper = degenerate_triangles(mesh.vertices, mesh.faces) == 0
    if len(mesh.faces) <= 100_000:  # doubles hide how few there are only where there are few
        _, first = np.unique(mesh.vertices, axis=0, return_inverse=True)
        proper &= ~doubled_triangles(first.reshape(-1)[mesh.faces].astype(np.int32))
    count = int(proper.sum())
    if count < _FEWEST:
        return f"holds {counted(count, 'proper triangle')}, and no part has fewer than {_FEWEST}; export the whole scan"
    if mesh.areas.sum() <= _LINE * mesh.diagonal**2:
        return "its triangles have no area; export the scan again"
    return ""
