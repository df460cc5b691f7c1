"""Open boundaries, told apart: holes in the surface, and the rim that bounds it.

For each loop two things count. The *facing*: the cosine between the loop's vector area and the mean normal
of the triangles along it. Round a hole in a flat surface it is -1, round the edge of a flat sheet +1, and
where a wall simply ends (the foot of a dome, the mouth of a pipe) 0. And the *span*, against the shell's.
"""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import remembered
from tinsnip.survey.finding import Finding, Kind
from tinsnip.survey.mouths import pair_mouths
from tinsnip.words import counted, percent

__all__ = [
    "ROUGH",
    "SHEET_EDGE",
    "SHEET_LIKE",
    "TOLD",
    "TOLD_HOLE",
    "TOLD_RIM",
    "WITHIN_ROUGHNESS",
    "Boundaries",
    "classify_boundaries",
    "find_holes",
]

TOLD = "opening"
TOLD_HOLE, TOLD_RIM = 1, 2
"""An attribute of vertices: what somebody who knows better said that the boundary there is; 0 where nothing was."""
SHEET_EDGE = 0.3
"""Facing from which a loop bounds a sheet: a wall's end has 0, a flat sheet's edge 1."""
_WALL_END = -0.35
"""Facing from which a wide loop is where a wall ends."""
_IN_SHEET = -0.8
"""Facing below which a loop in the plane of a rim is a hole within a flat sheet, which has -1."""
_RIM_SPAN = 0.25
"""Share of its shell's diagonal from which a loop where a wall ends bounds the part."""
_EAR_SPAN = 0.02
"""Share of the diagonal from which a loop that faces as a sheet's edge bounds it: smaller ones are torn-out corners."""
_EAR_EDGES = 8
"""Edges that such a loop has at the least, so that the ear of one or two triangles is none."""
_FOOT_SPAN = 0.04
"""Share of the diagonal from which a loop may be a foot that the part stands on."""
_FOOT_FACING = -0.9
"""A smaller loop bounds the part too where it faces as a sheet's edge does, or is a foot the part stands on."""
_CLEAN_CUT = 0.02
"""Share of an edge by which the points of a cut at a slant may lie off its plane."""
_RAGGED = 4.0
"""Mean edges by which a ragged foot may stray from its plane."""
_IN_PLANE = 0.98
"""Cosine from which a triangle along a loop lies in the loop's plane."""
_FEW_IN_PLANE = 0.2
"""Share of the triangles along a foot that may do so; more, and it is a hole in a flat face."""
_MOST_RAGGED = 0.25
"""Share of its span by which a foot may stray from its plane at all."""
_FEW_BEYOND = 0.005
"""Share of the part that may lie beyond the plane of a foot, for noise."""
_LOOKED_AT = 20_000
"""About so many triangles tell where the part lies."""
_SLIT = 0.12
"""A hole is a slit where it has less than this share of the area of a circle as long round."""
_COPLANAR = 1e-6
"""Share of the mesh's diagonal within which a cut is a plane, but for rounding."""
SHEET_LIKE = 0.8
"""A rim faces as the edge of a sheet does from this cosine on; where a wall ends it is less."""
ROUGH = 0.05
"""A rim is of one ragged cut when it strays from its plane by less than this share of its span."""
WITHIN_ROUGHNESS = 1.5
"""A loop is of the same cut within so much of the rim's own straying."""
_ALIGNED = 0.7
"""Share of its area that a loop of a ragged cut shows along the cut's normal."""
_COUNTED_AREA = 0.01
"""Share of the largest shell's area below which a shell's loops go with it as a stray's do."""


class Boundaries(NamedTuple):
    """Measures of each boundary loop, in the order of `Mesh.loops`; arrays have shape (L,) unless said.

    Attributes
    ----------
    is_rim, is_hole : ndarray of bool
        Both are False for loops of strays, which go with their shells, and for the second edge of a mouth.
    length, span : ndarray
        Length along the loop and diagonal of its box, mm.
    vector_area : ndarray, shape (L, 3)
        Along the half-edges' own direction, mm2.
    centre : ndarray, shape (L, 3)
    facing : ndarray
        Cosine between the vector area and the mean normal along the loop.
    shell : ndarray of int32
        The shell each loop bounds.
    mouth : ndarray of int
        The loop along which the other side of the same wall ends, -1 where there is none; the longer of both is a hole.
    """

    is_rim: np.ndarray
    is_hole: np.ndarray
    length: np.ndarray
    span: np.ndarray
    vector_area: np.ndarray
    centre: np.ndarray
    facing: np.ndarray
    shell: np.ndarray
    mouth: np.ndarray

    @property
    def wall_shells(self) -> np.ndarray:
        """The shells that are sides of walls which end in a mouth, int."""
        return self.shell[self.mouth >= 0]


@remembered
def classify_boundaries(mesh: Mesh) -> Boundaries:
    """Measure every boundary loop, and tell holes from rims.

    Parameters
    ----------
    mesh : Mesh
    """
    loops = mesh.loops
    n = len(loops)
    if n == 0:
        flag = np.zeros(0, dtype=bool)
        none, three = np.zeros(0), np.zeros((0, 3))
        number = np.zeros(0, dtype=np.int32)
        return Boundaries(flag, flag, none, none, three, three, none, number, number)
    half = loops.halfedges
    corner = mesh.faces.ravel()
    a = mesh.vertices[corner[half]]
    b = mesh.vertices[corner[half - half % 3 + (half + 1) % 3]]
    begin = loops.start[:-1]
    count = np.diff(loops.start)

    def per_loop(values: np.ndarray) -> np.ndarray:
        return np.add.reduceat(values, begin, axis=0)

    edge = np.linalg.norm(b - a, axis=1)
    length = per_loop(edge)
    centre = per_loop(a) / count[:, None]
    low = np.minimum.reduceat(a, begin, axis=0)
    high = np.maximum.reduceat(a, begin, axis=0)
    span = np.linalg.norm(high - low, axis=1)
    own = np.repeat(centre, count, axis=0)
    vector_area = 0.5 * per_loop(np.cross(a - own, b - own))
    normals = face_vectors(mesh.vertices, mesh.faces[half // 3])
    size = np.linalg.norm(normals, axis=1)
    normals /= np.where(size > 0, size, 1.0)[:, None]
    mean_normal = per_loop(normals * edge[:, None]) / np.maximum(length, 1e-300)[:, None]
    area = np.linalg.norm(vector_area, axis=1)
    facing = (vector_area * mean_normal).sum(axis=1) / np.maximum(area, 1e-300)

    shells = mesh.shells
    shell = shells.label[half[begin] // 3]
    share = span / np.maximum(shells.spans[shell], 1e-300)
    largest = np.zeros(n, dtype=bool)
    order = np.lexsort((-span, shell))
    largest[order[np.concatenate([[True], shell[order][1:] != shell[order][:-1]])]] = True
    counted = shells.area[shell] >= _COUNTED_AREA * shells.area.max()
    is_rim = (facing > _WALL_END) & (share >= _RIM_SPAN)
    is_rim |= (facing > SHEET_EDGE) & (largest | ((share >= _EAR_SPAN) & (count >= _EAR_EDGES)))
    feet = (facing > _FOOT_FACING) & (facing <= SHEET_EDGE) & (share >= _FOOT_SPAN) & counted & ~is_rim
    for i in np.flatnonzero(feet):
        own = slice(loops.start[i], loops.start[i + 1])
        is_rim[i] = _is_foot(mesh, a[own], normals[own], vector_area[i], float(facing[i]), shell[i])
    is_rim &= counted
    same_cut, round_it = _in_plane_of_a_rim(a, loops.start, is_rim, vector_area, centre, span, shell, mesh.diagonal)
    is_rim |= counted & ((same_cut & (facing > _IN_SHEET)) | round_it)
    is_hole = counted & ~is_rim
    mouth = pair_mouths(mesh, a, normals, span, counted)
    paired = mouth >= 0
    is_rim &= ~paired
    is_hole &= ~paired
    is_hole |= paired & ((length > length[mouth]) | ((length == length[mouth]) & (np.arange(n) < mouth)))
    if TOLD in mesh.attributes:
        told = mesh.attributes[TOLD].values[corner[half]]
        for what, own, other in ((TOLD_RIM, is_rim, is_hole), (TOLD_HOLE, is_hole, is_rim)):
            most = per_loop((told == what).astype(np.int64)) > 0.5 * count
            own |= most
            other &= ~most
            mouth[most] = -1
        mouth = np.where(mouth[mouth] == np.arange(n), mouth, -1)
    return Boundaries(is_rim, is_hole, length, span, vector_area, centre, facing, shell, mouth)


def _is_foot(
    mesh: Mesh, points: np.ndarray, normals: np.ndarray, vector_area: np.ndarray, facing: float, shell: int
) -> bool:
    """Whether a loop is where a wall ends at a plane with all the rest of the part on its one side.

    A ragged one where the wall meets the plane upright, a clean cut at a slant too.
    """
    size = float(np.linalg.norm(vector_area))
    if not size > 0:
        return False
    centre, normal = points.mean(axis=0), vector_area / size
    rough = float(np.abs((points - centre) @ normal).max())
    span = float(np.linalg.norm(np.ptp(points, axis=0)))
    edge = float(np.linalg.norm(np.roll(points, -1, axis=0) - points, axis=1).mean())
    ragged = min(max(ROUGH * span, _RAGGED * edge), _MOST_RAGGED * span)
    if rough > (ragged if facing > _WALL_END else _CLEAN_CUT * edge):
        return False
    if facing <= _WALL_END and (np.abs(normals @ normal) > _IN_PLANE).mean() > _FEW_IN_PLANE:
        return False  # a hole in a flat face is as clean
    own = mesh.faces[mesh.shells.label == shell]
    some = mesh.vertices[own[:: max(1, len(own) // _LOOKED_AT)].ravel()]
    beyond = (some - centre) @ normal
    # the loop runs along the half-edges: seen from beyond it, the part lies where its vector area points away from
    return bool(min((beyond > 1.5 * rough).mean(), (beyond < -1.5 * rough).mean()) < _FEW_BEYOND)


def _in_plane_of_a_rim(
    points: np.ndarray,
    start: np.ndarray,
    is_rim: np.ndarray,
    vector_area: np.ndarray,
    centre: np.ndarray,
    span: np.ndarray,
    shell: np.ndarray,
    diagonal: float,
) -> tuple[np.ndarray, np.ndarray]:
    """Loops of one shell that lie in the plane of a rim, within its own roughness: one cut made them all.

    And those that go round it as well.
    """
    with_it, round_it = np.zeros((2, len(is_rim)), dtype=bool)
    order = np.argsort(shell, kind="stable")
    bounds = np.searchsorted(shell[order], np.arange(shell.max() + 2))
    length = np.diff(start)[order]
    at = np.concatenate([[0], np.cumsum(length)])  # the points again, loops of one shell together
    points = points[np.repeat(start[:-1][order] - at[:-1], length) + np.arange(at[-1])]
    size = np.linalg.norm(vector_area, axis=1)
    seen = np.zeros(len(is_rim), dtype=bool)
    several = np.diff(bounds)[shell] > 1
    for r in sorted(np.flatnonzero(is_rim & several & (size > 0)), key=lambda r: -span[r]):
        if seen[r]:
            continue
        normal = vector_area[r] / size[r]
        low, high = bounds[shell[r]], bounds[shell[r] + 1]
        own = order[low:high]
        off = np.abs((points[at[low] : at[high]] - centre[r]) @ normal)
        reach = np.maximum.reduceat(off, at[low:high] - at[low])
        rough = float(reach[own == r][0])
        if rough > ROUGH * span[r]:
            continue
        flat = rough < _COPLANAR * diagonal
        allowed = _COPLANAR * diagonal if flat else WITHIN_ROUGHNESS * rough
        aligned = flat | (np.abs(vector_area[own] @ normal) >= _ALIGNED * size[own])
        chosen = own[(reach <= allowed) & aligned]
        with_it[chosen] = True
        # a hole in a sheet lies within the sheet's rim; what lies round a rim is the other edge of one ring
        round_it[chosen[span[chosen] > span[r]]] = True
        seen[chosen] = True
    return with_it, round_it


def _flatness(outline: np.ndarray, vector_area: np.ndarray, span: float) -> str:
    """How far a boundary strays from its plane, in words."""
    size = float(np.linalg.norm(vector_area))
    if not size > 0:
        return ""
    off = np.abs((outline - outline.mean(axis=0)) @ (vector_area / size)).max()
    return "flat" if off < 1e-3 * span else f"off its plane by {percent(off / max(span, 1e-300))} of its span"


def _hole_told(boundaries: Boundaries, i: int, islands: int) -> tuple[str, str]:
    """What a hole is, and what is proposed for it."""
    if boundaries.mouth[i] >= 0:
        return "open edge of a wall", "close across"
    round_share = 4 * np.pi * float(np.linalg.norm(boundaries.vector_area[i]))
    what = "slit" if round_share < _SLIT * float(boundaries.length[i]) ** 2 else "hole"
    if islands:
        return f"{what} with {'an island' if islands == 1 else counted(islands, 'island')}", "patch as a ring"
    return what, "patch"


def find_holes(
    mesh: Mesh,
    boundaries: Boundaries,
    islands: dict[int, tuple[int, ...]] | None = None,
    fills: dict[int, float] | None = None,
) -> list[Finding]:
    """Findings for every hole, largest first, then the rims.

    Parameters
    ----------
    mesh : Mesh
    boundaries : Boundaries
    islands : dict of int to tuple of int, optional
        Which loops lie within each hole.
    fills : dict of int to float, optional
        The loops of which closing fills a vessel, and how much of it, mm3.
    """
    loops = mesh.loops
    corner = mesh.faces.ravel()
    findings = []
    number = {"H": 0, "R": 0}
    order = np.argsort(-boundaries.span, kind="stable")
    for letter, chosen in (("H", boundaries.is_hole), ("R", boundaries.is_rim)):
        for i in order[chosen[order]]:
            number[letter] += 1
            half, filled = loops.loop(i), (fills or {}).get(int(i))
            outline, is_rim = mesh.vertices[corner[half]], letter == "R"
            what, proposal = _hole_told(boundaries, i, len((islands or {}).get(int(i), ())))
            about = _flatness(outline, boundaries.vector_area[i], float(boundaries.span[i]))
            findings.append(
                Finding(
                    id=f"{letter}{number[letter]}",
                    kind=Kind.RIM if is_rim else Kind.HOLE,
                    text="outer rim" if is_rim else what,
                    place=boundaries.centre[i],
                    size=float(boundaries.length[i] if is_rim else boundaries.span[i]),
                    count=len(half),
                    proposal="kept open" if is_rim else proposal,
                    key=int(half.min()),
                    outline=outline,
                    about=about
                    if filled is None
                    else f"closed here, {filled / 1000:.3g} cm³ of a vessel would be solid",
                )
            )
    return findings
