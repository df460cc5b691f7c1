"""Strokes that follow each other with one brush, which are one line of the log until another thing is done."""

from collections.abc import Sequence

from tinsnip.job import Step
from tinsnip.treat import BrushStroke
from tinsnip.treat.shape.brushes import BRUSHES

__all__ = ["run_text", "runs_of_strokes"]


def _brush(step: Step) -> tuple[str, tuple[int, ...]] | None:
    """The brush, and the piece; None for what is no stroke, or is switched off."""
    is_stroke = isinstance(step.action, BrushStroke) and step.enabled
    return (step.action.brush, tuple(step.on)) if is_stroke else None


def runs_of_strokes(log: Sequence[Step]) -> list[range]:
    """Where two strokes or more follow each other with one brush on one piece, by their places in the log."""
    runs, first = [], 0
    for at in range(1, len(log) + 1):
        if at < len(log) and _brush(log[at]) is not None and _brush(log[at]) == _brush(log[first]):
            continue
        if at - first > 1:
            runs.append(range(first, at))
        first = at
    return runs


def run_text(log: Sequence[Step], run: range, standing: int) -> str:
    """The line that stands for a run, where the job stands before a step of a number."""
    done, title = max(0, min(standing, run.stop) - run.start), BRUSHES[log[run.start].action.brush].title
    count = f"{done} of {len(run)}" if 0 < done < len(run) else f"{len(run)}"
    return f"{run.start + 1}–{run.stop}  {title}: {count} strokes{'' if done else '  (undone)'}"
