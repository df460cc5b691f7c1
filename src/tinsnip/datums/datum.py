"""A datum: a form that was fitted to a surface or made from others, with a name."""

from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors, triangle_areas
from tinsnip.regions import Region
from tinsnip.space.forms import Form, distances
from tinsnip.words import degrees_told, grouped_number, millimetres

__all__ = ["AXIAL", "DATUM_FORMS", "FITTED", "LINEAR", "Datum", "DatumForm", "datum_of", "next_name", "upward"]

DatumForm = Literal["plane", "cylinder", "sphere", "cone", "torus", "axis", "line", "circle", "point"]
DATUM_FORMS: tuple[DatumForm, ...] = (
    "plane", "cylinder", "sphere", "cone", "torus", "axis", "line", "circle", "point",
)  # fmt: skip
FITTED = ("plane", "cylinder", "sphere", "cone", "torus")
"""Forms that are surfaces."""
LINEAR = ("axis", "line", "cylinder", "cone", "torus", "circle")
"""Forms with an axis."""
AXIAL = ("axis", "line", "cylinder", "cone")
"""Those of them that have no place along it."""

_Number = Annotated[float, Field(allow_inf_nan=False)]
_Length = Annotated[float, Field(ge=0, allow_inf_nan=False)]
_Place = tuple[_Number, _Number, _Number]


class Datum(BaseModel):
    """A form with a name, and how well it is known; lengths in mm.

    Attributes
    ----------
    name : str
        D1 and so on, as it was called first.
    form : str
    point : tuple of float
        On a plane, an axis or a line, in the middle of what is known of it; the middle of a sphere, a torus or a
        circle; the apex of a cone; the point.
    way : tuple of float
        Unit normal of a plane, the way that the surface faces; axis of a cylinder, a torus, a circle, and of a cone
        from its apex into it. Zero for a sphere and a point.
    radius : float
        Of a sphere, cylinder or circle; of the ring of a torus.
    tube : float
        Radius of a torus' tube.
    angle_deg : float
        Of a cone, from side to side.
    low, high : float
        From where to where along its way something of it is known, from its point.
    reach : float
        How far from its point across its way something of a plane is known.
    told : str
        How it came: what it was fitted to, or made from.
    rms_mm, max_mm : float
        How far the corners that it was fitted to lie off it; 0 where it was made from others. Of a plane of symmetry
        how far places lie off their images, the second of 95 in 100 of them.
    area_mm2, share : float
        Of the surface that lies on it, and as a share of all.
    used : float
        How much of what was chosen belongs to it, 0 to 1.
    region : Region
        The surface that lies on it.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: str = Field(min_length=1, max_length=60)
    form: DatumForm
    point: _Place
    way: _Place = (0.0, 0.0, 0.0)
    radius: _Length = 0.0
    tube: _Length = 0.0
    angle_deg: _Length = 0.0
    low: _Number = 0.0
    high: _Number = 0.0
    reach: _Length = 0.0
    told: str = Field("", max_length=200)
    rms_mm: _Length = 0.0
    max_mm: _Length = 0.0
    area_mm2: _Length = 0.0
    share: _Length = 0.0
    used: _Length = 1.0
    region: Region = Region()

    @property
    def place(self) -> np.ndarray:
        """Its point, shape (3,)."""
        return np.array(self.point)

    @property
    def direction(self) -> np.ndarray:
        """Its way, shape (3,)."""
        return np.array(self.way)

    def as_form(self) -> Form | None:
        """The surface that it is; None for an axis, a line, a circle, a point."""
        if self.form not in FITTED:
            return None
        tube = np.radians(self.angle_deg) / 2 if self.form == "cone" else self.tube
        return Form(self.form, self.place, self.direction, self.radius, tube)

    def ends(self) -> np.ndarray:
        """From where to where its axis is known, shape (2, 3)."""
        return self.place + np.outer([self.low, self.high], self.direction)

    def measure(self) -> str:
        """What it measures, in words; empty where nothing."""
        if self.form in ("cylinder", "sphere", "circle"):
            return f"⌀ {grouped_number(2 * self.radius, 3)} mm"
        if self.form == "cone":
            return f"{degrees_told(self.angle_deg)}°"
        if self.form == "torus":
            return f"⌀ {grouped_number(2 * self.radius, 3)} mm, tube ⌀ {grouped_number(2 * self.tube, 3)} mm"
        if self.form == "line":
            return f"{grouped_number(self.high - self.low, 3)} mm"
        return ""

    def text(self) -> str:
        """Its name, what it is, what it measures, and how well it fits."""
        fits = f", fits within {millimetres(self.rms_mm)} mm" if self.rms_mm > 0 else ""
        return f"{self.name}: {self.form} {self.measure()}".strip() + fits

    def facts(self) -> dict[str, Any]:
        """What a program reads of it: lengths in mm, the angle of a cone from side to side at its apex."""
        found: dict[str, Any] = {"name": self.name, "form": self.form, "point": list(self.point)}
        if self.form not in ("sphere", "point"):
            found["direction"] = list(self.way)
        if self.form not in ("plane", "cone", "axis", "line", "point"):
            found["radius_mm"] = self.radius
        if self.form == "cone":
            found["angle_deg"] = self.angle_deg
        if self.form == "torus":
            found["tube_radius_mm"] = self.tube
        if self.form in AXIAL:
            found["from_mm"], found["to_mm"] = self.low, self.high
        return found | {
            "area_mm2": self.area_mm2, "rms_mm": self.rms_mm, "max_mm": self.max_mm, "share": self.share,
        }  # fmt: skip

    def moved(self, matrix: np.ndarray) -> Self:
        """The datum where a 4x4 matrix takes it, of turns, shifts and an even scale."""
        linear = matrix[:3, :3]
        scale = float(np.cbrt(abs(np.linalg.det(linear))))
        return self.model_copy(
            update={
                "point": _tuple(linear @ self.place + matrix[:3, 3]),
                "way": _tuple(linear @ self.direction / max(scale, 1e-300)),
                "region": self.region.moved(matrix),
                "area_mm2": self.area_mm2 * scale**2,
                **{k: getattr(self, k) * scale for k in ("radius", "tube", "low", "high", "reach", "rms_mm", "max_mm")},
            }
        )


def _tuple(values: np.ndarray) -> tuple[float, ...]:
    return tuple(float(x) for x in values)


def upward(way: np.ndarray) -> np.ndarray:
    """An axis, which has no way of its own, the way that its largest part is positive.

    Parameters
    ----------
    way : ndarray, shape (3,)
        Unit.
    """
    return way * (np.sign(way[int(np.argmax(np.abs(way)))]) or 1.0)


def next_name(taken: object) -> str:
    """The next name that is free: one more than the largest number so far.

    Parameters
    ----------
    taken : iterable of str
        Names in use, such as ``D3``.
    """
    numbers = [int(name[1:]) for name in taken if name[:1] == "D" and name[1:].isdigit()]
    return f"D{max(numbers, default=0) + 1}"


def datum_of(name: str, form: Form, mesh: Mesh, triangles: np.ndarray, told: str = "", used: float = 1.0) -> Datum:
    """The datum of a form that was fitted to a part of a surface.

    Parameters
    ----------
    name : str
    form : Form
        A plane is turned the way the surface faces.
    mesh : Mesh
    triangles : ndarray of bool, shape (F,)
        Those that lie on it.
    told : str
    used : float
        Their share of what was chosen.
    """
    own = np.flatnonzero(triangles)
    corners = mesh.vertices[np.unique(mesh.faces[own])]
    areas = triangle_areas(mesh.vertices, mesh.faces[own])
    way, point = form.way, form.point
    if form.kind == "plane":
        facing = face_vectors(mesh.vertices, mesh.faces[own]).sum(axis=0)
        way = way * (np.sign(facing @ way) or 1.0)
        middle = areas @ mesh.vertices[mesh.faces[own]].mean(axis=1) / max(float(areas.sum()), 1e-300)
        point = middle - ((middle - point) @ way) * way
    if form.kind in ("cylinder", "torus"):
        way = upward(way)
    off = np.abs(distances(form, corners))
    along = (corners - point) @ way
    low, high = (0.0, 0.0) if form.kind in ("plane", "sphere") else (float(along.min()), float(along.max()))
    if form.kind == "cylinder":  # its point in the middle of what is known of it
        point, low, high = point + 0.5 * (low + high) * way, 0.5 * (low - high), 0.5 * (high - low)
    reach = float(np.linalg.norm(corners - point, axis=1).max()) if form.kind == "plane" else 0.0
    area = float(areas.sum())
    return Datum(
        name=name, form=form.kind, point=_tuple(point), way=_tuple(way), radius=form.radius,
        tube=form.tube if form.kind == "torus" else 0.0,
        angle_deg=float(np.degrees(2 * form.tube)) if form.kind == "cone" else 0.0,
        low=low, high=high, reach=reach, told=told, rms_mm=float(np.sqrt((off**2).mean())), max_mm=float(off.max()),
        area_mm2=area, share=area / max(mesh.area, 1e-300), used=min(used, 1.0), region=Region.of(mesh, triangles),
    )  # fmt: skip
