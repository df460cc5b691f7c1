"""Datums: the forms that a part is made of, for those who build it again."""

import json
from pathlib import Path

import click

from tinsnip.commands.shared import JSON, UNIT, shown
from tinsnip.errors import BadInput
from tinsnip.formats import read_scan

__all__ = ["datums"]


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="Write them to a JSON file too.")
@click.option("--replace", is_flag=True, help="Replace that file where it is there already.")
@UNIT
@JSON
def datums(file: Path, out: Path | None, replace: bool, unit: str | None, as_json: bool) -> None:
    """The planes, cylinders, spheres, cones and tori of FILE that have 1 % of its area or more, in the file's frame.

    Lengths in mm. A cone's point is its apex, its angle the whole one; a torus' radius is that of its ring.
    """
    if out is not None and out.suffix.lower() != ".json":
        raise BadInput(f"{out}: datums are written as JSON; name it {out.stem}.json")
    if out is not None and out.exists() and not replace:
        raise BadInput(f"{out}: it is there already; say --replace, or choose another name")
    with shown("Looking for forms") as progress:
        from tinsnip.datums.finding import find_datums

        found = find_datums(read_scan(file, unit, progress).mesh, progress)
    facts = {"file": str(file), "datums": [datum.facts() for datum in found]}
    if out is not None:
        fresh = out.with_name(f".{out.name}.part")
        try:
            fresh.write_text(json.dumps(facts, indent=2) + "\n", encoding="utf-8")
            fresh.replace(out)
        except OSError as error:
            raise BadInput(f"{out}: {error.strerror or error}; choose another place") from error
    if as_json:
        click.echo(json.dumps(facts, indent=2))
        return
    if not found:
        click.echo(f"{file}: no plane, cylinder, sphere, cone or torus of 1 % of its area or more")
    for datum, own in zip(found, facts["datums"], strict=True):
        numbers = "".join(
            f", {text} {own[name]:.4g}{unit_of}"
            for name, text, unit_of in (
                ("radius_mm", "radius", " mm"), ("tube_radius_mm", "tube", " mm"), ("angle_deg", "angle", "°"),
            )
            if name in own
        )  # fmt: skip
        where = ", ".join(f"{x:.3f}" for x in own["point"])
        way = f" along ({', '.join(f'{x:.4f}' for x in own['direction'])})" if "direction" in own else ""
        click.echo(
            f"{datum.name} {own['form']}{numbers}: at ({where}){way}; {100 * datum.share:.1f} % of the area, "
            f"rms {datum.rms_mm:.3g}, largest {datum.max_mm:.3g} mm"
        )
