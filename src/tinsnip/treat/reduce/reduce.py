"""Reduce: fewer triangles, as little deviation as can be."""

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from tinsnip.formats import FORMATS
from tinsnip.mesh import MADE, SHIFTED, Lineage, Mesh
from tinsnip.mesh.measures import triangles_at
from tinsnip.mesh.quads import QUAD
from tinsnip.mesh.remembered import forget
from tinsnip.mesh.subsets import compact
from tinsnip.progress import Progress, stoppable
from tinsnip.regions import Region
from tinsnip.survey.crossings import new_crossings, vertices_where_met
from tinsnip.survey.deviation import Deviation, largest_deviation
from tinsnip.treat.account import BUDGET, Account, Undone
from tinsnip.treat.reduce.charts import corners_kept, places_followed
from tinsnip.treat.reduce.collapsing import Holds, Reduction, record_collapses
from tinsnip.treat.reduce.curve import Curve, deviation_curve
from tinsnip.treat.reduce.levelsearch import LevelSearch
from tinsnip.treat.reduce.record import Level, Record
from tinsnip.treat.reduce.sheets import cut_into_sheets, is_clean
from tinsnip.treat.treatment import Context, Outcome, Treatment
from tinsnip.words import at_most, counted

__all__ = ["Reduce"]

_FEWEST = 12
"""Triangles that a record goes down to; a box has no more."""
_LARGE = 5_000_000
"""Triangles from which a mesh lets go of its tree while it is reduced: the work takes four times its own memory."""
_TURNS = 4
_FINER = 12
_SINGLE = 1.1e-7
"""What rounding to single precision moves a vertex by, at most, as a share of its largest coordinate."""


class Reduce(Treatment):
    """Reduce by quadric edge collapse to a number of triangles, a share of them, a file size, or a deviation.

    Of several goals the one that leaves the fewest triangles is taken, but the largest deviation is never passed.
    """

    name: ClassVar[str] = "reduce"
    title: ClassVar[str] = "Reduce"
    reshapes: ClassVar[bool] = True

    triangles: int | None = Field(None, ge=4, description="how many triangles to keep")
    percent: float | None = Field(None, gt=0, le=100, description="share of the triangles to keep, %")
    max_deviation_mm: float | None = Field(None, gt=0, description="how far the surface may move at most, mm")
    max_mb: float | None = Field(None, gt=0, description="how large a file of it may become, about, MB")
    file_format: Literal[*FORMATS] = Field("stl", description="the format of that file")
    hold_rims: bool = Field(False, description="leave open edges exactly as they are")
    hold_colour_edges: bool = Field(False, description="keep the lines where the scan's colour changes")
    hold: Region | None = Field(None, description="an area to leave untouched")
    even: bool = Field(False, description="triangles of one size all over, not fewer where it is flat")

    GOALS: ClassVar[tuple[str, ...]] = ("triangles", "percent", "max_deviation_mm", "max_mb", "file_format")
    """The fields that say how far it goes; all others say how."""

    def target(self, mesh: Mesh) -> int | None:
        """Triangles to keep of a mesh; None when neither number, share nor file size is given."""
        count = len(mesh.faces)
        goals = [self.triangles] if self.triangles is not None else []
        if self.percent is not None:
            goals.append(max(4, round(count * self.percent / 100.0)))
        if self.max_mb is not None and count > 4:
            share = len(mesh.vertices) / count
            size = 1e6 * self.max_mb
            goals.append(FORMATS[self.file_format].triangles_within(size, 4, count, share, mesh.colour is not None))
        return min(goals) if goals else None

    def same_options(self, other: "Reduce") -> bool:
        """Whether both hold and spread alike, so that one record serves both."""
        goals = {name: type(self).model_fields[name].default for name in self.GOALS}
        return self.model_copy(update=goals) == other.model_copy(update=goals)

    def _holds(self, mesh: Mesh) -> Holds:
        held = None
        if self.hold:
            held = np.zeros(len(mesh.vertices), dtype=bool)
            held[mesh.faces[self.hold.resolve(mesh)]] = True
        return Holds(self.hold_rims, mesh.colour if self.hold_colour_edges else None, held, self.even)

    def _given(self, mesh: Mesh, also_held: np.ndarray | None = None) -> tuple[tuple, Callable[[Level], Level] | None]:
        """What the collapse is given, and how its result is put together again where the mesh has tangles.

        Round a tangle the surface is cut into sheets, which stay as they are along the cuts.
        """
        holds = self._holds(mesh)
        if also_held is not None and also_held.any():
            holds = holds._replace(vertices=also_held if holds.vertices is None else also_held | holds.vertices)
        if is_clean(mesh):
            return (mesh.vertices, mesh.faces, mesh.twins, holds), None
        sheets = cut_into_sheets(mesh)
        held = sheets.held if holds.vertices is None else sheets.held | holds.vertices[sheets.origin]
        colours = None if holds.colours is None else holds.colours[sheets.origin]
        holds = holds._replace(vertices=held, colours=colours)
        return (sheets.vertices, sheets.faces, sheets.twins, holds), sheets.join

    @stoppable
    def record(self, mesh: Mesh, progress: Progress, held: np.ndarray | None = None) -> Record:
        """Run the whole reduction once, so that any level can be had from the record."""
        progress.step("Preparing to reduce")
        given, join = self._given(compact(mesh), held)
        fewest = min(_FEWEST, self.target(mesh) or _FEWEST)
        return record_collapses(*given, progress, fewest, join)

    @stoppable
    def study(self, mesh: Mesh, progress: Progress, held: np.ndarray | None = None) -> tuple[Record, Curve]:
        """The record, and what its levels cost; the spatial tree is built while the collapses run."""
        with ThreadPoolExecutor(1) as pool:
            tree = pool.submit(lambda: mesh.tree)
            with progress.part(0.0, 0.65):
                record = self.record(mesh, progress, held)
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
        reduced = mesh.derive(
            level.faces,
            Lineage(level.source, level.parent, corners=corners_kept(mesh, level)),
            level.vertices,
            provenance,
        )
        reduced = places_followed(mesh, level, reduced)
        text = f"Reduced to {counted(len(reduced.faces), 'triangle')}"
        target = self.target(mesh)
        if target is not None and len(reduced.faces) > target * 1.02 + 4:
            why = "the deviation" if self.max_deviation_mm is not None else "the shape"
            text += f" ({counted(target, 'was', 'were')} asked; {why} allows no fewer)"
        return Outcome(reduced, text, Account(undone=self._missed(len(reduced.faces), target)))

    def _missed(self, count: int, target: int | None) -> tuple[Undone, ...]:
        """What is to be said where more triangles are left than were asked for."""
        if target is None or count <= target:
            return ()
        why = (
            f"; {self.max_deviation_mm:g} mm of deviation allows no fewer" if self.max_deviation_mm is not None else ""
        )
        told = f"{count} triangles left where {target} were asked{why}"
        return (Undone(BUDGET, told, f"{count} triangles, {target} asked"),)

    def sparing(self, mesh: Mesh, protected: np.ndarray) -> "Reduce":
        held = protected | self.hold.resolve(mesh) if self.hold else protected
        return self.model_copy(update={"hold": Region.of(mesh, held)})

    def apply(self, mesh: Mesh, context: Context) -> Outcome:
        """Reduce the mesh; tangles stay as they are, with what lies next to them.

        Where the reduced surface would cross itself and did not before, the vertices there are held and the end of the
        reduction, or all of it, is made again, or a finer level is taken; what crosses all the same is said.
        """
        target = self.target(mesh)
        if len(mesh.faces) == 0 or (self.max_deviation_mm is None and (target is None or target >= len(mesh.faces))):
            return Outcome(mesh, "Nothing to reduce", Account(undone=self._missed(len(mesh.faces), target)))
        if len(mesh.faces) > _LARGE:
            forget(mesh, Mesh.tree)
        sound = compact(mesh.without_attribute(QUAD))
        outcome, crossings = self._clear_of_itself(sound, target, context.progress)
        if outcome.mesh is sound:  # nothing was reduced
            outcome = replace(outcome, mesh=mesh)
        text = outcome.text
        if crossings:
            text += f", crossing itself in {counted(crossings, 'place')}"
        return replace(outcome, text=text, account=replace(outcome.account, crossings=crossings))

    def _clear_of_itself(self, mesh: Mesh, target: int | None, progress: Progress) -> tuple[Outcome, int]:
        """The reduction to a number of triangles or a deviation, and how often it crosses itself anew all the same."""
        held = np.zeros(len(mesh.vertices), dtype=bool)
        tried: list[tuple[np.ndarray, Outcome]] = []

        def note(outcome: Outcome) -> np.ndarray:
            tried.append((new_crossings(mesh, outcome.mesh), outcome))
            return tried[-1][0]

        for turn in range(_TURNS):
            begun = len(tried)
            if self.max_deviation_mm is not None:
                note(self._within_deviation(mesh, target, held, progress))
            else:
                reduction, join = self._to_target(mesh, target, held, progress)
                crossed = note(self.outcome_of(mesh, join(reduction.level)))
                if turn == 0 and len(crossed) and reduction.halfway is not None:
                    again = self._end_again(reduction, tried[0][1].mesh, crossed, progress)
                    note(self.outcome_of(mesh, join(again)))
            if len(tried[-1][0]) == 0:
                break
            before = held.copy()
            for crossed, outcome in tried[begun:]:
                held |= vertices_where_met(mesh, outcome.mesh, crossed)
            if (held == before).all():
                break
        at_first = len(tried[0][1].mesh.faces)
        crossings, count, outcome = min(
            ((len(crossed), len(outcome.mesh.faces), outcome) for crossed, outcome in tried), key=lambda t: t[:2]
        )
        if crossings or count > 1.02 * at_first + 4:  # so much is held that a finer level without holds does better
            finer = self._finer(mesh, at_first, count, progress)
            if finer is not None and (crossings or len(finer.mesh.faces) < count):
                return finer, 0
        return outcome, crossings

    def _finer(self, mesh: Mesh, begin: int, most: int, progress: Progress) -> Outcome | None:
        """The coarsest level above `begin` triangles that does not cross itself anew and keeps to the deviation."""
        record = self.record(mesh, progress)
        best: Level | None = None
        low, high = begin, min(max(most, begin + 1), record.most - 1)
        count = min(int(1.5 * begin) + 4, high)
        for _ in range(_FINER):
            if count <= low or count >= record.most:
                break
            level = record.level(count)
            reduced = Mesh(level.vertices, level.faces)
            fits = len(new_crossings(mesh, reduced)) == 0
            if fits and self.max_deviation_mm is not None:
                limit = self._deviation_limit(mesh)
                fits = largest_deviation(reduced, mesh, progress, limit).max <= limit
            if fits:
                best, high = level, count
                count = math.isqrt(low * count)
            elif best is None:
                low, count = count, min(int(1.5 * count) + 4, record.most - 1)
            else:
                low, count = count, math.isqrt(count * high)
            if best is not None and high <= 1.08 * low + 4:
                break
        return None if best is None else self.outcome_of(mesh, best)

    def _deviation_limit(self, mesh: Mesh) -> float:
        """How far the surface may move, mm, so that writing it in single precision keeps to the limit too."""
        rounding = _SINGLE * float(np.abs(mesh.box).max())
        return max(self.max_deviation_mm - rounding, 0.5 * self.max_deviation_mm)

    def _to_target(
        self, mesh: Mesh, target: int, held: np.ndarray, progress: Progress
    ) -> tuple[Reduction, Callable[[Level], Level]]:
        """The reduction to a number of triangles, and how its levels are put together."""
        progress.step("Preparing to reduce")
        given, join = self._given(mesh, held)
        vertices, faces, twins, holds = given
        return Reduction(vertices, faces, twins, target, holds, progress), join or (lambda level: level)

    @staticmethod
    def _end_again(reduction: Reduction, reduced: Mesh, crossed: np.ndarray, progress: Progress) -> Level:
        """The end of a reduction made anew, with what lay halfway where its result crosses itself held.

        That takes a quarter of the whole; where it crosses itself again, all of it is made anew.
        """
        before = Mesh(*reduction.halfway)
        return reduction.again(vertices_where_met(before, reduced, crossed), progress)

    def _within_deviation(self, mesh: Mesh, target: int | None, held: np.ndarray, progress: Progress) -> Outcome:
        """The level with the fewest triangles, but `target` at least, that stays within the deviation."""
        with progress.part(0.0, 0.6):
            record, curve = self.study(mesh, progress, held)
        with progress.part(0.6, 1.0):
            found = self.level_within(mesh, record, curve, progress)
        if found is None:
            text = f"Nothing to reduce within {self.max_deviation_mm:g} mm"
            account = Account(undone=self._missed(len(mesh.faces), target), figures={"deviation_mm": 0.0})
            return Outcome(mesh, text, account)
        return self.outcome_within(mesh, *found)

    def level_within(
        self, mesh: Mesh, record: Record, curve: Curve, progress: Progress
    ) -> tuple[Level, Deviation] | None:
        """The coarsest level of a record that stays within the deviation, as measured both ways; None if none does.

        Parameters
        ----------
        mesh : Mesh
        record, curve : Record, Curve
            What `study` gave for it.
        progress : Progress

        Returns
        -------
        tuple of Level and Deviation, or None
        """
        search = LevelSearch(curve, self._deviation_limit(mesh), self.target(mesh) or 0, record.most)
        found = None
        while search.next is not None:
            level, count = record.level(search.next), search.next
            measured = largest_deviation(Mesh(level.vertices, level.faces), mesh, progress, search.limit)
            search.tell(measured.max)
            if search.best == count:
                found = level, measured
        return found

    def outcome_within(self, mesh: Mesh, level: Level, measured: Deviation) -> Outcome:
        """The outcome of a level whose deviation was measured."""
        outcome = self.outcome_of(mesh, level)
        account = outcome.account.with_figures(deviation_mm=measured.max, deviation_p99_mm=measured.p99)
        return Outcome(outcome.mesh, f"{outcome.text}, within {at_most(measured.max)} mm", account)
