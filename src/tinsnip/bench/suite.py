"""What is timed, and how.

The yardstick Y is ``cKDTree(vertices)`` build and ``query(vertices, k=1)`` with one worker on the same
vertices in the same order. Every row is the median of three runs after one that is not counted.
"""

import contextlib
import ctypes
import gc
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table
from scipy.spatial import cKDTree

from tinsnip.app.state.buffers import make_buffers
from tinsnip.bench.holed import long_loop, with_holes
from tinsnip.datums.finding import find_datums
from tinsnip.demo.library import demo_scan
from tinsnip.demo.meshes import grid_torus
from tinsnip.formats import FORMATS, Scan, read_scan
from tinsnip.job import Change, Job, Keeper, Step, open_job, save_job
from tinsnip.job.jobdoc import written
from tinsnip.mesh import Mesh
from tinsnip.mesh.halfedges import twin_table
from tinsnip.mesh.remembered import remember
from tinsnip.mesh.shells import find_shells
from tinsnip.mesh.subsets import keep_triangles
from tinsnip.progress import Progress
from tinsnip.regions.outlined import Sight, outlined
from tinsnip.space.crossings import crossings_and_folds
from tinsnip.space.rigid import moved_points, small_move
from tinsnip.space.slicing import slice_layers
from tinsnip.space.tree import build_tree, closest_points, first_hits
from tinsnip.space.welding import weld_exact
from tinsnip.survey import examine
from tinsnip.survey.alignment import align, find_alignment
from tinsnip.survey.crossings import Crossings, crossings_of
from tinsnip.survey.deviation import compare, spread_points
from tinsnip.survey.strays import shell_roles
from tinsnip.survey.walls import walls_of
from tinsnip.treat import (
    BoxSnip,
    Combine,
    Context,
    FindBed,
    Hollow,
    MergeScans,
    Offset,
    OutlineSnip,
    Patch,
    Quads,
    Recast,
    Reduce,
    Remesh,
    RoundSnip,
    Smooth,
    StraightSnip,
    Sweep,
    Tidy,
    TracedSnip,
    Turn,
    WeldSeams,
)

__all__ = ["BARS", "growth", "print_sizes", "print_table", "run_benchmarks"]

BARS = {
    "weld": 0.4,
    "twins": 0.2,
    "shells": 0.1,
    "read-stl": 0.6,
    "read-ply": 0.2,
    "snip-straight": 0.4,
    "snip-round": 0.6,
    "snip-box": 0.6,
    "snip-outline": 0.7,
    "snip-traced": 1.0,
    "select-visible": 0.6,
    "tidy": 0.3,
    "find-bed": 1.0,
    "sweep": 0.3,
    "reduce-10": 3.0,
    "record": 5.0,
    "level": 0.1,
    "smooth-10": 0.5,
    "crossings": 1.8,
    "crossings-500k": 1.8,
    "join-500k": 6.0,
    "hollow-500k": 35.0,
    "offset-500k": 40.0,
    "walls-500k": 12.0,
    "remesh-500k": 10.0,
    "quads-500k": 40.0,
    "slices-1m": 2.0,
    "recast-384": 15.0,
    "align-1m": 3.0,
    "pose-1m": 4.0,
    "merge-1m": 4.0,
    "forms-1m": 3.0,
    "zip": 0.6,
    "classify-2000": 1.5,
    "patch-500": 4.0,
    "patch-500-taut": 2.5,
    "patch-50000": 3.0,
    "tree": 0.8,
    "closest-1m": 1.5,
    "rays-1m": 2.0,
    "compare": 2.5,
    "view-buffers": 0.3,
    "save-job": 1.5,
    "open-job": 1.0,
    "keep-step": 0.5,
}
"""The most that a row may take at 2 million triangles, in yardsticks."""


def _status_mb(name: str) -> float:
    """A line of the process's status, MB: ``VmRSS`` or ``VmHWM``, the most that was resident."""
    text = Path("/proc/self/status").read_text("ascii")
    line = next(line for line in text.splitlines() if line.startswith(f"{name}:"))
    return int(line.split()[1]) / 1e3


def _give_back() -> None:
    """Give memory that is free back to the system, or it would be taken again without being seen."""
    gc.collect()
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


def _peak_mb(work: Callable[[], Any]) -> float:
    """The most memory that a run takes beyond what is held before it, MB, as the system counts it."""
    _give_back()
    begun = _status_mb("VmRSS")
    Path("/proc/self/clear_refs").write_text("5", "ascii")  # the peak is counted from here
    kept = work()
    peak = _status_mb("VmHWM") - begun
    del kept
    return max(0.0, peak)


def _measure(work: Callable[[], Any]) -> tuple[float, float]:
    """Seconds, the median of three runs after one that is not counted, and the peak of a further one, MB."""
    work()
    times = []
    for _ in range(3):
        begun = time.perf_counter()
        kept = work()
        times.append(time.perf_counter() - begun)
        del kept
    return sorted(times)[1], _peak_mb(work)


def _compile_seconds() -> dict[str, float]:
    """Seconds to warm all kernels up in a new process, with an empty and with a full cache."""
    code = "from tinsnip.warmup import warm_up, work_through; warm_up(); work_through()"
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "XDG_CACHE_HOME": folder}
        seconds = {}
        for name in ("kernels-cold", "kernels-cached"):
            begun = time.perf_counter()
            subprocess.run([sys.executable, "-c", code], env=environment, check=True)
            seconds[name] = time.perf_counter() - begun
    return seconds


def run_benchmarks(triangles: int, note: Callable[[str], None], only: set[str] | None = None) -> dict[str, Any]:
    """Run all benchmarks.

    Parameters
    ----------
    triangles : int
        Size of the mesh.
    note : callable
        Told each row as it is done.
    only : set of str, optional
        Names of the rows wanted; by default all.

    Returns
    -------
    dict
        ``yardstick_s``, ``triangles`` and ``rows``, each with ``name, seconds, ratio, peak_mb``.
    """
    compile_rows = _compile_seconds() if only is None else {}
    vertices, faces = grid_torus(triangles)
    yardstick, _ = _measure(lambda: cKDTree(vertices).query(vertices, k=1, workers=1))
    rows: list[dict[str, Any]] = []

    def row(name: str, work: Callable[[], Any]) -> None:
        if only is not None and name not in only:
            return
        seconds, peak = _measure(work)
        rows.append({"name": name, "seconds": seconds, "ratio": seconds / yardstick, "peak_mb": peak})
        note(f"{name:<16}{seconds:8.3f} s {seconds / yardstick:8.3f} Y {peak:8.0f} MB")

    soup = vertices[faces].astype(np.float32).reshape(-1, 3)
    row("weld", lambda: weld_exact(soup))
    row("twins", lambda: twin_table(faces, len(vertices)))
    twins = twin_table(faces, len(vertices))
    row("shells", lambda: find_shells(vertices, faces, twins))
    mesh = Mesh(vertices, faces)
    remember(mesh, Mesh.twins, twins)

    def fresh(known: Mesh = mesh) -> Mesh:
        """The mesh with its twin table, which the window always has by then, and nothing else cached."""
        again = Mesh(known.vertices, known.faces)
        remember(again, Mesh.twins, known.twins)
        return again

    if only is None:
        _time_formats(mesh, row, rows)
    else:
        _time_formats(mesh, row, rows, [name for name in FORMATS if {f"read-{name}", f"write-{name}"} & only])
    row("examine", lambda: examine(fresh(), crossings=False))
    row("snip-straight", lambda: StraightSnip(normal=(0.1, 0, 1), offset=3, close=True).apply(fresh(), Context()))
    low, high = mesh.box
    middle, reach = tuple(0.5 * (low + high)), float((high - low).max())
    bore = RoundSnip(
        axis=(0.1, 0.2, 1), through=tuple(np.add(middle, (0.3 * reach, 0, 0))), radius_mm=0.12 * reach, close=True
    )
    row("snip-round", lambda: bore.apply(fresh(), Context()))
    block = BoxSnip(middle=middle, size_mm=tuple(0.7 * (high - low)), up=(0.1, 0.2, 1), close=True)
    row("snip-box", lambda: block.apply(fresh(), Context()))
    turns = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    drawn = 0.3 * reach * (1 + 0.3 * np.sin(7 * turns)) * np.stack([np.cos(turns), np.sin(turns)])
    outline = OutlineSnip(sight=(0.3, -0.4, 1), origin=middle, corners=tuple(map(tuple, drawn.T)), close=True)
    row("snip-outline", lambda: outline.apply(fresh(), Context()))
    turns = np.linspace(0, 2 * np.pi, 8, endpoint=False)
    places = np.add(middle, (0, 0.35 * reach, reach)) + 0.1 * reach * np.stack(
        [np.cos(turns), np.sin(turns), 0 * turns], 1
    )
    traced = TracedSnip(points=tuple(map(tuple, places)))
    row("snip-traced", lambda: traced.apply(fresh(), Context()))
    towards = np.array([0.3, 0.4, 0.866])
    right = np.cross([0, 0, 1], towards) / np.linalg.norm(towards[:2])
    frame = np.stack([right, np.cross(towards, right), towards])
    sight = Sight(frame, np.array(middle), mesh.diagonal / 900, 960, 720)
    whole = np.array([[0, 0], [960, 0], [960, 720], [0, 720]], dtype=float)
    row("select-visible", lambda: outlined(mesh, sight, whole, Progress()))
    half = StraightSnip(normal=(0.1, 0, 1), offset=3).apply(mesh, Context()).mesh
    remember(half, Mesh.twins, half.twins)
    row("tidy", lambda: Tidy(rows=5).apply(fresh(half), Context()))
    bedded = _on_a_bed(vertices, faces)
    row("find-bed", lambda: FindBed(most_share=1.0).apply(fresh(bedded), Context()))
    crumbed = _with_crumbs(vertices, faces)
    row("sweep", lambda: Sweep().apply(fresh(crumbed), Context()))
    row("reduce-10", lambda: Reduce(percent=10).apply(fresh(), Context()))
    row("record", lambda: Reduce().study(fresh(), Progress()))
    record = Reduce().record(mesh, Progress())
    row("level", lambda: record.level(len(faces) // 10))
    row("smooth-10", lambda: Smooth(iterations=10).apply(fresh(), Context()))
    row("view-buffers", lambda: make_buffers(fresh(), Progress()))
    crossed = _crossed(vertices)
    row("crossings", lambda: crossings_and_folds(crossed, faces))
    if only is None or any(name.endswith("-500k") or name in ("recast-384", "slices-1m") for name in only):
        _time_at_half_a_million(rows, note, only)
    _time_pieces(rows, note, only)
    seamed = _in_patches(vertices, faces)
    row("zip", lambda: WeldSeams().apply(fresh(seamed), Context()))
    many = _many_shells(triangles)
    row("classify-2000", lambda: shell_roles(fresh(many)))
    if only is None or any(name.startswith("patch-") for name in only):
        open_mesh = with_holes(triangles)
        row("patch-500", lambda: Patch().apply(open_mesh, Context()))
        row("patch-500-taut", lambda: Patch(flow=0.0).apply(open_mesh, Context()))
        long = long_loop(50_000)
        row("patch-50000", lambda: Patch().apply(long, Context()))
    row("tree", lambda: build_tree(vertices, faces))
    tree, state = build_tree(vertices, faces), Progress().state
    near = spread_points(mesh, 1_000_000)[:1_000_000]
    near = near + np.random.default_rng(2).normal(0, 0.05, near.shape)
    row("closest-1m", lambda: closest_points(tree, near, state))
    rng = np.random.default_rng(3)
    inside = rng.uniform(vertices.min(axis=0), vertices.max(axis=0), (1_000_000, 3))
    ways = rng.normal(size=inside.shape)
    row("rays-1m", lambda: first_hits(tree, inside, ways, state))
    less = Reduce(percent=10).apply(fresh(), Context()).mesh
    row("compare", lambda: compare(Mesh(less.vertices, less.faces), fresh()))
    if only is None or only & {"save-job", "open-job", "keep-step"}:
        _time_job(fresh(), row)
    for name, seconds in compile_rows.items():
        rows.append({"name": name, "seconds": seconds, "ratio": seconds / yardstick, "peak_mb": 0.0})
    return {"yardstick_s": yardstick, "triangles": len(faces), "rows": rows}


def _time_formats(
    mesh: Mesh,
    row: Callable[[str, Callable[[], Any]], None],
    rows: list[dict[str, Any]],
    names: Iterable[str] = FORMATS,
) -> None:
    """Write and read a mesh in some formats."""
    with tempfile.TemporaryDirectory() as folder:
        for name in names:
            path = Path(folder) / f"mesh.{name}"
            FORMATS[name].write(mesh, path, Progress())
            size = path.stat().st_size / 1e6
            for what, work in (
                (f"write-{name}", lambda path=path, name=name: FORMATS[name].write(mesh, path, Progress())),
                (f"read-{name}", lambda path=path: read_scan(path, "mm")),
            ):
                row(what, work)
                if rows and rows[-1]["name"] == what:
                    rows[-1]["mb_per_s"] = size / rows[-1]["seconds"]


def _time_job(mesh: Mesh, row: Callable[[str, Callable[[], Any]], None]) -> None:
    """Save and open a job of a raw scan and three steps, and keep one more step that changes 1 % of the triangles."""
    with tempfile.TemporaryDirectory() as folder:
        path, number = Path(folder) / "job.snipjob", 0
        job = Job(Keeper(None, Path(folder) / "kept.snipjob"))
        job.open(Scan(Path("torus.ply"), mesh, "ply", "mm", ""))
        for treatment in (Turn(degrees=5), Smooth(iterations=2), Reduce(percent=90)):
            job.apply(treatment)

        def save() -> None:
            nonlocal number
            number += 1
            save_job(job, path.with_name(f"{number}.snipjob"), {}).close()
            path.with_name(f"{number}.snipjob").replace(path)

        def keep() -> None:
            cut = job.piece.with_mesh(Mesh(step.vertices.copy(), step.faces.copy()))
            change = Change(1, job.piece, cut)
            job.enter(Step(Turn(), (1,), (change,), (cut.frame,), "1 % changed"))
            job.keeper.put(job.all_kept(), lambda shelf: written(job, shelf, {}))

        row("save-job", save)
        row("open-job", lambda: open_job(path).shelf.close())
        job.keeper.put(job.all_kept(), lambda shelf: written(job, shelf, {}))
        heights = job.piece.mesh.vertices[:, 2]
        offset = float(np.quantile(heights, 0.01))
        step = StraightSnip(offset=offset).apply(job.piece.mesh, Context()).mesh
        row("keep-step", keep)
        job.keeper.close()


def _on_a_bed(vertices: np.ndarray, faces: np.ndarray) -> Mesh:
    """The mesh through a sheet that reaches past it, with a tenth of its triangles."""
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    count = max(8, int(np.sqrt(len(faces) / 20)))
    reach = 0.2 * (high - low)
    x, y = np.meshgrid(*(np.linspace(low[k] - reach[k], high[k] + reach[k], count) for k in (0, 1)), indexing="ij")
    sheet = np.stack([x.ravel(), y.ravel(), np.full(x.size, low[2] - 0.01 * reach[0])], axis=1)
    first = (np.arange(count - 1)[:, None] * count + np.arange(count - 1)).ravel().astype(np.int32)
    cells = [np.stack([first, first + count, first + 1], 1), np.stack([first + 1, first + count, first + count + 1], 1)]
    return Mesh(np.concatenate([vertices, sheet]), np.concatenate([faces, *(c + len(vertices) for c in cells)]))


def _crossed(vertices: np.ndarray) -> np.ndarray:
    """The vertices, some of them put so far off that some one in a hundred triangles crosses others."""
    rng = np.random.default_rng(1)
    some = rng.choice(len(vertices), len(vertices) // 130, replace=False)
    crossed = vertices.copy()
    crossed[some] += rng.normal(0, 1.5, (len(some), 3))
    crossed.setflags(write=False)
    return crossed


def _time_at_half_a_million(rows: list[dict[str, Any]], note: Callable[[str], None], only: set[str] | None) -> None:
    """What is timed on half a million triangles, by the yardstick of each mesh: a scan where that is what it is for."""
    torus, scanned = Mesh(*grid_torus(500_000)), None
    if only is None or "recast-384" in only:
        scanned = demo_scan("fountain-spout", 500_000)
    crossed = _crossed(torus.vertices)

    def recast() -> Mesh:
        options = Recast(deviation_mm=float(scanned.size.max()) / 384 / 2, only_if_needed=False)
        return options.apply(scanned, Context()).mesh

    turn = np.array([[1.0, 0, 0], [0, 0, 1.0], [0, -1.0, 0]])
    places = torus.vertices, torus.vertices @ turn.T + 0.11 * torus.diagonal * np.array([1.0, 0.3, 0.2])
    none = np.empty((0, 2), dtype=np.int32)

    def join() -> None:
        pair = [Mesh(where, torus.faces) for where in places]
        for one in pair:  # that neither crosses itself is known, as of every part that was looked over
            remember(one, crossings_of, Crossings(none, none))
        Combine(how="join").apply(pair, Context())

    million = Mesh(*grid_torus(1_000_000))
    levels = np.linspace(*million.box[:, 2], 2002)[1:-1]
    million.twins  # noqa: B018 - known of every mesh that was looked over
    for name, mesh, work in (
        ("join-500k", torus, join),
        ("crossings-500k", torus, lambda: crossings_and_folds(crossed, torus.faces)),
        ("hollow-500k", torus, lambda: Hollow(wall_mm=2.0).apply(torus, Context())),
        ("offset-500k", torus, lambda: Offset(by_mm=2.0).apply(torus, Context())),
        ("walls-500k", torus, lambda: walls_of(Mesh(torus.vertices, torus.faces))),
        ("remesh-500k", torus, lambda: Remesh().apply(Mesh(torus.vertices, torus.faces), Context())),
        ("quads-500k", torus, lambda: Quads().apply(Mesh(torus.vertices, torus.faces), Context())),
        ("slices-1m", million, lambda: slice_layers(million.vertices, million.faces, million.twins, levels)),
        ("recast-384", scanned, recast),
    ):
        if only is not None and name not in only:
            continue
        yardstick, _ = _measure(lambda mesh=mesh: cKDTree(mesh.vertices).query(mesh.vertices, k=1, workers=1))
        seconds, peak = _measure(work)
        rows.append({"name": name, "seconds": seconds, "ratio": seconds / yardstick, "peak_mb": peak})
        note(f"{name:<16}{seconds:8.3f} s {seconds / yardstick:8.3f} Y {peak:8.0f} MB")


def _time_pieces(rows: list[dict[str, Any]], note: Callable[[str], None], only: set[str] | None) -> None:
    """Two part-scans of a ring, a million triangles each, three fifths of which both show; by the Y of 2 million."""
    names = ("align-1m", "pose-1m", "merge-1m", "forms-1m")
    if only is not None and not only.intersection(names):
        return
    yardstick_of = grid_torus(2_000_000)[0]
    yardstick, _ = _measure(lambda: cKDTree(yardstick_of).query(yardstick_of, k=1, workers=1))
    ring = Mesh(*grid_torus(1_600_000))
    # lumps that are nowhere twice, so that there is one pose only
    lumps = sum(np.sin(ring.vertices @ way) for way in np.random.default_rng(4).normal(size=(6, 3)) * 0.05)
    ring = Mesh(ring.vertices * (1.0 + 0.02 * lumps[:, None]), ring.faces)
    turn = np.degrees(np.arctan2(*ring.vertices[ring.faces].mean(axis=1)[:, 1::-1].T)) % 360.0
    fixed, moving = keep_triangles(ring, turn < 225.0), keep_triangles(ring, turn > 135.0)
    off = small_move(np.array([0.02, -0.01, 0.03, 0.8, -0.5, 0.6]), np.zeros(3))
    anywhere = small_move(np.array([1.2, -0.7, 2.0, 300.0, 80.0, -40.0]), np.zeros(3))

    def fresh(mesh: Mesh, matrix: np.ndarray | None = None) -> Mesh:
        return Mesh(mesh.vertices if matrix is None else moved_points(matrix, mesh.vertices), mesh.faces)

    for name, work in (
        ("align-1m", lambda: align(fresh(moving, off), fresh(fixed), np.eye(4))),
        ("pose-1m", lambda: find_alignment(fresh(moving, anywhere), fresh(fixed))),
        ("merge-1m", lambda: MergeScans().apply([fresh(fixed), fresh(moving)], Context())),
        ("forms-1m", lambda: find_datums(fresh(fixed))),
    ):
        if only is None or name in only:
            seconds, peak = _measure(work)
            rows.append({"name": name, "seconds": seconds, "ratio": seconds / yardstick, "peak_mb": peak})
            note(f"{name:<16}{seconds:8.3f} s {seconds / yardstick:8.3f} Y {peak:8.0f} MB")


def _many_shells(triangles: int) -> Mesh:
    """2 000 rings of like size beside each other, every second one inside out within the one before."""
    vertices, faces = grid_torus(max(triangles // 2000, 64))
    vertices = (vertices - vertices.mean(axis=0)) / np.ptp(vertices, axis=0).max()
    number = np.arange(1000)
    places = 1.2 * np.stack([number % 10, number // 10 % 10, number // 100], axis=1)
    outer = (vertices[None] + places[:, None]).reshape(-1, 3)
    # a smaller copy within the tube: each vertex a little way towards the middle of its ring's tube
    ring = vertices / np.linalg.norm(vertices[:, :2], axis=1)[:, None] * [1, 1, 0]
    middle = ring * np.linalg.norm(vertices[:, :2], axis=1).mean()
    inner = ((middle + 0.6 * (vertices - middle))[None] + places[:, None]).reshape(-1, 3)
    start = len(vertices) * number[:, None, None]
    all_faces = np.concatenate([(faces + start).reshape(-1, 3), (faces[:, ::-1] + start).reshape(-1, 3) + len(outer)])
    mesh = Mesh(np.concatenate([outer, inner]), all_faces)
    remember(mesh, Mesh.twins, mesh.twins)
    return mesh


def _in_patches(vertices: np.ndarray, faces: np.ndarray) -> Mesh:
    """The mesh as exported in 500 patches whose seams do not quite meet."""
    rng = np.random.default_rng(2)
    seeds = vertices[rng.choice(len(vertices), 500, replace=False)]
    _, patch = cKDTree(seeds).query(vertices[faces].mean(axis=1))
    used, index = np.unique(faces + len(vertices) * patch[:, None], return_inverse=True)
    places = vertices[used % len(vertices)]
    mesh = Mesh(places + rng.uniform(-1e-3, 1e-3, places.shape), index.reshape(-1, 3))
    remember(mesh, Mesh.twins, mesh.twins)
    return mesh


def _with_crumbs(vertices: np.ndarray, faces: np.ndarray) -> Mesh:
    """The torus with five thousand tetrahedra in the air."""
    count = 5000
    places = np.random.default_rng(1).uniform(-80, 80, (count, 1, 3)) + np.array([0, 0, 200])
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]]) * 0.1
    sides = np.array([[0, 2, 1], [0, 1, 3], [1, 2, 3], [0, 3, 2]])
    crumbs = (4 * np.arange(count)[:, None, None] + sides).reshape(-1, 3) + len(vertices)
    return Mesh(
        np.concatenate([vertices, (places + corners).reshape(-1, 3)]),
        np.concatenate([faces, crumbs]).astype(np.int32),
    )


def growth(small: dict[str, Any], large: dict[str, Any]) -> dict[str, float]:
    """Exponent with which each row's seconds grow from one size to another; 1 is linear."""
    before = {r["name"]: r["seconds"] for r in small["rows"]}
    ratio = np.log(large["triangles"] / small["triangles"])
    skipped = {"kernels-cold", "kernels-cached"}
    return {
        r["name"]: float(np.log(r["seconds"] / before[r["name"]]) / ratio)
        for r in large["rows"]
        if r["name"] in before and r["name"] not in skipped
    }


def print_sizes(results: list[dict[str, Any]]) -> None:
    """Print what `run_benchmarks` gave at several sizes as one table, with the growth from the smallest to the largest.

    Parameters
    ----------
    results : list of dict
        By size, rising.
    """
    table = Table(title="x Y and peak MB at each size; the exponent of the seconds between the first and the last")
    table.add_column("row")
    for r in results:
        table.add_column(f"{r['triangles'] / 1e6:.3g} M\nY {r['yardstick_s']:.2f} s", justify="right")
        table.add_column("MB", justify="right")
    table.add_column("exponent", justify="right")
    grown = growth(results[0], results[-1]) if len(results) > 1 else {}
    by_name = [{row["name"]: row for row in r["rows"]} for r in results]
    for name in by_name[0]:
        cells = []
        for rows in by_name:
            row = rows.get(name)
            cells += [f"{row['ratio']:.3f}", f"{row['peak_mb']:.0f}"] if row else ["", ""]
        table.add_row(name, *cells, f"{grown[name]:.2f}" if name in grown else "")
    Console().print(table)


def print_table(results: dict[str, Any]) -> None:
    """Print the results of `run_benchmarks` as a table."""
    table = Table(title=f"{results['triangles']} triangles, Y = {results['yardstick_s']:.3f} s")
    grown = results.get("growth", {})
    headings = ("row", "seconds", "x Y", "bar", "MB/s", "peak MB", *["exponent"] * bool(grown))
    for heading in headings:
        table.add_column(heading, justify="left" if heading == "row" else "right")
    for r in results["rows"]:
        bar = BARS.get(r["name"])
        table.add_row(
            r["name"],
            f"{r['seconds']:.3f}",
            f"{r['ratio']:.3f}",
            "" if bar is None else f"{bar:g}",
            f"{r['mb_per_s']:.0f}" if "mb_per_s" in r else "",
            f"{r['peak_mb']:.0f}" if r["peak_mb"] else "",
            *[f"{grown[r['name']]:.2f}" if r["name"] in grown else ""] * bool(grown),
        )
    Console().print(table)
