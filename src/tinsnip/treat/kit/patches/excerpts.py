"""A part of a mesh that is worked on instead of all of it, and put back: patches know only what lies near them."""

from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Attribute, Domain, Lineage, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.subsets import compact, keep_triangles
from tinsnip.progress import polled_here
from tinsnip.space.tree import triangles_in_boxes

__all__ = ["CUT", "Excerpt", "excerpt_of"]

CUT = "where the part was cut out"
"""An attribute of the vertices of a part: 1 where the whole goes on."""
_VERTEX, _TRIANGLE = "which vertex of the whole", "which triangle of the whole"
_ROWS = 14
"""Rows of triangles round a ring that are always in it: two more than patches look at."""
_ROUND = 0.35
"""By how much of its diagonal a ring's box is widened; on 60 scans no patch that kept clear rose so far."""
_LEAST = 400_000
"""Triangles of a mesh from which an excerpt pays."""
_MOST = 0.4
"""Share of the triangles; a larger part is no less work than the whole."""


class Excerpt(NamedTuple):
    """A part of a mesh.

    Attributes
    ----------
    whole : Mesh
    mesh : Mesh
        The part, marked with what it was in the whole.
    within : ndarray of bool, shape (F,)
        Which triangles of the whole are in it.
    number : ndarray of int32, shape (V,)
        Which vertex of the part each one of the whole is; -1 for none.
    boxes : ndarray, shape (2, R, 3)
        Lower and upper corners round its rings; all that reaches into them is in the part.
    """

    whole: Mesh
    mesh: Mesh
    within: np.ndarray
    number: np.ndarray
    boxes: np.ndarray

    def holds(self, patched: Mesh, kept: int) -> bool:
        """Whether the triangles that were added lie within the boxes, so that nothing beyond the part can meet them."""
        corners = patched.vertices[patched.faces[kept:]]
        low, high = corners.min(axis=1), corners.max(axis=1)
        fits = np.zeros(len(low), dtype=bool)
        for least, most in zip(*self.boxes, strict=True):
            fits |= ((low >= least) & (high <= most)).all(axis=1)
        return bool(fits.all())

    def put_back(self, patched: Mesh, kept: int) -> tuple[Mesh, int, np.ndarray]:
        """The whole with the part as it has become.

        Parameters
        ----------
        patched : Mesh
            The part, without some of its triangles perhaps, and with others after the first `kept`.
        kept : int

        Returns
        -------
        mesh : Mesh
        kept : int
            How many triangles of the whole, which come first, are left.
        number : ndarray of int, shape (F',)
            Which triangle of the result each one of `patched` is.
        """
        whole, count = self.whole, len(self.whole.vertices)
        old = int(patched.faces[:kept].max(initial=-1)) + 1
        of_vertex = patched.attributes[_VERTEX].values[:old].astype(np.int64)
        of_triangle = patched.attributes[_TRIANGLE].values[:kept].astype(np.int64)
        # a vertex that was split is another one from now on, but where the part was cut out: there it only seemed so
        first = np.full(count, -1, dtype=np.int64)
        first[of_vertex[::-1]] = np.arange(old)[::-1]
        cut = patched.attributes[CUT].values[:old] > 0
        copies = np.flatnonzero((first[of_vertex] != np.arange(old)) & ~cut)
        number = np.concatenate([of_vertex, count + len(copies) + np.arange(len(patched.vertices) - old)])
        number[copies] = count + np.arange(len(copies))
        faces = whole.faces.copy()
        faces[of_triangle] = number[patched.faces[:kept]]
        stays = ~self.within
        stays[of_triangle] = True
        left = np.flatnonzero(stays)
        place = np.full(len(whole.faces), -1, dtype=np.int64)
        place[left] = np.arange(len(left))
        fresh = len(patched.faces) - kept
        lineage = Lineage(
            np.concatenate([np.arange(count), of_vertex[copies], np.full(len(patched.vertices) - old, -1)]),
            np.concatenate([left, np.full(fresh, -1)]),
        )
        together = np.concatenate([faces[left], number[patched.faces[kept:]]]).astype(np.int32)
        places = np.concatenate([whole.vertices, patched.vertices[copies], patched.vertices[old:]])
        own = np.flatnonzero(~cut & (first[of_vertex] == np.arange(old)))
        places[of_vertex[own]] = patched.vertices[own]
        mesh = whole.derive(together, lineage, places)
        attributes = dict(mesh.attributes)
        for name, attribute in mesh.attributes.items():
            if attribute.domain is Domain.VERTEX and old < len(patched.vertices):
                values = attribute.values.copy()
                values[count + len(copies) :] = patched.attributes[name].values[old:]
                attributes[name] = Attribute(Domain.VERTEX, values, attribute.beside)
        provenance = mesh.provenance.copy()
        inner = ~cut[patched.faces[:kept]].any(axis=1)
        provenance[place[of_triangle[inner]]] = patched.provenance[:kept][inner]
        mesh = Mesh(mesh.vertices, mesh.faces, provenance, attributes)
        if len(left) < len(whole.faces) or len(copies):
            mesh = compact(mesh)
        return mesh, len(left), np.concatenate([place[of_triangle], len(left) + np.arange(fresh)])


def excerpt_of(mesh: Mesh, rings: list[np.ndarray]) -> Excerpt | None:
    """What lies near some rings, where that is little of the mesh; None where working on all of it is no more work.

    Parameters
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices.
    """
    if len(mesh.faces) < _LEAST or not rings:
        return None
    corners = [mesh.vertices[ring] for ring in rings]
    low, high = (np.array([getattr(points, end)(axis=0) for points in corners]) for end in ("min", "max"))
    wide = _ROUND * np.linalg.norm(high - low, axis=1)[:, None]
    boxes = np.stack([low - wide, high + wide])
    if np.prod(boxes[1] - boxes[0], axis=1).sum() > np.prod(mesh.size):
        return None
    within = np.zeros(len(mesh.faces), dtype=bool)
    at = np.zeros(len(mesh.vertices), dtype=bool)
    at[np.concatenate(rings)] = True
    for _ in range(_ROWS):
        within = triangles_at(mesh.faces, at)
        at[mesh.faces[within]] = True
    within[triangles_in_boxes(mesh.tree, *boxes, polled_here())[:, 1]] = True
    if within.sum() > _MOST * len(mesh.faces):
        return None
    beyond = np.zeros(len(mesh.vertices), dtype=bool)
    beyond[mesh.faces[~within]] = True
    marked = mesh.with_attribute(CUT, Attribute(Domain.VERTEX, beyond.astype(np.uint8)))
    marked = marked.with_attribute(_VERTEX, Attribute(Domain.VERTEX, np.arange(len(beyond), dtype=np.int32)))
    marked = marked.with_attribute(_TRIANGLE, Attribute(Domain.TRIANGLE, np.arange(len(within), dtype=np.int32)))
    part = keep_triangles(marked, within)
    number = np.full(len(mesh.vertices), -1, dtype=np.int32)
    number[part.attributes[_VERTEX].values] = np.arange(len(part.vertices), dtype=np.int32)
    return Excerpt(mesh, part, within, number, boxes)
