"""Compile all kernels ahead of their first use."""

import click
from rich.console import Console
from rich.progress import Progress as Bar

from tinsnip.errors import BadInput
from tinsnip.words import counted

__all__ = ["warm"]


@click.command()
def warm() -> None:
    """Compile all kernels now, for this machine and user; else each is compiled when it is first needed."""
    from tinsnip.warmup import warm_up

    with Bar(console=Console(stderr=True)) as bar:
        task = bar.add_task("Compiling kernels, once", total=1)
        seconds, left = warm_up(lambda done, total: bar.update(task, completed=done, total=total))
    if left:
        raise BadInput(f"{counted(left, 'kernel')} could not be compiled ahead; each is when it is first needed")
    click.echo(f"All kernels are compiled ({seconds:.0f} s)")
