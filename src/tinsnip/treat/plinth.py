"""Plinth: a flat base that closes an open rim."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.survey.holes import Boundaries, classify_boundaries
from tinsnip.treat.filling import add_triangles, close_rings, fill_loop, flat_cap
from tinsnip.treat.treatment import Context, Outcome, Treatment, counted

__all__ = ["Plinth"]

_FLAT = 1e-6
_SHEET_DEPTH = 0.01  # a sheet that is flat throughout gets this share of its diagonal as thickness
_UPRIGHT = 0.966  # within 15 degrees of straight down the base is level


class Plinth(Treatment):
    """Close every rim onto a plane: a flat rim with a flat base, a ragged one with walls down to it."""

    name: ClassVar[str] = "plinth"
    title: ClassVar[str] = "Close the base"

    depth_mm: float | None = Field(
        None, gt=0, description="how far the base lies beyond the rim's farthest point, mm; half an edge by default"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Close the rims.

        Raises
        ------
        BadInput
            When the mesh has tangled or flipped edges.
        """
        context.progress.step("Closing the base")
        boundaries = classify_boundaries(mesh)
        rims = np.flatnonzero(boundaries.is_rim)
        if len(rims) == 0:
            return Outcome(mesh, "No open rim", {"rims": 0, "triangles": 0})
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave the rim without a clear side; mend and orient first")
        corner = mesh.faces.ravel()
        rings = {int(i): corner[mesh.loops.loop(i)] for i in rims}
        before = len(mesh.faces)
        for group, outward in _by_plane(mesh, rings, boundaries):
            context.progress.check()
            loops = [rings[i] for i in group]
            flat = _height(mesh.vertices[np.concatenate(loops)], outward) <= _FLAT * mesh.diagonal
            sheet = _height(mesh.vertices, outward) <= _FLAT * mesh.diagonal
            if flat and not sheet:
                mesh = close_rings(mesh, loops, outward)
            else:
                depth = self.depth_mm or (_SHEET_DEPTH * mesh.diagonal if sheet else None)
                for loop in loops:
                    mesh = _walled(mesh, loop, outward, depth)
        made = len(mesh.faces) - before
        return Outcome(mesh, f"Closed {counted(len(rims), 'rim')}", {"rims": len(rims), "triangles": made})


def _height(points: np.ndarray, normal: np.ndarray) -> float:
    return float(np.ptp(points @ normal))


def _by_plane(mesh: Mesh, rings: dict[int, np.ndarray], boundaries: Boundaries) -> list[tuple[list[int], np.ndarray]]:
    """Group flat rims that lie in one plane; each group with the outward normal of its base."""
    left = sorted(rings, key=lambda i: -boundaries.span[i])
    groups = []
    while left:
        first = left.pop(0)
        area = boundaries.vector_area[first]
        size = float(np.linalg.norm(area))
        outward = -area / size if size > 0 else np.array([0.0, 0.0, -1.0])
        group = [first]
        if _height(mesh.vertices[rings[first]], outward) <= _FLAT * mesh.diagonal:
            level = float(mesh.vertices[rings[first]].mean(axis=0) @ outward)
            for i in list(left):
                off = np.abs(mesh.vertices[rings[i]] @ outward - level).max()
                if off <= _FLAT * mesh.diagonal:
                    group.append(i)
                    left.remove(i)
        elif -outward[2] > _UPRIGHT:
            outward = np.array([0.0, 0.0, -1.0])
        groups.append((group, outward))
    return groups


def _walled(mesh: Mesh, ring: np.ndarray, outward: np.ndarray, depth: float | None) -> Mesh:
    """Walls from a ragged rim to a plane beyond it, and a flat base."""
    points = mesh.vertices[ring]
    following = np.roll(points, -1, axis=0)
    if depth is None:
        depth = 0.5 * float(np.linalg.norm(following - points, axis=1).mean())
    level = float((points @ outward).max()) + depth
    foot = points + (level - points @ outward)[:, None] * outward
    n = len(ring)
    own = len(mesh.vertices) + np.arange(n)
    nxt, own_nxt = np.roll(ring, -1), np.roll(own, -1)
    walls = np.concatenate([np.column_stack([nxt, ring, own]), np.column_stack([nxt, own, own_nxt])])
    base = flat_cap(np.concatenate([mesh.vertices, foot]), [own], outward)
    if base is None:
        base = own[::-1][fill_loop(foot[::-1])]
    return add_triangles(mesh, np.concatenate([walls, base]), foot)
