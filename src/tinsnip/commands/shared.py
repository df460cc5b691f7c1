"""What several commands share: options, and progress on a terminal."""

import contextlib
import threading
from collections.abc import Iterator

import click
from rich.console import Console
from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
from rich.progress import Progress as Bar

from tinsnip import kernels
from tinsnip.formats import UNITS
from tinsnip.progress import Progress

__all__ = ["JSON", "UNIT", "VOIDS", "shown"]

UNIT = click.option("--unit", type=click.Choice(list(UNITS)), help="Unit of the file's numbers; guessed if left out.")
VOIDS = click.option(
    "--voids", type=click.Choice(["keep"]), help="keep: closed inner skins are meant, as those of a hollow part are."
)
JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


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
