"""Reduce: fewer triangles, as little deviation as can be."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import ClassVar

import numpy as np
from pydantic import Field

from tinsnip.errors import BadInput
from tinsnip.mesh import MADE, SHIFTED, Lineage, Mesh
from tinsnip.mesh.halfedges import OPEN, fans_of
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.subsets import compact
from tinsnip.progress import Progress, stoppable
from tinsnip.survey.deviation import largest_deviation
from tinsnip.treat.collapsing import Holds, collapse_to, record_collapses
from tinsnip.treat.curve import Curve, deviation_curve
from tinsnip.treat.levelsearch import LevelSearch
from tinsnip.treat.record import Level, Record
from tinsnip.treat.sheets import cut_into_sheets
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import counted

__all__ = ["Reduce"]

_FEWEST = 300


class Reduce(Treatment):
    """Reduce by quadric edge collapse to a number of triangles, to a share of them, or as far as a deviation allows.

    Of several goals the one that leaves the fewest triangles is taken, but the largest deviation is never passed.
    """

    name: ClassVar[str] = "reduce"
    title: ClassVar[str] = "Reduce"

    triangles: int | None = Field(None, ge=4, description="how many triangles to keep")
    percent: float | None = Field(None, gt=0, le=100, description="share of the triangles to keep, %")
    max_deviation_mm: float | None = Field(None, gt=0, description="how far the surface may move at most, mm")
    hold_rims: bool = Field(False, description="leave open edges exactly as they are")
    hold_colour_edges: bool = Field(False, description="keep the lines where the scan's colour changes")
    hold_triangles: tuple[tuple[int, int], ...] = Field(
        (), description="spans of triangles, first and one past the last, to leave untouched"
    )
    even: bool = Field(False, description="triangles of one size all over, not fewer where it is flat")

    def target(self, count: int) -> int | None:
        """Triangles to keep of `count`; None when neither number nor share is given."""
        goals = [self.triangles] if self.triangles is not None else []
        if self.percent is not None:
            goals.append(max(4, round(count * self.percent / 100.0)))
        return min(goals) if goals else None

    def same_options(self, other: "Reduce") -> bool:
        """Whether both hold and spread alike, so that one record serves both."""
        goals = {"triangles": None, "percent": None, "max_deviation_mm": None}
        return self.model_copy(update=goals) == other.model_copy(update=goals)

    def _holds(self, mesh: Mesh) -> Holds:
        held = None
        if self.hold_triangles:
            held = np.zeros(len(mesh.vertices), dtype=bool)
            for begin, end in self.hold_triangles:
                if not 0 <= begin <= end <= len(mesh.faces):
                    raise BadInput(f"triangles {begin} to {end} are to be held, of {len(mesh.faces)}; correct the span")
                held[mesh.faces[begin:end]] = True
        return Holds(self.hold_rims, mesh.colour if self.hold_colour_edges else None, held, self.even)

    def _given(self, mesh: Mesh) -> tuple[tuple, Callable[[Level], Level] | None]:
        """What the collapse is given, and how its result is put together again where the mesh has tangles.

        Round a tangle the surface is cut into sheets, which stay as they are along the cuts.
        """
        holds = self._holds(mesh)
        fans = fans_of(mesh.faces, mesh.twins, len(mesh.vertices))
        if (mesh.twins >= OPEN).all() and not mesh.edges.flipped and (fans == 1).all():
            return (mesh.vertices, mesh.faces, mesh.twins, holds), None
        sheets = cut_into_sheets(mesh)
        held = sheets.held if holds.vertices is None else sheets.held | holds.vertices[sheets.origin]
        colours = None if holds.colours is None else holds.colours[sheets.origin]
        holds = holds._replace(vertices=held, colours=colours)
        return (sheets.vertices, sheets.faces, sheets.twins, holds), sheets.join

    @stoppable
    def record(self, mesh: Mesh, progress: Progress) -> Record:
        """Run the whole reduction once, so that any level can be had from the record."""
        progress.step("Preparing to reduce")
        given, join = self._given(compact(mesh))
        fewest = min(_FEWEST, self.target(len(mesh.faces)) or _FEWEST)
        return record_collapses(*given, progress, fewest, join)

    @stoppable
    def study(self, mesh: Mesh, progress: Progress) -> tuple[Record, Curve]:
        """The record, and what its levels cost; the spatial tree is built while the collapses run."""
        with ThreadPoolExecutor(1) as pool:
            tree = pool.submit(lambda: mesh.tree)
            with progress.part(0.0, 0.65):
                record = self.record(mesh, progress)
            tree.result()
        with progress.part(0.65, 1.0):
            return record, deviation_curve(record, mesh, progress)

    def outcome_of(self, mesh: Mesh, level: Level) -> Outcome:
        """The outcome that a level of this treatment's record amounts to."""
        mesh = compact(mesh)
        moved = (level.vertices != mesh.vertices[level.source]).any(axis=1)
        touched = triangles_at(level.faces, moved) | (level.source[level.faces] != mesh.faces[level.parent]).any(axis=1)
        provenance = mesh.provenance[level.parent]
        provenance = np.where(touched & (provenance == 0), SHIFTED, provenance).astype(np.uint8)
        if (mesh.provenance == MADE).any():  # a triangle that reaches into a patch is not wholly measured any more
            invented = np.ones(len(mesh.vertices), dtype=bool)
            invented[mesh.faces[mesh.provenance != MADE]] = False
            provenance[triangles_at(level.faces, invented[level.source])] = MADE
        reduced = mesh.derive(level.faces, Lineage(level.source, level.parent), level.vertices, provenance)
        text = f"Reduced to {counted(len(reduced.faces), 'triangle')}"
        target = self.target(len(mesh.faces))
        if target is not None and len(reduced.faces) > target * 1.02 + 4:
            why = "the deviation" if self.max_deviation_mm is not None else "the shape"
            text += f" ({counted(target, 'was', 'were')} asked; {why} allows no fewer)"
        figures = {"triangles": len(reduced.faces), "before": len(mesh.faces), "before_mm2": float(mesh.areas.sum())}
        if target is not None:
            figures["asked"] = target
        return Outcome(reduced, text, figures)

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Reduce the mesh; tangles stay as they are, with what lies next to them."""
        target = self.target(len(mesh.faces))
        if self.max_deviation_mm is not None and len(mesh.faces):
            return self._within_deviation(mesh, target, context.progress)
        if target is None or target >= len(mesh.faces):
            return Outcome(mesh, "Nothing to reduce", {"triangles": len(mesh.faces)})
        context.progress.step("Preparing to reduce")
        sound = compact(mesh)
        given, join = self._given(sound)
        vertices, faces, twins, holds = given
        level = collapse_to(vertices, faces, twins, target, holds, context.progress)
        return self.outcome_of(sound, level if join is None else join(level))

    def _within_deviation(self, mesh: Mesh, target: int | None, progress: Progress) -> Outcome:
        """The level with the fewest triangles, but `target` at least, that stays within the deviation."""
        with progress.part(0.0, 0.6):
            record, curve = self.study(mesh, progress)
        search = LevelSearch(curve, self.max_deviation_mm, target or 0, record.most)
        found = None
        with progress.part(0.6, 1.0):
            while search.next is not None:
                level, count = record.level(search.next), search.next
                measured = largest_deviation(Mesh(level.vertices, level.faces), mesh, progress, back=None)
                search.tell(measured.max)
                if search.best == count:
                    found = level, measured
        if found is None:
            text = f"Nothing to reduce within {self.max_deviation_mm:g} mm"
            return Outcome(mesh, text, {"triangles": len(mesh.faces), "deviation_mm": 0.0})
        outcome = self.outcome_of(mesh, found[0])
        figures = {**outcome.figures, "deviation_mm": found[1].max, "deviation_p99_mm": found[1].p99}
        return Outcome(outcome.mesh, f"{outcome.text}, within {found[1].max:.3g} mm", figures)
