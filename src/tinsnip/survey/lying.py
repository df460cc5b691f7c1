"""Lying: how far a piece is off the ones that it is laid on, place by place."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.proxy import light_proxy
from tinsnip.space.registration import Surface, signed_distances
from tinsnip.space.rigid import moved_points
from tinsnip.survey.surfaces import surface_of, surface_without_bed

__all__ = ["Lying", "LyingPiece"]

_WITHIN = 0.02
"""Share of the size beyond which a piece has nothing of another beside it: two thirds of what aligning starts from."""
_COLOURS_END, _EDGES = 4.0, 0.1
"""Distance at which the colours end, in middle distances of what lies on the other, and in edges at least: what fits
comes out pale, and what an alignment of two scans is short by stands out."""


class Lying(NamedTuple):
    """A piece as it lies on others.

    Attributes
    ----------
    origin : ndarray, shape (3,)
        What corners are counted from, mm.
    corners : ndarray of float32, shape (T, 3, 3)
        Of its triangles, or of those that stand lightly for them, mm.
    normals : ndarray of float16, shape (T, 3, 3)
    off : ndarray of float32, shape (T, 3)
        How far each corner lies off the others without the noise of either, mm, outside them positive; not a number
        where they have nothing.
    limit : float
        The distance at which colours are to end, mm.
    """

    origin: np.ndarray
    corners: np.ndarray
    normals: np.ndarray
    off: np.ndarray
    limit: float


class LyingPiece:
    """A piece that is moved about, and what is asked of it each time.

    Parameters
    ----------
    mesh : Mesh
        Where it was before it was moved.
    """

    def __init__(self, mesh: Mesh) -> None:
        light = light_proxy((mesh.vertices - mesh.box.mean(axis=0)).astype(np.float32), mesh.faces)
        used = slice(None) if light is None else light.vertices
        self._faces = mesh.faces if light is None else light.faces
        self._points = mesh.vertices[used]
        surface = surface_of(mesh)
        self._even = surface.tree.vertices[used]  # without noise, which would hide how whole stretches lie
        self._ways = surface.normals[used].astype(np.float64)
        self._edge, self._size = surface.edge, mesh.diagonal

    def lying(self, matrix: np.ndarray, others: Sequence[tuple[Mesh, np.ndarray]]) -> Lying:
        """How it lies on others.

        Parameters
        ----------
        matrix : ndarray, shape (4, 4)
            Where it is moved to.
        others : sequence of (Mesh, ndarray of shape (4, 4))
            What it lies on, and where each of these is moved to.
        """
        points = moved_points(matrix, self._even)
        turn = matrix[:3, :3] / np.cbrt(np.linalg.det(matrix[:3, :3]))
        ways = self._ways @ turn.T
        off = np.full(len(points), np.inf)
        for mesh, where in others:
            found = _off_one(points, ways, surface_without_bed(mesh), where, _WITHIN * min(self._size, mesh.diagonal))
            off = np.where(np.abs(found) < np.abs(off), found, off)
        on = np.abs(off[np.isfinite(off)])
        limit = max(_EDGES * self._edge, _COLOURS_END * float(np.median(on)) if len(on) else 0.0)
        faces, off = self._faces, np.where(np.isinf(off), np.nan, off)
        places = moved_points(matrix, self._points)
        origin = places.mean(axis=0) if len(places) else np.zeros(3)
        corners = (places - origin).astype(np.float32)[faces]
        return Lying(origin, corners, ways.astype(np.float16)[faces], off[faces].astype(np.float32), limit)


def _off_one(points: np.ndarray, ways: np.ndarray, onto: Surface, where: np.ndarray, within: float) -> np.ndarray:
    if not len(onto.points):
        return np.full(len(points), np.inf)
    back = np.linalg.inv(where)
    scale = np.cbrt(np.linalg.det(back[:3, :3]))
    found = signed_distances(moved_points(back, points), ways @ (back[:3, :3] / scale).T, onto, within * scale)
    return found / scale
