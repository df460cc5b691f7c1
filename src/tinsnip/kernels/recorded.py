"""How Python calls kernels, as recorded by the tests: what is compiled ahead, and in which order."""

import importlib
import json
from collections.abc import Iterable
from pathlib import Path

from numba.core import types

from tinsnip.kernels.dispatch import Kernel, registered

__all__ = ["RECORD", "Recorded", "read_record", "record_lines"]

RECORD = Path(__file__).parent / "recorded.json"
"""Signatures as `dispatch.written` puts them, in groups and in the order in which they are wanted."""

Recorded = tuple[Kernel, tuple]
"""A kernel, and the types of its arguments; what it calls itself comes with it."""


def record_lines(groups: Iterable[str] | None = None, record: Path = RECORD) -> list[str]:
    """The lines of the record, of some groups or of all.

    Parameters
    ----------
    groups : iterable of str, optional
    record : Path
    """
    text = json.loads(record.read_text("utf-8"))
    return [line for group in groups or text for line in text[group]]


def read_record(groups: Iterable[str] | None = None, record: Path = RECORD) -> list[Recorded]:
    """The signatures recorded, of some groups or of all; what fits no kernel any more is passed over.

    Parameters
    ----------
    groups : iterable of str, optional
    record : Path
    """
    return [found for line in record_lines(groups, record) if (found := _read(line)) is not None]


def _read(line: str) -> Recorded | None:
    name, _, arguments = line.partition("(")
    module = name.rpartition(".")[0]
    try:
        importlib.import_module(f"tinsnip.{module}")
    except ModuleNotFoundError:
        return None
    found = next((k for k in registered() if k.name == name), None)
    if found is None:
        return None
    kinds = eval(f"({arguments[:-1]},)" if arguments != ")" else "()", {"__builtins__": {}}, vars(types))
    # a line of before a kernel took more or less would stop whoever compiles ahead
    return (found, tuple(kinds)) if len(kinds) == found.py_func.__code__.co_argcount else None
