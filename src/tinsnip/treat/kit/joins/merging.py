"""Merging: part-scans that overlap become one surface, its better-measured parts, drawn together where they change."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Attribute, Domain, Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.halfedges import OPEN, fans_of, twin_table
from tinsnip.mesh.measures import corner_shares, triangle_areas, triangles_at, vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import check_here
from tinsnip.space.registration import Surface, ways_at
from tinsnip.space.tree import closest_points
from tinsnip.survey.bed import beds_of, triangles_on
from tinsnip.survey.crossings import crossings_of
from tinsnip.survey.surfaces import surface_of
from tinsnip.treat.kit.edges.fans import split_fans
from tinsnip.treat.kit.joins.sewing import sewn
from tinsnip.treat.kit.joins.together import put_together
from tinsnip.treat.kit.joins.untangling import untangle_crossings
from tinsnip.treat.kit.patches.filling import add_triangles, fill_loop
from tinsnip.treat.treatment import Context

__all__ = ["Merged", "merge_surfaces"]

_BAND = 10.0
"""Edges from a piece's own boundary over which it comes to count as fully measured."""
_BETTER, _LITTLE_BETTER = 1.1, 0.02
"""By how much better measured a later piece has to be to take over: or two that end at the same line would change
places all along it."""
_TOGETHER = 2.5
"""Edges within which two layers are the same surface; noise of a fifth of an edge takes 1.2 of it."""
_SCRAP = 200
"""Triangles up to which a piece of surface that is left between the layers is a stray."""
_SCRAP_COVERED = 0.3
_REACH = 4.0
"""Edges that a gap between what stays may be wide to be sewn."""
_HOLE = 60
"""Edges up to which what sewing leaves open is closed."""
_SEAM_SHARE = 0.6
"""Share of a small ring's vertices that lie at a seam, from which it is a gap in that and no hole of a piece."""
_BEHIND, _BEHIND_EDGES = 0.02, 4.0
"""Share of another piece that lies behind a bed, by so many edges, from which it is in the way."""
_THROUGH = 0.2
"""Share of all surface below which a shell that passes through others is left out."""
_ALONG = 0.2
"""Cosine of the angle between the faces of two layers from which they are the same surface."""


class Merged(NamedTuple):
    """Several pieces as one surface.

    Attributes
    ----------
    mesh : Mesh
    double_mm2 : float
        Surface that was there twice, of which one stays.
    largest_mm : float
        How far a vertex was drawn at most.
    seam_mm : float
        Length of the seams.
    seams : int
        Triangles of the seams.
    strays : int
        Pieces of surface between the layers that were left out.
    through_mm2 : float
        Area of small shells that were left out, as they pass through the rest: of a bed mostly.
    beds : int
        Beds of single pieces that were left out, as others show surface behind them.
    lost : list of str
        What was left out, as not all pieces have it.
    """

    mesh: Mesh
    double_mm2: float
    largest_mm: float
    seam_mm: float
    seams: int
    strays: int
    through_mm2: float
    beds: int
    lost: list[str]


class _Layer(NamedTuple):
    mesh: Mesh
    surface: Surface
    measured: np.ndarray
    """How well each vertex is measured: by how far it is from the boundary, and how dense; 0 to about 1."""


class _Met(NamedTuple):
    """What one layer's vertices find on another: places, how well measured they are, and where it is the same."""

    foot: np.ndarray
    measured: np.ndarray
    triangle: np.ndarray
    same: np.ndarray


def _layer(mesh: Mesh, finest: float) -> _Layer:
    surface = surface_of(mesh)
    measured = np.ones(len(mesh.vertices))
    open_half = np.flatnonzero(mesh.twins == OPEN)
    if len(open_half):
        rim = np.unique(np.concatenate(_ends(mesh, open_half)))
        reach = _BAND * surface.edge
        away = cKDTree(mesh.vertices[rim]).query(mesh.vertices, distance_upper_bound=reach)[0]
        measured = np.minimum(away / reach, 1.0)
    return _Layer(mesh, surface, measured * finest / surface.edge)


def _meet(one: _Layer, other: _Layer, within: float, state: np.ndarray) -> _Met:
    vertices = one.mesh.vertices
    count = len(vertices)
    foot, triangle = np.zeros((count, 3)), np.full(count, -1, dtype=np.int64)
    low, high = other.mesh.box + np.array([[-within], [within]])
    some = np.flatnonzero(((vertices >= low) & (vertices <= high)).all(axis=1))
    feet = np.empty((len(some), 3))
    _, found = closest_points(other.surface.tree, vertices[some], state, feet, within)
    check_here()
    foot[some], triangle[some] = feet, found
    met = np.flatnonzero(triangle >= 0)
    facing = ways_at(other.surface.normals, other.mesh.faces, triangle[met])
    same = np.zeros(count, dtype=bool)
    same[met] = ((facing * one.surface.normals[met]).sum(axis=1) > _ALONG) & ~other.surface.rim[triangle[met]]
    measured = np.zeros(count)
    corners = other.mesh.faces[triangle[same]]
    a, b, c = (other.surface.tree.vertices[corners[:, k]] for k in range(3))
    measured[same] = (other.measured[corners] * corner_shares(foot[same], a, b, c)).sum(axis=1)
    return _Met(foot, measured, triangle, same)


def merge_surfaces(meshes: Sequence[Mesh], context: Context) -> Merged:
    """Make one surface of several pieces that lie on each other.

    Where layers overlap, each vertex is drawn along the surface's normal to the mean of the layers, weighted by how
    well they are measured there: by the distance from each one's own boundary, and how dense it is. Of the layers the
    best measured stays; what lies between is sewn. After Turk and Levoy, Zippered polygon meshes from range images
    (SIGGRAPH 1994), with the layers drawn together before they are cut back instead of after.

    Parameters
    ----------
    meshes : sequence of Mesh
        In one frame.
    context : Context

    Raises
    ------
    BadInput
        When one has no surface.
    """
    if any(len(surface_of(mesh).points) == 0 for mesh in meshes):
        raise BadInput("one of the pieces has no surface; leave it out")
    meshes, beds = _without_beds_in_the_way(meshes)
    edges = [surface_of(mesh).edge for mesh in meshes]
    progress = context.progress
    state = progress.step("Looking where the pieces overlap", len(meshes) ** 2)
    layers = [_layer(mesh, min(edges)) for mesh in meshes]
    drawn, loses, covered, colours = [], [], [], []
    for i, layer in enumerate(layers):
        weight, goal = layer.measured.copy(), np.zeros((len(layer.mesh.vertices), 3))
        lost, over = np.zeros((2, len(weight)), dtype=bool)
        tint = None if layer.mesh.colour is None else layer.mesh.colour * weight[:, None]
        for j, other in enumerate(layers):
            if i == j:
                continue
            met = _meet(layer, other, _TOGETHER * max(edges[i], edges[j]), state)
            share = np.where(met.same, met.measured, 0.0)
            goal += share[:, None] * (met.foot - layer.mesh.vertices)
            weight += share
            over |= met.same
            first, second = (layer.measured, met.measured) if i < j else (met.measured, layer.measured)
            goes_over = second > _BETTER * first + _LITTLE_BETTER
            lost |= met.same & (goes_over if i < j else ~goes_over)
            if tint is not None:
                tint += share[:, None] * _colours_at(other.mesh, met, layer.mesh.colour)
            state[1] += 1
        off = goal / np.maximum(weight, 1e-12)[:, None]
        normals = layer.surface.normals.astype(np.float64)
        drawn.append((off * normals).sum(axis=1)[:, None] * normals * over[:, None])
        loses.append(lost)
        covered.append(over)
        colours.append(None if tint is None else tint / np.maximum(weight, 1e-12)[:, None])
    progress.step("Taking the better-measured surface")
    parts, double, strays, far = [], 0.0, 0, 0.0
    for layer, off, lost, over, colour in zip(layers, drawn, loses, covered, colours, strict=True):
        mesh = layer.mesh
        gone = triangles_at(mesh.faces, lost)
        scraps = _scraps(mesh, gone, over)
        strays += len(np.unique(scraps[scraps >= 0]))
        gone = _fit_to_be_sewn(mesh, gone | (scraps >= 0))
        double += float(triangle_areas(mesh.vertices, mesh.faces[gone]).sum())
        moved = (off != 0).any(axis=1)
        provenance = np.where(triangles_at(mesh.faces, moved) & (mesh.provenance == 0), SHIFTED, mesh.provenance)
        whole = mesh.moved(mesh.vertices + off, provenance.astype(np.uint8))
        if colour is not None:
            values = np.where(over[:, None], np.clip(np.rint(colour), 0, 255), mesh.colour).astype(np.uint8)
            whole = whole.with_attribute("colour", Attribute(Domain.VERTEX, values))
        part = keep_triangles(whole, ~gone)
        far = max(far, float(np.linalg.norm(off, axis=1).max()))
        if len(part.faces):
            parts.append(part)
    together, lost_names = put_together(parts)
    side = np.repeat(np.arange(len(parts)), [len(part.vertices) for part in parts])
    progress.step("Sewing the seams")
    return _sewn_up(
        together, side, max(edges), Merged(together, double, far, 0.0, 0, strays, 0.0, beds, lost_names), context
    )


def _without_beds_in_the_way(meshes: Sequence[Mesh]) -> tuple[list[Mesh], int]:
    """The pieces without the beds that others show surface behind: what one stood on in its own scan, and the thing
    itself has nothing of."""
    found, count = [], 0
    for i, mesh in enumerate(meshes):
        gone = np.zeros(len(mesh.faces), dtype=bool)
        for bed in beds_of(mesh):
            for j, other in enumerate(meshes):
                height = surface_of(other).points @ bed.normal - bed.offset
                if i != j and (height < -_BEHIND_EDGES * surface_of(mesh).edge).mean() > _BEHIND:
                    gone |= triangles_on(mesh, bed)
                    count += 1
                    break
        found.append(keep_triangles(mesh, ~gone) if gone.any() and not gone.all() else mesh)
    return found, count


def _colours_at(mesh: Mesh, met: _Met, own: np.ndarray) -> np.ndarray:
    values = own.astype(np.float64)
    if mesh.colour is not None:
        values[met.same] = mesh.colour[mesh.faces[met.triangle[met.same]]].mean(axis=1)
    return values


def _scraps(mesh: Mesh, gone: np.ndarray, over: np.ndarray) -> np.ndarray:
    """Small parts, numbered, that taking triangles out leaves between the layers; -1 for all else, shape (F,)."""
    label = np.full(len(mesh.faces), -1, dtype=np.int64)
    stays = np.flatnonzero(~gone)
    part = parts_over_edges(mesh.twins, stays)
    count = int(part.max()) + 1 if len(part) else 0
    if count == 0:
        return label
    size = np.bincount(part, minlength=count)
    share = np.bincount(part, over[mesh.faces[stays]].mean(axis=1), minlength=count) / np.maximum(size, 1)
    # what was a piece of its own before is no scrap of ours
    was = mesh.shells.label[stays]  # -1 for a triangle without area, which is in no shell
    whole = np.where(was >= 0, np.append(mesh.shells.triangles, 0)[was], 1)
    cut = np.bincount(part, whole, minlength=count) / np.maximum(size, 1) > size
    scrap = (size <= _SCRAP) & ((share > _SCRAP_COVERED) & (cut | (share > 0.9)))
    label[stays[scrap[part]]] = part[scrap[part]]
    return label


def _fit_to_be_sewn(mesh: Mesh, gone: np.ndarray) -> np.ndarray:
    """What has to go so that a seam has a line to run along: also what would hang by a corner, or by one edge, then."""
    gone, count = gone.copy(), len(mesh.vertices)
    touched, about = np.zeros((2, count), dtype=bool)
    for _ in range(20):
        touched[mesh.faces[gone]] = True
        about[mesh.faces[triangles_at(mesh.faces, touched)]] = True
        # one triangle further, so that all that those meet over edges is there
        own = np.flatnonzero(triangles_at(mesh.faces, about) & ~gone)
        faces = mesh.faces[own]
        twins = twin_table(faces, count)
        pinched = touched & (fans_of(faces, twins, count) > 1)
        lone = ((twins.reshape(-1, 3) == OPEN).sum(axis=1) > 1) & triangles_at(faces, touched)
        more = triangles_at(faces, pinched) | lone
        if not more.any():
            break
        gone[own[more]] = True
        check_here()
    return gone


def _sewn_up(mesh: Mesh, side: np.ndarray, edge: float, merged: Merged, context: Context) -> Merged:
    half = np.flatnonzero(mesh.twins == OPEN)
    if len(half) == 0:
        return merged
    edges = np.stack(_ends(mesh, half), axis=1)
    normals = vertex_normals(mesh.vertices, mesh.faces).astype(np.float64)
    triangles = sewn(mesh.vertices, normals, side, edges, _REACH * edge)
    if len(triangles) == 0:
        return merged
    corners = mesh.vertices[triangles]
    along = side[triangles] == side[np.roll(triangles, -1, axis=1)]
    length = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
    sewn_up = add_triangles(mesh, triangles, np.empty((0, 3)))
    provenance = sewn_up.provenance.copy()
    provenance[len(mesh.faces) :] = SHIFTED  # measured surface lies there, of which these are a coarser picture
    whole = Mesh(sewn_up.vertices, sewn_up.faces, provenance, sewn_up.attributes)
    whole = _closed_within_seams(whole, np.unique(triangles))
    whole, through = _without_what_passes_through(whole)
    cleared = untangle_crossings(whole, context)
    # along the seam run the edges that have one side at both ends, each side's once
    seam = 0.5 * float(length[along].sum())
    return merged._replace(mesh=cleared.mesh, seams=len(triangles), seam_mm=seam, through_mm2=through)


def _without_what_passes_through(mesh: Mesh) -> tuple[Mesh, float]:
    """Without small shells that cross others, and their area: what one scan shows there, the others show is not."""
    pairs = crossings_of(mesh).pairs
    if len(pairs) == 0:
        return mesh, 0.0
    shells = mesh.shells
    one, other = shells.label[pairs[:, 0]], shells.label[pairs[:, 1]]
    known = (one != other) & (one >= 0) & (other >= 0)
    lesser = np.where(shells.area[one] <= shells.area[other], one, other)[known]
    lesser = np.unique(lesser[shells.area[lesser] < _THROUGH * float(shells.area.sum())])
    if len(lesser) == 0:
        return mesh, 0.0
    return keep_triangles(mesh, ~np.isin(shells.label, lesser)), float(shells.area[lesser].sum())


def _ends(mesh: Mesh, half: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    corner = mesh.faces.ravel()
    return corner[half], corner[half - half % 3 + (half + 1) % 3]


def _closed_within_seams(mesh: Mesh, seam: np.ndarray) -> Mesh:
    """Close the small rings that sewing left open, and part what hangs together by a corner only."""
    on_seam = np.zeros(len(mesh.vertices), dtype=bool)
    on_seam[seam] = True
    fresh = []
    loops = mesh.loops
    for number in range(len(loops)):
        ring = _ends(mesh, loops.loop(number))[0]
        if 3 <= len(ring) <= _HOLE and len(np.unique(ring)) == len(ring) and on_seam[ring].mean() > _SEAM_SHARE:
            against = ring[::-1]
            fresh.append(against[fill_loop(mesh.vertices[against])])
    whole = add_triangles(mesh, np.concatenate(fresh), np.empty((0, 3))) if fresh else mesh
    return split_fans(whole, whole.twins)[0]
