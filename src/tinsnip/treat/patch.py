"""Patch: close holes with a surface of the density and slope round them."""

from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy import sparse
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors, triangles_at
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat.fairing import fair
from tinsnip.treat.filling import add_triangles, fill_loop
from tinsnip.treat.refining import refine_patch
from tinsnip.treat.treatment import Context, Outcome, Treatment, counted

__all__ = ["Patch"]

_TOO_FAR = 0.6


class Patch(Treatment):
    """Close holes; never the rim. Least-area triangles, refined and faired (Liepa 2003)."""

    name: ClassVar[str] = "patch"
    title: ClassVar[str] = "Patch holes"

    under_mm: float | None = Field(None, gt=0, description="only holes that span less than this, mm")
    flow: float = Field(1.0, ge=0, le=1, description="0 taut like a drum skin, 1 flowing on from the surroundings")
    holes: tuple[int, ...] | None = Field(None, description="only these holes, by their lowest half-edge")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Patch the holes chosen; every triangle that was there stays as it is.

        Raises
        ------
        BadInput
            When the mesh has tangled or flipped edges.
        """
        progress = context.progress
        progress.step("Finding holes")
        loops = mesh.loops
        boundaries = classify_boundaries(mesh)
        chosen = boundaries.is_hole.copy()
        if self.under_mm is not None:
            chosen &= boundaries.span < self.under_mm
        if self.holes is not None and len(chosen):
            lowest = np.minimum.reduceat(loops.halfedges, loops.start[:-1])
            chosen &= np.isin(lowest, self.holes)
        numbers = np.flatnonzero(chosen)
        if len(numbers) == 0:
            return Outcome(mesh, "No hole to patch", {"holes": 0, "triangles": 0})
        corner = mesh.faces.ravel()
        if mesh.edges.flipped or mesh.edges.tangled:
            raise BadInput("tangled or flipped edges leave the holes without a clear edge; mend and orient first")
        # a patch runs against the open half-edges
        rings = [corner[loops.loop(i)][::-1] for i in numbers]
        patched = _patch_rings(mesh, rings, self.flow, context)
        added = len(patched.faces) - len(mesh.faces)
        area = float(np.linalg.norm(face_vectors(patched.vertices, patched.faces[len(mesh.faces) :]), axis=1).sum())
        figures = {"holes": len(rings), "triangles": added, "area_mm2": area}
        return Outcome(patched, f"Patched {counted(len(rings), 'hole')}", figures)


def _edge_lengths_at(mesh: Mesh, on_ring: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Mean length of the edges at each flagged vertex, shape (V,), and the triangles that touch one."""
    touching = mesh.faces[triangles_at(mesh.faces, on_ring)]
    total = np.zeros(len(mesh.vertices))
    count = np.zeros(len(mesh.vertices))
    for k in range(3):
        a, b = touching[:, k], touching[:, (k + 1) % 3]
        length = np.linalg.norm(mesh.vertices[a] - mesh.vertices[b], axis=1)
        for v in (a, b):
            np.add.at(total, v, length)
            np.add.at(count, v, 1.0)
    return total / np.maximum(count, 1.0), touching


def _patch_rings(mesh: Mesh, rings: list[np.ndarray], flow: float, context: Context) -> Mesh:
    on_ring = np.zeros(len(mesh.vertices), dtype=bool)
    on_ring[np.concatenate(rings)] = True
    sigma, touching = _edge_lengths_at(mesh, on_ring)
    base = len(mesh.vertices)
    triangles: list[np.ndarray] = [np.array([r for r in rings if len(r) == 3], dtype=np.int64).reshape(-1, 3)]
    extra: list[np.ndarray] = []
    blends: list[sparse.csr_matrix] = []
    owner: list[np.ndarray] = []
    state = context.progress.step("Patching holes", len(rings))
    n_extra = 0
    for i, ring in enumerate(rings):
        context.progress.check()
        state[1] = i
        if len(ring) <= 3:  # two edges close by themselves, three are a triangle
            continue
        points = mesh.vertices[ring]
        found = fill_loop(points)
        points, found = refine_patch(points, found, sigma[ring], state)
        new = points[len(ring) :]
        number = np.concatenate([ring, base + n_extra + np.arange(len(new))])
        triangles.append(number[found])
        if len(new):
            extra.append(new)
            blends.append(_nearest(mesh, ring, new))
            owner.append(np.full(len(new), i))
            n_extra += len(new)
    context.progress.check()
    made = np.concatenate(triangles)
    if not extra:
        return add_triangles(mesh, made, np.empty((0, 3)))
    inner = np.concatenate(extra)
    owners = np.concatenate(owner)
    context.progress.step("Shaping the patches")
    inner = _shaped(mesh, touching, made, inner, owners, rings, flow)
    return add_triangles(mesh, made, inner, sparse.vstack(blends, format="csr"))


def _nearest(mesh: Mesh, ring: np.ndarray, points: np.ndarray) -> sparse.csr_matrix:
    """Weights by which new points take colour from the nearest vertices on the edge."""
    k = min(4, len(ring))
    distance, index = cKDTree(mesh.vertices[ring]).query(points, k=k)
    weight = 1.0 / np.maximum(distance, 1e-12) ** 2
    weight /= weight.sum(axis=1)[:, None]
    rows = np.repeat(np.arange(len(points)), k)
    return sparse.csr_matrix((weight.ravel(), (rows, ring[index].ravel())), shape=(len(points), len(mesh.vertices)))


def _shaped(
    mesh: Mesh,
    touching: np.ndarray,
    made: np.ndarray,
    inner: np.ndarray,
    owners: np.ndarray,
    rings: list[np.ndarray],
    flow: float,
) -> np.ndarray:
    """Fair all patches at once; one that runs away from its hole is drawn taut instead."""
    base = len(mesh.vertices)
    together = np.concatenate([touching.astype(np.int64), made])
    used, local = np.unique(together, return_inverse=True)
    local = local.reshape(-1, 3)
    known = used < base
    points = np.empty((len(used), 3))
    points[known] = mesh.vertices[used[known]]
    points[~known] = inner[used[~known] - base]
    on_edge = np.isin(used, np.concatenate(rings))
    placed = fair(points, local, ~known, on_edge, flow)[~known]
    runaway = np.zeros(len(rings), dtype=bool)
    span = np.array([np.linalg.norm(np.ptp(mesh.vertices[r], axis=0)) for r in rings])
    off = np.linalg.norm(placed - inner, axis=1)
    np.logical_or.at(runaway, owners, ~(off < _TOO_FAR * span[owners]))
    if runaway.any() and flow > 0:
        taut = fair(points, local, ~known, on_edge, 0.0)[~known]
        placed = np.where(runaway[owners][:, None], taut, placed)
    return placed
