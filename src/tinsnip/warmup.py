"""Compile all kernels once, by doing a little of everything.

Two processes compile different modules at once; a last pass in this one fetches all from the cache and
shows that nothing was left out.
"""

import contextlib
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

from tinsnip import kernels

__all__ = ["ensure_compiled", "warm_up"]


_CORNERS = "vertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\n"
_TEXTS = {
    "a.stl": f"solid a\nfacet normal 0 0 1\nouter loop\n{_CORNERS}endloop\nendfacet\nendsolid a\n",
    "lists.ply": "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty list uchar int q\n"
    "property float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n"
    "0 1 7 0 0\n1 0 0 0\n0 0 1 0\n3 0 1 2\n",
    "a.ply": "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
    "element face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n",
}


def _sphere():
    import numpy as np

    from tinsnip.demo.isosurface import march
    from tinsnip.mesh import Mesh

    box = np.array([[-1.2] * 3, [1.2] * 3])
    return Mesh(*march(lambda p: np.linalg.norm(p, axis=1) - 1.0, box, 0.15, lambda share: None))


def _painted(mesh):
    import numpy as np

    from tinsnip.mesh import Attribute, Domain

    return mesh.with_attribute("colour", Attribute(Domain.VERTEX, np.zeros((len(mesh.vertices), 3), dtype=np.uint8)))


def _files_half() -> None:
    """Kernels that treatments share, so that the other half finds them done; then the demo scans and all files."""
    import numpy as np

    from tinsnip.demo.library import demo_scan
    from tinsnip.formats import FORMATS, read_scan, write_mesh
    from tinsnip.mesh.crossings import meeting_pairs
    from tinsnip.mesh.hausdorff import far_at_most
    from tinsnip.mesh.picking import first_hit
    from tinsnip.mesh.polygons import triangulate_flat
    from tinsnip.mesh.tree import first_hits, triangles_in_boxes
    from tinsnip.mesh.winding import winding_numbers
    from tinsnip.picture import draw
    from tinsnip.progress import Progress

    ball, state = _sphere(), Progress().state
    meeting_pairs(ball.vertices, ball.faces)
    triangulate_flat([np.arange(4)], np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]]))
    far_at_most(ball.tree, ball.tree, (ball.twins, ball.twins), state)
    winding_numbers(ball.vertices, ball.faces, np.tile(ball.vertices, (10, 1)))
    first_hits(ball.tree, ball.vertices[:9], ball.vertices[:9] + 0.1, state)
    triangles_in_boxes(ball.tree, ball.vertices[:9], ball.vertices[:9], state)
    first_hit(ball.vertices, ball.faces, np.zeros(3), np.array([0.0, 0.0, -1.0]))
    first_hit(ball.vertices, ball.faces.copy(), np.zeros(3), np.array([0.0, 0.0, -1.0]))
    demo_scan("pump-cover", 10_000)
    with tempfile.TemporaryDirectory() as folder:
        for painted in (ball, _painted(ball)):
            for suffix in FORMATS:
                write_mesh(painted, Path(folder) / f"a.{suffix}")
                read_scan(Path(folder) / f"a.{suffix}")
        for name, text in _TEXTS.items():
            (Path(folder) / name).write_text(text, "ascii")
            read_scan(Path(folder) / name)
        write_mesh(ball, Path(folder) / "said.ply", provenance=True)
        read_scan(Path(folder) / "said.ply")
        draw(ball, Path(folder) / "a.png", (64, 64))


def _work_half() -> None:
    """The main job, on a small ball with a few faults."""
    import numpy as np

    from tinsnip.bench.meshes import grid_torus
    from tinsnip.errors import BadInput
    from tinsnip.mesh import Mesh
    from tinsnip.mesh.measures import vertex_normals
    from tinsnip.mesh.proxy import light_proxy
    from tinsnip.mesh.subsets import reorder
    from tinsnip.mesh.welding import weld_exact
    from tinsnip.survey import examine
    from tinsnip.survey.deviation import compare, deviation_from_raw, largest_deviation
    from tinsnip.treat import Context, Mend, Orient, Patch, Plinth, Reduce, Smooth, StraightSnip, Sweep, Weld

    ball = _sphere()
    faces = ball.faces.copy()
    faces[7] = faces[7][::-1]
    away = np.linalg.norm(ball.vertices[faces].mean(axis=1) - [0, 0, 1], axis=1) > 0.5
    small = 0.2 * ball.vertices
    both = np.concatenate([faces[away], faces[:1], faces[:, ::-1] + len(ball.vertices)])
    mesh = Mesh(np.concatenate([ball.vertices, small]), both)
    context = Context()
    for treatment in (
        Weld(),
        Mend(),
        Orient(),
        StraightSnip(offset=-0.5),
        Sweep(),
        Patch(),
        Plinth(),
        Mend(),
        Reduce(percent=60),
        StraightSnip(normal=(1, 0, 0), close=True),
    ):
        mesh = treatment.apply(mesh, context).mesh
    examine(mesh)
    vertex_normals(mesh.vertices, mesh.faces)
    compare(mesh, ball, 100)
    less = Reduce(percent=60, max_deviation_mm=1.0, hold_colour_edges=True, even=True).apply(_painted(ball), context)
    less = Smooth(iterations=1).apply(less.mesh, context).mesh
    largest_deviation(less, ball, context.progress)
    deviation_from_raw(less, ball, np.eye(4), context.progress)
    Reduce(percent=50, hold_triangles=((0, 5),)).apply(less, context)
    # large enough for what is done on large meshes only
    Reduce(percent=50).apply(Mesh(*grid_torus(50_000)), context)
    rng = np.random.default_rng(0)
    weld_exact(rng.random((6000, 3)))
    rough = Mesh(rng.random((30, 3)), rng.integers(0, 30, (200, 3)))
    rough = Mend().apply(rough, context).mesh
    with contextlib.suppress(BadInput):  # as knotted as that it may have one side only
        Orient().apply(rough, context)
    light_proxy(mesh.vertices.astype(np.float32), mesh.faces, worth_from=0)
    points = rng.random((5100, 3))
    reorder(Mesh(points, rng.integers(0, 5100, (10_400, 3))))


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
    other = subprocess.Popen([sys.executable, "-m", "tinsnip.warmup", "work"], stdout=subprocess.DEVNULL)
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
        _files_half()
        other.wait()
        _work_half()
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
    _work_half()
