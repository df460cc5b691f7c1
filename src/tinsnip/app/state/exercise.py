"""A small run through what opening a scan needs besides reading it: looking it over, and drawing it."""

import numpy as np

from tinsnip.app.state.buffers import make_buffers, make_marks, measure_for_view
from tinsnip.mesh import Mesh
from tinsnip.mesh.proxy import light_proxy
from tinsnip.mesh.subsets import reorder
from tinsnip.progress import Progress
from tinsnip.space.crossings import meeting_pairs
from tinsnip.survey import examine
from tinsnip.survey.exercise import damaged_ball

__all__ = ["exercise"]


def exercise() -> None:
    """A ball with a void and a hole."""
    mesh = damaged_ball()
    found = examine(mesh)
    _ = found.strays, found.openings, found.knots, found.made_share
    make_marks(found)
    meeting_pairs(mesh.vertices, mesh.faces, np.arange(9), np.arange(9, 99))
    rng = np.random.default_rng(0)
    reorder(Mesh(rng.random((5100, 3)), rng.integers(0, 5100, (10_400, 3))))
    measure_for_view(mesh, mesh, np.eye(4), Progress())
    make_buffers(mesh, Progress())
    light_proxy(mesh.vertices.astype(np.float32), mesh.faces, worth_from=0)
