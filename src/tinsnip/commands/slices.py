"""A scan layer by layer."""

import json
from pathlib import Path

import click

from tinsnip.commands.shared import JSON, LENGTH, READ_AT_MOST, UNIT, shown
from tinsnip.errors import BadInput
from tinsnip.formats.outlinefiles import OUTLINE_FORMATS, write_layers

__all__ = ["slices"]

_LISTED = 12
"""Faults that are told one by one."""


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--height", required=True, type=LENGTH, help="Height of a layer, mm; each is cut at its middle.")
@click.option("--out", required=True, type=click.Path(path_type=Path), help="The folder for the files, one a layer.")
@click.option("--format", "form", type=click.Choice(list(OUTLINE_FORMATS)), default="svg", show_default=True)
@click.option("--replace", is_flag=True, help="Replace files that are there already.")
@UNIT
@READ_AT_MOST
@JSON
def slices(
    file: Path, height: float, out: Path, form: str, replace: bool, unit: str | None, at_most: int | None,
    as_json: bool,
) -> None:  # fmt: skip
    """The outlines of FILE layer by layer, from the bottom, and every layer that cannot be built as it is.

    Exit 0 all can be built, 1 some cannot (each said; the files are written all the same), 2 bad input.
    """
    with shown("Slicing") as progress:
        from tinsnip.job.reading import read_at_most
        from tinsnip.survey.layers import find_layer_faults, layers_of

        mesh = read_at_most(file, unit, progress, at_most).mesh
        layers = layers_of(mesh, height, progress)
        names = _names(file, out, form, len(layers.heights), replace)
        faults = find_layer_faults(mesh, layers, progress)
        write_layers(layers, dict(enumerate(names)), mesh.box[:, :2], file.stem, progress)
    areas = layers.areas()
    facts = {
        "file": str(file), "out": str(out), "height_mm": height, "layers": len(names),
        "volume_mm3": float(areas.sum() * height), "faults": [fault.facts() for fault in faults],
    }  # fmt: skip
    if as_json:
        each = zip(names, layers.heights.tolist(), areas.tolist(), strict=True)
        facts["slices"] = [{"file": str(name), "z_mm": z, "area_mm2": area} for name, z, area in each]
        click.echo(json.dumps(facts, indent=2))
    else:
        click.echo(f"{len(names)} layers of {height:g} mm in {out}")
        for fault in faults[:_LISTED]:
            click.echo(f"  {fault.told()}")
        if len(faults) > _LISTED:
            click.echo(f"  and {len(faults) - _LISTED} more; --json tells all")
    raise SystemExit(1 if faults else 0)


def _names(file: Path, out: Path, form: str, count: int, replace: bool) -> list[Path]:
    """The files to write, once it is clear that they may be."""
    digits = max(4, len(str(count)))
    names = [out / f"{file.stem}-layer-{i + 1:0{digits}d}.{form}" for i in range(count)]
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadInput(f"{out}: {error.strerror or error}; choose another folder") from error
    there = next((name for name in names if name.exists()), None)
    if there is not None and not replace:
        raise BadInput(f"{there}: it is there already; say --replace, or choose another folder")
    return names
