"""Mending places where a surface crosses itself: they are taken out, a few rows round them if need be, and refilled."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import ABSENT, RING
from tinsnip.mesh.measures import triangle_areas
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.survey.crossings import clusters_of, crossings_of
from tinsnip.treat.kit.joins.openings import Openings, rows_about, taken_out
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
        holes = taken_out(mesh, _around(mesh, pairs, label, rows, active))
        bad = _cannot_be_refilled(mesh, holes)
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
        chosen |= rows_about(mesh, own, count)
    return chosen


def _cannot_be_refilled(mesh: Mesh, holes: Openings) -> np.ndarray:
    """Parts with another number of rings than one, at an open edge unless they are small, or too large a part."""
    own = np.flatnonzero(holes.part >= 0)
    part = holes.part[own]
    count = np.bincount(part)
    rings = np.bincount(holes.ring_part, minlength=len(count))
    shell = np.zeros(len(count), dtype=np.int64)
    shell[part] = mesh.shells.label[own]
    area = np.bincount(part, weights=triangle_areas(mesh.vertices, mesh.faces[own]))
    little = area <= _MOST_LOST * mesh.shells.area[shell]
    failed = rings != 1  # a shell that went as a whole has no ring
    failed[holes.at_rim] = (rings[holes.at_rim] > 0) | ~little[holes.at_rim]
    whole = mesh.shells.triangles[shell]
    return failed | ((count > _FEW) & (count > _MOST_SHARE * whole)) | (count > _MOST_OF_FEW * whole)


def _refilled(holes: Openings, bad: np.ndarray, context: Context) -> tuple[Mesh, np.ndarray]:
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
