"""Close a window: an opening through a wall, whose two sides hang together, becomes wall on both sides."""

from collections.abc import Iterator
from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.halfedges import fans_of
from tinsnip.mesh.measures import face_vectors, triangle_areas, triangles_at
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.handles import loops_round_handles
from tinsnip.treat.kit.patches.patching import PatchStyle, Ring, patch_clear_of_the_part
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["CloseWindow"]

_TRIED = 6
_UPRIGHT = 0.64
"""Triangles are the opening's own wall where they make less than this cosine with its axis."""
_MOST_SHARE = 0.4
_REACHES = 1.0, 0.5, 0.25, 0.12, 0.06
"""Shares of the length round it, from the opening, that its wall is followed to where it runs on into other walls."""
_GONE, _RIM = 1, 2
_CRUMB = 0.01
"""Share of its shell's area below which what was cut off is a crumb."""
_ROUNDS = 12
"""Handles that are opened one after another."""
_MARK = "at a window that is closed"


class CloseWindow(Treatment):
    """Cut an opening's own wall away and patch what is open then on both sides; exactly that handle goes.

    What is left is as thick as the wall round it, as both patches flow on from their sides.
    """

    name: ClassVar[str] = "close-window"
    title: ClassVar[str] = "Close a window"
    takes_what_was_asked: ClassVar[bool] = True
    named_points: ClassVar[tuple[str, ...]] = ("at",)

    at: tuple[float, float, float] = Field((0.0, 0.0, 0.0), description="a place in the opening, or at its edge, mm")
    flow: float = Field(1.0, ge=0, le=1, description="shape of the patches: 0 taut, 1 flowing")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Close the window nearest to the place.

        Raises
        ------
        BadInput
            When the shell there has no handle, or none that can be closed so.
        """
        context.progress.step("Looking for the opening")
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave no clear way round the opening; mend and orient first")
        if len(mesh.faces) == 0:
            raise BadInput("the part is empty; there is no window to close")
        start = int(cKDTree(mesh.vertices).query(np.array(self.at, dtype=float))[1])
        at = triangles_at(mesh.faces, np.arange(len(mesh.vertices)) == start)
        if not at.any():
            raise BadInput("no surface is near the place; click at the edge of the opening")
        shell = int(mesh.shells.label[np.flatnonzero(at)[0]])
        context.progress.check()
        for loop in loops_round_handles(mesh, shell, start)[:_TRIED]:
            context.progress.check()
            for goes in _own_walls(mesh, loop):
                context.progress.check()
                closed = self._closed(mesh, shell, goes, context)
                if closed is not None:
                    return closed
        raise BadInput("no opening that can be closed is near the place: there is none, or its wall runs on too far")

    def _closed(self, mesh: Mesh, shell: int, goes: np.ndarray, context: Context) -> Outcome | None:
        """The window of a wall, closed; None where cutting that away leaves something else."""
        goes = _without_scraps(mesh, goes)
        area = float(triangle_areas(mesh.vertices, mesh.faces[goes]).sum())
        if not goes.any() or area > _MOST_SHARE * mesh.shells.area[shell]:
            return None
        mark = np.zeros(len(mesh.vertices), dtype=np.uint8)
        mark[mesh.faces[goes]] = _GONE
        rims = np.repeat(classify_boundaries(mesh).is_rim, np.diff(mesh.loops.start))
        mark[mesh.faces.ravel()[mesh.loops.halfedges[rims]]] |= _RIM
        cut = keep_triangles(mesh.with_attribute(_MARK, Attribute(Domain.VERTEX, mark)), ~goes)
        mark, cut = cut.attributes[_MARK].values, cut.without_attribute(_MARK)
        if (fans_of(cut.faces, cut.twins, len(cut.vertices)) > 1).any() or len(cut.shells) != len(mesh.shells):
            return None
        corner = cut.faces.ravel()
        rings = [Ring.of(corner[cut.loops.loop(i)][::-1]) for i in range(len(cut.loops))]
        rings = [ring for ring in rings if (mark[ring.vertices] & _GONE).any()]
        if len(rings) != 2 or any((mark[ring.vertices] & _RIM).any() for ring in rings):
            return None  # holes that the wall's edge runs into are closed with it, rims are not
        styles = [PatchStyle(self.flow)] * 2
        patched, kept, tauter, crossed = patch_clear_of_the_part(cut, rings, styles, context)
        if _handles(mesh) - _handles(patched) != 1 or crossed.fresh:
            return None
        # the same handle goes where what runs round the opening is severed: then there is less matter, not more
        middle = mesh.vertices[mesh.faces[goes]].mean(axis=(0, 1))
        filled = _signed_volume(patched.vertices - middle, patched.faces[kept:])
        filled -= _signed_volume(mesh.vertices - middle, mesh.faces[goes])
        is_inward = mesh.shells.open_edges[shell] == 0 and mesh.shells.volume[shell] < 0
        if kept != len(cut.faces) or (filled < 0) != is_inward:
            return None
        added = len(patched.faces) - kept
        text = f"Closed a window: {counted(int(goes.sum()), 'triangle')} of its wall out, {added} made"
        if tauter:
            text += f", {tauter} of the two patches drawn taut so as not to cross the part"
        account = Account(made_triangles=added, gone_mm2=area, crossings=crossed.fresh, figures={"tauter": tauter})
        return Outcome(patched, text + crossed.said(), account)


def _without_scraps(mesh: Mesh, goes: np.ndarray) -> np.ndarray:
    """The triangles that go, with the crumbs of surface among them and what would hang by a vertex; bool."""
    for _ in range(_ROUNDS):
        rest = np.flatnonzero(~goes)
        cut = keep_triangles(mesh, ~goes)
        hangs = fans_of(cut.faces, cut.twins, len(cut.vertices)) > 1
        shells, old = cut.shells, mesh.shells
        small = shells.area < _CRUMB * old.area[old.label[rest[shells.first]]]
        small &= shells.triangles < old.triangles[old.label[rest[shells.first]]]
        more = np.append(small, False)[shells.label] | triangles_at(cut.faces, hangs)
        if not more.any():
            break
        goes = goes.copy()
        goes[rest[more]] = True
    return goes


def _signed_volume(vertices: np.ndarray, faces: np.ndarray) -> float:
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    return float((np.cross(a, b) * c).sum() / 6)


def _own_walls(mesh: Mesh, loop: np.ndarray) -> Iterator[np.ndarray]:
    """The triangles along a loop round an opening that stand upright to its plane, as far as they hang together.

    And then, as an opening's wall may run on into others, ever less far from the loop.
    """
    points = mesh.vertices[loop]
    off = points - points.mean(axis=0)
    axis = np.cross(off, np.roll(off, -1, axis=0)).sum(axis=0)
    axis /= max(float(np.linalg.norm(axis)), 1e-300)
    normals = face_vectors(mesh.vertices, mesh.faces)
    size = np.linalg.norm(normals, axis=1)
    upright = np.abs(normals @ axis) < _UPRIGHT * size
    on_loop = np.zeros(len(mesh.vertices), dtype=bool)
    on_loop[loop] = True
    whole = _spread(mesh, triangles_at(mesh.faces, on_loop), upright)
    yield whole
    own = np.flatnonzero(whole)
    away, _ = cKDTree(points).query(mesh.vertices[mesh.faces[own]].mean(axis=1))
    length = float(np.linalg.norm(np.roll(points, -1, axis=0) - points, axis=1).sum())
    for share in _REACHES:
        near = np.zeros(len(whole), dtype=bool)
        near[own[away < share * length]] = True
        if near.sum() < whole.sum():
            yield _spread(mesh, triangles_at(mesh.faces, on_loop), near)


def _spread(mesh: Mesh, goes: np.ndarray, upright: np.ndarray) -> np.ndarray:
    """Triangles and, as far as they hang together with these, those of a lot; bool."""
    front = goes
    while front.any():
        half = (3 * np.flatnonzero(front)[:, None] + np.arange(3)).ravel()
        beside = mesh.twins[half]
        fresh = np.zeros(len(goes), dtype=bool)
        fresh[beside[beside >= 0] // 3] = True
        front = fresh & upright & ~goes
        goes = goes | front
    return goes


def _handles(mesh: Mesh) -> int:
    """How many handles all shells have together: what Euler's number lacks."""
    used = np.unique(mesh.faces)
    edges = (3 * len(mesh.faces) + mesh.edges.open) // 2
    euler = len(used) - edges + len(mesh.faces)
    return (2 * len(mesh.shells) - len(mesh.loops) - euler) // 2
