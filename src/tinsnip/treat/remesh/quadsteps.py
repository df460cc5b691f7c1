"""How many edges of the lattice lie along each edge of the triangles that quads are laid out over, made to close.

Round a triangle the steps should come to nothing. Where they do not, a row of quads begins or ends. Two such places
that are opposite are brought together by changing the steps along a way between them, as inserting a row or taking one
out would (for the same end as the flows of Huang et al., QuadriFlow, SGP 2018, one way at a time).
"""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.treat.remesh.edits import PLAIN
from tinsnip.treat.remesh.quadfields import Fields, steps_along

__all__ = ["closed_steps"]

_REACHES = 6.0, 20.0, 60.0, 200.0, 600.0
"""How far ways go, by what they cost; the nearest are brought together first."""
_CHEAPEST, _TO_A_TURN = 0.1, 5.0
"""What it costs at least to go over an edge, and to end where the directions turn instead of at an opposite place."""


@kernel
def _turned(x, y, by):
    """A vector turned by right angles."""
    by &= 3
    if by == 0:
        return x, y
    if by == 1:
        return -y, x
    if by == 2:
        return -x, -y
    return y, -x


@kernel
def _frames(faces, twins, turns, steps, reals, over, single):
    """Write steps and their true lengths in the frame of each triangle's first corner, and the turn over each edge.

    Triangles round which the directions themselves turn are told: there steps have no meaning.
    """
    for f in range(faces.shape[0]):
        h = 3 * f
        second, third = turns[h], turns[h] + turns[h + 1]
        single[f] = (third + turns[h + 2]) & 3 != 0
        for k in range(3):
            own = 0 if k == 0 else (second if k == 1 else third)
            steps[h + k, 0], steps[h + k, 1] = _turned(steps[h + k, 0], steps[h + k, 1], own)
            reals[h + k, 0], reals[h + k, 1] = _turned(reals[h + k, 0], reals[h + k, 1], own)
            t = twins[h + k]
            if t >= 0:
                g, m = t // 3, t % 3
                there = 0 if m == 0 else (turns[3 * g] if m == 1 else turns[3 * g] + turns[3 * g + 1])
                over[h + k] = (there - own - turns[h + k]) & 3


@kernel
def _is_sound(steps, h, x, y, i, u, v):
    """Whether a triangle's steps stay short and turned one way with h longer by x, y, and i by u, v (-1: neither)."""
    f = h // 3 if h >= 0 else i // 3
    total_x = total_y = 0
    ax = ay = bx = by = 0
    for k in range(3):
        e = 3 * f + k
        sx, sy = steps[e, 0], steps[e, 1]
        if e == h:
            sx, sy = sx + x, sy + y
        if e == i:
            sx, sy = sx + u, sy + v
        if abs(sx) > 1 or abs(sy) > 1:
            return False
        total_x += sx
        total_y += sy
        if k == 0:
            ax, ay = sx, sy
        elif k == 1:
            bx, by = sx, sy
    if total_x != 0 or total_y != 0:
        return True
    return ax * by - ay * bx >= 0


@kernel
def _sift_up(heap, key, at):
    while at > 0:
        above = (at - 1) // 2
        if key[heap[above]] <= key[heap[at]]:
            break
        heap[above], heap[at] = heap[at], heap[above]
        at = above


@kernel
def _sift_down(heap, key, count):
    at = 0
    while True:
        least, left = at, 2 * at + 1
        if left < count and key[heap[left]] < key[heap[least]]:
            least = left
        if left + 1 < count and key[heap[left + 1]] < key[heap[least]]:
            least = left + 1
        if least == at:
            return
        heap[least], heap[at] = heap[at], heap[least]
        at = least


@kernel
def _bring_together(twins, kind, steps, reals, over, single, left, reach, seen, state):
    """Carry what is left over round triangles to others that it cancels with; how much was."""
    room = 65536
    face = np.empty(room, dtype=np.int64)  # of each place that was come to
    come = np.empty(room, dtype=np.int64)  # the half-edge of it that was come in by
    from_ = np.empty(room, dtype=np.int64)
    cost = np.empty(room)
    vx, vy = np.empty(room, dtype=np.int64), np.empty(room, dtype=np.int64)
    heap = np.empty(room, dtype=np.int64)
    done = 0
    mark = 0
    for f0 in range(left.shape[0]):
        if single[f0] or (left[f0, 0] == 0 and left[f0, 1] == 0):
            continue
        if state[0]:
            return done
        for axis in range(2):
            while left[f0, axis] != 0:
                mark += 1
                u = 1 if left[f0, axis] > 0 else -1
                face[0], come[0], from_[0], cost[0] = f0, -1, -1, 0.0
                vx[0], vy[0] = (u, 0) if axis == 0 else (0, u)
                count, heap_count = 1, 1
                heap[0] = 0
                last = -1
                while heap_count > 0:
                    n = heap[0]
                    heap_count -= 1
                    heap[0] = heap[heap_count]
                    _sift_down(heap, cost, heap_count)
                    f = face[n]
                    if seen[f] == mark:
                        continue
                    seen[f] = mark
                    x, y = vx[n], vy[n]
                    if single[f]:  # where the directions turn, a row may end
                        last = n
                        break
                    if n > 0 and left[f, 0] * x + left[f, 1] * y < 0 and _is_sound(steps, come[n], x, y, -1, 0, 0):
                        last = n
                        break
                    if cost[n] > reach or (n > 0 and (left[f, 0] != 0 or left[f, 1] != 0)):
                        continue
                    for k in range(3):
                        h = 3 * f + k
                        t = twins[h]
                        if h == come[n] or t < 0 or kind[h] != 0 or seen[t // 3] == mark:
                            continue
                        if not _is_sound(steps, come[n], x, y, h, -x, -y):
                            continue
                        sx, sy, gx, gy = steps[h, 0], steps[h, 1], reals[h, 0], reals[h, 1]
                        more = (sx - x - gx) ** 2 + (sy - y - gy) ** 2 - (sx - gx) ** 2 - (sy - gy) ** 2
                        if count >= room:
                            continue
                        face[count], come[count], from_[count] = t // 3, t, n
                        cost[count] = cost[n] + max(_CHEAPEST, more) + (_TO_A_TURN if single[t // 3] else 0.0)
                        vx[count], vy[count] = _turned(x, y, over[h])
                        heap[heap_count] = count
                        _sift_up(heap, cost, heap_count)
                        heap_count += 1
                        count += 1
                if last < 0:
                    break
                left[face[last], 0] += vx[last]
                left[face[last], 1] += vy[last]
                n = last
                while from_[n] >= 0:
                    t, m = come[n], from_[n]
                    h = twins[t]
                    steps[t, 0] += vx[n]
                    steps[t, 1] += vy[n]
                    steps[h, 0] -= vx[m]
                    steps[h, 1] -= vy[m]
                    n = m
                left[f0, axis] -= u
                done += 1
    return done


def closed_steps(
    points: np.ndarray, normals: np.ndarray, faces: np.ndarray, twins: np.ndarray, kind: np.ndarray, fields: Fields,
    size: float, state: np.ndarray,
) -> tuple[np.ndarray, int]:  # fmt: skip
    """How many edges of the lattice lie along each half-edge, and round how many triangles they do not close.

    Parameters
    ----------
    points, normals : ndarray, shape (V, 3)
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
    kind : ndarray of uint8, shape (3 F,)
        What is not `PLAIN` keeps its steps.
    fields : Fields
    size : float
        The length of an edge of the lattice, mm.
    state : ndarray
        Progress and cancelling.

    Returns
    -------
    steps : ndarray of int64, shape (3 F, 2)
        Along the two directions, in a frame of each triangle's own.
    left : int
    """
    half = np.arange(len(twins))
    corner = faces.ravel().astype(np.int64)
    steps, turns, reals = steps_along(
        corner, corner[half - half % 3 + (half + 1) % 3], points, normals, fields, size
    )  # fmt: skip
    # both sides of an edge have to say the same
    twin = np.flatnonzero(twins > half)
    other = twins[twin]
    turns[other] = (-turns[twin]) & 3
    for by in range(4):
        some = turns[twin] == by
        back = -steps[twin[some]]
        for _ in range((-by) & 3):
            back = np.column_stack([-back[:, 1], back[:, 0]])
        steps[other[some]] = back
    over, single = np.zeros(len(twins), dtype=np.int64), np.zeros(len(faces), dtype=np.bool_)
    _frames(faces, twins, turns, steps, reals, over, single)
    left = steps.reshape(-1, 3, 2).sum(axis=1)
    plain = (kind != PLAIN).astype(np.uint8)
    seen = np.zeros(len(faces), dtype=np.int64)
    for reach in _REACHES:
        _bring_together(twins, plain, steps, reals, over, single, left, reach, seen, state)
        seen[:] = 0
    return steps, int(((left != 0).any(axis=1) & ~single).sum())
