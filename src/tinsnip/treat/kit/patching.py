"""Patches over rings of open edges: filled, refined and faired, and kept clear of the surface round them."""

import numpy as np
from scipy import sparse
from scipy.spatial import cKDTree

from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import triangle_areas, triangles_at
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.singles import as_files_hold
from tinsnip.survey.holes import classify_boundaries
from tinsnip.treat.kit.clearance import Crossed, what_new_triangles_cross
from tinsnip.treat.kit.fairing import fair
from tinsnip.treat.kit.fans import split_fans
from tinsnip.treat.kit.filling import add_triangles, fill_loop
from tinsnip.treat.kit.refining import refine_patch
from tinsnip.treat.treatment import Context

__all__ = ["patch_clear_of_the_part", "patch_owners", "patch_rings"]

_TOO_FAR = 0.6
_ROUNDS = 8
_ON_RING = "on the edge of a hole"
_MOST_HANGING = 12
_HANGING_EDGES = 0.05
_HANGING_SHARE = 1e-3
"""Triangles a hole or an edge of its rim, and share of the whole area, that may go so that patches keep clear."""


def patch_clear_of_the_part(
    mesh: Mesh, rings: list[np.ndarray], flow: float, context: Context, rims: bool = False
) -> tuple[Mesh, int, np.ndarray, Crossed]:
    """Close rings with patches that keep clear of the surface and of each other, as far as that can be.

    A patch that would cross something is drawn taut, then left without inner vertices; where it still would, a few
    triangles that hang over the hole are taken away.

    Parameters
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices round each hole, against the open half-edges.
    flow : float
        0 taut to 1 flowing.
    context : Context
    rims : bool
        Whether the rings are rims, so that what is left of them after taking triangles away may be a rim too.

    Returns
    -------
    mesh : Mesh
    kept : int
        How many triangles of the mesh, which come first, are left.
    flows : ndarray
        The shape that each patch was given; -1 for one without inner vertices.
    crossed : Crossed
        What is crossed all the same.
    """
    patched, flows, crossed = _as_clear_as_may_be(mesh, rings, flow, context)
    kept = len(mesh.faces)
    found, again = patched, crossed
    for _ in range(_ROUNDS):
        if not again.fresh:
            break
        mesh, rings = _without_what_hangs_over(mesh, found, rings, again, rims)
        if not rings:
            break
        found, shapes, again = _as_clear_as_may_be(mesh, rings, flow, context)
        if again.fresh < crossed.fresh:
            patched, kept, flows, crossed = found, len(mesh.faces), shapes, again
    return patched, kept, flows, crossed


def _as_clear_as_may_be(
    mesh: Mesh, rings: list[np.ndarray], flow: float, context: Context
) -> tuple[Mesh, np.ndarray, Crossed]:
    """Patch, and draw those taut, or leave them without inner vertices, that would cross the part otherwise."""
    flows = np.full(len(rings), flow)
    best: tuple[Mesh, np.ndarray, Crossed] | None = None
    for _ in range(3):
        patched = patch_rings(mesh, rings, flows, context)
        crossed = what_new_triangles_cross(mesh, patched)
        if best is None or crossed.fresh < best[2].fresh:
            best = patched, flows.copy(), crossed
        pairs = crossed.pairs[~crossed.folded]
        wrong = patch_owners(mesh, patched, rings, np.unique(pairs[pairs >= len(mesh.faces)]))
        wrong = wrong[flows[wrong] >= 0]
        if len(wrong) == 0:
            break
        flows[wrong] = np.where(flows[wrong] > 0, 0.0, -1.0)
    return best


def _without_what_hangs_over(
    mesh: Mesh, patched: Mesh, rings: list[np.ndarray], crossed: Crossed, rims: bool
) -> tuple[Mesh, list[np.ndarray]]:
    """Take away the few triangles at the edges of holes that patches cross, and what hangs by a corner then.

    Returns
    -------
    mesh : Mesh
    rings : list of ndarray of int
        The holes as they are then; empty where there were too many such triangles.
    """
    old = len(mesh.faces)
    pairs = crossed.pairs[~crossed.folded]
    hanging = np.unique(pairs[pairs < old])
    if len(hanging) == 0:  # patches that cross each other, or fold, where their edge does
        at = np.zeros(len(patched.vertices), dtype=bool)
        at[patched.faces[np.unique(pairs)]] = True
        hanging = np.flatnonzero(triangles_at(mesh.faces, at[: len(mesh.vertices)]))
    on_ring = np.zeros(len(mesh.vertices), dtype=np.uint8)
    on_ring[np.concatenate(rings)] = 1
    on_ring[mesh.faces[hanging]] = 1
    area = triangle_areas(mesh.vertices, mesh.faces[hanging]).sum()
    most = max(_MOST_HANGING * len(rings), _HANGING_EDGES * sum(map(len, rings)))
    if len(hanging) > most or area > _HANGING_SHARE * mesh.areas.sum():
        return mesh, []
    keep = np.ones(old, dtype=bool)
    keep[hanging] = False
    rest = {name: a for name, a in mesh.attributes.items() if name != _ON_RING}
    tidied = keep_triangles(mesh.with_attribute(_ON_RING, Attribute(Domain.VERTEX, on_ring)), keep)
    tidied, _ = split_fans(tidied, tidied.twins)
    shells = tidied.shells
    scraps = (shells.open_edges > 0) & (shells.triangles <= 3)
    tidied = keep_triangles(tidied, ~np.append(scraps, False)[shells.label])
    mark = tidied.attributes[_ON_RING].values > 0
    own = {name: a for name, a in tidied.attributes.items() if name in rest}
    tidied = Mesh(tidied.vertices, tidied.faces, tidied.provenance, own)
    corner, loops, boundaries = tidied.faces.ravel(), tidied.loops, classify_boundaries(tidied)
    found = [corner[loops.loop(i)][::-1] for i in np.flatnonzero(boundaries.is_hole | (boundaries.is_rim & rims))]
    return tidied, [ring for ring in found if mark[ring].any()]


def patch_owners(mesh: Mesh, patched: Mesh, rings: list[np.ndarray], triangles: np.ndarray) -> np.ndarray:
    """Numbers of the patches that some made triangles belong to, by the ring their patch hangs on."""
    if len(triangles) == 0:
        return np.empty(0, dtype=np.int64)
    made = Mesh(patched.vertices, patched.faces[len(mesh.faces) :])
    label = made.shells.label
    owner = np.full(len(made.shells), -1, dtype=np.int64)
    ring_of = np.full(len(patched.vertices), -1, dtype=np.int64)
    for i, ring in enumerate(rings):
        ring_of[ring] = i
    corner_ring = ring_of[made.faces]
    hangs = corner_ring.max(axis=1)
    owner[label[hangs >= 0]] = hangs[hangs >= 0]
    found = owner[label[triangles - len(mesh.faces)]]
    return np.unique(found[found >= 0])


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


def patch_rings(mesh: Mesh, rings: list[np.ndarray], flows: np.ndarray, context: Context) -> Mesh:
    """Close rings with patches of the density round them.

    Parameters
    ----------
    mesh : Mesh
    rings : list of ndarray of int
        Vertices round each hole, against the open half-edges.
    flows : ndarray, shape (R,)
        Shape of each patch, 0 taut to 1 flowing; -1 for one without inner vertices.
    context : Context
    """
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
        if flows[i] >= 0:
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
    inner = as_files_hold(_shaped(mesh, touching, made, inner, owners, rings, flows), mesh.diagonal)
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
    flows: np.ndarray,
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
    flow = float(flows.max())
    placed = fair(points, local, ~known, on_edge, flow)[~known]
    runaway = flows < flow  # to be drawn taut in any case
    span = np.array([np.linalg.norm(np.ptp(mesh.vertices[r], axis=0)) for r in rings])
    off = np.linalg.norm(placed - inner, axis=1)
    np.logical_or.at(runaway, owners, ~(off < _TOO_FAR * span[owners]))
    if runaway.any() and flow > 0:
        taut = fair(points, local, ~known, on_edge, 0.0)[~known]
        placed = np.where(runaway[owners][:, None], taut, placed)
    return placed
