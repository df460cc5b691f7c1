"""The main shell, strays beside it and voids within it."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.winding import winding_number
from tinsnip.survey.finding import Finding, Kind

__all__ = ["CRUMB_SHARE", "Roles", "find_strays", "shell_roles"]

CRUMB_SHARE = 0.05
"""A stray whose span is below this share of the main shell's is a crumb; above it a chunk."""

_OUTLINE_POINTS = 400


class Roles(NamedTuple):
    """What each shell is; all arrays have shape (S,) and exclude one another.

    Attributes
    ----------
    main : int
        The shell of the largest area; -1 when there is none.
    crumb, chunk, void : ndarray of bool
    """

    main: int
    crumb: np.ndarray
    chunk: np.ndarray
    void: np.ndarray


def shell_roles(mesh: Mesh) -> Roles:
    """Tell main shell, crumbs, chunks and voids apart.

    A void is a closed shell that faces inward and lies inside the main shell.
    """
    shells = mesh.shells
    n = len(shells)
    if n == 0:
        none = np.zeros(0, dtype=bool)
        return Roles(-1, none, none, none)
    main = int(np.argmax(shells.area))
    spans = shells.spans
    void = np.zeros(n, dtype=bool)
    inward = (shells.open_edges == 0) & (shells.volume < 0)
    inward[main] = False
    reach = 1e-6 * spans[main]
    within = (shells.box[:, 0] >= shells.box[main, 0] - reach).all(axis=1)
    within &= (shells.box[:, 1] <= shells.box[main, 1] + reach).all(axis=1)
    for s in np.flatnonzero(inward & within):
        point = mesh.vertices[mesh.faces[shells.first[s], 0]]
        turns = winding_number(mesh.vertices, mesh.faces, shells.label, main, point)
        void[s] = abs(turns) > 0.5
    stray = ~void
    stray[main] = False
    small = spans < CRUMB_SHARE * spans[main]
    return Roles(main, stray & small, stray & ~small, void)


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
                text="inner skin" if kind is Kind.VOID else kind.value,
                place=shells.box[s].mean(axis=0),
                size=float(np.linalg.norm(shells.box[s, 1] - shells.box[s, 0])),
                count=int(shells.triangles[s]),
                proposal="sweep",
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
