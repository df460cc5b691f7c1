"""A small run through all kernels of this room."""

import numpy as np

from tinsnip.progress import Progress
from tinsnip.space.crossings import meeting_again, meeting_pairs
from tinsnip.space.isosurface import march
from tinsnip.space.picking import first_hit
from tinsnip.space.polygons import triangulate_flat
from tinsnip.space.tree import build_tree, first_hits, triangles_in_boxes
from tinsnip.space.welding import weld_exact
from tinsnip.space.winding import winding_numbers

__all__ = ["ball", "exercise"]


def ball() -> tuple[np.ndarray, np.ndarray]:
    """Vertices and triangles of a small ball round the origin."""
    box = np.array([[-1.2] * 3, [1.2] * 3])
    vertices, faces = march(lambda p: np.linalg.norm(p, axis=1) - 1.0, box, 0.15, lambda share: None)
    return np.ascontiguousarray(vertices, dtype=np.float64), np.ascontiguousarray(faces, dtype=np.int32)


def exercise() -> None:
    """Reach every kernel."""
    vertices, faces = ball()
    state = Progress().state
    tree = build_tree(vertices, faces)
    for array in (vertices, faces):
        array.setflags(write=False)  # as those of a mesh are
    meeting_pairs(vertices, faces)
    meeting_again(vertices, faces, np.array([[0, 1]]))
    triangulate_flat([np.arange(4)], np.array([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]]))
    winding_numbers(vertices, faces, np.tile(vertices, (10, 1)))
    first_hits(tree, vertices[:9], vertices[:9] + 0.1, state)
    triangles_in_boxes(tree, vertices[:9], vertices[:9], state)
    for some in (faces, faces.copy()):
        first_hit(vertices, some, np.zeros(3), np.array([0.0, 0.0, -1.0]))
    weld_exact(np.random.default_rng(0).random((6000, 3)))
