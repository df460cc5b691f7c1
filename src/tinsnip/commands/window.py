"""The way into the window, and what belongs to a desktop."""

from pathlib import Path

import click

from tinsnip.errors import BadInput
from tinsnip.terminal import display_amiss

__all__ = ["demo", "desktop", "open_files", "open_window"]


def open_window(files: list[Path], demo: str | None = None) -> None:
    amiss = display_amiss()
    if amiss:
        raise BadInput(f"{amiss}, so the window cannot open; use 'tinsnip check' or 'tinsnip run' instead")
    from tinsnip.app.main import run_window

    run_window(files, demo)


@click.command("open", hidden=True)
@click.argument("files", nargs=-1, type=click.Path(path_type=Path))
def open_files(files: tuple[Path, ...]) -> None:
    """Open the window on files."""
    for file in files:
        if not file.exists():
            hint = "check the name" if file.suffix else "see tinsnip --help for the commands"
            raise BadInput(f"{file}: no such file or command; {hint}")
    open_window(list(files))


@click.command()
@click.option("--headless", type=click.Path(path_type=Path), help="Without the window: results go to this folder.")
@click.option("--triangles", default=600_000, show_default=True, help="Density of the demo scan.")
def demo(headless: Path | None, triangles: int) -> None:
    """The whole job on a made-up scan: in the window, or headless with results in a folder."""
    if headless is None and not display_amiss():
        open_window([], "pump-cover")
    from tinsnip.commands.shared import shown
    from tinsnip.demo.walkthrough import headless_demo

    folder = headless or Path("tinsnip-demo")
    with shown("Demo") as progress:
        lines = headless_demo(folder, triangles, progress)
    for line in lines:
        click.echo(line)


@click.command()
@click.option("--remove", is_flag=True, help="Take them away again.")
def desktop(remove: bool) -> None:
    """Install the desktop entry, icon, file types, manual page and completions for this user."""
    from tinsnip.desktop import install_desktop, remove_desktop

    commands = click.get_current_context().find_root().command
    for path in remove_desktop() if remove else install_desktop(commands):
        click.echo(f"{'removed' if remove else 'installed'} {path}")
