"""Closed outlines in a plane: which points lie within, told by the segments of a point's row of cells only."""

import numpy as np

from tinsnip.kernels import kernel

__all__ = ["CELLS", "inside_outline", "left_of", "outline_cells"]

CELLS = 384
"""Cells a side of the grid over an outline."""


@kernel
def left_of(ax, ay, bx, by, px, py):
    """Whether p lies left of the way from a to b.

    Parameters
    ----------
    ax, ay, bx, by, px, py : float
    """
    return (bx - ax) * (py - ay) - (by - ay) * (px - ax) > 0.0


@kernel
def _bin(C, low, cell, start, held, fill):
    """Note for each cell which segments of an outline pass its box; counts first, then fills."""
    count = C.shape[0]
    for s in range(count):
        e = (s + 1) % count
        if C[s, 0] <= C[e, 0]:
            ax, ay, bx, by = C[s, 0], C[s, 1], C[e, 0], C[e, 1]
        else:
            ax, ay, bx, by = C[e, 0], C[e, 1], C[s, 0], C[s, 1]
        slack = 1e-6 * cell
        for i in range(int((ax - slack - low[0]) / cell), int((bx + slack - low[0]) / cell) + 1):
            # the part of the segment within this column of cells
            y0, y1 = ay, by
            if bx - ax > cell:
                rise = (by - ay) / (bx - ax)
                y0 = ay + rise * (max(low[0] + i * cell - slack, ax) - ax)
                y1 = ay + rise * (min(low[0] + (i + 1) * cell + slack, bx) - ax)
            j0, j1 = int((min(y0, y1) - slack - low[1]) / cell), int((max(y0, y1) + slack - low[1]) / cell)
            for j in range(j0, j1 + 1):
                at = i * CELLS + j
                if fill:
                    held[start[at]] = s
                    start[at] += 1
                else:
                    start[at + 1] += 1


@kernel
def _inside_outline(P, C, rows, row_start, row_held, low, cell, inside):
    """Even-odd, by a ray along x, over the segments of a vertex's row of cells only."""
    for v in range(P.shape[0]):
        inside[v] = False
        y = P[v, 1]
        j = int(np.floor((y - low[1]) / cell))
        if j < 0 or j >= rows:
            continue
        odd = False
        for i in range(row_start[j], row_start[j + 1]):
            s = row_held[i]
            e = s + 1 if s + 1 < C.shape[0] else 0
            if (C[s, 1] > y) != (C[e, 1] > y):
                left = left_of(C[s, 0], C[s, 1], C[e, 0], C[e, 1], P[v, 0], y)
                if left == (C[e, 1] > C[s, 1]):
                    odd = not odd
        inside[v] = odd


def inside_outline(points: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Which points lie within a closed outline (even-odd).

    Parameters
    ----------
    points : ndarray, shape (N, 2)
    corners : ndarray, shape (M, 2)

    Returns
    -------
    ndarray of bool, shape (N,)
    """
    corners = np.ascontiguousarray(corners, dtype=float)
    low, cell, *_, row_start, row_held = outline_cells(corners)
    inside = np.zeros(len(points), dtype=np.bool_)
    flat = np.ascontiguousarray(points, dtype=float)
    _inside_outline(flat, corners, CELLS, row_start, row_held, low, cell, inside)
    return inside


def outline_cells(corners: np.ndarray) -> tuple:
    """Cells over an outline: the segments in each, sums of how many, and the segments in each row.

    Parameters
    ----------
    corners : ndarray, shape (C, 2)
        In mm.
    """
    low = corners.min(axis=0)
    cell = float((corners.max(axis=0) - low).max()) / (CELLS - 1)
    low = low - 0.25 * cell
    counts = np.zeros(CELLS * CELLS + 1, dtype=np.int64)
    _bin(corners, low, cell, counts, np.empty(0, dtype=np.int32), False)
    start = np.cumsum(counts)
    held = np.empty(start[-1], dtype=np.int32)
    _bin(corners, low, cell, start.copy(), held, True)
    taken = np.zeros((CELLS + 1, CELLS + 1), dtype=np.int64)
    taken[1:, 1:] = counts[1:].reshape(CELLS, CELLS).cumsum(axis=0).cumsum(axis=1)
    ys = np.floor((np.stack([corners[:, 1], np.roll(corners[:, 1], -1)]) - low[1]) / cell).astype(np.int64)
    bottom, top = ys.min(axis=0), ys.max(axis=0)
    rows = np.concatenate([np.arange(a, b + 1) for a, b in zip(bottom, top, strict=True)])
    which = np.repeat(np.arange(len(corners), dtype=np.int32), top - bottom + 1)
    order = np.argsort(rows, kind="stable")
    row_start = np.searchsorted(rows[order], np.arange(CELLS + 1))
    return low, cell, start, held, taken, row_start, which[order]
