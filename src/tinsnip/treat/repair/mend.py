"""Mend: make every edge have at most two triangles and every vertex one fan."""

from typing import ClassVar

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.halfedges import ABSENT, OPEN, RING
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.shells import find_shells
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.tangles import degenerate_triangles, doubled_triangles, tangles_of
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.fans import split_fans
from tinsnip.treat.kit.joins.flats import join_needles_and_flip_caps
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Mend"]

_ROUNDS = 6
_ORIGIN = "shell before mending"
_FIN = 32
_FIN_SHARE = 1e-3
"""A fin has no more triangles, and no more of the largest shell's area, than this."""
_FEW = 2
_FEW_SHARE = 0.01
"""Of a coarse mesh, where a single triangle is more than that, so few triangles may have this share of the area."""


@kernel
def _pair_rings(corner, twins, sheet, size, normals, links):
    """Of the triangles round each tangled edge, link those two by two that best continue each other.

    Two sides of one large sheet come first, then the flatter fold. What is left over stays open.
    """
    ring = np.empty(256, dtype=np.int64)
    for h in range(twins.shape[0]):
        if twins[h] > RING or twins[h] == ABSENT or links[h] != ABSENT:
            continue
        n = 0
        i = np.int64(h)
        while n < 256:
            ring[n] = i
            n += 1
            i = np.int64(RING) - twins[i]
            if i == h:
                break
        for k in range(n):
            links[ring[k]] = OPEN
        while True:
            best = -1e30
            p, q = -1, -1
            for a in range(n):
                if links[ring[a]] != OPEN:
                    continue
                for b in range(a + 1, n):
                    if links[ring[b]] != OPEN:
                        continue
                    f, g = ring[a] // 3, ring[b] // 3
                    fold = 0.0
                    for k in range(3):
                        fold += normals[f, k] * normals[g, k]
                    opposite = corner[ring[a]] != corner[ring[b]]
                    if not opposite:
                        fold = -fold
                    score = fold + (0.5 if opposite else 0.0)
                    if sheet[f] == sheet[g]:
                        score += 4.0
                    score += 0.5 * np.log2(1.0 + min(size[sheet[f]], size[sheet[g]]))
                    if score > best:
                        best, p, q = score, a, b
            if p < 0:
                break
            links[ring[p]] = ring[q]
            links[ring[q]] = ring[p]


def _without_tangled_edges(mesh: Mesh) -> Mesh:
    twins = mesh.twins
    tangled = (twins <= RING) & (twins != ABSENT)
    bare = np.where(tangled, OPEN, twins).astype(np.int32)
    sheets = find_shells(mesh.vertices, mesh.faces, bare)
    at = np.unique(np.flatnonzero(tangled) // 3)
    own = face_vectors(mesh.vertices, mesh.faces[at])
    length = np.linalg.norm(own, axis=1)
    normals = np.zeros((len(mesh.faces), 3))
    normals[at] = own / np.where(length > 0, length, 1.0)[:, None]
    links = np.where(tangled, ABSENT, twins).astype(np.int32)
    _pair_rings(mesh.faces.ravel(), twins, sheets.label, sheets.triangles, normals, links)
    return split_fans(mesh, links)[0]


def _drop_worst(mesh: Mesh) -> Mesh:
    """Last resort for an edge that cannot be paired apart: keep its first two triangles only."""
    half = np.flatnonzero((mesh.twins <= RING) & (mesh.twins != ABSENT))
    corner = mesh.faces.ravel()
    ends = np.sort(np.column_stack([corner[half], corner[half - half % 3 + (half + 1) % 3]]), axis=1)
    _, ring = np.unique(ends, axis=0, return_inverse=True)
    order = np.argsort(ring, kind="stable")
    rank = np.arange(len(order)) - np.searchsorted(ring[order], ring[order])
    keep = np.ones(len(mesh.faces), dtype=bool)
    keep[half[order[rank >= 2]] // 3] = False
    return keep_triangles(mesh, keep)


class Mend(Treatment):
    """Drop degenerate and doubled triangles; split tangled edges and pinched vertices."""

    name: ClassVar[str] = "mend"
    title: ClassVar[str] = "Mend tangles"

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Mend every tangle; afterwards no edge has three triangles and no vertex two fans."""
        state = context.progress.step("Looking for tangles", _ROUNDS)
        before = tangles_of(mesh)
        knots = before.total - before.flipped_edges
        if knots == 0:
            return Outcome(mesh, "Nothing to mend", Account(figures={"tangles": 0}))
        origin = Attribute(Domain.TRIANGLE, mesh.shells.label)
        mended, lost = mesh.with_attribute(_ORIGIN, origin), 0.0

        def without_the_worst(mesh: Mesh) -> Mesh:
            nonlocal lost
            left = _drop_worst(mesh)
            lost += float(mesh.areas.sum() - left.areas.sum())
            return left

        for turn in range(_ROUNDS):
            context.progress.step("Mending tangles", _ROUNDS)
            state[1] = turn
            context.progress.check()
            flags = degenerate_triangles(mended.vertices, mended.faces)
            drop = (flags == 2) | doubled_triangles(mended.faces, mended.twins)
            if drop.any():
                mended = keep_triangles(mended, ~drop)
            mended = join_needles_and_flip_caps(mended) if turn < _ROUNDS - 1 else _drop_flat(mended)
            if mended.edges.tangled:
                mended = _without_tangled_edges(mended) if turn < _ROUNDS - 2 else without_the_worst(mended)
            mended = split_fans(mended, mended.twins)[0]
            after = tangles_of(mended)
            if after.total == after.flipped_edges:
                break
        else:
            while mended.edges.tangled:
                mended = without_the_worst(mended)
                mended = split_fans(mended, mended.twins)[0]
        mended, fins, area = _without_fins(mended, mesh)
        text = f"Mended {counted(knots, 'tangle')}" + (f", cut {counted(fins, 'fin')}" if fins else "")
        return Outcome(mended, text, Account(figures={"tangles": knots, "fins": fins, "torn_mm2": lost + area}))

    def lost_mm2(self, account: Account) -> float:
        return account.figures.get("torn_mm2", 0.0)  # a doubled triangle leaves the surface as it was


def _without_fins(mended: Mesh, before: Mesh) -> tuple[Mesh, int, float]:
    """Cut off what taking tangles apart has left hanging: open scraps of a few triangles of what was one shell.

    Returns
    -------
    mesh : Mesh
    count : int
    area : float
        Of what was cut off, mm2.
    """
    shells = mended.shells
    origin = mended.attributes[_ORIGIN].values
    attributes = {name: a for name, a in mended.attributes.items() if name != _ORIGIN}
    bare = Mesh(mended.vertices, mended.faces, mended.provenance, attributes)
    if len(shells) < 2:
        return bare, 0, 0.0
    came_from = origin[shells.first]
    fin = (shells.open_edges > 0) & (shells.triangles <= _FIN) & (came_from >= 0)
    fin &= shells.area < np.where(shells.triangles <= _FEW, _FEW_SHARE, _FIN_SHARE) * shells.area.max()
    fin &= shells.triangles < before.shells.triangles[came_from]
    if not fin.any():
        return bare, 0, 0.0
    return keep_triangles(bare, ~np.append(fin, False)[shells.label]), int(fin.sum()), float(shells.area[fin].sum())


def _drop_flat(mesh: Mesh) -> Mesh:
    flags = degenerate_triangles(mesh.vertices, mesh.faces)
    return keep_triangles(mesh, flags == 0) if flags.any() else mesh
