"""Remesh: the same surface in even triangles."""

from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy import sparse

from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, SHIFTED, Domain, Lineage, Mesh
from tinsnip.mesh.halfedges import OPEN
from tinsnip.mesh.measures import corner_shares, edge_lengths, mean_edge
from tinsnip.mesh.quads import QUAD
from tinsnip.mesh.subsets import compact
from tinsnip.progress import Progress, check_here, polled_here
from tinsnip.regions import Region
from tinsnip.space.singles import as_files_hold
from tinsnip.space.tree import closest_points
from tinsnip.survey.crossings import new_crossings
from tinsnip.survey.deviation import Deviation, largest_deviation, summed_up
from tinsnip.treat.account import BUDGET, Account, Undone
from tinsnip.treat.reduce.charts import chart_of
from tinsnip.treat.reduce.sheets import Sheets, as_sheets
from tinsnip.treat.remesh.creases import find_creases
from tinsnip.treat.remesh.remeshing import Remeshed, remeshed
from tinsnip.treat.remesh.sizing import graded, resized_by_deviation
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted, grouped

__all__ = [
    "DEVIATION_OF_EDGE",
    "MOST_TRIANGLES",
    "Remesh",
    "anew",
    "derived",
    "forecast_triangles",
    "off_each_other",
    "torn",
]

_TURNS, _FINER = 5, 0.5
"""Times that it is tried, and how much shorter edges are from one to the next where it crossed itself."""
_LITTLE = 0.02
"""Share of its triangles up to which shorter edges are tried where it crosses itself: of a scan that lies on itself all
over they would only make more that cross."""
MOST_TRIANGLES = 40_000_000
_FOR_EACH_SQUARE = 2.31
"""Triangles with equal sides for so much area as a square over a side has, 4 over the root of 3."""
_FEWEST_EDGES = 4.0
"""So many edges the part is long at least, or nothing of its form is left."""
DEVIATION_OF_EDGE = 0.1
"""Of the longest edge: what an adaptive mesh may lie off where nothing is said."""
_FINEST = 0.25
"""How short edges become where the surface bends most, of the longest, or of what they were in the mean."""
_AIM, _CLOSER, _NEARLY = 0.5, 0.75, 0.6
"""Share of the deviation that edge lengths aim at, how much closer each time it was not kept somewhere, and from which
share a place is mended then."""
_COLOURS_APART = 48
"""Difference of two triangles' colours, in any channel of 255, from which a line is kept between them."""
_INWARD = (1e-3, 0.05, 0.25)
"""How far from a corner towards the middle of its triangle the chart is looked for that it takes its texture from."""


def forecast_triangles(mesh: Mesh, edge: float) -> int:
    """About how many triangles a mesh has with edges of a length, mm.

    Parameters
    ----------
    mesh : Mesh
    edge : float
        In mm.
    """
    return round(_FOR_EACH_SQUARE * mesh.area / edge**2)


def torn(mesh: Mesh, sheets: Sheets) -> np.ndarray:
    """Half-edges along which the mesh was cut, or may have been at their ends; bool, shape (3 F,)."""
    half = (3 * sheets.triangle[:, None] + np.arange(3)).ravel()
    both = sheets.held[sheets.faces] & sheets.held[np.roll(sheets.faces, -1, axis=1)]
    return both.ravel() | ((sheets.twins < 0) & (mesh.twins[half] != OPEN))


class Remesh(Treatment):
    """Mesh the surface anew with triangles of one edge length, or longer ones where it is flat; its lines stay.

    Sharp edges, rims, the borders of what was made and of texture charts stay where they are, and where that is asked
    the borders of colours; tangles stay as they are, with what lies next to them.
    """

    name: ClassVar[str] = "remesh"
    title: ClassVar[str] = "Remesh"
    reshapes: ClassVar[bool] = True

    edge_mm: float | None = Field(
        None, gt=0, description="length of the edges, mm; what it is now in the mean by default"
    )
    adaptive: bool = Field(False, description="shorter edges where the surface bends, and no longer ones than that")
    max_deviation_mm: float | None = Field(
        None, gt=0, description="how far an adaptive mesh may lie off, mm; a tenth of an edge by default"
    )
    hold_colour_edges: bool = Field(False, description="keep the lines where the scan's colour changes")
    only: Region = Field(Region(), description="what is meshed anew, up to its border; by default all")

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> "Remesh":
        chosen = self.only.resolve(mesh) & ~protected if self.only else ~protected
        return self.model_copy(update={"only": Region.of(mesh, chosen)}) if chosen.any() else self

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Remesh.

        Where the new surface would cross itself and the old did not, the triangles there stay as they were.

        Raises
        ------
        BadInput
            When edges are too long for the part, or so short that triangles beyond measure would be made.
        """
        if len(mesh.faces) == 0 or not mesh.area > 0:
            return Outcome(mesh, "Nothing to remesh")
        edge = self.edge_mm or mean_edge(mesh.vertices, mesh.faces)
        held = ~self.only.resolve(mesh) if self.only else np.zeros(len(mesh.faces), dtype=bool)
        self._refuse_what_cannot_be(mesh, edge, held)
        mesh = compact(mesh.without_attribute(QUAD))
        label = self.labels(mesh)
        progress = context.progress
        limit = self._deviation(edge) if self.adaptive else np.inf
        shortest = _FINEST * min(edge, mean_edge(mesh.vertices, mesh.faces))
        size, kept, share = np.full(len(mesh.vertices), edge), held, _AIM
        tied = np.zeros(len(mesh.vertices), dtype=bool)
        sheets = as_sheets(mesh)
        tried: list[tuple[int, float, int, Mesh, Deviation | None]] = []
        for turn in range(_TURNS):
            with progress.part(turn / _TURNS, (turn + 1) / _TURNS):
                aim = share * limit if self.adaptive else 0.0
                result = anew(mesh, sheets, size, kept, tied, label, progress, aim, shortest)
                pairs = new_crossings(mesh, result)
                measured = largest_deviation(result, mesh, progress, limit) if self.adaptive else None
            far = measured is not None and measured.max > limit  # then no more of it was looked at
            tried.append((len(pairs), measured.max if far else 0.0, turn, result, None if far else measured))
            if len(pairs) == 0 and not far:
                break
            if far:
                share *= _CLOSER
                # tips that are swallowed do not come back by shorter edges
                away, _ = closest_points(result.tree, mesh.vertices, polled_here())
                tied |= away > _NEARLY * limit
                _shorten_where_far(mesh, result, _NEARLY * limit, size)
            if len(pairs):
                met = result.vertices[result.faces[np.unique(pairs)]]
                _, near = closest_points(mesh.tree, np.concatenate([*met, met.mean(axis=1)]), polled_here())
                is_little = len(np.unique(pairs)) < _LITTLE * len(result.faces)
                if turn == 0 and not self.adaptive and is_little:
                    size[np.unique(mesh.faces[near])] *= _FINER
                else:
                    kept = kept.copy()
                    kept[near] = True
            size = graded(mesh.vertices, mesh.faces, size)
        crossed, _, _, result, measured = min(tried, key=lambda one: one[:3])
        if measured is None:
            measured = off_each_other(result, mesh, progress, self.adaptive)
        return self._told(result, measured, edge, crossed, bool(tried[0][0] and not crossed))

    def _told(self, result: Mesh, measured: Deviation, edge: float, crossed: int, finer: bool) -> Outcome:
        text = f"Remeshed with edges of {'at most ' * self.adaptive}{edge:.3g} mm to "
        text += f"{counted(len(result.faces), 'triangle')}, within {'' if self.adaptive else 'about '}"
        text += f"{at_most(measured.max)} mm"
        text += ", shorter where it would cross itself else" * finer
        if crossed:
            text += f", crossing itself in {counted(crossed, 'place')}"
        undone = ()
        if self.adaptive and measured.max > self._deviation(edge):
            why = f"moved by up to {at_most(measured.max)} mm where {self._deviation(edge):g} were allowed"
            undone = (Undone(BUDGET, why, why, "allow more, or shorter edges: --set {step}.edge_mm=..."),)
            text += f": more than the {self._deviation(edge):g} that were allowed"
        figures = {"edge_mm": edge, "deviation_mm": measured.max, "deviation_p99_mm": measured.p99}
        return Outcome(result, text, Account(crossings=crossed, undone=undone, figures=figures))

    def _deviation(self, edge: float) -> float:
        return self.max_deviation_mm or DEVIATION_OF_EDGE * edge

    def _refuse_what_cannot_be(self, mesh: Mesh, edge: float, held: np.ndarray) -> None:
        if not held.all() and edge * _FEWEST_EDGES > mesh.diagonal:
            raise BadInput(
                f"edges of {edge:g} mm are too long for a part of {mesh.diagonal:.3g} mm; "
                f"{mesh.diagonal / _FEWEST_EDGES:.3g} mm are the most"
            )
        count = forecast_triangles(mesh, edge)
        if count > MOST_TRIANGLES:
            shortest = (_FOR_EACH_SQUARE * mesh.area / MOST_TRIANGLES) ** 0.5
            raise BadInput(
                f"edges of {edge:g} mm would make some {grouped(count)} triangles; {shortest:.3g} mm are the least"
            )

    def labels(self, mesh: Mesh) -> np.ndarray:
        """Triangles that no line may be lost between have different numbers, int64, shape (F,)."""
        parts = [(mesh.provenance == MADE).astype(np.int64)]
        texture = mesh.attributes.get("texture")
        if texture is not None and texture.domain is Domain.CORNER:
            parts.append(chart_of(mesh, texture.values))
        if self.hold_colour_edges and mesh.colour is not None:
            parts.append(_colour_areas(mesh))
        for attribute in mesh.attributes.values():
            if attribute.domain is Domain.TRIANGLE:
                parts.append(np.unique(attribute.values, axis=0, return_inverse=True)[1].ravel())
        label = np.zeros(len(mesh.faces), dtype=np.int64)
        for part in parts:
            label = np.unique(label * (int(part.max(initial=0)) + 1) + part, return_inverse=True)[1].ravel()
        return label


def anew(
    mesh: Mesh, sheets: Sheets, size: np.ndarray, held: np.ndarray, tied: np.ndarray, label: np.ndarray,
    progress: Progress, deviation: float, shortest: float,
) -> Mesh:  # fmt: skip
    """The mesh with other triangles where it is not held."""
    progress.step("Looking for lines to keep")
    stays = held[sheets.triangle]
    # triangles that stay have a number each, so that they are known again
    kinds = int(label.max(initial=0)) + 1
    own = np.where(stays, kinds + sheets.triangle, label[sheets.triangle])
    size = size[sheets.origin]
    stuck = sheets.held | tied[sheets.origin]
    surface = mesh if sheets.faces is mesh.faces else Mesh(sheets.vertices, sheets.faces)
    creases = find_creases(surface, sheets.twins, size, label[sheets.triangle], stays, stuck, torn(mesh, sheets))
    resize = None
    if deviation:  # from what there is, growing: what long edges have cut off would not come back
        resize = resized_by_deviation(surface.tree, deviation, shortest, size[sheets.faces].min(axis=1))
        size = np.clip(edge_lengths(surface), shortest, size)
    made = remeshed(surface.tree, sheets.twins, size, own, creases, kinds, progress, resize)
    return derived(mesh, sheets, made, label, kinds)


def off_each_other(result: Mesh, before: Mesh, progress: Progress, surely: bool) -> Deviation:
    """How far two surfaces lie off each other: a bound, or at the vertices of one and the middles of the other."""
    if surely:
        return largest_deviation(result, before, progress)
    progress.step("Measuring the deviation")
    middles = result.vertices[result.faces].mean(axis=1)
    away = [closest_points(m.tree, p, polled_here())[0] for m, p in ((before, middles), (result, before.vertices))]
    check_here()
    return summed_up(np.concatenate(away))


def _shorten_where_far(mesh: Mesh, result: Mesh, limit: float, size: np.ndarray) -> None:
    """Want shorter edges, in place, where triangles lie further off the old surface than a limit."""
    corners = result.vertices[result.faces]
    points = np.concatenate([corners.mean(axis=1), *(corners[:, [k, (k + 1) % 3]].mean(axis=1) for k in range(3))])
    away, hit = closest_points(mesh.tree, points, polled_here())
    far = np.flatnonzero(away > limit)
    sides = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).max(axis=1)
    wanted = _FINER * np.tile(sides, 4)[far]
    for k in range(3):
        np.minimum.at(size, mesh.faces[hit[far], k], wanted)


def _colour_areas(mesh: Mesh) -> np.ndarray:
    """Areas of triangles that are alike in colour, int64, shape (F,)."""
    colours = mesh.colour.astype(np.int16)
    middle = colours[mesh.faces].mean(axis=1)
    steps = np.round(middle / _COLOURS_APART).astype(np.int64)
    return (steps[:, 0] * 16 + steps[:, 1]) * 16 + steps[:, 2]


def derived(mesh: Mesh, sheets: Sheets, made: Remeshed, label: np.ndarray, kinds: int) -> Mesh:
    """What was meshed anew as a successor of the mesh: colours, texture and provenance from there."""
    origin = np.where(made.origin >= 0, sheets.origin[np.maximum(made.origin, 0)], -1)
    # vertices along the cuts are one again
    first = np.full(len(mesh.vertices), -1, dtype=np.int64)
    index = np.arange(len(origin))
    tied = (made.origin >= 0) & sheets.held[np.maximum(made.origin, 0)]
    first[origin[tied][::-1]] = index[tied][::-1]
    joined = np.where(tied, first[np.maximum(origin, 0)], index)
    stays = joined == index
    faces = (np.cumsum(stays) - 1)[joined][made.faces].astype(np.int32)
    vertices, origin = made.vertices[stays], origin[stays]
    near = sheets.triangle[made.near[stays]]
    moved = origin < 0
    vertices[moved] = as_files_hold(vertices[moved], mesh.diagonal)
    corners = mesh.faces[near].astype(np.int64)
    share = corner_shares(vertices, *(mesh.vertices[corners[:, k]] for k in range(3)))
    corners[~moved], share[~moved] = origin[~moved, None], (1.0, 0.0, 0.0)
    rows = np.repeat(np.arange(len(vertices)), 3)
    blends = sparse.csr_matrix((share.ravel(), (rows, corners.ravel())), shape=(len(vertices), len(mesh.vertices)))
    held = made.label >= kinds
    parents = np.where(held, made.label - kinds, _parents(mesh, vertices, faces, made.label, label, held))
    whole = held & (origin[faces] == mesh.faces[parents]).all(axis=1)
    kept, towards = _texture_corners(mesh, vertices, faces, parents, label, whole)
    provenance = np.where(mesh.provenance[parents] == MADE, MADE, SHIFTED).astype(np.uint8)
    provenance[held] = mesh.provenance[parents[held]]
    lineage = Lineage(np.empty(0, dtype=np.int64), parents, blends, kept, towards)
    return mesh.derive(faces, lineage, vertices, provenance)


def _parents(
    mesh: Mesh, vertices: np.ndarray, faces: np.ndarray, own: np.ndarray, label: np.ndarray, held: np.ndarray
) -> np.ndarray:
    """The old triangle that each new one lies on, of those with the same label."""
    if label.max(initial=0) == 0 and not mesh.attributes:
        return np.zeros(len(faces), dtype=np.int64)
    middle = vertices[faces].mean(axis=1)
    _, parents = closest_points(mesh.tree, middle, polled_here())
    check_here()
    # where another's area is nearer, as on either side of a thin wall, any of its own does
    any_of = np.full(int(label.max(initial=0)) + 1, 0, dtype=np.int64)
    any_of[label] = np.arange(len(label))
    own = np.where(held, 0, own)
    wrong = ~held & (label[parents] != own)
    return np.where(wrong, any_of[own], parents).astype(np.int64)


def _texture_corners(
    mesh: Mesh, vertices: np.ndarray, faces: np.ndarray, parents: np.ndarray, label: np.ndarray, whole: np.ndarray
) -> tuple[np.ndarray, tuple]:
    """What each corner's texture is mixed from, as a `Lineage` takes it: places on triangles of its own chart."""
    every = (3 * parents[:, None] + np.arange(3)).ravel()
    if not any(a.domain is Domain.CORNER for a in mesh.attributes.values()):
        return every, ()
    places = vertices[faces]
    middle = places.mean(axis=1, keepdims=True)
    owner = np.repeat(parents, 3)
    open_yet = np.repeat(~whole, 3)
    for inward in _INWARD:
        some = np.flatnonzero(open_yet)
        if len(some) == 0:
            break
        looked = (places + inward * (middle - places)).reshape(-1, 3)[some]
        _, hit = closest_points(mesh.tree, looked, polled_here())
        check_here()
        fits = label[hit] == label[np.repeat(parents, 3)[some]]
        owner[some[fits]] = hit[fits]
        open_yet[some[fits]] = False
    corners = mesh.faces[owner]
    share = corner_shares(places.reshape(-1, 3), *(mesh.vertices[corners[:, k]] for k in range(3)))
    kept = np.repeat(whole, 3)
    share[kept] = np.eye(3)[np.tile(np.arange(3), len(faces))[kept]]
    first = 3 * owner.astype(np.int64)
    second = share[:, 1] / np.maximum(share[:, 0] + share[:, 1], 1e-300)
    return first, ((first + 1, second), (first + 2, share[:, 2]))
