"""What each shell is: the part, strays beside it, voids and solids within, second skins; and what may be part of it."""

from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.mesh import HOLLOW, Mesh
from tinsnip.mesh.attributes import hollow_at
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import face_vectors, triangles_at
from tinsnip.mesh.remembered import remembered
from tinsnip.progress import check_here, polled_here
from tinsnip.space.crossings import meeting_pairs
from tinsnip.space.tree import build_tree, closest_points, triangles_in_boxes
from tinsnip.space.winding import winding_numbers
from tinsnip.survey.finding import Finding, Kind
from tinsnip.survey.islands import shells_that_are_islands
from tinsnip.words import grouped, percent

__all__ = ["CHUNK_SHARE", "CRUMBS_SHARE", "Roles", "describe_chunks", "find_strays", "shell_roles", "with_voids_meant"]

CHUNK_SHARE = 0.02
"""A stray of more than this share of the main shell's area may be part of the part: a chunk."""

CRUMBS_SHARE = 0.05
"""Strays that together make up more than this share of the whole area are all chunks."""


_OUTLINE_POINTS = 400
_SCRAP_SHARE = 1e-3
"""An open stray along the main shell's open edges is a rag of them up to this share of its area."""
_CLOSE = 0.7
"""A second skin lies within this share of its own edges from the first."""
_ALONG = 0.8
_NEARLY_ALL = 0.99
_FEWEST_OF_SKIN = 8
_LIKE = 0.2
"""Solids are of like size down to this share of the largest one's area."""


class Roles(NamedTuple):
    """What each shell is; all arrays have shape (S,) and exclude one another.

    Attributes
    ----------
    main : int
        The shell of the largest area; -1 when there is none.
    crumb : ndarray of bool
        Strays that cannot be part of the part: small, few, and clear of it.
    chunk : ndarray of bool
        Strays that may be part of it: large, many, or lying against it.
    void : ndarray of bool
        Closed skins that face inward, within a solid; to any depth.
    inner : ndarray of bool
        Closed skins that face outward, within a solid: in its matter, or loose in a void of it.
    skin : ndarray of bool
        Second layers that lie close along the main shell.
    island : ndarray of bool
        Pieces of surface that lie free within a hole, and second sides of a wall: no strays, as the patch there joins
        them.
    hollow : ndarray of bool
        Inner skins that were put there on purpose; no voids.
    """

    main: int
    crumb: np.ndarray
    chunk: np.ndarray
    void: np.ndarray
    inner: np.ndarray
    skin: np.ndarray
    island: np.ndarray
    hollow: np.ndarray

    @property
    def within(self) -> np.ndarray:
        """What lies within solids, bool, shape (S,)."""
        return self.void | self.inner


@remembered
def shell_roles(mesh: Mesh) -> Roles:
    """Tell apart what each shell is.

    What lies inside another closed shell, by its winding number, is a void where it faces inward and an inner solid
    where it faces outward; an open main shell has voids too. A second skin lies along the main shell, all of it, within
    a fraction of an edge. A stray is a chunk when it has more than
    `CHUNK_SHARE` of the main shell's area, when it crosses or touches that or lies along its open edges, or when
    all strays together are more than `CRUMBS_SHARE` of the area; else a crumb.

    Parameters
    ----------
    mesh : Mesh
    """
    shells = mesh.shells
    n = len(shells)
    if n == 0:
        none = np.zeros(0, dtype=bool)
        return Roles(-1, none, none, none, none, none, none, none)
    main = int(np.argmax(shells.area))
    closed = shells.open_edges == 0
    contained = _contained(mesh, main)
    contained[main] = False
    hollow = _on_purpose(mesh) & contained & (shells.volume < 0)
    contained &= ~hollow
    void = contained & (shells.volume < 0)
    inner = contained & (shells.volume > 0)
    stray = ~void & ~inner & ~hollow
    stray[main] = False
    skin = _second_skins(mesh, main, stray & (~closed | (shells.area > CHUNK_SHARE * shells.area[main])))
    island = shells_that_are_islands(mesh) & stray & ~skin
    stray &= ~skin & ~island
    chunk = stray & (shells.area > CHUNK_SHARE * shells.area[main])
    small = stray & ~chunk
    if shells.area[small].sum() > CRUMBS_SHARE * shells.area.sum():
        chunk |= small
    elif small.any():
        chunk |= _against_the_main(mesh, main, small)
    return Roles(main, stray & ~chunk, chunk, void, inner, skin, island, hollow)


def with_voids_meant(mesh: Mesh) -> Mesh:
    """The mesh with its voids taken as meant; the very mesh where it has none.

    Parameters
    ----------
    mesh : Mesh
    """
    void = shell_roles(mesh).void
    if not void.any():
        return mesh
    label = mesh.shells.label
    within = hollow_at(mesh.faces[(label >= 0) & void[np.maximum(label, 0)]], len(mesh.vertices))
    if HOLLOW in mesh.attributes:
        within = replace(within, values=within.values | mesh.attributes[HOLLOW].values)
    return mesh.with_attribute(HOLLOW, within)


def _on_purpose(mesh: Mesh) -> np.ndarray:
    """Shells that are marked as hollows all over, bool, shape (S,)."""
    if HOLLOW not in mesh.attributes:
        return np.zeros(len(mesh.shells), dtype=bool)
    marked, label = mesh.attributes[HOLLOW].values[mesh.faces[:, 0]] > 0, mesh.shells.label
    own = label >= 0
    return np.bincount(label[own], ~marked[own], len(mesh.shells)) == 0


def _contained(mesh: Mesh, main: int) -> np.ndarray:
    """Closed shells that lie inside another one: a closed one of whichever side, or for those inward the main one too.

    Only shells whose box lies within another's are asked; bool, shape (S,).
    """
    shells, label = mesh.shells, mesh.shells.label
    low, high, spans = shells.box[:, 0], shells.box[:, 1], shells.spans
    closed = (shells.open_edges == 0) & (shells.volume != 0)
    contained = np.zeros(len(shells), dtype=bool)
    holds = closed.copy()
    holds[main] = True
    if not closed.any() or len(shells) < 2:
        return contained
    # a tree over the boxes of what may hold others: each box stands in as a triangle that spans it
    holders = np.flatnonzero(holds)
    corners = np.concatenate([low[holders], high[holders]])
    count = np.arange(len(holders), dtype=np.int32)
    stand_ins = np.stack([count, count + len(holders), count], axis=1).astype(np.int32)
    asked = np.flatnonzero(closed)
    points = mesh.vertices[mesh.faces[shells.first, 0]]
    pairs = triangles_in_boxes(build_tree(corners, stand_ins), points[asked], points[asked], polled_here())
    check_here()
    one, other = asked[pairs[:, 0]], holders[pairs[:, 1]]
    slack = 1e-6 * spans[other][:, None]
    fits = (one != other) & (spans[one] <= spans[other])
    fits &= ((low[one] >= low[other] - slack) & (high[one] <= high[other] + slack)).all(axis=1)
    # what faces outward in an open shell may be part of what it is open to
    fits &= closed[other] | (shells.volume[one] < 0)
    one, other = one[fits], other[fits]
    if len(one) == 0:
        return contained
    wanted, begin = np.unique(np.sort(other), return_index=True)
    one = one[np.argsort(other, kind="stable")]
    order = np.argsort(label, kind="stable") if len(wanted) > 1 else np.flatnonzero(label == wanted[0])
    sorted_label = label[order]
    first, last = (np.searchsorted(sorted_label, (wanted + k).astype(label.dtype)) for k in range(2))
    for low_end, high_end, group in zip(first, last, np.split(one, begin[1:]), strict=True):
        check_here()
        own = order[low_end:high_end]
        turns = winding_numbers(mesh.vertices, np.ascontiguousarray(mesh.faces[np.sort(own)]), points[group])
        contained[group] |= np.abs(turns) > 0.5
    return contained


def _second_skins(mesh: Mesh, main: int, asked: np.ndarray) -> np.ndarray:
    """Which of some shells lie along the main one, bool, shape (S,): close to it everywhere, and facing as it does.

    A scrap over a hole, or beside an open edge, lies along nothing.
    """
    shells, label = mesh.shells, mesh.shells.label
    found = np.zeros(len(shells), dtype=bool)
    low, high = shells.box[main]
    asked = asked & (shells.box[:, 0] >= low - 0.01 * mesh.diagonal).all(axis=1)
    asked &= (shells.box[:, 1] <= high + 0.01 * mesh.diagonal).all(axis=1)
    if not asked.any() or not (shells.triangles[asked] >= _FEWEST_OF_SKIN).any():
        return found
    own = np.ascontiguousarray(mesh.faces[label == main])
    tree = build_tree(mesh.vertices, own)
    at_edge = np.zeros(len(mesh.vertices), dtype=bool)
    half, corner = np.flatnonzero(mesh.twins == OPEN), mesh.faces.ravel()
    at_edge[corner[half]] = True
    rim = triangles_at(own, at_edge)
    for s in np.flatnonzero(asked & (shells.triangles >= _FEWEST_OF_SKIN)):
        check_here()
        triangles = np.flatnonzero(label == s)
        triangles = triangles[:: max(1, len(triangles) // _OUTLINE_POINTS)]
        corners = mesh.vertices[mesh.faces[triangles]]
        away, nearest, *_ = closest_points(tree, corners.mean(axis=1), polled_here())
        edge = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).mean()
        normals = face_vectors(mesh.vertices, mesh.faces[triangles])
        beneath = face_vectors(mesh.vertices, own[nearest])
        size = np.linalg.norm(normals, axis=1) * np.linalg.norm(beneath, axis=1)
        along = np.abs((normals * beneath).sum(axis=1)) >= _ALONG * size
        good = (away <= _CLOSE * edge) & along & ~rim[nearest]
        found[s] = good.mean() >= _NEARLY_ALL
    return found


def _against_the_main(mesh: Mesh, main: int, small: np.ndarray) -> np.ndarray:
    """Which of some small shells meet the main one, or lie along its open edges; bool, shape (S,)."""
    shells, label = mesh.shells, mesh.shells.label
    against = np.zeros(len(shells), dtype=bool)
    low, high = shells.box[main]
    near = small & (shells.box[:, 1] >= low).all(axis=1) & (shells.box[:, 0] <= high).all(axis=1)
    if near.any():
        wanted = np.append(near, False)  # the last one is for triangles without a shell
        pairs = meeting_pairs(mesh.vertices, mesh.faces, np.flatnonzero(wanted[label]), np.flatnonzero(label == main))
        against[label[pairs[:, 0]]] = True
    scraps = small & (shells.open_edges > 0) & (shells.area > _SCRAP_SHARE * shells.area[main])
    if scraps.any() and shells.open_edges[main]:
        share, _ = _share_along(mesh, scraps, np.arange(len(shells)) == main)
        against |= scraps & (share >= 0.5)
    return against


def _share_along(mesh: Mesh, shells: np.ndarray, others: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Share of some shells' open edges that lie within half an edge of other shells' open edges, and how many do.

    Parameters
    ----------
    mesh : Mesh
    shells, others : ndarray of bool, shape (S,)

    Returns
    -------
    share : ndarray, shape (S,)
    count : ndarray of int, shape (S,)
    """
    half = np.flatnonzero(mesh.twins == OPEN)
    corner, label = mesh.faces.ravel(), mesh.shells.label[half // 3]
    start, end = mesh.vertices[corner[half]], mesh.vertices[corner[half - half % 3 + (half + 1) % 3]]
    own = np.flatnonzero(shells[label])
    near = np.zeros(len(own), dtype=bool)
    reach = 0.5 * np.linalg.norm(end - start, axis=1)
    middle = 0.5 * (start + end)
    if np.array_equal(shells, others):  # the nearest open edge of another shell among them
        chosen = own
        distance, index = cKDTree(middle[chosen]).query(middle[own], k=min(4, len(chosen)))
        distance, index = distance.reshape(len(own), -1), index.reshape(len(own), -1)
        foreign = label[chosen][np.minimum(index, len(chosen) - 1)] != label[own][:, None]
        near = (foreign & (distance <= reach[own][:, None])).any(axis=1)
    else:
        chosen = np.flatnonzero(others[label])
        if len(chosen):
            distance, _ = cKDTree(middle[chosen]).query(middle[own])
            near = distance <= reach[own]
    count = np.bincount(label[own], weights=near, minlength=len(mesh.shells))
    total = np.bincount(label[own], minlength=len(mesh.shells))
    return count / np.maximum(total, 1), count.astype(np.int64)


def describe_chunks(mesh: Mesh, roles: Roles) -> str:
    """What a mesh's chunks might be, in one line: how many, their share of the area, and the question they raise.

    Parameters
    ----------
    mesh : Mesh
    roles : Roles
    """
    shells = mesh.shells
    asked = roles.chunk.copy()
    number = int(asked.sum())
    if number == 0:
        return ""
    share = float(shells.area[asked].sum() / max(shells.area.sum(), 1e-300))
    asked[roles.main] = True
    what = f"{percent(share)} of the area"
    if (shells.open_edges[asked] > 0).all():
        along, _ = _share_along(mesh, asked, asked)
        touching = int((along[asked] >= 0.3).sum())
        if touching > 1 and touching > 0.5 * number:
            return f"{grouped(number + 1)} shells that nearly touch: an unwelded scan? ({what} is not the largest)"
    if number < 1000 and _any_meet(mesh, asked):
        return f"{number + 1} shells that cross or touch: join them first ({what} is not the largest)"
    closed = asked & (shells.open_edges == 0)
    like = closed & (shells.area >= _LIKE * shells.area[roles.main])
    if like.sum() == number + 1:
        return f"{number + 1} solids of like size: export as {number + 1} shells? ({what} is not the largest)"
    chunks = "a chunk" if number == 1 else f"{grouped(number)} chunks"
    if shells.area[asked].max() < 1.01 * CHUNK_SHARE * shells.area[roles.main] or number > 50:
        return f"{chunks} beside the part, together {what}: part of it, or strays?"
    return f"{chunks} beside the part of {what}: part of it, or strays?"


def _any_meet(mesh: Mesh, chosen: np.ndarray) -> bool:
    """Whether any two of some shells meet."""
    shells, label = mesh.shells, mesh.shells.label
    for s in np.flatnonzero(chosen):
        apart = (shells.box[:, 0] > shells.box[s, 1]).any(axis=1) | (shells.box[:, 1] < shells.box[s, 0]).any(axis=1)
        others = chosen & ~apart & (shells.area >= shells.area[s])
        others[s] = False
        if others.any() and len(
            meeting_pairs(
                mesh.vertices, mesh.faces, np.flatnonzero(label == s), np.flatnonzero(np.append(others, False)[label])
            )
        ):
            return True
    return False


def find_strays(mesh: Mesh, roles: Roles) -> list[Finding]:
    """Findings for every shell that is not the part, largest first.

    Parameters
    ----------
    mesh : Mesh
    roles : Roles
    """
    shells = mesh.shells
    findings = []
    kinds = {
        Kind.VOID: roles.void, Kind.INNER: roles.inner, Kind.SKIN: roles.skin, Kind.CRUMB: roles.crumb,
        Kind.CHUNK: roles.chunk,
    }  # fmt: skip
    kind_of = {int(s): kind for kind, flags in kinds.items() for s in np.flatnonzero(flags)}
    found = np.array(sorted(kind_of), dtype=np.int64)
    points = _outlines(mesh, found)
    numbers = {"S": 0, "V": 0}
    for s in sorted(found, key=lambda s: -shells.area[s]):
        kind = kind_of[int(s)]
        letter = "V" if kind is Kind.VOID else "S"
        numbers[letter] += 1
        findings.append(
            Finding(
                id=f"{letter}{numbers[letter]}",
                kind=kind,
                text=kind.value,
                place=shells.box[s].mean(axis=0),
                size=float(np.linalg.norm(shells.box[s, 1] - shells.box[s, 0])),
                count=int(shells.triangles[s]),
                proposal="ask" if kind is Kind.CHUNK else "sweep",
                key=int(shells.first[s]),
                outline=points[s],
            )
        )
    return findings


def _outlines(mesh: Mesh, found: np.ndarray) -> dict[int, np.ndarray]:
    """A sample of points of each shell asked for."""
    wanted = np.zeros(len(mesh.shells) + 1, dtype=bool)
    wanted[found] = True
    triangles = np.flatnonzero(wanted[mesh.shells.label])
    order = triangles[np.argsort(mesh.shells.label[triangles], kind="stable")]
    bounds = np.searchsorted(mesh.shells.label[order], [found, found + 1])
    outlines = {}
    for s, begin, end in zip(found, *bounds, strict=True):
        own = order[begin:end]
        own = own[:: max(1, len(own) // _OUTLINE_POINTS)]
        outlines[int(s)] = mesh.vertices[mesh.faces[own, 0]]
    return outlines
