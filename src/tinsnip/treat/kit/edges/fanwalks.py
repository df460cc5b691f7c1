"""Walks round a vertex on half-edges, from its open side where there is one."""

from tinsnip.kernels import kernel

__all__ = ["open_side", "shared_neighbours", "stamp_neighbours", "ways_out"]


@kernel
def stamp_neighbours(faces, twins, start, stamp, mark):
    """Stamp the neighbours of a vertex; returns how many.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    start : int
        A half-edge out of the vertex; the open one on a rim.
    stamp : ndarray of int32, shape (V,)
        Marks so far.
    mark : int
        One that is not used yet.
    """
    n = 0
    h = start
    while True:
        f = h // 3
        k = h - 3 * f
        stamp[faces[f, (k + 1) % 3]] = mark
        n += 1
        t = twins[3 * f + (k + 2) % 3]
        if t < 0:
            stamp[faces[f, (k + 2) % 3]] = mark
            return n + 1
        if t == start:
            return n
        h = t


@kernel
def shared_neighbours(faces, twins, start, stamp, mark):
    """How many neighbours of a vertex are stamped, and how many it has.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    start : int
        A half-edge out of the vertex; the open one on a rim.
    stamp : ndarray of int32, shape (V,)
        Marks so far.
    mark : int
        One that is not used yet.
    """
    n = 0
    common = 0
    h = start
    while True:
        f = h // 3
        k = h - 3 * f
        common += stamp[faces[f, (k + 1) % 3]] == mark
        n += 1
        t = twins[3 * f + (k + 2) % 3]
        if t < 0:
            common += stamp[faces[f, (k + 2) % 3]] == mark
            return common, n + 1
        if t == start:
            return common, n
        h = t


@kernel
def open_side(twins, h):
    """Turn clockwise about the start of h to its open half-edge; h itself where the fan is closed.

    Parameters
    ----------
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    h : int
        A half-edge.
    """
    i = h
    while True:
        t = twins[i]
        if t < 0:
            return i
        i = t - t % 3 + (t + 1) % 3
        if i == h:
            return h


@kernel
def ways_out(faces, twins, out):
    """A half-edge out of each vertex: the open one wherever there is one; -1 where no triangle is.

    Parameters
    ----------
    faces : ndarray of int32, shape (F, 3)
    twins : ndarray of int32, shape (3 F,)
        The half-edge across from each; below zero where there is none.
    out : ndarray of int32, shape (V,)
        Written.
    """
    out[:] = -1
    for h in range(twins.shape[0]):
        v = faces[h // 3, h % 3]
        if out[v] < 0 or twins[h] < 0:
            out[v] = h
