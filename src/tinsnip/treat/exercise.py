"""A small run through all kernels of this room: the main job on a ball with a few faults."""

import contextlib

import numpy as np

from tinsnip.errors import BadInput
from tinsnip.mesh import Mesh
from tinsnip.mesh.exercise import ball, painted
from tinsnip.regions import Region
from tinsnip.treat import (
    BoxSnip,
    Context,
    Mend,
    MendCrossings,
    Orient,
    OutlineSnip,
    Patch,
    Plinth,
    PullIn,
    Recast,
    Reduce,
    RoundSnip,
    Smooth,
    StraightSnip,
    Sweep,
    Tidy,
    TracedSnip,
    Weld,
    WeldSeams,
)

__all__ = ["exercise"]


def exercise() -> None:
    """Reach every kernel."""
    whole, context = ball(), Context()
    faces = whole.faces.copy()
    faces[7] = faces[7][::-1]
    away = np.linalg.norm(whole.vertices[faces].mean(axis=1) - [0, 0, 1], axis=1) > 0.5
    both = np.concatenate([faces[away], faces[:1], faces[:, ::-1] + len(whole.vertices)])
    mesh = Mesh(np.concatenate([whole.vertices, 0.2 * whole.vertices]), both)
    for treatment in (
        Weld(),
        Mend(),
        Orient(),
        StraightSnip(offset=-0.5),
        Sweep(),
        PullIn(),
        Patch(flow=0.5),
        Plinth(),
        Mend(),
        Reduce(percent=60),
        StraightSnip(normal=(1, 0, 0), close=True),
    ):
        mesh = treatment.apply(mesh, context).mesh
    coloured = painted(whole)
    less = Reduce(percent=60, max_deviation_mm=1.0, hold_colour_edges=True, even=True).apply(coloured, context).mesh
    less = Smooth(iterations=1).apply(less, context).mesh
    Reduce(percent=50, hold=Region.of(less, np.arange(5))).apply(less, context)
    for snip in (RoundSnip(radius_mm=0.4), BoxSnip(middle=(0, 0, 0.9)), OutlineSnip(corners=((0, 0), (2, 0), (0, 2)))):
        snip.model_copy(update={"close": True}).apply(coloured, context)
    way = 0.9 * whole.vertices[[3, 40, 90, 150]]
    TracedSnip(points=tuple(map(tuple, way))).line(whole, context.progress)
    about = 0.2 * np.array([[1, 0], [0, 1], [-1, 0], [0, -1]])
    ring = tuple((float(x), float(y), 1.0) for x, y in about)
    TracedSnip(points=ring, close=True).apply(whole, context)
    Tidy().apply(_open_topped(whole), context)
    soup = Mesh(whole.vertices[whole.faces].reshape(-1, 3), np.arange(3 * len(whole.faces)).reshape(-1, 3))
    WeldSeams(tolerance_mm=1e-3).apply(soup, context)
    two = np.concatenate([whole.vertices, whole.vertices + np.array([0.31, 0.17, 0.7])])
    MendCrossings().apply(Mesh(two, np.concatenate([whole.faces, whole.faces + len(whole.vertices)])), context)
    Recast(deviation_mm=0.08, wall_mm=0.3).apply(_open_topped(painted(whole)), context)
    beside = np.concatenate([whole.vertices, 3 + np.eye(3)])
    faulty = Mesh(beside, np.concatenate([faces[away], len(whole.vertices) + np.arange(3)[None]]))
    Recast(deviation_mm=0.1, wall_mm=0.6).apply(faulty, context)
    # large enough for what is done on large meshes only
    many = Mesh(*_sheet(160))
    Reduce(percent=50).apply(many, context)
    rng = np.random.default_rng(0)
    rough = Mesh(rng.random((30, 3)), rng.integers(0, 30, (200, 3)))
    rough = Mend().apply(rough, context).mesh
    with contextlib.suppress(BadInput):  # as knotted as that it may have one side only
        Orient().apply(rough, context)


def _open_topped(whole: Mesh) -> Mesh:
    """A ball without its top."""
    return Mesh(whole.vertices, whole.faces[whole.vertices[whole.faces][..., 2].mean(axis=1) < 0.5])


def _sheet(n: int) -> tuple[np.ndarray, np.ndarray]:
    """A bent sheet of 2 n² triangles."""
    u, v = (a.ravel() for a in np.meshgrid(np.arange(n + 1.0), np.arange(n + 1.0)))
    vertices = np.column_stack([u, v, 3 * np.sin(0.1 * u) * np.cos(0.13 * v)])
    corner = (np.arange(n)[:, None] * (n + 1) + np.arange(n)).ravel()
    one = np.column_stack([corner, corner + 1, corner + n + 2])
    other = np.column_stack([corner, corner + n + 2, corner + n + 1])
    return vertices, np.concatenate([one, other]).astype(np.int32)
