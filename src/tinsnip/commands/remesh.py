"""A scan in even triangles."""

import json
from pathlib import Path

import click

from tinsnip.commands.shared import JSON, LENGTH, OUT, READ_AT_MOST, REPLACE, UNIT, shown, writable
from tinsnip.errors import BadInput
from tinsnip.job import release
from tinsnip.job.reading import read_at_most
from tinsnip.treat import Context, Quads, Remesh

__all__ = ["remesh"]


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--edge", required=True, type=LENGTH, help="Length of the edges, mm.")
@click.option("--adaptive", is_flag=True, help="Shorter ones where the surface bends, --edge at most.")
@click.option("--quads", is_flag=True, help="In quads that run along edges and bends; to OBJ or PLY.")
@click.option("--max-deviation", type=LENGTH, help="What --adaptive may lie off, mm; a tenth of --edge if left out.")
@OUT
@REPLACE
@UNIT
@READ_AT_MOST
@JSON
def remesh(
    file: Path, edge: float, adaptive: bool, quads: bool, max_deviation: float | None, out: Path, replace: bool,
    unit: str | None, at_most: int | None, as_json: bool,
) -> None:  # fmt: skip
    """Mesh FILE anew with edges of one length, in triangles or quads; sharp edges, rims and colours stay.

    Exit 0 done, 1 where it crosses itself or lies off by more than it may (said, and written all the same), 2 bad
    input.
    """
    form = writable([file], out, replace)
    if quads and (adaptive or max_deviation is not None):
        raise BadInput("--quads: all edges are of one length; leave --adaptive and --max-deviation out")
    if quads and not form.holds_quads:
        raise BadInput(f"{out}: {form.title} has no place for quads; write OBJ or PLY")
    wanted = Quads(edge_mm=edge) if quads else Remesh(edge_mm=edge, adaptive=adaptive, max_deviation_mm=max_deviation)
    with shown("Meshing anew") as progress:
        made = wanted.apply(read_at_most(file, unit, progress, at_most).mesh, Context(progress))
        counts = release(made.mesh, out, form.name, progress, ends_as="surface").counts()
    facts = {"out": str(out), "text": made.text, **made.account.facts()}
    facts |= {k: counts[k] for k in ("triangles", "shells", "open_edges", "crossings", "volume_mm3", "area_mm2")}
    if as_json:
        click.echo(json.dumps(facts, indent=2))
    else:
        click.echo(f"{made.text}\n{out}: {counts['triangles']} triangles")
    raise SystemExit(1 if made.account.crossings or made.account.undone else 0)
