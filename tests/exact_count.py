"""Crossings and folds of whole meshes in rational arithmetic; only what floats plainly tell apart is left out."""

import numpy as np

from tests.test_crossings import meet, more_in_common, whole_numbers

_SURE = 1e-12
"""Share of the cube of the lengths at hand below which a determinant's sign is not trusted."""


def near_pairs(points: np.ndarray, faces: np.ndarray) -> np.ndarray:
    """Pairs of triangles whose boxes meet, by sweeping along x."""
    low, high = points[faces].min(axis=1), points[faces].max(axis=1)
    order = np.argsort(low[:, 0], kind="stable")
    low, high = low[order], high[order]
    last = np.searchsorted(low[:, 0], high[:, 0], side="right")
    found = []
    for i in range(len(order)):
        beside = slice(i + 1, last[i])
        meets = (low[beside, 1:] <= high[i, 1:]).all(axis=1) & (high[beside, 1:] >= low[i, 1:]).all(axis=1)
        found.append(np.column_stack([np.full(meets.sum(), i), i + 1 + np.flatnonzero(meets)]))
    return order[np.concatenate(found)]


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
    doubtful = ~(surely_apart(points, one, other) | surely_apart(points, other, one))
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
