"""Close a window: an opening through a wall, whose two sides hang together, becomes wall on both sides."""

from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.halfedges import fans_of
from tinsnip.mesh.measures import face_vectors, triangle_areas, triangles_at
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.treat.kit.handles import loops_round_handles
from tinsnip.treat.kit.patching import PatchStyle, Ring, patch_clear_of_the_part
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["CloseWindow"]

_TRIED = 6
_UPRIGHT = 0.64
"""Triangles are the opening's own wall where they make less than this cosine with its axis."""
_MOST_SHARE = 0.4
_MARK = "at a window that is closed"


class CloseWindow(Treatment):
    """Cut an opening's own wall away and patch what is open then on both sides; exactly that handle goes.

    What is left is as thick as the wall round it, as both patches flow on from their sides.
    """

    name: ClassVar[str] = "close-window"
    title: ClassVar[str] = "Close a window"
    changes_area: ClassVar[bool] = True
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
            closed = self._closed(mesh, shell, loop, context)
            if closed is not None:
                return closed
        raise BadInput("no opening that can be closed is near the place: there is none, or its wall runs on too far")

    def _closed(self, mesh: Mesh, shell: int, loop: np.ndarray, context: Context) -> Outcome | None:
        """The window round which a loop goes, closed; None where that is not what cutting its wall away leaves."""
        goes = _own_wall(mesh, loop)
        area = float(triangle_areas(mesh.vertices, mesh.faces[goes]).sum())
        if not goes.any() or area > _MOST_SHARE * mesh.shells.area[shell]:
            return None
        mark = np.zeros(len(mesh.vertices), dtype=np.uint8)
        mark[mesh.faces[goes]] = 1
        cut = keep_triangles(mesh.with_attribute(_MARK, Attribute(Domain.VERTEX, mark)), ~goes)
        on, cut = cut.attributes[_MARK].values > 0, cut.without_attribute(_MARK)
        if (fans_of(cut.faces, cut.twins, len(cut.vertices)) > 1).any() or len(cut.shells) != len(mesh.shells):
            return None
        corner = cut.faces.ravel()
        rings = [Ring.of(corner[cut.loops.loop(i)][::-1]) for i in range(len(cut.loops))]
        rings = [ring for ring in rings if on[ring.vertices].all()]
        if len(rings) != 2:
            return None
        styles = [PatchStyle(self.flow)] * 2
        patched, kept, tauter, crossed = patch_clear_of_the_part(cut, rings, styles, context)
        if _handles(mesh) - _handles(patched) != 1 or crossed.fresh:
            return None
        added = len(patched.faces) - kept
        text = f"Closed a window: {counted(int(goes.sum()), 'triangle')} of its wall out, {added} made"
        if tauter:
            text += f", {tauter} of the two patches drawn taut so as not to cross the part"
        figures = {"triangles": added, "gone_mm2": area, "tauter": tauter, "crossings": crossed.fresh}
        return Outcome(patched, text + crossed.said(), figures)


def _own_wall(mesh: Mesh, loop: np.ndarray) -> np.ndarray:
    """The triangles along a loop round an opening that stand upright to its plane, as far as they hang together."""
    points = mesh.vertices[loop]
    off = points - points.mean(axis=0)
    axis = np.cross(off, np.roll(off, -1, axis=0)).sum(axis=0)
    axis /= max(float(np.linalg.norm(axis)), 1e-300)
    normals = face_vectors(mesh.vertices, mesh.faces)
    size = np.linalg.norm(normals, axis=1)
    upright = np.abs(normals @ axis) < _UPRIGHT * size
    on_loop = np.zeros(len(mesh.vertices), dtype=bool)
    on_loop[loop] = True
    goes = triangles_at(mesh.faces, on_loop)
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
