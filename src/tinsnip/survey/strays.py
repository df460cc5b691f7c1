"""The main shell, strays beside it and voids within it; and which strays may be part of the part."""

from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.remembered import remembered
from tinsnip.space.crossings import meeting_pairs
from tinsnip.space.winding import winding_numbers
from tinsnip.survey.finding import Finding, Kind
from tinsnip.words import grouped, percent

__all__ = ["CHUNK_SHARE", "CRUMBS_SHARE", "Roles", "describe_chunks", "find_strays", "shell_roles", "winding_of_shell"]

CHUNK_SHARE = 0.02
"""A stray of more than this share of the main shell's area may be part of the part: a chunk."""

CRUMBS_SHARE = 0.05
"""Strays that together make up more than this share of the whole area are all chunks."""

_OUTLINE_POINTS = 400
_SCRAP_SHARE = 1e-3
"""An open stray along the main shell's open edges is a rag of them up to this share of its area."""
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
    """

    main: int
    crumb: np.ndarray
    chunk: np.ndarray
    void: np.ndarray


@remembered
def shell_roles(mesh: Mesh) -> Roles:
    """Tell main shell, crumbs, chunks and voids apart.

    A void is a closed shell that faces inward and lies inside the main shell. A stray is a chunk when it has more than
    `CHUNK_SHARE` of the main shell's area, when it crosses or touches that or lies along its open edges, or when
    all strays together are more than `CRUMBS_SHARE` of the area; else a crumb.
    """
    shells = mesh.shells
    n = len(shells)
    if n == 0:
        none = np.zeros(0, dtype=bool)
        return Roles(-1, none, none, none)
    main = int(np.argmax(shells.area))
    void = np.zeros(n, dtype=bool)
    inward = (shells.open_edges == 0) & (shells.volume < 0)
    inward[main] = False
    reach = 1e-6 * shells.spans[main]
    within = (shells.box[:, 0] >= shells.box[main, 0] - reach).all(axis=1)
    within &= (shells.box[:, 1] <= shells.box[main, 1] + reach).all(axis=1)
    asked = np.flatnonzero(inward & within)
    points = mesh.vertices[mesh.faces[shells.first[asked], 0]]
    void[asked] = np.abs(winding_of_shell(mesh, main, points)) > 0.5
    stray = ~void
    stray[main] = False
    chunk = stray & (shells.area > CHUNK_SHARE * shells.area[main])
    small = stray & ~chunk
    if shells.area[small].sum() > CRUMBS_SHARE * shells.area.sum():
        chunk |= small
    elif small.any():
        chunk |= _against_the_main(mesh, main, small)
    return Roles(main, stray & ~chunk, chunk, void)


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
    """What a mesh's chunks might be, in one line: how many, their share of the area, and the question they raise."""
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
    """Findings for every stray and void, largest first."""
    shells = mesh.shells
    findings = []
    found = np.flatnonzero(roles.crumb | roles.chunk | roles.void)
    points = _outlines(mesh, found)
    numbers = {"S": 0, "V": 0}
    for s in sorted(found, key=lambda s: -shells.area[s]):
        letter = "V" if roles.void[s] else "S"
        numbers[letter] += 1
        kind = Kind.VOID if roles.void[s] else Kind.CRUMB if roles.crumb[s] else Kind.CHUNK
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


def winding_of_shell(mesh: Mesh, shell: int, points: np.ndarray) -> np.ndarray:
    """Winding numbers of one of a mesh's shells about points, shape (N,); see `winding_numbers`."""
    if len(points) == 0:
        return np.zeros(0)
    own = mesh.faces if len(mesh.shells) == 1 else np.ascontiguousarray(mesh.faces[mesh.shells.label == shell])
    return winding_numbers(mesh.vertices, own, points)
