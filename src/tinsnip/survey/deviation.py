"""How far one surface lies from another."""

from typing import NamedTuple

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.tree import build_tree, closest_points
from tinsnip.progress import Progress

__all__ = ["Deviation", "compare", "spread_points"]


class Deviation(NamedTuple):
    """Distances of one surface's points from another surface, mm."""

    max: float
    p99: float
    rms: float
    mean: float
    samples: int


def spread_points(mesh: Mesh, count: int, seed: int = 0) -> np.ndarray:
    """Points spread evenly by area over a mesh's surface, and its vertices up to as many again; deterministic."""
    rng = np.random.default_rng(seed)
    area = np.linalg.norm(face_vectors(mesh.vertices, mesh.faces), axis=1)
    total = np.cumsum(area)
    if total[-1] <= 0:
        return mesh.vertices[np.unique(mesh.faces)]
    # one sample in each equal share of the area: more even than independent draws
    at = (np.arange(count) + rng.random(count)) / count * total[-1]
    chosen = np.minimum(np.searchsorted(total, at, side="right"), len(area) - 1)
    u, v = rng.random(count), rng.random(count)
    over = u + v > 1
    u[over], v[over] = 1 - u[over], 1 - v[over]
    a, b, c = (mesh.vertices[mesh.faces[chosen, k]] for k in range(3))
    spread = a + u[:, None] * (b - a) + v[:, None] * (c - a)
    used = np.unique(mesh.faces)
    return np.concatenate([spread, mesh.vertices[used[:: max(1, -(-len(used) // count))]]])


def _one_way(points: np.ndarray, surface: Mesh, progress: Progress) -> Deviation:
    state = progress.step("Comparing", 1)
    distance, _ = closest_points(build_tree(surface), points, state)
    progress.check()
    return Deviation(
        float(distance.max()),
        float(np.quantile(distance, 0.99)),
        float(np.sqrt((distance**2).mean())),
        float(distance.mean()),
        len(distance),
    )


def compare(a: Mesh, b: Mesh, samples: int = 200_000, progress: Progress | None = None) -> tuple[Deviation, Deviation]:
    """Deviation of a from b and of b from a, by exact distances from points spread over the surfaces.

    Parameters
    ----------
    a, b : Mesh
    samples : int
        Points by area on each surface; vertices, up to as many, come on top.
    progress : Progress, optional

    Returns
    -------
    tuple of two Deviation

    Raises
    ------
    BadInput
        When one of them has no triangles.
    """
    progress = progress or Progress()
    if len(a.faces) == 0 or len(b.faces) == 0:
        raise BadInput("one of the meshes has no triangles to compare; choose another")
    with progress.part(0.0, 0.5):
        there = _one_way(spread_points(a, samples), b, progress)
    with progress.part(0.5, 1.0):
        back = _one_way(spread_points(b, samples), a, progress)
    return there, back
