"""Of a skin all round a sheet, the part that lies on one of its sides."""

import numpy as np

from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.halfedges import fans_of
from tinsnip.mesh.measures import face_vectors, triangles_at, vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import polled_here
from tinsnip.space.tree import build_tree, closest_points
from tinsnip.treat.kit.skins.recasting import Skin

__all__ = ["one_side"]

_ON_RIM = 1e-6
_CRUMB = 1e-3
"""Parts of the skin with no more than this share of its area are none."""
_MOST_TURNS = 100
"""Rounds of spreading from triangle to triangle."""


def _without_pinholes(whole: Mesh, chosen: np.ndarray, bends: np.ndarray) -> np.ndarray:
    """What is chosen, and what lies within it and is not, as in a deep fold, where the side is hard to tell.

    The other side is reached round the sheet's edge alone, so what has nothing that `bends` round it is none.
    """
    rest = np.flatnonzero(~chosen)
    if len(rest) == 0 or not chosen.any():
        return chosen
    part = parts_over_edges(whole.twins, rest)
    twin = whole.twins.reshape(-1, 3)[rest]
    beside = ((twin >= 0) & chosen[np.maximum(twin, 0) // 3]).any(axis=1)
    has_bend, has_neighbour = (np.bincount(part, flags) > 0 for flags in (bends[rest], beside))
    filled = chosen.copy()
    filled[rest[(has_neighbour & ~has_bend)[part]]] = True
    return filled


def one_side(mesh: Mesh, skin: Skin, sound: np.ndarray, before: bool, margin: float) -> Mesh:
    """The part of a skin that lies before a sheet, or behind it, without what bends round the sheet's edge.

    Parameters
    ----------
    mesh : Mesh
        The sheet.
    skin : Skin
        All round it, at one distance.
    sound : ndarray of int
        The sheet's triangle that each raw triangle of the skin is.
    before : bool
    margin : float
        How far what stays lies from the sheet's edge at least, on the sheet, mm.

    Returns
    -------
    Mesh
        With the attribute ``skin``: which vertex of the skin each one is.
    """
    corner, half = mesh.faces.ravel(), mesh.loops.halfedges
    ends = np.column_stack([corner[half], corner[half - half % 3 + (half + 1) % 3]])
    # the open edges stand in as triangles without area
    rim = build_tree(mesh.vertices, np.ascontiguousarray(ends[:, [0, 1, 1]], dtype=np.int32))
    from_rim, _ = closest_points(rim, skin.vertices, polled_here())
    inner = from_rim > skin.away * (1 + _ON_RIM)
    if margin:
        inner &= closest_points(rim, skin.foot, polled_here())[0] > margin
    triangle = sound[skin.nearest]
    normal = face_vectors(mesh.vertices, mesh.faces[triangle])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    normal += vertex_normals(mesh.vertices, mesh.faces)[mesh.faces[triangle]].mean(axis=1)
    front = np.einsum("ij,ij->i", skin.vertices - skin.foot, normal) > 0
    chosen = (inner & (front == before))[skin.faces].all(axis=1)
    number = Attribute(Domain.VERTEX, np.arange(len(skin.vertices)))
    whole = Mesh(skin.vertices, skin.faces, None, {"skin": number})
    bends = ~inner[skin.faces].all(axis=1)
    part = keep_triangles(whole, _without_pinholes(whole, chosen, bends))
    for _ in range(_MOST_TURNS):
        shells = part.shells
        keep = np.ones(len(part.faces), dtype=bool)
        if len(shells):
            keep = (shells.area > _CRUMB * shells.area.sum())[shells.label]
            pinched = fans_of(part.faces, part.twins, len(part.vertices)) > 1
            keep &= ~triangles_at(part.faces, pinched)
        if keep.all():
            break
        part = keep_triangles(part, keep)
    return part
