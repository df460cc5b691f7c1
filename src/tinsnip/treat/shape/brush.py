"""Brushes: what lies under them is moved, stroke by stroke; no triangle comes or goes."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.boundary import at_open_edges
from tinsnip.mesh.measures import mean_edge
from tinsnip.progress import Progress
from tinsnip.regions import Region
from tinsnip.treat.remesh.inplace import remeshed_in_place
from tinsnip.treat.shape.brushes import BRUSHES, Dab, under
from tinsnip.treat.stroke import Stroke
from tinsnip.treat.treatment import Context, Outcome
from tinsnip.treat.working import Working
from tinsnip.words import counted

__all__ = ["BrushStroke"]

_ALIKE = 40.0
"""Steps of 256 by which a colour may differ before it counts for half."""


class BrushStroke(Stroke):
    """A stroke of one of the brushes.

    Open edges and tangled ones stay, as does what is spared; nothing of another shell or of the far side of a wall
    moves.
    """

    name: ClassVar[str] = "brush"
    title: ClassVar[str] = "Brush"
    named_points: ClassVar[tuple[str, ...]] = ("places", "mirrored")

    brush: Literal[
        "smooth", "push", "draw", "inflate", "flatten", "fill", "scrape", "tighten", "even", "back", "colour"
    ] = Field("smooth", description="; ".join(f"{name}: {kind.about}" for name, kind in BRUSHES.items()))
    strength: float = Field(0.5, gt=0, le=1, description="how much a place is moved, share")
    turned: bool = Field(False, description="the other way round: lower instead of raise, spread instead of tighten")
    falloff: Literal["soft", "sharp", "broad"] = Field("soft", description="how it fades towards its border")
    spared: Region = Field(Region(), description="what it leaves alone")
    pressures: tuple[Annotated[float, Field(ge=0, le=1)], ...] = Field(
        (), description="how hard a pen was pressed at each place, share of the strength; none: all of it"
    )
    mirrored: tuple[tuple[float, float, float], ...] = Field(
        (), description="where it came by on a mirrored side as well, mm, place by place; none: nowhere"
    )

    dense: bool = Field(False, description="mesh what it has moved anew afterwards, so that no triangle is drawn out")
    edge_mm: float | None = Field(
        None, gt=0, description="length of the edges then, mm; what it was there before by default"
    )

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> Self:
        """The same, leaving some triangles alone besides."""
        chosen = self.spared.resolve(mesh) | protected if self.spared else protected
        return self.model_copy(update={"spared": Region.of(mesh, chosen)}) if chosen.any() else self

    def begin(self, working: Working, context: Context) -> None:
        """Pin what stays, and make ready what the brush goes by.

        Raises
        ------
        BadInput
            When there is no raw scan to be brought back to, or no colour to be brought out.
        """
        mesh = working.before
        working.pinned |= at_open_edges(mesh.faces, mesh.twins, len(mesh.vertices))
        if self.spared:
            working.pinned[mesh.faces[self.spared.resolve(mesh)]] = True
        if self.brush == "back":
            if context.raw is None or len(context.raw.faces) == 0:
                raise BadInput("there is no raw scan here that it could be brought back to")
            working.go_towards(context.raw, np.eye(4) if context.frame is None else context.frame)
        if self.brush == "colour" and mesh.colour is None:
            raise BadInput("the scan has no colour on its vertices; use Push instead")

    def along(self, places: Sequence[tuple[float, float, float]], told: Sequence[Mapping[str, Any]]) -> Self:
        pressures = tuple(float(one.get("pressure", 1.0)) for one in told)
        others = tuple(tuple(np.asarray(one["other"]).tolist()) for one in told if one.get("other") is not None)
        update = {
            "places": tuple(places),
            "pressures": pressures if min(pressures, default=1.0) < 1.0 else (),
            "mirrored": others if len(others) == len(places) else (),
        }
        return self.model_copy(update=update)

    def told_at(self, number: int) -> Mapping[str, Any]:
        told: dict[str, Any] = {}
        if number < len(self.pressures):
            told["pressure"] = self.pressures[number]
        if number < len(self.mirrored):
            told["other"] = np.array(self.mirrored[number])
        return told

    def touch(
        self, working: Working, place: np.ndarray, pressure: float = 1.0, other: np.ndarray | None = None
    ) -> np.ndarray:
        """Move what lies under the brush at one place, and at another, mirrored one where there is one."""
        moved = self._touch(working, place, pressure, other is not None)
        if other is None:
            return moved
        working.change_sides()
        beyond = self._touch(working, other, pressure, True)
        working.change_sides()
        return np.union1d(moved, beyond)

    def _touch(self, working: Working, place: np.ndarray, pressure: float, is_one_of_two: bool) -> np.ndarray:
        before, working.came_by = working.came_by, place
        if self.brush == "draw":
            return self._follow(working, place, is_one_of_two)
        near = working.within(place, self.radius_mm)
        near = near[~working.pinned[near]]
        if len(near) == 0:
            return near
        if self.brush == "colour" and working.likeness is None:
            working.likeness = _likeness(working.before, near, working.vertices, place)
        share = self._share(np.linalg.norm(working.vertices[near] - place, axis=1))
        strength = self.strength * pressure
        dab = Dab(place, before, self.radius_mm, -strength if self.turned else strength)
        step = BRUSHES[self.brush].step(working, under(working, near, share), dab)
        working.move(near, working.vertices[near] + step)
        return near

    def _share(self, away: np.ndarray) -> np.ndarray:
        d = np.minimum(away / self.radius_mm, 1.0)
        return {"soft": (1 - d**2) ** 2, "sharp": (1 - d) ** 2, "broad": 1 - d**4}[self.falloff]

    def _follow(self, working: Working, place: np.ndarray, is_one_of_two: bool) -> np.ndarray:
        """What was under the brush at first goes as far as the pointer went; what both sides reach goes by both."""
        if working.grabbed is None:
            near = working.within(place, self.radius_mm)
            near = near[~working.pinned[near]]
            share = self._share(np.linalg.norm(working.vertices[near] - place, axis=1))
            working.grabbed = near, working.vertices[near].copy(), share, place
            return near[:0]
        near, start, share, first = working.grabbed
        if len(near) and is_one_of_two:
            working.move(near, working.vertices[near] + share[:, None] * (place - first))
            working.grabbed = near, start, share, place
        elif len(near):
            working.move(near, start + share[:, None] * (place - first))
        return near

    def outcome_of(self, working: Working | None, mesh: Mesh) -> Outcome:
        """What a stroke has come to, under the brush's own name."""
        outcome = super().outcome_of(working, mesh)
        title = BRUSHES[self.brush].title + (", mirrored" if self.mirrored else "")
        outcome = Outcome(outcome.mesh, outcome.text.replace(self.title, title, 1), outcome.account)
        return self._kept_dense(working, mesh, outcome) if self.dense and outcome.mesh is not mesh else outcome

    def _kept_dense(self, working: Working, mesh: Mesh, outcome: Outcome) -> Outcome:
        """With triangles as long as there were, or as was asked, where it moved something."""
        moved = outcome.mesh
        chosen = working.triangles_at(np.flatnonzero((moved.vertices != mesh.vertices).any(axis=1)))
        if self.spared:
            chosen = chosen[~self.spared.resolve(mesh)[chosen]]
        if len(chosen) == 0:
            return outcome
        edge = self.edge_mm or mean_edge(mesh.vertices, mesh.faces[chosen])
        after = remeshed_in_place(moved, chosen, edge, working.pinned, Progress())
        if after is moved:
            text = f"{outcome.text}; its triangles stay as they are, as new ones would not fit there"
            return Outcome(moved, text, outcome.account)
        more = len(after.faces) - len(mesh.faces)
        told = f"; {counted(abs(more), 'triangle')} {'more' if more > 0 else 'fewer'}" if more else ""
        return Outcome(after, outcome.text + told, outcome.account)


def _likeness(mesh: Mesh, near: np.ndarray, vertices: np.ndarray, place: np.ndarray) -> np.ndarray:
    """How like the colour next to a place each vertex is, 0 to 1, float32, shape (V,)."""
    at = near[int(np.argmin(np.linalg.norm(vertices[near] - place, axis=1)))]
    off = np.abs(mesh.colour.astype(np.float32) - mesh.colour[at].astype(np.float32)).max(axis=1)
    return 1.0 / (1.0 + (off / _ALIKE) ** 4)
