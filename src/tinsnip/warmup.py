"""Compile all kernels once, by the exercises of the rooms that have some.

Two processes compile different modules at once; a last pass in this one fetches all from the cache and
shows that nothing was left out.
"""

import importlib
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterable

from tinsnip import kernels

__all__ = ["HALVES", "STAGES", "ensure_compiled", "run_exercises", "warm_up"]


HALVES = (("space", "mesh", "formats", "demo"), ("survey", "regions", "treat"))
"""Rooms whose exercises run at the same time; what the second half shares with the first is found done."""


STAGES = ((("formats",), ("app.state",)), (("space", "mesh", "survey"), ("regions", "treat")), (("demo",),))
"""The same for a window that is there meanwhile: what opening a scan needs comes first."""


def run_exercises(rooms: Iterable[str]) -> None:
    """Run the exercises of some rooms, which reach all of their kernels."""
    for room in rooms:
        importlib.import_module(f"tinsnip.{room}.exercise").exercise()


def warm_up(note: Callable[[float], None]) -> float:
    """Compile every kernel.

    Parameters
    ----------
    note : callable
        Told the share done.

    Returns
    -------
    float
        Seconds it took.
    """
    begun = time.perf_counter()
    other = subprocess.Popen([sys.executable, "-m", "tinsnip.warmup"], stdout=subprocess.DEVNULL)
    finished = threading.Event()

    def watch() -> None:
        while not finished.wait(0.2):
            all_kernels = kernels.registered()
            done = sum(bool(k.signatures) for k in all_kernels)
            # the other half's share shows in the cache only; time stands in for it, and never says 100 %
            note(min(0.98, max(done / max(1, len(all_kernels)) * 0.5, 0)))

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    try:
        run_exercises(HALVES[0])
        other.wait()
        run_exercises(HALVES[1])
    finally:
        finished.set()
        watcher.join()
        if other.poll() is None:
            other.kill()
    note(1.0)
    kernels.mark_compiled()
    return time.perf_counter() - begun


def ensure_compiled() -> None:
    """Compile the kernels if this has not been done for these sources, with a progress bar."""
    if kernels.is_compiled():
        return
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=False) as bar:
        task = bar.add_task("Compiling kernels, once", total=1.0)
        warm_up(lambda share: bar.update(task, completed=share))


if __name__ == "__main__":
    run_exercises(sys.argv[1:] or HALVES[1])
