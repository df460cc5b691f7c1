"""Registration: one measured surface is laid on another by what both of them show.

Points of each surface are paired with the closest places of the other, left out where these lie at its boundary or
face another way; the move that brings the pairs together along their normals is found again and again, while what
counts as a pair is drawn in. What the surfaces do not share is never pulled at.
"""

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from tinsnip.progress import check_here, polled_here
from tinsnip.space.rigid import moved_points, small_move
from tinsnip.space.tree import Tree, closest_points

__all__ = [
    "SAMPLES",
    "Agreement",
    "Fit",
    "Freedom",
    "Surface",
    "agreement",
    "freedoms",
    "refine",
    "refine_all",
    "signed_distances",
    "step_together",
    "ways_at",
]

SAMPLES = 40_000
"""Points of each surface that are paired at the end; with them noise of an edge moves a part by 0.01 of it."""
_COARSE = 3_000
"""Points of each that are paired while the surfaces are still apart."""
_FACES_ALIKE = 0.5
"""Cosine of the angle between normals from which two places may be the same one."""
_TRIM = 3.0
"""Spreads of the distances beyond which a pair is none (Tukey's biweight ends there, times 1.56)."""
_TURNS = 60
"""Rounds after which a fit is given up."""
_STILL, _STILL_EDGES = 2e-6, 0.002
"""Share of the size, or of an edge, that a move has to be smaller than to be the last."""
_FAR = 0.05
"""Distance up to which a surface says that another contradicts it, as a share of its size."""
_STRETCH = 8.0
"""Edges over which noise of a fifth of an edge evens out to a twentieth."""
_AGAINST = 4.0
"""What a place beside the other counts against one on it: on a cover with a ring of seven bolts, turned by one of them,
a tenth of what is seen on both lies beside."""
_HELD = 0.02
"""Rise of the distances per distance moved from which a way is bound: a plate, a rod and a ball stay below 0.014 with
noise of a fifth of an edge; a ball with waves of a twentieth of its radius gives 0.035, a cover with bosses 0.48."""
_UNSURE = 1.5
"""Times by which the rise has to be more than chance gives."""


class Surface(NamedTuple):
    """A surface made ready to be laid on another.

    Attributes
    ----------
    tree : Tree
    normals : ndarray of float32, shape (V, 3)
        Evened out over some rings of triangles.
    rim : ndarray of bool, shape (F,)
        Triangles at its boundary.
    points, ways : ndarray, shape (N, 3)
        Points of it that bind it in all six ways, in no order, and their normals.
    weights : ndarray, shape (N,)
        The share of the area that each stands for.
    size : float
        Diagonal of its bounding box, mm.
    edge : float
        Root of the area of two triangles, mm.
    noise : float
        By how much its vertices lie off an even surface, mm.
    """

    tree: Tree
    normals: np.ndarray
    rim: np.ndarray
    points: np.ndarray
    ways: np.ndarray
    weights: np.ndarray
    size: float
    edge: float
    noise: float


class Fit(NamedTuple):
    """How one surface lies on another.

    Attributes
    ----------
    matrix : ndarray, shape (4, 4)
        The move.
    spread : float
        Of the distances along the normals of what agrees, robust, mm.
    """

    matrix: np.ndarray
    spread: float


class Agreement(NamedTuple):
    """What two surfaces that lie on each other say of one another.

    Attributes
    ----------
    overlap : float
        Share of the moved surface's area that has the other on it.
    agrees : float
        Of what could be seen on both, the share that lies on the other.
    on : float
        What speaks for the pose: of the points asked, the share that lies on the other; those that bind count more.
    support : float
        That, less what speaks against it.
    rms, p95 : float
        Distances of what lies on the other, mm.
    apart : float
        How far they lie apart over stretches of some edges, where noise evens out, mm: half of the surface less.
    """

    overlap: float
    agrees: float
    on: float
    support: float
    rms: float
    p95: float
    apart: float


class Freedom(NamedTuple):
    """A way in which a surface can be moved on another without a difference.

    Attributes
    ----------
    turns : bool
        About an axis, or along a way.
    point, way : ndarray, shape (3,)
        A point of the axis, and the unit way of axis or shift.
    """

    turns: bool
    point: np.ndarray
    way: np.ndarray


def ways_at(normals: np.ndarray, faces: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Unit normals of triangles, by number, as those of their corners, shape (N, 3); zero where these cancel out.

    Parameters
    ----------
    normals : ndarray, shape (V, 3)
        Unit.
    faces : ndarray of int32, shape (F, 3)
    triangles : ndarray of int, shape (N,)
    """
    corners = faces[triangles]
    ways = normals[corners[:, 0]].astype(np.float64)
    ways += normals[corners[:, 1]]
    ways += normals[corners[:, 2]]
    length = np.sqrt(np.einsum("ij,ij->i", ways, ways))
    return np.divide(ways, length[:, None], out=np.zeros_like(ways), where=length[:, None] > 0)


class _Pairs(NamedTuple):
    here: np.ndarray
    there: np.ndarray
    ways: np.ndarray
    distance: np.ndarray
    good: np.ndarray
    """Which are pairs: not at the boundary of the other, and facing the same way."""


def _towards(points: np.ndarray, ways: np.ndarray, onto: Surface, within: float) -> tuple[np.ndarray, ...]:
    feet = np.empty_like(points)
    distance, triangle = closest_points(onto.tree, points, polled_here(), feet, within)
    check_here()
    met = triangle >= 0
    facing = ways_at(onto.normals, onto.tree.faces, triangle)
    alike = (facing * ways).sum(axis=1) > _FACES_ALIKE
    return feet, facing, distance, met & alike & ~onto.rim[triangle]


def _pair_up(moving: Surface, fixed: Surface, matrix: np.ndarray, count: int, within: float) -> _Pairs:
    """Pairs of places on the moved surface and on the fixed one, from both sides, where the fixed one lies."""
    back, scale = np.linalg.inv(matrix), np.cbrt(np.linalg.det(matrix[:3, :3]))
    turn = matrix[:3, :3] / scale
    here, turned = moved_points(matrix, moving.points[:count]), moving.ways[:count] @ turn.T
    feet, facing, distance, good = _towards(here, turned, fixed, within)
    own, ways = fixed.points[:count], fixed.ways[:count]
    met, facing_back, off, fine = _towards(moved_points(back, own), ways @ turn, moving, within / scale)
    here, there = np.concatenate([here, moved_points(matrix, met)]), np.concatenate([feet, own])
    ways = np.concatenate([turned + facing, facing_back @ turn.T + ways])
    distance, good = np.concatenate([distance, off * scale]), np.concatenate([good, fine])
    length = np.linalg.norm(ways, axis=1)
    ways = ways / np.maximum(length, 1e-300)[:, None]
    return _Pairs(here, there, ways, distance, good & (length > 0))


def signed_distances(points: np.ndarray, ways: np.ndarray, onto: Surface, within: float) -> np.ndarray:
    """How far points lie off a surface, outside it counting as positive, mm, shape (N,); infinite where it has nothing.

    Parameters
    ----------
    points, ways : ndarray, shape (N, 3)
        Places, and the unit normals of the surface that they belong to.
    onto : Surface
    within : float
        Distance beyond which it has nothing there, mm.
    """
    feet, facing, _, met = _towards(np.ascontiguousarray(points), ways, onto, within)
    return np.where(met, ((points - feet) * facing).sum(axis=1), np.inf)


def step_together(
    here: np.ndarray, there: np.ndarray, ways: np.ndarray, weights: np.ndarray
) -> tuple[np.ndarray, float]:
    """The small move that brings pairs together along their normals, and how far it goes.

    The normals are the sums of both sides' (Rusinkiewicz, A symmetric objective function for ICP, SIGGRAPH 2019).

    Parameters
    ----------
    here, there : ndarray, shape (N, 3)
        In mm.
    ways : ndarray, shape (N, 3)
        Sums of both normals.
    weights : ndarray, shape (N,)
    """
    middle = 0.5 * (here + there)
    about = weights @ middle / weights.sum()
    reach = float(np.sqrt(weights @ ((middle - about) ** 2).sum(axis=1) / weights.sum())) or 1.0
    rows = np.concatenate([np.cross((middle - about) / reach, ways), ways], axis=1)
    off = ((there - here) * ways).sum(axis=1)
    square = (rows * weights[:, None]).T @ rows
    values, axes = np.linalg.eigh(square)
    # what is hardly bound is hardly moved
    held = values / (values**2 + (1e-4 * values[-1]) ** 2)
    six = axes @ (held * (axes.T @ (rows.T @ (weights * off))))
    most = float(np.abs(six).max())
    six = six * min(1.0, 0.3 * reach / most) if most > 0 else six
    six[:3] /= reach
    return small_move(six, about), float(np.linalg.norm(six[3:]) + np.linalg.norm(six[:3]) * reach)


def refine(
    moving: Surface,
    fixed: Surface,
    start: np.ndarray,
    reach: float | None = None,
    most: int = SAMPLES,
    turns: int = _TURNS,
    watch: Callable[[np.ndarray], None] = lambda matrix: None,
) -> Fit | None:
    """Bring a surface from about where it belongs to where it belongs.

    Point to plane from both sides, trimmed, coarse to fine (Chen and Medioni 1992; Rusinkiewicz and Levoy, Efficient
    variants of the ICP algorithm, 3DIM 2001).

    Parameters
    ----------
    moving, fixed : Surface
    start : ndarray, shape (4, 4)
        About where the moving one belongs; a scale in it stays.
    reach : float, optional
        How far it may lie off, mm; by default a tenth of the smaller one's size.
    most : int
        Points of each surface that are paired at the end.
    turns : int
        Steps after which it is left at what was reached.
    watch : callable
        Called with the pose that each step begins from.

    Returns
    -------
    Fit, or None where the two do not meet
    """
    matrix = start.copy()
    # of a hollow or curled surface parts that face alike lie a few hundredths of its size apart
    reach = 0.1 * min(moving.size, fixed.size) if reach is None else reach
    size = max(moving.size, fixed.size)
    least = 1e-9 * size
    count, spread, fine = min(_COARSE, most), reach, False
    for _ in range(turns):
        watch(matrix)
        pairs = _pair_up(moving, fixed, matrix, count, reach)
        some = np.flatnonzero(pairs.good)
        if len(some) < 12:
            return None
        here, there, ways = pairs.here[some], pairs.there[some], pairs.ways[some]
        off = ((there - here) * ways).sum(axis=1)
        spread = max(1.4826 * float(np.median(np.abs(off))), least)
        weights = np.maximum(0.0, 1.0 - (off / (1.56 * _TRIM * spread)) ** 2) ** 2
        move, far = step_together(here, there, ways, weights)
        matrix = move @ matrix
        reach = min(reach, max(2.0 * _TRIM * spread, far, 0.5 * fixed.edge, 0.5 * moving.edge))
        if far < (max(_STILL * size, _STILL_EDGES * max(moving.edge, fixed.edge)) if fine else 1e-4 * size):
            if fine:
                break
            count, fine = most, True
    return Fit(matrix, spread)


def refine_all(
    surfaces: Sequence[Surface],
    matrices: Sequence[np.ndarray],
    links: Sequence[tuple[int, int]],
    held: Sequence[int],
    reach: float,
    most: int = SAMPLES // 4,
) -> list[np.ndarray]:
    """Bring several surfaces to where they belong, all at once, so that no error adds up round a ring of them.

    Parameters
    ----------
    surfaces : sequence of Surface
    matrices : sequence of ndarray, shape (4, 4)
        Where they lie now.
    links : sequence of (int, int)
        Which of them share some of what they show.
    held : sequence of int
        Those that stay.
    reach : float
        How far any of them may lie off, mm.
    most : int
        Points of each that are paired for each link at the end.

    Returns
    -------
    list of ndarray, shape (4, 4)

    References
    ----------
    Pulli, Multiview registration for large data sets (3DIM 1999), for the aim; solved for all moves at once.
    """
    matrices = [matrix.copy() for matrix in matrices]
    free = [i for i in range(len(surfaces)) if i not in set(held)]
    place = {i: 6 * n for n, i in enumerate(free)}
    size = max(surface.size for surface in surfaces)
    count, fine, within = min(_COARSE, most), False, dict.fromkeys(links, reach)
    about = np.mean(
        [moved_points(m, s.points.mean(axis=0)[None])[0] for s, m in zip(surfaces, matrices, strict=True)], 0
    )
    for _ in range(_TURNS):
        square, right = np.zeros((6 * len(free), 6 * len(free))), np.zeros(6 * len(free))
        for i, j in links:
            pairs = _pair_up(surfaces[i], surfaces[j], np.linalg.inv(matrices[j]) @ matrices[i], count, within[i, j])
            if pairs.good.sum() < 12:
                continue
            here, there = (moved_points(matrices[j], p[pairs.good]) for p in (pairs.here, pairs.there))
            ways = pairs.ways[pairs.good] @ matrices[j][:3, :3].T
            off = ((there - here) * ways).sum(axis=1)
            spread = max(1.4826 * float(np.median(np.abs(off))), 1e-9 * size)
            within[i, j] = min(within[i, j], max(2.0 * _TRIM * spread, 0.5 * surfaces[i].edge, 0.5 * surfaces[j].edge))
            weights = np.maximum(0.0, 1.0 - (off / (1.56 * _TRIM * spread)) ** 2) ** 2
            rows = np.concatenate([np.cross((0.5 * (here + there) - about) / size, ways), ways], axis=1)
            own, onto = (rows * weights[:, None]).T @ rows, rows.T @ (weights * off)
            for one, sign in ((i, 1.0), (j, -1.0)):
                if one in place:
                    at = slice(place[one], place[one] + 6)
                    right[at] += sign * onto
                    square[at, at] += own
            if i in place and j in place:
                one, other = slice(place[i], place[i] + 6), slice(place[j], place[j] + 6)
                square[one, other] -= own
                square[other, one] -= own
        if not free:
            break
        values, axes = np.linalg.eigh(square)
        share = values / (values**2 + (1e-6 * max(values[-1], 1e-300)) ** 2)  # what is hardly bound is hardly moved
        sixes = (axes @ (share * (axes.T @ right))).reshape(-1, 6)
        far = 0.0
        for i, six in zip(free, sixes, strict=True):
            matrices[i] = small_move(np.concatenate([six[:3] / size, six[3:]]), about) @ matrices[i]
            far = max(far, float(np.abs(six).max()))
        check_here()
        still = max(_STILL * size, _STILL_EDGES * min(surface.edge for surface in surfaces))
        if far < (still if fine else 1e-4 * size):
            if fine:
                break
            count, fine = most, True
    return matrices


def agreement(moving: Surface, fixed: Surface, matrix: np.ndarray, within: float, count: int = SAMPLES) -> Agreement:
    """What two surfaces that lie on each other say of one another.

    A place of one that has the other inside its boundary near it, facing alike, but not on it, speaks against the pose:
    where two scans of one thing show the same place, both have it.

    Parameters
    ----------
    moving, fixed : Surface
    matrix : ndarray, shape (4, 4)
        The pose.
    within : float
        Distance up to which one lies on the other, mm.
    count : int
        Points of each that are asked.
    """
    pairs = _pair_up(moving, fixed, matrix, count, max(_FAR * min(moving.size, fixed.size), 3 * within))
    on = pairs.good & (pairs.distance <= within)
    if not on.any():
        return Agreement(0.0, 0.0, 0.0, 0.0, 0.0, 0.0, np.inf)
    own, weights = len(moving.points[:count]), moving.weights[:count]
    hits, beside = float(on.sum()), float(pairs.good.sum() - on.sum())
    distance = pairs.distance[on]
    return Agreement(
        float(weights[on[:own]].sum() / weights.sum()),
        hits / (hits + beside),
        hits / len(on),
        (hits - _AGAINST * beside) / len(on),
        float(np.sqrt((distance**2).mean())),
        float(np.quantile(distance, 0.95)),
        _apart(pairs, pairs.good, _STRETCH * max(moving.edge, fixed.edge)),
    )


def _apart(pairs: _Pairs, some: np.ndarray, stretch: float) -> float:
    """The distance, of one sign, that pairs have over stretches of the surface; half of them have less."""
    off = ((pairs.there - pairs.here) * pairs.ways).sum(axis=1)[some]
    places = np.floor(pairs.there[some] / max(stretch, 1e-300)).astype(np.int64)
    _, cell, count = np.unique(places, axis=0, return_inverse=True, return_counts=True)
    mean = np.bincount(cell.ravel(), off) / count
    return 1.4826 * float(np.median(np.abs(mean[count > 3]))) if (count > 3).any() else 0.0


def freedoms(moving: Surface, fixed: Surface, fit: Fit, count: int = 8_000) -> list[Freedom]:
    """The ways in which a surface can be moved on another without a difference.

    It is tried: moved a little in each of the six ways that the pairs bind least to most, the distances rise by as much
    as it is bound. Normals alone would call a plate's noise a hold.

    Parameters
    ----------
    moving, fixed : Surface
    fit : Fit
        Where they lie.
    """
    pairs = _pair_up(moving, fixed, fit.matrix, count, 1.5 * _TRIM * fit.spread + 1e-9 * fixed.size)
    some = pairs.good
    if some.sum() < 12:
        return []
    middle, ways = pairs.there[some], pairs.ways[some]
    about = middle.mean(axis=0)
    reach = float(np.sqrt(((middle - about) ** 2).sum(axis=1).mean()))
    rows = np.concatenate([np.cross((middle - about) / reach, ways), ways], axis=1)
    axes = np.linalg.eigh(rows.T @ rows)[1]
    step = max(6.0 * fit.spread, 0.02 * reach, 0.5 * fixed.edge)
    # the mean square of noise over so many vertices is itself known that well only
    unsure = (2.0 / max(1, min(len(moving.normals), len(fixed.normals)))) ** 0.25 * fit.spread / step
    held = max(_HELD, _UNSURE * float(unsure))
    before = _squares(moving, fixed, fit.matrix, count, step)
    found = []
    for six in axes.T:
        rise = 0.0
        for sign in (1.0, -1.0):
            shift = np.concatenate([six[:3] / reach, six[3:]]) * step * sign
            after = _squares(moving, fixed, small_move(shift, about) @ fit.matrix, count, 4 * step)
            rise = max(rise, np.sqrt(max(0.0, after - before)) / step)
        if rise < held:
            found.append(six)
    return _told_apart(np.array(found), about, reach) if found else []


def _squares(moving: Surface, fixed: Surface, matrix: np.ndarray, count: int, far: float) -> float:
    """Mean square of the distances of pairs."""
    pairs = _pair_up(moving, fixed, matrix, count, far)
    distance = pairs.distance[pairs.good]
    return float((distance**2).mean()) if len(distance) else 0.0


def _told_apart(sixes: np.ndarray, about: np.ndarray, reach: float) -> list[Freedom]:
    """Free moves, shape (K, 6), as ways to slide along and axes to turn about, the slides first."""
    mixes, turning, _ = np.linalg.svd(sixes[:, :3])
    turning = np.concatenate([turning, np.zeros(len(sixes) - len(turning))])
    slides, turns = [], []
    for mix, share in zip(mixes.T, turning, strict=True):
        six = mix @ sixes
        if share < 0.1:  # a turn by so little is what noise leaves of none
            slides.append(six[3:] / np.linalg.norm(six[3:]))
        else:
            turns.append(six)
    found = [Freedom(False, about, way) for way in slides]
    for six in turns:
        shift = six[3:] - sum((way * (way @ six[3:]) for way in slides), np.zeros(3))
        angle = float(np.linalg.norm(six[:3])) / reach
        axis = six[:3] / reach / angle
        found.append(Freedom(True, about + np.cross(axis, shift) / angle, axis))
    return found
