"""A mesh with many holes of all sizes, for the benchmarks."""

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.demo.meshes import grid_torus
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import remember
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.polygons import plane_axes

__all__ = ["long_loop", "with_holes"]

_LOBES = 7
_DEPTH = 0.45
_LONGER = 2.1
"""How much longer the edge of such a hole is than a circle's of the middle radius."""


def _unit(vector: np.ndarray) -> np.ndarray:
    return vector / np.linalg.norm(vector)


def with_holes(triangles: int, count: int = 500, fewest: int = 10, most: int = 400) -> Mesh:
    """A mesh of so many triangles with ragged holes whose sizes, in edges, are spread evenly; always the same one."""
    rng = np.random.default_rng(7)
    edges = np.linspace(fewest, most, count)
    gone = 0.1 * ((edges / _LONGER) ** 2).sum() * (1 + _DEPTH**2 / 2)
    mesh = Mesh(*grid_torus(int(triangles + gone)))
    middles = mesh.vertices[mesh.faces].mean(axis=1)
    tree = cKDTree(middles)
    area = np.linalg.norm(face_vectors(mesh.vertices, mesh.faces), axis=1) / 2
    keep, taken = np.ones(len(mesh.faces), dtype=bool), np.zeros(len(mesh.faces), dtype=bool)
    for n in edges[::-1]:
        while True:
            seed = int(rng.integers(len(middles)))
            side = np.sqrt(area[seed] * 4 / np.sqrt(3))
            radius = n * side / (2 * np.pi * _LONGER)
            near = np.array(tree.query_ball_point(middles[seed], (1 + _DEPTH) * radius + 3 * side))
            if not taken[near].any():
                break
        taken[near] = True
        across = np.stack(plane_axes(_unit(face_vectors(mesh.vertices, mesh.faces[seed : seed + 1])[0])))
        flat = (middles[near] - middles[seed]) @ across.T
        reach = radius * (1 + _DEPTH * np.sin(_LOBES * np.arctan2(flat[:, 1], flat[:, 0]) + n))
        keep[near[(np.hypot(*flat.T) < reach) | (near == seed)]] = False
    holed = keep_triangles(mesh, keep)
    holed = keep_triangles(holed, holed.shells.label == np.argmax(holed.shells.triangles))
    holed = Mesh(holed.vertices, holed.faces)
    remember(holed, Mesh.twins, holed.twins)
    remember(holed, Mesh.loops, holed.loops)
    return holed


def long_loop(edges: int) -> Mesh:
    """A narrow washer whose inner edge is a hole of so many edges."""
    angle = 2 * np.pi * np.arange(edges) / edges
    ring = np.stack([np.cos(angle) * (1 + 0.2 * np.sin(5 * angle)), np.sin(angle), 0.1 * np.cos(3 * angle)], axis=1)
    wide = 1 + 8 / edges
    first, following = np.arange(edges), (np.arange(edges) + 1) % edges
    cells = (first, edges + first, edges + following), (first, edges + following, following)
    faces = np.concatenate([np.stack(three, axis=1) for three in cells])
    mesh = Mesh(100 * np.concatenate([ring, ring * [wide, wide, 1]]), faces)
    remember(mesh, Mesh.twins, mesh.twins)
    remember(mesh, Mesh.loops, mesh.loops)
    return mesh
