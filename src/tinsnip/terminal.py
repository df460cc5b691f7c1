"""What a terminal, a display or a signal may do to the command line."""

import codecs
import os
import signal
import socket
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tinsnip.errors import Stopped

__all__ = ["display_amiss", "speak_plainly", "told_what_was_written"]

_PLAIN = {"·": "-", "…": "...", "\u202f": " ", "×": "x", "–": "-", "—": "-", "→": "->", "²": "2", "³": "3"}


def speak_plainly() -> None:
    """Let what a terminal cannot show be said in plain letters, instead of failing over it."""

    def plainly(error: UnicodeError) -> tuple[str, int]:
        if not isinstance(error, UnicodeEncodeError):
            raise error
        return "".join(_PLAIN.get(c, "?") for c in error.object[error.start : error.end]), error.end

    codecs.register_error("plainly", plainly)
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="plainly")


def display_amiss() -> str:
    """Why no window can be opened here, in a few words; empty where there is a display that answers."""
    wayland, display = os.environ.get("WAYLAND_DISPLAY"), os.environ.get("DISPLAY")
    if wayland:
        path = Path(os.environ.get("XDG_RUNTIME_DIR", "/nonexistent")) / wayland
        if _answers(socket.AF_UNIX, str(path)):
            return ""
    if not display:
        return f"the display {wayland} does not answer" if wayland else "there is no display"
    host, _, number = display.rpartition(":")
    number = number.split(".")[0]
    if not number.isdigit():
        return f"the display {display} is none"
    if host in ("", "unix"):
        path = f"/tmp/.X11-unix/X{number}"
        found = _answers(socket.AF_UNIX, path) or _answers(socket.AF_UNIX, f"\0{path}")
    else:
        found = _answers(socket.AF_INET, (host, 6000 + int(number)))
    return "" if found else f"the display {display} does not answer"


def _answers(family: socket.AddressFamily, address: Any) -> bool:
    try:
        with socket.socket(family, socket.SOCK_STREAM) as link:
            link.settimeout(2.0)
            link.connect(address)
    except OSError:
        return False
    return True


def _stamp(path: Path) -> tuple[int, int] | None:
    try:
        known = path.stat()
    except OSError:
        return None
    return known.st_ino, known.st_mtime_ns


@contextmanager
def told_what_was_written(targets: list[Path]) -> Iterator[None]:
    """Where the block is stopped, by Ctrl+C or by a signal to end, say which files had been written by then.

    Parameters
    ----------
    targets : list of Path
        Files that are written, in order.

    Raises
    ------
    Stopped
    """
    seen = {target: _stamp(target) for target in targets}

    def end(number: int, frame: Any) -> None:
        raise SystemExit(128 + number)

    before = signal.signal(signal.SIGTERM, end)
    try:
        yield
    except (KeyboardInterrupt, SystemExit) as stop:
        code = 130 if isinstance(stop, KeyboardInterrupt) else int(stop.code or 0)
        if code < 128:
            raise
        raise Stopped([str(t) for t in targets if _stamp(t) != seen[t]], code) from None
    finally:
        signal.signal(signal.SIGTERM, before)
