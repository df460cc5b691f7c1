"""The manual page and the shells' completions, made from the command line itself so that they say what it does."""

import datetime

import click
from click.shell_completion import get_completion_class

from tinsnip import __version__

__all__ = ["completion", "manual_page"]


def _escaped(text: str) -> str:
    """Text as roff takes it: nothing at the start of a line that it would obey."""
    lines = text.replace("\\", "\\e").replace("-", "\\-").splitlines()
    return "\n".join("\\&" + line if line[:1] in (".", "'") else line for line in lines)


def _parameters(command: click.Command, context: click.Context) -> list[str]:
    found = []
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record is not None:
            found += [".TP", f".B {_escaped(record[0])}", _escaped(record[1] or " ")]
    return found


def manual_page(group: click.Group, name: str) -> str:
    """The manual page of a command with all its subcommands, in roff (man 7).

    Parameters
    ----------
    group : click.Group
    name : str
        What it is called by.

    Returns
    -------
    str
    """
    context = click.Context(group, info_name=name)
    about = (group.help or "").strip().splitlines()
    page = [
        f'.TH {name.upper()} 1 "{datetime.date.today():%B %Y}" "{name} {__version__}"',
        ".SH NAME",
        f"{name} \\- {_escaped(about[0] if about else name)}",
        ".SH SYNOPSIS",
        f".B {name}",
        _escaped(" ".join(group.collect_usage_pieces(context))),
        ".SH OPTIONS",
        *_parameters(group, context),
        ".SH COMMANDS",
    ]
    for called in group.list_commands(context):
        command = group.get_command(context, called)
        if command is None or command.hidden:
            continue
        inner = click.Context(command, parent=context, info_name=called)
        usage = " ".join(command.collect_usage_pieces(inner))
        page += [f".SS {called} {_escaped(usage)}", _escaped((command.help or "").strip().replace("\b", ""))]
        page += _parameters(command, inner)
    page += [
        ".SH EXIT STATUS",
        "0: done, and ready; 1: done, not ready; 2: what was asked for cannot be read or done.",
    ]
    return "\n".join(page) + "\n"


def completion(group: click.Group, name: str, shell: str) -> str:
    """The script by which a shell (bash, zsh or fish) completes commands and options.

    Parameters
    ----------
    group : click.Group
    name : str
        Of the program.
    shell : str
    """
    variable = f"_{name.upper().replace('-', '_')}_COMPLETE"
    return get_completion_class(shell)(group, {}, name, variable).source()
