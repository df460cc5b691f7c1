"""Triangles that are no surface: tangled edges, pinches, flips, doubles, degenerates."""

from typing import NamedTuple

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import ABSENT, OPEN, RING, fans_of
from tinsnip.mesh.remembered import of_faces, remembered
from tinsnip.progress import check_here
from tinsnip.space.welding import weld_bits
from tinsnip.survey.finding import Finding, Kind

__all__ = [
    "DEGENERATE_HEIGHT",
    "Tangles",
    "degenerate_triangles",
    "doubled_triangles",
    "find_tangles",
    "idle_at_seams",
    "tangles_of",
]

DEGENERATE_HEIGHT = 1e-9
"""A triangle lower than this share of its longest edge is degenerate."""


@kernel
def _degenerate(vertices, faces, limit, flags):
    """2: repeats an index; 1: lower than `limit` of its longest edge."""
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        if a == b or b == c or c == a:
            flags[f] = 2
            continue
        ux, uy, uz = (
            vertices[b, 0] - vertices[a, 0],
            vertices[b, 1] - vertices[a, 1],
            vertices[b, 2] - vertices[a, 2],
        )
        wx, wy, wz = (
            vertices[c, 0] - vertices[a, 0],
            vertices[c, 1] - vertices[a, 1],
            vertices[c, 2] - vertices[a, 2],
        )
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        vx, vy, vz = wx - ux, wy - uy, wz - uz
        longest = max(ux * ux + uy * uy + uz * uz, wx * wx + wy * wy + wz * wz, vx * vx + vy * vy + vz * vz)
        # height / longest edge = twice the area / longest edge squared
        if np.sqrt(nx * nx + ny * ny + nz * nz) < limit * longest or longest == 0.0:
            flags[f] = 1


def degenerate_triangles(vertices: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Flags, uint8, shape (F,): 2 for a repeated index, 1 for no height, 0 for a proper triangle.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
        In mm.
    faces : ndarray of int32, shape (F, 3)
    """
    flags = np.zeros(len(faces), dtype=np.uint8)
    _degenerate(vertices, faces, DEGENERATE_HEIGHT, flags)
    return flags


@kernel
def _sorted_rows(faces, out):
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        out[f, 0] = min(a, b, c)
        out[f, 1] = max(min(a, b), min(max(a, b), c))
        out[f, 2] = max(a, b, c)


@kernel
def _mark_backed(faces, twins, mark):
    """Mark triangles each of whose edges has another one over the same vertices, or more than two, or no side."""
    corner = faces.ravel()
    for f in range(faces.shape[0]):
        backed = True
        for k in range(3):
            t = twins[3 * f + k]
            if t == OPEN or (t >= 0 and corner[3 * f + (k + 2) % 3] != corner[t - t % 3 + (t + 2) % 3]):
                backed = False
                break
        mark[f] = backed


def doubled_triangles(faces: np.ndarray, twins: np.ndarray | None = None) -> np.ndarray:
    """Triangles over the same three vertices as an earlier one, whichever way round, bool, shape (F,).

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,), optional
        The half-edge across from each; where it is known, hardly any triangle has to be compared.
    """
    doubled = np.ones(len(faces), dtype=bool)
    if twins is not None:
        _mark_backed(faces, twins, doubled)
    some = np.flatnonzero(doubled)
    rows = np.empty((len(some), 3), dtype=np.uint32)
    _sorted_rows(faces[some] if len(some) < len(faces) else faces, rows)
    check_here()
    _, first = weld_bits(rows)
    doubled[some[first]] = False
    return doubled


@kernel
def _mark_idle(faces, twins, mark):
    corner = faces.ravel()
    for f in range(faces.shape[0]):
        if twins[3 * f] == ABSENT:
            mark[f] = True
            continue
        ringed, backed = False, -1
        for k in range(3):
            t = twins[3 * f + k]
            if t <= RING:
                ringed = True
            elif t >= 0 and corner[3 * f + (k + 2) % 3] == corner[t - t % 3 + (t + 2) % 3]:
                backed = t // 3
        if ringed and backed >= 0:
            mark[max(f, backed)] = True


def idle_at_seams(faces: np.ndarray, twins: np.ndarray) -> np.ndarray:
    """Triangles that repeat an index, and doubles of ones with an edge that is open without them; numbers, rising.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    """
    mark = np.zeros(len(faces), dtype=np.bool_)
    _mark_idle(faces, twins, mark)
    return np.flatnonzero(mark)


class Tangles(NamedTuple):
    """How many of each, and the places of each, shape (N, 3)."""

    tangled_edges: int
    pinched_vertices: int
    flipped_edges: int
    degenerate: int
    duplicates: int
    places: dict[str, np.ndarray]

    @property
    def total(self) -> int:
        """All of them together."""
        return self.tangled_edges + self.pinched_vertices + self.flipped_edges + self.degenerate + self.duplicates


@of_faces
@remembered
def doubles_of(mesh: Mesh) -> np.ndarray:
    """Triangles over the same three vertices as an earlier one: their numbers, ascending."""
    return np.flatnonzero(doubled_triangles(mesh.faces, mesh.twins))


@of_faces
@remembered
def pinches_of(mesh: Mesh) -> np.ndarray:
    """Vertices at which several fans of triangles meet: their numbers, ascending."""
    return np.flatnonzero(fans_of(mesh.faces, mesh.twins, len(mesh.vertices)) > 1)


@remembered
def tangles_of(mesh: Mesh) -> Tangles:
    """Count and place every tangle of a mesh.

    Parameters
    ----------
    mesh : Mesh
    """
    vertices, faces, twins = mesh.vertices, mesh.faces, mesh.twins
    corner = faces.ravel()
    places = {}

    def middle(half: np.ndarray) -> np.ndarray:
        return 0.5 * (vertices[corner[half]] + vertices[corner[half - half % 3 + (half + 1) % 3]])

    flags = degenerate_triangles(vertices, faces)
    check_here()
    doubled = doubles_of(mesh)
    doubled = doubled[flags[doubled] != 2]
    check_here()
    pinched = pinches_of(mesh)
    if mesh.edges.tangled:
        half = np.flatnonzero((twins <= RING) & (twins > -(2**31)))
        ends = np.sort(np.column_stack([corner[half], corner[half - half % 3 + (half + 1) % 3]]), axis=1)
        _, once = np.unique(ends, axis=0, return_index=True)
        places["tangled edges"] = middle(half[once])
    if len(pinched):
        places["pinched vertices"] = vertices[pinched]
    if mesh.edges.flipped:
        half = np.flatnonzero(twins > OPEN)
        half = half[(half < twins[half]) & (corner[half] == corner[twins[half]])]
        places["flipped edges"] = middle(half)
    if len(doubled):
        places["doubled triangles"] = vertices[faces[doubled]].mean(axis=1)
    if flags.any():
        places["degenerate triangles"] = vertices[faces[flags > 0]].mean(axis=1)
    return Tangles(
        mesh.edges.tangled,
        len(pinched),
        mesh.edges.flipped,
        int(np.count_nonzero(flags)),
        len(doubled),
        places,
    )


def find_tangles(mesh: Mesh, tangles: Tangles) -> list[Finding]:
    """One finding for each sort of tangle there is.

    Parameters
    ----------
    mesh : Mesh
    tangles : Tangles
    """
    return [
        Finding(
            id=f"T{i}",
            kind=Kind.TANGLE,
            text=text if len(points) != 1 else text[:-1].replace("vertice", "vertex"),
            place=points[0],
            size=float(np.linalg.norm(np.ptp(points, axis=0))),
            count=len(points),
            proposal="mend",
            key=i,
            outline=points,
        )
        for i, (text, points) in enumerate(tangles.places.items(), 1)
    ]
