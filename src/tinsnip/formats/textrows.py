"""Rows of numbers in text, as ASCII PLY, OFF and STL have them."""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import BinaryIO

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.formats.numbers import GOOD, parse_number, write_number, write_whole
from tinsnip.kernels import kernel
from tinsnip.progress import DONE, Progress
from tinsnip.threads import cores

__all__ = ["line_of", "pick_lists", "text_rows", "write_rows"]


@kernel
def _parse_rows(text, i, count, counters, out, slow, n_slow):
    """Read `count` rows of numbers; a list's count says how many follow. Returns where they end and how many.

    A place below zero is the byte, negated and less one, of what cannot be read.
    """
    end = text.shape[0]
    bits = np.zeros(1, dtype=np.uint64)
    value = bits.view(np.float64)
    n = 0
    for _ in range(count):
        for p in range(counters.shape[0]):
            todo = 1
            first = True
            while todo > 0:
                while i < end:
                    if text[i] == 35:  # a comment runs to the end of its line
                        while i < end and text[i] != 10:
                            i += 1
                    elif text[i] <= 32:
                        i += 1
                    else:
                        break
                if i >= end or n >= out.shape[0]:
                    return -end - 1, n
                at = i
                i, how = parse_number(text, i, end, bits)
                if how == 2 or i == at:
                    return -at - 1, n
                out[n] = value[0]
                if how != GOOD:
                    if n_slow >= slow.shape[0] or (counters[p] > 0 and first):
                        return -at - 1, n
                    slow[n_slow, 0] = at
                    slow[n_slow, 1] = n
                    n_slow += 1
                n += 1
                todo -= 1
                if counters[p] > 0 and first:
                    todo = np.int64(value[0])
                    if not (0 <= value[0] <= end):
                        return -at - 1, n
                    first = False
    slow[slow.shape[0] - 1, 0] = n_slow
    return i, n


@kernel
def pick_lists(flat, count, counters, wanted, lengths, corners):
    """Take one list out of rows of numbers; returns how many values it has in all.

    Parameters
    ----------
    flat : ndarray of float64
        All numbers of the rows, one after another.
    count : int
        Rows.
    counters : ndarray of int64
        0 for each property of a row that is one number; else it is a list.
    wanted : int
        The property to be taken.
    lengths : ndarray of int
        Written: values in each row's list.
    corners : ndarray of int
        Written: the values.
    """
    at = 0
    n = 0
    for row in range(count):
        for p in range(counters.shape[0]):
            if counters[p] == 0:
                at += 1
                continue
            length = np.int64(flat[at])
            at += 1
            if p == wanted:
                lengths[row] = length
                for k in range(length):
                    x = flat[at + k]
                    corners[n] = np.int64(x) if x == np.floor(x) and -2.0 <= x < 2147483647.0 else -1
                    n += 1
            at += length
    return n


def line_of(text: np.ndarray, at: int) -> tuple[int, str]:
    """Number and beginning of the line that holds a byte.

    Parameters
    ----------
    text : ndarray of uint8
    at : int
        Number of the byte.
    """
    number = int(np.count_nonzero(text[:at] == 10)) + 1
    back = bytes(text[max(0, at - 4096) : at])
    begin = at - len(back) + back.rfind(b"\n") + 1
    return number, bytes(text[begin : begin + 60]).split(b"\n")[0].strip().decode("utf-8", "replace")


def text_rows(text: np.ndarray, at: int, count: int, counters: np.ndarray, what: str) -> tuple[np.ndarray, np.ndarray]:
    """Read rows of numbers.

    Parameters
    ----------
    text : ndarray of uint8
    at : int
        Where they begin.
    count : int
        How many rows.
    counters : ndarray of int, shape (P,)
        For each property of a row: 0 for a number, else a list whose count comes first.
    what : str
        What a row is called in a message.

    Returns
    -------
    flat : ndarray of float64
        All numbers in order, lists with their counts.
    ends : ndarray of int, shape (1,)
        Where the rows end.

    Raises
    ------
    BadInput
        When the text ends early, or something in it is no number.
    """
    fixed = count * len(counters)
    room = fixed if not counters.any() else min((len(text) - at) // 2 + 1, max(fixed * 5, 64))
    while True:
        flat = np.empty(room)
        slow = np.empty((200_001, 2), dtype=np.int64)
        end, n = _parse_rows(text, at, count, counters, flat, slow, 0)
        if end < 0 and n >= room and room < (len(text) - at) // 2 + 1:
            room = min((len(text) - at) // 2 + 1, room * 4)
            continue
        break
    if end < 0:
        place = -int(end) - 1
        if place >= len(text):
            raise BadInput(f"ends before its last {what}; copy or export it again")
        number, shown = line_of(text, place)
        hint = "write numbers with a decimal point" if "," in shown else "export it again"
        raise BadInput(f"body line {number} ('{shown}') is no {what}; {hint}")
    for place, target in slow[: slow[-1, 0]]:
        token = bytes(text[place : place + 64]).split(maxsplit=1)[0]
        try:
            flat[target] = float(token)
        except ValueError:
            number, shown = line_of(text, int(place))
            raise BadInput(f"body line {number} ('{shown}') is no {what}; export it again") from None
    return flat[:n], np.array([end])


@kernel
def _format_rows(points, wholes, words, out):
    """Write rows of real and then whole numbers, with a word before each and one at the end."""
    at = 0
    flat = points.ravel().view(np.uint64)
    reals, counted = points.shape[1], wholes.shape[1]
    for row in range(points.shape[0]):
        for k in range(reals + counted + 1):
            for i in range(words.shape[1]):
                if words[k, i]:
                    out[at] = words[k, i]
                    at += 1
            if k < reals:
                at = write_number(flat[reals * row + k], out, at)
            elif k < reals + counted:
                at = write_whole(np.uint64(wholes[row, k - reals]), out, at)
    return at


def write_rows(
    file: BinaryIO, points: np.ndarray, wholes: np.ndarray, words: Sequence[bytes], progress: Progress
) -> None:
    """Write a table as text, in pieces on several threads; real numbers in shortest exact form.

    Parameters
    ----------
    file : binary file
    points : ndarray of float64, shape (N, R)
    wholes : ndarray of int32, shape (N, K)
        Numbers that are not negative, after the real ones of their row.
    words : sequence of bytes, length R + K + 1
        What stands before each number, and at the row's end.
    progress : Progress
        Its count goes up by one a row.
    """
    table = np.zeros((len(words), max(map(len, words))), dtype=np.uint8)
    for i, word in enumerate(words):
        table[i, : len(word)] = list(word)
    room = sum(map(len, words)) + 27 * points.shape[1] + 11 * wholes.shape[1]
    workers, rows = cores(), 100_000

    def make(begin: int) -> memoryview:
        part, whole = points[begin : begin + rows], wholes[begin : begin + rows]
        out = np.empty(len(part) * room + 64, dtype=np.uint8)
        used = _format_rows(np.ascontiguousarray(part), np.ascontiguousarray(whole), table, out)
        return out[:used].data

    begins = list(range(0, len(points), rows))
    with ThreadPoolExecutor(workers) as pool:
        for i in range(0, len(begins), workers):
            progress.check()
            for block in pool.map(make, begins[i : i + workers]):
                file.write(block)
            progress.state[DONE] += min(len(points) - begins[i], workers * rows)
