"""Two fields over a surface that quads follow: which ways their edges run, and where their corners lie.

After Jakob, Tarini, Panozzo and Sorkine-Hornung, Instant field-aligned meshes (ACM TOG 34(6), 2015), extrinsic: each
vertex holds one of four directions in its tangent plane, and one place of the lattice that these span. Both are made
like those of the neighbours, on ever finer levels. Vertices on lines keep to them.
"""

from typing import NamedTuple

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix

from tinsnip.kernels import kernel
from tinsnip.progress import Progress

__all__ = ["Fields", "lattice_fields", "steps_along"]

_ROUNDS = 6
"""Rounds on each level; more changed less than a hundredth of the edges on spheres, brackets and the demo scans."""
_COARSEST = 24
"""Vertices below which no coarser level is made."""


class Fields(NamedTuple):
    """What quads follow.

    Attributes
    ----------
    ways : ndarray, shape (V, 3)
        Unit, in the tangent plane: one of the four directions there.
    places : ndarray, shape (V, 3)
        The corner of the lattice nearest to each vertex, mm.
    """

    ways: np.ndarray
    places: np.ndarray


@kernel
def _alike(ax, ay, az, nx, ny, nz, bx, by, bz, mx, my, mz):
    """Those of four directions each of two places that are most alike, 6 numbers."""
    # the other two of each are turned by a right angle about the normal
    tx, ty, tz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
    sx, sy, sz = my * bz - mz * by, mz * bx - mx * bz, mx * by - my * bx
    d00, d01 = ax * bx + ay * by + az * bz, ax * sx + ay * sy + az * sz
    d10, d11 = tx * bx + ty * by + tz * bz, tx * sx + ty * sy + tz * sz
    best = max(abs(d00), abs(d01), abs(d10), abs(d11))
    if abs(d00) == best:
        s = 1.0 if d00 >= 0.0 else -1.0
        return ax, ay, az, s * bx, s * by, s * bz
    if abs(d01) == best:
        s = 1.0 if d01 >= 0.0 else -1.0
        return ax, ay, az, s * sx, s * sy, s * sz
    if abs(d10) == best:
        s = 1.0 if d10 >= 0.0 else -1.0
        return tx, ty, tz, s * bx, s * by, s * bz
    s = 1.0 if d11 >= 0.0 else -1.0
    return tx, ty, tz, s * sx, s * sy, s * sz


@kernel
def _turn_alike(starts, others, weights, normals, lines, ways, rounds, state):
    """Make the directions like those of the neighbours; those on lines stay."""
    for _ in range(rounds):
        for i in range(starts.shape[0] - 1):
            if lines[i] == 1:
                continue
            if i % 4096 == 0 and state[0]:
                return
            nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
            x, y, z, total = ways[i, 0], ways[i, 1], ways[i, 2], 0.0
            for e in range(starts[i], starts[i + 1]):
                j, w = others[e], weights[e]
                ax, ay, az, bx, by, bz = _alike(
                    x, y, z, nx, ny, nz, ways[j, 0], ways[j, 1], ways[j, 2], normals[j, 0], normals[j, 1], normals[j, 2]
                )
                x, y, z = total * ax + w * bx, total * ay + w * by, total * az + w * bz
                along = x * nx + y * ny + z * nz
                x, y, z = x - along * nx, y - along * ny, z - along * nz
                total += w
                size = np.sqrt(x * x + y * y + z * z)
                if size > 1e-12:
                    x, y, z = x / size, y / size, z / size
                else:
                    x, y, z = ways[i, 0], ways[i, 1], ways[i, 2]
            ways[i, 0], ways[i, 1], ways[i, 2] = x, y, z


@kernel
def _between(px, py, pz, nx, ny, nz, qx, qy, qz, mx, my, mz):
    """The place next to two others that lies in both their tangent planes."""
    n0p = nx * px + ny * py + nz * pz
    n0q = nx * qx + ny * qy + nz * qz
    n1p = mx * px + my * py + mz * pz
    n1q = mx * qx + my * qy + mz * qz
    both = nx * mx + ny * my + nz * mz
    low = 1.0 / (1.0 - both * both + 1e-4)
    a = 2.0 * (n0q - n0p - both * (n1p - n1q)) * low
    b = 2.0 * (n1p - n1q - both * (n0q - n0p)) * low
    return (
        0.5 * (px + qx) - 0.25 * (nx * a + mx * b),
        0.5 * (py + qy) - 0.25 * (ny * a + my * b),
        0.5 * (pz + qz) - 0.25 * (nz * a + mz * b),
    )


@kernel
def _place_alike(
    px, py, pz, ax, ay, az, nx, ny, nz, vx, vy, vz, qx, qy, qz, bx, by, bz, mx, my, mz, wx, wy, wz, size, found
):  # fmt: skip
    """Corners of the lattices at two vertices that lie next to each other, near both: their places, and their steps.

    `found` takes the first place, the second, and how many edges each lies along the two directions from its own.
    """
    tx, ty, tz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
    sx, sy, sz = my * bz - mz * by, mz * bx - mx * bz, mx * by - my * bx
    cx, cy, cz = _between(vx, vy, vz, nx, ny, nz, wx, wy, wz, mx, my, mz)
    i0 = np.floor((ax * (cx - px) + ay * (cy - py) + az * (cz - pz)) / size)
    j0 = np.floor((tx * (cx - px) + ty * (cy - py) + tz * (cz - pz)) / size)
    i1 = np.floor((bx * (cx - qx) + by * (cy - qy) + bz * (cz - qz)) / size)
    j1 = np.floor((sx * (cx - qx) + sy * (cy - qy) + sz * (cz - qz)) / size)
    best = np.inf
    for k in range(4):
        i, j = size * (i0 + (k & 1)), size * (j0 + (k >> 1))
        ox, oy, oz = px + ax * i + tx * j, py + ay * i + ty * j, pz + az * i + tz * j
        for m in range(4):
            u, v = size * (i1 + (m & 1)), size * (j1 + (m >> 1))
            rx, ry, rz = qx + bx * u + sx * v, qy + by * u + sy * v, qz + bz * u + sz * v
            far = (ox - rx) ** 2 + (oy - ry) ** 2 + (oz - rz) ** 2
            if far < best:
                best = far
                found[0], found[1], found[2] = ox, oy, oz
                found[3], found[4], found[5] = rx, ry, rz
                found[6], found[7] = i0 + (k & 1), j0 + (k >> 1)
                found[8], found[9] = i1 + (m & 1), j1 + (m >> 1)


@kernel
def _put_alike(starts, others, weights, points, normals, ways, lines, along, places, size, rounds, state):
    """Make the lattices' places like those of the neighbours; on lines they stay on these, at corners in place."""
    found = np.empty(10)
    for _ in range(rounds):
        for i in range(starts.shape[0] - 1):
            if lines[i] == 2:
                continue
            if i % 4096 == 0 and state[0]:
                return
            nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
            ax, ay, az = ways[i, 0], ways[i, 1], ways[i, 2]
            vx, vy, vz = points[i, 0], points[i, 1], points[i, 2]
            x, y, z, total = places[i, 0], places[i, 1], places[i, 2], 0.0
            for e in range(starts[i], starts[i + 1]):
                j, w = others[e], weights[e]
                _place_alike(
                    x, y, z, ax, ay, az, nx, ny, nz, vx, vy, vz,
                    places[j, 0], places[j, 1], places[j, 2], ways[j, 0], ways[j, 1], ways[j, 2],
                    normals[j, 0], normals[j, 1], normals[j, 2], points[j, 0], points[j, 1], points[j, 2], size, found,
                )  # fmt: skip
                x = (total * found[0] + w * found[3]) / (total + w)
                y = (total * found[1] + w * found[4]) / (total + w)
                z = (total * found[2] + w * found[5]) / (total + w)
                total += w
                if lines[i] == 1:
                    far = (x - vx) * along[i, 0] + (y - vy) * along[i, 1] + (z - vz) * along[i, 2]
                    x, y, z = vx + far * along[i, 0], vy + far * along[i, 1], vz + far * along[i, 2]
                else:
                    up = nx * (x - vx) + ny * (y - vy) + nz * (z - vz)
                    x, y, z = x - up * nx, y - up * ny, z - up * nz
            if total == 0.0:
                continue
            tx, ty, tz = ny * az - nz * ay, nz * ax - nx * az, nx * ay - ny * ax
            u = np.rint((ax * (vx - x) + ay * (vy - y) + az * (vz - z)) / size)
            v = np.rint((tx * (vx - x) + ty * (vy - y) + tz * (vz - z)) / size)
            places[i, 0] = x + size * (u * ax + v * tx)
            places[i, 1] = y + size * (u * ay + v * ty)
            places[i, 2] = z + size * (u * az + v * tz)


@kernel
def _steps(begin, end, points, normals, ways, places, size, out, turns, reals):
    """How many edges of the lattice lie from the corner next to one vertex to that next to another, in the first one's
    frame; by how many right angles the other's frame is turned against it; and how far it truly is."""
    found = np.empty(10)
    for e in range(begin.shape[0]):
        i, j = begin[e], end[e]
        nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
        mx, my, mz = normals[j, 0], normals[j, 1], normals[j, 2]
        wx, wy, wz = ways[i, 0], ways[i, 1], ways[i, 2]
        qx, qy, qz = ways[j, 0], ways[j, 1], ways[j, 2]
        ax, ay, az, bx, by, bz = _alike(wx, wy, wz, nx, ny, nz, qx, qy, qz, mx, my, mz)
        _place_alike(
            places[i, 0], places[i, 1], places[i, 2], ax, ay, az, nx, ny, nz,
            points[i, 0], points[i, 1], points[i, 2], places[j, 0], places[j, 1], places[j, 2], bx, by, bz,
            mx, my, mz, points[j, 0], points[j, 1], points[j, 2], size, found,
        )  # fmt: skip
        tx, ty, tz = ny * wz - nz * wy, nz * wx - nx * wz, nx * wy - ny * wx
        sx, sy, sz = my * qz - mz * qy, mz * qx - mx * qz, mx * qy - my * qx
        own = 0 if ax * wx + ay * wy + az * wz > 0.5 else 1
        along, across = bx * qx + by * qy + bz * qz, bx * sx + by * sy + bz * sz
        if abs(along) > abs(across):
            other = 0 if along > 0.0 else 2
        else:
            other = 1 if across > 0.0 else 3
        turns[e] = (own - other) & 3
        x, y = int(found[6] - found[8]), int(found[7] - found[9])
        out[e, 0], out[e, 1] = (x, y) if own == 0 else (-y, x)
        dx, dy, dz = places[j, 0] - places[i, 0], places[j, 1] - places[i, 1], places[j, 2] - places[i, 2]
        reals[e, 0] = (dx * wx + dy * wy + dz * wz) / size
        reals[e, 1] = (dx * tx + dy * ty + dz * tz) / size


@kernel
def _match(order, begin, end, mate):
    """Pair vertices along edges, in an order."""
    for k in range(order.shape[0]):
        i, j = begin[order[k]], end[order[k]]
        if mate[i] < 0 and mate[j] < 0:
            mate[i], mate[j] = j, i


class _Level(NamedTuple):
    """A surface's vertices, or pairs of those of the level below; `up` leads to the pair in the next one."""

    points: np.ndarray
    normals: np.ndarray
    areas: np.ndarray
    lines: np.ndarray
    along: np.ndarray
    graph: csr_matrix
    up: np.ndarray | None = None


def _unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]


def _coarser(level: _Level) -> tuple[_Level, _Level]:
    """The level with where its vertices go, and that of the pairs."""
    upper = coo_matrix(level.graph)
    some = upper.row < upper.col
    begin, end = upper.row[some].astype(np.int64), upper.col[some].astype(np.int64)
    ratio = level.areas[begin] / level.areas[end]
    score = (level.normals[begin] * level.normals[end]).sum(axis=1) * np.maximum(ratio, 1 / ratio)
    mate = np.full(len(level.points), -1, dtype=np.int64)
    _match(np.argsort(-score, kind="stable"), begin, end, mate)
    own = np.arange(len(mate))
    first = np.where(mate < 0, own, np.minimum(own, mate))
    _, up = np.unique(first, return_inverse=True)
    count = int(up.max()) + 1
    merge = csr_matrix((np.ones(len(up)), (up, own)), shape=(count, len(up)))
    weighted = csr_matrix((level.areas, (up, own)), shape=(count, len(up)))
    areas = np.maximum(merge @ level.areas, 1e-300)
    lines = np.zeros(count, dtype=np.uint8)
    np.maximum.at(lines, up, level.lines)
    leading = np.full(count, -1)
    order = np.argsort(level.lines, kind="stable")
    leading[up[order]] = order  # the one on a line leads
    points = (weighted @ level.points) / areas[:, None]
    on = lines > 0
    points[on] = level.points[leading[on]]
    graph = (merge @ level.graph @ merge.T).tocsr()
    graph.setdiag(0)
    graph.eliminate_zeros()
    normals = _unit(weighted @ level.normals)
    upper_level = _Level(points, normals, areas, lines, level.along[leading], graph)
    return level._replace(up=up), upper_level


def lattice_fields(
    points: np.ndarray, normals: np.ndarray, areas: np.ndarray, edges: np.ndarray, weights: np.ndarray,
    lines: np.ndarray, along: np.ndarray, size: float, progress: Progress,
) -> Fields:  # fmt: skip
    """The directions and places that quads of one edge length follow over a surface.

    Parameters
    ----------
    points, normals : ndarray, shape (V, 3)
        Vertices, mm, about a third of a quad's edge apart, and unit normals.
    areas : ndarray, shape (V,)
        What belongs to each, mm².
    edges : ndarray of int, shape (E, 2)
    weights : ndarray, shape (E,)
        How much the two ends of each go by each other.
    lines : ndarray of uint8, shape (V,)
        1 on a line that edges shall follow, 2 at the end or a corner of one, 0 elsewhere.
    along : ndarray, shape (V, 3)
        Unit, the way such a line runs.
    size : float
        The length of an edge, mm.
    progress : Progress

    Returns
    -------
    Fields

    Raises
    ------
    Cancelled
    """
    both = np.concatenate([edges, edges[:, ::-1]])
    count = len(points)
    graph = csr_matrix((np.tile(weights, 2), (both[:, 0], both[:, 1])), shape=(count, count))
    levels = [_Level(points, normals, np.maximum(areas, 1e-300), lines, along, graph)]
    while len(levels[-1].points) > _COARSEST:
        lower, upper = _coarser(levels[-1])
        progress.check()
        if len(upper.points) > 0.95 * len(lower.points):
            break
        levels[-1] = lower
        levels.append(upper)
    state = progress.step("Laying out the quads", 2 * len(levels))
    ways = _directions(levels, state)
    progress.check()
    places = _places(levels, ways, size, state)
    progress.check()
    return Fields(ways[0], places)


def _csr(level: _Level) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    return level.graph.indptr.astype(np.int64), level.graph.indices.astype(np.int64), level.graph.data


def _directions(levels: list[_Level], state: np.ndarray) -> list[np.ndarray]:
    ways: list[np.ndarray] = [np.empty(0)] * len(levels)
    for k in range(len(levels) - 1, -1, -1):
        level = levels[k]
        if k == len(levels) - 1:
            helper = np.eye(3)[np.argmin(np.abs(level.normals), axis=1)]
            own = np.cross(level.normals, helper)
        else:
            own = ways[k + 1][level.up]
            own = own - (own * level.normals).sum(axis=1)[:, None] * level.normals
            lost = np.linalg.norm(own, axis=1) < 1e-6
            own[lost] = np.cross(level.normals, np.eye(3)[np.argmin(np.abs(level.normals), axis=1)])[lost]
        on = level.lines == 1
        own[on] = level.along[on] - (level.along * level.normals).sum(axis=1)[on, None] * level.normals[on]
        ways[k] = np.ascontiguousarray(_unit(own))
        _turn_alike(*_csr(level), level.normals, level.lines, ways[k], _ROUNDS, state)
        state[1] += 1
    return ways


def _places(levels: list[_Level], ways: list[np.ndarray], size: float, state: np.ndarray) -> np.ndarray:
    places = levels[-1].points.copy()
    for k in range(len(levels) - 1, -1, -1):
        level = levels[k]
        if k < len(levels) - 1:
            places = places[level.up]
            up = ((places - level.points) * level.normals).sum(axis=1)
            places = places - up[:, None] * level.normals
        fixed = level.lines == 2
        places[fixed] = level.points[fixed]
        places = np.ascontiguousarray(places)
        _put_alike(
            *_csr(level), level.points, level.normals, ways[k], level.lines, level.along, places, size, _ROUNDS, state
        )
        state[1] += 1
    return places


def steps_along(
    begin: np.ndarray, end: np.ndarray, points: np.ndarray, normals: np.ndarray, fields: Fields, size: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """How many edges of the lattice lie between the corners next to the ends of edges.

    Parameters
    ----------
    begin, end : ndarray of int64, shape (E,)
        The ends.
    points, normals : ndarray, shape (V, 3)
    fields : Fields
    size : float
        The length of an edge of the lattice, mm.

    Returns
    -------
    steps : ndarray of int64, shape (E, 2)
        Along the first direction at each beginning, and the one a right angle on.
    turns : ndarray of int64, shape (E,)
        By how many right angles the first direction at the end is turned against that at the beginning.
    reals : ndarray, shape (E, 2)
        As the steps, how far it truly is.
    """
    count = len(begin)
    steps, turns, reals = np.empty((count, 2), dtype=np.int64), np.empty(count, dtype=np.int64), np.empty((count, 2))
    _steps(begin, end, points, normals, fields.ways, fields.places, size, steps, turns, reals)
    return steps, turns, reals
