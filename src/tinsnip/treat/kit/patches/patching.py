"""Patches over holes: filled, refined and shaped, and kept clear of the surface round them."""

import contextlib
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas, triangles_at, vertex_normals
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.space.singles import as_files_hold
from tinsnip.survey.holes import classify_boundaries
from tinsnip.survey.islands import islands_of
from tinsnip.threads import cores
from tinsnip.treat.kit.edges.fans import split_fans
from tinsnip.treat.kit.patches.banding import zipped
from tinsnip.treat.kit.patches.clearance import Crossed, what_new_triangles_cross
from tinsnip.treat.kit.patches.excerpts import CUT, excerpt_of
from tinsnip.treat.kit.patches.fairing import fair
from tinsnip.treat.kit.patches.filling import add_triangles, fill_loop, joined_loops
from tinsnip.treat.kit.patches.refining import refine_patch
from tinsnip.treat.kit.patches.shaping import heights_over, laid_over_plane, taut_over
from tinsnip.treat.kit.patches.surroundings import rows_round
from tinsnip.treat.treatment import Context

__all__ = [
    "PatchSketch",
    "PatchStyle",
    "Ring",
    "patch_clear_of_the_part",
    "patch_owners",
    "patch_rings",
    "rings_of",
]

_TOO_FAR = 0.6
_ROWS = 12
"""Rows round a hole from which a patch flows on."""
_SAME_SIDE = 0.25
_FEW_AROUND = 20
"""Of these only vertices facing as the patch does, by this cosine, where there are so many."""
_ROUNDS = 8
_ON_RING = "on the edge of a hole"
_MOST_HANGING = 12
_HANGING_EDGES = 0.05
_HANGING_SHARE = 1e-3
"""Triangles a hole or an edge of its rim, and share of the whole area, that may go so that patches keep clear."""


class Ring(NamedTuple):
    """What a patch hangs in: a loop of vertices, against the open half-edges, and after it those of islands within.

    Attributes
    ----------
    vertices : ndarray of int, shape (N,)
    bounds : ndarray of int, shape (L + 1,)
        Where each loop begins, and N.
    is_band : bool
        Whether it is a mouth: two loops side by side, with a band from one to the other.
    """

    vertices: np.ndarray
    bounds: np.ndarray
    is_band: bool = False

    @classmethod
    def of(cls, *loops: np.ndarray, is_band: bool = False) -> "Ring":
        """Of the outer loop, and those of islands in it."""
        return cls(np.concatenate(loops), np.cumsum([0, *map(len, loops)]), is_band)


def rings_of(mesh: Mesh, numbers: Iterable[int]) -> list[Ring]:
    """What patches of some holes, numbers of boundary loops, hang in: islands are left as they are, and joined.

    Parameters
    ----------
    mesh : Mesh
    numbers : iterable of int
    """
    corner, loops, islands, mouth = mesh.faces.ravel(), mesh.loops, islands_of(mesh), classify_boundaries(mesh).mouth
    return [
        Ring.of(*(corner[loops.loop(j)][::-1] for j in (i, *islands.get(int(i), ()))), is_band=bool(mouth[i] >= 0))
        for i in numbers
    ]


class PatchStyle(NamedTuple):
    """How a hole is patched.

    Attributes
    ----------
    flow : float
        0 taut like a drum skin to 1 flowing on from the surroundings.
    on_plane : bool
        On the plane of the hole instead.
    rise : float
        How far its middle is pushed out, mm.
    fewest : bool
        Without inner vertices.
    """

    flow: float = 1.0
    on_plane: bool = False
    rise: float = 0.0
    fewest: bool = False

    def plainer(self) -> "PatchStyle | None":
        """The next style that is tried where a patch crosses something; None after the last."""
        if self.fewest:
            return None
        is_taut = self.flow == 0 and not self.on_plane and self.rise == 0
        return PatchStyle(0.0, fewest=True) if is_taut else PatchStyle(0.0)


def patch_clear_of_the_part(
    mesh: Mesh, rings: list[Ring], styles: list[PatchStyle], context: Context, rims: bool = False
) -> tuple[Mesh, int, int, Crossed]:
    """Close rings with patches that keep clear of the surface and of each other, as far as that can be.

    A patch that would cross something is drawn taut, then left without inner vertices; where it still would, a few
    triangles that hang over the hole are taken away.

    Parameters
    ----------
    mesh : Mesh
    rings : list of Ring
    styles : list of PatchStyle
        One for each.
    context : Context
    rims : bool
        Whether the rings are rims, so that what is left of them after taking triangles away may be a rim too.

    Returns
    -------
    mesh : Mesh
    kept : int
        How many triangles of the mesh, which come first, are left.
    plainer : int
        How many patches had to be given a plainer style.
    crossed : Crossed
        What is crossed all the same.
    """
    plain = not rims and all(len(ring.bounds) == 2 and not ring.is_band for ring in rings)
    part = excerpt_of(mesh, [ring.vertices for ring in rings]) if plain else None
    if part is not None:
        with contextlib.suppress(_NotApart):
            own = [Ring(part.number[ring.vertices], ring.bounds) for ring in rings]
            patched, kept, plainer, crossed = _clear_of_the_part(part.mesh, own, styles, context, rims, mesh)
            if part.holds(patched, kept):
                patched, kept, number = part.put_back(patched, kept)
                return patched, kept, plainer, crossed._replace(pairs=number[crossed.pairs].astype(np.int32))
    return _clear_of_the_part(mesh, rings, styles, context, rims, mesh)


class _NotApart(Exception):
    """What happens at a ring reaches beyond the part of the mesh that is looked at."""


def _clear_of_the_part(
    mesh: Mesh, rings: list[Ring], styles: list[PatchStyle], context: Context, rims: bool, whole: Mesh
) -> tuple[Mesh, int, int, Crossed]:
    """As `patch_clear_of_the_part`, in a mesh that may be a part of the whole."""
    patched, plainer, crossed = _as_clear_as_may_be(mesh, rings, styles, context, whole)
    kept = len(mesh.faces)
    found, again = patched, crossed
    for _ in range(_ROUNDS):
        if not again.fresh:
            break
        mesh, rings, came_from = _without_what_hangs_over(mesh, found, rings, again, rims, whole)
        if not rings:
            break
        styles = [styles[i] for i in came_from]
        found, count, again = _as_clear_as_may_be(mesh, rings, styles, context, whole)
        if again.fresh < crossed.fresh:
            patched, kept, plainer, crossed = found, len(mesh.faces), count, again
    return patched, kept, plainer, crossed


def _as_clear_as_may_be(
    mesh: Mesh, rings: list[Ring], styles: list[PatchStyle], context: Context, whole: Mesh
) -> tuple[Mesh, int, Crossed]:
    """Patch, and draw those taut, or leave them without inner vertices, that would cross the part otherwise."""
    now, known = list(styles), _Known.of(mesh, rings, styles)
    best: tuple[Mesh, int, Crossed] | None = None
    for _ in range(3):
        patched, sheets = patch_rings(mesh, rings, now, context, known, whole.diagonal)
        crossed = what_new_triangles_cross(mesh, patched, sheets)
        if best is None or crossed.fresh < best[2].fresh:
            best = patched, sum(one != other for one, other in zip(styles, now, strict=True)), crossed
        pairs = crossed.pairs[~crossed.folded]
        wrong = patch_owners(mesh, patched, rings, np.unique(pairs[pairs >= len(mesh.faces)]))
        wrong = [i for i in wrong if now[i].plainer() is not None]
        if not wrong:
            break
        for i in wrong:
            now[i] = now[i].plainer()
    return best


def _without_what_hangs_over(
    mesh: Mesh, patched: Mesh, rings: list[Ring], crossed: Crossed, rims: bool, whole: Mesh
) -> tuple[Mesh, list[Ring], list[int]]:
    """Take away the few triangles at the edges of holes that patches cross, and what hangs by a corner then.

    Returns
    -------
    mesh : Mesh
    rings : list of Ring
        The holes as they are then; empty where there were too many such triangles.
    came_from : list of int
        Which ring before each is what is left of.
    """
    old = len(mesh.faces)
    pairs = crossed.pairs[~crossed.folded]
    hanging = np.unique(pairs[pairs < old])
    if len(hanging) == 0:  # patches that cross each other, or fold, where their edge does
        at = np.zeros(len(patched.vertices), dtype=bool)
        at[patched.faces[np.unique(pairs)]] = True
        hanging = np.flatnonzero(triangles_at(mesh.faces, at[: len(mesh.vertices)]))
    on_ring = np.zeros(len(mesh.vertices), dtype=np.int32)
    for i, ring in enumerate(rings, 1):
        on_ring[ring.vertices] = i
    beside = on_ring[mesh.faces[hanging]].max(axis=1)
    on_ring[mesh.faces[hanging]] = np.maximum(on_ring[mesh.faces[hanging]], beside[:, None])
    area = triangle_areas(mesh.vertices, mesh.faces[hanging]).sum()
    most = max(_MOST_HANGING * len(rings), _HANGING_EDGES * sum(len(ring.vertices) for ring in rings))
    if len(hanging) > most or area > _HANGING_SHARE * whole.areas.sum():
        return mesh, [], []
    keep = np.ones(old, dtype=bool)
    keep[hanging] = False
    tidied = keep_triangles(mesh.with_attribute(_ON_RING, Attribute(Domain.VERTEX, on_ring)), keep)
    tidied, _ = split_fans(tidied, tidied.twins)
    shells = tidied.shells
    scraps = (shells.open_edges > 0) & (shells.triangles <= 3)
    if CUT in tidied.attributes:  # what is small there is the edge of something larger
        label = np.append(scraps, False)
        at_cut = shells.label[tidied.attributes[CUT].values[tidied.faces].any(axis=1)]
        label[at_cut] = False
        scraps = label[:-1]
    tidied = keep_triangles(tidied, ~np.append(scraps, False)[shells.label])
    mark, tidied = tidied.attributes[_ON_RING].values, tidied.without_attribute(_ON_RING)
    if CUT in tidied.attributes:
        return tidied, *_rings_in_part(tidied, mark)
    boundaries = classify_boundaries(tidied)
    found = rings_of(tidied, np.flatnonzero(boundaries.is_hole | (boundaries.is_rim & rims)))
    found = [ring for ring in found if mark[ring.vertices].any()]
    return tidied, found, [int(mark[ring.vertices].max()) - 1 for ring in found]


def _rings_in_part(mesh: Mesh, mark: np.ndarray) -> tuple[list[Ring], list[int]]:
    """What is left of marked holes in a part of a mesh, and which one each is left of.

    Raises
    ------
    _NotApart
        When one has come to where the part ends, or is not one loop any more.
    """
    corner, loops, cut = mesh.faces.ravel(), mesh.loops, mesh.attributes[CUT].values
    found, came_from = [], []
    for i in range(len(loops)):
        ring = corner[loops.loop(i)][::-1]
        if mark[ring].any():
            found.append(Ring.of(ring))
            came_from.append(int(mark[ring].max()) - 1)
            if cut[ring].any():
                raise _NotApart
    if len(set(came_from)) < len(came_from):
        raise _NotApart
    return found, came_from


def patch_owners(mesh: Mesh, patched: Mesh, rings: list[Ring], triangles: np.ndarray) -> np.ndarray:
    """Numbers of the patches that some made triangles belong to, by the ring their patch hangs on.

    Parameters
    ----------
    mesh : Mesh
    patched : Mesh
    rings : list of Ring
    triangles : ndarray of int, shape (K,)
        Of the patched mesh.
    """
    if len(triangles) == 0:
        return np.empty(0, dtype=np.int64)
    made = Mesh(patched.vertices, patched.faces[len(mesh.faces) :])
    label = made.shells.label
    owner = np.full(len(made.shells), -1, dtype=np.int64)
    ring_of = np.full(len(patched.vertices), -1, dtype=np.int64)
    for i, ring in enumerate(rings):
        ring_of[ring.vertices] = i
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


class _Patched(NamedTuple):
    """One patch: its points, those of the ring first, its triangles, and values carried over from the ring."""

    points: np.ndarray
    triangles: np.ndarray
    values: np.ndarray
    is_laid: bool


class _Surroundings:
    """What patches are told about the surface round their rings."""

    def __init__(self, mesh: Mesh, rings: list[Ring], styles: list[PatchStyle]) -> None:
        self.mesh, self.rings = mesh, rings
        every = [ring.vertices for ring in rings]
        on_ring = np.zeros(len(mesh.vertices), dtype=bool)
        on_ring[np.concatenate(every)] = True
        self.sigma, self.touching = _edge_lengths_at(mesh, on_ring)
        needed = any(style.flow > 0 and not style.on_plane and not style.fewest for style in styles)
        self.around = rows_round(mesh, every, _ROWS) if needed else [np.empty(0, dtype=np.int64)] * len(rings)
        near = np.zeros(len(mesh.vertices), dtype=bool)
        near[np.concatenate(self.around)] = True
        self.upright = vertex_normals(mesh.vertices, mesh.faces[triangles_at(mesh.faces, near)]) if needed else None
        ring_of = np.full(len(mesh.vertices), -1, dtype=np.int64)
        for i, ring in enumerate(rings):
            ring_of[ring.vertices] = i
        vectors = face_vectors(mesh.vertices, self.touching)
        self.normals = vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]
        # a triangle counts where it has an edge, or a corner, on the ring
        owner = ring_of[self.touching].max(axis=1)
        self.order = np.argsort(owner, kind="stable")
        self.begin = np.searchsorted(owner[self.order], np.arange(len(rings) + 1))
        vertex = [a for a in mesh.attributes.values() if a.domain is Domain.VERTEX]
        self.values = np.concatenate([a.values.reshape(len(a.values), -1) for a in vertex], axis=1) if vertex else None

    def normals_at(self, ring: int) -> np.ndarray:
        return self.normals[self.order[self.begin[ring] : self.begin[ring + 1]]]


def _patch(known: _Surroundings, i: int, style: PatchStyle, state: np.ndarray) -> _Patched:
    """Fill one ring, over its plane where it has one; else with least area, to be shaped later."""
    vertices, (ring, bounds, is_band) = known.mesh.vertices, known.rings[i]
    points, sigma = vertices[ring], known.sigma[ring]
    own = np.zeros((len(ring), 0)) if known.values is None else known.values[ring].astype(np.float64)
    laid = None if is_band else laid_over_plane(points, known.normals_at(i), sigma, style.fewest, state, bounds)
    if laid is not None:
        around = known.around[i]
        if len(around):  # what lies round a sharp edge is another side of the part
            same = known.upright[around] @ laid.axes[2] > _SAME_SIDE
            around = around[same] if same.sum() >= _FEW_AROUND else around
        heights = heights_over(laid, points, vertices[around], style.flow, style.on_plane, style.rise)
        placed = laid.middle + laid.flat @ laid.axes[:2] + heights[:, None] * laid.axes[2]
        values = taut_over(laid, len(ring), own) if own.shape[1] else own[:0]
        return _Patched(placed, laid.triangles, values, True)
    loops = [np.arange(a, b) for a, b in pairwise(bounds)]
    if is_band:
        found = zipped(points, loops[0][::-1], loops[1])  # both run as the patch is wound
    else:
        round_it = joined_loops(points, loops)
        found = round_it[fill_loop(points[round_it])]
    if not style.fewest:
        points, found = refine_patch(points, found, sigma, state)
    return _Patched(points, found, own[:0], False)


class _Known(NamedTuple):
    """What is known of some rings.

    Attributes
    ----------
    surroundings : _Surroundings
        What lies round them.
    patches : dict
        Their patches by ring and style, before they are shaped.
    lots : ndarray of int, shape (R,)
        Rings that have vertices in common are of one lot: their patches are shaped together.
    shaped : dict
        What a lot's inner vertices were shaped to, by its rings, their styles, and how far any patch flows.
    """

    surroundings: _Surroundings
    patches: dict[tuple[int, PatchStyle], _Patched]
    lots: np.ndarray
    shaped: dict[tuple, list[np.ndarray]]

    @classmethod
    def of(cls, mesh: Mesh, rings: list[Ring], styles: list[PatchStyle]) -> "_Known":
        """Nothing but what lies round them."""
        number = np.repeat(np.arange(len(rings)), [len(ring.vertices) for ring in rings])
        _, at = np.unique(np.concatenate([ring.vertices for ring in rings]), return_inverse=True)
        touch = sparse.csr_matrix((np.ones(len(at)), (number, at)))
        lots = connected_components(touch @ touch.T, directed=False)[1]
        return cls(_Surroundings(mesh, rings, styles), {}, lots, {})


class PatchSketch:
    """Patches of some rings, made again and again in other styles; neither joined to the mesh nor looked over.

    Parameters
    ----------
    mesh : Mesh
    rings : list of Ring
    """

    def __init__(self, mesh: Mesh, rings: list[Ring]) -> None:
        self._rings = [ring for ring in rings if len(ring.vertices) > 3]
        self._known = _Surroundings(mesh, self._rings, [PatchStyle()] * len(self._rings)) if self._rings else None

    def corners(self, style: PatchStyle, state: np.ndarray) -> np.ndarray:
        """Corners of all triangles in a style, mm, shape (T, 3, 3)."""
        made = [_patch(self._known, i, style, state) for i in range(len(self._rings))]
        return np.concatenate([np.zeros((0, 3, 3)), *(patch.points[patch.triangles] for patch in made)])


def patch_rings(
    mesh: Mesh,
    rings: list[Ring],
    styles: list[PatchStyle],
    context: Context,
    known: _Known | None = None,
    diagonal: float | None = None,
) -> tuple[Mesh, np.ndarray]:
    """Close rings with patches of the density round them.

    Parameters
    ----------
    mesh : Mesh
    rings : list of Ring
    styles : list of PatchStyle
        One for each.
    context : Context
    known : _Known, optional
        What was found out and made for these rings before, in styles that are not plainer; what is made is added.
    diagonal : float, optional
        Of the whole, mm, where the mesh is a part of one.

    Returns
    -------
    mesh : Mesh
    sheets : ndarray of int
        For each new triangle the ring whose patch it is of, if that lies over a plane; else -1.
    """
    base, state = len(mesh.vertices), context.progress.step("Patching holes", len(rings))
    small = [ring.vertices for ring in rings if len(ring.vertices) == 3]
    triangles = [np.array(small, dtype=np.int64).reshape(-1, 3)]
    some = [i for i, ring in enumerate(rings) if len(ring.vertices) > 3]  # two edges close by themselves
    all_known = known or _Known.of(mesh, rings, styles)
    known, there = all_known.surroundings, all_known.patches
    context.progress.check()
    with ThreadPoolExecutor(cores()) as pool:
        asked = [i for i in some if (i, styles[i]) not in there]
        waiting = [pool.submit(_patch, known, i, styles[i], state) for i in asked]
        try:
            for number, (i, done) in enumerate(zip(asked, waiting, strict=True), 1):
                there[i, styles[i]] = done.result()
                state[1] = len(some) - len(asked) + number
                context.progress.check()
        except BaseException:
            for other in waiting:
                other.cancel()
            raise
    made = [there[i, styles[i]] for i in some]
    extra, blends, owner, values, count = [], [], [], [], 0
    sheets = [np.full(len(triangles[0]), -1)]
    for i, patch in zip(some, made, strict=True):
        ring, new = rings[i].vertices, patch.points[len(rings[i].vertices) :]
        number = np.concatenate([ring, base + count + np.arange(len(new))])
        triangles.append(number[patch.triangles])
        sheets.append(np.full(len(patch.triangles), i if patch.is_laid else -1))
        extra.append(new)
        owner.append(np.full(len(new), -1 if patch.is_laid else i))
        count += len(new)
        if known.values is not None:
            blends.append(sparse.csr_matrix((len(new), base)) if patch.is_laid else _nearest(mesh, ring, new))
            values.append(patch.values[len(ring) :] if patch.is_laid else np.zeros((len(new), known.values.shape[1])))
    together, of_sheet = np.concatenate(triangles), np.concatenate(sheets)
    if count == 0:
        return add_triangles(mesh, together, np.empty((0, 3))), of_sheet
    inner, owners = np.concatenate(extra), np.concatenate(owner)
    loose = owners >= 0
    if loose.any():
        context.progress.step("Shaping the patches")
        _shape(mesh, all_known, together, inner, owners, styles)
    inner = as_files_hold(inner, mesh.diagonal if diagonal is None else diagonal)
    if known.values is None:
        return add_triangles(mesh, together, inner), of_sheet
    patched = add_triangles(mesh, together, inner, sparse.vstack(blends, format="csr"))
    return _with_values(patched, base + np.flatnonzero(~loose), np.concatenate(values)[~loose]), of_sheet


def _with_values(mesh: Mesh, vertices: np.ndarray, values: np.ndarray) -> Mesh:
    """The mesh with the values of some vertices, all vertex attributes side by side, given anew."""
    attributes, at = dict(mesh.attributes), 0
    for name, attribute in mesh.attributes.items():
        if attribute.domain is Domain.VERTEX:
            now = attribute.values.copy()
            wide = int(np.prod(now.shape[1:], dtype=int))
            fresh = values[:, at : at + wide].reshape(-1, *now.shape[1:])
            now[vertices] = np.rint(fresh) if np.issubdtype(now.dtype, np.integer) else fresh
            attributes[name] = Attribute(Domain.VERTEX, now, attribute.beside)
            at += wide
    return Mesh(mesh.vertices, mesh.faces, mesh.provenance, attributes)


def _nearest(mesh: Mesh, ring: np.ndarray, points: np.ndarray) -> sparse.csr_matrix:
    """Weights by which new points take values from the nearest vertices on the edge."""
    k = min(4, len(ring))
    distance, index = cKDTree(mesh.vertices[ring]).query(points, k=k)
    weight = 1.0 / np.maximum(distance, 1e-12) ** 2
    weight /= weight.sum(axis=1)[:, None]
    rows = np.repeat(np.arange(len(points)), k)
    return sparse.csr_matrix((weight.ravel(), (rows, ring[index].ravel())), shape=(len(points), len(mesh.vertices)))


def _shape(
    mesh: Mesh, known: _Known, together: np.ndarray, inner: np.ndarray, owners: np.ndarray, styles: list[PatchStyle]
) -> None:
    """Fair the inner vertices of patches that lie over no plane; `owners` are their rings, or -1.

    What was shaped in the same styles before is taken from there.
    """
    flows = np.array([-1.0 if s.fewest else 0.0 if s.on_plane else s.flow for s in styles])
    flow = max(float(flows.max()), 0.0)
    order = np.argsort(owners, kind="stable")
    begin = np.searchsorted(owners[order], np.arange(len(known.lots) + 1))
    own = [order[low:high] for low, high in pairwise(begin)]  # the inner vertices of each
    rings = np.unique(owners[owners >= 0])
    rings = rings[np.argsort(known.lots[rings], kind="stable")]
    lots = np.split(rings, np.flatnonzero(np.diff(known.lots[rings])) + 1)
    keys = [(tuple(lot.tolist()), tuple(styles[i] for i in lot), flow) for lot in lots]
    fresh = np.zeros(len(known.lots), dtype=bool)
    for lot, key in zip(lots, keys, strict=True):
        fresh[lot] = key not in known.shaped
    asked = (owners >= 0) & fresh[owners]
    if asked.any():
        free = np.concatenate([np.zeros(len(mesh.vertices), dtype=bool), asked])
        made = together[free[together].any(axis=1)]
        inner[asked] = _shaped(mesh, known, made, inner, np.where(asked, owners, -1), flows)[asked]
    for lot, key in zip(lots, keys, strict=True):
        if key not in known.shaped:
            known.shaped[key] = [inner[own[i]] for i in lot]
        else:
            for i, places in zip(lot, known.shaped[key], strict=True):
                inner[own[i]] = places


def _shaped(
    mesh: Mesh, known: _Known, made: np.ndarray, inner: np.ndarray, owners: np.ndarray, flows: np.ndarray
) -> np.ndarray:
    """Fair patches at once; one that runs away from its hole is drawn taut instead."""
    base, rings, touching = len(mesh.vertices), known.surroundings.rings, known.surroundings.touching
    on_edge_of = np.zeros(base, dtype=bool)
    on_edge_of[made[made < base]] = True
    touching = touching[on_edge_of[touching].any(axis=1)]
    together = np.concatenate([touching.astype(np.int64), made])
    used, local = np.unique(together, return_inverse=True)
    local = local.reshape(-1, 3)
    old = used < base
    points = np.empty((len(used), 3))
    points[old] = mesh.vertices[used[old]]
    points[~old] = inner[used[~old] - base]
    on_edge = np.zeros(len(used), dtype=bool)
    on_edge[old] = on_edge_of[used[old]]
    number = used[~old] - base
    owners, own_inner, placed_all = owners[number], inner[number], inner.copy()
    flow = float(flows.max())
    placed = fair(points, local, ~old, on_edge, max(flow, 0.0))[~old]
    runaway = flows < flow  # to be drawn taut in any case
    span = np.array([np.linalg.norm(np.ptp(mesh.vertices[r.vertices], axis=0)) for r in rings])
    off = np.linalg.norm(placed - own_inner, axis=1)
    np.logical_or.at(runaway, owners, ~(off < _TOO_FAR * span[owners]))
    again = runaway[owners]
    if again.any() and flow > 0:
        free = ~old
        free[free] = np.isin(known.lots[owners], known.lots[owners[again]])
        placed[again] = fair(points, local, free, on_edge, 0.0)[~old][again]
    placed_all[number] = placed
    return placed_all
