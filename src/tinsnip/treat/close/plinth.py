"""Plinth: a flat base that closes an open rim."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import Attribute, Domain, Mesh
from tinsnip.mesh.measures import triangle_areas
from tinsnip.regions import Region
from tinsnip.survey.holes import SHEET_LIKE, classify_boundaries
from tinsnip.survey.lids import describe_lids, lids_of
from tinsnip.treat.account import Account
from tinsnip.treat.close.lids import LIDS, LIDS_ANSWERS, LIDS_ASKED
from tinsnip.treat.kit.edges.clearsides import clear_loops
from tinsnip.treat.kit.edges.footing import Form, footed
from tinsnip.treat.kit.edges.rimplanes import FLAT, height_along, rims_by_plane
from tinsnip.treat.kit.edges.tidying import tidy_edges
from tinsnip.treat.kit.patches.clearance import what_new_triangles_cross
from tinsnip.treat.kit.patches.filling import close_rings
from tinsnip.treat.kit.patches.patching import PatchStyle, Ring, patch_clear_of_the_part
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted, grouped

__all__ = ["Plinth"]

_MOST_RIMS = 2000
_MOST_CROSSED = 20.0
"""Places in which walls and base may cross the part, for each edge of the rim: a rim round the ribs of a cage came to
70, while of two made-up scans with 5 and 7 one was mended afterwards and ended ready."""
_MARK = "rim that is tidied"
_ROWS = 2
"""Rows of triangles that are tidied where a base would cross the part otherwise: teeth of a rim that stand upright in
it, as selecting by triangles leaves them, lie over each other in the base's plane."""
_TIDIED = 0.5
"""How much a rim that is tidied first is smoothed."""


class Plinth(Treatment):
    """Close every rim onto a plane: a flat rim with a flat base, a ragged one with walls down to it."""

    name: ClassVar[str] = "plinth"
    title: ClassVar[str] = "Close the base"
    answers: ClassVar[str] = LIDS_ANSWERS
    answers_asked: ClassVar[tuple[tuple[str, str], ...]] = LIDS_ASKED

    depth_mm: float | None = Field(
        None,
        gt=0,
        description="how far the base lies beyond the rim's farthest point, mm; by default next to nothing",
    )
    form: Form = Field("straight", description="walls straight down, flared to a wider base, or with a step to one")
    spread_mm: float = Field(
        2.0, gt=0, allow_inf_nan=False, description="how far a flared or stepped base reaches beyond the rim, mm"
    )
    triangles: Literal["fewest", "even"] = Field("fewest", description="the base in few triangles, or in even ones")
    tidy_rows: int = Field(0, ge=0, le=50, description="rows of triangles from the rim that may be tidied first")
    lids: Literal["ask", "close"] = Field("close", description=LIDS)

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Close the rims.

        The rims that lie in the plane of the widest one are closed by the base; others are closed too, but count as
        patched. New triangles are looked at for what they cross; where they do, it is tried with the rims tidied.

        Raises
        ------
        BadInput
            When the mesh has tangled or flipped edges, or is a sheet without thickness and no depth is given.
        """
        outcome = self._closed(mesh, context)
        if outcome.account.crossings and not self.tidy_rows:
            try:
                tidied = self.model_copy(update={"tidy_rows": _ROWS})._closed(mesh, context)
            except BadInput:
                return outcome
            if tidied.account.crossings < outcome.account.crossings:
                return tidied
        return outcome

    def _closed(self, mesh: Mesh, context: Context) -> Outcome:
        context.progress.step("Closing the base")
        told, boundaries = "", classify_boundaries(mesh)
        rims = np.flatnonzero(boundaries.is_rim)
        if self.tidy_rows and len(rims):
            mesh, rims, told = self._tidied(mesh, context)
            boundaries = classify_boundaries(mesh)
        lids = [lid for lid in lids_of(mesh) if lid.loop in rims]
        question = describe_lids(lids) if lids and self.lids == "ask" else ""
        if question:
            rims = np.setdiff1d(rims, [lid.loop for lid in lids])
        if len(rims) == 0:
            told = f"Left open: {question}" if question else "No open rim"
            return Outcome(mesh, told, Account(figures={"rims": 0}), question)
        clear = clear_loops(mesh)[rims]
        if not clear.any():
            raise BadInput("tangled or flipped edges leave the rim without a clear side; mend and orient first")
        rims, unclear = rims[clear], int((~clear).sum())
        if len(rims) > _MOST_RIMS:
            raise BadInput(
                f"{counted(len(rims), 'open rim')} are no base to close; weld the scan or sweep strays first"
            )
        corner = mesh.faces.ravel()
        rings = {int(i): corner[mesh.loops.loop(i)] for i in rims}
        shells = mesh.shells
        before, patched, crossings, said = len(mesh.faces), 0.0, 0, ""
        skinned, kept, gone, barred, through = None, 0, 0.0, 0, 0
        groups = rims_by_plane(mesh, rings, boundaries)
        grows = self.depth_mm is not None or self.form != "straight"
        for number, (group, outward) in enumerate(groups):
            context.progress.check()
            loops = [rings[i] for i in group]
            own = mesh.vertices[mesh.faces[:before][shells.label == boundaries.shell[group[0]]]].reshape(-1, 3)
            flat = not grows and height_along(mesh.vertices[np.concatenate(loops)], outward) <= FLAT * mesh.diagonal
            sheet = not grows and height_along(own, outward) <= FLAT * mesh.diagonal
            if sheet and self.depth_mm is None:
                raise BadInput("the surface is flat throughout and has no thickness; give the base a depth in mm")
            beyond = None
            if flat and not sheet:
                tried = [close_rings(mesh, loops, outward, self._edge(mesh, loops))]
            else:
                deepest = float((own @ outward).max())
                # what dips below its own rim, as a sheet may, needs a base below that
                always = boundaries.facing[group[0]] >= SHEET_LIKE
                tried = [_walled(mesh, loops, outward, self, deepest if always else None)]
                beyond = None if always else deepest
            crossed = [what_new_triangles_cross(mesh, tried[0])]
            if beyond is not None and crossed[0].fresh:
                tried.append(_walled(mesh, loops, outward, self, beyond))
                crossed.append(what_new_triangles_cross(mesh, tried[1]))
            if min(c.fresh for c in crossed) and len(groups) == len(loops) == 1:
                # a rim so ragged that walls would cross the part: a skin as taut as a drum's
                skinned, kept, _, clear = patch_clear_of_the_part(
                    mesh, [Ring.of(loops[0][::-1])], [PatchStyle(0.0)], context, rims=True
                )
                tried, crossed = [*tried, skinned], [*crossed, clear]
            best = int(np.argmin([c.fresh for c in crossed]))
            edges = sum(len(loop) for loop in loops)
            if crossed[best].fresh > _MOST_CROSSED * edges:
                barred += len(loops)
                through = max(through, crossed[best].fresh)
                continue
            crossings += crossed[best].fresh
            if best == len(tried) - 1 and skinned is not None:
                said += ", with a skin, as walls would cross the part"
                if kept < before:
                    said += f", took {counted(before - kept, 'triangle')} away that hung over the rim"
                gone = float(mesh.areas.sum() - triangle_areas(skinned.vertices, skinned.faces[:kept]).sum())
            said += crossed[best].said()
            if number > 0:
                patched += float(tried[best].areas.sum() - mesh.areas.sum())
            mesh = tried[best]
        if barred == len(rims):
            raise BadInput(
                f"no base can close {'the rim' if barred == 1 else 'these rims'}: its walls would cross the part in "
                f"{grouped(through)} places, as the rim runs through the part's middle; a recast closes it"
            )
        account = Account(
            made_triangles=len(mesh.faces) - before, gone_mm2=gone or None, guessed_mm2=patched, crossings=crossings,
            figures={"rims": len(rims) - barred},
        )  # fmt: skip
        if barred:
            said += f"; left {counted(barred, 'rim')} open, from which walls would cross the part in "
            said += f"{grouped(through)} places"
        if unclear:
            said += f"; left {counted(unclear, 'rim')} open, which tangled or flipped edges leave without a clear side"
        said += f"; {describe_lids(lids)}" if lids else ""
        return Outcome(mesh, f"{told}Closed {counted(len(rims) - barred, 'rim')}{said}", account, question)

    def _tidied(self, mesh: Mesh, context: Context) -> tuple[Mesh, np.ndarray, str]:
        """The mesh with its rims tidied, the loops that are these rims then, and what was done."""
        halves = mesh.loops.halfedges
        on_rim = np.repeat(classify_boundaries(mesh).is_rim, np.diff(mesh.loops.start))
        mark = np.zeros(len(mesh.vertices), dtype=np.uint8)
        mark[mesh.faces[halves[on_rim] // 3].ravel()] = 1
        rims = Region.of(mesh, np.unique(halves[on_rim] // 3))
        marked = mesh.with_attribute(_MARK, Attribute(Domain.VERTEX, mark))
        tidy = tidy_edges(marked, rims, self.tidy_rows, _TIDIED, context)
        result = tidy.mesh
        corner = result.faces.ravel()[result.loops.halfedges]
        share = np.add.reduceat(result.attributes[_MARK].values[corner] > 0, result.loops.start[:-1], dtype=np.int64)
        mine = np.flatnonzero(2 * share > np.diff(result.loops.start))
        told = f"{tidy.text}; " if result is not marked else ""
        return result.without_attribute(_MARK), mine, told

    def _edge(self, mesh: Mesh, rings: list[np.ndarray]) -> float | None:
        """Length of the base's edges, mm; None: the fewest triangles."""
        if self.triangles == "fewest":
            return None
        return 2 * float(np.mean([np.linalg.norm(np.diff(mesh.vertices[r], axis=0), axis=1).mean() for r in rings]))


def _walled(mesh: Mesh, rings: list[np.ndarray], outward: np.ndarray, plinth: Plinth, beyond: float | None) -> Mesh:
    """Walls from rims to a plane beyond them, and beyond a given level, and a flat base between the walls."""
    points = mesh.vertices[np.concatenate(rings)]
    following = np.concatenate([np.roll(mesh.vertices[r], -1, axis=0) for r in rings])
    edge = float(np.linalg.norm(following - points, axis=1).mean())
    depth = plinth.depth_mm
    if depth is None:
        depth = 0.5 * edge if plinth.form == "straight" else plinth.spread_mm
    level = max(float((points @ outward).max()), -np.inf if beyond is None else beyond) + depth
    even = 2 * edge if plinth.triangles == "even" else None
    return footed(mesh, rings, outward, level, plinth.form, plinth.spread_mm, even)
