"""Routines: the steps of a job as rules, replayable on any scan."""

import json
import math
import time
from dataclasses import dataclass, replace
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tinsnip.errors import BadInput
from tinsnip.formats import Scan, format_for
from tinsnip.job.bookkeeping import CopyAsVariant, Open, Remove, Rename
from tinsnip.job.job import Job
from tinsnip.job.step import names_places
from tinsnip.mesh import MADE, Mesh
from tinsnip.mesh.remembered import forget
from tinsnip.progress import Progress
from tinsnip.survey.part import no_part
from tinsnip.survey.readiness import Check, EndsAs, Readiness
from tinsnip.treat import (
    BUDGET,
    TREATMENTS,
    Account,
    Context,
    Outcome,
    Recast,
    Reduce,
    Treatment,
    Undone,
)
from tinsnip.treat.close.recast import propose_recast
from tinsnip.words import counted, percent

__all__ = ["Routine", "RoutineStep", "Run", "built_in_routines", "load_routine", "routine_of"]

_LOST, _MEASURED = "nothing lost", "measured"
"""The checks that hold to how much of a scan may go, and be made, unasked."""
_LIMITS = "most_lost", "most_patched"
_RECAST_MENDS = {"closed", "manifold", "outward", "volume", "crossings", "clear patches"}
_STEP = "step"
"""The check that fails where a step could not be done."""
_MOST_TRIANGLES = 200_000_000
"""More than any scan has."""


_LARGE = 5_000_000
"""Triangles from which a mesh that a step has left behind keeps no tree or tables; they take more than the mesh."""


class RoutineStep(BaseModel):
    """One step: a treatment with its parameters, under a name of its own."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str = Field(pattern=r"^[a-z0-9-]+$")
    treatment: str
    enabled: bool = True
    fields: dict[str, Any] = {}
    why: str = ""

    def make(self) -> Treatment:
        """The treatment itself.

        Raises
        ------
        BadInput
            When there is no such treatment, or a field of it does not fit.
        """
        if self.treatment not in TREATMENTS:
            raise BadInput(f"step {self.name}: no treatment {self.treatment}; choose of {', '.join(TREATMENTS)}")
        try:
            return TREATMENTS[self.treatment](**self.fields)
        except ValidationError as error:
            raise BadInput(f"step {self.name}: {_first(error)}") from None


def _first(error: ValidationError) -> str:
    problem = error.errors()[0]
    place = ".".join(str(part) for part in problem["loc"]) or "value"
    return f"{place}: {problem['msg'].lower()}; correct it"


class Routine(BaseModel):
    """A named list of steps, and what it must end as."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str
    title: str
    ends_as: EndsAs = "solid"
    most_patched: float = Field(
        1 / 3, ge=0, le=1, description="share of the surface, but the base, that may be patched"
    )
    most_lost: float = Field(0.05, ge=0, le=1, description="share of the scan's area that may go unasked")
    steps: tuple[RoutineStep, ...]

    def with_settings(self, settings: list[str]) -> "Routine":
        """The routine with fields set from texts ``STEP.FIELD=VALUE``; a step that is set takes part.

        Its own limits are set as ``most_lost=SHARE`` and ``most_patched=SHARE``.

        Raises
        ------
        BadInput
            When a text does not have that form, or names no step or field.
        """
        steps, own = list(self.steps), self.model_dump()
        for setting in settings:
            target, equals, text = setting.partition("=")
            step_name, dot, key = target.partition(".")
            if equals and target in _LIMITS:
                own[target] = text
                continue
            if not (equals and dot and key):
                raise BadInput(f"--set {setting}: must read STEP.FIELD=VALUE")
            at = next((i for i, s in enumerate(steps) if s.name == step_name), None)
            if at is None:
                known = ", ".join(s.name for s in steps)
                raise BadInput(f"--set {setting}: no step {step_name} in {self.name}; choose of {known}")
            try:
                value = json.loads(text)
            except (ValueError, RecursionError):
                value = text
            try:
                if key == "enabled":
                    steps[at] = RoutineStep.model_validate({**steps[at].model_dump(), "enabled": value})
                    continue
                fields = {**steps[at].fields, key: value}
                steps[at] = steps[at].model_copy(update={"fields": fields, "enabled": True})
                steps[at].make()
            except ValidationError as error:
                raise BadInput(f"--set {setting[:80]}: {_first(error)}") from None
            except BadInput as error:
                raise BadInput(f"--set {setting[:80]}: {error}") from None
        try:
            return Routine.model_validate({**own, "steps": tuple(steps)})
        except ValidationError as error:
            raise BadInput(f"--set {_first(error)}") from None

    def with_recast(self, deviation_mm: float) -> "Routine":
        """The routine with what its own means leave open, torn or crossing made anew, off by at most so many mm.

        Raises
        ------
        BadInput
            When it has no step for that, or the deviation is none.
        """
        if not (math.isfinite(deviation_mm) and deviation_mm > 0):
            raise BadInput(f"--recast {deviation_mm:g}: a deviation of more than 0 mm has to be allowed")
        if not any(s.treatment == Recast.name for s in self.steps):
            raise BadInput(f"--recast: {self.name} has no step that recasts; use print-solid, or add one")
        fields = {"deviation_mm": deviation_mm}
        steps = [
            s.model_copy(update={"enabled": True, "fields": {**s.fields, **fields}})
            if s.treatment == Recast.name
            else s
            for s in self.steps
        ]
        return self.model_copy(update={"steps": tuple(steps)})

    def with_budget(
        self,
        triangles: int | None,
        max_bytes: float | None,
        format_name: str,
        max_deviation: float | None = None,
        coloured: bool = True,
    ) -> "Routine":
        """The routine with its reduction set to a number of triangles or a file size, whichever is less.

        It goes no further than the largest deviation, mm; with that alone, as far as it allows.
        """
        goals = [triangles] if triangles is not None else []
        if max_bytes is not None:
            if not (math.isfinite(max_bytes) and max_bytes > 0):
                raise BadInput(f"a file of {max_bytes / 1e6:g} MB is none; give a size above 0")
            chosen = format_for(format_name)
            if chosen.size_of(4, 4) > max_bytes:
                raise BadInput(f"a file of {max_bytes / 1e6:g} MB holds no solid; allow more")
            goals.append(chosen.triangles_within(max_bytes, 4, _MOST_TRIANGLES, coloured=coloured))
        if max_deviation is not None and not (math.isfinite(max_deviation) and max_deviation > 0):
            raise BadInput(f"a largest deviation of {max_deviation:g} mm allows nothing; give more than 0")
        if not goals and max_deviation is None:
            return self
        fields: dict[str, Any] = {}
        if goals:
            if min(goals) < 4:
                raise BadInput(f"{min(goals)} triangles close no solid; allow 4 or more")
            fields["triangles"] = min(goals)
        if max_deviation is not None:
            fields["max_deviation_mm"] = max_deviation
        steps = [s for s in self.steps if s.treatment != Reduce.name]
        steps.append(RoutineStep(name="reduce", treatment=Reduce.name, fields=fields))
        return self.model_copy(update={"steps": tuple(steps)})

    def run(self, scan: Scan, progress: Progress | None = None) -> "Run":
        """Run the enabled steps on a scan; they end where one meets what it must not decide alone.

        Raises
        ------
        BadInput
            When the scan is no part at all. A step that cannot keep its promise on it is not done, and its check fails.
        """
        progress = progress or Progress()
        why_not = no_part(scan.mesh)
        if why_not:
            raise BadInput(f"{scan.path}: {why_not}")
        steps = [s for s in self.steps if s.enabled]
        mesh = before_last = scan.mesh
        done: list[StepResult] = []
        for i, step in enumerate(steps):
            begun = time.perf_counter()
            treatment = step.make()
            with progress.part(i / (len(steps) + 1), (i + 1) / (len(steps) + 1)):
                try:
                    outcome = treatment.apply(mesh, Context(progress, raw=scan.mesh))
                except BadInput as error:
                    outcome = _not_done(mesh, str(error), [TREATMENTS[s.treatment] for s in steps[i + 1 :]])
            seconds = time.perf_counter() - begun
            done.append(
                StepResult(
                    step.name,
                    treatment,
                    outcome.text,
                    outcome.account,
                    float(mesh.areas.sum()),
                    outcome.mesh is not mesh,
                    seconds,
                    outcome.question,
                )
            )
            before_last, mesh = mesh, outcome.mesh
            if mesh is not before_last and len(before_last.faces) > _LARGE:
                forget(before_last, Mesh.twins, Mesh.shells, Mesh.tree)
            if outcome.question:
                break
        return Run(self, scan.mesh, mesh, before_last, done)


def _not_done(mesh: Mesh, why: str, later: list[type[Treatment]]) -> Outcome:
    """What becomes of a step that cannot be done: a later one takes over for it, or it is left undone and said."""
    if any(treatment.remakes for treatment in later):
        return Outcome(mesh, f"left to the recast: {why}")
    return Outcome(mesh, f"not done: {why}", Account(undone=(Undone(_STEP, why),)))


@dataclass(frozen=True)
class StepResult:
    """What one step did, and the question it ended with, if any."""

    name: str
    treatment: Treatment
    text: str
    account: Account
    before_mm2: float
    changed: bool
    seconds: float
    question: str = ""


@dataclass
class Run:
    """A routine's work on one scan: of all its meshes, only the last two are held.

    Attributes
    ----------
    routine : Routine
    raw, mesh, before_last : Mesh
        The scan, what came of it, and what the last step was given.
    steps : list of StepResult
    """

    routine: Routine
    raw: Mesh
    mesh: Mesh
    before_last: Mesh
    steps: list[StepResult]

    @property
    def wanted_shells(self) -> int:
        """How many solids the result is to have: one, or as many as a rule kept."""
        wanted = 1
        for s in self.steps:
            wanted = s.treatment.shells_after(wanted, s.account)
        return wanted

    @property
    def judged_by(self) -> tuple[int, EndsAs]:
        """How many shells the result is to have, and what it is to be."""
        return self.wanted_shells, self.routine.ends_as

    def again(self, treatment: Treatment, progress: Progress) -> bool:
        """Take the last step back and do another in its place; False when that changes nothing."""
        begun = time.perf_counter()
        outcome = treatment.apply(self.before_last, Context(progress, raw=self.raw))
        self.mesh = outcome.mesh
        last = self.steps[-1]
        seconds = time.perf_counter() - begun
        account = replace(outcome.account, undone=last.account.undone)  # held to what was asked for at first
        self.steps[-1] = StepResult(last.name, treatment, outcome.text, account, last.before_mm2, True, seconds)
        return self.mesh is not self.before_last

    def add(self, name: str, treatment: Treatment, progress: Progress) -> None:
        """Do one thing more.

        Raises
        ------
        BadInput
            When it cannot be done; nothing is changed then.
        """
        begun = time.perf_counter()
        outcome = treatment.apply(self.mesh, Context(progress, self.raw, self.frame))
        before = float(self.mesh.areas.sum())
        self.before_last, self.mesh = self.mesh, outcome.mesh
        changed, seconds = self.mesh is not self.before_last, time.perf_counter() - begun
        self.steps.append(
            StepResult(name, treatment, outcome.text, outcome.account, before, changed, seconds, outcome.question)
        )

    @property
    def frame(self) -> np.ndarray:
        """What took the scan to where the result stands, shape (4, 4)."""
        found = np.eye(4)
        for step in self.steps:
            if step.account.matrix is not None:
                found = step.account.matrix @ found
        return found

    @property
    def gone_share(self) -> float:
        """Share of the scan's area that went, whatever took it; 0 to 1."""
        return sum(s.account.gone_mm2 or 0.0 for s in self.steps) / max(float(self.raw.areas.sum()), 1e-300)

    @property
    def made_share(self) -> float:
        """Share of the result's surface that was made, 0 to 1."""
        areas = self.mesh.areas
        return float(areas[MADE] / max(areas.sum(), 1e-300))

    @property
    def lost_share(self) -> float:
        """Share of the scan's area that went though it may have been the part's, 0 to 1."""
        lost = sum(s.treatment.lost_mm2(s.account) for s in self.steps)
        return lost / max(float(self.raw.areas.sum()), 1e-300)

    @property
    def patched_share(self) -> float:
        """Share of the surface, but the base, that guesses at what was there; 0 to 1."""
        patches = sum(s.account.guessed_mm2 or 0.0 for s in self.steps)
        base = max(0.0, sum(s.account.made_mm2 or 0.0 for s in self.steps) - patches)
        reductions = (s.before_mm2 for s in self.steps if isinstance(s.treatment, Reduce))
        surface = next(reductions, float(self.mesh.areas.sum()))
        return patches / max(surface - base, patches, 1e-300)

    def checks(self) -> list[Check]:
        """What the routine asks of its work beyond what can be seen of the result."""
        found = [
            Check(
                "question",
                False,
                f"stopped at step {s.name}, which must not decide that ({s.treatment.answers.format(step=s.name)})",
                "asks",
            )
            for s in self.steps
            if s.question
        ]
        for s in self.steps:
            for left in (one for one in s.account.undone if one.check != BUDGET):
                told = f"{left.why} ({left.ways.format(step=s.name)})" if left.ways else left.why
                if left.check == _STEP:
                    told = f"step {s.name} could not be done: {told}"
                found.append(Check(left.check, False, told, left.short or f"{s.name} not done"))
        lost, patched = self.lost_share, self.patched_share
        found.append(
            Check(
                _LOST,
                lost <= self.routine.most_lost,
                f"{percent(lost)} of the scan's area went as crumbs and tangles, more than "
                f"{percent(self.routine.most_lost)}",
                f"{percent(lost)} lost",
            )
        )
        found.append(
            Check(
                _MEASURED,
                patched <= self.routine.most_patched,
                f"patches would be {percent(patched)} of the surface, more than {percent(self.routine.most_patched)}",
                f"{percent(patched)} patched",
            )
        )
        cleared = [i for i, s in enumerate(self.steps) if s.treatment.clears_crossings]  # what it left is counted
        crossings = sum(s.account.crossings for s in self.steps[cleared[-1] if cleared else 0 :])
        found.append(
            Check(
                "clear patches",
                crossings == 0,
                f"new triangles cross the part in {counted(crossings, 'place')}",
                f"{counted(crossings, 'crossing')} made",
            )
        )
        return found

    def proposal(self, readiness: Readiness) -> str:
        """What could make it ready where its own means could not, and at what cost; empty where nothing is known."""
        asked = next((s for s in self.steps if s.question), None)
        if asked is not None:
            ways = (f"--set {one.format(step=asked.name)} {what}" for one, what in asked.treatment.answers_asked)
            return f"answer what it asks, with --replace: {', or '.join(ways)}"
        waits = any(s.treatment == Recast.name and not s.enabled for s in self.routine.steps)
        wrong = {c.name for c in readiness.checks if c.passed is False}
        if wrong and wrong <= {_LOST, _MEASURED}:
            return self._allowing(wrong)
        if not waits or not wrong & _RECAST_MENDS or wrong - _RECAST_MENDS - {"shells", "voids", _STEP}:
            return ""
        told, deviation = propose_recast(self.mesh)
        return f"{told}: add --replace --recast {deviation:.2g}"

    def _allowing(self, wrong: set[str]) -> str:
        """How to allow for what went or was made, once whoever asked for it has looked at it."""
        told, ways = [], []
        for limit, check, share, verb, most in (
            ("most_lost", _LOST, self.lost_share, "went", lambda s: s.treatment.lost_mm2(s.account)),
            ("most_patched", _MEASURED, self.patched_share, "was made", lambda s: s.account.guessed_mm2 or 0.0),
        ):
            if check in wrong:
                told.append(f"most of it {verb} in step {max(self.steps, key=most).name}")
                ways.append(f"--set {limit}={math.ceil(100 * share) / 100:g}")
        return f"look at what came of it, as {' and '.join(told)}; where it is right, add --replace {' '.join(ways)}"

    def missed(self) -> list[Check]:
        """Budgets that could not be kept to, each said."""
        left = self.steps[-1].account.undone if self.steps else ()
        return [Check(one.check, False, one.why, one.short) for one in left if one.check == BUDGET]


def built_in_routines() -> dict[str, Routine]:
    """The routines that come with Tinsnip, by name."""
    folder = resources.files("tinsnip.job") / "routines"
    found = [_parse(f.read_text("utf-8"), f.name) for f in folder.iterdir() if f.name.endswith(".json")]
    return {r.name: r for r in sorted(found, key=lambda r: r.name)}


def _parse(text: str, where: str) -> Routine:
    try:
        routine = Routine.model_validate_json(text)
    except ValidationError as error:
        raise BadInput(f"{where}: {_first(error)}") from None
    for step in routine.steps:
        try:
            step.make()
        except BadInput as error:
            raise BadInput(f"{where}: {error}") from None
    return routine


def routine_of(job: Job, name: str, number: int | None = None) -> tuple[Routine, list[str]]:
    """What was done to a piece as a routine, and what of it was left out, each with why.

    Parameters
    ----------
    job : Job
    name : str
        The routine's name.
    number : int, optional
        The piece; by default the one that is worked on.

    Returns
    -------
    routine : Routine
    left_out : list of str

    Raises
    ------
    BadInput
        When nothing is left of it.
    """
    number = job.active if number is None else number
    steps: list[RoutineStep] = []
    left = []
    for i, step in enumerate(job.log[: job.cursor], 1):
        action = step.action
        if number not in (*step.on, *(c.id for c in step.changes)):
            continue
        if not isinstance(action, Treatment):
            if not isinstance(action, Open | Rename | Remove | CopyAsVariant):
                left.append(f"step {i}, {step.text}: is none that a routine does to one scan")
            continue
        if names_places(action):
            left.append(f"step {i}, {step.text}: names places on this scan, not a rule")
            continue
        count = sum(s.treatment == action.name for s in steps) + 1
        own = action.name if count == 1 else f"{action.name}-{count}"
        fields = action.model_dump(mode="json", exclude_defaults=True)
        steps.append(RoutineStep(name=own, treatment=action.name, enabled=step.enabled, fields=fields))
    if not steps:
        raise BadInput("no step of this job is a rule that fits another scan; there is no routine in it")
    return Routine(name=name, title=f"as done to {job.present[number].name}", steps=tuple(steps)), left


def load_routine(name: str) -> Routine:
    """A built-in routine by name, or one from a JSON file.

    Parameters
    ----------
    name : str
        Or a path.

    Raises
    ------
    BadInput
        When there is neither, or the file is not a routine.
    """
    built_in = built_in_routines()
    if name in built_in:
        return built_in[name]
    path = Path(name)
    if not path.is_file():
        raise BadInput(f"routine {name}: neither built in ({', '.join(built_in)}) nor a file; check the name")
    try:
        text = path.read_text("utf-8-sig")  # with or without a byte order mark
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{name}: cannot be read as text ({error}); choose a routine file") from error
    return _parse(text, name)
