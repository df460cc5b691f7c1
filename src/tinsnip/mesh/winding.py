"""Winding numbers: how often a surface, open or not, goes round a point."""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["winding_number"]


@kernel
def _winding(vertices, faces, label, shell, x, y, z):
    total = 0.0
    for f in range(faces.shape[0]):
        if label[f] != shell:
            continue
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = vertices[a, 0] - x, vertices[a, 1] - y, vertices[a, 2] - z
        bx, by, bz = vertices[b, 0] - x, vertices[b, 1] - y, vertices[b, 2] - z
        cx, cy, cz = vertices[c, 0] - x, vertices[c, 1] - y, vertices[c, 2] - z
        la = np.sqrt(ax * ax + ay * ay + az * az)
        lb = np.sqrt(bx * bx + by * by + bz * bz)
        lc = np.sqrt(cx * cx + cy * cy + cz * cz)
        top = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
        ab = ax * bx + ay * by + az * bz
        bc = bx * cx + by * cy + bz * cz
        ca = cx * ax + cy * ay + cz * az
        total += 2.0 * np.arctan2(top, la * lb * lc + ab * lc + bc * la + ca * lb)
    return total / (4.0 * np.pi)


def winding_number(vertices: np.ndarray, faces: np.ndarray, label: np.ndarray, shell: int, point: np.ndarray) -> float:
    """Generalised winding number of one shell about a point (Jacobson et al. 2013).

    The solid angles of the shell's triangles (Van Oosterom and Strackee 1983), summed exactly: 1 inside a
    closed outward shell, 0 outside, in between where the shell is open.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    label : ndarray of int32, shape (F,)
        The shell of each triangle.
    shell : int
    point : ndarray, shape (3,)
    """
    return float(_winding(vertices, faces, label, shell, float(point[0]), float(point[1]), float(point[2])))
