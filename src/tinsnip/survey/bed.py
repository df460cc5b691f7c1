"""The bed a scan stands on, and walls it stands in front of: large flat regions that face the part and end in the open.

A flat of the part itself faces away from it; a bed faces it, has next to nothing behind, the part before it, and breaks
off where the scanner stopped seeing. All four must hold, so that a flat-based part or a box is never taken for a bed.
"""

from dataclasses import dataclass

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here
from tinsnip.survey.finding import Finding, Kind

__all__ = ["Bed", "beds_of", "find_beds", "triangles_on"]

_SAMPLE = 120_000
"""Triangles looked at for the search; evenly chosen where there are more."""
_CELLS = 60
"""Cells along the diagonal in which facings are averaged: noise turns single triangles, not cells."""
_DIRECTIONS, _NEAR_DIRECTION = 1500, np.cos(np.radians(12.0))
_ALIKE = np.cos(np.radians(25.0))
_MOST = 8
_BAND = 0.004
"""Distance, as a share of the part's size, within which a triangle may belong to a plane."""
_LEAST_AREA, _LEAST_ABOVE, _MOST_BEHIND = 0.05, 0.05, 0.03
"""Shares of the whole area: of the bed at least; before it at least; behind it at most."""
_SECTORS = 72
"""Sectors round a bed's middle in which something of the part has to stand."""
_OPEN_SECTORS, _ROUND_SECTORS = 0.7, 0.5
"""Shares of the directions in which the bed must end in an open edge; in which it must reach past the part's foot."""
_OWN = 0.9
"""Share of a shell's area that lies on the bed, from which the shell is nothing but bed."""


@dataclass(frozen=True)
class Bed:
    """A plane the part stands on or in front of.

    Attributes
    ----------
    normal : ndarray, shape (3,)
        Unit normal, towards the part.
    offset : float
        Distance of the plane from the origin along it, mm.
    spread : float
        How far the bed's own surface lies from the plane, mm: 99.9 % of it within.
    above : float
        Height over the plane at which a cut leaves nothing of the bed, and the part its foot, mm.
    area : float
        Area of the bed, mm^2.
    count : int
        About how many triangles it has.
    outline : ndarray, shape (N, 3)
        Its border.
    shells : tuple of int
        Shells that are nothing but bed; where there are any, taking them away is enough.
    """

    normal: np.ndarray
    offset: float
    spread: float
    above: float
    area: float
    count: int
    outline: np.ndarray
    shells: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class _Seen:
    """Some triangles of a mesh, and where it is open."""

    middles: np.ndarray
    cell: np.ndarray  # in which cell each lies
    ways: np.ndarray  # the cells' facings
    areas: np.ndarray
    faces: np.ndarray
    size: float
    edge: float
    open_ends: np.ndarray  # points along open edges

    @property
    def facing(self) -> np.ndarray:
        return self.ways[self.cell]

    @property
    def whole(self) -> float:
        return float(self.areas.sum())


@remembered
def beds_of(mesh: Mesh) -> tuple[Bed, ...]:
    """The beds and walls of a scan, the largest first.

    Planes are voted for by the facings of cells of the surface, area by area (a Hough transform over directions, then
    offsets), and fitted by least squares with Tukey's weights.

    Parameters
    ----------
    mesh : Mesh
    """
    seen = _look(mesh)
    if seen is None:
        return ()
    found: list[Bed] = []
    for normal, offset in _candidates(seen):
        check_here()
        if any(abs(normal @ bed.normal) > 0.9 and abs(offset - bed.offset) < 0.05 * seen.size for bed in found):
            continue
        bed = _judge(mesh, seen, *_fit(seen, normal, offset))
        if bed is not None and not any(bed.normal @ other.normal > 0.95 for other in found):
            found.append(bed)
    return tuple(sorted(found, key=lambda bed: -bed.area))


def triangles_on(mesh: Mesh, bed: Bed) -> np.ndarray:
    """The triangles that lie on a bed or behind it, bool, shape (F,).

    Parameters
    ----------
    mesh : Mesh
    bed : Bed
    """
    return (mesh.vertices @ bed.normal - bed.offset <= bed.above)[mesh.faces].all(axis=1)


def find_beds(mesh: Mesh) -> list[Finding]:
    """A finding for each bed or wall, the largest first.

    Parameters
    ----------
    mesh : Mesh
    """
    return [
        Finding(
            id=f"B{i}",
            kind=Kind.BED,
            text="bed",
            place=bed.outline.mean(axis=0),
            size=float(np.linalg.norm(np.ptp(bed.outline, axis=0))),
            count=bed.count,
            proposal="cut away",
            key=i - 1,
            outline=bed.outline,
        )
        for i, bed in enumerate(beds_of(mesh), 1)
    ]


def _look(mesh: Mesh) -> _Seen | None:
    """What of a mesh is looked at; None where there is too little of it, or nowhere an open edge."""
    count = len(mesh.faces)
    if count < 50 or mesh.edges.open == 0:
        return None
    chosen = np.arange(0, count, max(1, -(-count // _SAMPLE)))
    faces = mesh.faces[chosen]
    middles = mesh.vertices[faces].mean(axis=1)
    vectors = face_vectors(mesh.vertices, faces)
    areas = np.linalg.norm(vectors, axis=1)
    if not areas.sum() > 0 or not np.isfinite(areas).all():
        return None
    low, high = (np.array([_quantile(middles[:, k], areas, q) for k in range(3)]) for q in (0.002, 0.998))
    size = float(np.linalg.norm(high - low))
    if not size > 0:
        return None
    check_here()
    cell = np.floor((middles - low) / (size / _CELLS)).astype(np.int64)
    cell -= cell.min(axis=0)
    extent = cell.max(axis=0) + 1
    _, which = np.unique((cell[:, 0] * extent[1] + cell[:, 1]) * extent[2] + cell[:, 2], return_inverse=True)
    sums = np.stack([np.bincount(which, vectors[:, k]) for k in range(3)], axis=1)
    facing = sums / np.maximum(np.linalg.norm(sums, axis=1), 1e-300)[:, None]
    edge = float(np.sqrt(4 / np.sqrt(3) * np.median(areas)))
    return _Seen(middles, which.ravel(), facing, areas, chosen, size, edge, _open_ends(mesh))


def _open_ends(mesh: Mesh) -> np.ndarray:
    """Points along the open edges, both ends and the middle of each, shape (N, 3)."""
    halves = np.flatnonzero(mesh.twins.ravel() == OPEN)
    corners = mesh.faces.ravel()
    starts = mesh.vertices[corners[halves]]
    ends = mesh.vertices[corners[np.where(halves % 3 == 2, halves - 2, halves + 1)]]
    return np.concatenate([starts, 0.5 * (starts + ends), ends])


def _quantile(values: np.ndarray, weights: np.ndarray, share: float) -> float:
    order = np.argsort(values)
    up = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(up, share * up[-1])])


def _candidates(seen: _Seen) -> list[tuple[np.ndarray, float]]:
    """Planes that much of the surface votes for."""
    index = np.arange(_DIRECTIONS) + 0.5
    lift, turn = np.arccos(1 - 2 * index / _DIRECTIONS), np.pi * (1 + np.sqrt(5)) * index
    ways = np.stack([np.cos(turn) * np.sin(lift), np.sin(turn) * np.sin(lift), np.cos(lift)], axis=1)
    facings, weights = seen.ways, np.bincount(seen.cell, seen.areas)
    some = [ways[k : k + 50] for k in range(0, len(ways), 50)]  # what stays near the processor
    votes = np.concatenate([weights @ (facings @ few.T > _NEAR_DIRECTION) for few in some])
    planes = []
    for _ in range(_MOST):
        best = int(votes.argmax())
        if votes[best] < _LEAST_AREA * seen.whole:
            break
        votes[ways @ ways[best] > np.cos(np.radians(20.0))] = 0.0
        near = facings @ ways[best] > _NEAR_DIRECTION
        mine = near[seen.cell]
        way = (weights * near) @ facings
        way /= np.linalg.norm(way)
        heights = seen.middles[mine] @ way
        low, step = heights.min(), seen.size / 150
        bins = np.bincount(((heights - low) / step).astype(np.int64), seen.areas[mine])
        smooth = np.convolve(bins, [0.5, 1.0, 0.5], "same")
        for _ in range(3):
            top = int(smooth.argmax())
            if smooth[top] < _LEAST_AREA * seen.whole:
                break
            planes.append((float(smooth[top]), way, low + (top + 0.5) * step))
            smooth[max(0, top - 3) : top + 4] = 0.0
    return [(way, offset) for _, way, offset in sorted(planes, key=lambda p: -p[0])]


def _fit(seen: _Seen, normal: np.ndarray, offset: float) -> tuple[np.ndarray, float, float]:
    """The plane through what lies near a first guess: normal, offset, and how far the surface scatters about it."""
    scatter, facing = 0.0, seen.facing
    for turn in range(12):
        band = max(_BAND * seen.size * max(1.0, 4.0 - turn), 4.0 * scatter if turn > 4 else 0.0)
        off = seen.middles @ normal - offset
        mine = (np.abs(off) < band) & (facing @ normal > _ALIKE)
        if mine.sum() < 12:
            break
        scatter = 1.4826 * _quantile(np.abs(off[mine]), seen.areas[mine], 0.5)
        reach = max(4.0 * scatter, 1e-9 * seen.size)
        weights = seen.areas[mine] * np.clip(1 - (off[mine] / reach) ** 2, 0.0, None) ** 2
        if not weights.sum() > 0:
            break
        middle = weights @ seen.middles[mine] / weights.sum()
        away = seen.middles[mine] - middle
        _, ways = np.linalg.eigh((away * weights[:, None]).T @ away)
        way = ways[:, 0] * np.sign(ways[:, 0] @ normal or 1.0)
        normal, offset = way, float(way @ middle)
    return normal, offset, scatter


def _judge(mesh: Mesh, seen: _Seen, normal: np.ndarray, offset: float, scatter: float) -> Bed | None:
    """The bed that a plane is, if it is one."""
    band = max(_BAND * seen.size, 5.0 * scatter)
    if band > 0.03 * seen.size:  # no plane at all
        return None
    off = seen.middles @ normal - offset
    alike = seen.facing @ normal > _ALIKE
    bed = (np.abs(off) < band) & alike
    area = float(seen.areas[bed].sum())
    far = 2.5 * band
    before, behind = (float(seen.areas[side].sum()) for side in (off > far, off < -far))
    if area < _LEAST_AREA * seen.whole or before < max(_LEAST_ABOVE * seen.whole, 0.02 * area):
        return None
    shells = _own_shells(mesh, seen, bed, np.abs(off) < band)
    if behind > _MOST_BEHIND * seen.whole and not shells:
        return None
    first = np.cross(normal, np.eye(3)[np.abs(normal).argmin()])
    first /= np.linalg.norm(first)
    flat = np.stack([first, np.cross(normal, first)])
    on_bed = seen.middles[bed] @ flat.T
    foot = seen.middles[(off > far) & (off < far + 0.06 * seen.size)] @ flat.T
    if len(foot) < 3:
        foot = seen.middles[off > far] @ flat.T
    open_there = seen.open_ends[np.abs(seen.open_ends @ normal - offset) < 2.0 * band] @ flat.T
    middle = np.median(foot, axis=0)
    reach, gone = _reach(on_bed, middle), _reach(open_there, middle)
    if np.mean(reach > 0) < 0.6:  # the part does not stand within it
        return None
    sees = reach > 0
    if np.mean(gone[sees] >= 0.85 * reach[sees]) < _OPEN_SECTORS:
        return None
    if np.mean(reach > 1.02 * _reach(foot, middle)) < _ROUND_SECTORS:
        return None
    spread = _quantile(np.abs(off[bed]), seen.areas[bed], 0.999)
    above = max(1.3 * min(spread, 6.0 * scatter + 0.07 * seen.edge) + 0.3 * seen.edge, 1e-4 * seen.size)
    angles = (np.arange(_SECTORS) + 0.5) * 2 * np.pi / _SECTORS
    ring = middle + reach[:, None] * np.stack([np.cos(angles), np.sin(angles)], axis=1)
    outline = ring[sees] @ flat + offset * normal
    share = len(mesh.faces) / len(seen.faces)
    return Bed(normal, offset, spread, above, area * share, round(share * int(bed.sum())), outline, shells)


def _reach(points: np.ndarray, middle: np.ndarray) -> np.ndarray:
    """How far points in a plane reach from a middle, in each of the sectors round it; 0 where there are none."""
    away = points - middle
    sector = ((np.arctan2(away[:, 1], away[:, 0]) / (2 * np.pi) % 1.0) * _SECTORS).astype(np.int64) % _SECTORS
    reach = np.zeros(_SECTORS)
    np.maximum.at(reach, sector, np.linalg.norm(away, axis=1))
    return reach


def _own_shells(mesh: Mesh, seen: _Seen, bed: np.ndarray, flat: np.ndarray) -> tuple[int, ...]:
    """Shells that are nothing but bed, where the bed is made of such alone; `flat` is what lies in its plane."""
    label = np.maximum(mesh.shells.label[seen.faces], 0)  # what belongs to none has no area
    whole, mine, near = (
        np.bincount(label, seen.areas * of, minlength=len(mesh.shells)) for of in (np.ones(len(bed)), bed, flat)
    )
    own = (near > _OWN * whole) & (mine > 0.0)
    if mine[own].sum() < 0.95 * mine.sum():
        return ()
    return tuple(int(s) for s in np.flatnonzero(own))
