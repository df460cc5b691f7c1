"""Simple solids, closed and outward, with as few triangles as may be."""

import numpy as np

__all__ = ["SIDES", "box_solid", "cylinder_solid"]

SIDES = 128
"""Sides of a cylinder: it is off the true one by less than a three-thousandth of its radius."""


def box_solid(size: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """A box round the origin.

    Parameters
    ----------
    size : ndarray, shape (3,)
        Its extent along x, y and z, mm.

    Returns
    -------
    vertices : ndarray, shape (8, 3)
    faces : ndarray of int32, shape (12, 3)
    """
    corners = np.array([[x, y, z] for z in (-0.5, 0.5) for y in (-0.5, 0.5) for x in (-0.5, 0.5)])
    quads = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]]
    faces = np.array([[q[0], q[k], q[k + 1]] for q in quads for k in (1, 2)], dtype=np.int32)
    return corners * np.asarray(size, dtype=float), faces


def cylinder_solid(size: np.ndarray, top: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """A cylinder round the origin along z, or a cone's lower part.

    Parameters
    ----------
    size : ndarray, shape (3,)
        Its diameters along x and y, and its height, mm.
    top : float
        The upper diameter as a share of the lower one.

    Returns
    -------
    vertices : ndarray, shape (2 SIDES + 2, 3)
    faces : ndarray of int32, shape (4 SIDES, 3)
    """
    angle = 2 * np.pi * np.arange(SIDES) / SIDES
    ring = 0.5 * np.column_stack([np.cos(angle), np.sin(angle)]) * np.asarray(size[:2])
    half = 0.5 * float(size[2])
    low = np.column_stack([ring, np.full(SIDES, -half)])
    high = np.column_stack([top * ring, np.full(SIDES, half)])
    vertices = np.concatenate([low, high, [[0, 0, -half], [0, 0, half]]])
    a, b = np.arange(SIDES), (np.arange(SIDES) + 1) % SIDES
    bottom, middle = np.full(SIDES, 2 * SIDES), np.full(SIDES, 2 * SIDES + 1)
    faces = [[a, b, SIDES + b], [a, SIDES + b, SIDES + a], [b, a, bottom], [SIDES + a, SIDES + b, middle]]
    return vertices, np.concatenate([np.column_stack(f) for f in faces]).astype(np.int32)
