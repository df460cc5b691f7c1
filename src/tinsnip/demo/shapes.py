"""The true shapes of the demo parts, as signed distances in millimetres (negative inside).

Unions are blended with the polynomial smooth minimum, so away from the surface the value is only a bound.
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.threads import in_chunks

__all__ = ["PUMP_COVER", "distances", "gradients", "seen_from"]

PUMP_COVER = 0


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
    # seven bolt bosses with blind holes, one left out where the branch passes
    for i in range(7):
        angle = 0.35 + i * 0.8975979
        bx, by = x - 74.0 * np.cos(angle), y - 74.0 * np.sin(angle)
        d = _blend(d, _disc(bx, by, z, 13.0, -6.0, 24.0, 2.0), 4.0)
        d = _cut_out(d, _disc(bx, by, z, 5.0, 18.0, 40.0, 1.0), 1.0)
    d = _cut_out(d, _disc(x, y, z, 16.0, 54.0, 90.0, 3.0), 1.5)
    d = _cut_out(d, _disc(across, z - 33.0, along, 13.0, 94.0, 130.0, 3.0), 1.5)
    # a cast rib and a nameplate give the eye something to hold on to
    rib = max(abs(-0.5 * x + 0.866 * y) - 3.0, abs(z - 25.0) - 22.0, abs(0.866 * x + 0.5 * y - 46.0) - 18.0)
    return _blend(d, rib, 4.0)


@kernel
def _distance(kind, x, y, z):
    if kind == 0:
        return _pump_cover(x, y, z)
    return np.inf


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
def _seen(kind, points, normals, bed, station, cosine):
    """Set `cosine` to that of the angle at which a station sees each point; 0 where it does not."""
    for i in range(points.shape[0]):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        dx, dy, dz = station[0] - x, station[1] - y, station[2] - z
        length = np.sqrt(dx * dx + dy * dy + dz * dz)
        dx, dy, dz = dx / length, dy / length, dz / length
        c = dx * normals[i, 0] + dy * normals[i, 1] + dz * normals[i, 2]
        cosine[i] = 0.0
        if c < 0.12:
            continue
        t = 0.8
        clear = True
        while t < length:
            px, py, pz = x + t * dx, y + t * dy, z + t * dz
            if pz > 110.0:
                break
            d = _distance(kind, px, py, pz)
            if bed > 0.0:
                d = min(d, pz)
            if d < 0.05:
                clear = False
                break
            t += max(0.85 * d, 0.1)
        if clear:
            cosine[i] = c


def distances(kind: int, points: np.ndarray, bed: float = 0.0) -> np.ndarray:
    """Signed distance of points, shape (N, 3), to a shape; with `bed` > 0 blended into the bed at z = 0."""
    out = np.empty(len(points))
    in_chunks(lambda a, b: _distances(kind, points[a:b], bed, out[a:b]), len(points))
    return out


def gradients(kind: int, points: np.ndarray, bed: float = 0.0, step: float = 0.02) -> np.ndarray:
    """Gradient of the signed distance by central differences, shape (N, 3)."""
    out = np.empty((len(points), 3))
    in_chunks(lambda a, b: _gradients(kind, points[a:b], bed, step, out[a:b]), len(points))
    return out


def seen_from(kind: int, points: np.ndarray, normals: np.ndarray, bed: float, station: np.ndarray) -> np.ndarray:
    """Cosine of the angle at which a station sees each point, shape (N,); 0 where it does not."""
    out = np.empty(len(points))
    in_chunks(lambda a, b: _seen(kind, points[a:b], normals[a:b], bed, station, out[a:b]), len(points))
    return out
