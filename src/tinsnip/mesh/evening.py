"""Evening: vertices drawn in to their neighbours, so that noise goes and what the surface shows stays where it is."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.mesh.mesh import Mesh
from tinsnip.progress import DONE, check_here
from tinsnip.threads import in_chunks

__all__ = ["drawn_in", "evened"]

_PASS_BAND = 0.1
"""Waves longer than this frequency are left alone; the second step follows from it (Taubin 1995, eq. 8)."""


@kernel
def _count_neighbours(faces, twins, starts, on_rim, state):
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            starts[a + 1] += 1
            if twins[3 * f + k] < 0:
                starts[b + 1] += 1
                on_rim[a] = True
                on_rim[b] = True
    for v in range(starts.shape[0] - 1):
        starts[v + 1] += starts[v]


@kernel
def _fill_neighbours(faces, twins, starts, filled, out, state):
    for f in range(faces.shape[0]):
        if f % 65536 == 0 and state[0]:
            return
        for k in range(3):
            a, b = faces[f, k], faces[f, (k + 1) % 3]
            out[starts[a] + filled[a]] = b
            filled[a] += 1
            if twins[3 * f + k] < 0:  # an edge with a twin gives the way back by that
                out[starts[b] + filled[b]] = a
                filled[b] += 1


@kernel
def _step(places, starts, neighbours, still, share, out, begin, end):
    for v in range(begin, end):
        count = starts[v + 1] - starts[v]
        x, y, z = places[v, 0], places[v, 1], places[v, 2]
        if count > 0 and not still[v]:
            sx = sy = sz = np.float32(0.0)
            for i in range(starts[v], starts[v + 1]):
                w = neighbours[i]
                sx += places[w, 0]
                sy += places[w, 1]
                sz += places[w, 2]
            part = np.float32(1.0) / np.float32(count)
            x += share * (sx * part - x)
            y += share * (sy * part - y)
            z += share * (sz * part - z)
        out[v, 0], out[v, 1], out[v, 2] = x, y, z


def evened(
    mesh: Mesh, passes: int, strength: float, held: np.ndarray | None, state: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Where vertices are, and where they are once noise is taken off without shrinking; both about the box's middle.

    Each step towards the middle of a vertex's neighbours is followed by one away from it. Open and tangled edges stay.

    Parameters
    ----------
    mesh : Mesh
    passes : int
        How often a vertex is drawn in and let out again.
    strength : float
        How far towards its neighbours' middle at a time, as a share.
    held : ndarray of bool, shape (F,), optional
        Triangles whose corners stay.
    state : ndarray of int64
        Polled for cancelling; told of each step.

    Returns
    -------
    before, after : ndarray of float32, shape (V, 3)
        In single precision, which is half the memory to walk through; their difference is what to add to the vertices.

    Raises
    ------
    Cancelled

    References
    ----------
    Taubin, A signal processing approach to fair surface design, SIGGRAPH 1995.
    """
    starts, neighbours, still = _neighbours(mesh, held, state)
    back = strength / (_PASS_BAND * strength - 1.0)
    start = (mesh.vertices - mesh.box.mean(axis=0)).astype(np.float32)
    return start, _walked(start, starts, neighbours, still, [strength, back] * passes, state)


def drawn_in(mesh: Mesh, steps: int, strength: float, state: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where vertices are, and where they are once and twice drawn in to the middle of their neighbours.

    As heat spreads: detail goes, and what is round shrinks, by as much the second time as the first.

    Parameters
    ----------
    mesh : Mesh
    steps : int
        How often at a time.
    strength : float
        How far towards its neighbours' middle at a step, as a share.
    state : ndarray of int64
        Polled for cancelling; told of each step.

    Returns
    -------
    before, once, twice : ndarray of float32, shape (V, 3)
        About the box's middle.

    Raises
    ------
    Cancelled
    """
    starts, neighbours, still = _neighbours(mesh, None, state)
    start = (mesh.vertices - mesh.box.mean(axis=0)).astype(np.float32)
    once = _walked(start, starts, neighbours, still, [strength] * steps, state)
    return start, once, _walked(once, starts, neighbours, still, [strength] * steps, state)


def _neighbours(mesh: Mesh, held: np.ndarray | None, state: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where each vertex' neighbours begin in a list of all, that list, and which vertices stay."""
    count = len(mesh.vertices)
    starts = np.zeros(count + 1, dtype=np.int32)
    still = np.zeros(count, dtype=np.bool_)
    _count_neighbours(mesh.faces, mesh.twins, starts, still, state)
    if held is not None:
        still[mesh.faces[held]] = True
    check_here()
    neighbours = np.empty(starts[-1], dtype=np.int32)
    _fill_neighbours(mesh.faces, mesh.twins, starts, np.zeros(count, dtype=np.int32), neighbours, state)
    check_here()
    return starts, neighbours, still


def _walked(
    start: np.ndarray, starts: np.ndarray, neighbours: np.ndarray, still: np.ndarray, shares: list[float],
    state: np.ndarray,
) -> np.ndarray:  # fmt: skip
    """Places after a step with each of some shares."""
    now, other = start.copy(), np.empty_like(start)
    for i, part in enumerate(np.array(shares, dtype=np.float32)):

        def work(begin: int, end: int, now=now, other=other, share=part) -> None:
            _step(now, starts, neighbours, still, share, other, begin, end)

        in_chunks(work, len(start), 100_000)
        check_here()
        state[DONE] = i + 1
        now, other = other, now
    return now
