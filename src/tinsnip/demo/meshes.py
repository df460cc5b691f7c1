"""The benchmark mesh: a displaced grid torus with noise, in grid order."""

import numpy as np

__all__ = ["grid_torus"]


def grid_torus(triangles: int, noise: float = 0.01) -> tuple[np.ndarray, np.ndarray]:
    """A closed torus of about that many triangles, with noise of so many mm.

    Parameters
    ----------
    triangles : int
        About so many.
    noise : float
        In mm.

    Returns
    -------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    """
    rows = max(8, round(np.sqrt(triangles)))
    columns = max(4, round(triangles / 2 / rows))
    u = (np.arange(rows) * 2 * np.pi / rows)[:, None]
    v = (np.arange(columns) * 2 * np.pi / columns)[None, :]
    tube = 20 + 1.5 * np.sin(7 * u) * np.cos(5 * v)
    ring = 60 + tube * np.cos(v)
    vertices = np.stack([ring * np.cos(u), ring * np.sin(u), tube * np.sin(v)], -1).reshape(-1, 3)
    vertices += np.random.default_rng(0).normal(0, noise, vertices.shape)
    # as a file would hold it, so that welding what was written gives the same mesh
    vertices = vertices.astype(np.float32).astype(np.float64)
    i, j = np.arange(rows)[:, None], np.arange(columns)[None, :]
    a, b = i * columns + j, (i + 1) % rows * columns + j
    c, d = (i + 1) % rows * columns + (j + 1) % columns, i * columns + (j + 1) % columns
    faces = np.stack([np.stack([a, b, c], -1), np.stack([a, c, d], -1)], 2)
    return vertices, faces.reshape(-1, 3).astype(np.int32)
