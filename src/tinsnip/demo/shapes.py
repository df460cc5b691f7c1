"""The true shapes of the demo parts, as signed distances in millimetres (negative inside).

Unions are blended with the polynomial smooth minimum, so away from the surface the value is only a bound.
"""

import math

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.threads import in_chunks

__all__ = ["FOUNTAIN_SPOUT", "GAUGE_LANTERN", "PUMP_COVER", "distances", "gradients", "seen_from"]

PUMP_COVER, FOUNTAIN_SPOUT, GAUGE_LANTERN = 0, 1, 2

_BOSSES = np.array([[74.0 * math.cos(0.35 + i * 0.8975979), 74.0 * math.sin(0.35 + i * 0.8975979)] for i in range(7)])
"""Middles of the pump cover's bolt bosses, mm."""


@kernel
def _blend(a, b, k):
    h = max(k - abs(a - b), 0.0) / k
    return min(a, b) - h * h * k * 0.25


@kernel
def _cut_out(a, b, k):
    """a without b, its edge rounded by k."""
    return -_blend(-a, b, k)


@kernel
def _disc(x, y, z, radius, low, high, rounding):
    """Upright round-edged cylinder."""
    dx = np.sqrt(x * x + y * y) - radius + rounding
    dz = abs(z - 0.5 * (low + high)) - 0.5 * (high - low) + rounding
    outside = np.sqrt(max(dx, 0.0) ** 2 + max(dz, 0.0) ** 2)
    return min(max(dx, dz), 0.0) + outside - rounding


@kernel
def _pump_cover(x, y, z):
    d = _disc(x, y, z, 72.0, -6.0, 14.0, 3.0)
    # the volute: a flattened ring round the neck
    q = np.sqrt(x * x + y * y) - 40.0
    d = _blend(d, np.sqrt(q * q + (z - 22.0) ** 2 * 1.2) - 23.0, 6.0)
    d = _blend(d, _disc(x, y, z, 34.0, 0.0, 44.0, 5.0), 6.0)
    # the delivery branch leaves sideways, with a flange at its mouth
    ax, ay = -0.97014, -0.24254
    along = x * ax + y * ay
    across = -x * ay + y * ax
    d = _blend(d, _disc(across, z - 33.0, along, 17.0, 20.0, 112.0, 2.0), 5.0)
    d = _blend(d, _disc(across, z - 33.0, along, 24.0, 102.0, 112.0, 2.0), 2.0)
    # a web carries it
    web = max(abs(across) - 11.0, abs(z - 10.0) - 22.0, abs(along - 62.0) - 38.0)
    d = _blend(d, web, 8.0)
    # the neck
    d = _blend(d, _disc(x, y, z, 23.0, 0.0, 72.0, 2.0), 5.0)
    d = _blend(d, np.sqrt((np.sqrt(x * x + y * y) - 22.0) ** 2 + (z - 66.0) ** 2) - 5.0, 5.0)
    # seven bolt bosses with blind holes; those too far off to matter are passed over
    for i in range(7):
        bx, by = x - _BOSSES[i, 0], y - _BOSSES[i, 1]
        away = np.sqrt(bx * bx + by * by) - 0.01
        if away - 13.0 < d + 4.0:
            d = _blend(d, _disc(bx, by, z, 13.0, -6.0, 24.0, 2.0), 4.0)
        if away - 5.0 < 1.0 - d:
            d = _cut_out(d, _disc(bx, by, z, 5.0, 18.0, 40.0, 1.0), 1.0)
    d = _cut_out(d, _disc(x, y, z, 16.0, 54.0, 90.0, 3.0), 1.5)
    d = _cut_out(d, _disc(across, z - 33.0, along, 13.0, 94.0, 130.0, 3.0), 1.5)
    # a cast rib and a nameplate give the eye something to hold on to
    rib = max(abs(-0.5 * x + 0.866 * y) - 3.0, abs(z - 25.0) - 22.0, abs(0.866 * x + 0.5 * y - 46.0) - 18.0)
    return _blend(d, rib, 4.0)


@kernel
def _ball(x, y, z, radius):
    return np.sqrt(x * x + y * y + z * z) - radius


@kernel
def _fountain_spout(x, y, z):
    """A carved stone head: brow, cheeks, mane and an open mouth with a lead pipe; it has no flat base."""
    d = _ball(x, y * 1.05, (z - 60.0) * 0.86, 46.0)
    d = _blend(d, _ball(x, y + 40.0, z - 48.0, 22.0), 16.0)
    for side in (-1.0, 1.0):
        d = _blend(d, _ball(x - side * 22.0, y + 28.0, z - 56.0, 17.0), 10.0)
        d = _blend(d, _ball(x - side * 17.0, y + 34.0, (z - 84.0) * 1.3, 13.0), 8.0)
        d = _cut_out(d, _ball(x - side * 17.0, y + 46.0, z - 76.0, 7.5), 3.0)
        d = _blend(d, _ball(x - side * 38.0, y + 2.0, z - 98.0, 11.0), 8.0)
    d = _cut_out(d, _disc(x, z - 44.0, -y, 12.0, 44.0, 90.0, 4.0), 4.0)
    d = _blend(d, max(_disc(x, z - 44.0, -y, 8.0, 30.0, 78.0, 1.0), -_disc(x, z - 44.0, -y, 6.0, 60.0, 95.0, 0.5)), 1.0)
    # the mane: locks that run down the back, and tool marks
    turn = np.arctan2(x, y)
    lock = np.sin(9.0 * turn + 0.05 * z) * np.sin(0.11 * z + 0.6 * np.sin(3.0 * turn))
    behind = 1.0 / (1.0 + np.exp(-(y + 8.0) * 0.15))
    crown = min(1.0, np.sqrt(x * x + y * y) / 22.0)  # the locks run out towards the top
    d = d - 2.4 * behind * lock * crown * crown
    neck = _disc(x, y - 2.0, z, 30.0, 6.0, 40.0, 6.0)
    return _blend(d, neck, 14.0) * 0.8


@kernel
def _gauge_lantern(x, y, z):
    """A brass lantern for a water gauge: foot, eight ribs round an open cage, cap with a ring."""
    r = np.sqrt(x * x + y * y)
    d = _disc(x, y, z, 34.0, 0.0, 9.0, 2.0)
    d = _blend(d, _disc(x, y, z, 27.0, 6.0, 16.0, 2.0), 3.0)
    if abs(r - 24.0) - 3.21 < d + 3.0:  # else the ribs are too far off to matter
        turn = np.arctan2(y, x)
        step = 2.0 * np.pi / 8.0
        turn = turn - step * np.round(turn / step)
        px, py = r * np.cos(turn), r * np.sin(turn)
        d = _blend(d, _disc(px - 24.0, py, z, 3.2, 8.0, 92.0, 1.0), 3.0)
    d = _blend(d, _disc(x, y, z, 15.0, 10.0, 92.0, 1.0), 2.0)
    band = np.sqrt((r - 24.0) ** 2 + (z - 50.0) ** 2) - 3.6
    d = _blend(d, band, 2.5)
    d = _blend(d, _disc(x, y, z, 30.0, 86.0, 96.0, 2.0), 3.0)
    cone = max((r - 29.0 + (z - 94.0) * 0.85) * 0.76, 94.0 - z, z - 118.0)
    d = _blend(d, cone, 3.0)
    ring = np.sqrt((np.sqrt(x * x + (z - 126.0) ** 2) - 9.0) ** 2 + y * y) - 3.0
    return _blend(d, ring, 4.0)


@kernel
def _distance(kind, x, y, z):
    if kind == 0:
        return _pump_cover(x, y, z)
    if kind == 1:
        return _fountain_spout(x, y, z)
    return _gauge_lantern(x, y, z)


@kernel
def _distances(kind, points, bed, out):
    for i in range(points.shape[0]):
        d = _distance(kind, points[i, 0], points[i, 1], points[i, 2])
        if bed > 0.0:
            d = _blend(d, points[i, 2], bed)
        out[i] = d


@kernel
def _gradients(kind, points, bed, step, out):
    for i in range(points.shape[0]):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        for k in range(3):
            ex, ey, ez = step * (k == 0), step * (k == 1), step * (k == 2)
            high = _distance(kind, x + ex, y + ey, z + ez)
            low = _distance(kind, x - ex, y - ey, z - ez)
            if bed > 0.0:
                high = _blend(high, z + ez, bed)
                low = _blend(low, z - ez, bed)
            out[i, k] = (high - low) / (2.0 * step)


@kernel
def _is_clear(kind, x, y, z, dx, dy, dz, length, bed):
    """Whether nothing stands between a point of the surface and a station (Hart 1996: a sphere's radius at a time)."""
    t = 0.8
    while t < length:
        px, py, pz = x + t * dx, y + t * dy, z + t * dz
        if pz > 150.0:
            break
        d = _distance(kind, px, py, pz)
        if bed > 0.0:
            d = min(d, pz)
        if d < 0.05:
            return False
        t += max(0.85 * d, 0.1)
    return True


@kernel
def _seen(kind, points, normals, bed, stations, least, cosine):
    """Set `cosine` to that of the steepest angle at which any station sees each point; 0 where none does.

    `least` is what each station needs at each point. Stations that look in steeper are asked first, so that few rays
    are followed.
    """
    count = stations.shape[0]
    angle, order = np.empty(count), np.empty(count, dtype=np.int64)
    way = np.empty((count, 4))
    for i in range(points.shape[0]):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        n = 0
        for s in range(count):
            dx, dy, dz = stations[s, 0] - x, stations[s, 1] - y, stations[s, 2] - z
            length = np.sqrt(dx * dx + dy * dy + dz * dz)
            dx, dy, dz = dx / length, dy / length, dz / length
            c = dx * normals[i, 0] + dy * normals[i, 1] + dz * normals[i, 2]
            if c < 0.12 or not c > least[i, s]:
                continue
            way[s, 0], way[s, 1], way[s, 2], way[s, 3] = dx, dy, dz, length
            k = n
            while k > 0 and angle[k - 1] < c:
                angle[k], order[k] = angle[k - 1], order[k - 1]
                k -= 1
            angle[k], order[k] = c, s
            n += 1
        cosine[i] = 0.0
        for k in range(n):
            s = order[k]
            if _is_clear(kind, x, y, z, way[s, 0], way[s, 1], way[s, 2], way[s, 3], bed):
                cosine[i] = angle[k]
                break


def distances(kind: int, points: np.ndarray, bed: float = 0.0) -> np.ndarray:
    """Signed distance of points, shape (N, 3), to a shape; with `bed` > 0 blended into the bed at z = 0.

    Parameters
    ----------
    kind : int
        Number of the shape.
    points : ndarray, shape (N, 3)
        In mm.
    bed : float
        In mm.
    """
    out = np.empty(len(points))
    in_chunks(lambda a, b: _distances(kind, points[a:b], bed, out[a:b]), len(points))
    return out


def gradients(kind: int, points: np.ndarray, bed: float = 0.0, step: float = 0.02) -> np.ndarray:
    """Gradient of the signed distance by central differences, shape (N, 3).

    Parameters
    ----------
    kind : int
        Number of the shape.
    points : ndarray, shape (N, 3)
        In mm.
    bed : float
        In mm.
    step : float
        Of the differences, mm.
    """
    out = np.empty((len(points), 3))
    in_chunks(lambda a, b: _gradients(kind, points[a:b], bed, step, out[a:b]), len(points))
    return out


def seen_from(
    kind: int, points: np.ndarray, normals: np.ndarray, bed: float, stations: np.ndarray, least: np.ndarray
) -> np.ndarray:
    """How steeply the station that sees a point best looks at it.

    Parameters
    ----------
    kind : int
        Which shape.
    points, normals : ndarray, shape (N, 3)
    bed : float
        Fillet between part and bed, mm; 0 for a part that does not stand on one.
    stations : ndarray, shape (S, 3)
    least : ndarray, shape (N, S)
        Cosine above which a station sees a point at all.

    Returns
    -------
    ndarray, shape (N,)
        Cosines; 0 where no station sees the point.
    """
    out = np.empty(len(points))
    in_chunks(lambda a, b: _seen(kind, points[a:b], normals[a:b], bed, stations, least[a:b], out[a:b]), len(points))
    return out
