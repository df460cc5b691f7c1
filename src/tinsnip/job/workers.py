"""A routine on many scans by many processes, here or on a cluster of machines: scan by scan, on Dask."""

import contextlib
import itertools
import logging
import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from tinsnip.errors import BadInput
from tinsnip.job.batch import Order, run_file
from tinsnip.threads import CORES, cores

__all__ = ["run_on_workers"]

_WAIT = 30
"""Seconds that a cluster has to answer."""
_DIED = "its worker died, perhaps for want of memory; it was tried once more"


def _run(file: Path, target: Path, order: Order) -> dict[str, Any]:
    """As `run_file`, told where it was begun before by a worker that died."""
    begun = target.with_name(f".{target.name}.begun")
    again = begun.exists()
    begun.write_text(f"{os.getpid()}\n", encoding="ascii")  # who is at it
    try:
        facts = run_file(file, target, order)
    finally:
        begun.unlink(missing_ok=True)
    return facts | {"notes": [*facts["notes"], _DIED]} if again else facts


def run_on_workers(
    targets: Sequence[tuple[Path, Path]], order: Order, workers: int = 0, cluster: str = ""
) -> Iterator[tuple[Path, dict[str, Any] | Exception]]:
    """Work on scans in several processes; what comes of each is the same as in one.

    A worker that dies is replaced, and its scan tried once more; one that goes wrong does not stop the others.

    Parameters
    ----------
    targets : sequence of (Path, Path)
        Each scan, and where its result goes; on a cluster all machines reach both.
    order : Order
    workers : int
        How many processes, where there is no cluster; they share the cores and the memory of this machine.
    cluster : str
        The address of a Dask scheduler.

    Yields
    ------
    file : Path
    result : dict or Exception
        What the command line's JSON says of it, as they are done.

    Raises
    ------
    BadInput
        When the cluster does not answer.
    """
    import dask
    from distributed import Client, LocalCluster, as_completed
    from distributed.scheduler import KilledWorker

    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    settings = {
        "distributed.scheduler.allowed-failures": 1,
        "distributed.admin.tick.limit": "1h",
        "distributed.worker.profile.enabled": False,  # sampling each worker costs more than it tells
        # memory that is given back at every turn is taken again at every turn: a third of the time
        "distributed.nanny.pre-spawn-environ.MALLOC_TRIM_THRESHOLD_": None,
    }
    with contextlib.ExitStack() as held, dask.config.set(settings):
        if cluster:
            try:
                client = held.enter_context(Client(cluster, timeout=_WAIT))
            except (OSError, ValueError) as error:
                raise BadInput(f"--cluster {cluster}: {error}; start its scheduler, or use --workers") from error
        else:
            own = {CORES: str(max(1, cores() // workers))}
            here = LocalCluster(
                n_workers=workers, threads_per_worker=1, dashboard_address=None, silence_logs=logging.CRITICAL, env=own
            )  # fmt: skip
            client = held.enter_context(Client(held.enter_context(here)))
        # no more are handed out than are worked at: those that only wait at a worker that dies would count as tried
        at_once = workers or sum(client.nthreads().values()) or 1
        waiting, asked, futures = iter(targets), {}, as_completed(raise_errors=False)

        def hand_out(count: int) -> None:
            for file, target in itertools.islice(waiting, count):
                places = Path(os.path.abspath(file)), Path(os.path.abspath(target))
                future = client.submit(_run, *places, order, pure=False)
                asked[future] = file, target
                futures.add(future)

        hand_out(at_once)
        for future in futures:
            file, target = asked.pop(future)
            hand_out(1)
            if future.status == "finished":
                yield file, future.result() | {"file": str(file), "out": str(target)}
                continue
            error = future.exception() or BadInput(f"{file}: it was cancelled; run it again")
            if isinstance(error, KilledWorker):
                target.with_name(f".{target.name}.begun").unlink(missing_ok=True)
                error = BadInput(
                    f"{file}: its worker died twice, perhaps for want of memory; run it with fewer workers, or alone"
                )
            yield file, error
