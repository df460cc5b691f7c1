"""Crossings and folds of whole meshes in rational arithmetic; only what floats plainly tell apart is left out."""

import numpy as np

from tests.test_crossings import meet, more_in_common, whole_numbers

_SURE = 1e-12
"""Share of the cube of the lengths at hand below which a determinant's sign is not trusted."""


def near_pairs(points: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Pairs of triangles whose boxes meet: each pair once, in the one cell where their boxes begin to be in common."""
    low, high = points[faces].min(axis=1), points[faces].max(axis=1)
    cell = 2.0 * max(float(np.median((high - low).max(axis=1))), 1e-12 * float(np.ptp(points)), 1e-300)
    while True:
        first, last = (np.floor((end - low.min(axis=0)) / cell).astype(np.int64) for end in (low, high))
        spans = last - first + 1
        if spans.prod(axis=1).sum() <= 12 * len(faces):
            break
        cell *= 1.5
    counts = spans.prod(axis=1)
    who = np.repeat(np.arange(len(faces)), counts)
    nth = np.arange(len(who)) - np.repeat(np.cumsum(counts) - counts, counts)
    side, up = spans[who, 2], spans[who, 1]
    places = first[who] + np.column_stack([nth // (side * up), nth // side % up, nth % side])
    extent = last.max(axis=0) + 1
    keys = (places[:, 0] * extent[1] + places[:, 1]) * extent[2] + places[:, 2]
    order = np.argsort(keys, kind="stable")
    who, places, keys = who[order], places[order], keys[order]
    beside = np.searchsorted(keys, keys, side="right") - np.arange(len(keys)) - 1
    ends = np.cumsum(beside)
    found, begin = [], 0
    while begin < len(keys):
        end = max(begin + 1, int(np.searchsorted(ends, ends[begin] + 4_000_000)))
        many = beside[begin:end]
        one = np.repeat(np.arange(begin, end), many)
        other = one + 1 + np.arange(len(one)) - np.repeat(np.cumsum(many) - many, many)
        i, j = who[one], who[other]
        meets = np.ones(len(one), dtype=bool)
        for k in range(3):
            meets &= (low[i, k] <= high[j, k]) & (low[j, k] <= high[i, k])
            meets &= np.maximum(first[i, k], first[j, k]) == places[one, k]
        found.append(np.column_stack([i[meets], j[meets]]))
        begin = end
    return np.concatenate(found)


def surely_apart(points: np.ndarray, one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """Pairs that the plane of the first, or one upright on a side of it, parts beyond doubt but for common corners."""
    shared = other[:, :, None] == one[:, None, :]
    common = shared.any(axis=2)
    a, b, c = (points[one[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    ways = [normal, *(np.cross(points[one[:, (k + 1) % 3]] - points[one[:, k]], normal) for k in range(3))]
    reach = np.abs(points[other] - a[:, None]).max(axis=(1, 2)) + np.abs(b - a).max(axis=1) + np.abs(c - a).max(axis=1)
    apart = np.zeros(len(one), dtype=bool)
    for k, way in enumerate(ways):
        base = points[one[:, max(k - 1, 0)]]
        off = np.einsum("ij,ikj->ik", way, points[other] - base[:, None])
        clear = off > _SURE * (reach ** (3 if k == 0 else 4))[:, None]
        below = -off > _SURE * (reach**3)[:, None]
        # a common corner has to lie in the plane that parts them
        in_plane = common if k == 0 else shared[:, :, k - 1] | shared[:, :, k % 3]
        apart |= (clear | in_plane).all(axis=1)
        if k == 0:
            apart |= (below | in_plane).all(axis=1)
    return apart & ~common.all(axis=1)


def counted_exactly(points: np.ndarray, faces: np.ndarray) -> tuple[int, int]:
    """How many pairs of triangles cross, and how many neighbours fold onto each other."""
    pairs = near_pairs(points, faces)
    one, other = faces[pairs[:, 0]], faces[pairs[:, 1]]
    doubtful = ~surely_apart(points, one, other)
    doubtful[doubtful] = ~surely_apart(points, other[doubtful], one[doubtful])
    crossings = folds = 0
    for i, j in pairs[doubtful].tolist():
        f, g = faces[i].tolist(), faces[j].tolist()
        exact = dict(zip(f + g, whole_numbers(points[f + g]), strict=True))
        common = sorted(set(f) & set(g))
        triangles = [exact[v] for v in f], [exact[v] for v in g]
        if common and len(common) < 3:
            folds += more_in_common(*triangles, [exact[v] for v in common])
        elif not common:
            crossings += meet(*triangles)
    return crossings, folds
