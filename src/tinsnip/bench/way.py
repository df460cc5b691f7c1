"""The whole way of a demo scan, from its file to the released one, step by step and at several sizes."""

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table
from scipy.spatial import cKDTree

from tinsnip.demo.library import DEMO_SCANS, demo_scan
from tinsnip.errors import BadInput
from tinsnip.formats import write_mesh

__all__ = ["measure_way", "print_way"]

_KEPT = 10
"""Triangles of the scan for each one that is released."""
_REST = "read, write, check"


def measure_way(sizes: list[int], note: Callable[[str], None], names: list[str] | None = None) -> list[dict[str, Any]]:
    """Take demo scans the whole way to a solid of a tenth of their triangles, each in a process of its own.

    Parameters
    ----------
    sizes : list of int
        Triangles of the scans, about, rising.
    note : callable
        Told each run as it is done.
    names : list of str, optional
        Of the scans; all by default.

    Returns
    -------
    list of dict
        One for each scan and size: ``scan, triangles, yardstick_s, total_s, peak_mb, ready`` and ``steps``, seconds by
        name; what is no step, such as starting, reading, writing and checking, is one more.

    Raises
    ------
    BadInput
        When a run ends without a result.
    """
    runs = []
    with tempfile.TemporaryDirectory() as folder:
        for name in names or list(DEMO_SCANS):
            for size in sizes:
                mesh = demo_scan(name, size)
                path = Path(folder) / f"{name}.stl"
                write_mesh(mesh, path)
                begun = time.perf_counter()
                cKDTree(mesh.vertices).query(mesh.vertices, k=1, workers=1)
                yardstick = time.perf_counter() - begun
                run = {"scan": name, "triangles": len(mesh.faces), "yardstick_s": yardstick}
                wanted, out = len(mesh.faces) // _KEPT, Path(folder) / "out"
                del mesh
                run |= _one_run(path, out, wanted)
                runs.append(run)
                told = f"{run['total_s']:.1f} s, {run['total_s'] / yardstick:.1f} Y, {run['peak_mb']:.0f} MB"
                note(f"{name} {run['triangles']}: {told}")
    return runs


def _one_run(path: Path, out: Path, triangles: int) -> dict[str, Any]:
    """Run the routine on a file in a new process, and read what it says."""
    line = [sys.executable, "-m", "tinsnip", "run", "print-solid", str(path), "--out", str(out), "--replace", "--json"]
    begun = time.perf_counter()
    with tempfile.TemporaryFile("w+", encoding="utf-8") as said:
        process = subprocess.Popen([*line, "--triangles", str(triangles)], stdout=said)
        _, _, usage = os.wait4(process.pid, 0)
        total = time.perf_counter() - begun
        process.returncode = 0  # it was waited for
        said.seek(0)
        try:
            result = json.load(said)["results"][0]
            steps = {step["step"]: step["seconds"] for step in result["steps"]}
        except (ValueError, LookupError) as error:
            raise BadInput(f"{path.name}: the run ended without a result; run it by itself to see why") from error
    steps[_REST] = total - sum(steps.values())
    return {"total_s": total, "peak_mb": usage.ru_maxrss / 1e3, "ready": result["ready"], "steps": steps}


def print_way(runs: list[dict[str, Any]]) -> None:
    """Print what `measure_way` found: a table for each scan, with the growth from its smallest to its largest size.

    Parameters
    ----------
    runs : list of dict
    """
    for name in dict.fromkeys(run["scan"] for run in runs):
        own = [run for run in runs if run["scan"] == name]
        table = Table(title=f"{name}: from the file to a released solid of a tenth of it, seconds")
        table.add_column("step")
        for run in own:
            table.add_column(f"{run['triangles'] / 1e6:.3g} M", justify="right")
        table.add_column("exponent", justify="right")
        first, last = own[0], own[-1]
        grown = np.log(last["triangles"] / first["triangles"]) if len(own) > 1 else np.inf
        lines = {step: [run["steps"].get(step, 0.0) for run in own] for step in first["steps"]}
        lines |= {"all of it": [run["total_s"] for run in own], "yardstick": [run["yardstick_s"] for run in own]}
        for step, seconds in lines.items():
            exponent = np.log(max(seconds[-1], 1e-3) / max(seconds[0], 1e-3)) / grown
            told = f"{exponent:.2f}" if len(own) > 1 and seconds[-1] > 0.05 else ""
            table.add_row(step, *(f"{s:.2f}" for s in seconds), told)
        table.add_row("all of it, x Y", *(f"{run['total_s'] / run['yardstick_s']:.1f}" for run in own), "")
        table.add_row("peak memory, MB", *(f"{run['peak_mb']:.0f}" for run in own), "")
        table.add_row("ready", *("yes" if run["ready"] else "no" for run in own), "")
        Console().print(table)
