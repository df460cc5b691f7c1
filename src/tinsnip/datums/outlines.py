"""Outlines of sections as drawings have them: runs of lines and arcs in place of thousands of short chords."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from tinsnip.progress import check_here

__all__ = ["Arc", "Line", "Outline", "drawing_axes", "outlines_of"]

_FEWEST = 5
"""Chords that an arc takes; fewer are lines."""
_TURNS, _MOVED = 60, 4.0
"""Rounds by which two fitted pieces are brought to one place, and how far that may lie off, of the tolerance."""
_LONGER = 1.15
"""Times as long that an arc has to be to be taken for a line."""


@dataclass(frozen=True, eq=False)
class Line:
    """A straight piece; from where to where, each shape (2,), mm."""

    start: np.ndarray
    end: np.ndarray

    @property
    def length(self) -> float:
        """mm."""
        return float(np.linalg.norm(self.end - self.start))


@dataclass(frozen=True, eq=False)
class Arc:
    """A round piece, or a whole circle.

    Attributes
    ----------
    start, end, middle : ndarray, shape (2,)
        mm; a whole circle ends where it starts.
    radius : float
    sweep : float
        By how much it turns, rad; anticlockwise where positive.
    """

    start: np.ndarray
    end: np.ndarray
    middle: np.ndarray
    radius: float
    sweep: float

    @property
    def is_whole(self) -> bool:
        """Whether it is a circle."""
        return abs(self.sweep) > 2 * np.pi - 1e-9

    @property
    def length(self) -> float:
        """mm."""
        return self.radius * abs(self.sweep)


@dataclass(frozen=True, eq=False)
class Outline:
    """One run of an outline.

    Attributes
    ----------
    pieces : tuple of Line or Arc
        Each begins where the one before ends.
    is_closed : bool
    off_mm : float
        How far the chords lie off them, at most.
    """

    pieces: tuple[Line | Arc, ...]
    is_closed: bool
    off_mm: float

    @property
    def length(self) -> float:
        """mm."""
        return sum(piece.length for piece in self.pieces)


def drawing_axes(normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The ways to the right and upwards of a drawing of a section, seen against its normal; z is up where it can be.

    Parameters
    ----------
    normal : ndarray, shape (3,)
        Unit.
    """
    if abs(normal[2]) > 0.9:
        right = np.array([1.0, 0.0, 0.0])
        right = right - (right @ normal) * normal
        right /= np.linalg.norm(right)
        return right, np.cross(normal, right)
    up = np.array([0.0, 0.0, 1.0])
    up = up - (up @ normal) * normal
    up /= np.linalg.norm(up)
    return np.cross(up, normal), up


def _runs(ends: np.ndarray) -> list[tuple[np.ndarray, bool]]:
    """Chords, shape (N, 2, 2), put together to runs of places, and whether each is closed."""
    flat = ends.reshape(-1, 2)
    keys = flat + 0.0  # the same place has the same bits from either triangle
    _, number = np.unique(keys, axis=0, return_inverse=True)
    number = number.reshape(-1, 2)
    places = np.empty((int(number.max()) + 1, 2))
    places[number.ravel()] = flat
    good = number[:, 0] != number[:, 1]
    number = number[good]
    leaves: dict[int, list[int]] = {}
    for chord, (a, _) in enumerate(number.tolist()):
        leaves.setdefault(a, []).append(chord)
    arrives = np.bincount(number[:, 1], minlength=len(places))
    used = np.zeros(len(number), dtype=bool)
    runs = []
    # runs that begin somewhere first, then those that close
    order = sorted(range(len(number)), key=lambda chord: arrives[number[chord, 0]] > 0)
    for first in order:
        if used[first]:
            continue
        used[first] = True
        run = [int(number[first, 0]), int(number[first, 1])]
        while run[-1] != run[0]:
            following = next((c for c in leaves.get(run[-1], ()) if not used[c]), None)
            if following is None:
                break
            used[following] = True
            run.append(int(number[following, 1]))
        runs.append((places[run], run[-1] == run[0]))
    return runs


def _arc(points: np.ndarray) -> tuple[np.ndarray, float, float]:
    """The arc through the ends of a run that lies nearest to it: its middle, radius, and how far off the run lies."""
    a, b = points[0], points[-1]
    chord = b - a
    length = float(np.linalg.norm(chord))
    if length == 0:
        return a, 0.0, np.inf
    half, across = 0.5 * (a + b), np.array([-chord[1], chord[0]]) / length
    x, y = (points[1:-1] - half) @ chord / length, (points[1:-1] - half) @ across
    # its middle lies at a height t over the chord: x^2 + y^2 - length^2/4 = 2 t y
    right = x * x + y * y - 0.25 * length * length
    under = float((y * y).sum())
    if under == 0:
        return half, np.inf, np.inf
    height = 0.5 * float((right * y).sum()) / under
    middle = half + height * across
    radius = float(np.hypot(height, 0.5 * length))
    off = np.abs(np.linalg.norm(points - middle, axis=1) - radius)
    # chords between its places lie within it; what counts is that none lies further off than the tolerance
    return middle, radius, float(off.max())


def _line_off(points: np.ndarray) -> float:
    chord = points[-1] - points[0]
    length = float(np.linalg.norm(chord))
    off = points - points[0]
    if length == 0:
        return float(np.linalg.norm(off, axis=1).max())
    return float(np.abs(off[:, 0] * chord[1] - off[:, 1] * chord[0]).max()) / length


def _farthest(points: np.ndarray, first: int, least: int, fits: object) -> int:
    """How far a piece that begins somewhere may reach: doubled until it does not fit, then halved."""
    last, step = first + least, least
    end = len(points) - 1
    if last > end or not fits(points[first : last + 1]):
        return first
    while last < end and fits(points[first : min(end, last + step) + 1]):
        last = min(end, last + step)
        step *= 2
    while step > 1:
        step //= 2
        if last + step <= end and fits(points[first : last + step + 1]):
            last += step
    return last


def _sweep(points: np.ndarray, middle: np.ndarray) -> float:
    turn = np.unwrap(np.arctan2(points[:, 1] - middle[1], points[:, 0] - middle[0]))
    return float(turn[-1] - turn[0])


def _pieces(points: np.ndarray, within: float) -> list[tuple[int, int, bool]]:
    """Where each piece of a run begins and ends, and whether it is round."""
    found, at = [], 0

    def round_fits(some: np.ndarray) -> bool:
        middle, radius, off = _arc(some)
        if not (off <= within and np.isfinite(radius)):
            return False
        turn = np.unwrap(np.arctan2(some[:, 1] - middle[1], some[:, 0] - middle[0]))
        # it turns one way, but for noise, and not further than once round
        back = np.abs(np.diff(turn)).sum() - abs(turn[-1] - turn[0])
        return abs(turn[-1] - turn[0]) < 1.9 * np.pi and back * radius < 0.2 * abs(turn[-1] - turn[0]) * radius + within

    while at < len(points) - 1:
        check_here()
        straight = max(_farthest(points, at, 1, lambda some: _line_off(some) <= within), at + 1)
        rounded = _farthest(points, at, _FEWEST, round_fits)
        chords = np.linalg.norm(np.diff(points[at : max(straight, rounded) + 1], axis=0), axis=1)
        is_round = rounded > straight and chords.sum() > _LONGER * chords[: straight - at].sum()
        last = rounded if is_round else straight
        found.append((at, last, is_round))
        at = last
    return found


def _outline(points: np.ndarray, is_closed: bool, within: float) -> Outline:
    if is_closed and len(points) > 2 * _FEWEST:
        middle = _circle(points[:-1])
        radius = float(np.linalg.norm(points - middle, axis=1).mean())
        off = float(np.abs(np.linalg.norm(points - middle, axis=1) - radius).max())
        if off <= within:
            start = middle + radius * (points[0] - middle) / max(float(np.linalg.norm(points[0] - middle)), 1e-300)
            sweep = 2 * np.pi * (np.sign(_sweep(points, middle)) or 1.0)
            return Outline((Arc(start, start, middle, radius, float(sweep)),), True, off)
        # begin at a corner, so that none is cut in two: where the first piece ends
        first = _pieces(points, within)[0][1]
        if first < len(points) - 1:
            points = np.concatenate([points[first:-1], points[: first + 1]])
    runs = [(points[a : b + 1], is_round) for a, b, is_round in _pieces(points, within)]
    joints = _joints(runs, is_closed, within)
    made: list[Line | Arc] = []
    off = 0.0
    for (some, is_round), start, end in zip(runs, joints[:-1], joints[1:], strict=True):
        some = np.concatenate([[start], some[1:-1], [end]])
        if is_round:
            middle, radius, apart = _arc(some)
            made.append(Arc(start, end, middle, radius, _sweep(some, middle)))
        else:
            apart = _line_off(some)
            made.append(Line(start, end))
        off = max(off, apart)
    return Outline(tuple(made), is_closed, off)


def _joints(runs: list[tuple[np.ndarray, bool]], is_closed: bool, within: float) -> np.ndarray:
    """Where pieces meet: next to the place where their runs do, on what is fitted to both; shape (len(runs) + 1, 2)."""
    carriers = [_carrier(some, is_round) for some, is_round in runs]
    places = [runs[0][0][0], *(some[-1] for some, _ in runs)]
    pairs = list(pairwise(carriers))
    last = (carriers[-1], carriers[0] if is_closed else None)
    pairs = [last if is_closed and len(runs) > 1 else (None, carriers[0]), *pairs, last]
    found = []
    for place, own in zip(places, pairs, strict=True):
        onto = [carrier for carrier in own if carrier is not None]
        at = place
        for _ in range(_TURNS):
            for carrier in onto:
                at = _nearest_on(carrier, at)
        found.append(at if np.linalg.norm(at - place) <= _MOVED * within else place)
    return np.array(found)


_Carrier = tuple[np.ndarray, np.ndarray, float]


def _carrier(points: np.ndarray, is_round: bool) -> _Carrier:
    """What a run is fitted to: a place, and the way of a line, or nought and the radius of a circle."""
    if is_round:
        middle = _circle(points)
        return middle, np.zeros(2), float(np.linalg.norm(points - middle, axis=1).mean())
    middle = points.mean(axis=0)
    return middle, np.linalg.svd(points - middle, full_matrices=False)[2][0], 0.0


def _nearest_on(carrier: _Carrier, place: np.ndarray) -> np.ndarray:
    middle, way, radius = carrier
    off = place - middle
    if radius > 0:
        return middle + radius * off / max(float(np.linalg.norm(off)), 1e-300)
    return middle + (off @ way) * way


def _circle(points: np.ndarray) -> np.ndarray:
    """The middle of the circle nearest to places (Kasa 1976)."""
    about = points.mean(axis=0)
    x, y = (points - about).T
    a, b, _ = np.linalg.lstsq(np.column_stack([x, y, np.ones(len(x))]), x**2 + y**2, rcond=None)[0]
    return about + 0.5 * np.array([a, b])


def outlines_of(ends: np.ndarray, normal: np.ndarray, within: float) -> list[Outline]:
    """The outlines of a section as lines and arcs, the longest first.

    Parameters
    ----------
    ends : ndarray, shape (N, 2, 3)
        Its chords, as `section_of` gives them; mm.
    normal : ndarray, shape (3,)
        Unit.
    within : float
        How far a place of the outline may lie off its line or arc, mm.

    Returns
    -------
    list of Outline
        In the plane's own axes, as `drawing_axes` gives them.
    """
    if len(ends) == 0:
        return []
    axes = np.stack(drawing_axes(normal), axis=1)
    found = [_outline(points, is_closed, within) for points, is_closed in _runs(ends @ axes)]
    return sorted(found, key=lambda outline: -outline.length)
