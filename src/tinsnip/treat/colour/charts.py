"""A surface cut into charts that lie flat: grown until they turn too far, each seen along its own way."""

from itertools import pairwise
from typing import NamedTuple

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from tinsnip.errors import BadInput
from tinsnip.kernels import kernel
from tinsnip.mesh import Mesh
from tinsnip.mesh.connected import parts_over_edges
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import Progress
from tinsnip.space.packing import packed
from tinsnip.treat.colour.seams import seams_led

__all__ = ["Charts", "lay_out"]

_TURN = 55.0
"""Degrees by which a chart may turn away from its own way: it is squeezed to 0.57 there at most."""
_FIRST = 30.0
"""Degrees round where it begins from which its own way is taken."""
_EVENED = 4
"""Rounds over which normals are evened out, so that noise makes no charts."""
_STEEP = 0.1
"""Cosine of its own way and a triangle's from which on it may join a chart that it would be a scrap beside."""
_SCRAP = 24
"""Triangles; smaller charts join others where they can."""
_ROUNDS = 6
_LEVELS = 3
"""How often a chart that lies over itself is taken apart."""
_FULL = 0.92
_SHRINK = 0.965
_SMALLEST = 0.25
"""Share of what would just fit the sheet, below which padding takes most of it."""


class Charts(NamedTuple):
    """Where each triangle lies on the sheet.

    Attributes
    ----------
    corners : ndarray of float64, shape (F, 3, 2)
        Pixels from the lower left corner of the sheet, y upward.
    chart : ndarray of int64, shape (F,)
    count : int
    scale : float
        Pixels a mm.
    """

    corners: np.ndarray
    chart: np.ndarray
    count: int
    scale: float


@kernel
def _evened(twins, normals, areas, out):
    """Each normal with those over its three edges, by area; none across a sharp edge."""
    for f in range(out.shape[0]):
        x, y, z = areas[f] * normals[f, 0], areas[f] * normals[f, 1], areas[f] * normals[f, 2]
        for k in range(3):
            twin = twins[3 * f + k]
            if twin >= 0:
                g = twin // 3
                like = normals[f, 0] * normals[g, 0] + normals[f, 1] * normals[g, 1] + normals[f, 2] * normals[g, 2]
                if like > 0.3:
                    x += areas[g] * normals[g, 0]
                    y += areas[g] * normals[g, 1]
                    z += areas[g] * normals[g, 2]
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0:
            out[f, 0], out[f, 1], out[f, 2] = x / length, y / length, z / length
        else:
            out[f, 0], out[f, 1], out[f, 2] = normals[f, 0], normals[f, 1], normals[f, 2]


@kernel
def _spread(twins, normals, areas, seed, number, label, x, y, z, least, queue, mean):
    """Take all that hangs together from a seed on and turns no further; how many, and their sum of normals."""
    queue[0] = seed
    label[seed] = number
    head, tail = 0, 1
    mean[0] = mean[1] = mean[2] = 0.0
    while head < tail:
        f = queue[head]
        head += 1
        for k in range(3):
            mean[k] += areas[f] * normals[f, k]
        for k in range(3):
            twin = twins[3 * f + k]
            if twin < 0:
                continue
            g = twin // 3
            if label[g] < 0 and x * normals[g, 0] + y * normals[g, 1] + z * normals[g, 2] >= least:
                label[g] = number
                queue[tail] = g
                tail += 1
    return tail


@kernel
def _grow(twins, normals, areas, order, first, least, label, ways, state):
    """Charts one after another, each from where nothing is yet; how many."""
    queue = np.empty(normals.shape[0], dtype=np.int64)
    mean = np.empty(3)
    count = 0
    for i in range(order.shape[0]):
        seed = order[i]
        if label[seed] >= 0:
            continue
        if state[0]:
            return count
        x, y, z = normals[seed, 0], normals[seed, 1], normals[seed, 2]
        taken = _spread(twins, normals, areas, seed, count, label, x, y, z, first, queue, mean)
        length = np.sqrt(mean[0] * mean[0] + mean[1] * mean[1] + mean[2] * mean[2])
        if length > 0.0:  # once more, by the way that what is near it faces
            x, y, z = mean[0] / length, mean[1] / length, mean[2] / length
            if x * normals[seed, 0] + y * normals[seed, 1] + z * normals[seed, 2] >= least:
                for j in range(taken):
                    label[queue[j]] = -1
                _spread(twins, normals, areas, seed, count, label, x, y, z, least, queue, mean)
        ways[count, 0], ways[count, 1], ways[count, 2] = x, y, z
        count += 1
    return count


@kernel
def _overlaps(corners, depth, chart, low, wide, cells, begin_of, near, out):
    """Triangles that lie over others of their chart at quite another depth: seen on a grid of cells for each chart."""
    for f in range(corners.shape[0]):
        c = chart[f]
        x = (corners[f, 0, 0] + corners[f, 1, 0] + corners[f, 2, 0]) / 3.0 - low[c, 0]
        y = (corners[f, 0, 1] + corners[f, 1, 1] + corners[f, 2, 1]) / 3.0 - low[c, 1]
        i, j = int(x / wide[c]), int(y / wide[c])
        n = begin_of[c] + j * cells[c] + i
        if depth[f] > near[n]:
            near[n] = depth[f]
    for f in range(corners.shape[0]):
        c = chart[f]
        x = (corners[f, 0, 0] + corners[f, 1, 0] + corners[f, 2, 0]) / 3.0 - low[c, 0]
        y = (corners[f, 0, 1] + corners[f, 1, 1] + corners[f, 2, 1]) / 3.0 - low[c, 1]
        i, j = int(x / wide[c]), int(y / wide[c])
        # within a cell a surface that leans by the most that is allowed falls by this much
        out[f] = near[begin_of[c] + j * cells[c] + i] - depth[f] > 3.0 * wide[c]


def _flat(mesh: Mesh, chart: np.ndarray, ways: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Corners as seen along the way of their chart, mm, shape (F, 3, 2), and the depth of each triangle."""
    helper = np.eye(3)[np.argmin(np.abs(ways), axis=1)]
    right = np.cross(helper, ways)
    right /= np.maximum(np.linalg.norm(right, axis=1), 1e-300)[:, None]
    up = np.cross(ways, right)
    places = mesh.vertices[mesh.faces] - mesh.box.mean(axis=0)
    corners = np.stack(
        [np.einsum("fkc,fc->fk", places, right[chart]), np.einsum("fkc,fc->fk", places, up[chart])], axis=-1
    )
    return corners, np.einsum("fc,fc->f", places.mean(axis=1), ways[chart])


def _numbered(mesh: Mesh, chart: np.ndarray, ways: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Charts numbered anew, one for each part that hangs together."""
    half = np.arange(3 * len(chart))
    twin = np.where(mesh.twins >= 0, mesh.twins, half)
    same = chart[twin // 3] == chart[half // 3]
    part = parts_over_edges(np.where(same, mesh.twins, -1), np.arange(len(chart)))
    first = np.unique(part, return_index=True)[1]
    return part.astype(np.int64), ways[chart[first]]


def _without_scraps(mesh: Mesh, chart: np.ndarray, ways: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """Charts in which scraps have joined what they border on longest, where they can be seen from there."""
    half = np.arange(3 * len(chart))
    for _ in range(_ROUNDS):
        size = np.bincount(chart, minlength=len(ways))
        scrap = size[chart] < _SCRAP
        border = half[(mesh.twins >= 0) & scrap[half // 3]]
        other = chart[mesh.twins[border] // 3]
        fits = (normals[border // 3] * ways[other]).sum(axis=1) > _STEEP
        fits &= (other != chart[border // 3]) & (size[other] > size[chart[border // 3]])
        border, other = border[fits], other[fits]
        if len(border) == 0:
            break
        best = np.argsort(size[other], kind="stable")  # the largest is written last, and stays
        chart = chart.copy()
        chart[border[best] // 3] = other[best]
    return chart


def lay_out(mesh: Mesh, pixels: int, padding: int, progress: Progress) -> Charts:
    """Cut a surface into charts, and lay them on a square sheet.

    Parameters
    ----------
    mesh : Mesh
        With at least one triangle.
    pixels : int
        Of the sheet, along each side.
    padding : int
        Pixels that stay free round each chart.
    progress : Progress

    Raises
    ------
    BadInput
        When there are so many charts that the sheet is taken up by what stays free.
    """
    state = progress.step("Cutting into charts")
    vectors = face_vectors(mesh.vertices, mesh.faces)
    size = np.linalg.norm(vectors, axis=1)
    areas, normals = 0.5 * size, vectors / np.maximum(size, 1e-300)[:, None]
    smooth = normals
    for _ in range(_EVENED):
        out = np.empty_like(smooth)
        _evened(mesh.twins, smooth, areas, out)
        smooth = out
    chart = np.full(len(mesh.faces), -1, dtype=np.int64)
    ways = np.zeros((len(mesh.faces), 3))
    flattest = np.argsort(-(smooth * normals).sum(axis=1), kind="stable")
    count = _grow(
        mesh.twins, smooth, areas, flattest, np.cos(np.radians(_FIRST)), np.cos(np.radians(_TURN)), chart, ways, state
    )  # fmt: skip
    progress.check()
    chart = _without_scraps(mesh, chart, ways[:count], normals)
    chart, ways = _numbered(mesh, chart, ways[:count])
    led = seams_led(mesh, chart, ways, normals, _TURN, progress)
    chart = _without_scraps(mesh, led, ways, normals)
    progress.check()
    chart, ways = _numbered(mesh, chart, ways)
    for _ in range(_LEVELS):
        over = _lying_over(mesh, chart, ways)
        if not over.any():
            break
        ways = np.concatenate([ways, ways])
        chart, ways = _numbered(mesh, np.where(over, chart + len(ways) // 2, chart), ways)
        progress.check()
    corners, _ = _flat(mesh, chart, ways)
    progress.step("Packing charts")
    return _on_the_sheet(corners, chart, len(ways), pixels, padding, progress)


def _lying_over(mesh: Mesh, chart: np.ndarray, ways: np.ndarray) -> np.ndarray:
    """Which triangles lie below others of their own chart, as the lower turns of a ramp do."""
    corners, depth = _flat(mesh, chart, ways)
    low, high = _boxes(corners, chart, len(ways))
    edge = float(np.sqrt(2.3 * mesh.area / max(len(mesh.faces), 1)))
    extent = high - low
    wide = np.maximum(np.maximum(1.5 * edge, extent.max(axis=1) / 2000.0), 1e-12)
    across = (extent[:, 0] / wide).astype(np.int64) + 1
    begin = np.concatenate([[0], np.cumsum(across * ((extent[:, 1] / wide).astype(np.int64) + 1))])
    out = np.zeros(len(chart), dtype=np.bool_)
    _overlaps(corners, depth, chart, low, wide, across, begin, np.full(begin[-1], -np.inf), out)
    return out


def _boxes(corners: np.ndarray, chart: np.ndarray, count: int) -> tuple[np.ndarray, np.ndarray]:
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, chart, corners.min(axis=1))
    np.maximum.at(high, chart, corners.max(axis=1))
    return low, high


def _squared_up(corners: np.ndarray, order: np.ndarray, starts: np.ndarray) -> None:
    """Turn each chart so that its box is as small as can be, the long side across; in place."""
    for first, last in pairwise(starts):
        own = order[first:last]
        points = corners[own].reshape(-1, 2)
        try:
            hull = points[ConvexHull(points).vertices]
        except (QhullError, ValueError):  # next to nothing, or a line
            hull = points
        edges = np.roll(hull, -1, axis=0) - hull
        turns = np.unique(np.round(np.arctan2(edges[:, 1], edges[:, 0]) % (np.pi / 2), 4))[:720]
        cos, sin = np.cos(turns)[:, None], np.sin(turns)[:, None]
        wide = np.ptp(cos * hull[:, 0] + sin * hull[:, 1], axis=1)
        high = np.ptp(cos * hull[:, 1] - sin * hull[:, 0], axis=1)
        at = int(np.argmin(wide * high))
        turn = turns[at] + (np.pi / 2 if high[at] > wide[at] else 0.0)
        c, s = np.cos(turn), np.sin(turn)
        x, y = corners[own, :, 0], corners[own, :, 1]
        corners[own] = np.stack([c * x + s * y, c * y - s * x], axis=-1)


def _on_the_sheet(
    corners: np.ndarray, chart: np.ndarray, count: int, pixels: int, padding: int, progress: Progress
) -> Charts:
    """Charts side by side, as large as fits."""
    order = np.argsort(chart, kind="stable")
    starts = np.searchsorted(chart[order], np.arange(count + 1))
    _squared_up(corners, order, starts)
    low, high = _boxes(corners, chart, count)
    extent = high - low
    beside = 2 * padding + 1
    room = _FULL * pixels**2
    bare = np.sqrt(room / max(float(extent.prod(axis=1).sum()), 1e-300))
    bare = min(bare, (pixels - beside) / max(float(extent.max()), 1e-300))
    scale = bare
    while scale > _SMALLEST * bare:
        progress.check()
        sizes = np.ceil(scale * extent) + beside
        if sizes.prod(axis=1).sum() <= room and sizes.max() <= pixels:
            places, height = packed(sizes, float(pixels))
            if height <= pixels:
                moved = (corners - low[chart][:, None]) * scale + (places + padding + 0.5)[chart][:, None]
                return Charts(moved, chart, count, scale)
        scale *= _SHRINK
    raise BadInput(
        f"the surface falls into {count} charts, too many for {pixels} pixels; sweep strays and mend it, or take more"
    )
