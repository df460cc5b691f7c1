"""Datums: the forms that a part is made of, for those who build it again."""

import contextlib
import json
from pathlib import Path

import click
import numpy as np

from tinsnip.commands.shared import JSON, READ_AT_MOST, UNIT, shown
from tinsnip.datums.drawings import check_drawing, write_drawing
from tinsnip.errors import BadInput

__all__ = ["datums"]


def _plane(text: str) -> tuple[str, np.ndarray, float]:
    """A section as it was typed: its name, the normal of its plane, and how far along that it stands."""
    axis, equals, value = text.partition("=")
    with contextlib.suppress(ValueError):
        if axis in ("x", "y", "z") and equals and np.isfinite(float(value)):
            return f"section {text}", np.eye(3)["xyz".index(axis)], float(value)
    raise BadInput(f"--section {text}: not a plane; say one such as z=12.5")


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--out", type=click.Path(path_type=Path), help="Write them to a file too: .json, .dxf, .svg, .step.")
@click.option("--section", "sections", multiple=True, help="Outline at z=12 (or x=, y=), mm, as lines and arcs, in it.")
@click.option("--replace", is_flag=True, help="Replace that file where it is there already.")
@UNIT
@READ_AT_MOST
@JSON
def datums(
    file: Path, out: Path | None, sections: tuple[str, ...], replace: bool, unit: str | None, at_most: int | None,
    as_json: bool,
) -> None:  # fmt: skip
    """The planes, cylinders, spheres, cones and tori of FILE that have 1 % of its area or more, in the file's frame.

    Lengths in mm. A cone's point is its apex, its angle the whole one; a torus' radius is that of its ring.
    """
    planes = [_plane(text) for text in sections]
    if planes and out is None:
        raise BadInput("--section draws outlines into a file; say --out with a .svg, .dxf or .step name")
    if out is not None:
        check_drawing(out, replace)
    with shown("Looking for forms") as progress:
        from tinsnip.datums.finding import find_datums
        from tinsnip.datums.sections import section_drawn
        from tinsnip.job.reading import read_at_most

        mesh = read_at_most(file, unit, progress, at_most).mesh
        drawn = [section_drawn(mesh, normal, offset, name) for name, normal, offset in planes]
        found = [] if out is not None and out.suffix.lower() == ".svg" else find_datums(mesh, progress)
    facts = {"file": str(file), "datums": [datum.facts() for datum in found]}
    if out is not None:
        write_drawing(out, found, drawn, str(file), replace)
    if as_json:
        click.echo(json.dumps(facts, indent=2))
        return
    if not found and not drawn:
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
