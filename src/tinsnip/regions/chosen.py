"""Regions of shells and of holes that were chosen, and which shells and holes a region means."""

from collections.abc import Iterable

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.regions.region import Region

__all__ = ["holes_in", "region_of_holes", "region_of_shells", "shells_in"]


def region_of_shells(mesh: Mesh, keys: Iterable[int]) -> Region:
    """The triangles of some shells, each named by its lowest triangle.

    Parameters
    ----------
    mesh : Mesh
    keys : iterable of int
    """
    shells = mesh.shells
    chosen = np.isin(shells.first, np.fromiter(keys, dtype=np.int64))
    triangles = np.flatnonzero(chosen[shells.label] & (shells.label >= 0))
    return Region.of(mesh, triangles, shells.label[triangles])


def shells_in(mesh: Mesh, region: Region) -> np.ndarray:
    """Which shells a region means, bool, shape (S,).

    Parameters
    ----------
    mesh : Mesh
    region : Region

    Raises
    ------
    BadInput
        When nothing of the region can be found on the mesh.
    """
    shells = mesh.shells
    inside = region.resolve(mesh) & (shells.label >= 0)
    count = np.bincount(shells.label[inside], minlength=len(shells))
    return count == shells.triangles if region.fits(mesh) else count > 0


def _lowest(mesh: Mesh) -> np.ndarray:
    loops = mesh.loops
    return np.minimum.reduceat(loops.halfedges, loops.start[:-1]) if len(loops.start) > 1 else np.zeros(0, np.int64)


def region_of_holes(mesh: Mesh, keys: Iterable[int]) -> Region:
    """The triangles round some holes, each named by its lowest half-edge.

    Parameters
    ----------
    mesh : Mesh
    keys : iterable of int
    """
    loops = mesh.loops
    numbers = np.flatnonzero(np.isin(_lowest(mesh), np.fromiter(keys, dtype=np.int64)))
    if len(numbers) == 0:
        return Region()
    rings = [loops.loop(i) // 3 for i in numbers]
    groups = np.repeat(np.arange(len(rings)), [len(r) for r in rings])
    return Region.of(mesh, np.concatenate(rings), groups)


def holes_in(mesh: Mesh, region: Region) -> np.ndarray:
    """Which open boundaries a region means, bool, shape (L,).

    Parameters
    ----------
    mesh : Mesh
    region : Region

    Raises
    ------
    BadInput
        When nothing of the region can be found on the mesh.
    """
    loops = mesh.loops
    count = max(0, len(loops.start) - 1)
    if count == 0 or not region:
        return np.zeros(count, dtype=bool)
    inside = region.resolve(mesh)
    loop = np.repeat(np.arange(count), np.diff(loops.start))
    triangle = loops.halfedges // 3
    hit = inside[triangle]
    if region.fits(mesh):
        return np.bincount(loop, weights=~hit, minlength=count) == 0
    # a triangle at two boundaries tells of neither, where others tell
    borders = np.bincount(triangle, minlength=len(mesh.faces))[triangle]
    clear = np.bincount(loop[hit & (borders == 1)], minlength=count) > 0
    return clear if clear.any() else np.bincount(loop[hit], minlength=count) > 0
