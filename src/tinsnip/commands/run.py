"""Routines: run on scans, and listed."""

import json
from pathlib import Path
from typing import Any

import click

from tinsnip.commands.shared import JSON, UNIT, VOIDS, shown
from tinsnip.errors import BadInput, told
from tinsnip.formats import FORMATS, format_for
from tinsnip.job import (
    Budget,
    built_in_routines,
    is_job_file,
    load_routine,
    open_job,
    routine_of,
    run_on,
    targets_of,
)
from tinsnip.terminal import told_what_was_written
from tinsnip.words import percent

__all__ = ["routines", "run"]


@click.command()
@click.argument("routine")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the results.")
@UNIT
@click.option("--format", "format_name", default="stl", show_default=True, type=click.Choice(list(FORMATS)))
@click.option("--triangles", type=int, help="Reduce to this many triangles.")
@click.option("--max-deviation", type=float, metavar="MM", help="Reduce, but move the surface no further than this.")
@click.option("--max-file", type=float, metavar="MB", help="Reduce until the file is no larger.")
@click.option("--recast", type=float, metavar="MM", help="Recast what cannot be closed otherwise, off by at most this.")
@click.option("--provenance", is_flag=True, help="Say of each triangle whether it was measured (PLY only).")
@VOIDS
@click.option("--replace", is_flag=True, help="Replace results that are there already; a raw scan never is.")
@click.option("--set", "settings", multiple=True, metavar="STEP.FIELD=VALUE", help="Set a field of a step.")
@JSON
def run(
    routine: str,
    files: tuple[Path, ...],
    out: Path,
    unit: str | None,
    format_name: str,
    triangles: int | None,
    max_deviation: float | None,
    max_file: float | None,
    recast: float | None,
    provenance: bool,
    voids: str | None,
    replace: bool,
    settings: tuple[str, ...],
    as_json: bool,
) -> None:
    """Run ROUTINE on FILES. Exit 0 all ready, 1 some not ready, 2 bad input or bad routine."""
    chosen = load_routine(routine).with_settings(list(settings))
    if recast is not None:
        chosen = chosen.with_recast(recast)
    budget = Budget(triangles, max_file * 1e6 if max_file is not None else None, max_deviation)
    budget.on(chosen, format_name)  # what cannot be kept to is said before anything is read
    if provenance and not format_for(format_name).holds_provenance:
        raise BadInput(f"--provenance: {format_name} has no place for it; use --format ply, or leave it out")
    targets = targets_of(files, out, format_for(format_name).suffix, replace)
    results, failed = [], False
    with told_what_was_written([target for _, target in targets]):
        for file, result in run_on(targets, chosen, budget, format_name, unit, provenance, shown, voids == "keep"):
            if isinstance(result, Exception):
                text = told(result)
                click.echo(f"tinsnip: {text}", err=True)
                results.append({"file": str(file), "error": text})
                failed = True
                continue
            facts = result.facts()
            results.append(facts)
            if not as_json:
                _print_result(facts)
    if as_json:
        click.echo(json.dumps({"routine": chosen.name, "results": results}, indent=2))
    raise SystemExit(2 if failed else 0 if all(r["ready"] for r in results) else 1)


def _print_result(facts: dict[str, Any]) -> None:
    """What came of one scan, for people."""
    click.echo(f"{facts['file']} -> {facts['out']}: {facts['triangles']} triangles. {facts['state']}")
    for reason in facts["reasons"]:
        click.echo(f"  not ready: {reason}")
    if facts["proposal"]:
        click.echo(f"  proposed: {facts['proposal']}")
    went, made = percent(facts["gone_share"]), percent(facts["made_share"])
    click.echo(f"  unit {facts['unit']}: {facts['unit_reason']}")
    click.echo(f"  {went} of the scan's area went, {made} of the result was made")
    for warning in facts["warnings"]:
        click.echo(f"  warning: {warning}")
    for note in facts["notes"]:
        click.echo(f"  left out: {note}")
    for step in facts["steps"]:
        click.echo(f"  {step['step']}: {step['text']}")


@click.command()
@click.argument("name", required=False)
def routines(name: str | None) -> None:
    """The built-in routines, one of them as JSON, or the log of a job file as a routine."""
    if name is None:
        for routine in built_in_routines().values():
            click.echo(f"{routine.name}: {routine.title} ({', '.join(s.name for s in routine.steps)})")
    elif name not in built_in_routines() and is_job_file(Path(name)):
        routine, left = routine_of(open_job(Path(name)).job, Path(name).stem)
        for line in left:
            click.echo(f"tinsnip: left out: {line}", err=True)
        click.echo(routine.model_dump_json(indent=2))
    else:
        click.echo(load_routine(name).model_dump_json(indent=2))
