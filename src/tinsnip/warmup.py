"""Compile ahead what would otherwise be compiled when it is first called: for machines that are set up for others, and
beside a window that has just come up.

Several processes share the work by taking turns at the entries on disk; each takes the next that nobody has done.
"""

import hashlib
import select
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from numba.core.errors import NumbaError

from tinsnip.kernels.dispatch import store
from tinsnip.kernels.recorded import RECORD, Recorded, read_record
from tinsnip.threads import cores

__all__ = ["is_whole", "start_workers", "warm_up"]


def _mark() -> str:
    """The name of an entry that says: all is there, for these very sources."""
    sources = [*sorted(Path(__file__).parent.rglob("*.py")), RECORD]
    facts = [(str(path), path.stat().st_size, path.stat().st_mtime_ns) for path in sources]
    return f"whole-{hashlib.sha256(repr(facts).encode()).hexdigest()[:16]}"


def is_whole() -> bool:
    """Whether all that was recorded has been compiled, for these very sources."""
    return store.has(_mark())


def _is_there(one: Recorded) -> bool:
    kernel, kinds = one
    return kernel.is_ready(kinds)


def work_through(wanted: Callable[[], str | None] = lambda: None, tell: bool = False) -> None:
    """Compile all that was recorded and is not there yet, in its order.

    Parameters
    ----------
    wanted : callable
        The name of a kernel to be taken next, or None.
    tell : bool
        Say on the output, before each, how many are left, and of these how many for opening a scan.
    """
    opening = {id(one[0]) for one in read_record(["opening"])}
    rest = [one for one in read_record() if not _is_there(one)]
    looked, all_well = time.monotonic(), True
    while rest:
        if time.monotonic() - looked > 0.5:
            rest, looked = [one for one in rest if not _is_there(one)], time.monotonic()
            if not rest:
                break
        if tell:
            print(len(rest), sum(id(kernel) in opening for kernel, _ in rest), flush=True)
        name = wanted()
        first = next((i for i, one in enumerate(rest) if one[0].name == name), None)
        if first is None:  # what another process is at comes to be there by itself
            first = next((i for i, one in enumerate(rest) if not store.is_taken(one[0].entry(one[1]))), 0)
        kernel, kinds = rest.pop(first)
        try:
            if not kernel.is_ready(kinds):
                kernel.prepare(kinds)
        except (NumbaError, TypeError) as error:  # it will be said again by whoever calls it, and the others are wanted
            print(f"{kernel.name}: {error}".splitlines()[0], file=sys.stderr)
            all_well = False
    if all_well:
        store.write(_mark(), b"")


def start_workers() -> list[subprocess.Popen]:
    """Processes that compile ahead, as many as there are cores; a kernel's name on their input is taken first."""
    return [
        subprocess.Popen(
            [sys.executable, "-m", "tinsnip.warmup"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(cores())
    ]


def warm_up(note: Callable[[int, int], None] = lambda done, total: None) -> tuple[float, int]:
    """Compile everything that the program uses.

    Parameters
    ----------
    note : callable
        Told how many signatures are there, and of how many, a few times a second.

    Returns
    -------
    seconds : float
        That it took.
    left : int
        Signatures that could not be compiled.
    """
    begun = time.perf_counter()
    every = read_record()
    store.clear_old()
    workers = [] if is_whole() else start_workers()
    try:
        while any(one.poll() is None for one in workers):
            note(sum(map(_is_there, every)), len(every))
            time.sleep(0.2)
    finally:
        for one in workers:
            one.kill()
    there = sum(map(_is_there, every))
    note(there, len(every))
    return time.perf_counter() - begun, len(every) - there


def _wanted_on_input() -> str | None:
    """The last line that stands on the input, if any."""
    line = None
    while select.select([sys.stdin], [], [], 0)[0]:
        text = sys.stdin.readline()
        if not text:
            break
        line = text.strip()
    return line


if __name__ == "__main__":
    work_through(_wanted_on_input, tell=True)
