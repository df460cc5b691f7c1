"""Looking: what a file holds, and how far two lie apart."""

import json
from pathlib import Path
from typing import Any

import click
import numpy as np
from rich.console import Console
from rich.table import Table
from rich.text import Text

from tinsnip.commands.shared import JSON, PROFILE, READ_AT_MOST, UNIT, VOIDS, shown
from tinsnip.formats import CHECKING, read_scan
from tinsnip.survey import examine
from tinsnip.survey.deviation import compare as deviation
from tinsnip.survey.deviation import deviation_from_reference, share_within
from tinsnip.survey.outside import MOST_PLACES, find_places_outside
from tinsnip.survey.strays import with_voids_meant
from tinsnip.words import counted, percent

__all__ = ["check", "compare"]

_SAID = 10
"""Places outside what is allowed that are told as text."""


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@UNIT
@VOIDS
@PROFILE
@READ_AT_MOST
@JSON
def check(
    file: Path, unit: str | None, voids: str | None, profile_name: str | None, at_most: int | None, as_json: bool
) -> None:
    """Findings and readiness of FILE. Exit 0 ready, 1 not ready, 2 not readable."""
    judge, profile = None, None
    if profile_name is not None:
        from tinsnip.job.profile import judged_by as judge
        from tinsnip.job.profile import load_profile

        profile = load_profile(profile_name)
    with shown("Reading") as progress:
        if at_most is None:
            scan = read_scan(file, unit, progress, CHECKING)
        else:
            from tinsnip.job.reading import read_at_most

            scan = read_at_most(file, unit, progress, at_most)
        examination = examine(with_voids_meant(scan.mesh) if voids else scan.mesh, progress)
        verdict = examination.readiness
        if judge is not None:
            verdict = judge(profile, examination, scan.format, progress, file.stat().st_size)
    facts = {"file": str(file), "format": scan.format, "unit": scan.unit, "unit_reason": scan.unit_reason}
    notes = list(scan.notes)
    if examination.counts()["voids"]:
        notes.append("a void may be meant: a hollow part has one; --voids keep takes it so")
    facts |= examination.counts() | {"notes": notes}
    facts |= {"ready": verdict.ready, "reasons": verdict.reasons, "unchecked": verdict.unchecked}
    facts |= {"state": verdict.state, "checks": [one.facts() for one in verdict.checks]}
    if as_json:
        click.echo(json.dumps(facts, indent=2))
    else:
        _print_facts(facts)
    raise SystemExit(0 if facts["ready"] else 1)


def _print_facts(facts: dict[str, Any]) -> None:
    console = Console(highlight=False)
    size = " x ".join(f"{x:.4g}" for x in facts["size_mm"])
    table = Table(show_header=False, box=None, pad_edge=False)
    table.add_row("size", f"{size} mm  (unit {facts['unit']}: {facts['unit_reason']})")
    table.add_row("mesh", f"{facts['triangles']} triangles, {facts['vertices']} vertices, {facts['shells']} shells")
    table.add_row("strays", f"{facts['crumbs']} crumbs, {facts['chunks']} chunks, {facts['voids']} voids")
    table.add_row("openings", f"{facts['holes']} holes, {facts['rims']} rims, {facts['open_edges']} open edges")
    knots = (
        f"{facts['tangled_edges']} tangled edges, {facts['pinched_vertices']} pinched vertices, "
        f"{facts['flipped_edges']} flipped edges, {facts['duplicates']} doubled, {facts['degenerate']} degenerate"
    )
    table.add_row("tangles", knots)
    table.add_row("crossings", f"{facts['crossings']} crossings, {facts['folds']} folds")
    table.add_row("volume", f"{facts['volume_mm3']:.6g} mm3, area {facts['area_mm2']:.6g} mm2")
    for one in facts["checks"]:
        if one["limit"]:  # what a profile asks for
            told = {True: "✓", False: "✗", None: "?"}[one["passed"]]
            figure = f"{one['figure']}, " if one["figure"] else ""
            why = f": {one['reason']}" if one["reason"] else ""
            table.add_row(one["check"], Text(f"{told} {figure}asked {one['limit']}{why}"))
    for note in facts["notes"]:
        table.add_row("note", Text(note))
    console.print(facts["file"], style="bold", soft_wrap=True, markup=False)
    console.print(table)
    # green is for what has been proven; a state with something unchecked in it is not
    style = "red" if not facts["ready"] else "yellow" if facts["unchecked"] else "green"
    console.print(facts["state"], style=style, soft_wrap=True, markup=False)


@click.command()
@click.argument("a", type=click.Path(path_type=Path))
@click.argument("b", type=click.Path(path_type=Path))
@click.option("--samples", default=200_000, show_default=True, type=click.IntRange(100, 20_000_000))
@click.option("--tolerance", type=click.FloatRange(min=0), help="Tell the share of A that lies within so many mm of B.")
@click.option("--align", "aligned", is_flag=True, help="Lay A on B first, wherever it lies, and tell by what matrix.")
@UNIT
@JSON
def compare(
    a: Path, b: Path, samples: int, tolerance: float | None, aligned: bool, unit: str | None, as_json: bool
) -> None:
    """Deviation of A from B and back, in mm: largest, 99th percentile, rms, mean."""
    with shown("Comparing") as progress:
        first, second = (read_scan(path, unit, progress).mesh for path in (a, b))
        laid = None
        if aligned:
            from tinsnip.space.rigid import moved_points
            from tinsnip.survey.alignment import find_alignment

            with progress.part(0.0, 0.6):
                laid = find_alignment(first, second, progress, (np.eye(4),))
            first = first.moved(moved_points(laid.matrix, first.vertices))
        there, back = deviation(first, second, samples, progress)
        within, outside, places = None, [], 0
        if tolerance is not None:
            measured = deviation_from_reference(first, second, progress)
            within = share_within(measured, tolerance)
            outside, places = find_places_outside(measured, tolerance)
    if as_json:
        facts = {"a": str(a), "b": str(b), "a_to_b": there._asdict(), "b_to_a": back._asdict()}
        if within is not None:
            facts["tolerance_mm"], facts["within_share"], facts["places_outside"] = tolerance, within, places
            facts["outside"] = [
                {"at_mm": p.place.tolist(), "off_mm": p.off_mm, "size_mm": p.size_mm, "area_mm2": p.area_mm2}
                for p in outside
            ]
        if laid is not None:
            facts["align"] = laid.facts()
        click.echo(json.dumps(facts, indent=2))
        return
    if laid is not None:
        click.echo(f"{a.name} laid on {b.name}: {percent(laid.overlap)} of it lies there, rms {laid.rms_mm:.6g} mm, by")
        for row in laid.matrix:
            click.echo("  " + " ".join(f"{x:14.9g}" for x in row))
        if laid.doubt:
            click.echo(f"  not sure: {laid.doubt}")
    for title, d in ((f"{a.name} from {b.name}", there), (f"{b.name} from {a.name}", back)):
        click.echo(f"{title}: largest {d.max:.6g}, 99 % {d.p99:.6g}, rms {d.rms:.6g}, mean {d.mean:.6g} mm")
    if within is not None:
        click.echo(f"{a.name}: {100 * within:.4g} % of its area within {tolerance:g} mm of {b.name}")
    for one in outside[:_SAID]:
        place = ", ".join(f"{x:.6g}" for x in one.place)
        click.echo(f"  {one.told} at ({place}), {one.area_mm2:.4g} mm²")
    if places > _SAID:
        click.echo(f"  and {counted(places - _SAID, 'place')} more; --json tells up to {MOST_PLACES}")
