"""Posing: where a measured surface belongs on another, found from their shapes alone.

What each place looks like round about is put in numbers; places that look alike are candidates for being the same one.
Two such pairs whose distance and normals fit each other make a pose. All of these are judged by how much of one surface
they lay on the other, and how much of it beside the other, the best are brought nearer, and those that stay apart are
given back, so that whoever asks can see whether there is more than one.
"""

from typing import NamedTuple

import numpy as np
from scipy.spatial import cKDTree

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here
from tinsnip.space.registration import Surface
from tinsnip.space.rigid import matrix_of
from tinsnip.threads import in_chunks

__all__ = ["Cloud", "Pose", "are_apart", "cloud_of", "find_poses", "moments"]

_BINS = 11
_RADII = (4.0, 8.0)
"""How far round about a place is looked at, in spacings: the near view serves at boundaries, the far one on smooth
shapes."""
_LIKE = 4
"""Places of the other surface that are taken as being alike, for each radius."""
_ASKED = 2_500
"""Places of the moved surface for which such are looked for."""
_TRIES = 4_000_000
_MOST = 12_000
"""Poses that are judged; of pairs that share 30 % of their surface some tens of these are right."""
_JUDGED_BY = 700
"""Points by which each is judged."""
_KEPT = 800
_STEPS = 12
"""Poses that are brought nearer, each by so many steps."""
_GIVEN = 30
"""Poses that are given back."""
_CLOSE = 0.12
"""Spacings within which a point lies on the other surface once it was brought nearer; right poses come within 0.03."""
_FAR = 4
"""Spacings up to which a point of the grid knows what is nearest."""
_APART_DEGREES = 12.0
_APART = 3.0
"""Spacings by which, and angle by which, two poses are two."""


class Cloud(NamedTuple):
    """Points evenly spaced over a surface.

    Attributes
    ----------
    points, ways : ndarray, shape (N, 3)
    rim : ndarray of bool, shape (N,)
        Those near its boundary.
    views : tuple of ndarray, shape (N, 33)
        What each looks like round about, for each radius.
    spacing : float
        mm.
    """

    points: np.ndarray
    ways: np.ndarray
    rim: np.ndarray
    views: tuple[np.ndarray, ...]
    spacing: float


class Pose(NamedTuple):
    """A pose, and its worth: the share of the moved surface that it lays on the other, less what lies beside it."""

    matrix: np.ndarray
    worth: float


def _thinned(points: np.ndarray, ways: np.ndarray, spacing: float) -> tuple[np.ndarray, np.ndarray]:
    """One point for each cell of a grid and way that the surface faces there: the mean of those in it."""
    low = points.min(axis=0)
    cell = ((points - low) / spacing).astype(np.int64)
    facing = 2 * np.abs(ways).argmax(axis=1) + (ways[np.arange(len(ways)), np.abs(ways).argmax(axis=1)] > 0)
    size = cell.max(axis=0) + 1
    key = ((cell[:, 0] * size[1] + cell[:, 1]) * size[2] + cell[:, 2]) * 6 + facing
    _, number, count = np.unique(key, return_inverse=True, return_counts=True)
    sums = np.stack([np.bincount(number, values[:, k]) for values in (points, ways) for k in range(3)], axis=1)
    place, way = sums[:, :3] / count[:, None], sums[:, 3:]
    length = np.linalg.norm(way, axis=1)
    good = length > 0.3 * count
    return place[good], way[good] / length[good, None]


@kernel
def _add_views(points, ways, pairs, out, counts):
    """Count what each place sees: the three angles between its frame and each neighbour's normal."""
    for i in range(pairs.shape[0]):
        for turn in range(2):
            a, b = (pairs[i, 0], pairs[i, 1]) if turn == 0 else (pairs[i, 1], pairs[i, 0])
            dx, dy, dz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            length = np.sqrt(dx * dx + dy * dy + dz * dz)
            if length <= 0.0:
                continue
            dx, dy, dz = dx / length, dy / length, dz / length
            ux, uy, uz = ways[a, 0], ways[a, 1], ways[a, 2]
            mx, my, mz = ways[b, 0], ways[b, 1], ways[b, 2]
            vx, vy, vz = uy * dz - uz * dy, uz * dx - ux * dz, ux * dy - uy * dx
            across = np.sqrt(vx * vx + vy * vy + vz * vz)
            if across < 1e-9:
                continue
            vx, vy, vz = vx / across, vy / across, vz / across
            wx, wy, wz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            first = vx * mx + vy * my + vz * mz
            second = ux * dx + uy * dy + uz * dz
            third = np.arctan2(wx * mx + wy * my + wz * mz, ux * mx + uy * my + uz * mz) / np.pi
            for k in range(3):
                value = first if k == 0 else second if k == 1 else third
                # shared between two bins, so that noise moves little
                at = min(max((value + 1.0) * 0.5 * _BINS - 0.5, 0.0), _BINS - 1.0)
                low = min(int(at), _BINS - 2)
                out[a, k * _BINS + low] += 1.0 - (at - low)
                out[a, k * _BINS + low + 1] += at - low
            counts[a] += 1


@kernel
def _spread_views(points, pairs, own, counts, out, weights):
    """Add the neighbours' views to each one's own, the near ones more."""
    for i in range(pairs.shape[0]):
        a, b = pairs[i, 0], pairs[i, 1]
        d = 0.0
        for k in range(3):
            d += (points[a, k] - points[b, k]) ** 2
        w = 1.0 / max(np.sqrt(d), 1e-12)
        for k in range(own.shape[1]):
            out[a, k] += w * own[b, k]
            out[b, k] += w * own[a, k]
        weights[a] += w
        weights[b] += w


def _views(points: np.ndarray, ways: np.ndarray, tree: cKDTree, radius: float) -> np.ndarray:
    """What each place looks like within a radius, shape (N, 33), each a unit vector.

    After Rusu, Blodow and Beetz, Fast point feature histograms (FPFH) for 3D registration, ICRA 2009.
    """
    pairs = tree.query_pairs(radius, output_type="ndarray")
    own, counts = np.zeros((len(points), 3 * _BINS)), np.zeros(len(points))
    _add_views(points, ways, pairs, own, counts)
    check_here()
    own /= np.maximum(counts, 1.0)[:, None]
    out, weights = np.zeros_like(own), np.zeros(len(points))
    _spread_views(points, pairs, own, counts, out, weights)
    check_here()
    view = own + out / np.maximum(weights, 1e-300)[:, None]
    return (view / np.maximum(np.linalg.norm(view, axis=1), 1e-300)[:, None]).astype(np.float32)


def cloud_of(surface: Surface, spacing: float) -> Cloud:
    """Points evenly spaced over a surface, and what each looks like round about.

    Parameters
    ----------
    surface : Surface
    spacing : float
        In mm.
    """
    points, ways = _thinned(surface.points, surface.ways, spacing)
    faces = surface.tree.faces[surface.rim]
    rim = np.zeros(len(points), dtype=np.bool_)
    if len(faces):
        edge = surface.tree.vertices[faces[:: max(1, len(faces) // 50_000), 0]]
        rim = cKDTree(edge).query(points, distance_upper_bound=1.5 * spacing)[0] < np.inf
    tree = cKDTree(points)
    return Cloud(points, ways, rim, tuple(_views(points, ways, tree, r * spacing) for r in _RADII), spacing)


def _alike(moving: Cloud, fixed: Cloud) -> np.ndarray:
    """Pairs of places that look alike, int32, shape (M, 2)."""
    pairs = []
    some = np.random.default_rng(3).permutation(len(moving.points))[:_ASKED]
    most = min(_LIKE, len(fixed.points))
    for mine, theirs in zip(moving.views, fixed.views, strict=True):
        likeness = mine[some] @ theirs.T
        best = np.argpartition(-likeness, most - 1, axis=1)[:, :most]
        pairs.append(np.stack([np.repeat(some, most), best.ravel()], axis=1))
        check_here()
    return np.unique(np.concatenate(pairs), axis=0).astype(np.int32)


@kernel
def _fit_together(p, n, q, m, pairs, draws, near, tol, out):
    """Pairs of pairs that a rigid move may bring together: as far apart, and facing each other alike; how many."""
    found = 0
    for i in range(draws.shape[0]):
        if found == out.shape[0]:
            break
        a, b = pairs[draws[i, 0], 0], pairs[draws[i, 0], 1]
        c, d = pairs[draws[i, 1], 0], pairs[draws[i, 1], 1]
        px, py, pz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
        qx, qy, qz = q[d, 0] - q[b, 0], q[d, 1] - q[b, 1], q[d, 2] - q[b, 2]
        lp, lq = np.sqrt(px * px + py * py + pz * pz), np.sqrt(qx * qx + qy * qy + qz * qz)
        if lp < near or lq < 0.5 * near or abs(lp - lq) > tol:
            continue
        one = (n[a, 0] * px + n[a, 1] * py + n[a, 2] * pz) / lp - (m[b, 0] * qx + m[b, 1] * qy + m[b, 2] * qz) / lq
        two = (n[c, 0] * px + n[c, 1] * py + n[c, 2] * pz) / lp - (m[d, 0] * qx + m[d, 1] * qy + m[d, 2] * qz) / lq
        if abs(one) > 0.2 or abs(two) > 0.2:
            continue
        both = n[a, 0] * n[c, 0] + n[a, 1] * n[c, 1] + n[a, 2] * n[c, 2]
        both -= m[b, 0] * m[d, 0] + m[b, 1] * m[d, 1] + m[b, 2] * m[d, 2]
        if abs(both) > 0.25:
            continue
        out[found, 0], out[found, 1] = draws[i, 0], draws[i, 1]
        found += 1
    return found


def _frames(points: np.ndarray, ways: np.ndarray, first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """A frame for each pair of oriented points, shape (M, 3, 3), its axes in the columns; NaN where none is bound."""
    x = points[second] - points[first]
    x = x / np.linalg.norm(x, axis=1)[:, None]
    y = ways[first] + ways[second]
    y = y - (y * x).sum(axis=1)[:, None] * x
    length = np.linalg.norm(y, axis=1)
    y = np.where(length[:, None] > 0.3, y / np.maximum(length, 1e-12)[:, None], np.nan)
    return np.stack([x, y, np.cross(x, y)], axis=2)


def _poses(moving: Cloud, fixed: Cloud, pairs: np.ndarray, two: np.ndarray) -> np.ndarray:
    a, b = pairs[two[:, 0]].T
    c, d = pairs[two[:, 1]].T
    linear = _frames(fixed.points, fixed.ways, b, d) @ _frames(moving.points, moving.ways, a, c).transpose(0, 2, 1)
    middle = 0.5 * (moving.points[a] + moving.points[c])
    shift = 0.5 * (fixed.points[b] + fixed.points[d]) - np.einsum("nij,nj->ni", linear, middle)
    poses = np.concatenate([linear, shift[:, :, None]], axis=2)
    return poses[np.isfinite(poses).all(axis=(1, 2))]


class _Grid(NamedTuple):
    """Which point of a cloud is nearest, for each cell of a grid round it; -1 where none is near."""

    nearest: np.ndarray
    low: np.ndarray
    cell: float


def _grid_of(cloud: Cloud) -> _Grid:
    cell, around = cloud.spacing, _FAR * cloud.spacing
    low = cloud.points.min(axis=0) - around
    size = np.ceil((cloud.points.max(axis=0) + around - low) / cell).astype(np.int64) + 1
    nearest = np.full(size, -1, dtype=np.int32)
    place = ((cloud.points - low) / cell).astype(np.int64)
    taken = np.zeros(size, dtype=np.bool_)
    taken[tuple(place.T)] = True
    for axis in range(3):  # cells within reach of a taken one
        for _ in range(_FAR):
            wider = taken.copy()
            ahead, behind = [slice(None)] * 3, [slice(None)] * 3
            ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
            wider[tuple(ahead)] |= taken[tuple(behind)]
            wider[tuple(behind)] |= taken[tuple(ahead)]
            taken = wider
    cells = np.argwhere(taken)
    distance, number = cKDTree(cloud.points).query(low + (cells + 0.5) * cell, distance_upper_bound=around)
    nearest[tuple(cells.T)] = np.where(np.isfinite(distance), number, -1)
    return _Grid(nearest, low, cell)


@kernel
def _met_by(poses, i, p, j, nearest, low, cell):
    """What a pose brings a point next to, by its number, or -1; and where it brings it."""
    x = poses[i, 0, 0] * p[j, 0] + poses[i, 0, 1] * p[j, 1] + poses[i, 0, 2] * p[j, 2] + poses[i, 0, 3]
    y = poses[i, 1, 0] * p[j, 0] + poses[i, 1, 1] * p[j, 1] + poses[i, 1, 2] * p[j, 2] + poses[i, 1, 3]
    z = poses[i, 2, 0] * p[j, 0] + poses[i, 2, 1] * p[j, 1] + poses[i, 2, 2] * p[j, 2] + poses[i, 2, 3]
    u, v, w = (x - low[0]) / cell, (y - low[1]) / cell, (z - low[2]) / cell
    if u < 0 or v < 0 or w < 0 or u >= nearest.shape[0] or v >= nearest.shape[1] or w >= nearest.shape[2]:
        return -1, x, y, z
    return nearest[int(u), int(v), int(w)], x, y, z


@kernel
def _judge(poses, p, n, q, m, rim, nearest, low, cell, near, begin, end, worth, state):
    """The worth of poses: of the points, the share that comes to lie on the other surface, times how rarely beside."""
    for i in range(begin, end):
        if i % 64 == 0 and state[0]:
            return
        on = beside = 0
        for j in range(p.shape[0]):
            k, x, y, z = _met_by(poses, i, p, j, nearest, low, cell)
            if k < 0:
                continue
            alike = facing = 0.0
            for r in range(3):
                facing = poses[i, r, 0] * n[j, 0] + poses[i, r, 1] * n[j, 1] + poses[i, r, 2] * n[j, 2]
                alike += facing * m[k, r]
            off = abs((x - q[k, 0]) * m[k, 0] + (y - q[k, 1]) * m[k, 1] + (z - q[k, 2]) * m[k, 2])
            along = (x - q[k, 0]) ** 2 + (y - q[k, 1]) ** 2 + (z - q[k, 2]) ** 2 - off * off
            if rim[k] and along > 0.25 * cell * cell:
                continue
            if alike > 0.8 and off < near:
                on += 1
            elif alike > 0.3:
                beside += 1
        worth[i] = on / p.shape[0] * (on / (on + 0.7 * beside)) if on > 0 else 0.0


def _worths(poses: np.ndarray, moving: Cloud, fixed: Cloud, grid: _Grid, some: np.ndarray, near: float) -> np.ndarray:
    worth, state = np.zeros(len(poses)), polled_here()
    p, n = np.ascontiguousarray(moving.points[some]), np.ascontiguousarray(moving.ways[some])
    poses = np.ascontiguousarray(poses)

    def work(begin: int, end: int) -> None:
        _judge(
            poses, p, n, fixed.points, fixed.ways, fixed.rim, grid.nearest, grid.low, grid.cell, near, begin, end,
            worth, state,
        )  # fmt: skip

    in_chunks(work, len(poses), 500)
    check_here()
    return worth


def moments(points: np.ndarray) -> np.ndarray:
    """The mean of points' coordinates times each other, with a one behind them, shape (4, 4).

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In mm.
    """
    longer = np.column_stack([points, np.ones(len(points))])
    return longer.T @ longer / len(points)


def are_apart(one: np.ndarray, others: np.ndarray, spread: np.ndarray, far: float, degrees: float) -> np.ndarray:
    """Whether a pose is another than each of some: turned by more than an angle against it, or its points far off.

    Parameters
    ----------
    one : ndarray, shape (3, 4) or (4, 4)
    others : ndarray, shape (N, 3, 4) or (N, 4, 4)
    spread : ndarray, shape (4, 4)
        `moments` of points of the moved surface.
    far : float
        Root mean square of how far they are apart, mm.
    degrees : float

    Returns
    -------
    ndarray of bool, shape (N,)
    """
    trace = (others[:, :3, :3] * one[:3, :3]).sum(axis=(1, 2))
    angle = np.degrees(np.arccos(np.clip((trace - 1.0) / 2.0, -1.0, 1.0)))
    off = others[:, :3] - one[:3]
    square = np.einsum("nij,jk,nik->n", off, spread, off)
    return (angle > degrees) | (square > far * far)


@kernel
def _solve_six(square, right, six):
    """Solve six symmetric equations by elimination; what is hardly bound is held."""
    trace = 0.0
    for i in range(6):
        trace += square[i, i]
    for i in range(6):
        square[i, i] += 1e-4 * trace / 6.0 + 1e-300
    for i in range(6):
        for j in range(i + 1, 6):
            share = square[j, i] / square[i, i]
            for k in range(i, 6):
                square[j, k] -= share * square[i, k]
            right[j] -= share * right[i]
    for i in range(5, -1, -1):
        value = right[i]
        for k in range(i + 1, 6):
            value -= square[i, k] * six[k]
        six[i] = value / square[i, i]


@kernel
def _turn_on(pose, six, about, reach):
    """Turn and shift a pose by a small move about a point; the turn is given as a way at the reach."""
    x, y, z = six[0] / reach, six[1] / reach, six[2] / reach
    angle = np.sqrt(x * x + y * y + z * z)
    turn = np.eye(3)
    if angle > 1e-12:
        x, y, z = x / angle, y / angle, z / angle
        c, s = np.cos(angle), np.sin(angle)
        turn[0, 0], turn[0, 1], turn[0, 2] = c + x * x * (1 - c), x * y * (1 - c) - z * s, x * z * (1 - c) + y * s
        turn[1, 0], turn[1, 1], turn[1, 2] = y * x * (1 - c) + z * s, c + y * y * (1 - c), y * z * (1 - c) - x * s
        turn[2, 0], turn[2, 1], turn[2, 2] = z * x * (1 - c) - y * s, z * y * (1 - c) + x * s, c + z * z * (1 - c)
    before = pose.copy()
    for r in range(3):
        for k in range(4):
            value = 0.0
            for t in range(3):
                value += turn[r, t] * (before[t, k] - (about[t] if k == 3 else 0.0))
            pose[r, k] = value + (about[r] + six[3 + r] if k == 3 else 0.0)


@kernel
def _settle(poses, p, n, q, m, rim, nearest, low, cell, reaches, begin, end, state):
    """Bring poses nearer: each step lays points on the planes of what is nearest, while what counts is drawn in."""
    square, right, six, about, row = np.empty((6, 6)), np.empty(6), np.empty(6), np.empty(3), np.empty(6)
    for i in range(begin, end):
        if i % 16 == 0 and state[0]:
            return
        for t in range(reaches.shape[0]):
            for r in range(3):
                about[r] = poses[i, r, 3]
                for k in range(3):
                    about[r] += poses[i, r, k] * p[p.shape[0] - 1, k]
            square[:] = 0.0
            right[:] = 0.0
            found = 0
            for j in range(p.shape[0] - 1):
                k, x, y, z = _met_by(poses, i, p, j, nearest, low, cell)
                if k < 0:
                    continue
                dx, dy, dz = q[k, 0] - x, q[k, 1] - y, q[k, 2] - z
                off = dx * m[k, 0] + dy * m[k, 1] + dz * m[k, 2]
                along = dx * dx + dy * dy + dz * dz - off * off
                if abs(off) >= reaches[t] or along >= cell * cell or (rim[k] and along > 0.25 * cell * cell):
                    continue
                alike = 0.0
                for r in range(3):
                    way = poses[i, r, 0] * n[j, 0] + poses[i, r, 1] * n[j, 1] + poses[i, r, 2] * n[j, 2]
                    row[3 + r] = way + m[k, r]
                    alike += way * m[k, r]
                if alike <= 0.6:
                    continue
                length = np.sqrt(row[3] ** 2 + row[4] ** 2 + row[5] ** 2)
                # to the plane of the other, wherever on it: that far along the sum of both normals
                goal = off * (m[k, 0] * row[3] + m[k, 1] * row[4] + m[k, 2] * row[5]) / length
                for r in range(3):
                    row[3 + r] /= length
                ax, ay, az = (x - about[0]) / (8 * cell), (y - about[1]) / (8 * cell), (z - about[2]) / (8 * cell)
                row[0] = ay * row[5] - az * row[4]
                row[1] = az * row[3] - ax * row[5]
                row[2] = ax * row[4] - ay * row[3]
                share = (1.0 - (off / reaches[t]) ** 2) ** 2
                for r in range(6):
                    for k in range(6):
                        square[r, k] += share * row[r] * row[k]
                    right[r] += share * row[r] * goal
                found += 1
            if found < 12:
                break
            _solve_six(square, right, six)
            most = 0.0
            for r in range(6):
                most = max(most, abs(six[r]))
            if most > 2 * cell:
                for r in range(6):
                    six[r] *= 2 * cell / most
            _turn_on(poses[i], six, about, 8 * cell)


def _brought_nearer(poses: np.ndarray, moving: Cloud, fixed: Cloud, grid: _Grid, some: np.ndarray) -> np.ndarray:
    """Poses, shape (N, 3, 4), each a few steps nearer to where it lays the surfaces on each other."""
    nearer, state = np.ascontiguousarray(poses).copy(), polled_here()
    # the last point is what is turned about
    p = np.concatenate([moving.points[some], moving.points.mean(axis=0)[None]])
    n = np.ascontiguousarray(moving.ways[some])
    reaches = np.geomspace(3.0, 0.6, _STEPS) * fixed.spacing

    def work(begin: int, end: int) -> None:
        _settle(
            nearer, p, n, fixed.points, fixed.ways, fixed.rim, grid.nearest, grid.low, grid.cell, reaches, begin, end,
            state,
        )  # fmt: skip

    in_chunks(work, len(nearer), 32)
    check_here()
    return nearer


def find_poses(moving: Surface, fixed: Surface, spacing: float) -> list[Pose]:
    """The poses of a surface on another that their shapes speak for, the best first.

    Parameters
    ----------
    moving, fixed : Surface
    spacing : float
        Of the points by which they are compared, mm: a fortieth of the size or less.

    Returns
    -------
    list of Pose
        None of them close to another; empty where the surfaces have too little to go by.

    References
    ----------
    Drost et al., Model globally, match locally (CVPR 2010), for poses from pairs of oriented points; Zhou, Park and
    Koltun, Fast global registration (ECCV 2016), for taking pairs that fit each other only.
    """
    mine, theirs = cloud_of(moving, spacing), cloud_of(fixed, spacing)
    if min(len(mine.points), len(theirs.points)) < 30:
        return []
    check_here()
    pairs = _alike(mine, theirs)
    rng = np.random.default_rng(7)
    two = np.empty((_MOST, 2), dtype=np.int64)
    near = 0.2 * min(np.linalg.norm(np.ptp(c.points, axis=0)) for c in (mine, theirs))
    draws = rng.integers(0, len(pairs), (_TRIES, 2), dtype=np.int32)
    found = _fit_together(
        mine.points, mine.ways, theirs.points, theirs.ways, pairs, draws, near, 1.5 * spacing, two
    )  # fmt: skip
    check_here()
    poses = _poses(mine, theirs, pairs, two[:found])
    if len(poses) == 0:
        return []
    grid = _grid_of(theirs)
    some = rng.permutation(len(mine.points))[:_JUDGED_BY]
    order = np.argsort(-_worths(poses, mine, theirs, grid, some, spacing), kind="stable")
    spread = moments(mine.points)
    poses = poses[order[_apart(poses[order], spread, _APART * spacing, _APART_DEGREES, _KEPT)]]
    poses = _brought_nearer(poses, mine, theirs, grid, some)
    worth = _worths(poses, mine, theirs, grid, np.arange(len(mine.points)), _CLOSE * spacing)
    order = np.argsort(-worth, kind="stable")
    best = order[_apart(poses[order], spread, spacing, _APART_DEGREES / 2, _GIVEN)]
    return [Pose(matrix_of(poses[i, :, :3], poses[i, :, 3]), float(worth[i])) for i in best]


@kernel
def _keep_apart(poses, spread, far2, most_cosine, kept):
    """The places of poses that are no other one before them once more; how many."""
    count = 0
    off = np.empty(4)
    for i in range(poses.shape[0]):
        fresh = True
        for n in range(count):
            j = kept[n]
            trace = square = 0.0
            for r in range(3):
                for k in range(3):
                    trace += poses[i, r, k] * poses[j, r, k]
            if 0.5 * (trace - 1.0) < most_cosine:
                continue
            for r in range(3):
                for k in range(4):
                    off[k] = poses[i, r, k] - poses[j, r, k]
                for k in range(4):
                    for t in range(4):
                        square += off[k] * spread[k, t] * off[t]
            if square <= far2:
                fresh = False
                break
        if fresh:
            kept[count] = i
            count += 1
            if count == kept.shape[0]:
                break
    return count


def _apart(poses: np.ndarray, spread: np.ndarray, far: float, degrees: float, most: int) -> np.ndarray:
    """Those of some poses, by place, that are no other one before them once more."""
    kept = np.empty(most, dtype=np.int64)
    poses = np.ascontiguousarray(poses)
    return kept[: _keep_apart(poses, spread, far * far, float(np.cos(np.radians(degrees))), kept)]
