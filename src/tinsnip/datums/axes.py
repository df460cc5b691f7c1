"""Bringing datums to the axes: what turns and shifts each binds, and the move that comes of them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from tinsnip.datums.datum import LINEAR, Datum
from tinsnip.errors import BadInput
from tinsnip.space.rigid import frame_of, matrix_of, turn_between

__all__ = ["AXES", "Axis", "Bound", "brought_to_axes", "nearest_axis"]

Axis = Literal["x", "y", "z", "-x", "-y", "-z", "origin"]
AXES: tuple[Axis, ...] = ("z", "-z", "x", "-x", "y", "-y", "origin")
_MEANT = 10.0
"""Degrees up to which two are meant to be parallel."""
_LEAST = np.sin(np.radians(0.5))
"""Sine of the angle below which a way adds nothing to one that is bound already."""


@dataclass(frozen=True, eq=False)
class Bound:
    """A move that brings datums to the axes.

    Attributes
    ----------
    matrix : ndarray, shape (4, 4)
    turns, shifts : tuple of str
        The axes about which it is bound, and along which.
    off_deg : float
        By how much the ways of the datums miss the axes that they were meant for, at most, as the part is not as square
        as they are; degrees.
    idle : tuple of str
        Datums that bind nothing which is not bound before them.
    """

    matrix: np.ndarray
    turns: tuple[str, ...]
    shifts: tuple[str, ...]
    off_deg: float
    idle: tuple[str, ...] = ()

    @property
    def free(self) -> tuple[str, ...]:
        """What is not bound, in words."""
        turns = [f"turns about {a}" for a in "xyz" if a not in self.turns]
        return (*turns, *(f"shifts along {a}" for a in "xyz" if a not in self.shifts))


def nearest_axis(datum: Datum, before: Sequence[tuple[Datum, Axis]]) -> Axis:
    """The axis that a datum comes to with the least turn, besides those that are taken before it.

    One that is parallel to the first may come onto the same axis; where something bound its place already, the way from
    that to it may come to lie along another.

    Parameters
    ----------
    datum : Datum
    before : sequence of (Datum, Axis)
        Those that are taken, and the axis each came to.
    """
    taken = {axis[-1] for _, axis in before if axis != "origin"}
    way = datum.direction
    if before and datum.form in LINEAR and abs(float(way @ before[0][0].direction)) > 0.99:
        if all(other.form == "plane" for other, _ in before):
            return before[0][1]
        placed = next(other for other, _ in before if other.form != "plane")
        way = datum.place - placed.place
    elif datum.form not in LINEAR and datum.form != "plane":
        return "origin"
    free = [k for k in range(3) if "xyz"[k] not in taken] or [0, 1, 2]
    best = max(free, key=lambda k: abs(float(way[k])))
    return ("-" if way[best] < 0 else "") + "xyz"[best]


def _axis(name: Axis) -> np.ndarray:
    return np.eye(3)["xyz".index(name[-1])] * (-1.0 if name[0] == "-" else 1.0)


def brought_to_axes(datums: Sequence[Datum], to: Sequence[Axis], about: np.ndarray) -> Bound:
    """The move that brings datums to the axes: the first binds what it can, the second of what is left, and so on.

    A plane comes to lie across its axis, through the origin; an axis comes onto its axis; a point, sphere, ring or
    circle comes to the origin. One that is parallel to what is bound, or a point, may bind the turn that is left by
    where it lies: the way to it from the first comes to lie along its axis.

    Parameters
    ----------
    datums : sequence of Datum
    to : sequence of str
        For each, the axis that its way comes to; ``origin``: its place only.
    about : ndarray, shape (3,)
        The middle of the part, which stays where it is along what is not bound.

    Returns
    -------
    Bound

    Raises
    ------
    BadInput
        When two of them ask for things that exclude each other.

    References
    ----------
    ISO 5459 (2011), datums and datum systems: the first has precedence over the second, and that over the third.

    Examples
    --------
    >>> floor = Datum(name="D1", form="plane", point=(0, 0, 2), way=(0, 0, 1))
    >>> bound = brought_to_axes([floor], ["z"], np.zeros(3))
    >>> bound.matrix[:3, 3].tolist(), bound.free
    ([0.0, 0.0, -2.0], ('turns about z', 'shifts along x', 'shifts along y'))
    """
    if not datums:
        raise BadInput("no datum is chosen; choose one to bring to an axis")
    ways = [
        (d, d.direction, _axis(axis), axis)
        for d, axis in zip(datums, to, strict=True)
        if axis != "origin" and (d.form in LINEAR or d.form == "plane")
    ]
    linear, bound, off = np.eye(3), [], 0.0
    used: set[str] = set()
    for datum, way, goal, axis in ways:
        if not bound:
            linear = turn_between(way, goal)[0]
            bound.append((way, goal))
            used.add(datum.name)
            continue
        first, target = bound[0]
        across = way - (way @ first) * first
        if np.linalg.norm(across) < _LEAST:
            continue  # parallel to the first: its place may bind what is left
        if abs(goal @ target) > 0.5:  # meant to be parallel to the first, which counts more
            lean = float(np.degrees(np.arcsin(min(float(np.linalg.norm(across)), 1.0))))
            if lean > _MEANT:
                raise BadInput(f"{datum.name} is not parallel to {ways[0][0].name} and cannot come to {axis} with it")
            off = max(off, lean)
            continue
        if len(bound) == 1:
            linear = frame_of(target, goal) @ frame_of(first, way).T
            bound.append((way, goal))
            used.add(datum.name)
        off = max(off, float(np.degrees(np.arccos(np.clip(goal @ (linear @ way), -1.0, 1.0)))))
    if len(bound) == 1:
        aligned = _by_place(datums, to, bound[0])
        if aligned is not None:
            name, way, goal = aligned
            linear = frame_of(bound[0][1], goal) @ frame_of(bound[0][0], way).T
            bound.append((way, goal))
            used.add(name)
    shift, held, shifted = _shift(datums, linear, about)
    turns = () if not bound else ("x", "y", "z")
    if len(bound) == 1:
        turns = tuple(a for a in "xyz" if abs(bound[0][1] @ np.eye(3)["xyz".index(a)]) < 0.5)
    shifts = tuple(a for k, a in enumerate("xyz") if np.linalg.norm(held @ np.eye(3)[k]) > 0.999)
    idle = tuple(d.name for d in datums if d.name not in used | shifted)
    return Bound(matrix_of(linear, shift + 0.0), turns, shifts, off, idle)


def _by_place(
    datums: Sequence[Datum], to: Sequence[Axis], first: tuple[np.ndarray, np.ndarray]
) -> tuple[str, np.ndarray, np.ndarray] | None:
    """What turns the part about its first way by where it lies: the way to it from the first place that is bound."""
    way, target = first
    placed = [(d, axis) for d, axis in zip(datums, to, strict=True) if d.form != "plane"]
    for datum, axis in placed[1:]:
        apart = datum.place - placed[0][0].place
        across = apart - (apart @ way) * way
        if axis == "origin" or np.linalg.norm(across) < 1e-9 * (1.0 + np.linalg.norm(apart)):
            continue
        goal = _axis(axis)
        if abs(goal @ target) < 0.5:  # else it is parallel to the first, and meant to be
            return datum.name, across, goal
    return None


def _shift(datums: Sequence[Datum], linear: np.ndarray, about: np.ndarray) -> tuple[np.ndarray, np.ndarray, set[str]]:
    """The shift after a turn, what of it is bound as a projection, shape (3, 3), and by which datums."""
    used: set[str] = set()
    shift = about - linear @ about  # the part's middle stays where it is, as far as nothing binds it
    held = np.zeros((3, 3))
    for datum in datums:
        way, place = linear @ datum.direction, linear @ datum.place
        if datum.form == "plane":
            rows = way[None]
        elif datum.form in ("axis", "line", "cylinder", "cone"):
            rows = np.linalg.svd(way[None])[2][1:]
        else:
            rows = np.eye(3)
        for row in rows:
            left = row - held @ row
            if np.linalg.norm(left) < _LEAST:
                continue
            left = left / np.linalg.norm(left)
            shift = shift - float(row @ (place + shift)) / float(row @ left) * left
            held = held + np.outer(left, left)
            used.add(datum.name)
    return shift, held, used
