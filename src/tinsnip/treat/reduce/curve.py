"""Deviation against triangles kept: what a reduction costs at any of its levels."""

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.measures import spread_by_area
from tinsnip.progress import Progress, stoppable
from tinsnip.space.tree import build_tree, closest_points
from tinsnip.threads import cores
from tinsnip.treat.reduce.record import Level, Record

__all__ = ["Curve", "CurvePoint", "deviation_curve"]


_NO_LONGER = 0.05
"""Share of the diagonal beyond which a level's deviation is no reduction of the part any more."""
_DENSEST = 0.4
"""Share of the triangles at the first level that is measured."""


class CurvePoint(NamedTuple):
    """One measured level: triangles kept, and the largest and 99th percentile distance, mm, both ways.

    `largest` is that of samples, or a bound that holds where `is_bound`.
    """

    triangles: int
    largest: float
    p99: float
    is_bound: bool = False


class Curve(NamedTuple):
    """Measured levels, the most triangles first; the whole mesh itself, without deviation, leads."""

    points: tuple[CurvePoint, ...]

    def with_bound(self, point: CurvePoint) -> "Curve":
        """With the bound of one more level, in place of what samples told of it."""
        rest = [p for p in self.points if p.triangles != point.triangles]
        return Curve(tuple(sorted([*rest, point], key=lambda p: -p.triangles)))

    def unbounded_near(self, triangles: int) -> int | None:
        """The level nearest to a number of triangles whose bound is not known; None: all are known."""
        open_ = [p.triangles for p in self.points[1:] if not p.is_bound]
        return min(open_, key=lambda n: abs(np.log(n / max(triangles, 1))), default=None)

    def largest_at(self, triangles: float) -> float:
        """Largest deviation between the measured levels, straight on logarithmic paper; an estimate, mm."""
        kept = np.log([p.triangles for p in self.points][::-1])
        return float(np.interp(np.log(max(triangles, 1.0)), kept, [p.largest for p in self.points][::-1]))

    def triangles_for(self, largest: float) -> int:
        """Fewest triangles at which the largest deviation is expected to be no more than `largest` mm."""
        for before, after in zip(self.points, self.points[1:], strict=False):
            if after.largest > largest:
                span = after.largest - before.largest
                t = 0.0 if span <= 0 else min(max((largest - before.largest) / span, 0.0), 1.0)
                return max(4, round(float(before.triangles ** (1 - t) * after.triangles**t)))
        return self.points[-1].triangles


@stoppable
def deviation_curve(record: Record, mesh: Mesh, progress: Progress, levels: int = 13, samples: int = 20_000) -> Curve:
    """Measure levels of a record against the mesh it was made from, by exact distances both ways.

    Parameters
    ----------
    record : Record
    mesh : Mesh
    progress : Progress
    levels : int
        How many, spread evenly on logarithmic paper down to the fewest triangles.
    samples : int
        Points on each of the two surfaces; fewer on a mesh of few triangles.
    """
    state = progress.step("Measuring the curve", levels)
    counts = np.unique(
        np.rint(np.geomspace(max(_DENSEST * record.most, record.fewest), record.fewest, levels)).astype(int)
    )[::-1]
    samples = min(samples, 4 * len(mesh.faces) + 500)
    before, _ = spread_by_area(mesh.vertices, mesh.faces, samples, seed=1)
    tree = mesh.tree

    def measure(level: Level) -> CurvePoint | None:
        if progress.cancelled:
            return None
        after, _ = spread_by_area(level.vertices, level.faces, samples, seed=2)
        there, _ = closest_points(tree, after, state)
        back, _ = closest_points(build_tree(level.vertices, level.faces), before, state)
        both = np.concatenate([there, back])
        state[1] += 1
        if len(both) == 0 or len(level.faces) >= record.most:
            return None
        return CurvePoint(len(level.faces), float(both.max()), float(np.quantile(both, 0.99)))

    with ThreadPoolExecutor(cores()) as pool:  # levels side by side: much of each runs on one core only
        waiting, rest = [], record
        for count in counts:
            level, rest = rest.onwards(int(count))
            waiting.append(pool.submit(measure, level))
            progress.check()
    progress.check()
    known = {p.triangles: p for p in (w.result() for w in waiting) if p is not None}
    points = [known[n] for n in sorted(known, reverse=True)]
    # the last few levels, where nothing sound is left to collapse, are no longer the part
    while len(points) > 2 and points[-1].largest > _NO_LONGER * mesh.diagonal:
        points.pop()
    return Curve((CurvePoint(record.most, 0.0, 0.0), *points))
