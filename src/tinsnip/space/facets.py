"""Polygons of any size as triangles, concave ones properly."""

import numpy as np

from tinsnip.space.polygons import plane_axes, triangulate_flat

__all__ = ["triangulate_polygons"]


def triangulate_polygons(
    vertices: np.ndarray, start: np.ndarray, corners: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Cut polygons into triangles.

    Triangles stay; a quad is cut along the diagonal that lies inside it; a larger polygon is cut by ear clipping
    in its mean plane, or as a fan where it crosses itself.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    start : ndarray of int, shape (P + 1,)
        Where each polygon's corners begin.
    corners : ndarray of int
        Vertices, in order round each polygon.

    Returns
    -------
    faces : ndarray of int32, shape (F, 3)
    polygon : ndarray of int32, shape (F,)
        The polygon each triangle is a part of.
    source : ndarray of int64, shape (3 F,)
        The place in `corners` of each triangle's corner.
    """
    size = np.diff(start)
    if len(size) and (size == 3).all():
        faces = corners.reshape(-1, 3).astype(np.int32)
        return faces, np.arange(len(faces), dtype=np.int32), np.arange(3 * len(faces), dtype=np.int64)
    parts, owners = [], []
    three = np.flatnonzero(size == 3)
    parts.append(start[three][:, None] + np.arange(3))
    owners.append(three)
    four = np.flatnonzero(size == 4)
    if len(four):
        at = start[four][:, None] + np.arange(4)
        a, b, c, d = (vertices[corners[at[:, k]]] for k in range(4))
        along_ac = (np.cross(b - a, c - a) * np.cross(c - a, d - a)).sum(axis=1)
        along_bd = (np.cross(c - b, d - b) * np.cross(d - b, a - b)).sum(axis=1)
        other = (along_ac <= 0) & (along_bd > 0)
        first = np.where(other[:, None], at[:, [1, 2, 3]], at[:, [0, 1, 2]])
        second = np.where(other[:, None], at[:, [1, 3, 0]], at[:, [0, 2, 3]])
        parts.append(np.stack([first, second], 1).reshape(-1, 3))
        owners.append(np.repeat(four, 2))
    for p in np.flatnonzero(size > 4):
        parts.append(start[p] + _cut(vertices[corners[start[p] : start[p + 1]]]))
        owners.append(np.full(len(parts[-1]), p))
    places = np.concatenate(parts)
    polygon = np.concatenate(owners)
    order = np.argsort(polygon, kind="stable")
    places, polygon = places[order], polygon[order]
    return corners[places].astype(np.int32), polygon.astype(np.int32), places.ravel().astype(np.int64)


def _cut(points: np.ndarray) -> np.ndarray:
    """Triangles of one polygon, as places in it, wound the way it is."""
    n = len(points)
    centred = points - points.mean(axis=0)
    normal = np.cross(centred, np.roll(centred, -1, axis=0)).sum(axis=0)
    length = np.linalg.norm(normal)
    found = None
    if length > 0 and np.isfinite(length):
        axes = plane_axes(normal / length)
        found = triangulate_flat([np.arange(n)], centred @ np.column_stack(axes))
    if found is None:
        found = np.column_stack([np.zeros(n - 2, dtype=np.int64), np.arange(1, n - 1), np.arange(2, n)])
    return found
