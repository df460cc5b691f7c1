"""A whole run over many scans: what there is to do, what was done before, what comes of each, and the page of all."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

from tinsnip.errors import BadInput, Cancelled, told
from tinsnip.formats import format_for
from tinsnip.formats.whole import write_whole
from tinsnip.job.batch import Order, report_of, run_on, scans_among, targets_of
from tinsnip.job.resuming import Done
from tinsnip.progress import DONE, Progress
from tinsnip.report.page import batch_page

__all__ = ["INDEX", "BatchRun"]

INDEX = "report.html"
"""The page that leads to all."""


class BatchRun:
    """One run of an order over scans, into a folder.

    Parameters
    ----------
    files : sequence of Path
        Files, folders, patterns.
    out : Path
        The folder for the results.
    order : Order
    replace : bool
        Whether results that are there already are replaced.
    resume : bool
        Whether what an earlier run into this folder has done, and nothing has changed of, is not done again.

    Attributes
    ----------
    targets : list of (Path, Path)
        Each scan, and where its result goes.
    found : dict of Path to dict
        What is known of each scan: what the command line's JSON says of it, or of what went wrong.
    left : list of (Path, Path)
        What is still to be done.

    Raises
    ------
    BadInput
        When there is nothing to do, or something would be written over.
    """

    def __init__(
        self, files: Sequence[Path], out: Path, order: Order, replace: bool = False, resume: bool = False
    ) -> None:
        self.out, self.order = out, order
        self._done = Done(out, order)
        ours = self._done.ours if resume else ()
        self.targets = targets_of(scans_among(files), out, format_for(order.format_name).suffix, replace, ours)
        pages = [report_of(target) for _, target in self.targets] + [out / INDEX] if order.report else []
        taken = next((page for page in pages if page.exists()), None)
        if taken is not None and not (replace or resume):
            raise BadInput(f"{taken}: is there already; add --replace to replace it, or choose another --out")
        self.found: dict[Path, dict[str, Any]] = {}
        if resume:
            for file, target in self.targets:
                facts = self._done.facts_of(file, target)
                if facts:
                    self.found[file] = facts
        self.left = [pair for pair in self.targets if pair[0] not in self.found]
        self._is_noted = len(self.targets) > 1 or resume

    @property
    def results(self) -> list[dict[str, Any]]:
        """What is known of each scan, in their order."""
        return [self.found[file] for file, _ in self.targets if file in self.found]

    @property
    def code(self) -> int:
        """0 all ready, 1 some not ready, 2 some went wrong."""
        if any("error" in one for one in self.results):
            return 2
        return 0 if all(one["ready"] for one in self.results) else 1

    def work(
        self,
        shown: Callable[[str], AbstractContextManager[Progress]],
        workers: int = 0,
        cluster: str = "",
    ) -> Iterator[tuple[Path, dict[str, Any]]]:
        """Do what is left, in this process or in others; each scan as it is done, and what came of it.

        Parameters
        ----------
        shown : callable
            Gives the progress of the work on a file of a name.
        workers : int
            So many processes; 0: this one.
        cluster : str
            The address of a Dask scheduler.
        """
        target_of = dict(self.left)
        if self._is_noted and self.left:
            self._done.begin(target for _, target in self.left)
        for file, result in self._worked_on(shown, workers, cluster):
            if isinstance(result, Cancelled):
                raise result
            if isinstance(result, Exception):
                self.found[file] = {"file": str(file), "error": told(result)}
            else:
                self.found[file] = result
                if self._is_noted:
                    self._done.note(file, target_of[file], result)
            yield file, self.found[file]

    def _worked_on(
        self, shown: Callable[[str], AbstractContextManager[Progress]], workers: int, cluster: str
    ) -> Iterator[tuple[Path, dict[str, Any] | Exception]]:
        if not self.left or not (workers or cluster):
            yield from run_on(self.left, self.order, shown)
            return
        from tinsnip.job.workers import run_on_workers

        with shown("Working on scans") as progress:
            state = progress.step("Working on scans", len(self.left))
            for count, one in enumerate(run_on_workers(self.left, self.order, workers, cluster), 1):
                state[DONE] = count
                progress.label = f"{count} of {len(self.left)} done"
                yield one

    def write_page(self) -> Path | None:
        """Write the page that leads to all, where reports are asked for."""
        if not self.order.report:
            return None
        routine = self.order.routine
        write_whole(self.out / INDEX, batch_page(f"{routine.title} ({routine.name})", self.results, self.out))
        return self.out / INDEX
