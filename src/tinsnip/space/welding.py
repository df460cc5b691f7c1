"""Exact welding: corners whose coordinates are equal bit for bit become one vertex."""

import numpy as np

from tinsnip.kernels import kernel
from tinsnip.progress import check_here, polled_here

__all__ = ["weld_bits", "weld_exact"]


@kernel
def _slot(x, y, z, mask):
    h = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15)
    h ^= h >> np.uint64(29)
    h += np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
    h ^= h >> np.uint64(31)
    h += np.uint64(z) * np.uint64(0x165667B19E3779F9)
    h ^= h >> np.uint64(32)
    h *= np.uint64(0x9E3779B97F4A7C15)
    return (h >> np.uint64(20)) & mask


@kernel
def _row(bits, i, zero, minus_zero):
    x, y, z = bits[i, 0], bits[i, 1], bits[i, 2]
    x = zero if x == minus_zero else x
    y = zero if y == minus_zero else y
    z = zero if z == minus_zero else z
    return x, y, z


@kernel
def _weld(bits, zero, minus_zero, table, index, first, begin, n_unique, limit, state):
    """Give each row of `bits` from `begin` on the number of its first equal row.

    Open addressing with linear probing. Stops before the table is too full; returns where, and the count.
    """
    mask = np.uint64(table.shape[0] - 1)
    for i in range(begin, bits.shape[0]):
        if n_unique >= limit or (i % 65536 == 0 and state[0]):
            return i, n_unique
        x, y, z = _row(bits, i, zero, minus_zero)
        slot = _slot(x, y, z, mask)
        while True:
            j = table[slot]
            if j < 0:
                table[slot] = n_unique
                first[n_unique] = i
                index[i] = n_unique
                n_unique += 1
                break
            r = first[j]
            p, q, s = _row(bits, r, zero, minus_zero)
            if p == x and q == y and s == z:
                index[i] = j
                break
            slot = (slot + np.uint64(1)) & mask
    return bits.shape[0], n_unique


@kernel
def _refill(bits, zero, minus_zero, table, first, n_unique):
    mask = np.uint64(table.shape[0] - 1)
    for j in range(n_unique):
        x, y, z = _row(bits, first[j], zero, minus_zero)
        slot = _slot(x, y, z, mask)
        while table[slot] >= 0:
            slot = (slot + np.uint64(1)) & mask
        table[slot] = j


def weld_bits(bits: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Number the distinct rows of a table of coordinate bits, in order of first appearance.

    Parameters
    ----------
    bits : ndarray of uint32 or uint64, shape (N, 3)
        Coordinates viewed as integers; minus zero counts as zero.

    Returns
    -------
    index : ndarray of int32, shape (N,)
        Which distinct row each row is.
    first : ndarray of int32, shape (V,)
        The row where each distinct one first appears.
    """
    n = len(bits)
    kind = bits.dtype.type
    zero, minus_zero = kind(0), kind(1 << (8 * bits.dtype.itemsize - 1))
    index = np.empty(n, dtype=np.int32)
    first = np.empty(n, dtype=np.int32)
    # a closed scan has a sixth as many vertices as corners; the table grows where that guess fails
    size = 1 << max(10, int(np.ceil(np.log2(max(1, n) / 6 * 2))))
    done, unique = 0, 0
    table = np.full(size, -1, dtype=np.int32)
    while True:
        limit = min(n, int(size * 0.7))
        done, unique = _weld(bits, zero, minus_zero, table, index, first, done, unique, limit, polled_here())
        check_here()
        if done >= n or unique >= n:
            break
        size *= 4
        table = np.full(size, -1, dtype=np.int32)
        _refill(bits, zero, minus_zero, table, first, unique)
    return index, first[:unique].copy()


def weld_exact(points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Number the distinct points of a float array, shape (N, 3); see `weld_bits`.

    Parameters
    ----------
    points : ndarray, shape (N, 3)
        In mm.
    """
    points = np.ascontiguousarray(points)
    unsigned = np.uint32 if points.dtype.itemsize == 4 else np.uint64
    return weld_bits(points.view(unsigned).reshape(-1, 3))
