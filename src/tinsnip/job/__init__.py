"""The document: raw scans, the log with its cursor, routines, release."""

from tinsnip.job.batch import Budget, Result, run_on, targets_of
from tinsnip.job.job import Entry, Job, Piece
from tinsnip.job.keeping import Keeper, Kept, default_budget
from tinsnip.job.release import fit_to_format, release
from tinsnip.job.routine import Routine, Run, Step, built_in_routines, load_routine

__all__ = [
    "Budget",
    "Entry",
    "Job",
    "Keeper",
    "Kept",
    "Piece",
    "Result",
    "Routine",
    "Run",
    "Step",
    "built_in_routines",
    "default_budget",
    "fit_to_format",
    "load_routine",
    "release",
    "run_on",
    "targets_of",
]
