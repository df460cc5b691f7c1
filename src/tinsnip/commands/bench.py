"""The benchmarks."""

import json
import os
import sys

import click

from tinsnip.commands.shared import JSON
from tinsnip.errors import BadInput
from tinsnip.terminal import display_amiss

__all__ = ["bench"]

_WAY = 600_000, 2_000_000, 10_000_000
_LARGEST = 60_000_000


@click.command()
@click.option("--triangles", default=2_000_000, show_default=True, help="Size of the mesh.")
@click.option("--only", metavar="ROW,ROW", help="These rows only.")
@click.option("--growth", "with_growth", is_flag=True, help="At five times the size too, and how each row grows.")
@click.option("--quality", is_flag=True, help="Instead: how close reduced meshes stay, next to plain clustering.")
@click.option("--window", is_flag=True, help="Instead: how long the window keeps its user waiting; needs a display.")
@click.option("--way", is_flag=True, help="Instead: the demo scans from file to released solid, step by step.")
@click.option("--sizes", metavar="N,N", help="Sizes for these, and for rows; by default 600000,2000000,10000000.")
@JSON
def bench(
    triangles: int, only: str | None, with_growth: bool, quality: bool, window: bool, way: bool, sizes: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Time the kernels against the yardstick (see benchmarks/README.md)."""
    from tinsnip.bench import growth, print_quality, print_sizes, print_table, run_benchmarks, run_quality

    if window:
        _bench_window(triangles, as_json)
        return
    several = _sizes(sizes) if sizes else []
    if way:
        from tinsnip.bench.way import measure_way, print_way

        names = only.split(",") if only else None
        runs = measure_way(several or list(_WAY), lambda row: click.echo(f"  {row}", err=True), names)
        if as_json:
            click.echo(json.dumps(runs, indent=2))
        else:
            print_way(runs)
        return
    if quality:
        rows = run_quality(lambda row: click.echo(f"  {row}", err=True))
        if as_json:
            click.echo(json.dumps(rows, indent=2))
        else:
            print_quality(rows)
        return

    if not 1000 <= triangles <= 20_000_000:
        raise BadInput(f"--triangles {triangles}: the benchmarks take 1000 to 20000000; choose a number in between")
    chosen = set(only.split(",")) if only else None
    if several:
        found = [run_benchmarks(size, lambda row: click.echo(f"  {row}", err=True), chosen) for size in several]
        if as_json:
            click.echo(json.dumps(found, indent=2))
        else:
            print_sizes(found)
        return
    results = run_benchmarks(triangles, lambda row: click.echo(f"  {row}", err=True), chosen)
    if with_growth:
        larger = run_benchmarks(5 * triangles, lambda row: click.echo(f"  {row}", err=True), chosen)
        larger["growth"] = growth(results, larger)
        results["larger"] = larger
    if as_json:
        click.echo(json.dumps(results, indent=2))
    else:
        print_table(results)
        if with_growth:
            print_table(results["larger"])


def _sizes(text: str) -> list[int]:
    """Sizes that were typed, rising."""
    try:
        found = sorted({int(float(word)) for word in text.split(",")})
    except ValueError:
        raise BadInput(f"--sizes {text}: numbers of triangles with commas between them, such as 2e6,10e6") from None
    if not found or found[0] < 1000 or found[-1] > _LARGEST:
        raise BadInput(f"--sizes {text}: the benchmarks take 1000 to {_LARGEST}; choose numbers in between")
    return found


def _bench_window(triangles: int, as_json: bool) -> None:
    """Time the window itself, and leave without taking Qt apart."""
    amiss = display_amiss()
    if amiss:
        raise BadInput(f"bench --window: {amiss}; start one, or run it under Xvfb")
    from tinsnip.bench.fluidity import measure_window

    rows = measure_window(triangles, lambda row: click.echo(f"  {row}", err=True))
    if as_json:
        click.echo(json.dumps({"triangles": triangles, "rows": rows}, indent=2))
    sys.stdout.flush()
    os._exit(0)
