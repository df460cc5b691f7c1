"""Recast: rebuild the whole part as one closed skin."""

from typing import ClassVar, NamedTuple

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import triangle_areas, vertex_normals
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.space.lattice import INSIDE
from tinsnip.space.winding import Winding
from tinsnip.survey.strays import CHUNK_SHARE
from tinsnip.treat.account import Account
from tinsnip.treat.kit.edges.rimplanes import with_feet_closed
from tinsnip.treat.kit.skins.recasting import recast_surface, sound_triangles, with_raw_values
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, grouped, percent

__all__ = ["Forecast", "Recast", "forecast", "propose_recast"]

_CELLS = 256
"""Cells along the longest side where nothing else is said."""
_MOST_CELLS = 4000
_MOST_TRIANGLES = 40_000_000
_STEPS_FOR_DEVIATION = 2.0
_CELLS_IN_WALL = 3.0
_FOR_EACH_CELL = 3.2
"""Triangles for so much of the surface as one cell's side has area."""
_BYTES, _SECONDS = 900.0, 5e-6
"""Memory and time for each triangle, measured."""
_ASIDE = 0.1
"""Share of a cell beside the surface at which the side is told."""


class Forecast(NamedTuple):
    """What a recast would make and take.

    Attributes
    ----------
    step : float
        Width of a cell, mm.
    triangles : int
    seconds : float
        On a machine like the one it was measured on.
    megabytes : float
    """

    step: float
    triangles: int
    seconds: float
    megabytes: float


def forecast(mesh: Mesh, deviation_mm: float | None = None, wall_mm: float | None = None) -> Forecast:
    """What a recast with these settings would make, before it runs.

    Parameters
    ----------
    mesh : Mesh
    deviation_mm : float, optional
        Allowed deviation.
    wall_mm : float, optional
        Thickness that sheets are given.
    """
    step = _step(mesh, deviation_mm, wall_mm)
    triangles = int(_FOR_EACH_CELL * mesh.area / step**2)
    work = triangles + len(mesh.faces)
    return Forecast(step, triangles, _SECONDS * work, _BYTES * work / 1e6)


def propose_recast(mesh: Mesh) -> tuple[str, float]:
    """What a recast with common settings would change and cost, in words, and the deviation it would allow, mm.

    Parameters
    ----------
    mesh : Mesh
    """
    plan = forecast(mesh)
    deviation = plan.step / _STEPS_FOR_DEVIATION
    told = (
        f"a recast would close it, in cells of {plan.step:.2g} mm: some {grouped(plan.triangles)} triangles in about "
    )
    told += f"{max(1, round(plan.seconds))} s; all of its surface would be shifted, by up to {deviation:.2g} mm"
    return told, deviation


def _step(mesh: Mesh, deviation_mm: float | None, wall_mm: float | None) -> float:
    longest = float(mesh.size.max(initial=0.0))
    step = longest / _CELLS if deviation_mm is None else _STEPS_FOR_DEVIATION * deviation_mm
    return min(step, wall_mm / _CELLS_IN_WALL) if wall_mm is not None else step


class Recast(Treatment):
    """Make the part anew as one closed skin round all that its surface encloses; what was measured is shifted a little.

    What is inside is told by winding numbers, so that holes, overlaps, inner skins and wrong sides do not matter.
    """

    name: ClassVar[str] = "recast"
    title: ClassVar[str] = "Recast"
    clears_crossings: ClassVar[bool] = True
    reshapes: ClassVar[bool] = True
    remakes: ClassVar[bool] = True

    deviation_mm: float | None = Field(
        None, gt=0, description="how far the skin may lie off the scan, mm; the longest side's 512th part by default"
    )
    wall_mm: float | None = Field(None, gt=0, description="how thick sheets without an inside become, mm; else they go")
    gap_mm: float | None = Field(None, gt=0, description="the widest gap that is bridged, mm; any by default")
    only_if_needed: bool = Field(True, description="leave alone what is a valid solid already")

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Recast.

        Raises
        ------
        BadInput
            When the mesh is empty or encloses nothing, when a gap is too wide, or the skin would be too large.
        """
        progress = context.progress
        if len(mesh.faces) == 0 or not mesh.area > 0:
            raise BadInput("the part has no surface that could be recast")
        if self.only_if_needed and _is_valid(mesh):
            return Outcome(mesh, "Nothing to recast: it is a valid solid", Account(figures={"cell_mm": 0.0}))
        plan = forecast(mesh, self.deviation_mm, self.wall_mm)
        self._refuse_what_is_too_large(mesh, plan)
        progress.step("Closing the feet")
        closed = with_feet_closed(mesh)
        vertices, faces, sound = sound_triangles(closed)
        invented = sound >= len(mesh.faces)
        sheets = 0
        if self.wall_mm is not None:
            progress.step("Looking for sheets")
            vertices, faces, invented, sound, sheets = _thickened(
                vertices, faces, sound, invented, self.wall_mm, plan.step
            )
        with progress.part(0.08, 0.92):
            cast = recast_surface(vertices, faces, plan.step, progress, invented)
        made_up = ~cast.seen & ~invented[cast.nearest]
        widest = 2 * float(cast.away[made_up].max(initial=0.0))
        if self.gap_mm is not None and widest > self.gap_mm + plan.step:
            raise BadInput(
                f"an opening of some {widest:.3g} mm would be bridged, and {self.gap_mm:g} mm are allowed; "
                "patch it first, or allow more"
            )
        with progress.part(0.92, 1.0):
            progress.step("Giving it the scan's values")
            result = with_raw_values(closed, sound, cast)
        share = float(made_up[cast.faces].any(axis=1).mean())
        text = f"Recast in cells of {plan.step:.3g} mm to {grouped(len(result.faces))} triangles"
        feet = len(closed.faces) > len(mesh.faces)
        text += ", open feet closed onto planes" * feet
        text += f", bridged gaps up to {widest:.3g} mm" * (share > 0)
        text += f", thickened {counted(sheets, 'triangle')} of sheets" * (sheets > 0)
        if cast.crossings:
            text += f", crossing itself in {counted(cast.crossings, 'place')}"
        areas = triangle_areas(result.vertices, result.faces)
        patched = float(areas[made_up[cast.faces].any(axis=1)].sum())
        figures = {
            "cell_mm": plan.step, "bridged_mm": widest, "bridged_share": share, "sheets": sheets,
            "solids": _large_solids(result),
        }  # fmt: skip
        return Outcome(result, text, Account(guessed_mm2=patched, crossings=cast.crossings, figures=figures))

    def shells_after(self, wanted: int, account: Account) -> int:
        return min(wanted, account.figures.get("solids") or wanted)

    def _refuse_what_is_too_large(self, mesh: Mesh, plan: Forecast) -> None:
        cells = float(mesh.size.max()) / plan.step
        if cells > _MOST_CELLS or plan.triangles > _MOST_TRIANGLES:
            raise BadInput(
                f"cells of {plan.step:.3g} mm would make some {grouped(plan.triangles)} triangles, {cells:.0f} cells "
                f"along the longest side; allow {percent(1 / _MOST_CELLS)} of it or more"
            )
        if cells < 4:
            raise BadInput(
                f"the part is only {cells:.1f} cells of {plan.step:.3g} mm long; allow less deviation or a thinner wall"
            )


def _large_solids(mesh: Mesh) -> int:
    """Solids that are no crumbs."""
    shells = mesh.shells
    return int(((shells.volume > 0) & (shells.area > CHUNK_SHARE * shells.area.max(initial=0.0))).sum())


def _is_valid(mesh: Mesh) -> bool:
    """Closed, manifold, outward, and crossing nothing."""
    edges = mesh.edges
    if edges.open or edges.tangled or edges.flipped or not mesh.volume > 0:
        return False
    return not any(len(found) for found in crossings_and_folds(mesh.vertices, mesh.faces))


def _thickened(
    vertices: np.ndarray, faces: np.ndarray, sound: np.ndarray, made: np.ndarray, wall: float, step: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, int]:
    """Sheets with nothing inside on either hand become slabs of a thickness; all else stays."""
    corners = vertices[faces]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-300)[:, None]
    field, middle = Winding(vertices, faces), corners.mean(axis=1)
    sheet = np.ones(len(faces), dtype=bool)
    for side in (-1, 1):
        sheet &= field.at(middle + side * _ASIDE * step * normals, 4.0) < INSIDE
    count = int(sheet.sum())
    if count == 0:
        return vertices, faces, made, sound, 0
    own = faces[sheet]
    used, local = np.unique(own, return_inverse=True)
    local = local.reshape(-1, 3)
    upright = vertex_normals(vertices[used], local.astype(np.int32))
    above, below = (vertices[used] + side * 0.5 * wall * upright for side in (1, -1))
    start, n = len(vertices), len(used)
    ends = np.concatenate([local[:, [k, (k + 1) % 3]] for k in range(3)])
    key, back = ends[:, 0] * n + ends[:, 1], ends[:, 1] * n + ends[:, 0]
    rim = ends[~np.isin(key, back)]
    p, q = rim[:, 0], rim[:, 1]
    walls = np.concatenate([np.column_stack([q, p, n + p]), np.column_stack([q, n + p, n + q])])
    slab = start + np.concatenate([local, n + local[:, ::-1], walls])
    rest = ~sheet
    invented = np.concatenate([made[rest], np.ones(len(slab), dtype=bool)])
    parents = np.concatenate([sound[rest], sound[sheet], sound[sheet], np.full(len(walls), sound[sheet][0])])
    together = np.concatenate([faces[rest], slab]).astype(np.int32)
    return np.concatenate([vertices, above, below]), together, invented, parents, count
