"""Triangles without height, taken out so that no gap is left."""

import numpy as np

from tinsnip.mesh import Domain, Lineage, Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.survey.tangles import degenerate_triangles

__all__ = ["join_needles_and_flip_caps"]


def join_needles_and_flip_caps(mesh: Mesh, flat: np.ndarray | None = None) -> Mesh:
    """Rid a mesh of triangles without height, bool, shape (F,), leaving no gap where they were; all by default.

    A needle's two near vertices become one; a cap's vertex on its longest edge is given to the triangle
    across; a cap on the boundary just goes.

    Parameters
    ----------
    mesh : Mesh
    flat : ndarray of bool, shape (F,), optional
    """
    if flat is None:
        flat = degenerate_triangles(mesh.vertices, mesh.faces) == 1
    flat = np.flatnonzero(flat)
    if len(flat) == 0:
        return mesh
    points = mesh.vertices[mesh.faces[flat]]
    lengths = np.linalg.norm(np.roll(points, -1, axis=1) - points, axis=2)
    shortest, longest = lengths.argmin(axis=1), lengths.argmax(axis=1)
    needle = lengths.min(axis=1) <= 1e-6 * lengths.max(axis=1)
    target = np.arange(len(mesh.vertices), dtype=np.int32)
    for f, k in zip(flat[needle], shortest[needle], strict=True):
        a, b = mesh.faces[f, k], mesh.faces[f, (k + 1) % 3]
        while target[a] != a:
            a = target[a]
        while target[b] != b:
            b = target[b]
        target[max(a, b)] = min(a, b)
    while (target[target] != target).any():
        target = target[target]
    faces = mesh.faces.copy()
    gone = np.zeros(len(faces), dtype=bool)
    touched = np.zeros(len(faces), dtype=bool)
    parent = np.arange(len(faces), dtype=np.int32)
    textured = any(a.domain is Domain.CORNER for a in mesh.attributes.values())
    corners = np.arange(3 * len(faces) if textured else 0).reshape(-1, 3)
    towards, lean = corners.copy(), np.zeros(corners.shape)
    for f, k in zip(flat[~needle], longest[~needle], strict=True):
        across = int(mesh.twins[3 * f + k])
        g, j = divmod(across, 3)
        if across == OPEN:
            gone[f] = True
        elif across >= 0 and not touched[f] and not touched[g]:
            a, b, c = (int(mesh.faces[f, (k + i) % 3]) for i in range(3))
            d = int(mesh.faces[g, (j + 2) % 3])
            same_way = mesh.faces[g, j] == a
            faces[f] = (c, a, d)
            faces[g] = (b, d, c) if same_way else (d, b, c)
            # the two lie where the one across lay, and take its values; the cap's own vertex lies on its edge
            parent[f] = g
            touched[f] = touched[g] = True
            if not textured:
                continue
            at_a, at_b, at_d = 3 * g + j, 3 * g + (j + 1) % 3, 3 * g + (j + 2) % 3
            if not same_way:
                at_a, at_b = at_b, at_a
            edge = mesh.vertices[b] - mesh.vertices[a]
            share = float(np.clip((mesh.vertices[c] - mesh.vertices[a]) @ edge / (edge @ edge), 0.0, 1.0))
            corners[f], towards[f], lean[f] = (at_a, at_a, at_d), (at_b, at_a, at_d), (share, 0, 0)
            two = (at_b, at_d) if same_way else (at_d, at_b)
            corners[g], towards[g], lean[g] = (*two, at_a), (*two, at_b), (0, 0, share)
    faces = target[faces]
    gone |= (faces[:, 0] == faces[:, 1]) | (faces[:, 1] == faces[:, 2]) | (faces[:, 2] == faces[:, 0])
    vertices = np.arange(len(mesh.vertices), dtype=np.int32)
    lineage = Lineage(vertices, parent)
    if textured:
        lineage = Lineage(vertices, parent, None, corners.ravel(), ((towards.ravel(), lean.ravel()),))
    changed = mesh.derive(faces, lineage)
    return keep_triangles(changed, ~gone)
