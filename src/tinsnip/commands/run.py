"""Routines: run on scans, and listed."""

import json
from pathlib import Path
from typing import Any

import click

from tinsnip.commands.shared import JSON, PROFILE, READ_AT_MOST, UNIT, VOIDS, shown
from tinsnip.errors import BadInput
from tinsnip.formats import FORMATS, format_for
from tinsnip.job import (
    Budget,
    Order,
    Profile,
    built_in_routines,
    is_job_file,
    load_profile,
    load_routine,
    open_job,
    profiles,
    routine_of,
)
from tinsnip.job.batchrun import BatchRun
from tinsnip.terminal import told_what_was_written
from tinsnip.words import percent

__all__ = ["list_profiles", "routines", "run"]


@click.command()
@click.argument("routine")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the results.")
@UNIT
@click.option("--format", "format_name", type=click.Choice(list(FORMATS)), help="stl, or what the profile says.")
@PROFILE
@click.option("--triangles", type=int, help="Reduce to this many triangles.")
@click.option("--max-deviation", type=float, metavar="MM", help="Reduce, but move the surface no further than this.")
@click.option("--max-file", type=float, metavar="MB", help="Reduce until the file is no larger.")
@click.option("--recast", type=float, metavar="MM", help="Recast what cannot be closed otherwise, off by at most this.")
@click.option("--provenance", is_flag=True, help="Say of each triangle whether it was measured (PLY only).")
@VOIDS
@click.option("--replace", is_flag=True, help="Replace results that are there already; a raw scan never is.")
@click.option("--set", "settings", multiple=True, metavar="STEP.FIELD=VALUE", help="Set a field of a step.")
@click.option(
    "--bake",
    type=click.Choice(["1024", "2048", "4096", "8192"]),
    metavar="PIXELS",
    help="Bake the scan's colours onto a texture of so many pixels; onto the vertices where the format holds none.",
)
@click.option("--relief", is_flag=True, help="With --bake: a normal map of the scan's finer relief too (GLB, OBJ).")
@click.option("--report", is_flag=True, help="A page about each result beside it, and one that leads to all.")
@click.option("--workers", type=click.IntRange(1, 256), metavar="N", help="So many scans at a time.")
@click.option("--cluster", metavar="ADDRESS", help="On a Dask cluster whose machines all reach the files.")
@READ_AT_MOST
@click.option("--resume", is_flag=True, help="What an earlier run into this folder has done is not done again.")
@JSON
def run(
    routine: str,
    files: tuple[Path, ...],
    out: Path,
    unit: str | None,
    format_name: str | None,
    profile_name: str | None,
    triangles: int | None,
    max_deviation: float | None,
    max_file: float | None,
    recast: float | None,
    provenance: bool,
    voids: str | None,
    replace: bool,
    settings: tuple[str, ...],
    bake: str | None,
    relief: bool,
    report: bool,
    workers: int | None,
    cluster: str | None,
    at_most: int | None,
    resume: bool,
    as_json: bool,
) -> None:
    """Run ROUTINE on FILES: files, folders, patterns. Exit 0 all ready, 1 some not ready, 2 bad input or routine."""
    chosen = load_routine(routine).with_settings(list(settings))
    if recast is not None:
        chosen = chosen.with_recast(recast)
    profile = None if profile_name is None else load_profile(profile_name)
    if profile is not None:  # what is said on the line goes before it
        format_name = format_name or (None if profile.file_format == "any" else profile.file_format)
        triangles = profile.most_triangles if triangles is None else triangles
        max_file = profile.largest_file_mb if max_file is None else max_file
    format_name = format_name or "stl"
    budget = Budget(triangles, max_file * 1e6 if max_file is not None else None, max_deviation)
    budget.on(chosen, format_name)  # what cannot be kept to is said before anything is read
    if provenance and not format_for(format_name).holds_provenance:
        raise BadInput(f"--provenance: {format_name} has no place for it; use --format ply, or leave it out")
    if bake and not format_for(format_name).holds_colours:
        raise BadInput(f"--bake: {format_name} holds no colours; use --format glb or obj, or ply for those of vertices")
    if relief and (not bake or not format_for(format_name).holds_relief):
        raise BadInput("--relief: a map of normals goes with --bake, into --format glb or obj; or leave it out")
    if workers and cluster:
        raise BadInput("--workers and --cluster: the work is done here or there; leave one out")
    order = Order(
        chosen, budget, format_name, unit, provenance, voids == "keep", profile, report,
        bake=int(bake) if bake else None, relief=relief, at_most=at_most,
    )  # fmt: skip
    batch = BatchRun(files, out, order, replace, resume)
    if not as_json:
        for file, facts in batch.found.items():
            click.echo(f"{file} -> {facts['out']}: done before. {facts['state']}")
    with told_what_was_written([target for _, target in batch.left]):
        for _, facts in batch.work(shown, workers or 0, cluster or ""):
            if "error" in facts:
                click.echo(f"tinsnip: {facts['error']}", err=True)
            elif not as_json:
                _print_result(facts)
    page = batch.write_page()
    if as_json:
        click.echo(json.dumps({"routine": chosen.name, "results": batch.results}, indent=2))
    elif page is not None:
        click.echo(f"pages: {page}")
    raise SystemExit(batch.code)


def _print_result(facts: dict[str, Any]) -> None:
    """What came of one scan, for people."""
    click.echo(f"{facts['file']} -> {facts['out']}: {facts['triangles']} triangles. {facts['state']}")
    for reason in facts["reasons"]:
        click.echo(f"  not ready: {reason}")
    for check in (one for one in facts["checks"] if one["passed"] is None and one["limit"]):
        click.echo(f"  not checked: {check['check']}: {check['reason']}")
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


@click.command()
@click.argument("name", required=False)
def list_profiles(name: str | None) -> None:
    """Your own profiles, what a part has to keep to; one of them as JSON, or a new one to fill in: profiles new."""
    if name is None:
        for known in profiles():
            click.echo(known)
    else:
        click.echo(
            (Profile() if name == "new" and name not in profiles() else load_profile(name)).model_dump_json(indent=2)
        )
