"""Several meshes as one, their shells side by side."""

from collections.abc import Sequence

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import HOLLOW, Attribute, Domain, Mesh

__all__ = ["GREY", "put_together"]

GREY = 190
"""What has no colours of its own, among what has."""
_MARKS = ("inside-out", HOLLOW)


def put_together(meshes: Sequence[Mesh]) -> tuple[Mesh, list[str]]:
    """One mesh of all triangles of several, in order, and the attributes that could not come along.

    Colours come along where any mesh has them, grey where one has none. Numbers of groups and materials count through;
    what else not all of them have is left out.

    Parameters
    ----------
    meshes : sequence of Mesh
    """
    if sum(3 * len(m.faces) for m in meshes) > np.iinfo(np.int32).max:
        raise BadInput("the pieces are too large to be one; reduce them first")
    before = np.concatenate([[0], np.cumsum([len(m.vertices) for m in meshes])])
    faces = np.concatenate([m.faces + np.int32(b) for m, b in zip(meshes, before[:-1], strict=True)])
    vertices = np.concatenate([m.vertices for m in meshes])
    provenance = np.concatenate([m.provenance for m in meshes])
    attributes, left = {}, []
    materials = None  # the images of a texture are told apart by the numbers of their materials
    if all("material" in m.attributes and isinstance(m.attributes["material"].beside, tuple) for m in meshes):
        counts = [len(m.attributes["material"].beside) for m in meshes]
        materials = np.concatenate([[0], np.cumsum(counts)])[:-1].tolist()
    for name in dict.fromkeys(n for m in meshes for n in m.attributes):
        own = [m.attributes.get(name) for m in meshes]
        if name == "colour":
            grey = [np.full((len(m.vertices), 3), GREY, np.uint8) for m in meshes]
            values = [g if a is None else a.values for a, g in zip(own, grey, strict=True)]
            attributes[name] = Attribute(Domain.VERTEX, np.concatenate(values))
        elif all(a is not None for a in own) and len({(a.domain, a.values.shape[1:]) for a in own}) == 1:
            joined = _joined(own, materials)
            if joined is None:
                left.append(name)
            else:
                attributes[name] = joined
        elif name in _MARKS:  # which what does not have it has not
            kind = next(a.domain for a in own if a is not None)
            zeros = [np.zeros(len(m.vertices if kind is Domain.VERTEX else m.faces), np.uint8) for m in meshes]
            values = [z if a is None else a.values for a, z in zip(own, zeros, strict=True)]
            attributes[name] = Attribute(kind, np.concatenate(values))
        else:
            left.append(name)
    return Mesh(vertices, faces, provenance, attributes), left


def _joined(own: Sequence[Attribute], materials: Sequence[int] | None) -> Attribute | None:
    """One attribute of several, its numbers counting through where they stand for names or images."""
    besides = [a.beside for a in own]
    if all(b is None for b in besides):
        return Attribute(own[0].domain, np.concatenate([a.values for a in own]))
    if all(isinstance(b, tuple) for b in besides):
        starts = np.concatenate([[0], np.cumsum([len(b) for b in besides])])[:-1]
        values = [np.where(a.values < 0, a.values, a.values + s) for a, s in zip(own, starts, strict=True)]
        return Attribute(own[0].domain, np.concatenate(values).astype(own[0].values.dtype), sum(besides, ()))
    if materials is not None and all(isinstance(b, dict) for b in besides):
        images = {k + s: image for b, s in zip(besides, materials, strict=True) for k, image in b.items()}
        return Attribute(own[0].domain, np.concatenate([a.values for a in own]), images)
    return None
