"""Places made anew: taken out with some rows round them, and a skin of the volume there sewn to what stays."""

from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.mesh import MADE, SHIFTED, Lineage, Mesh
from tinsnip.mesh.halfedges import ABSENT, OPEN, RING
from tinsnip.mesh.measures import face_vectors, mean_edge, triangle_areas, triangles_at
from tinsnip.progress import Progress, check_here
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.space.singles import as_files_hold
from tinsnip.space.winding import Winding
from tinsnip.survey.crossings import crossings_of
from tinsnip.treat.kit.joins.openings import Openings, joined, rows_about, taken_out
from tinsnip.treat.kit.patches.banding import zipped
from tinsnip.treat.kit.skins.placeskins import PlaceSkin, level_round, skin_of_place, turns_beside
from tinsnip.treat.kit.skins.recasting import blends_at

__all__ = ["Replaced", "places_of", "replace_places"]

_TRIES = (
    (2, 1.0, 75.0), (3, 0.8, 75.0), (4, 1.0, 75.0), (6, 0.7, 75.0), (9, 1.0, 75.0),
    (2, 1.0, 120.0), (4, 0.8, 120.0), (6, 1.0, 120.0), (2, 1.0, 180.0), (3, 1.0, 180.0), (6, 0.7, 180.0),
    (12, 1.0, 180.0),
)  # fmt: skip
"""Rows taken out round a place, width of the cells in edges, and how sharply the seam may bend, degrees: one after
another, until a skin fits."""
_SCRAP = 0.01
"""Share of the largest shell's area below which an open shell at a place is taken out whole."""
_BESIDE = 4.0
"""How far the edge of a skin may lie off the ring it is sewn to, in cells, at its middle."""
_MOST_WITHIN, _ALIKE = 0.2, 0.9
"""What goes as it lies within the part is no more than this share of its triangles, and both sides are alike of more
than this share of them."""


class Replaced(NamedTuple):
    """What became of a mesh.

    Attributes
    ----------
    mesh : Mesh
        The very one that was given where no place could be made anew.
    places, done : int
        How many places were wrong, and how many of these were made anew.
    kept : int
        How many of its triangles, which come first, were there before.
    gone : float
        Area of what was taken out, mm2.
    cell : float
        Width of the largest cells, mm.
    off : float
        How far the new skin lies off what was there at most, mm, where there was something.
    bend : float
        The sharpest bend along the seams, degrees.
    """

    mesh: Mesh
    places: int
    done: int
    kept: int
    gone: float
    cell: float = 0.0
    off: float = 0.0
    bend: float = 0.0


def places_of(mesh: Mesh) -> np.ndarray:
    """The place that each triangle that crosses, folds or hangs together wrongly is at, int, shape (F,); else -1.

    Triangles that touch, and pairs that cross, are at one place.

    Parameters
    ----------
    mesh : Mesh
    """
    wrong = np.zeros(len(mesh.faces), dtype=bool)
    pairs = crossings_of(mesh).together
    wrong[pairs.ravel()] = True
    twins = mesh.twins
    absent = twins == ABSENT
    if absent.any() or mesh.edges.tangled or mesh.edges.flipped:
        corner = mesh.faces.ravel()
        two = np.flatnonzero(twins >= 0)
        bad = absent | (twins <= RING)
        bad[two] = corner[two] == corner[twins[two]]
        wrong[bad.reshape(-1, 3).any(axis=1)] = True
    found = np.full(len(mesh.faces), -1, dtype=np.int64)
    own = np.flatnonzero(wrong)
    if len(own):
        corners, at = np.unique(mesh.faces[own], return_inverse=True)
        touch = np.column_stack([np.repeat(np.arange(len(own)), 3), len(own) + at.ravel()])
        cross = np.searchsorted(own, pairs)
        found[own] = joined(np.concatenate([touch, cross]), len(own) + len(corners))[: len(own)]
        found[own] = np.unique(found[own], return_inverse=True)[1]
    return found


class _Piece(NamedTuple):
    """What replaces one place.

    Attributes
    ----------
    skin : PlaceSkin
    band : ndarray of int64, shape (T, 3)
        Triangles between vertices of the mesh and, numbered on from these, those of the skin.
    dropped : ndarray of int64
        Triangles of the mesh that go, as they lie within the part.
    """

    skin: PlaceSkin
    band: np.ndarray
    dropped: np.ndarray


def replace_places(mesh: Mesh, place: np.ndarray, most_mm2: float, progress: Progress) -> Replaced:
    """Make places anew; all else stays to the bit.

    Each is taken out with some rows round it. What of the volume ends there is told by winding numbers against all of
    the part, and a skin of it, in cells of about the local edge, is sewn to the rows that stay. What would cross
    anything, or hang together wrongly, is tried again with more rows and other cells, and left as it was in the end.

    Parameters
    ----------
    mesh : Mesh
    place : ndarray of int, shape (F,)
        The place that each triangle that is wrong is at; -1 for all others.
    most_mm2 : float
        How much surface may be taken out for all places together, mm2.
    progress : Progress

    Returns
    -------
    Replaced
    """
    count = int(place.max(initial=-1)) + 1
    whole = len(mesh.faces)
    if count == 0:
        return Replaced(mesh, 0, 0, whole, 0.0)
    field = Winding(mesh.vertices, mesh.faces, mesh.tree)
    areas = triangle_areas(mesh.vertices, mesh.faces)
    tries = np.zeros(count, dtype=np.int64)
    active = np.ones(count, dtype=bool)
    known: dict[bytes, _Piece | None] = {}
    state = progress.step("Making places anew", len(_TRIES))
    while active.any():
        progress.check()
        state[1] = int(tries[active].max())
        chosen = np.zeros(whole, dtype=bool)
        for n in np.unique(tries[active]):
            seeds = (place >= 0) & active[place] & (tries[place] == n)
            chosen |= rows_about(mesh, seeds, _TRIES[n][0])
        chosen |= _scraps_at(mesh, chosen)
        holes = _grouped(taken_out(mesh, chosen), place, active)
        groups = len(holes.at_rim)
        at_place = (place >= 0) & active[place]
        group_of = np.full(count, -1, dtype=np.int64)
        group_of[place[at_place]] = holes.part[at_place]
        turn = np.zeros(groups, dtype=np.int64)
        np.maximum.at(turn, group_of[active], tries[active])
        bad = holes.at_rim.copy()
        size = np.bincount(holes.part[holes.part >= 0], weights=areas[holes.part >= 0], minlength=groups)
        bad |= size > most_mm2
        pieces: dict[int, _Piece] = {}
        for g in np.flatnonzero(~bad):
            own = holes.part == g
            key = np.flatnonzero(own).tobytes() + bytes([turn[g]])
            if key not in known:
                known[key] = _piece(mesh, field, holes, g, own, _TRIES[turn[g]][1])
            if known[key] is None:
                bad[g] = True
            else:
                pieces[g] = known[key]
        if pieces and not bad.any() and size.sum() <= most_mm2:
            made = _sewn(mesh, holes, pieces)
            wrong = _wrong_parts(made, np.array([_TRIES[t][2] for t in turn]))
            if not wrong:
                gone = float(areas.sum() - areas[made.stays].sum())
                return made.replaced(count, int(active.sum()), gone)
            bad[list(wrong)] = True
        elif not bad.any():  # too much all together: the largest is left as it is
            tries[group_of == int(np.argmax(size))] = len(_TRIES)
        tries[active & bad[group_of]] += 1
        active &= tries < len(_TRIES)
    return Replaced(mesh, count, 0, whole, 0.0)


def _scraps_at(mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
    """All triangles of open shells that some of the chosen ones are of, where these are mere scraps; bool, shape (F,).

    What of such a sheet would be left beside a place hangs on nothing.
    """
    shells = mesh.shells
    met = np.zeros(len(shells) + 1, dtype=bool)
    met[shells.label[chosen]] = True
    met = met[:-1] & (shells.open_edges > 0) & (shells.area < _SCRAP * shells.area.max(initial=0.0))
    return np.append(met, False)[shells.label]


def _grouped(holes: Openings, place: np.ndarray, active: np.ndarray) -> Openings:
    """The same with all parts that one place lies in as one."""
    some = np.flatnonzero((place >= 0) & active[place])
    parts = len(holes.at_rim)
    label = joined(np.column_stack([holes.part[some], parts + place[some]]), parts + len(active))[:parts]
    label = np.unique(label, return_inverse=True)[1]
    at_rim = np.zeros(int(label.max()) + 1, dtype=bool)
    at_rim[label[holes.at_rim]] = True
    part = np.where(holes.part >= 0, label[holes.part], -1)
    return holes._replace(part=part, ring_part=label[holes.ring_part], at_rim=at_rim)


def _piece(mesh: Mesh, field: Winding, holes: Openings, part: int, own: np.ndarray, width: float) -> _Piece | None:
    """The skin of one part and the bands between it and the rings; None where they do not pair off."""
    rings = [ring for ring, of in zip(holes.rings, holes.ring_part, strict=True) if of == part]
    if not rings:
        return None
    rest = holes.mesh
    on_ring = np.zeros(len(rest.vertices), dtype=bool)
    beside = []
    for ring in rings:
        on_ring[:] = False
        on_ring[ring] = True
        beside.append(np.flatnonzero(triangles_at(rest.faces, on_ring)))
    step = width * mean_edge(rest.vertices, rest.faces[np.concatenate(beside)])
    level = level_round(field, [holes.stays[b] for b in beside], step)
    if level is None or not step > 0:
        return None
    old = np.zeros(len(mesh.vertices), dtype=bool)
    at_edge = mesh.faces[~own & rows_about(mesh, own, 1)]
    old[at_edge] = True
    inner = own & ~triangles_at(mesh.faces, old)
    skin = skin_of_place(mesh, field, own, inner, level, step)
    check_here()
    if skin is None:
        return None
    pairs = _paired(rest.vertices, rings, skin, step)
    if pairs is None:
        return None
    skin, edges = pairs
    dropped = _within(holes, [ring for i, ring in enumerate(rings) if i not in edges], field, level, step)
    if dropped is None:
        return None
    points = np.concatenate([mesh.vertices, skin.vertices])
    was = _old_numbers(mesh, holes)
    band = [zipped(points, was[rings[i]][::-1], len(mesh.vertices) + edge[::-1]) for i, edge in edges.items()]
    return _Piece(skin, np.concatenate(band), holes.stays[dropped])


def _old_numbers(mesh: Mesh, holes: Openings) -> np.ndarray:
    """The vertex before that each one that stays is."""
    was = np.full(len(holes.mesh.vertices), -1, dtype=np.int64)
    was[holes.mesh.faces.ravel()] = mesh.faces[holes.stays].ravel()
    return was


def _paired(
    points: np.ndarray, rings: list[np.ndarray], skin: PlaceSkin, step: float
) -> tuple[PlaceSkin, dict[int, np.ndarray]] | None:
    """Of a skin what hangs in the rings, and for each ring that has one the edge of the skin beside it."""
    known = cKDTree(points[np.concatenate(rings)])
    owner = np.repeat(np.arange(len(rings)), list(map(len, rings)))
    piece = Mesh(skin.vertices, skin.faces)
    loops, corner = piece.loops, piece.faces.ravel()
    label = piece.shells.label
    edges: dict[int, np.ndarray] = {}
    stays, goes = set(), set()
    for i in range(len(loops)):
        half = loops.loop(i)
        edge, shell = corner[half], int(label[half[0] // 3])
        away, at = known.query(skin.vertices[edge])
        ring = int(np.bincount(owner[at]).argmax())
        if np.median(away) > _BESIDE * step:
            goes.add(shell)
            continue
        if ring in edges:
            return None
        edges[ring] = edge
        stays.add(shell)
    if not edges or stays & goes:
        return None
    chosen = np.isin(label, list(stays))
    kept, local = np.unique(skin.faces[chosen], return_inverse=True)
    number = np.full(len(skin.vertices), -1, dtype=np.int64)
    number[kept] = np.arange(len(kept))
    part = PlaceSkin(
        skin.vertices[kept], local.reshape(-1, 3).astype(np.int32), skin.seen[kept], skin.nearest[kept],
        skin.foot[kept], skin.away[kept], skin.step,
    )  # fmt: skip
    return part, {ring: number[edge] for ring, edge in edges.items()}


def _within(holes: Openings, lone: list[np.ndarray], field: Winding, level: float, step: float) -> np.ndarray | None:
    """Triangles of what lies wholly within the part, or outside of it, behind rings that no skin reaches.

    None where what lies behind such a ring is surface of the part, or something else hangs on it too.
    """
    if not lone:
        return np.empty(0, dtype=np.int64)
    rest = holes.mesh
    label = rest.shells.label
    shell_at = np.full(len(rest.vertices), -1, dtype=np.int64)
    shell_at[rest.faces] = label[:, None]
    own = {int(shell_at[ring[0]]) for ring in lone}
    others = [ring for ring in holes.rings if not any(ring is one for one in lone)]
    if own & {int(shell_at[ring[0]]) for ring in others}:
        return None
    chosen = np.flatnonzero(np.isin(label, list(own)))
    if len(chosen) > _MOST_WITHIN * len(rest.faces):
        return None
    sides = [turns > level for turns in turns_beside(field, holes.stays[chosen], step)]
    return chosen if (sides[0] == sides[1]).mean() > _ALIKE else None


class _Made(NamedTuple):
    """The mesh with skins and bands in place, and the part each new triangle is of."""

    mesh: Mesh
    stays: np.ndarray
    of: np.ndarray
    in_band: np.ndarray
    cell: float
    off: float

    def replaced(self, places: int, done: int, gone: float) -> Replaced:
        """As it is told of."""
        bend = float(self.bends().max(initial=0.0))
        return Replaced(self.mesh, places, done, len(self.stays), gone, self.cell, self.off, bend)

    def bends(self) -> np.ndarray:
        """The sharpest bend of the seam of each new triangle, degrees; 0 where it does not hang on one."""
        mesh, begin = self.mesh, len(self.stays)
        twins, band = mesh.twins, begin + np.flatnonzero(self.in_band)
        half = (3 * band[:, None] + np.arange(3)).ravel()
        half = half[twins[half] >= 0]
        found = np.zeros(len(mesh.faces))
        normals = [face_vectors(mesh.vertices, mesh.faces[some]) for some in (half // 3, twins[half] // 3)]
        one, other = (n / np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None] for n in normals)
        np.maximum.at(found, half // 3, np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", one, other), -1.0, 1.0))))
        return found[begin:]


def _sewn(mesh: Mesh, holes: Openings, pieces: dict[int, _Piece]) -> _Made:
    keep = np.zeros(len(mesh.faces), dtype=bool)
    keep[holes.stays] = True
    keep[np.concatenate([piece.dropped for piece in pieces.values()])] = False
    stays = np.flatnonzero(keep)
    used = np.zeros(len(mesh.vertices), dtype=bool)
    used[mesh.faces[stays]] = True
    number = np.full(len(mesh.vertices), -1, dtype=np.int64)
    number[used] = np.arange(used.sum())
    base, count = len(mesh.vertices), int(used.sum())
    faces, provenance, of, in_band = [number[mesh.faces[stays]]], [mesh.provenance[stays]], [], []
    for g, piece in pieces.items():
        skin = piece.skin
        band = np.where(piece.band < base, number[np.minimum(piece.band, base - 1)], piece.band - base + count)
        own = np.concatenate([skin.faces + count, band])
        at_skin = np.maximum(own - count, -1)
        made = np.append(~skin.seen, False)[at_skin].any(axis=1)
        parent = np.append(skin.nearest, -1)[at_skin].max(axis=1)
        faces.append(own)
        provenance.append(np.where(made | (mesh.provenance[parent] == MADE), MADE, SHIFTED).astype(np.uint8))
        of.append(np.full(len(own), g))
        in_band.append(np.arange(len(own)) >= len(skin.faces))
        count += len(skin.vertices)
    skins = [piece.skin for piece in pieces.values()]
    foot, nearest = (np.concatenate([getattr(s, name) for s in skins]) for name in ("foot", "nearest"))
    fresh = as_files_hold(np.concatenate([s.vertices for s in skins]), mesh.diagonal)
    points = np.concatenate([mesh.vertices[used], fresh])
    blends = blends_at(mesh, np.arange(len(mesh.faces)), foot, nearest)
    faces = np.concatenate(faces).astype(np.int32)
    parents = np.concatenate([stays, np.full(len(faces) - len(stays), -1)])
    lineage = Lineage(np.flatnonzero(used), parents, blends)
    result = mesh.derive(faces, lineage, points, np.concatenate(provenance))
    off = max((float(s.away[s.seen].max(initial=0.0)) for s in skins), default=0.0)
    return _Made(result, stays, np.concatenate(of), np.concatenate(in_band), max(s.step for s in skins), off)


def _wrong_parts(made: _Made, sharpest: np.ndarray) -> set[int]:
    """Parts whose new triangles cross something, hang together wrongly, leave something open, or bend too sharply."""
    mesh, kept = made.mesh, len(made.stays)
    fresh = np.arange(kept, len(mesh.faces))
    met = np.concatenate([pairs.ravel() for pairs in crossings_and_folds(mesh.vertices, mesh.faces, fresh)])
    twins, corner = mesh.twins, mesh.faces.ravel()
    half = np.arange(3 * kept, len(twins))
    half = half[(twins[half] <= OPEN) | (corner[half] == corner[np.maximum(twins[half], 0)])]
    met = np.concatenate([met, half // 3])
    flat = triangle_areas(mesh.vertices, mesh.faces[kept:]) <= 0
    met = np.unique(np.concatenate([met, kept + np.flatnonzero(flat)]))
    bent = made.of[made.bends() > sharpest[made.of]]
    return {*made.of[met[met >= kept] - kept].tolist(), *bent.tolist()}
