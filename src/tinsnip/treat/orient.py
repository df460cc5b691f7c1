"""Orient: every triangle the same way round as its neighbours, the whole outward."""

from typing import ClassVar

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Lineage, Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.strays import shell_roles
from tinsnip.treat.fans import split_fans
from tinsnip.treat.treatment import Context, Outcome, Treatment, counted

__all__ = ["Orient"]


@kernel
def _spread(faces, twins, turned, clash, stack):
    """Decide from a seed in each shell which triangles are turned against it; mark edges that disagree."""
    corner = faces.ravel()
    n_clash = 0
    for seed in range(faces.shape[0]):
        if turned[seed] >= 0:
            continue
        turned[seed] = 0
        stack[0] = seed
        height = 1
        while height > 0:
            height -= 1
            f = stack[height]
            for k in range(3):
                h = 3 * f + k
                t = twins[h]
                if t < 0:
                    continue
                g = t // 3
                side = turned[f] if corner[h] != corner[t] else 1 - turned[f]
                if turned[g] < 0:
                    turned[g] = side
                    stack[height] = g
                    height += 1
                elif turned[g] != side:
                    clash[h] = True
                    n_clash += 1
    return n_clash


def _turned(mesh: Mesh, flip: np.ndarray) -> Mesh:
    """The mesh with some triangles turned over; corner attributes go with their corners."""
    faces = mesh.faces.copy()
    faces[flip] = faces[flip][:, ::-1]
    triangles = np.arange(len(faces), dtype=np.int32)
    corners = 3 * triangles.astype(np.int64)[:, None] + np.where(flip[:, None], [2, 1, 0], [0, 1, 2])
    vertices = np.arange(len(mesh.vertices), dtype=np.int32)
    return mesh.derive(faces, Lineage(vertices, triangles, corners=corners.ravel()))


class Orient(Treatment):
    """Turn triangles over until all agree, keeping what most of each shell says, and the whole outward.

    A closed shell inside another is left facing the way it does: inward it is a void. A surface that cannot
    be oriented (one-sided) is cut open along a line.
    """

    name: ClassVar[str] = "orient"
    title: ClassVar[str] = "Orient outward"

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Orient all shells; the mesh must have no tangled edges.

        Raises
        ------
        BadInput
            When edges have three or more triangles.
        """
        context.progress.step("Orienting")
        if mesh.edges.tangled:
            raise BadInput(f"{mesh.edges.tangled} tangled edges leave no clear side; mend the tangles first")
        cut = 0
        for attempt in range(3):
            turned = np.full(len(mesh.faces), -1, dtype=np.int8)
            clash = np.zeros(3 * len(mesh.faces), dtype=bool)
            stack = np.empty(max(1, len(mesh.faces)), dtype=np.int32)
            if not _spread(mesh.faces, mesh.twins, turned, clash, stack):
                break
            cut += int(clash.sum()) // 2
            if attempt == 0:
                links = mesh.twins.copy()
                links[clash] = OPEN
                mesh = split_fans(mesh, links)[0]
            else:
                drop = np.zeros(len(mesh.faces), dtype=bool)
                drop[np.flatnonzero(clash) // 3] = True
                mesh = keep_triangles(mesh, ~drop)
                mesh = split_fans(mesh, mesh.twins)[0]
        flip = turned == 1
        shells = mesh.shells
        area = np.linalg.norm(face_vectors(mesh.vertices, mesh.faces), axis=1)
        against = np.bincount(shells.label[flip], weights=area[flip], minlength=len(shells)) > 0.5 * shells.area
        flip ^= against[shells.label]
        oriented = _turned(mesh, flip) if flip.any() else mesh
        for _ in range(2):  # a file that is inside out as a whole, then single shells
            wrong = _inside_out(oriented)
            if wrong.any():
                over = wrong[oriented.shells.label]
                oriented = _turned(oriented, over)
                flip ^= over
        count = int(flip.sum())
        if count == 0 and cut == 0:
            return Outcome(mesh, "Nothing to orient", {"turned": 0, "cut": 0})
        text = f"Turned {counted(count, 'triangle')}"
        return Outcome(oriented, text + (f", cut {counted(cut, 'edge')}" if cut else ""), {"turned": count, "cut": cut})


def _inside_out(mesh: Mesh) -> np.ndarray:
    """Shells to turn over as a whole, bool, shape (S,).

    A closed shell is judged by its volume, an open one only when it is so nearly closed that its volume
    means something.
    """
    shells = mesh.shells
    gap = np.linalg.norm(shells.vector_area, axis=1) / np.maximum(shells.area, 1e-300)
    negative = (shells.volume < 0) & (gap < 0.1)
    if not negative.any():
        return negative
    roles = shell_roles(mesh)
    if roles.main >= 0 and negative[roles.main]:
        return np.ones(len(shells), dtype=bool)
    return negative & ~roles.void
