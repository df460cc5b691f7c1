"""Dividing only the near side of a mesh: what is seen within an outline, not what lies behind."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.progress import Progress
from tinsnip.space.tree import first_hits
from tinsnip.treat.kit.cuts.cutters import Cutter, crossings_of
from tinsnip.treat.kit.cuts.dividing import Division, divided_at

__all__ = ["divide_near"]

_SAMPLES = 25
"""Corners of a piece by which its side is told."""


def divide_near(mesh: Mesh, cutter: Cutter, progress: Progress) -> Division:
    """Divide a mesh along the wall of an outline, but only those parts of its inside that nothing lies before.

    The inside falls into parts that are connected over the surface; a part is near when the eye sees most of some
    triangles of it.

    Parameters
    ----------
    mesh : Mesh
    cutter : Cutter
        An outline; its third axis leads towards the eye.
    progress : Progress

    Raises
    ------
    BadInput
        When the wall passes the mesh in a way that cannot be told apart in floating point.
    Cancelled
    """
    cutter, own, inside, met = crossings_of(mesh, cutter, progress)
    faces, count = mesh.faces, met.count.reshape(-1, 3)
    touched = (count > 0).any(axis=1)
    part = touched | inside[faces].all(axis=1)
    part[met.around] = True
    progress.check()
    allowed = _near_parts(mesh, cutter, part, inside, count, progress)
    count = np.where(allowed[:, None], count, 0).astype(np.int32)
    met = met._replace(count=count.ravel(), around=met.around[allowed[met.around]])
    pieces = divided_at(mesh, cutter, own, inside, met, np.zeros(1, dtype=np.int64), progress)
    if pieces is None:
        raise BadInput("the cut passes too close along an edge of the mesh; move it a little")
    return Division(mesh, cutter, (inside[faces[:, 0]] & allowed).astype(np.int8), pieces, met)


def _near_parts(
    mesh: Mesh, cutter: Cutter, part: np.ndarray, inside: np.ndarray, count: np.ndarray, progress: Progress
) -> np.ndarray:
    """Which triangles belong to parts of the inside that nothing lies before, bool, shape (F,)."""
    numbers = np.flatnonzero(part)
    allowed = np.zeros(len(mesh.faces), dtype=bool)
    if len(numbers) == 0:
        return allowed
    place = np.full(len(mesh.faces), -1, dtype=np.int64)
    place[numbers] = np.arange(len(numbers))
    corners = mesh.faces[numbers]
    twins = mesh.twins.reshape(-1, 3)[numbers]
    both = inside[corners] & inside[np.roll(corners, -1, axis=1)]
    passes = (twins >= 0) & (both | (count[numbers] > 0))
    there = np.where(passes, place[np.maximum(twins, 0) // 3], -1)
    rows, columns = np.nonzero(there >= 0)
    graph = coo_matrix((np.ones(len(rows), dtype=bool), (rows, there[rows, columns])), shape=(len(numbers),) * 2)
    parts, label = connected_components(graph, directed=False)
    progress.check()
    # rays from some triangles of each part towards the eye
    whole = inside[corners].all(axis=1)
    order = np.lexsort((~whole, label))
    start = np.searchsorted(label[order], np.arange(parts))
    sizes = np.diff(np.append(start, len(order)))
    whole_of = np.bincount(label, weights=whole, minlength=parts).astype(np.int64)
    picked, of = [], []
    for i in range(parts):
        among = max(int(whole_of[i]), 1) if whole_of[i] else int(sizes[i])
        some = start[i] + np.unique(np.linspace(0, among - 1, min(_SAMPLES, among)).astype(np.int64))
        picked.append(order[some])
        of.append(np.full(len(some), i))
    picked, of = np.concatenate(picked), np.concatenate(of)
    places = mesh.vertices[corners[picked]].mean(axis=1)
    eye = cutter.axes[2]
    begin = places + 1e-7 * max(mesh.diagonal, 1e-300) * eye
    _, hit = first_hits(mesh.tree, begin, np.tile(eye, (len(begin), 1)), progress.state)
    seen = np.bincount(of, weights=hit < 0, minlength=parts) > 0.5 * np.bincount(of, minlength=parts)
    allowed[numbers] = seen[label]
    return allowed
