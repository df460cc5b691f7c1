"""Several files as one solid: joined, cut, or what they have in common."""

import json
from pathlib import Path

import click

from tinsnip.commands.shared import JSON, UNIT, shown
from tinsnip.errors import BadInput
from tinsnip.formats import format_for, read_scan
from tinsnip.job import release
from tinsnip.treat import Combine, Context

__all__ = ["combine"]


@click.command()
@click.argument("how", type=click.Choice(["join", "cut", "intersect"]))
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The file to write; its ending says how.")
@click.option("--replace", is_flag=True, help="Replace it where it is there already; never one of FILES.")
@UNIT
@JSON
def combine(how: str, files: tuple[Path, ...], out: Path, replace: bool, unit: str | None, as_json: bool) -> None:
    """Join FILES, cut the others from the first, or keep what is common. Exit 0 ready, 1 not ready, 2 bad input."""
    if len(files) < 2:
        raise BadInput("combine takes two files or more; name one more")
    form = format_for(out.suffix.lstrip("."))
    if any(out.resolve() == file.resolve() for file in files):
        raise BadInput(f"{out}: a scan is never written over; choose another name for --out")
    if out.exists() and not replace:
        raise BadInput(f"{out}: it is there already; say --replace, or choose another name")
    with shown("Combining") as progress:
        scans = [read_scan(file, unit, progress) for file in files]
        made = Combine(how=how).apply([scan.mesh for scan in scans], Context(progress))
        result = made.parts[0].mesh
        solids = made.account.figures["solids"]
        examination = release(result, out, form.name, progress, wanted_shells=solids)
    counts = examination.counts()
    facts = {"out": str(out), "text": made.text, **made.account.facts()} | {
        k: counts[k] for k in ("ready", "reasons", "volume_mm3")
    }
    if as_json:
        click.echo(json.dumps(facts, indent=2))
    else:
        click.echo(f"{made.text}\n{out}: {counts['triangles']} triangles. {counts['state']}")
        for reason in counts["reasons"]:
            click.echo(f"  not ready: {reason}")
    raise SystemExit(0 if counts["ready"] else 1)
