"""Where a surface crosses itself or folds onto itself: every pair of triangles, gathered into places."""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.remembered import is_known, remember, remembered
from tinsnip.mesh.sameness import triangle_codes
from tinsnip.progress import check_here, polled_here
from tinsnip.space.crossings import crossings_and_folds, meeting_again, meeting_lines
from tinsnip.space.tree import triangles_in_boxes
from tinsnip.space.welding import weld_exact
from tinsnip.survey.finding import Finding, Kind

__all__ = [
    "Crossings", "clusters_of", "crossing_lines", "crossings_of", "find_crossings", "follow_crossings",
    "new_crossings", "vertices_where_met",
]  # fmt: skip

_MOST_CHANGED = 0.3
"""Share of the triangles that may have changed for the rest not to be counted again."""
_MOST_DRAWN = 50_000
"""About so many lines are drawn; more could not be told apart."""
_MOST_LISTED = 2_000
"""Places that the list holds."""


class Crossings(NamedTuple):
    """Pairs of triangles that meet where they should not.

    Attributes
    ----------
    pairs : ndarray of int32, shape (P, 2)
        Without a common vertex: they cross, touch, or lie on each other.
    folds : ndarray of int32, shape (Q, 2)
        With a common vertex or edge, and more than that in common.
    """

    pairs: np.ndarray
    folds: np.ndarray

    @property
    def total(self) -> int:
        """All of them together."""
        return len(self.pairs) + len(self.folds)

    @property
    def together(self) -> np.ndarray:
        """All pairs, shape (P + Q, 2)."""
        return np.concatenate([self.pairs, self.folds])


@remembered
def crossings_of(mesh: Mesh) -> Crossings:
    """Count every crossing and fold of a mesh; exact, see `space.crossings`.

    Along an unwelded seam, where open edges have their corners in the same places, these count as common ones.

    Parameters
    ----------
    mesh : Mesh
    """
    if len(mesh.faces) == 0:
        none = np.empty((0, 2), dtype=np.int32)
        return Crossings(none, none)
    return Crossings(*crossings_and_folds(mesh.vertices, _seams_as_one(mesh), tree=mesh.tree))


def follow_crossings(before: Mesh, after: Mesh, number: np.ndarray | None = None) -> Crossings:
    """Count the crossings of a mesh whose forerunner's are known: only what changed is looked at anew.

    Parameters
    ----------
    before : Mesh
    after : Mesh
        What a step made of it.
    number : ndarray of int, shape (F,), optional
        Which triangle of the later mesh, in the very same place, each one of the earlier is; -1 for none. Found out by
        their places where it is not told.

    Returns
    -------
    Crossings
        The same as `crossings_of` gives, and remembered as such.
    """
    if is_known(after, crossings_of) or not is_known(before, crossings_of) or len(after.faces) == 0:
        return crossings_of(after)
    number = _numbers_after(before, after) if number is None else number
    stays = np.zeros(len(after.faces), dtype=bool)
    stays[number[number >= 0]] = True
    # where a place has several vertices, triangles that had one in common may have none now
    index, first = weld_exact(after.vertices)
    check_here()
    if len(first) < len(after.vertices):
        several = np.bincount(index, minlength=len(first)) > 1
        stays &= ~triangles_at(after.faces, several[index])
    changed = np.flatnonzero(~stays)
    if len(changed) > _MOST_CHANGED * len(after.faces):
        return crossings_of(after)
    old = number[crossings_of(before).together]
    old = old[(old >= 0).all(axis=1)]
    old = old[stays[old].all(axis=1)] if len(old) else old
    faces = _seams_as_one(after)
    pairs, folds = meeting_again(after.vertices, faces, old)
    new_pairs, new_folds = crossings_and_folds(after.vertices, faces, changed)
    found = Crossings(np.concatenate([pairs, new_pairs]), np.concatenate([folds, new_folds]))
    remember(after, crossings_of, found)
    return found


def _seams_as_one(mesh: Mesh) -> np.ndarray:
    """The triangles, with vertices of open edges that lie in one place as one, int32, shape (F, 3)."""
    if mesh.edges.open == 0:
        return mesh.faces
    half = np.flatnonzero(mesh.twins.ravel() == OPEN)
    corner = mesh.faces.ravel()
    rim = np.unique(np.concatenate([corner[half], corner[np.where(half % 3 == 2, half - 2, half + 1)]]))
    index, first = weld_exact(mesh.vertices[rim])
    if len(first) == len(rim):
        return mesh.faces
    number = np.arange(len(mesh.vertices), dtype=np.int32)
    number[rim] = rim[first[index]]
    return number[mesh.faces]


def _numbers_after(before: Mesh, after: Mesh) -> np.ndarray:
    """Which triangle of the later mesh each one of the earlier is, int32, shape (F,); -1 for none, or not one only."""
    if before is after:
        return np.arange(len(before.faces), dtype=np.int32)
    old, new = triangle_codes(before), triangle_codes(after)
    check_here()
    order = np.argsort(new, kind="stable").astype(np.int32)
    check_here()
    new = new[order]
    alone = np.ones(len(new), dtype=bool)
    alone[1:] &= new[1:] != new[:-1]
    alone[:-1] &= new[:-1] != new[1:]
    at = np.minimum(np.searchsorted(new, old), len(new) - 1)
    return np.where((new[at] == old) & alone[at], order[at], np.int32(-1))


def clusters_of(mesh: Mesh, crossings: Crossings) -> np.ndarray:
    """The place that each pair belongs to, int, shape (P + Q,): pairs whose triangles touch lie at one place.

    Parameters
    ----------
    mesh : Mesh
    crossings : Crossings
    """
    together = crossings.together
    if len(together) == 0:
        return np.zeros(0, dtype=np.int64)
    used, local = np.unique(together, return_inverse=True)
    local = local.reshape(-1, 2)
    corners, at = np.unique(mesh.faces[used], return_inverse=True)
    count = len(used) + len(corners)
    one = np.concatenate([local[:, 0], np.repeat(np.arange(len(used)), 3)])
    other = np.concatenate([local[:, 1], len(used) + at.ravel()])
    _, label = connected_components(coo_matrix((np.ones(len(one)), (one, other)), shape=(count, count)), False)
    _, label = np.unique(label[local[:, 0]], return_inverse=True)
    return label


def crossing_lines(mesh: Mesh, crossings: Crossings) -> np.ndarray:
    """Where the surfaces meet: a piece of line for each pair, mm, shape (N, 2, 3); for some, where they are many.

    Parameters
    ----------
    mesh : Mesh
    crossings : Crossings
    """
    together = crossings.together
    some = together[:: max(1, -(-len(together) // _MOST_DRAWN))]
    return meeting_lines(mesh.vertices, mesh.faces, some)


def find_crossings(mesh: Mesh, crossings: Crossings) -> list[Finding]:
    """A finding for each place where the surface crosses itself, the one with most pairs first.

    Parameters
    ----------
    mesh : Mesh
    crossings : Crossings
    """
    label = clusters_of(mesh, crossings)
    if len(label) == 0:
        return []
    together, size = crossings.together, np.bincount(label)
    order = np.argsort(label, kind="stable")
    bounds = np.concatenate([[0], np.cumsum(size)])
    folds = np.arange(len(together)) >= len(crossings.pairs)
    found = []
    for number, c in enumerate(np.argsort(-size, kind="stable")[:_MOST_LISTED], 1):
        own = order[bounds[c] : bounds[c + 1]]
        lines = meeting_lines(mesh.vertices, mesh.faces, together[own[:: max(1, len(own) // 400)]]).reshape(-1, 3)
        low, high = lines.min(axis=0), lines.max(axis=0)
        found.append(
            Finding(
                id=f"X{number}",
                kind=Kind.CROSSING,
                text="fold" if folds[own].all() else "crossing",
                place=lines[np.argmin(np.linalg.norm(lines - 0.5 * (low + high), axis=1))],
                size=float(np.linalg.norm(high - low)),
                count=int(size[c]),
                proposal="untangle",
                key=int(together[own].min()),
                outline=lines,
            )
        )
    return found


def new_crossings(before: Mesh, after: Mesh) -> np.ndarray:
    """Pairs of triangles of a mesh made anew that cross or fold where nothing did before, int32, shape (P, 2).

    Parameters
    ----------
    before, after : Mesh
    """
    if after is before:
        return np.empty((0, 2), dtype=np.int32)
    pairs = crossings_of(after).together
    if len(pairs) == 0:
        return pairs
    low, high = _boxes_of(after, pairs)
    near = triangles_in_boxes(before.tree, low, high, polled_here())
    around = np.unique(near[:, 1])
    met = np.zeros(len(before.faces), dtype=bool)
    met[np.concatenate(crossings_and_folds(before.vertices, before.faces, around)).ravel()] = True
    known = np.zeros(len(pairs), dtype=bool)
    known[near[met[near[:, 1]], 0]] = True
    return pairs[~known]


def _boxes_of(mesh: Mesh, pairs: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Lower and upper corners, each of shape (P, 3), of what both triangles of each pair take up."""
    points = mesh.vertices[mesh.faces[pairs]].reshape(len(pairs), 6, 3)
    return points.min(axis=1), points.max(axis=1)


def vertices_where_met(before: Mesh, after: Mesh, pairs: np.ndarray) -> np.ndarray:
    """Which vertices of a mesh lie where pairs of triangles of another meet; bool, shape (V,).

    Parameters
    ----------
    before : Mesh
        The mesh whose vertices are asked about.
    after : Mesh
        The mesh of the pairs.
    pairs : ndarray of int32, shape (P, 2)
    """
    at = np.zeros(len(before.vertices), dtype=bool)
    if len(pairs):
        low, high = _boxes_of(after, pairs)
        near = triangles_in_boxes(before.tree, low, high, polled_here())
        at[before.faces[np.unique(near[:, 1])]] = True
    return at
