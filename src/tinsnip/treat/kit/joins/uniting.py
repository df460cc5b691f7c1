"""Closed shells that cross become their union."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.progress import check_here
from tinsnip.survey.crossings import Crossings, crossings_of, follow_crossings
from tinsnip.treat.kit.joins.joining import Unclear, combined_or_nudged

__all__ = ["United", "unite_crossing_shells"]

_MOST_TURNS = 50
"""Rounds of uniting; each leaves fewer, so that it ends before."""


class United(NamedTuple):
    """What became of a mesh: the very one that was given where nothing could be united.

    Attributes
    ----------
    mesh : Mesh
    shells : int
        How many shells went into unions.
    divided : int
        How many triangles were divided.
    nudged : float
        By how far some had to be moved for their union to be clear, mm; 0 nearly always.
    """

    mesh: Mesh
    shells: int
    divided: int
    nudged: float


def unite_crossing_shells(mesh: Mesh) -> United:
    """Unite closed outward shells that cross each other and not themselves; all else stays to the bit.

    One shell after another takes in those that cross it and not each other, so that no more than two surfaces ever
    meet at a place.

    Parameters
    ----------
    mesh : Mesh

    Returns
    -------
    United
    """
    done = United(mesh, 0, 0, 0.0)
    if mesh.edges.tangled or mesh.edges.flipped or "inside-out" in mesh.attributes:
        return done
    shells = len(mesh.shells)
    for _ in range(_MOST_TURNS):
        hubs, crossing = _some_and_what_crosses_them(done.mesh)
        if not hubs.any():
            break
        made = _united(done.mesh, hubs, crossing)
        if made is None:
            break
        done = United(made.mesh, 0, done.divided + made.divided, max(done.nudged, made.nudged))
    return done._replace(shells=shells - len(done.mesh.shells) + 1) if done.mesh is not mesh else done


def _some_and_what_crosses_them(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """Of each lot of sound shells that cross, one, and some that cross it but not each other; bool, shape (S,)."""
    crossings, shells, label = crossings_of(mesh), mesh.shells, mesh.shells.label
    hubs, crossing = np.zeros(len(shells), dtype=bool), np.zeros(len(shells), dtype=bool)
    sound = (shells.open_edges == 0) & (shells.volume > 0)
    of_pairs, of_folds = label[crossings.pairs], label[crossings.folds]
    sound[of_folds.ravel()] = False
    sound[of_pairs[of_pairs[:, 0] == of_pairs[:, 1], 0]] = False
    between = of_pairs[of_pairs[:, 0] != of_pairs[:, 1]]
    between = np.unique(np.sort(between[sound[between].all(axis=1)], axis=1), axis=0)
    if len(between) == 0:
        return hubs, crossing
    beside: dict[int, set[int]] = {}
    for one, other in between.tolist():
        beside.setdefault(one, set()).add(other)
        beside.setdefault(other, set()).add(one)
    taken: set[int] = set()
    for hub in sorted(beside, key=lambda s: (-shells.area[s], s)):
        if hub in taken or beside[hub] & taken:
            continue
        lot = {hub}
        for other in sorted(beside[hub]):
            if other not in taken and not beside[other] & (taken | lot - {hub}):
                lot.add(other)
        if len(lot) > 1:
            taken |= lot
            hubs[hub] = True
            crossing[sorted(lot - {hub})] = True
    return hubs, crossing


def _united(mesh: Mesh, hubs: np.ndarray, crossing: np.ndarray) -> United | None:
    """Unite some shells with those that cross them; None where that comes to nothing clear."""
    check_here()
    label, before = mesh.shells.label, crossings_of(mesh)
    try:
        made = combined_or_nudged(mesh, np.flatnonzero(hubs[label]), np.flatnonzero(crossing[label]), "join")
    except Unclear:
        return None
    if not _less(follow_crossings(mesh, made.mesh), before):
        return None
    return United(made.mesh, int(hubs.sum() + crossing.sum()), made.divided, made.nudged)


def _less(after: Crossings, before: Crossings) -> bool:
    return after.total < before.total and len(after.folds) <= len(before.folds)
