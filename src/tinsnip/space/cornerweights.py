"""What lies between the corners of triangles: the weights of a point, and how values at the corners grow."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.threads import in_chunks

__all__ = ["corner_weights", "slopes"]


@kernel
def _weights(vertices, faces, triangle, points, out):
    """Weights of a triangle's corners at points on it; a third each on one that has no area."""
    for i in range(points.shape[0]):
        f = triangle[i]
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        ax, ay, az = vertices[a, 0] - px, vertices[a, 1] - py, vertices[a, 2] - pz
        bx, by, bz = vertices[b, 0] - px, vertices[b, 1] - py, vertices[b, 2] - pz
        cx, cy, cz = vertices[c, 0] - px, vertices[c, 1] - py, vertices[c, 2] - pz
        ux, uy, uz = by * cz - bz * cy, bz * cx - bx * cz, bx * cy - by * cx
        vx, vy, vz = cy * az - cz * ay, cz * ax - cx * az, cx * ay - cy * ax
        wx, wy, wz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        nx, ny, nz = ux + vx + wx, uy + vy + wy, uz + vz + wz
        area = nx * nx + ny * ny + nz * nz
        if area <= 0.0:
            out[i, 0] = out[i, 1] = out[i, 2] = 1.0 / 3.0
            continue
        u = min(max((ux * nx + uy * ny + uz * nz) / area, 0.0), 1.0)
        v = min(max((vx * nx + vy * ny + vz * nz) / area, 0.0), 1.0)
        w = min(max((wx * nx + wy * ny + wz * nz) / area, 0.0), 1.0)
        total = u + v + w
        out[i, 0], out[i, 1], out[i, 2] = u / total, v / total, w / total


def corner_weights(vertices: np.ndarray, faces: np.ndarray, triangle: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Barycentric weights of points that lie on triangles, shape (N, 3), none below 0 and 1 together.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    triangle : ndarray of int64, shape (N,)
        The triangle that each point lies on.
    points : ndarray of float64, shape (N, 3)
    """
    out = np.empty((len(points), 3))
    in_chunks(lambda b, e: _weights(vertices, faces, triangle[b:e], points[b:e], out[b:e]), len(points), 50_000)
    return out


def slopes(corners: np.ndarray, values: np.ndarray) -> np.ndarray:
    """The way in which values at the corners of triangles grow fastest, and by how much a mm, shape (F, 3).

    Parameters
    ----------
    corners : ndarray, shape (F, 3, 3)
    values : ndarray, shape (F, 3)
        Zeros come of a triangle without area.
    """
    one, other = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    normal = np.cross(one, other)
    size = (normal**2).sum(axis=1)
    first, second = (values[:, k].astype(np.float64) - values[:, 0] for k in (1, 2))
    grown = first[:, None] * np.cross(other, normal) + second[:, None] * np.cross(normal, one)
    return grown / np.where(size > 0, size, np.inf)[:, None]
