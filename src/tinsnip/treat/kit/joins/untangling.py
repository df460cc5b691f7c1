"""Mending places where a surface crosses itself: they are taken out, a few rows round them if need be, and refilled."""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import ABSENT, OPEN, RING, fans_of
from tinsnip.mesh.measures import triangle_areas, triangles_at
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import check_here
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.survey.crossings import clusters_of, crossings_of
from tinsnip.treat.kit.patches.patching import PatchStyle, Ring, patch_owners, patch_rings
from tinsnip.treat.treatment import Context

__all__ = ["Untangled", "untangle_crossings"]

_MOST_ROWS = 5
_MOST_SHARE = 0.02
_FEW = 40
"""A place that takes more triangles than these, and more of its shell's than this share, is not mended in this way."""
_MOST_OF_FEW = 0.1
"""Nor is one that takes more of a small shell's triangles than this."""
_MOST_LOST = 0.005
"""Nor one at an open edge, where nothing is refilled, that takes more of its shell's area than this."""
_STYLES = PatchStyle(1.0), PatchStyle(0.0), PatchStyle(0.0, fewest=True)
"""Styles of patches that are tried, one after another."""


class Untangled(NamedTuple):
    """What became of a mesh.

    Attributes
    ----------
    mesh : Mesh
    places, mended : int
        How many places crossed, and how many of these were mended.
    between : int
        How many of them lie where two shells cross, which is not mended in this way.
    kept : int
        How many of its triangles, which come first, were there before.
    gone : float
        Area of the triangles that were taken out, mm2.
    """

    mesh: Mesh
    places: int
    mended: int
    between: int
    kept: int
    gone: float


class _Holes(NamedTuple):
    """The mesh without the places that cross.

    Attributes
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices round each hole, against the open half-edges.
    ring_part : ndarray of int
        The part of the surface that was taken out within each ring.
    part : ndarray of int, shape (F,)
        Which part each triangle before belongs to; -1 for one that stays.
    failed : ndarray of bool
        Parts that cannot be refilled: with another number of rings than one.
    """

    mesh: Mesh
    rings: list[np.ndarray]
    ring_part: np.ndarray
    part: np.ndarray
    failed: np.ndarray


def untangle_crossings(mesh: Mesh, context: Context) -> Untangled:
    """Take out what crosses and refill it with patches that cross nothing; what cannot be mended so stays as it was.

    Parameters
    ----------
    mesh : Mesh
        Without tangled or flipped edges.
    context : Context

    Returns
    -------
    Untangled
    """
    crossings = crossings_of(mesh)
    label = clusters_of(mesh, crossings)
    if len(label) == 0:
        return Untangled(mesh, 0, 0, 0, len(mesh.faces), 0.0)
    pairs, shell = crossings.together, mesh.shells.label
    places = int(label.max()) + 1
    between = np.zeros(places, dtype=bool)
    between[label[shell[pairs[:, 0]] != shell[pairs[:, 1]]]] = True
    active = ~between
    rows = np.zeros(places, dtype=np.int64)
    state = context.progress.step("Mending crossings", _MOST_ROWS + 2)
    while active.any():
        context.progress.check()
        state[1] = min(int(rows[active].max()), _MOST_ROWS)
        chosen = _around(mesh, pairs, label, rows, active)
        holes = _taken_out(mesh, chosen)
        bad = holes.failed | _too_large(mesh, holes)
        filled, wrong = _refilled(holes, bad, context)
        bad[wrong] = True
        if not bad.any():
            gone = float(triangle_areas(mesh.vertices, mesh.faces[holes.part >= 0]).sum())
            return Untangled(filled, places, int(active.sum()), int(between.sum()), len(holes.mesh.faces), gone)
        # the places in parts that could not be refilled are taken out with one row more, up to a limit
        hit = np.zeros(places, dtype=bool)
        part = holes.part[pairs]
        inside = part >= 0
        hit[label[(inside & bad[part]).any(axis=1)]] = True
        rows[hit] += 1
        active &= rows <= _MOST_ROWS
    return Untangled(mesh, places, 0, int(between.sum()), len(mesh.faces), 0.0)


def _around(mesh: Mesh, pairs: np.ndarray, label: np.ndarray, rows: np.ndarray, active: np.ndarray) -> np.ndarray:
    """The triangles of the active places and as many rows round each as are asked for; bool, shape (F,)."""
    chosen = np.zeros(len(mesh.faces), dtype=bool)
    for count in np.unique(rows[active]):
        own = np.zeros(len(mesh.faces), dtype=bool)
        own[pairs[(active & (rows == count))[label]]] = True
        for _ in range(count):
            own = triangles_at(mesh.faces, _corners_of(mesh, own))
        chosen |= own
    return chosen


def _corners_of(mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
    at = np.zeros(len(mesh.vertices), dtype=bool)
    at[mesh.faces[chosen]] = True
    return at


def _taken_out(mesh: Mesh, chosen: np.ndarray) -> _Holes:
    """Take triangles out, with what would hang by a corner or be cut off as a scrap then, and find the rings left."""
    chosen = chosen.copy()
    was_pinched = fans_of(mesh.faces, mesh.twins, len(mesh.vertices)) > 1
    for _ in range(20):
        check_here()
        stays = np.flatnonzero(~chosen)
        rest = keep_triangles(mesh, stays)
        old = mesh.faces[stays]  # the same triangles over the old vertices
        number = np.full(len(rest.vertices), -1, dtype=np.int64)
        number[rest.faces.ravel()] = old.ravel()
        pinched = np.zeros(len(mesh.vertices), dtype=bool)
        pinched[number[fans_of(rest.faces, rest.twins, len(rest.vertices)) > 1]] = True
        more = triangles_at(mesh.faces, pinched & ~was_pinched) & ~chosen
        shells, count = rest.shells, int(chosen.sum())
        before = mesh.shells
        came_from = before.label[stays[shells.first]]
        scrap = (shells.triangles < before.triangles[came_from]) & (shells.triangles <= max(8, count))
        scrap &= shells.triangles < 0.01 * before.triangles[came_from] + 8
        more[stays[np.append(scrap, False)[shells.label]]] = True
        if not more.any():
            break
        chosen |= more
    part = _parts_of(mesh, chosen)
    rings, ring_part = [], []
    corner, was_open = rest.faces.ravel(), mesh.twins[(3 * stays[:, None] + np.arange(3)).ravel()] == OPEN
    loops = rest.loops
    part_at = np.full(len(mesh.vertices), -1, dtype=np.int64)
    part_at[mesh.faces[chosen]] = part[chosen][:, None]
    whole = np.zeros(int(part.max()) + 1, dtype=np.int64)
    at_rim = np.zeros(len(whole), dtype=bool)
    for i in range(len(loops)):
        half = loops.loop(i)
        if was_open[half].all():
            continue
        owner = part_at[number[corner[half]]]
        owner = owner[owner >= 0]
        if was_open[half].any():  # at a rim or a hole: what was taken out is not refilled
            at_rim[owner] = True
            continue
        whole[owner[0]] += 1
        rings.append(corner[half][::-1])
        ring_part.append(owner[0])
    failed = whole != 1
    own = np.flatnonzero(chosen)
    shell = np.zeros(len(whole), dtype=np.int64)
    shell[part[own]] = mesh.shells.label[own]
    area = np.bincount(part[own], weights=triangle_areas(mesh.vertices, mesh.faces[own]))
    little = area <= _MOST_LOST * mesh.shells.area[shell]
    failed[at_rim] = (whole[at_rim] > 0) | ~little[at_rim]
    # a shell that went as a whole has no ring
    return _Holes(rest, rings, np.array(ring_part, dtype=np.int64), part, failed)


def _parts_of(mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
    """The part of the surface that each chosen triangle belongs to, int, shape (F,): touching ones to one; else -1."""
    own = np.flatnonzero(chosen)
    corners, at = np.unique(mesh.faces[own], return_inverse=True)
    count = len(own) + len(corners)
    one = np.repeat(np.arange(len(own)), 3)
    graph = coo_matrix((np.ones(len(one)), (one, len(own) + at.ravel())), shape=(count, count))
    _, label = connected_components(graph, directed=False)
    part = np.full(len(mesh.faces), -1, dtype=np.int64)
    part[own] = np.unique(label[: len(own)], return_inverse=True)[1]
    return part


def _too_large(mesh: Mesh, holes: _Holes) -> np.ndarray:
    """Parts that take too much of their shell."""
    own = np.flatnonzero(holes.part >= 0)
    count = np.bincount(holes.part[own])
    shell = np.zeros(len(count), dtype=np.int64)
    shell[holes.part[own]] = mesh.shells.label[own]
    whole = mesh.shells.triangles[shell]
    return ((count > _FEW) & (count > _MOST_SHARE * whole)) | (count > _MOST_OF_FEW * whole)


def _refilled(holes: _Holes, bad: np.ndarray, context: Context) -> tuple[Mesh, np.ndarray]:
    """Fill the rings of parts that can be filled, and tell the parts whose patches cross something all the same."""
    some = [i for i, part in enumerate(holes.ring_part) if not bad[part]]
    rings = [Ring.of(holes.rings[i]) for i in some]
    part = holes.ring_part[some]
    if not rings:
        return holes.mesh, np.empty(0, dtype=np.int64)
    shape = np.zeros(len(rings), dtype=np.int64)
    shape[[len(ring.vertices) <= 4 for ring in rings]] = len(_STYLES) - 1
    old = len(holes.mesh.faces)
    while True:
        filled, _ = patch_rings(holes.mesh, rings, [_STYLES[k] for k in shape], context)
        crossed = crossings_and_folds(filled.vertices, filled.faces, np.arange(old, len(filled.faces)))
        met = [np.concatenate(crossed).ravel()]
        if filled.edges.tangled:
            met.append(np.flatnonzero((filled.twins <= RING) & (filled.twins != ABSENT)) // 3)
        met = np.unique(np.concatenate(met))
        wrong = patch_owners(holes.mesh, filled, rings, met[met >= old])
        again = wrong[shape[wrong] < len(_STYLES) - 1]
        if len(again) == 0:
            return filled, part[wrong]
        shape[again] += 1
