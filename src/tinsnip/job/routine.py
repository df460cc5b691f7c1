"""Routines: the steps of a job as rules, replayable on any scan."""

import json
import time
from dataclasses import dataclass, field
from importlib import resources
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from tinsnip.errors import BadInput
from tinsnip.formats import Scan, format_for
from tinsnip.job.job import Job
from tinsnip.progress import Progress
from tinsnip.survey import Examination, examine
from tinsnip.treat import TREATMENTS, Context, Reduce, Treatment

__all__ = ["Routine", "Run", "Step", "built_in_routines", "load_routine"]

_MOST_TRIANGLES = 200_000_000
"""More than any scan has."""


class Step(BaseModel):
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
    ends_as: Literal["solid"] = "solid"
    steps: tuple[Step, ...]

    def with_settings(self, settings: list[str]) -> "Routine":
        """The routine with fields set from texts ``STEP.FIELD=VALUE``; a step that is set takes part.

        Raises
        ------
        BadInput
            When a text does not have that form, or names no step or field.
        """
        steps = list(self.steps)
        for setting in settings:
            target, equals, text = setting.partition("=")
            step_name, dot, key = target.partition(".")
            if not (equals and dot and key):
                raise BadInput(f"--set {setting}: must read STEP.FIELD=VALUE")
            at = next((i for i, s in enumerate(steps) if s.name == step_name), None)
            if at is None:
                known = ", ".join(s.name for s in steps)
                raise BadInput(f"--set {setting}: no step {step_name} in {self.name}; choose of {known}")
            try:
                value = json.loads(text)
            except ValueError:
                value = text
            if key == "enabled":
                steps[at] = steps[at].model_copy(update={"enabled": bool(value)})
                continue
            fields = {**steps[at].fields, key: value}
            steps[at] = steps[at].model_copy(update={"fields": fields, "enabled": True})
            steps[at].make()
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
            chosen = format_for(format_name)
            if chosen.size_of(4, 4) > max_bytes:
                raise BadInput(f"a file of {max_bytes / 1e6:g} MB holds no solid; allow more")
            goals.append(chosen.triangles_within(max_bytes, 4, _MOST_TRIANGLES, coloured=coloured))
        if max_deviation is not None and not max_deviation > 0:
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
        steps.append(Step(name="reduce", treatment=Reduce.name, fields=fields))
        return self.model_copy(update={"steps": tuple(steps)})

    def run(self, scan: Scan, progress: Progress | None = None) -> "Run":
        """Run the enabled steps on a scan.

        Raises
        ------
        BadInput
            When a step cannot keep its promise on this scan; the text names the step.
        """
        progress = progress or Progress()
        job = Job()
        job.open(scan)
        steps = [s for s in self.steps if s.enabled]
        done = []
        for i, step in enumerate(steps):
            begun = time.perf_counter()
            with progress.part(i / (len(steps) + 1), (i + 1) / (len(steps) + 1)):
                try:
                    outcome = job.apply(step.make(), Context(progress, raw=scan.mesh))
                except BadInput as error:
                    raise BadInput(f"{scan.path}: step {step.name}: {error}") from error
            done.append(StepResult(step.name, outcome.text, outcome.figures, time.perf_counter() - begun))
        with progress.part(len(steps) / (len(steps) + 1), 1.0):
            return Run(job, done, examine(job.pieces[0].mesh, progress))


@dataclass(frozen=True)
class StepResult:
    """What one step did."""

    name: str
    text: str
    figures: dict[str, Any]
    seconds: float


@dataclass(frozen=True)
class Run:
    """A routine's work on one scan."""

    job: Job
    steps: list[StepResult] = field(default_factory=list)
    examination: Examination | None = None

    @property
    def missed(self) -> list[str]:
        """Budgets that could not be met, each said."""
        last = self.steps[-1].figures if self.steps else {}
        if last.get("triangles", 0) <= last.get("asked", np.inf):
            return []
        return [f"{last['triangles']} triangles left where {last['asked']} were asked"]


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


def load_routine(name: str) -> Routine:
    """A built-in routine by name, or one from a JSON file.

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
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{name}: cannot be read as text ({error}); choose a routine file") from error
    return _parse(text, name)
