"""What the graphics card needs of a mesh, made off the window's thread."""

import functools
from dataclasses import dataclass, replace

import numpy as np

from tinsnip.app.state.footprint import Footprint, footprint_of
from tinsnip.mesh import MADE, SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.measures import triangles_at, vertex_normals
from tinsnip.mesh.proxy import Proxy, light_proxy
from tinsnip.mesh.quads import edges_without_diagonals
from tinsnip.mesh.shells import vertices_of_shells
from tinsnip.progress import Progress
from tinsnip.survey import Examination
from tinsnip.survey.deviation import FromRaw, deviation_from_raw

__all__ = [
    "HELD",
    "ViewBuffers",
    "ViewMarks",
    "lit_normals",
    "make_buffers",
    "make_marks",
    "make_speck",
    "measure_for_view",
    "with_ticked",
]

STRAY, HELD, VOID = 1, 2, 3
_FEW = 0.1
"""Share of the vertices up to which those that moved are made anew alone: with more it costs as much as all."""
_ON_THE_BED = 2e-3
"""A part whose lowest point is this close to z = 0, as a share of its size, stands on the bed."""
_TICKED = 8
"""Added to what a shell is where it is ticked to go."""


@dataclass(frozen=True, eq=False)
class ViewBuffers:
    """Arrays for one mesh; positions are relative to `origin`."""

    mesh: Mesh
    origin: np.ndarray
    places: np.ndarray  # float32 (V, 3)
    normals: np.ndarray  # float16 (V, 4)
    colours: np.ndarray  # uint8 (V, 4)
    faces: np.ndarray  # int32 (F, 3)
    proxy: Proxy | None  # a light stand-in; None: the mesh is light enough
    shadow: Footprint | None = None  # on the ground, where the part stands on it
    edges: np.ndarray | None = None  # int32 (E, 2), without the diagonals of quads; None: there are none

    @functools.cached_property
    def light_faces(self) -> np.ndarray:
        """The stand-in's triangles over the mesh's own vertices, int32, shape (P, 3)."""
        return self.faces if self.proxy is None else self.proxy.vertices[self.proxy.faces]

    @property
    def nbytes(self) -> int:
        """Memory held besides the mesh itself."""
        own = self.places.nbytes + self.normals.nbytes + self.colours.nbytes
        return own + (sum(a.nbytes for a in self.proxy) if self.proxy is not None else 0)


@dataclass(frozen=True, eq=False)
class ViewMarks:
    """What the shells of a mesh are: a role for each vertex (None: all main), and the triangles of voids."""

    mesh: Mesh
    roles: np.ndarray | None
    voids: np.ndarray


def make_marks(examination: Examination) -> ViewMarks:
    """The marks of what was found."""
    mesh, roles = examination.mesh, examination.roles
    of_shell = np.where(roles.within, VOID, np.where(roles.crumb | roles.chunk | roles.skin, STRAY, 0)).astype(np.uint8)
    if not of_shell.any():
        return ViewMarks(mesh, None, mesh.faces[:0])
    of_face = of_shell[mesh.shells.label]
    some = np.flatnonzero(of_face)
    marks = np.zeros(len(mesh.vertices), dtype=np.uint8)
    marks[mesh.faces[some].ravel()] = np.repeat(of_face[some], 3)
    return ViewMarks(mesh, marks, mesh.faces[of_face == VOID])


def with_ticked(marks: ViewMarks, triangles: list[int]) -> ViewMarks:
    """The marks with the shells of some triangles as ticked to go."""
    if marks.roles is None or not triangles:
        return marks
    mesh, shells = marks.mesh, marks.mesh.shells
    goes = np.zeros(len(shells), dtype=bool)
    goes[shells.label[triangles]] = True
    ticked = vertices_of_shells(shells, mesh.faces, len(mesh.vertices), goes)
    return replace(marks, roles=marks.roles | (ticked.view(np.uint8) * np.uint8(_TICKED)))


def make_light_buffers(
    vertices: np.ndarray, faces: np.ndarray, before: Mesh, source: np.ndarray, parent: np.ndarray
) -> ViewBuffers | None:
    """Buffers for the stand-in alone of a mesh that is still being made; None where it is light enough itself.

    Parameters
    ----------
    vertices : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    before : Mesh
        The mesh it is made from.
    source, parent : ndarray of int, shape (V,), (F,)
        The vertex and triangle of that mesh which each one comes from.
    """
    proxy = light_proxy(vertices, faces)
    if proxy is None:
        return None
    kinds = np.maximum(before.provenance[parent[proxy.source]], SHIFTED)
    light = Mesh(vertices[proxy.vertices], proxy.faces, kinds)
    if before.colour is not None:
        light = light.with_attribute("colour", Attribute(Domain.VERTEX, before.colour[source[proxy.vertices]]))
    return make_buffers(light, Progress())


def make_buffers(mesh: Mesh, progress: Progress, like: ViewBuffers | None = None) -> ViewBuffers:
    """Normals, colours and a proxy for a mesh.

    Parameters
    ----------
    mesh : Mesh
    progress : Progress
    like : ViewBuffers, optional
        Those of a mesh with the same triangles; where few vertices differ, only theirs are made anew.
    """
    progress.step("Preparing the view", 3)
    if like is not None:
        moved = np.flatnonzero((mesh.vertices != like.mesh.vertices).any(axis=1))
        same_paint = mesh.colour is like.mesh.colour
        if len(moved) < _FEW * len(mesh.vertices) and same_paint:
            return _moved_buffers(mesh, like, moved)
    origin = mesh.box.mean(axis=0)
    places = (mesh.vertices - origin).astype(np.float32)
    normals = np.zeros((len(places), 4), dtype=np.float16)
    lit = lit_normals(mesh.vertices, mesh.faces, mesh.provenance)
    normals[:, :3] = lit
    progress.check()
    colours = np.full((len(places), 4), 190, dtype=np.uint8)
    if mesh.colour is not None:
        colours[:, :3] = mesh.colour
    proxy = light_proxy(places, mesh.faces, normals=lit)
    progress.check()
    shadow = None
    if abs(mesh.box[0, 2]) < _ON_THE_BED * mesh.diagonal:
        shadow = footprint_of(*((places, mesh.faces) if proxy is None else (places[proxy.vertices], proxy.faces)))
    edges = edges_without_diagonals(mesh)
    return ViewBuffers(mesh, origin, places, normals, colours, mesh.faces, proxy, shadow, edges)


def lit_normals(vertices: np.ndarray, faces: np.ndarray, provenance: np.ndarray) -> np.ndarray:
    """Normals to light vertices by, float32, shape (V, 3): of what was made only where there is nothing else.

    So a flat base leaves no shade on the measured surface round it.
    """
    made = provenance == MADE
    normals = vertex_normals(vertices, faces)
    if made.any() and not made.all():
        measured = vertex_normals(vertices, faces[~made])
        known = measured.any(axis=1)
        normals[known] = measured[known]
    return normals


def _moved_buffers(mesh: Mesh, like: ViewBuffers, moved: np.ndarray) -> ViewBuffers:
    """Those of the same triangles where some vertices have moved."""
    flags = np.zeros(len(mesh.vertices), dtype=bool)
    flags[moved] = True
    lit = np.unique(mesh.faces[triangles_at(mesh.faces, flags)])  # their normals are others too
    flags[lit] = True
    near = triangles_at(mesh.faces, flags)
    own, corners = np.unique(mesh.faces[near], return_inverse=True)
    places, normals = like.places.copy(), like.normals.copy()
    places[moved] = mesh.vertices[moved] - like.origin
    fresh = lit_normals(mesh.vertices[own], corners.reshape(-1, 3).astype(np.int32), mesh.provenance[near])
    normals[lit, :3] = fresh[np.searchsorted(own, lit)]
    return replace(like, mesh=mesh, places=places, normals=normals)


def measure_for_view(
    mesh: Mesh, raw: Mesh, frame: np.ndarray, progress: Progress
) -> tuple[FromRaw, ViewBuffers | None]:
    """The deviation from raw, and buffers of the places it was measured at where these are not the mesh itself."""
    return with_places(deviation_from_raw(mesh, raw, frame, progress), progress)


def with_places(found: FromRaw, progress: Progress) -> tuple[FromRaw, ViewBuffers | None]:
    """A deviation, and buffers of the places it was measured at where these are not the mesh itself."""
    return found, None if found.places is found.mesh else make_buffers(found.places, progress)


def make_speck() -> ViewBuffers:
    """Buffers of a single triangle, to try a program on."""
    faces = np.arange(3, dtype=np.int32).reshape(1, 3)
    places, normals = np.eye(3, dtype=np.float32), np.zeros((3, 4), dtype=np.float16)
    mesh = Mesh(places.astype(np.float64), faces)
    return ViewBuffers(mesh, np.zeros(3), places, normals, np.full((3, 4), 190, dtype=np.uint8), faces, None)
