"""A small run through all kernels of this room, and meshes for those of others."""

import numpy as np

from tinsnip.mesh.attributes import Attribute, Domain
from tinsnip.mesh.measures import vertex_normals
from tinsnip.mesh.mesh import Mesh
from tinsnip.mesh.proxy import light_proxy
from tinsnip.mesh.subsets import reorder
from tinsnip.progress import Progress
from tinsnip.space.exercise import ball as bare_ball
from tinsnip.space.hausdorff import far_at_most

__all__ = ["ball", "exercise", "painted"]


def ball() -> Mesh:
    """A small ball round the origin."""
    return Mesh(*bare_ball())


def painted(mesh: Mesh) -> Mesh:
    """A mesh with colours."""
    return mesh.with_attribute("colour", Attribute(Domain.VERTEX, np.zeros((len(mesh.vertices), 3), dtype=np.uint8)))


def exercise() -> None:
    """Reach every kernel."""
    mesh = ball()
    _ = mesh.shells, mesh.loops, mesh.areas, mesh.box, mesh.edges
    far_at_most(mesh.tree, mesh.tree, (mesh.twins, mesh.twins), Progress().state)
    vertex_normals(mesh.vertices, mesh.faces)
    light_proxy(mesh.vertices.astype(np.float32), mesh.faces, worth_from=0)
    rng = np.random.default_rng(0)
    reorder(Mesh(rng.random((5100, 3)), rng.integers(0, 5100, (10_400, 3))))
