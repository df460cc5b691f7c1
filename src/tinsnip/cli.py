"""The command line: the same job without the window, and the way into the window."""

import contextlib
import json
import os
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
from rich.progress import Progress as Bar
from rich.table import Table
from rich.text import Text

from tinsnip import __version__
from tinsnip.errors import BadInput, Stopped, told
from tinsnip.formats import FORMATS, UNITS, format_for, read_scan
from tinsnip.job import Budget, built_in_routines, load_routine, run_on, targets_of
from tinsnip.progress import Progress
from tinsnip.survey import examine
from tinsnip.terminal import display_amiss, speak_plainly, told_what_was_written
from tinsnip.warmup import ensure_compiled
from tinsnip.words import percent

__all__ = ["main"]

_UNIT = click.option("--unit", type=click.Choice(list(UNITS)), help="Unit of the file's numbers; guessed if left out.")
_JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


@contextlib.contextmanager
def _shown(title: str) -> Iterator[Progress]:
    """Progress on a terminal's stderr, and nothing where there is none."""
    progress = Progress()
    console = Console(stderr=True)
    if not console.is_terminal:
        yield progress
        return
    import threading

    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        TextColumn("{task.percentage:.0f} %"),
        TimeRemainingColumn(),
    )
    with Bar(*columns, console=console, transient=True) as bar:
        task = bar.add_task(title, total=1.0)
        finished = threading.Event()

        def watch() -> None:
            while not finished.wait(0.1):
                bar.update(task, completed=progress.fraction, description=progress.label or title)

        watcher = threading.Thread(target=watch, daemon=True)
        watcher.start()
        try:
            yield progress
        finally:
            finished.set()
            watcher.join()


class _Commands(click.Group):
    """Commands; anything else on the line is files to open in the window."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[Any, Any, list[str]]:
        if args and args[0] not in self.commands:
            return "open", self.commands["open"], args
        return super().resolve_command(ctx, args)


@click.group(cls=_Commands, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="tinsnip", message="%(prog)s %(version)s")
@click.pass_context
def cli(ctx: click.Context) -> None:
    """Tinsnip: from a dense 3D scan to a checked, closed solid.

    With files, or without anything, it opens the window.
    """
    if ctx.invoked_subcommand is None:
        _open_window([])


def _open_window(files: list[Path], demo: str | None = None) -> None:
    amiss = display_amiss()
    if amiss:
        raise BadInput(f"{amiss}, so the window cannot open; use 'tinsnip check' or 'tinsnip run' instead")
    ensure_compiled()
    from tinsnip.app.main import run_window

    run_window(files, demo)


@cli.command("open", hidden=True)
@click.argument("files", nargs=-1, type=click.Path(path_type=Path))
def open_files(files: tuple[Path, ...]) -> None:
    """Open the window on files."""
    for file in files:
        if not file.exists():
            hint = "check the name" if file.suffix else "see tinsnip --help for the commands"
            raise BadInput(f"{file}: no such file or command; {hint}")
    _open_window(list(files))


@cli.command()
@click.option("--headless", type=click.Path(path_type=Path), help="Without the window: results go to this folder.")
@click.option("--triangles", default=600_000, show_default=True, help="Density of the demo scan.")
def demo(headless: Path | None, triangles: int) -> None:
    """The whole job on a made-up scan: in the window, or headless with results in a folder."""
    ensure_compiled()
    if headless is None and not display_amiss():
        _open_window([], "pump-cover")
    from tinsnip.demo.walkthrough import headless_demo

    folder = headless or Path("tinsnip-demo")
    with _shown("Demo") as progress:
        lines = headless_demo(folder, triangles, progress)
    for line in lines:
        click.echo(line)


@cli.command()
@click.argument("file", type=click.Path(path_type=Path))
@_UNIT
@_JSON
def check(file: Path, unit: str | None, as_json: bool) -> None:
    """Findings and readiness of FILE. Exit 0 ready, 1 not ready, 2 not readable."""
    ensure_compiled()
    with _shown("Reading") as progress:
        scan = read_scan(file, unit, progress)
        examination = examine(scan.mesh, progress)
    facts = {"file": str(file), "format": scan.format, "unit": scan.unit, "unit_reason": scan.unit_reason}
    facts |= examination.counts() | {"notes": list(scan.notes)}
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
    table.add_row("volume", f"{facts['volume_mm3']:.6g} mm3, area {facts['area_mm2']:.6g} mm2")
    for note in facts["notes"]:
        table.add_row("note", Text(note))
    console.print(facts["file"], style="bold", soft_wrap=True, markup=False)
    console.print(table)
    # green is for what has been proven; a state with something unchecked in it is not
    style = "red" if not facts["ready"] else "yellow" if facts["unchecked"] else "green"
    console.print(facts["state"], style=style, soft_wrap=True, markup=False)


@cli.command()
@click.argument("routine")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--out", required=True, type=click.Path(path_type=Path), help="Folder for the results.")
@_UNIT
@click.option("--format", "format_name", default="stl", show_default=True, type=click.Choice(list(FORMATS)))
@click.option("--triangles", type=int, help="Reduce to this many triangles.")
@click.option("--max-deviation", type=float, metavar="MM", help="Reduce, but move the surface no further than this.")
@click.option("--max-file", type=float, metavar="MB", help="Reduce until the file is no larger.")
@click.option("--provenance", is_flag=True, help="Say of each triangle whether it was measured (PLY only).")
@click.option("--replace", is_flag=True, help="Replace results that are there already; a raw scan never is.")
@click.option("--set", "settings", multiple=True, metavar="STEP.FIELD=VALUE", help="Set a field of a step.")
@_JSON
def run(
    routine: str,
    files: tuple[Path, ...],
    out: Path,
    unit: str | None,
    format_name: str,
    triangles: int | None,
    max_deviation: float | None,
    max_file: float | None,
    provenance: bool,
    replace: bool,
    settings: tuple[str, ...],
    as_json: bool,
) -> None:
    """Run ROUTINE on FILES. Exit 0 all ready, 1 some not ready, 2 bad input or bad routine."""
    chosen = load_routine(routine).with_settings(list(settings))
    budget = Budget(triangles, max_file * 1e6 if max_file is not None else None, max_deviation)
    budget.on(chosen, format_name)  # what cannot be kept to is said before anything is read
    if provenance and not format_for(format_name).holds_provenance:
        raise BadInput(f"--provenance: {format_name} has no place for it; use --format ply, or leave it out")
    targets = targets_of(files, out, format_for(format_name).suffix, replace)
    ensure_compiled()
    results, failed = [], False
    with told_what_was_written([target for _, target in targets]):
        for file, result in run_on(targets, chosen, budget, format_name, unit, provenance, _shown):
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
    went, made = percent(facts["gone_share"]), percent(facts["made_share"])
    click.echo(f"  unit {facts['unit']}: {facts['unit_reason']}")
    click.echo(f"  {went} of the scan's area went, {made} of the result was made")
    for warning in facts["warnings"]:
        click.echo(f"  warning: {warning}")
    for note in facts["notes"]:
        click.echo(f"  left out: {note}")
    for step in facts["steps"]:
        click.echo(f"  {step['step']}: {step['text']}")


@cli.command()
@click.argument("a", type=click.Path(path_type=Path))
@click.argument("b", type=click.Path(path_type=Path))
@click.option("--samples", default=200_000, show_default=True, type=click.IntRange(100, 20_000_000))
@_UNIT
@_JSON
def compare(a: Path, b: Path, samples: int, unit: str | None, as_json: bool) -> None:
    """Deviation of A from B and back, in mm: largest, 99th percentile, rms, mean."""
    from tinsnip.survey.deviation import compare as deviation

    ensure_compiled()
    with _shown("Comparing") as progress:
        first, second = (read_scan(path, unit, progress).mesh for path in (a, b))
        there, back = deviation(first, second, samples, progress)
    if as_json:
        facts = {"a": str(a), "b": str(b), "a_to_b": there._asdict(), "b_to_a": back._asdict()}
        click.echo(json.dumps(facts, indent=2))
        return
    for title, d in ((f"{a.name} from {b.name}", there), (f"{b.name} from {a.name}", back)):
        click.echo(f"{title}: largest {d.max:.6g}, 99 % {d.p99:.6g}, rms {d.rms:.6g}, mean {d.mean:.6g} mm")


@cli.command()
@click.argument("name", required=False)
def routines(name: str | None) -> None:
    """The built-in routines, or one of them as JSON."""
    if name is None:
        for routine in built_in_routines().values():
            click.echo(f"{routine.name}: {routine.title} ({', '.join(s.name for s in routine.steps)})")
    else:
        click.echo(load_routine(name).model_dump_json(indent=2))


@cli.command()
@click.option("--remove", is_flag=True, help="Take them away again.")
def desktop(remove: bool) -> None:
    """Install the desktop entry, icon and file types for this user."""
    from tinsnip.desktop import install_desktop, remove_desktop

    for path in remove_desktop() if remove else install_desktop():
        click.echo(f"{'removed' if remove else 'installed'} {path}")


@cli.command()
@click.option("--triangles", default=2_000_000, show_default=True, help="Size of the mesh.")
@click.option("--only", metavar="ROW,ROW", help="These rows only.")
@click.option("--growth", "with_growth", is_flag=True, help="At five times the size too, and how each row grows.")
@click.option("--quality", is_flag=True, help="Instead: how close reduced meshes stay, next to plain clustering.")
@click.option("--window", is_flag=True, help="Instead: how long the window keeps its user waiting; needs a display.")
@_JSON
def bench(triangles: int, only: str | None, with_growth: bool, quality: bool, window: bool, as_json: bool) -> None:
    """Time the kernels against the yardstick (see benchmarks/README.md)."""
    from tinsnip.bench import growth, print_quality, print_table, run_benchmarks, run_quality

    if window:
        _bench_window(triangles, as_json)
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


def _bench_window(triangles: int, as_json: bool) -> None:
    """Time the window itself, and leave without taking Qt apart."""
    amiss = display_amiss()
    if amiss:
        raise BadInput(f"bench --window: {amiss}; start one, or run it under Xvfb")
    ensure_compiled()
    from tinsnip.app.fluidity import measure_window

    rows = measure_window(triangles, lambda row: click.echo(f"  {row}", err=True))
    if as_json:
        click.echo(json.dumps({"triangles": triangles, "rows": rows}, indent=2))
    sys.stdout.flush()
    os._exit(0)


def main() -> None:
    """Run the command line; whatever goes wrong is one line on stderr, and exit 2."""
    speak_plainly()
    try:
        cli(standalone_mode=False)
    except click.exceptions.Exit as stop:
        sys.exit(stop.exit_code)
    except Stopped as stop:
        click.echo(f"tinsnip: {stop}", err=True)
        sys.exit(stop.code)
    except click.ClickException as error:
        click.echo(f"tinsnip: {error.format_message()}", err=True)
        sys.exit(2)
    except (click.Abort, KeyboardInterrupt):
        click.echo("tinsnip: stopped; nothing was changed", err=True)
        sys.exit(130)
    except BrokenPipeError:  # whoever read the output has seen enough
        sys.exit(0)
    except Exception as error:
        click.echo(f"tinsnip: {told(error)}", err=True)
        sys.exit(2)
