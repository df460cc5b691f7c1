"""Bend, taper, twist: what lies between two places along an axis is deformed, and what is beyond goes along."""

from typing import ClassVar, Literal, NamedTuple

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import SHIFTED, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.space.polygons import plane_axes
from tinsnip.space.singles import as_files_hold
from tinsnip.survey.crossings import new_crossings
from tinsnip.treat.account import Account
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted

__all__ = ["Bend", "BendFrame"]

_COARSE = 15.0
"""Degrees that an edge may span before the round shows its facets."""


class BendFrame(NamedTuple):
    """The place on the axis of a bend where its height is nought, mm; and three unit axes in rows, its own the last."""

    origin: np.ndarray
    axes: np.ndarray


class Bend(Treatment):
    """Bend, taper or twist the part between two places along an axis; below them it stays, beyond them it goes along.

    A bend keeps the length of the line through the middle of the part, a twist every distance from it.
    """

    name: ClassVar[str] = "bend"
    title: ClassVar[str] = "Bend, taper, twist"
    station: ClassVar[str] = "Surface"
    reshapes: ClassVar[bool] = True
    named_points: ClassVar[tuple[str, ...]] = ("line",)

    how: Literal["bend", "taper", "twist"] = Field("bend", description="bend to a side, grow or shrink, or turn")
    axis: Literal["x", "y", "z"] = Field("z", description="along which the two places are told")
    line: tuple[tuple[float, float, float], ...] = Field(
        (), max_length=2, title="along the axis",
        description="two places on a line to go along instead, mm; heights are told from the first",
    )  # fmt: skip
    from_mm: float | None = Field(None, description="where it begins, mm; the part's lowest place by default")
    to_mm: float | None = Field(None, description="where it ends, mm; the part's highest place by default")
    angle_degrees: float = Field(30.0, ge=-3600, le=3600, description="by how much it is bent or twisted")
    towards_degrees: float = Field(
        0.0, ge=-360, le=360, description="which way it is bent: 0 to the next axis, x after z"
    )
    end_size_percent: float = Field(100.0, gt=0, le=1e4, description="size at the end that a taper comes to, % of now")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Deform.

        Raises
        ------
        BadInput
            When the two places are not apart, or the part would be bent into itself.
        """
        context.progress.step("Deforming")
        if len(mesh.faces) == 0:
            return Outcome(mesh, "Nothing to deform")
        frame = self.frame(mesh)
        heights = (mesh.vertices - frame.origin) @ frame.axes[2]
        begin = float(heights.min()) if self.from_mm is None else self.from_mm
        end = float(heights.max()) if self.to_mm is None else self.to_mm
        if not end > begin:
            raise BadInput(f"it ends at {end:g} mm, which is not beyond {begin:g} mm where it begins")
        origin = frame.origin + begin * frame.axes[2]
        places = (mesh.vertices - origin) @ frame.axes.T
        height = places[:, 2]
        share = np.clip(height / (end - begin), 0.0, 1.0)
        if self.how == "twist":
            now = _turned(places, np.radians(self.angle_degrees) * share)
        elif self.how == "taper":
            size = 1.0 + (self.end_size_percent / 100.0 - 1.0) * share
            now = np.column_stack([places[:, 0] * size, places[:, 1] * size, height])
        else:
            now = self._bent(places, end - begin)
        vertices = now @ frame.axes + origin
        stays = (height <= 0) | (np.abs(now - places).max(axis=1) == 0)
        vertices = np.where(stays[:, None], mesh.vertices, as_files_hold(vertices, mesh.diagonal))
        off = np.linalg.norm(vertices - mesh.vertices, axis=1)
        touched = triangles_at(mesh.faces, off > 0)
        if not touched.any():
            return Outcome(mesh, "Nothing to deform: no part of it lies there", Account(figures={"largest_mm": 0.0}))
        provenance = np.where(touched & (mesh.provenance == 0), SHIFTED, mesh.provenance).astype(np.uint8)
        result = mesh.moved(vertices, provenance)
        crossed = len(new_crossings(mesh, result))
        text = f"{self._told()} from {begin:.4g} to {end:.4g} mm along {'a line' if self.line else self.axis}"
        text += f", moved by {at_most(float(off.max()))} mm"
        text += f", crossing itself in {counted(crossed, 'place')}" * (crossed > 0)
        text += self._facets(mesh, share)
        return Outcome(result, text, Account(crossings=crossed, figures={"largest_mm": float(off.max())}))

    def frame(self, mesh: Mesh) -> "BendFrame":
        """Where its axis stands.

        Parameters
        ----------
        mesh : Mesh

        Raises
        ------
        BadInput
            When its line is none.
        """
        if not self.line:
            k = "xyz".index(self.axis)
            origin = mesh.box.mean(axis=0)
            origin[k] = 0.0
            return BendFrame(origin, np.eye(3)[[(k + 1) % 3, (k + 2) % 3, k]])
        places = np.array(self.line)
        way = places[-1] - places[0]
        length = float(np.linalg.norm(way))
        if len(places) != 2 or not 1e-9 < length < np.inf:
            raise BadInput("its line needs two places that are apart; choose a datum with an axis, or an axis")
        way /= length
        return BendFrame(places[0], np.array([*plane_axes(way), way]))

    def _bent(self, places: np.ndarray, length: float) -> np.ndarray:
        angle = np.radians(self.angle_degrees)
        if angle == 0.0:
            return places
        turned = _turned(places, -np.radians(self.towards_degrees))
        radius = length / angle
        side, height = turned[:, 0], turned[:, 2]
        within = (height > 0) & (height < length)
        reach = float((side[within] / radius).max(initial=0.0))
        if reach >= 1.0:
            most = 0.99 * abs(self.angle_degrees) / reach
            raise BadInput(
                f"bent by {abs(self.angle_degrees):g} degrees it would fold onto itself; {most:.4g} are the most"
            )
        at = np.clip(height, 0.0, length) / radius
        beyond = height - np.clip(height, 0.0, length)
        x = radius - (radius - side) * np.cos(at) + beyond * np.sin(at)
        z = (radius - side) * np.sin(at) + beyond * np.cos(at)
        return _turned(np.column_stack([x, turned[:, 1], z]), np.radians(self.towards_degrees))

    def _told(self) -> str:
        if self.how == "taper":
            return f"Tapered to {self.end_size_percent:g} %"
        return f"{'Bent' if self.how == 'bend' else 'Twisted'} by {self.angle_degrees:g} degrees"

    def _facets(self, mesh: Mesh, share: np.ndarray) -> str:
        """What is to be said where edges are too long for a round."""
        if self.how == "taper":
            return ""
        spans = np.abs(self.angle_degrees) * np.ptp(share[mesh.faces], axis=1)
        widest = float(spans.max(initial=0.0))
        return f"; edges there span {widest:.0f} degrees, remesh first for a rounder one" * (widest > _COARSE)


def _turned(places: np.ndarray, angle: np.ndarray | float) -> np.ndarray:
    """Places turned about the third axis."""
    c, s = np.cos(angle), np.sin(angle)
    return np.column_stack([c * places[:, 0] - s * places[:, 1], s * places[:, 0] + c * places[:, 1], places[:, 2]])
