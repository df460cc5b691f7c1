"""Stand: how the part lies in space. Rigid moves, scale, and turning inside out; no triangle changes its shape."""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Lineage, Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.mesh.remembered import is_known
from tinsnip.regions.grow import facing_round, flat_round
from tinsnip.space.rigid import matrix_of, turn_between
from tinsnip.survey.walls import walls_of
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import degrees_told

__all__ = [
    "LayFlat",
    "Place",
    "Scale",
    "Turn",
    "TurnInsideOut",
    "flat_facing",
    "moved_outcome",
    "rotation",
]

Number = Annotated[float, Field(allow_inf_nan=False)]
_EXACT = {0: (1.0, 0.0), 90: (0.0, 1.0), 180: (-1.0, 0.0), 270: (0.0, -1.0)}


def rotation(axis: np.ndarray, degrees: float) -> np.ndarray:
    """Matrix of a turn about an axis (Rodrigues); quarter turns are exact.

    Parameters
    ----------
    axis : ndarray, shape (3,)
        Unit.
    degrees : float

    Raises
    ------
    BadInput
        When the axis has no length.
    """
    length = float(np.linalg.norm(axis))
    if length == 0:
        raise BadInput("a turn about 0,0,0 has no direction; give an axis such as 0,0,1")
    x, y, z = np.asarray(axis, dtype=float) / length
    c, s = _EXACT.get(degrees % 360, (np.cos(np.radians(degrees)), np.sin(np.radians(degrees))))
    cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return c * np.eye(3) + s * cross + (1 - c) * np.outer([x, y, z], [x, y, z])


def moved_outcome(mesh: Mesh, linear: np.ndarray, shift: np.ndarray, text: str) -> Outcome:
    """The outcome of ``x -> linear x + shift``, with its 4x4 matrix.

    Parameters
    ----------
    mesh : Mesh
    linear : ndarray, shape (3, 3)
    shift : ndarray, shape (3,)
        In mm.
    text : str
    """
    matrix = matrix_of(linear, shift)
    if np.array_equal(matrix, np.eye(4)):
        return Outcome(mesh, "Nothing to move", Account(matrix=matrix))
    return Outcome(mesh.moved(mesh.vertices @ linear.T + shift), text, Account(matrix=matrix))


class Turn(Treatment):
    """Turn about an axis through the middle of the part's box."""

    name: ClassVar[str] = "turn"
    title: ClassVar[str] = "Turn"
    reshapes: ClassVar[bool] = True

    axis: tuple[Number, Number, Number] = Field((0.0, 0.0, 1.0), description="what is turned about")
    degrees: Number = Field(0.0, description="how far, anticlockwise seen against the axis")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Turn the part."""
        context.progress.check()
        linear = rotation(np.array(self.axis), self.degrees)
        middle = mesh.box.mean(axis=0)
        return moved_outcome(mesh, linear, middle - linear @ middle, f"Turned by {degrees_told(self.degrees)}°")


class LayFlat(Treatment):
    """Turn a direction straight down, and let the part down onto the bed."""

    name: ClassVar[str] = "lay-flat"
    title: ClassVar[str] = "Lay a flat on the bed"
    reshapes: ClassVar[bool] = True

    down: tuple[Number, Number, Number] = Field(
        (0.0, 0.0, -1.0), description="outward normal of what shall lie on the bed"
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Lay the part down."""
        context.progress.check()
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to lay down")
        down = np.array(self.down)
        length = float(np.linalg.norm(down))
        if length == 0:
            raise BadInput("a flat facing 0,0,0 has no direction; pick a spot with triangles")
        down /= length
        linear, angle = turn_between(down, np.array([0.0, 0.0, -1.0]))
        used = np.unique(mesh.faces)
        lowest = float((mesh.vertices[used] @ linear[2]).min())
        return moved_outcome(
            mesh, linear, np.array([0.0, 0.0, -lowest]), f"Laid a flat down, turned by {degrees_told(angle)}°"
        )


def flat_facing(mesh: Mesh, triangle: int, within_degrees: float = 8.0) -> np.ndarray:
    """Mean outward normal of the flat round a triangle, unit, shape (3,).

    Parameters
    ----------
    mesh : Mesh
    triangle : int
        Its number.
    within_degrees : float
    """
    total = face_vectors(mesh.vertices, mesh.faces[flat_round(mesh, triangle, within_degrees)]).sum(axis=0)
    size = float(np.linalg.norm(total))
    return total / size if size > 0 else facing_round(mesh, triangle)


class Place(Treatment):
    """Move the part so that a point of its box comes to the origin, or only down to the bed."""

    name: ClassVar[str] = "place"
    title: ClassVar[str] = "Place"
    reshapes: ClassVar[bool] = True

    origin: Literal["drop", "centre-xy", "bottom-centre", "centre", "corner"] = Field(
        "drop",
        description="drop: lowest point to z = 0; centre-xy: middle over the origin; bottom-centre: both; "
        "centre: the box's middle to the origin; corner: its lower front left corner",
    )

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Move the part."""
        context.progress.check()
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to place")
        low, middle = mesh.box[0], mesh.box.mean(axis=0)
        shift = {
            "drop": np.array([0, 0, -low[2]]),
            "centre-xy": np.array([-middle[0], -middle[1], 0]),
            "bottom-centre": np.array([-middle[0], -middle[1], -low[2]]),
            "centre": -middle,
            "corner": -low,
        }[self.origin]
        words = {"drop": "Dropped to the bed", "centre-xy": "Centred over the origin"}
        return moved_outcome(
            mesh, np.eye(3), shift + 0.0, words.get(self.origin, f"Origin at the {self.origin}".replace("-", " "))
        )


_LEAST_MM, _MOST_MM = 1e-6, 1e9
"""Extents beyond which single-precision files, and squares of lengths, no longer tell corners apart safely."""


class Scale(Treatment):
    """Scale about the origin: by a factor, or so that one extent comes to a length."""

    name: ClassVar[str] = "scale"
    title: ClassVar[str] = "Scale"
    reshapes: ClassVar[bool] = True

    factor: float | None = Field(None, gt=0, allow_inf_nan=False, description="how many times as large")
    axis: Literal["x", "y", "z"] = Field("x", description="the extent that is given")
    length_mm: float | None = Field(None, gt=0, allow_inf_nan=False, description="what it shall be, mm")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Scale the part.

        Raises
        ------
        BadInput
            When the part has no extent along the axis.
        """
        context.progress.check()
        factor = self.factor or 1.0
        if self.length_mm is not None:
            extent = float(mesh.size["xyz".index(self.axis)])
            if extent <= 0:
                raise BadInput(f"the part has no extent along {self.axis}; give another axis")
            factor = self.length_mm / extent
        largest = float(mesh.size.max()) * factor
        if len(mesh.faces) and not _LEAST_MM <= largest <= _MOST_MM:
            raise BadInput(
                f"{factor:.4g} times as large the part would be {largest:.4g} mm; what is between {_LEAST_MM:g} and "
                f"{_MOST_MM:g} mm can be worked on"
            )
        return moved_outcome(
            mesh, factor * np.eye(3), np.zeros(3), f"Scaled by {factor:.6g}{_walls_then(mesh, factor)}"
        )


def _walls_then(mesh: Mesh, factor: float) -> str:
    """What scaling does to walls: of the thinnest one, where walls have been measured."""
    if factor == 1:
        return ""
    if is_known(mesh, walls_of):
        rays = walls_of(mesh)
        least = float(rays[np.isfinite(rays)].min(initial=np.inf))
        if np.isfinite(least):
            return f"; its thinnest wall of {least:.3g} mm becomes {factor * least:.3g} mm"
    return f"; every wall of 1 mm becomes {factor:.3g} mm"


class TurnInsideOut(Treatment):
    """Turn every triangle over: an impression becomes its positive. Orienting respects it afterwards."""

    name: ClassVar[str] = "turn-inside-out"
    title: ClassVar[str] = "Turn inside out"

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Turn the part inside out."""
        context.progress.check()
        triangles = np.arange(len(mesh.faces), dtype=np.int32)
        corners = (3 * triangles.astype(np.int64)[:, None] + np.array([2, 1, 0])).ravel()
        lineage = Lineage(np.arange(len(mesh.vertices), dtype=np.int32), triangles, corners=corners)
        turned = mesh.derive(mesh.faces[:, ::-1], lineage)
        marked: dict[str, Any] = dict(turned.attributes)
        if "inside-out" in marked:
            del marked["inside-out"]
        else:
            marked["inside-out"] = Attribute(Domain.TRIANGLE, np.ones(len(mesh.faces), dtype=np.uint8))
        return Outcome(Mesh(turned.vertices, turned.faces, turned.provenance, marked), "Turned inside out")
