"""The command line: the same job without the window, and the way into the window."""

import sys
from importlib import import_module
from typing import Any

import click

from tinsnip import __version__
from tinsnip.commands.window import open_window
from tinsnip.errors import Stopped, told
from tinsnip.terminal import speak_plainly

__all__ = ["main"]


_COMMANDS = {
    "open": "window:open_files",
    "demo": "window:demo",
    "check": "check:check",
    "run": "run:run",
    "combine": "combine:combine",
    "merge": "combine:merge",
    "datums": "datums:datums",
    "remesh": "remesh:remesh",
    "slices": "slices:slices",
    "compare": "check:compare",
    "routines": "run:routines",
    "profiles": "run:list_profiles",
    "warm": "warm:warm",
    "desktop": "window:desktop",
    "bench": "bench:bench",
}
"""Where each command stands; read in only when it is wanted, so that the window comes at once."""


class _Commands(click.Group):
    """Commands; anything else on the line is files to open in the window."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in _COMMANDS:
            return None
        module, _, function = _COMMANDS[name].partition(":")
        return getattr(import_module(f"tinsnip.commands.{module}"), function)

    def resolve_command(self, ctx: click.Context, args: list[str]) -> tuple[Any, Any, list[str]]:
        if args and args[0] not in _COMMANDS:
            return "open", self.get_command(ctx, "open"), args
        return super().resolve_command(ctx, args)


@click.group(cls=_Commands, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="tinsnip", message="%(prog)s %(version)s")
@click.pass_context
def cli(ctx: click.Context) -> None:
    """Tinsnip: from a dense 3D scan to a checked, closed solid.

    With files, or without anything, it opens the window.
    """
    if ctx.invoked_subcommand is None:
        open_window([])


def main() -> None:
    """Run the command line; whatever goes wrong is one line on stderr, and exit 2."""
    speak_plainly()
    try:
        cli(prog_name="tinsnip", standalone_mode=False)
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
