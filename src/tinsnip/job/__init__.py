"""The document: pieces, the log with its cursor, job files, routines, release."""

from tinsnip.job.batch import Budget, Order, run_on, scans_among, targets_of
from tinsnip.job.bookkeeping import CopyAsVariant, Open, Remove, Rename, SetUnit
from tinsnip.job.datumsteps import FitDatums, MakeDatum, RemoveDatums, RenameDatum, ToAxes
from tinsnip.job.job import Job
from tinsnip.job.jobfile import OpenedJob, is_job_file, open_job, read_document, save_job
from tinsnip.job.keeping import Keeper, Kept, default_budget, unfinished_folder
from tinsnip.job.piece import Origin, Piece
from tinsnip.job.profile import (
    Profile,
    checks_of,
    judged_by,
    load_profile,
    profiles,
    remove_profile,
    save_profile,
    turned_to_fit,
)
from tinsnip.job.reading import read_at_most
from tinsnip.job.release import Writing, fit_to_format, release, write_pieces
from tinsnip.job.replay import Planned, Replayed, plan_of, replay
from tinsnip.job.reporting import log_of, write_report
from tinsnip.job.routine import Routine, RoutineStep, Run, built_in_routines, load_routine, routine_of
from tinsnip.job.step import Action, Change, Step, perform, perform_all, step_of_outcome

__all__ = [
    "Action",
    "Budget",
    "Change",
    "CopyAsVariant",
    "FitDatums",
    "Job",
    "Keeper",
    "Kept",
    "MakeDatum",
    "Open",
    "OpenedJob",
    "Order",
    "Origin",
    "Piece",
    "Planned",
    "Profile",
    "Remove",
    "RemoveDatums",
    "Rename",
    "RenameDatum",
    "Replayed",
    "Routine",
    "RoutineStep",
    "Run",
    "SetUnit",
    "Step",
    "ToAxes",
    "Writing",
    "built_in_routines",
    "checks_of",
    "default_budget",
    "fit_to_format",
    "is_job_file",
    "judged_by",
    "load_profile",
    "load_routine",
    "log_of",
    "open_job",
    "perform",
    "perform_all",
    "plan_of",
    "profiles",
    "read_at_most",
    "read_document",
    "release",
    "remove_profile",
    "replay",
    "routine_of",
    "run_on",
    "save_job",
    "save_profile",
    "scans_among",
    "step_of_outcome",
    "targets_of",
    "turned_to_fit",
    "unfinished_folder",
    "write_pieces",
    "write_report",
]
