"""What several commands share: options, and progress on a terminal."""

import contextlib
import math
import threading
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
from rich.progress import Progress as Bar

from tinsnip import kernels
from tinsnip.errors import BadInput
from tinsnip.formats import UNITS, Format, format_for
from tinsnip.progress import Progress

__all__ = ["JSON", "LENGTH", "OUT", "PROFILE", "READ_AT_MOST", "REPLACE", "UNIT", "VOIDS", "shown", "writable"]

UNIT = click.option("--unit", type=click.Choice(list(UNITS)), help="Unit of the file's numbers; guessed if left out.")
READ_AT_MOST = click.option(
    "--read-at-most",
    "at_most",
    type=click.IntRange(min=1000),
    metavar="TRIANGLES",
    help="A scan that has more is reduced to that while it is read, with little memory (binary STL, PLY).",
)
VOIDS = click.option(
    "--voids", type=click.Choice(["keep"]), help="keep: closed inner skins are meant, as those of a hollow part are."
)
PROFILE = click.option(
    "--profile", "profile_name", metavar="NAME|FILE", help="Judge it by a profile too: by name, or a JSON file."
)
JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
OUT = click.option(
    "--out", required=True, type=click.Path(path_type=Path), help="The file to write; its ending says how."
)
REPLACE = click.option("--replace", is_flag=True, help="Replace it where it is there already; never a scan given.")


def writable(files: Iterable[Path], out: Path, replace: bool) -> Format:
    """The format of the file to write, once it is clear that it may be written.

    Raises
    ------
    BadInput
        When its ending says no format, when it is one of the scans, or there already and not to be replaced.
    """
    form = format_for(out.suffix.lstrip("."))
    if any(out.resolve() == file.resolve() for file in files):
        raise BadInput(f"{out}: a scan is never written over; choose another name for --out")
    if out.exists() and not replace:
        raise BadInput(f"{out}: it is there already; say --replace, or choose another name")
    return form


class _Length(click.ParamType):
    """A length above 0, mm."""

    name = "mm"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """The length that was typed."""
        with contextlib.suppress(ValueError):
            if 0 < float(value) < math.inf:
                return float(value)
        return self.fail(f"{value} is no length; say one above 0, in mm", param, ctx)


LENGTH = _Length()


@contextlib.contextmanager
def shown(title: str) -> Iterator[Progress]:
    """Progress on a terminal's stderr, and nothing where there is none."""
    progress = Progress()
    console = Console(stderr=True)
    if not console.is_terminal:
        yield progress
        return
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
                said = progress.label or title
                if kernels.is_compiling():
                    said += " (compiling, once)"
                bar.update(task, completed=progress.fraction, description=said)

        watcher = threading.Thread(target=watch, daemon=True)
        watcher.start()
        try:
            yield progress
        finally:
            finished.set()
            watcher.join()
