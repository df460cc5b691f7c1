"""Thicken: an open sheet becomes a solid with a wall, or a selected area becomes thicker."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy.spatial import cKDTree

from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, SHIFTED, Lineage, Mesh
from tinsnip.mesh.measures import triangles_at, vertex_normals
from tinsnip.mesh.subsets import compact
from tinsnip.progress import polled_here
from tinsnip.regions import Region
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.space.tree import build_tree, closest_points
from tinsnip.treat.account import Account
from tinsnip.treat.kit.patches.banding import band_between
from tinsnip.treat.kit.skins.offsetting import cell_for, offset_skin
from tinsnip.treat.kit.skins.recasting import Skin, blends_at, sound_triangles, with_raw_values
from tinsnip.treat.kit.skins.sheetsides import one_side
from tinsnip.treat.kit.skins.sparing import spare_offset_skin
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, grouped

__all__ = ["Thicken"]

_MARGINS = (0.0, 1.0, 2.0, 4.0)
"""How many cells the wall keeps off the sheet's edge, one after another, until the band between crosses nothing."""
_EVENED = 12
"""How often the ways out of a selection are evened, so that neighbours do not run into each other."""


class Thicken(Treatment):
    """Give an open sheet a wall: behind it or before it, where it stays to the bit itself, or to both its sides.

    With an area given, that area is put so much further out, less towards its border.
    """

    name: ClassVar[str] = "thicken"
    title: ClassVar[str] = "Thicken"
    reshapes: ClassVar[bool] = True
    station: ClassVar[str] = "Solid"

    wall_mm: float = Field(
        2.0, gt=0, allow_inf_nan=False, description="the wall of a sheet, or by how much an area becomes thicker, mm"
    )
    side: Literal["behind", "before", "both"] = Field(
        "behind", description="where a sheet's wall lies; to both sides, the sheet is the middle of it"
    )
    only: Region = Field(Region(), description="an area that becomes thicker; a whole open sheet by default")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Thicken.

        Raises
        ------
        BadInput
            When there is neither an open sheet nor an area, edges are tangled or flipped, or the wall would cross
            itself.
        """
        if len(mesh.faces) == 0 or not mesh.area > 0:
            raise BadInput("there is no surface to thicken")
        if mesh.edges.tangled or mesh.edges.flipped:
            raise BadInput("tangled or flipped edges leave the surface without clear sides; mend and orient first")
        if self.only:
            return self._area(mesh, context)
        if mesh.edges.open == 0:
            raise BadInput("it is closed: select what shall become thicker, or offset it as a whole")
        return self._both(mesh, context) if self.side == "both" else self._one(mesh, context)

    def _area(self, mesh: Mesh, context: Context) -> Outcome:
        context.progress.step("Thickening")
        chosen = self.only.resolve(mesh)
        inner = np.unique(mesh.faces[chosen])
        border = np.zeros(len(mesh.vertices), dtype=bool)
        border[mesh.faces[~chosen].ravel()] = True
        border[mesh.faces.ravel()[mesh.loops.halfedges]] = True
        edge = inner[border[inner]]
        share = np.ones(len(inner))
        if len(edge):
            away, _ = cKDTree(mesh.vertices[edge]).query(mesh.vertices[inner])
            t = np.clip(away / min(2 * self.wall_mm, max(float(away.max()), 1e-300)), 0.0, 1.0)
            share = t * t * (3 - 2 * t)
        ways = _evened(mesh, chosen)[inner]
        vertices = mesh.vertices.copy()
        vertices[inner] += self.wall_mm * share[:, None] * ways
        moved = np.zeros(len(mesh.vertices), dtype=bool)
        moved[inner[share > 0]] = True
        touched = triangles_at(mesh.faces, moved)
        pairs, folds = crossings_and_folds(vertices, mesh.faces, np.flatnonzero(touched))
        if len(pairs) + len(folds):
            raise BadInput(
                f"{self.wall_mm:g} mm thicker, the surface would cross itself in {len(pairs) + len(folds)} places; "
                "ask for less, or select less"
            )
        provenance = np.where(touched, np.maximum(mesh.provenance, SHIFTED), mesh.provenance).astype(np.uint8)
        text = f"Put {counted(int(chosen.sum()), 'triangle')} up to {self.wall_mm:g} mm further out"
        return Outcome(mesh.moved(vertices, provenance), text, Account(figures={"moved": int(touched.sum())}))

    def _skin(self, mesh: Mesh, far: float, context: Context, spare: bool) -> tuple[Skin, np.ndarray]:
        vertices, faces, sound = sound_triangles(mesh)
        if spare:
            places, skin, crossings = spare_offset_skin(vertices, faces, far, context.progress, sheet=True)
        else:
            step = cell_for(far, float(mesh.size.max()))
            places, skin, crossings = offset_skin(vertices, faces, far, step, context.progress, sheet=True)
        foot = np.empty_like(places)
        away, nearest = closest_points(build_tree(vertices, faces), places, polled_here(), foot)
        return Skin(places, skin, np.ones(len(places), dtype=bool), nearest, foot, away, crossings), sound

    def _both(self, mesh: Mesh, context: Context) -> Outcome:
        skin, sound = self._skin(mesh, 0.5 * self.wall_mm, context, True)
        result = with_raw_values(mesh, sound, skin)
        text = f"Thickened to a wall of {self.wall_mm:g} mm with the sheet in its middle"
        text += f", {grouped(len(result.faces))} triangles"
        text += f", crossing itself in {counted(skin.crossings, 'place')}" if skin.crossings else ""
        return Outcome(result, text, Account(guessed_mm2=0.0, crossings=skin.crossings))

    def _one(self, mesh: Mesh, context: Context) -> Outcome:
        skin, sound = self._skin(mesh, self.wall_mm, context, False)
        context.progress.step("Laying the wall's edge")
        sheet = mesh.faces[:, ::-1] if self.side == "before" else mesh.faces
        step = cell_for(self.wall_mm, float(mesh.size.max()))
        for margin in _MARGINS:
            wall = one_side(mesh, skin, sound, self.side == "before", margin * step)
            faces, crossings = _closed(mesh.vertices, sheet, wall)
            if faces is not None and crossings == 0:
                break
        if faces is None or crossings:
            why = "does not fit the sheet's edge" if faces is None else f"would cross itself {crossings} times"
            raise BadInput(
                f"a wall of {self.wall_mm:g} mm {why}; tidy the edge first, ask for a thinner wall, or thicken to "
                "both sides"
            )
        start, fresh = len(mesh.vertices), np.arange(len(sheet), len(faces))
        points = np.concatenate([mesh.vertices, wall.vertices])
        own = wall.attributes["skin"].values
        blends = blends_at(mesh, sound, skin.foot[own], skin.nearest[own])
        parents = np.concatenate([np.arange(len(sheet)), np.full(len(fresh), -1)])
        corners = _corners(mesh, self.side == "before", len(fresh))
        lineage = Lineage(np.arange(start), parents, blends, corners)
        provenance = np.concatenate([mesh.provenance, np.full(len(fresh), MADE, dtype=np.uint8)])
        result = compact(mesh.derive(faces, lineage, points, provenance))
        text = f"Thickened to a wall of {self.wall_mm:g} mm {self.side} the sheet, {grouped(len(fresh))} triangles made"
        return Outcome(result, text, Account(made_triangles=len(fresh), guessed_mm2=0.0))


def _closed(places: np.ndarray, sheet: np.ndarray, wall: Mesh) -> tuple[np.ndarray | None, int]:
    """Sheet, wall and the band between their edges as triangles, None where none fits; and how often they cross."""
    base, start = Mesh(places, sheet), len(places)
    rims = [sheet.ravel()[base.loops.loop(i)] for i in range(len(base.loops))]
    edges = [start + wall.faces.ravel()[wall.loops.loop(i)] for i in range(len(wall.loops))]
    points = np.concatenate([places, wall.vertices])
    band = band_between(points, rims, edges)
    if band is None:
        return None, 0
    faces = np.concatenate([sheet, start + wall.faces, band]).astype(np.int32)
    pairs, folds = crossings_and_folds(points, faces, np.arange(len(sheet), len(faces)))
    return faces, len(pairs) + len(folds)


def _corners(mesh: Mesh, turned: bool, made: int) -> np.ndarray:
    order = [2, 1, 0] if turned else [0, 1, 2]
    own = 3 * np.arange(len(mesh.faces), dtype=np.int64)[:, None] + order
    return np.concatenate([own.ravel(), np.full(3 * made, -1)])


def _evened(mesh: Mesh, chosen: np.ndarray) -> np.ndarray:
    """The unit ways out at the vertices of an area, evened over neighbours; shape (V, 3)."""
    ways, faces = vertex_normals(mesh.vertices, mesh.faces).astype(float), mesh.faces[chosen]
    for _ in range(_EVENED):
        total = np.zeros_like(ways)
        for k in range(3):
            np.add.at(total, faces[:, k], ways[faces].sum(axis=1))
        size = np.linalg.norm(total, axis=1)
        some = size > 0
        ways[some] = total[some] / size[some][:, None]
    return ways
