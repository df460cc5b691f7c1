"""Joining, cutting and intersecting closed solids, exactly; away from where they meet all stays to the bit."""

from typing import Literal, NamedTuple

import numpy as np
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.mesh import HOLLOW, Attribute, Domain, Lineage, Mesh
from tinsnip.mesh.measures import corner_shares, face_vectors
from tinsnip.mesh.remembered import remember
from tinsnip.mesh.subsets import compact
from tinsnip.progress import check_here
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.survey.crossings import Crossings, crossings_of
from tinsnip.survey.tangles import degenerate_triangles, tangles_of
from tinsnip.treat.kit.joins.arrangement import INSIDE, OPPOSITE, OUTSIDE, SAME, Arrangement, Unclear, arrange
from tinsnip.treat.kit.joins.flats import join_needles_and_flip_caps
from tinsnip.treat.kit.joins.together import GREY, put_together
from tinsnip.treat.kit.patches.filling import add_triangles
from tinsnip.words import counted

__all__ = [
    "Combined",
    "How",
    "Unclear",
    "combined_or_nudged",
    "combined_with",
    "two_combined",
    "why_no_solid",
]

How = Literal["join", "cut", "intersect"]
_NUDGES = (0.0, 1e-8, 1e-8, 1e-7)
"""By which shares of the diagonal the second is moved, one after another, until something clear comes of it."""
_FRESH, _ORIGIN, _PART = "new where solids meet", "which of the solids", "which triangle it is a part of"
_MOST_TURNS = 4
"""Nudges after which a join counts as unclear."""


class Touching(Unclear):
    """The two have an edge or a point in common, and no more: what would come of it is no solid."""


class Combined(NamedTuple):
    """What came of two solids.

    Attributes
    ----------
    mesh : Mesh
    first : ndarray of bool, shape (F',)
        Triangles that are, or are parts of, those of the first.
    divided : int
        How many triangles were divided.
    meets : int
        How many pairs of triangles meet.
    nudged : float
        By how far the second was moved for that, mm; 0 nearly always.
    """

    mesh: Mesh
    first: np.ndarray
    divided: int
    meets: int
    nudged: float = 0.0


def _combined(mesh: Mesh, first: np.ndarray, second: np.ndarray, how: How) -> Combined:
    """Join two lots of closed shells of a mesh, cut the second from the first, or keep what they have in common.

    Parameters
    ----------
    mesh : Mesh
    first, second : ndarray of int, shape (A,), (B,)
        The triangles of each; neither crosses itself. All other triangles stay.
    how : {"join", "cut", "intersect"}

    Returns
    -------
    Combined

    Raises
    ------
    Unclear
        When what would come of it is no solid.
    Cancelled
    """
    made = arrange(mesh.vertices, mesh.faces, first, second)
    check_here()
    mine = np.zeros(len(mesh.faces), dtype=bool)
    mine[first] = True
    one = mine[made.parents]
    keep, turned = _kept(one, made.where, how)
    faces, parents = made.faces[keep], made.parents[keep]
    fresh = _is_divided(mesh, made)[keep]
    other = np.ones(len(mesh.faces), dtype=bool)
    other[first] = other[second] = False
    rest = np.flatnonzero(other)
    faces = np.concatenate([faces, mesh.faces[rest].astype(np.int64)])
    parents = np.concatenate([parents, rest])
    turned = np.concatenate([turned[keep], np.zeros(len(rest), dtype=bool)])
    fresh = np.concatenate([fresh, np.zeros(len(rest), dtype=bool)])
    result = _derived(mesh, made, faces, parents, turned, fresh)
    origin = np.where(other[parents], 0, np.where(mine[parents], 1, 2)).astype(np.uint8)
    result = result.with_attribute(_ORIGIN, Attribute(Domain.TRIANGLE, origin))
    result, fresh = _without_flats(result, fresh, mesh, np.where(turned, -1, 1) * (parents + 1))
    origin = result.attributes[_ORIGIN].values
    result = result.without_attribute(_ORIGIN)
    overlap = bool((made.where == INSIDE).any())
    _refuse_what_is_no_solid(mesh, result, fresh, np.flatnonzero(origin), overlap)
    cut = len(np.unique(made.parents[_is_divided(mesh, made)]))
    return Combined(result, origin == 1, cut, made.meets)


def why_no_solid(mesh: Mesh) -> str:
    """Why a mesh is no valid solid that could be joined or cut; nothing where it is one.

    Parameters
    ----------
    mesh : Mesh
    """
    edges = mesh.edges
    if len(mesh.faces) == 0:
        return "it is empty"
    if edges.open or edges.tangled or edges.flipped:
        what = "is open" if edges.open else "has tangled edges" if edges.tangled else "has flipped edges"
        return f"it {what}"
    if not mesh.volume > 0:
        return "it is inside out"
    if tangles_of(mesh).total:
        return "it has tangles"
    crossings = crossings_of(mesh).total
    return f"it crosses itself in {counted(crossings, 'place')}" if crossings else ""


def two_combined(first: Mesh, second: Mesh, how: How) -> tuple[Combined, list[str]]:
    """Two valid solids joined, the second cut from the first, or what they have in common.

    Parameters
    ----------
    first, second : Mesh
    how : How

    Returns
    -------
    Combined
    list of str
        Attributes that could not come along, as only one of them has them.

    Raises
    ------
    BadInput
        When nothing would be left, or what would come of it is no solid.
    Cancelled
    """
    swapped = how != "cut" and not _lends(first, second)  # so that in either order the same comes of it
    both, left = put_together([second, first] if swapped else [first, second])
    made = _combined_in(both, len(second.faces if swapped else first.faces), how)
    return (made._replace(first=~made.first) if swapped else made), left


def combined_with(mesh: Mesh, vertices: np.ndarray, faces: np.ndarray, how: How) -> Combined:
    """A valid solid with another one, which is made: joined, cut from it, or what they have in common.

    All that is attached to the first stays; the other is grey where there are colours.

    Parameters
    ----------
    mesh : Mesh
    vertices : ndarray, shape (N, 3)
    faces : ndarray of int32, shape (M, 3)
    how : {"join", "cut", "intersect"}

    Raises
    ------
    BadInput
        When nothing would be left, or what would come of it is no solid.
    Cancelled
    """
    both = add_triangles(mesh, faces + len(mesh.vertices), vertices)
    if both.colour is not None:
        colour = both.colour.copy()
        colour[len(mesh.vertices) :] = GREY
        both = both.with_attribute("colour", Attribute(Domain.VERTEX, colour))
    return _combined_in(both, len(mesh.faces), how)


def _combined_in(both: Mesh, count: int, how: How) -> Combined:
    """Combine the first so many triangles of a mesh with the rest of them."""
    try:
        made = combined_or_nudged(both, np.arange(count), np.arange(count, len(both.faces)), how)
    except Unclear as unclear:
        raise BadInput(f"{unclear}; move one of them a little, or recast both as one") from None
    if len(made.mesh.faces) == 0:
        raise BadInput("nothing would be left of them")
    none = np.empty((0, 2), dtype=np.int32)
    remember(made.mesh, crossings_of, Crossings(none, none))  # neither had any, and what is new was looked at
    if how == "cut" and (made.mesh.shells.volume < 0).any():
        made = made._replace(mesh=_with_hollows(made.mesh, made.first))
    return made


def _with_hollows(mesh: Mesh, first: np.ndarray) -> Mesh:
    """What was cut out of the inside of a solid is a void on purpose."""
    shells = mesh.shells
    cut = np.bincount(shells.label, first, len(shells)) == 0
    known = mesh.attributes.get(HOLLOW)
    values = np.zeros(len(mesh.vertices), np.uint8) if known is None else known.values.copy()
    values[mesh.faces[(cut & (shells.volume < 0))[shells.label]]] = 1
    return mesh.with_attribute(HOLLOW, Attribute(Domain.VERTEX, values))


def _is_divided(mesh: Mesh, made: Arrangement) -> np.ndarray:
    """Which triangles are parts only, or have other vertices than before; bool."""
    return (made.faces != mesh.faces[made.parents]).any(axis=1)


def _kept(one: np.ndarray, where: np.ndarray, how: How) -> tuple[np.ndarray, np.ndarray]:
    """Which triangles stay, and which are turned over; bool."""
    if how == "cut":
        keep = np.where(one, (where == OUTSIDE) | (where == OPPOSITE), where == INSIDE)
        return keep, ~one
    keep = where == (OUTSIDE if how == "join" else INSIDE)
    keep |= (where == SAME) & one  # where both have the same surface, the first lends its triangles
    return keep, np.zeros(len(keep), dtype=bool)


def _lends(first: Mesh, second: Mesh) -> bool:
    """Whether the first of two comes first, whichever order they are given in: the one with more surface does."""
    if first.area != second.area:
        return first.area > second.area
    return first.box[0].tolist() <= second.box[0].tolist()


def _derived(
    mesh: Mesh, made: Arrangement, faces: np.ndarray, parents: np.ndarray, turned: np.ndarray, fresh: np.ndarray
) -> Mesh:
    count, new = len(mesh.vertices), len(made.shares)
    rows = np.repeat(np.arange(new), 2)
    weights = np.column_stack([1 - made.shares, made.shares]).ravel()
    blends = sparse.csr_matrix((weights, (rows, made.edges.ravel())), shape=(new, count))
    lineage = Lineage(np.arange(count), parents, blends)
    places = np.concatenate([mesh.vertices, made.at])
    if any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
        shares = np.tile(np.eye(3), (len(faces), 1, 1))
        corners = mesh.vertices[mesh.faces[parents[fresh]]]
        shares[fresh] = corner_shares(places[faces[fresh]], *(corners[:, None, k] for k in range(3)))
        shares[turned] = shares[turned][:, ::-1]
        lineage = Lineage(np.arange(count), parents, blends, *_leaning(shares.reshape(-1, 3), parents))
    faces = faces.copy()
    faces[turned] = faces[turned][:, ::-1]
    return compact(mesh.derive(faces.astype(np.int32), lineage, places))


def _leaning(shares: np.ndarray, parents: np.ndarray) -> tuple[np.ndarray, tuple]:
    """A value between three corners: from the first towards the second, and from there towards the third."""
    first = np.repeat(3 * parents.astype(np.int64), 3)
    two = shares[:, 0] + shares[:, 1]
    lean = np.where(two > 0, shares[:, 1] / np.where(two > 0, two, 1.0), 0.0)
    return first, ((first + 1, lean), (first + 2, shares[:, 2]))


def _without_flats(mesh: Mesh, fresh: np.ndarray, before: Mesh, part_of: np.ndarray) -> tuple[Mesh, np.ndarray]:
    """The mesh without triangles of no height where it is new, and which triangles are new then.

    One that rounding has turned over, as against the triangle it is a part of, has no height worth the name either;
    `part_of` has the numbers of these, from 1 on, below 0 where they were turned over on purpose.
    """
    for _ in range(_MOST_TURNS):
        flat = degenerate_triangles(mesh.vertices, mesh.faces) == 1
        new = np.flatnonzero(fresh)
        own = face_vectors(before.vertices, before.faces[np.abs(part_of[new]) - 1]) * np.sign(part_of[new])[:, None]
        flat[new] |= np.einsum("ij,ij->i", face_vectors(mesh.vertices, mesh.faces[new]), own) <= 0
        flat &= fresh
        if not flat.any():
            break
        corner = np.zeros(len(mesh.vertices), dtype=bool)
        corner[mesh.faces[flat].ravel()] = True
        near = fresh | corner[mesh.faces].any(axis=1)
        marked = mesh.with_attribute(_FRESH, Attribute(Domain.TRIANGLE, near))
        mesh = join_needles_and_flip_caps(marked.with_attribute(_PART, Attribute(Domain.TRIANGLE, part_of)), flat)
        fresh, part_of = mesh.attributes[_FRESH].values, mesh.attributes[_PART].values
        mesh = compact(mesh.without_attribute(_FRESH).without_attribute(_PART))
    return mesh, fresh


def _refuse_what_is_no_solid(mesh: Mesh, result: Mesh, fresh: np.ndarray, own: np.ndarray, overlap: bool) -> None:
    """Raise where the result is open, tangled or pinched, or crosses itself where it is new."""
    if len(result.faces) == 0:
        return
    edges, after = result.edges, tangles_of(result)
    # what was there before is asked for only where something is
    if (edges.open and edges.open > mesh.edges.open) or (edges.flipped and edges.flipped > mesh.edges.flipped):
        raise Unclear("the surfaces do not fit together where they meet")
    if after.total:
        before = tangles_of(mesh)
        if after.degenerate > before.degenerate or after.duplicates > before.duplicates:
            raise Unclear("the surfaces run so flat into each other that triangles without height would be left")
        if after.total > before.total:
            # where they overlap besides, that they touch somewhere is by chance
            kind = Unclear if overlap else Touching
            raise kind("they touch along an edge or in a point only")
    changed = np.flatnonzero(fresh)
    pairs, folds = crossings_and_folds(result.vertices, result.faces, changed, second=own)
    if len(pairs) or len(folds):
        raise Unclear("they come so near each other that the rounded surfaces would cross")


def combined_or_nudged(mesh: Mesh, first: np.ndarray, second: np.ndarray, how: How) -> Combined:
    """Join two lots of closed shells, cut one from the other, or keep what is common; where that is not clear, with the
    second moved by next to nothing.

    Parameters
    ----------
    mesh : Mesh
    first, second : ndarray of bool, shape (F,)
    how : How

    Returns
    -------
    Combined

    Raises
    ------
    Unclear
        When nothing clear comes of it, however it is moved.
    Cancelled
    """
    rng, reason = np.random.default_rng(0), None
    for share in _NUDGES:
        by = rng.normal(size=3)
        by *= share * mesh.diagonal / np.linalg.norm(by)
        at = mesh
        if share:
            vertices = mesh.vertices.copy()
            vertices[np.unique(mesh.faces[second])] += by
            at = mesh.moved(vertices)
        try:
            return _combined(at, first, second, how)._replace(nudged=float(np.linalg.norm(by)))
        except Touching:
            raise
        except Unclear as unclear:
            reason = reason or unclear  # the first one is the one that counts
    raise reason
