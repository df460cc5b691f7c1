"""Simple solids, joined to the part, cut from it, or intersected with it; and drain holes."""

from typing import ClassVar, Literal, NamedTuple

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import face_vectors
from tinsnip.progress import polled_here
from tinsnip.space.solids import box_solid, cylinder_solid
from tinsnip.space.tree import closest_points, first_hits
from tinsnip.treat.account import Account
from tinsnip.treat.kit.cuts.frames import Length, Point, frame_along
from tinsnip.treat.kit.joins.joining import How, combined_with, why_no_solid
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["AddSolid", "Drain", "with_solid"]

_SAID = {"join": "Joined a {} on", "cut": "Cut a {} out", "intersect": "Kept what lies in a {}"}


def with_solid(mesh: Mesh, vertices: np.ndarray, faces: np.ndarray, how: How, what: str) -> Outcome:
    """A part with a simple solid joined, cut or intersected.

    Parameters
    ----------
    mesh : Mesh
    vertices : ndarray, shape (N, 3)
    faces : ndarray of int32, shape (M, 3)
    how : {"join", "cut", "intersect"}
    what : str
        What the solid is called.

    Raises
    ------
    BadInput
        When the part is no valid solid, the two do not meet, or what would come of it is no solid.
    """
    why = why_no_solid(mesh)
    if why:
        raise BadInput(f"the part is no valid solid: {why}; close or recast it first")
    made = combined_with(mesh, vertices, faces, how)
    result, nudged = made.mesh, made.nudged
    voids = int((result.shells.volume < 0).sum() - (mesh.shells.volume < 0).sum())
    if made.meets == 0 and not (how == "cut" and voids > 0):
        raise BadInput(f"the {what} does not meet the part's surface; move it, or change its size")
    text = f"{_SAID[how].format(what)}: {counted(made.divided, 'triangle')} divided where they meet"
    text += f", moved by {nudged:.1g} mm for that, as rounding left their meeting unclear" * (nudged > 0)
    text += ", which leaves a closed void" * (how == "cut" and voids > 0)
    figures = {"divided": made.divided, "moved_mm": nudged, "volume_mm3": result.volume - mesh.volume}
    return Outcome(result, text, Account(guessed_mm2=0.0, figures=figures))


class AddSolid(Treatment):
    """Join a box or a cylinder to the part, cut it out, or keep what lies in it; exactly."""

    name: ClassVar[str] = "add-solid"
    title: ClassVar[str] = "Join or cut a simple solid"
    takes_what_was_asked: ClassVar[bool] = True

    shape: Literal["box", "cylinder"] = Field("box", description="what it is")
    how: How = Field("join", description="join it on, cut it out, or intersect: keep what lies in it")
    middle: Point = Field((0.0, 0.0, 0.0), description="its middle, mm")
    size_mm: tuple[Length, Length, Length] = Field(
        (10.0, 10.0, 10.0), description="its extent along its own axes, mm; of a cylinder its diameters and height"
    )
    up: Point = Field((0.0, 0.0, 1.0), description="the way its third axis runs; of a cylinder its own")
    along: Point = Field((1.0, 0.0, 0.0), description="the way its first axis runs, as near as that can be")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Join, cut or intersect.

        Raises
        ------
        BadInput
            When the part is no valid solid, the two do not meet, or what would come of it is no solid.
        """
        context.progress.step("Looking at the part")
        axes = frame_along(self.up, self.along, "way up")
        make = box_solid if self.shape == "box" else cylinder_solid
        vertices, faces = make(np.array(self.size_mm))
        return with_solid(mesh, vertices @ axes + np.array(self.middle), faces, self.how, self.shape)


class DrainAim(NamedTuple):
    """Where a drain hole goes in and which way, shape (3,); how thick the wall is, and how deep the hollow, mm."""

    foot: np.ndarray
    inward: np.ndarray
    wall_mm: float
    room_mm: float


class Drain(Treatment):
    """Drill a round hole through the wall of a hollow part, straight in from its surface."""

    name: ClassVar[str] = "drain"
    title: ClassVar[str] = "Drain hole"
    takes_what_was_asked: ClassVar[bool] = True
    named_points: ClassVar[tuple[str, ...]] = ("at",)

    at: Point = Field((0.0, 0.0, 0.0), description="where on the surface, mm")
    diameter_mm: float = Field(4.0, gt=0, allow_inf_nan=False, description="the hole's diameter, mm")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Drill.

        Raises
        ------
        BadInput
            When the part is no valid solid, or there is no hollow behind the wall there.
        """
        context.progress.step("Looking for the wall")
        foot, inward, wall, room = self.aimed(mesh)
        reach = min(0.5 * self.diameter_mm, 0.5 * room)
        length = self.diameter_mm + wall + reach
        middle = foot + (0.5 * length - self.diameter_mm) * inward
        vertices, faces = cylinder_solid(np.array([self.diameter_mm, self.diameter_mm, length]))
        axes = frame_along(tuple(inward), None, "way in")
        before = int((mesh.shells.volume < 0).sum())
        outcome = with_solid(mesh, vertices @ axes + middle, faces, "cut", "drain hole")
        after = int((outcome.mesh.shells.volume < 0).sum())
        if after >= before:
            raise BadInput(
                "the hole does not reach the hollow all round there; make it narrower, or place it elsewhere"
            )
        text = f"Drilled a drain hole of {self.diameter_mm:g} mm through {wall:.3g} mm of wall"
        return Outcome(outcome.mesh, text, outcome.account.with_figures(wall_mm=wall))

    def aimed(self, mesh: Mesh) -> "DrainAim":
        """Where it goes in, and through what.

        Parameters
        ----------
        mesh : Mesh

        Raises
        ------
        BadInput
            When there is no hollow behind the wall there.
        """
        if len(mesh.faces) == 0:
            raise BadInput("there is no part to drill")
        hollow = mesh.shells.volume < 0
        if not hollow.any():
            raise BadInput("the part has no hollow a drain could lead to; hollow it first")
        foot = np.empty((1, 3))
        _, nearest = closest_points(mesh.tree, np.array(self.at)[None], polled_here(), foot)
        inward = -self._outward(mesh, foot[0], int(nearest[0]))
        # through the wall: from in front of the surface to the skin of the hollow, and what lies behind that
        far = 1e-6 * mesh.diagonal
        away, hit = first_hits(mesh.tree, foot + far * inward, inward[None], polled_here())
        if hit[0] < 0 or not hollow[mesh.shells.label[hit[0]]]:
            raise BadInput("there is no hollow right behind the wall there; click where the part is hollow")
        wall = float(away[0]) + far
        behind, other = first_hits(mesh.tree, foot + (wall + far) * inward, inward[None], polled_here())
        return DrainAim(foot[0], inward, wall, float(behind[0]) if other[0] >= 0 else wall)

    def _outward(self, mesh: Mesh, foot: np.ndarray, nearest: int) -> np.ndarray:
        """The way out of the surface, as it is on the whole under the hole."""
        near = (np.abs(mesh.vertices[mesh.faces[:, 0]] - foot) < 0.5 * self.diameter_mm).all(axis=1)
        near &= mesh.shells.label == mesh.shells.label[nearest]
        near[nearest] = True
        normals = face_vectors(mesh.vertices, mesh.faces[near])
        own = face_vectors(mesh.vertices, mesh.faces[nearest : nearest + 1])[0]
        mean = normals[normals @ own > 0].sum(axis=0)
        size = float(np.linalg.norm(mean))
        if not size > 0:
            raise BadInput("the surface has no clear side there; click beside it")
        return mean / size
