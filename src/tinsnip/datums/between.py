"""Readings between two datums: how far, at what angle, how parallel, how far off one axis; and how flat one is."""

import numpy as np

from tinsnip.datums.constructing import nearest_of
from tinsnip.datums.datum import LINEAR, Datum
from tinsnip.mesh import Mesh
from tinsnip.space.forms import distances
from tinsnip.survey.measuring import Reading

__all__ = ["angle_of_lines", "between_reading", "form_reading"]

_PARALLEL = 1.0
"""Degrees up to which two are told as parallel, with a distance."""


def _places(points: np.ndarray) -> tuple[tuple[float, float, float], ...]:
    return tuple(tuple(float(x) for x in p) for p in np.atleast_2d(points))


def angle_of_lines(one: np.ndarray, other: np.ndarray) -> float:
    """The angle between two unit directions, either way round, degrees, 0 to 90.

    Parameters
    ----------
    one : ndarray, shape (3,)
        Unit.
    other : ndarray, shape (3,)
        Unit.
    """
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(one, other)), abs(one @ other))))


def _reading(one: Datum, other: Datum, text: str, label: str, ends: np.ndarray, **values: float) -> Reading:
    return Reading(
        kind="datums", text=f"{one.name} to {other.name}: {text}", label=f"{one.name}–{other.name} {label}",
        lines=(_places(ends),), at=_places(ends[1])[0], values=values,
    )  # fmt: skip


def between_reading(one: Datum, other: Datum, mesh: Mesh | None = None) -> Reading:
    """What lies between two datums.

    Of planes and axes their angle, or, where they are parallel within a degree, their distance; of two parallel planes
    the zone that the second one's surface takes square to the first (parallelism), of two parallel axes twice the
    farthest distance of the second from the first (coaxiality); else the distance.

    Parameters
    ----------
    one, other : Datum
        The first is measured from.
    mesh : Mesh, optional
        What the second was fitted to.

    References
    ----------
    ISO 1101 (2017), geometrical tolerancing: parallelism, coaxiality.

    Examples
    --------
    >>> floor = Datum(name="D1", form="plane", point=(0, 0, 0), way=(0, 0, 1))
    >>> top = Datum(name="D2", form="plane", point=(1, 1, 5), way=(0, 0, 1))
    >>> between_reading(floor, top).values["apart_mm"]
    5.0
    """
    planes = [d.form == "plane" for d in (one, other)]
    lined = [d.form in LINEAR for d in (one, other)]
    ends = np.array([one.place, other.place])
    if all(planes):
        angle = angle_of_lines(one.direction, other.direction)
        if angle > _PARALLEL:
            return _reading(one, other, f"{angle:.3f}°", f"{angle:.2f}°", ends, angle_deg=angle)
        apart = float((other.place - one.place) @ one.direction)
        text, values = f"{abs(apart):.3f} mm apart, {angle:.3f}° off parallel", {"apart_mm": abs(apart)}
        ends[0] = other.place - apart * one.direction
        zone = _zone(one, other, mesh)
        if zone is not None:
            text += f", parallel within {zone:.3f} mm"
            values["parallelism_mm"] = zone
        return _reading(one, other, text, f"{abs(apart):.3f} mm", ends, angle_deg=angle, **values)
    if any(planes) and any(lined):
        plane, line = (one, other) if planes[0] else (other, one)
        angle = 90.0 - angle_of_lines(plane.direction, line.direction)
        if angle > _PARALLEL:
            square = abs(90.0 - angle)
            text = f"{angle:.3f}°" + (f", {square:.3f}° off square" if square < 5 else "")
            return _reading(one, other, text, f"{angle:.2f}°", ends, angle_deg=angle)
        apart = float((line.place - plane.place) @ plane.direction)
        ends = np.array([line.place - apart * plane.direction, line.place])
        text = f"{abs(apart):.3f} mm apart, {angle:.3f}° off parallel"
        return _reading(one, other, text, f"{abs(apart):.3f} mm", ends, angle_deg=angle, apart_mm=abs(apart))
    if any(planes):
        plane, point = (one, other) if planes[0] else (other, one)
        apart = float((point.place - plane.place) @ plane.direction)
        ends = np.array([point.place - apart * plane.direction, point.place])
        return _reading(one, other, f"{abs(apart):.3f} mm", f"{abs(apart):.3f} mm", ends, apart_mm=abs(apart))
    if all(lined):
        near, far = nearest_of(one, other)
        apart, angle = float(np.linalg.norm(far - near)), angle_of_lines(one.direction, other.direction)
        text, values = f"{apart:.3f} mm apart, {angle:.3f}° between them", {"apart_mm": apart, "angle_deg": angle}
        if angle <= _PARALLEL:
            off = np.linalg.norm(np.cross(other.ends() - one.place, one.direction), axis=1)
            values["coaxiality_mm"] = 2.0 * float(off.max())
            text = f"{apart:.3f} mm apart, {angle:.3f}° off parallel, coaxial within ⌀ {2 * off.max():.3f} mm"
        return _reading(one, other, text, f"{apart:.3f} mm", np.array([near, far]), **values)
    if any(lined):
        line, point = (one, other) if lined[0] else (other, one)
        foot = line.place + ((point.place - line.place) @ line.direction) * line.direction
        ends = np.array([foot, point.place])
    apart = float(np.linalg.norm(ends[1] - ends[0]))
    return _reading(one, other, f"{apart:.3f} mm", f"{apart:.3f} mm", ends, apart_mm=apart)


def _zone(one: Datum, other: Datum, mesh: Mesh | None) -> float | None:
    """The room that a surface takes along a plane's normal, mm."""
    if mesh is None or not other.region:
        return None
    corners = mesh.vertices[np.unique(mesh.faces[other.region.resolve(mesh)])]
    return float(np.ptp(corners @ one.direction))


def form_reading(datum: Datum, mesh: Mesh) -> Reading | None:
    """How flat, or how round, the surface of a datum is: the zone round it that holds all of the surface, mm.

    None for a datum that no surface lies on. After ISO 1101 (2017), by least squares instead of the least zone.

    Parameters
    ----------
    datum : Datum
    mesh : Mesh
    """
    form = datum.as_form()
    if form is None or not datum.region:
        return None
    corners = mesh.vertices[np.unique(mesh.faces[datum.region.resolve(mesh)])]
    off = distances(form, corners)
    zone = float(np.ptp(off))
    what = {"plane": "flat", "cylinder": "cylindrical", "sphere": "round"}.get(datum.form, "true")
    at = corners[int(np.argmax(np.abs(off)))]
    text = f"{datum.name}: {what} within {zone:.3f} mm ({float(np.sqrt((off**2).mean())):.3f} mm rms)"
    values = {"zone_mm": zone, "rms_mm": float(np.sqrt((off**2).mean()))}
    label = f"{datum.name} {what} {zone:.3f} mm"
    return Reading(kind="form", text=text, label=label, at=_places(at)[0], values=values)
