"""Several files as one: solids joined, cut, or what they have in common; part-scans merged."""

import json
from pathlib import Path

import click
import numpy as np

from tinsnip.commands.shared import JSON, OUT, READ_AT_MOST, REPLACE, UNIT, shown, writable
from tinsnip.errors import BadInput
from tinsnip.formats import Format
from tinsnip.job import release
from tinsnip.job.reading import read_at_most
from tinsnip.treat import AlignAll, Combine, Context, MergeScans

__all__ = ["combine", "merge"]


def _checked(command: str, files: tuple[Path, ...], out: Path, replace: bool) -> Format:
    """The format of the file to write, once it is clear that it may be written."""
    if len(files) < 2:
        raise BadInput(f"{command} takes two files or more; name one more")
    return writable(files, out, replace)


@click.command()
@click.argument("how", type=click.Choice(["join", "cut", "intersect"]))
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@OUT
@REPLACE
@UNIT
@READ_AT_MOST
@JSON
def combine(
    how: str, files: tuple[Path, ...], out: Path, replace: bool, unit: str | None, at_most: int | None, as_json: bool
) -> None:
    """Join FILES, cut the others from the first, or keep what is common. Exit 0 ready, 1 not ready, 2 bad input."""
    form = _checked("combine", files, out, replace)
    with shown("Combining") as progress:
        scans = [read_at_most(file, unit, progress, at_most) for file in files]
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


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@OUT
@click.option(
    "--align",
    "aligned",
    type=click.Choice(["auto", "none"]),
    default="auto",
    show_default=True,
    help="auto: wherever they lie they are laid on each other first; none: they lie as they belong.",
)
@REPLACE
@UNIT
@READ_AT_MOST
@JSON
def merge(
    files: tuple[Path, ...], out: Path, aligned: str, replace: bool, unit: str | None, at_most: int | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Part-scans of one thing as one surface, in the first one's pose. Exit 0 merged, 1 unsure or left out, 2 bad."""
    form = _checked("merge", files, out, replace)
    with shown("Merging") as progress:
        meshes = [read_at_most(file, unit, progress, at_most).mesh for file in files]
        laid, left = None, []
        if aligned == "auto":
            with progress.part(0.0, 0.6):
                laid = AlignAll(by="shape").apply(meshes, Context(progress))
            left = laid.account.figures["left_out"]
            meshes = [part.mesh for i, part in enumerate(laid.parts) if i not in left]
        made = MergeScans().apply(meshes, Context(progress))
        counts = release(made.parts[0].mesh, out, form.name, progress, ends_as="surface").counts()
    unsure = bool(laid and laid.account.figures["doubt"])
    facts = {"out": str(out), "text": made.text, **made.account.facts(), "sure": not unsure} | {
        k: counts[k] for k in ("triangles", "shells", "holes", "rims", "open_edges", "crossings", "folds")
    }
    facts["files_left_out"] = [str(files[i]) for i in left]
    if laid is not None:
        facts["align"] = {"text": laid.text, **laid.account.facts()} | {
            "matrices": [np.eye(4).tolist() if p.matrix is None else p.matrix.tolist() for p in laid.parts]
        }
    if as_json:
        click.echo(json.dumps(facts, indent=2))
    else:
        for text in ([laid.text] if laid else []) + [made.text]:
            click.echo(text)
        click.echo(f"{out}: {counts['triangles']} triangles, {counts['shells']} shells, {counts['holes']} holes")
        for i in left:
            click.echo(f"  left out: {files[i]} lies on none of the others")
        if unsure:
            click.echo(f"  unsure: {laid.account.figures['doubt']}")
    raise SystemExit(1 if unsure or left or made.account.figures["through_mm2"] else 0)
