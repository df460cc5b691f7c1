"""A small run through all kernels of this room."""

import numpy as np

from tinsnip.mesh import Mesh
from tinsnip.mesh.exercise import ball
from tinsnip.progress import Progress
from tinsnip.survey.deviation import compare, deviation_from_raw, largest_deviation
from tinsnip.survey.examination import examine
from tinsnip.survey.walls import walls_of

__all__ = ["damaged_ball", "exercise"]


def damaged_ball() -> Mesh:
    """A ball with a void and a hole."""
    whole = ball()
    away = np.linalg.norm(whole.vertices[whole.faces].mean(axis=1) - [0, 0, 1], axis=1) > 0.5
    both = np.concatenate([whole.faces[away], whole.faces[:, ::-1] + len(whole.vertices)])
    return Mesh(np.concatenate([whole.vertices, 0.2 * whole.vertices]), both)


def exercise() -> None:
    """Reach every kernel: a ball with a void and a hole, examined and compared."""
    whole, mesh = ball(), damaged_ball()
    found = examine(mesh)
    _ = found.strays, found.openings, found.knots
    walls_of(mesh)
    compare(mesh, whole, 100)
    progress = Progress()
    largest_deviation(mesh, whole, progress)
    coarse = Mesh(mesh.vertices * 1.001, mesh.faces, np.ones(len(mesh.faces), dtype=np.uint8))
    deviation_from_raw(coarse, whole, np.eye(4), progress)
