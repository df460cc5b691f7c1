"""Orient: every triangle the same way round as its neighbours, the whole outward."""

from typing import ClassVar

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Lineage, Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import triangle_areas
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import check_here
from tinsnip.survey.enclosing import volumes_closed
from tinsnip.survey.holes import SHEET_LIKE, classify_boundaries
from tinsnip.survey.strays import CHUNK_SHARE, shell_roles
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.fans import split_fans
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Orient"]

_KNOT = 12
"""Steps over neighbours within which a knot of wrong triangles leads back to its own other side."""
_KNOTTED_AT_LEAST = 60
_NEARLY_CLOSED = 0.1
_BULGE = 0.005
"""Volume against area to the power of 3/2 from which a bulge is one; a sphere has 0.094, half of one 0.13."""


@kernel
def _root(parent, parity, f):
    """Root of a triangle's patch, and whether the triangle is turned against it."""
    side = 0
    while parent[f] != f:
        up = parent[f]
        if parent[up] != up:
            parity[f] ^= parity[up]
            parent[f] = parent[up]
        side ^= parity[f]
        f = parent[f]
    return f, side


@kernel
def _join_agreeing(corner, twins, parent, parity, size):
    """Join neighbours that already run the same way round; returns how many edges disagree."""
    flipped = 0
    for h in range(twins.shape[0]):
        t = twins[h]
        if t <= h:
            continue
        if corner[h] == corner[t]:
            flipped += 1
            continue
        a, _ = _root(parent, parity, h // 3)
        b, _ = _root(parent, parity, t // 3)
        if a != b:
            parent[max(a, b)] = min(a, b)
            size[min(a, b)] += size[max(a, b)]
    return flipped


@kernel
def _join_turned(half, twins, parent, parity, clash):
    """Join patches across edges that disagree, in the order given; mark edges that cannot be made to agree."""
    n_clash = 0
    for i in range(half.shape[0]):
        h = half[i]
        a, side_a = _root(parent, parity, h // 3)
        b, side_b = _root(parent, parity, twins[h] // 3)
        if a == b:
            if side_a == side_b:
                clash[h] = clash[twins[h]] = True
                n_clash += 1
        else:
            low, high = min(a, b), max(a, b)
            parent[high] = low
            parity[high] = side_a ^ side_b ^ 1
    return n_clash


@kernel
def _sides(parent, parity, turned):
    for f in range(parent.shape[0]):
        _, turned[f] = _root(parent, parity, f)


def _agree(mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """Which triangles to turn so that neighbours agree, bool (F,), and half-edges that cannot, bool (3 F,).

    Patches that agree within themselves are taken as they are; they are turned against one another over
    their longest common borders first, so that one wrong edge never turns a region.
    """
    count = len(mesh.faces)
    parent = np.arange(count, dtype=np.int32)
    parity = np.zeros(count, dtype=np.int8)
    size = np.ones(count, dtype=np.int32)
    clash = np.zeros(3 * count, dtype=bool)
    turned = np.zeros(count, dtype=np.int8)
    check_here()
    if _join_agreeing(mesh.faces.ravel(), mesh.twins, parent, parity, size):
        corner = mesh.faces.ravel()
        half = np.flatnonzero(mesh.twins > np.arange(3 * count))
        half = half[corner[half] == corner[mesh.twins[half]]]
        while (parent[parent] != parent).any():
            parent = parent[parent]
        ends = np.sort(np.column_stack([parent[half // 3], parent[mesh.twins[half] // 3]]), axis=1)
        pairs, which, border = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
        weight = np.minimum(size[pairs[:, 0]], size[pairs[:, 1]])
        order = np.lexsort((half, -weight[which], -border[which]))
        _join_turned(half[order], mesh.twins, parent, parity, clash)
        _sides(parent, parity, turned)
    return turned == 1, clash


def _turned(mesh: Mesh, flip: np.ndarray) -> Mesh:
    """The mesh with some triangles turned over; corner attributes go with their corners."""
    faces = mesh.faces.copy()
    faces[flip] = faces[flip][:, ::-1]
    triangles = np.arange(len(faces), dtype=np.int32)
    corners = 3 * triangles.astype(np.int64)[:, None] + np.where(flip[:, None], [2, 1, 0], [0, 1, 2])
    vertices = np.arange(len(mesh.vertices), dtype=np.int32)
    return mesh.derive(faces, Lineage(vertices, triangles, corners=corners.ravel()))


def _comes_back_turned(mesh: Mesh, half: int) -> bool:
    """Whether a short way over neighbours leads from a triangle back to it with the other side up.

    Where it does, a few wrong triangles are knotted together; where only long ways do, the surface has one side.
    """
    faces, twins = mesh.faces, mesh.twins
    start = (half // 3, 0)
    reached, front = {start}, [start]
    for _ in range(_KNOT):
        following = []
        for f, side in front:
            for k in range(3):
                t = int(twins[3 * f + k])
                if t < 0:
                    continue
                same_way = faces[f, k] == faces[t // 3, t % 3]
                state = (t // 3, side ^ int(same_way))
                if state == (start[0], 1):
                    return True
                if state not in reached:
                    reached.add(state)
                    following.append(state)
        front = following
    return False


def _refuse_one_sided(mesh: Mesh, clash: np.ndarray) -> None:
    """Say so where a surface of any size has one side only; small scraps of that kind are left to be swept."""
    shells = mesh.shells
    half = np.flatnonzero(clash)
    half = half[half < mesh.twins[half]]
    large = shells.area > CHUNK_SHARE * shells.area.max()
    half = half[large[shells.label[half // 3]]]
    for h in half[:: max(1, len(half) // 100)]:
        if shells.triangles[shells.label[h // 3]] < _KNOTTED_AT_LEAST or not _comes_back_turned(mesh, int(h)):
            count = int(shells.triangles[shells.label[h // 3]])
            raise BadInput(
                f"a surface of {counted(count, 'triangle')} has one side only, as a Moebius band or a Klein bottle "
                "has, and cannot be oriented; cut it apart where it turns over"
            )


class Orient(Treatment):
    """Turn triangles over until all agree, keeping what most of each shell says, and the whole outward.

    What was turned inside out on purpose keeps its side. A closed shell inside another is left facing the way
    it does: inward it is a void. An open one is judged by the side it bulges to beyond its rim.
    """

    name: ClassVar[str] = "orient"
    title: ClassVar[str] = "Orient outward"

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Orient all shells; the mesh must have no tangled edges.

        Raises
        ------
        BadInput
            When edges have three or more triangles, or a surface has one side only.
        """
        context.progress.step("Orienting")
        if mesh.edges.tangled:
            raise BadInput(f"{mesh.edges.tangled} tangled edges leave no clear side; mend the tangles first")
        cut, lost = 0, 0.0
        for attempt in range(4):
            flip, clash = _agree(mesh)
            context.progress.check()
            if not clash.any():
                break
            if attempt == 0:
                _refuse_one_sided(mesh, clash)
            cut += int(clash.sum()) // 2
            if attempt == 0:  # a knot of a few triangles comes apart along a line
                links = mesh.twins.copy()
                links[clash] = OPEN
                mesh = split_fans(mesh, links)[0]
            else:  # a single wrong edge goes with its triangles
                drop = np.zeros(len(mesh.faces), dtype=bool)
                drop[np.flatnonzero(clash) // 3] = True
                lost += float(triangle_areas(mesh.vertices, mesh.faces[drop]).sum())
                mesh = keep_triangles(mesh, ~drop)
                mesh = split_fans(mesh, mesh.twins)[0]
        shells = mesh.shells
        area = triangle_areas(mesh.vertices, mesh.faces)
        context.progress.check()
        against = np.bincount(shells.label[flip], weights=area[flip], minlength=len(shells)) > 0.5 * shells.area
        flip ^= against[shells.label]
        oriented = _turned(mesh, flip) if flip.any() else mesh
        for _ in range(
            0 if "inside-out" in mesh.attributes else 2
        ):  # a file that is inside out as a whole, then single shells
            wrong = _inside_out(oriented)
            if wrong.any():
                over = wrong[oriented.shells.label]
                oriented = _turned(oriented, over)
                flip ^= over
        count = int(flip.sum())
        if count == 0 and cut == 0:
            return Outcome(mesh, "Nothing to orient", Account(figures={"turned": 0, "cut": 0}))
        text = f"Turned {counted(count, 'triangle')}" + (f", cut {counted(cut, 'edge')}" if cut else "")
        return Outcome(oriented, text, Account(gone_mm2=lost, figures={"turned": count, "cut": cut}))


def _facing_of_rims(mesh: Mesh) -> np.ndarray:
    """How flat each shell's widest rim lies, shape (S,): the cosine between its plane and the surface along it.

    1 round a sheet, 0 where a wall ends.
    """
    facing = np.zeros(len(mesh.shells))
    boundaries = classify_boundaries(mesh)
    order = np.argsort(boundaries.span, kind="stable")
    facing[boundaries.shell[order]] = np.abs(boundaries.facing[order])  # the widest comes last
    return facing


def _inside_out(mesh: Mesh) -> np.ndarray:
    """Shells to turn over as a whole, bool, shape (S,).

    A closed shell is judged by its volume; an open one by that with its openings closed, when it is nearly closed or
    when it clearly bulges to the wrong side of a rim where its wall ends. A sheet with a dent in it is no such thing.
    """
    shells = mesh.shells
    is_open = shells.open_edges > 0
    negative = (shells.volume < 0) & ~is_open
    if is_open.any():
        volume, facing = volumes_closed(mesh), _facing_of_rims(mesh)
        gap = np.linalg.norm(shells.vector_area, axis=1) / np.maximum(shells.area, 1e-300)
        bulges = (facing < SHEET_LIKE) & (volume < -_BULGE * shells.area**1.5)
        negative |= is_open & (volume < 0) & ((gap < _NEARLY_CLOSED) | bulges)
    if not negative.any():
        return negative
    roles = shell_roles(mesh)
    if roles.main >= 0 and negative[roles.main]:
        return np.ones(len(shells), dtype=bool)
    negative[classify_boundaries(mesh).wall_shells] = False  # the inner side of a wall faces inward
    return negative & ~roles.void & ~roles.hollow
