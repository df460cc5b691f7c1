"""Texture coordinates through a reduction: each corner keeps to the chart of its triangle."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.progress import check_here, polled_here
from tinsnip.space.cornerweights import corner_weights
from tinsnip.space.tree import closest_points
from tinsnip.treat.reduce.record import Level

__all__ = ["chart_of", "corners_kept", "places_followed"]

_INWARD = 1e-3
"""Share of the way to a triangle's middle by which its corners are looked up inward: on its own side of a seam."""


def chart_of(mesh: Mesh, values: np.ndarray) -> np.ndarray:
    """The chart that each triangle belongs to, int32, shape (F,).

    Triangles are of one chart when they share an edge and the values agree at both of its ends.

    Parameters
    ----------
    mesh : Mesh
    values : ndarray, shape (3 F, ...)
        One row a corner.
    """
    half = np.flatnonzero(mesh.twins >= 0)
    twin = mesh.twins[half]
    half, twin = half[half < twin], twin[half < twin]
    check_here()
    after = half - half % 3 + (half + 1) % 3
    twin_after = twin - twin % 3 + (twin + 1) % 3
    corner = mesh.faces.ravel()
    same_way = corner[half] == corner[twin]
    begin, end = np.where(same_way, twin, twin_after), np.where(same_way, twin_after, twin)
    flat = values.reshape(len(values), -1)
    agree = (flat[half] == flat[begin]).all(axis=1) & (flat[after] == flat[end]).all(axis=1)
    check_here()
    count = len(mesh.faces)
    ones = np.ones(int(agree.sum()), dtype=np.int8)
    graph = coo_matrix((ones, (half[agree] // 3, twin[agree] // 3)), shape=(count, count))
    return connected_components(graph, directed=False)[1]


def corners_kept(mesh: Mesh, level: Level) -> np.ndarray | None:
    """The old corner whose value each corner of a level takes, shape (3 F',); None where no values hang on corners.

    A corner stands at a vertex of the old mesh, and its triangle comes from one that belongs to some chart: it takes
    that vertex's value in that chart. Where the chart does not reach there, it takes that of the nearest corner of the
    triangle it comes from.

    Parameters
    ----------
    mesh : Mesh
    level : Level
    """
    texture = mesh.attributes.get("texture")
    if texture is None or texture.domain is not Domain.CORNER:
        return None
    charts = chart_of(mesh, texture.values)
    count = int(charts.max(initial=0)) + 1
    known = mesh.faces.ravel().astype(np.int64) * count + np.repeat(charts, 3)
    order = np.argsort(known, kind="stable")
    known = known[order]
    check_here()
    source = level.source[level.faces]
    wanted = source.astype(np.int64) * count + charts[level.parent][:, None]
    at = np.minimum(np.searchsorted(known, wanted.ravel()), max(len(known) - 1, 0)).reshape(-1, 3)
    found = known[at] == wanted
    corners = order[at]
    check_here()
    rows, columns = np.nonzero(~found)
    if len(rows):
        parents = level.parent[rows]
        places = level.vertices[level.faces[rows, columns]]
        off = np.linalg.norm(mesh.vertices[mesh.faces[parents]] - places[:, None], axis=2)
        corners[rows, columns] = 3 * parents.astype(np.int64) + off.argmin(axis=1)
    return corners.ravel()


def places_followed(mesh: Mesh, level: Level, reduced: Mesh) -> Mesh:
    """The reduced mesh with the texture places of corners that moved as they are on the old surface there.

    A vertex that a collapse put elsewhere lies over another place of the texture than the one it came from; where the
    old surface is of another chart there, the corner keeps what it had.

    Parameters
    ----------
    mesh : Mesh
    level : Level
    reduced : Mesh
    """
    texture = mesh.attributes.get("texture")
    if texture is None or texture.domain is not Domain.CORNER or "texture" not in reduced.attributes:
        return reduced
    moved = (level.vertices != mesh.vertices[level.source]).any(axis=1)
    corner = np.flatnonzero(moved[level.faces].ravel())
    if len(corner) == 0:
        return reduced
    charts = chart_of(mesh, texture.values)
    places = level.vertices[level.faces]
    inner = places + _INWARD * (places.mean(axis=1, keepdims=True) - places)
    points = np.ascontiguousarray(inner.reshape(-1, 3)[corner])
    feet = np.empty_like(points)
    _, triangle = closest_points(mesh.tree, points, polled_here(), feet)
    check_here()
    same = charts[triangle] == charts[level.parent[corner // 3]]
    corner, triangle, feet = corner[same], triangle[same].astype(np.int64), feet[same]
    weights = corner_weights(mesh.vertices, mesh.faces, triangle, feet)
    values = reduced.attributes["texture"].values.copy()
    old = texture.values.reshape(-1, 3, *texture.values.shape[1:])[triangle]
    values[corner] = np.einsum("nk,nkc->nc", weights, old.astype(np.float64))
    return reduced.with_attribute("texture", Attribute(Domain.CORNER, values, texture.beside))
