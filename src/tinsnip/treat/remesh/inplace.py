"""A place of a mesh meshed anew, at the cost of that place: all else stays to the bit."""

import numpy as np

from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import mean_edge
from tinsnip.mesh.quads import QUAD
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.regions.grow import grown
from tinsnip.survey.crossings import new_crossings
from tinsnip.treat.reduce.sheets import as_sheets
from tinsnip.treat.remesh.remesh import Remesh, anew

__all__ = ["remeshed_in_place"]

_ROWS = 2
"""Rows of triangles round the place that are looked at, and stay as they are."""


def remeshed_in_place(mesh: Mesh, chosen: np.ndarray, edge: float, fixed: np.ndarray, progress: Progress) -> Mesh:
    """The mesh with triangles of one edge length at a place; the very one where the new ones would cross each other.

    Open edges, sharp ones and the borders of what was made stay on their lines; colours, texture and provenance go
    along. The triangles of the place come last; a number that quads share is lost with the first that are new.

    Parameters
    ----------
    mesh : Mesh
    chosen : ndarray of int, shape (K,)
        The triangles of the place.
    edge : float
        In mm.
    fixed : ndarray of bool, shape (V,)
        Vertices that stay where they are.
    progress : Progress

    Returns
    -------
    Mesh
    """
    mesh = mesh.without_attribute(QUAD)
    is_chosen = np.zeros(len(mesh.faces), dtype=bool)
    is_chosen[chosen] = True
    around = np.flatnonzero(grown(mesh, is_chosen, _ROWS))
    part = keep_triangles(mesh, around)
    vertex = np.unique(mesh.faces[around])  # in the order in which they were kept
    held = ~is_chosen[around]
    sheets = as_sheets(part)
    size = np.full(len(part.vertices), edge)
    shortest = 0.25 * min(edge, mean_edge(part.vertices, part.faces))
    made = anew(part, sheets, size, held, fixed[vertex], Remesh().labels(part), progress, 0.0, shortest)
    if len(new_crossings(part, made)):
        return mesh
    return _put_back(mesh, around, vertex, part, made)


def _put_back(mesh: Mesh, around: np.ndarray, vertex: np.ndarray, part: Mesh, made: Mesh) -> Mesh:
    """The mesh with other triangles in place of some; the very one where it is not clear what they hang together by."""
    rest = np.ones(len(mesh.faces), dtype=bool)
    rest[around] = False
    outside = np.zeros(len(mesh.vertices), dtype=bool)
    outside[mesh.faces[rest]] = True
    shared = np.flatnonzero(outside[vertex])  # of the part's own vertices
    # a nought below nought and one above it are one place
    places = {(part.vertices[v] + 0.0).tobytes(): int(vertex[v]) for v in shared}
    base = len(mesh.vertices)
    to = base + np.arange(len(made.vertices))
    found = 0
    rim = np.zeros(len(made.vertices), dtype=bool)
    rim[np.flatnonzero(np.isin(made.vertices[:, 0], part.vertices[shared, 0]))] = True
    for v in np.flatnonzero(rim):
        other = places.get((made.vertices[v] + 0.0).tobytes())
        if other is not None:
            to[v], found = other, found + 1
    if len(places) != len(shared) or found != len(shared):
        return mesh  # several of its vertices lie at one place
    faces = np.concatenate([mesh.faces[rest], to[made.faces]]).astype(np.int32)
    attributes = {}
    for name, old in mesh.attributes.items():
        new = made.attributes[name].values
        kept = old.values
        if old.domain is Domain.TRIANGLE:
            kept = kept[rest]
        elif old.domain is Domain.CORNER:
            kept = kept.reshape(len(mesh.faces), 3, *kept.shape[1:])[rest].reshape(-1, *kept.shape[1:])
        attributes[name] = Attribute(old.domain, np.concatenate([kept, new]), old.beside)
    provenance = np.concatenate([mesh.provenance[rest], made.provenance])
    whole = Mesh(np.concatenate([mesh.vertices, made.vertices]), faces, provenance, attributes)
    return keep_triangles(whole, np.arange(len(faces)))
