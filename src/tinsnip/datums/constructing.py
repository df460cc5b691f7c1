"""Datums made from others: where they meet, midway between them, through them, beside them."""

from collections.abc import Sequence
from typing import Literal

import numpy as np

from tinsnip.datums.datum import AXIAL, FITTED, LINEAR, Datum, DatumForm
from tinsnip.errors import BadInput

__all__ = ["WAYS", "Way", "construct", "nearest_of", "ways_for"]

Way = Literal["meet", "midway", "through", "parallel", "square", "turned", "axis", "middle"]
WAYS: dict[Way, str] = {
    "meet": "where they meet",
    "midway": "midway between them",
    "through": "through them",
    "parallel": "parallel, beside or through a point",
    "square": "square to it, through a point",
    "turned": "turned about an axis",
    "axis": "its axis",
    "middle": "its middle",
}
"""How a datum can be made from others, and how that is said."""

_ALONG = 1e-9
"""Sine of the angle below which ways are the same to the last digits, so that nothing can be told from them."""
_NEARLY = np.sin(np.radians(1.0))
"""And up to which a fitted plane and a fitted axis count as parallel."""
_CENTRED = ("sphere", "torus", "circle", "cone", "point")
"""Forms with a middle, or an apex."""


def _tuple(values: np.ndarray) -> tuple[float, float, float]:
    return tuple(float(x) for x in values)


def _is_plane(one: Datum) -> bool:
    return one.form == "plane"


def _is_point(one: Datum) -> bool:
    return one.form in ("point", "sphere")


def _has_axis(one: Datum) -> bool:
    return one.form in LINEAR


def ways_for(of: Sequence[Datum]) -> list[Way]:
    """How a datum can be made from these, the likeliest first.

    Parameters
    ----------
    of : sequence of Datum
    """
    kinds = [one.form for one in of]
    planes, points = sum(map(_is_plane, of)), sum(map(_is_point, of))
    axes = sum(map(_has_axis, of))
    if len(of) == 1:
        one = of[0]
        found: list[Way] = ["parallel"] if _is_plane(one) else []
        found += ["axis"] if _has_axis(one) and one.form not in ("axis", "line") else []
        return found + (["middle"] if one.form in _CENTRED and one.form != "point" else [])
    if len(of) == 2:
        if planes == 2:
            return ["meet", "midway"]
        if planes == 1 and axes == 1:
            rounds = kinds[0] in FITTED and kinds[1] in FITTED
            return ["meet", "turned", "square"] if rounds else ["meet", "turned"]
        if planes == 1 and "sphere" in kinds:
            return ["meet", "parallel", "square"]
        if planes == 1 and points == 1:
            return ["parallel", "square"]
        if axes == 2:
            return ["midway", "through"]
        if points == 2:
            return ["through", "midway"]
        return ["through", "parallel", "square"] if axes == 1 and points == 1 else []
    if len(of) == 3:
        return ["meet"] if planes == 3 else ["through"] if points == 3 else []
    return []


def construct(how: Way, of: Sequence[Datum], name: str = "D1", value: float = 0.0) -> Datum:
    """A datum made from others.

    Parameters
    ----------
    how : str
        One that `ways_for` gives for these.
    of : sequence of Datum
        One to three.
    name : str
    value : float
        How far beside a plane, mm, the way that it faces; or by how much it is turned, degrees.

    Raises
    ------
    BadInput
        When they give none: they are parallel, or coincide.

    Examples
    --------
    >>> floor = Datum(name="D1", form="plane", point=(0, 0, 2), way=(0, 0, 1))
    >>> wall = Datum(name="D2", form="plane", point=(5, 0, 0), way=(1, 0, 0))
    >>> edge = construct("meet", [floor, wall], "D3")
    >>> edge.form, edge.point
    ('axis', (5.0, 0.0, 2.0))
    """
    if how not in ways_for(of):
        what = " and ".join(f"{one.name} ({one.form})" for one in of)
        raise BadInput(f"{what} give nothing {WAYS[how]}; choose other datums")
    made = {
        "meet": _meet, "midway": _midway, "through": _through, "parallel": _parallel, "square": _square,
        "turned": _turned, "axis": _axis, "middle": _middle,
    }[how](of, value)  # fmt: skip
    told = {
        "meet": f"where {_and(of)} meet", "midway": f"midway between {_and(of)}", "through": f"through {_and(of)}",
        "parallel": f"{value:g} mm beside {of[0].name}" if len(of) == 1 else f"parallel, of {_and(of)}",
        "square": f"square, of {_and(of)}", "turned": f"{_and(of)}, turned by {value:g}°",
        "axis": f"axis of {of[0].name}", "middle": f"{'apex' if of[0].form == 'cone' else 'middle'} of {of[0].name}",
    }[how]  # fmt: skip
    return made.model_copy(update={"name": name, "told": told})


def _and(of: Sequence[Datum]) -> str:
    return " and ".join(one.name for one in of) if len(of) < 3 else f"{of[0].name}, {of[1].name} and {of[2].name}"


def _made(form: DatumForm, point: np.ndarray, way: np.ndarray | None = None, radius: float = 0.0, half: float = 0.0,
          reach: float = 0.0) -> Datum:  # fmt: skip
    way = np.zeros(3) if way is None else way / np.linalg.norm(way)
    return Datum(
        name="-", form=form, point=_tuple(point + 0.0), way=_tuple(way + 0.0), radius=radius, low=-half, high=half,
        reach=reach,
    )  # fmt: skip


def _size(of: Sequence[Datum]) -> float:
    """How large what is made is drawn: as far as what it is made from is known."""
    places = np.array([one.place for one in of])
    own = max((max(one.reach, one.high - one.low, 2 * one.radius) for one in of), default=0.0)
    return max(own, float(np.ptp(places, axis=0).max()), 1.0)


def _near(plane: Datum, place: np.ndarray) -> np.ndarray:
    """The place on a plane that is next to another."""
    return place - ((place - plane.place) @ plane.direction) * plane.direction


def _split(of: Sequence[Datum]) -> tuple[Datum, Datum]:
    """The plane, and the other one."""
    return (of[0], of[1]) if _is_plane(of[0]) else (of[1], of[0])


def _meet(of: Sequence[Datum], value: float) -> Datum:
    if len(of) == 3:
        rows = np.array([one.direction for one in of])
        if abs(np.linalg.det(rows)) < _ALONG:
            raise BadInput(f"{_and(of)} do not meet in one place: two of them are parallel; choose others")
        # about a place next to all three, so that a far-off part loses no digits
        about = np.mean([one.place for one in of], axis=0)
        offs = np.array([(one.place - about) @ one.direction for one in of])
        return _made("point", about + np.linalg.solve(rows, offs))
    if all(map(_is_plane, of)):
        one, other = of
        way = np.cross(one.direction, other.direction)
        if np.linalg.norm(way) < _ALONG:
            raise BadInput(f"{_and(of)} are parallel and meet nowhere; choose others")
        way /= np.linalg.norm(way)
        about = 0.5 * (one.place + other.place)
        rows = np.array([one.direction, other.direction, way])
        offs = np.array([(d.place - about) @ d.direction for d in of] + [0.0])
        return _made("axis", about + np.linalg.solve(rows, offs), way, half=0.5 * _size(of))
    plane, other = _split(of)
    if other.form == "sphere":
        off = float((other.place - plane.place) @ plane.direction)
        if abs(off) >= other.radius:
            raise BadInput(f"{plane.name} misses {other.name}; choose others")
        radius = float(np.sqrt(other.radius**2 - off**2))
        return _made("circle", _near(plane, other.place), plane.direction, radius)
    lean = abs(float(other.direction @ plane.direction))
    if lean < _ALONG:
        raise BadInput(f"{other.name} runs along {plane.name} and meets it nowhere; choose others")
    far = float((plane.place - other.place) @ plane.direction) / float(other.direction @ plane.direction)
    place = other.place + far * other.direction
    if other.form in ("cylinder", "cone") and lean > np.cos(np.radians(1.0)):
        radius = other.radius if other.form == "cylinder" else abs(far) * np.tan(np.radians(other.angle_deg) / 2)
        return _made("circle", place, plane.direction, float(radius))
    return _made("point", place)


def _midway(of: Sequence[Datum], value: float) -> Datum:
    one, other = of
    middle = 0.5 * (one.place + other.place)
    if _is_plane(one):
        ahead = other.direction * (1.0 if one.direction @ other.direction >= 0 else -1.0)
        way = one.direction + ahead
        if np.linalg.norm(np.cross(one.direction, ahead)) < _NEARLY:
            return _made("plane", middle, way, reach=max(one.reach, other.reach))
        edge = _meet(of, 0.0)
        return _made("plane", edge.place, way, reach=max(one.reach, other.reach))
    if _is_point(one):
        return _made("point", middle)
    ahead = other.direction * (1.0 if one.direction @ other.direction >= 0 else -1.0)
    near, far = nearest_of(one, other)
    half = 0.5 * max(one.high - one.low, other.high - other.low, 1.0)
    return _made("axis", 0.5 * (near + far), one.direction + ahead, half=half)


def nearest_of(one: Datum, other: Datum) -> tuple[np.ndarray, np.ndarray]:
    """Where two axes come nearest to each other; of parallel ones next to the first one's middle.

    Parameters
    ----------
    one, other : Datum
        With an axis.
    """
    a, b, off = one.direction, other.direction, other.place - one.place
    mixed = float(a @ b)
    under = 1.0 - mixed * mixed
    if under < _NEARLY**2:
        return one.place, other.place - ((other.place - one.place) @ b) * b
    s = (float(off @ a) - mixed * float(off @ b)) / under
    return one.place + s * a, other.place + (mixed * s - float(off @ b)) * b


def _through(of: Sequence[Datum], value: float) -> Datum:
    places = np.array([one.place for one in of])
    if len(of) == 3:
        way = np.cross(places[1] - places[0], places[2] - places[0])
        size = float(np.ptp(places, axis=0).max())
        if np.linalg.norm(way) <= _ALONG * size * size:
            raise BadInput(f"{_and(of)} lie in one line, through which any plane goes; choose others")
        return _made("plane", places.mean(axis=0), way, reach=size)
    if all(map(_is_point, of)):
        way = places[1] - places[0]
        length = float(np.linalg.norm(way))
        if length == 0:
            raise BadInput(f"{_and(of)} are in one place; choose others")
        return _made("axis", places.mean(axis=0), way, half=0.5 * length)
    if all(map(_has_axis, of)):
        one, other = of
        way = np.cross(one.direction, other.direction)
        if np.linalg.norm(way) < _NEARLY:
            way = np.cross(one.direction, other.place - one.place)
        if np.linalg.norm(way) < _ALONG * _size(of):
            raise BadInput(f"{_and(of)} are one line, through which any plane goes; choose others")
        near, far = nearest_of(one, other)
        return _made("plane", 0.5 * (near + far), way, reach=_size(of))
    axis, point = (of[0], of[1]) if _has_axis(of[0]) else (of[1], of[0])
    way = np.cross(axis.direction, point.place - axis.place)
    if np.linalg.norm(way) < _ALONG * _size(of):
        raise BadInput(f"{point.name} lies on {axis.name}, through both of which any plane goes; choose others")
    return _made("plane", point.place, way, reach=_size(of))


def _parallel(of: Sequence[Datum], value: float) -> Datum:
    if len(of) == 1:
        return _made("plane", of[0].place + value * of[0].direction, of[0].direction, reach=of[0].reach)
    main, point = (of[1], of[0]) if _is_point(of[0]) else (of[0], of[1])
    if _is_plane(main):
        return _made("plane", point.place, main.direction, reach=_size(of))
    return _made("axis", point.place, main.direction, half=0.5 * max(main.high - main.low, _size(of)))


def _square(of: Sequence[Datum], value: float) -> Datum:
    if _is_plane(of[0]) != _is_plane(of[1]) and not any(map(_is_point, of)):  # an axis square to a plane, from an axis
        plane, axis = _split(of)
        way = axis.direction - (axis.direction @ plane.direction) * plane.direction
        if np.linalg.norm(way) < _ALONG:
            raise BadInput(f"{axis.name} stands square to {plane.name} already; choose others")
        return _made("plane", axis.place, np.cross(plane.direction, way), reach=_size(of))
    main, point = (of[1], of[0]) if _is_point(of[0]) else (of[0], of[1])
    if _is_plane(main):
        return _made("axis", point.place, main.direction, half=0.5 * _size(of))
    return _made("plane", point.place, main.direction, reach=_size(of))


def _turned(of: Sequence[Datum], value: float) -> Datum:
    plane, axis = _split(of)
    if abs(float(plane.direction @ axis.direction)) > _NEARLY:
        raise BadInput(f"{axis.name} does not run along {plane.name}, which cannot be turned about it; choose others")
    way = plane.direction - (plane.direction @ axis.direction) * axis.direction
    way /= np.linalg.norm(way)
    angle = np.radians(value)
    turned = np.cos(angle) * way + np.sin(angle) * np.cross(axis.direction, way)
    return _made("plane", axis.place, turned, reach=_size(of))


def _axis(of: Sequence[Datum], value: float) -> Datum:
    one = of[0]
    if one.form in AXIAL:
        middle, half = one.ends().mean(axis=0), 0.5 * (one.high - one.low)
        return _made("axis", middle, one.direction, half=max(half, one.radius))
    return _made("axis", one.place, one.direction, half=max(one.radius, one.tube))


def _middle(of: Sequence[Datum], value: float) -> Datum:
    return _made("point", of[0].place)
