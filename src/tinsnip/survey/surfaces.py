"""Surfaces made ready to be laid on each other: even normals, where they end, and points that bind them."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.evening import evened
from tinsnip.mesh.measures import spread_by_area, triangle_areas, vertex_normals
from tinsnip.mesh.remembered import is_known, remembered
from tinsnip.progress import check_here, polled_here
from tinsnip.space.registration import SAMPLES, Surface, ways_at
from tinsnip.space.tree import build_tree
from tinsnip.survey.bed import beds_of, triangles_on

__all__ = ["noise_of", "surface_of", "surface_without_bed"]

_PASSES = 10
"""By which noise of a fifth of an edge becomes one of a twentieth; with more, narrow ribs give way."""
_SPARE = 4
"""Points drawn for each that is kept, of which those are chosen that bind."""
_A_TRIANGLE, _LEAST = 2, 6_000
"""Points a triangle, at most, as more tell nothing new; but so many at least, as triangles may be large."""
_ROUNDS = 1
"""Rounds over which normals are evened out, besides the surface itself."""


@kernel
def _even_out(faces, normals, out):
    """One round of evening: each vertex takes what the triangles round it have in their corners."""
    out[:] = 0.0
    for f in range(faces.shape[0]):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        for k in range(3):
            total = normals[a, k] + normals[b, k] + normals[c, k]
            out[a, k] += total
            out[b, k] += total
            out[c, k] += total
    for v in range(out.shape[0]):
        length = np.sqrt(out[v, 0] ** 2 + out[v, 1] ** 2 + out[v, 2] ** 2)
        for k in range(3):
            normals[v, k] = out[v, k] / length if length > 0 else 0.0


@kernel
def _at_boundary(faces, twins, at, out):
    for h in range(twins.shape[0]):
        if twins[h] < 0:
            f, k = h // 3, h % 3
            at[faces[f, k]] = True
            at[faces[f, (k + 1) % 3]] = True
    for f in range(faces.shape[0]):
        out[f] = at[faces[f, 0]] or at[faces[f, 1]] or at[faces[f, 2]]


def _binding(points: np.ndarray, ways: np.ndarray) -> np.ndarray:
    """How much each point does towards binding all six ways, shape (N,): its leverage in the fit of a small move.

    After Gelfand et al., Geometrically stable sampling for the ICP algorithm (3DIM 2003): by leverage instead of by
    turns, which asks for no order.
    """
    about = points - points.mean(axis=0)
    reach = np.sqrt((about**2).sum(axis=1).mean()) or 1.0
    rows = np.concatenate([np.cross(about / reach, ways), ways], axis=1)
    values, axes = np.linalg.eigh(rows.T @ rows)
    held = values > 1e-4 * values[-1]
    return (((rows @ axes[:, held]) ** 2) / values[held]).sum(axis=1)


def _evened_out(mesh: Mesh) -> tuple[np.ndarray, np.ndarray, float]:
    """Where vertices are without noise, the normals there, and the noise as a standard deviation, mm."""
    before, after = evened(mesh, _PASSES, 0.5, None, polled_here())
    vertices = mesh.vertices + (after - before)
    normals = vertex_normals(vertices, mesh.faces)
    off = np.abs(((after - before) * normals).sum(axis=1))
    return vertices, normals, 1.4826 * float(np.median(off[off > 0])) if off.any() else 0.0


@remembered
def noise_of(mesh: Mesh) -> float:
    """The noise of a scan: how far its vertices lie off the surface as it runs on, as a standard deviation, mm.

    By the median, so that edges and spikes do not count; what is smaller than some edges and meant counts as noise.

    Parameters
    ----------
    mesh : Mesh
    """
    return surface_of(mesh).noise if is_known(mesh, surface_of) else _evened_out(mesh)[2]


@remembered
def surface_of(mesh: Mesh) -> Surface:
    """A mesh made ready to be laid on another, or another on it; of one without area it has no points.

    Parameters
    ----------
    mesh : Mesh
    """
    faces = mesh.faces
    vertices, normals, noise = _evened_out(mesh)
    spare = np.empty_like(normals)
    for _ in range(_ROUNDS):
        _even_out(faces, normals, spare)
        check_here()
    rim = np.zeros(len(faces), dtype=np.bool_)
    _at_boundary(faces, mesh.twins, np.zeros(len(vertices), dtype=np.bool_), rim)
    count = min(SAMPLES, max(_LEAST, _A_TRIANGLE * len(faces)))
    points, of = spread_by_area(vertices, faces, _SPARE * count)
    ways, weights = ways_at(normals, faces, of), np.empty(0)
    if len(points):
        binding = _binding(points, ways)
        chance = 0.5 / len(points) + 0.5 * binding / max(float(binding.sum()), 1e-300)
        # one half as the area has it, the other as it binds, shuffled: any beginning of them is such a choice too
        chosen = np.random.default_rng(1).choice(len(points), count, replace=False, p=chance / chance.sum())
        points, ways, weights = points[chosen], ways[chosen], 1.0 / chance[chosen]
    edge = float(np.sqrt(2.0 * np.median(triangle_areas(vertices, faces)))) if len(faces) else 0.0
    return Surface(build_tree(vertices, faces), normals, rim, points, ways, weights, mesh.diagonal, edge, noise)


@remembered
def surface_without_bed(mesh: Mesh) -> Surface:
    """As `surface_of`, but nothing of it is laid on the bed that the scan stands on, which is no part of the thing.

    Parameters
    ----------
    mesh : Mesh
    """
    surface = surface_of(mesh)
    beds = beds_of(mesh)
    if not beds or not len(surface.points):
        return surface
    at_bed, triangles = np.zeros(len(surface.points), dtype=bool), np.zeros(len(mesh.faces), dtype=bool)
    for bed in beds:
        triangles |= triangles_on(mesh, bed)
        at_bed |= surface.points @ bed.normal - bed.offset <= bed.above
    if at_bed.all():
        return surface
    kept = [values[~at_bed] for values in (surface.points, surface.ways, surface.weights)]
    return surface._replace(rim=surface.rim | triangles, points=kept[0], ways=kept[1], weights=kept[2])
